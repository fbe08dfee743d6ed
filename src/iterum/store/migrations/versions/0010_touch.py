"""how a pack felt to the hand"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.add_column("observations", sa.Column("touch", sa.String()))


def downgrade() -> None:
    with op.batch_alter_table("observations") as batch:
        batch.drop_column("touch")
