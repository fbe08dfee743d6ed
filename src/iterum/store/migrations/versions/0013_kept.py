"""what devices kept while the link was down, taken once"""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.create_table(
        "kept_ids",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("at", sa.DateTime(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("kept_ids")
