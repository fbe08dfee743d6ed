"""pins and chemistry of a pack as somebody confirmed them; fixed amps; sources that take the usual part"""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"


def upgrade() -> None:
    op.add_column("packs", sa.Column("pins", sa.Integer()))
    op.add_column("packs", sa.Column("chemistry_confirmed", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("channels", sa.Column("fixed_current", sa.Boolean(), nullable=False, server_default=sa.false()))
    with op.batch_alter_table("sources") as sources:
        sources.alter_column("usable_fraction", existing_type=sa.Float(), nullable=True)


def downgrade() -> None:
    op.execute("update sources set usable_fraction = 1.0 where usable_fraction is null")
    with op.batch_alter_table("sources") as sources:
        sources.alter_column("usable_fraction", existing_type=sa.Float(), nullable=False)
    op.drop_column("channels", "fixed_current")
    op.drop_column("packs", "chemistry_confirmed")
    op.drop_column("packs", "pins")
