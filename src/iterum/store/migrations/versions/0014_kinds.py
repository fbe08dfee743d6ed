"""runs that fill nothing; a pack's memory number and charges since it was balanced; banks that drop their volts"""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    op.add_column("packs", sa.Column("memory", sa.Integer()))
    op.add_column("packs", sa.Column("since_balance", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("sources", sa.Column("falls_back", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("runs", sa.Column("kind", sa.String(), nullable=False, server_default="charge"))


def downgrade() -> None:
    op.drop_column("runs", "kind")
    op.drop_column("sources", "falls_back")
    op.drop_column("packs", "since_balance")
    op.drop_column("packs", "memory")
