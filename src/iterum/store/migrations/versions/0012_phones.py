"""devices that were paired"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.create_table(
        "phones",
        sa.Column("key", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("role", sa.String(), nullable=False),
        sa.Column("token_hash", sa.String(), nullable=False, unique=True),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("address", sa.String(), nullable=False),
        sa.Column("paired_at", sa.DateTime(), nullable=False),
        sa.Column("seen_at", sa.DateTime(), nullable=False),
        sa.Column("gone_at", sa.DateTime()),
        sa.Column("gone_why", sa.String()),
    )


def downgrade() -> None:
    op.drop_table("phones")
