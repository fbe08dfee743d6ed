"""how full a pack must be for a heat, and spares"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.add_column("wishes", sa.Column("need_fraction", sa.Float()))
    op.add_column("wishes", sa.Column("spare", sa.Integer()))


def downgrade() -> None:
    with op.batch_alter_table("wishes") as batch:
        batch.drop_column("spare")
        batch.drop_column("need_fraction")
