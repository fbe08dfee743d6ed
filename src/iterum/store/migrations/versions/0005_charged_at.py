"""when a pack was last on a charger"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.add_column("packs", sa.Column("charged_at", sa.DateTime()))


def downgrade() -> None:
    op.drop_column("packs", "charged_at")
