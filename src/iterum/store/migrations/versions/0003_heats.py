"""heats, quiet hours, chained boards"""

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"

NEW: dict[str, list[sa.Column[Any]]] = {
    "boards": [sa.Column("chains_to", sa.String())],
    "sources": [sa.Column("quiet_hours", sa.JSON(), nullable=False, server_default="[]")],
    "meeting": [sa.Column("starts_at", sa.DateTime())],
    "wishes": [
        sa.Column("fly_min", sa.Float()),
        sa.Column("rest_min", sa.Float(), nullable=False, server_default="15"),
        sa.Column("used_fraction", sa.Float(), nullable=False, server_default="0.8"),
        sa.Column("value", sa.Float(), nullable=False, server_default="1"),
    ],
}


def upgrade() -> None:
    for table, columns in NEW.items():
        for column in columns:
            op.add_column(table, column)
    # Plans kept before had no times round and no locks; they are made anew in seconds.
    op.execute("delete from plans")


def downgrade() -> None:
    for table, columns in NEW.items():
        for column in columns:
            op.drop_column(table, column.name)
