"""what a device said of itself and when its channels were confirmed; sources that are batteries"""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    op.add_column("devices", sa.Column("identity", sa.JSON()))
    op.add_column("devices", sa.Column("confirmed_at", sa.String()))
    op.add_column("sources", sa.Column("chemistry", sa.String()))
    op.add_column("sources", sa.Column("cells", sa.Integer()))
    op.add_column("sources", sa.Column("stop_v", sa.Float()))


def downgrade() -> None:
    op.drop_column("sources", "stop_v")
    op.drop_column("sources", "cells")
    op.drop_column("sources", "chemistry")
    op.drop_column("devices", "confirmed_at")
    op.drop_column("devices", "identity")
