"""who flew in a heat; chargers that have failed"""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    op.create_table(
        "flights",
        sa.Column("key", sa.Integer(), primary_key=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("heat_at", sa.DateTime(), nullable=False),
        sa.Column("family", sa.String(), nullable=False),
        sa.Column("name", sa.String()),
        sa.Column("packs", sa.JSON(), nullable=False),
    )
    op.add_column("chargers", sa.Column("failed", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    op.drop_column("chargers", "failed")
    op.drop_table("flights")
