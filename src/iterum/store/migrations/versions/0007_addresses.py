"""a device has an address, whose scheme says which driver speaks to it"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.add_column("devices", sa.Column("address", sa.String()))
    op.execute("UPDATE devices SET address = 'line://' || host || ':' || port")
    with op.batch_alter_table("devices") as batch:
        batch.alter_column("address", nullable=False, existing_type=sa.String())
        batch.drop_column("host")
        batch.drop_column("port")


def downgrade() -> None:
    op.add_column("devices", sa.Column("host", sa.String(), nullable=False, server_default="127.0.0.1"))
    op.add_column("devices", sa.Column("port", sa.Integer(), nullable=False, server_default="8766"))
    with op.batch_alter_table("devices") as batch:
        batch.drop_column("address")
