"""what a source still holds, the whole choice of a run, facts about packs and kit that decide what may be charged"""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"

NEW = {
    "packs": (
        sa.Column("charged_full", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("cells_confirmed", sa.Boolean(), nullable=False, server_default=sa.false()),
    ),
    "boards": (sa.Column("fuse_a", sa.Float()),),
    "chargers": (sa.Column("mains_power_w", sa.Float()),),
    "channels": (sa.Column("discharge_current_a", sa.Float()),),
    "runs": (
        sa.Column("choice", sa.JSON()),
        sa.Column("source", sa.String()),
        sa.Column("source_part", sa.Float()),
        sa.Column("stopped", sa.Boolean(), nullable=False, server_default=sa.false()),
    ),
    "charges": (
        sa.Column("ended_warm", sa.Boolean()),
        sa.Column("again", sa.Integer()),
    ),
}


def upgrade() -> None:
    for table, columns in NEW.items():
        for column in columns:
            op.add_column(table, column)
    op.create_table(
        "ledger",
        sa.Column("key", sa.Integer(), primary_key=True),
        sa.Column("source", sa.String(), nullable=False, index=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("wh", sa.Float(), nullable=False),
        sa.Column("run_key", sa.Integer(), sa.ForeignKey("runs.key", name="fk_ledger_run_key"), index=True),
        sa.Column("note", sa.String()),
    )


def downgrade() -> None:
    op.drop_table("ledger")
    for table, columns in NEW.items():
        for column in columns:
            op.drop_column(table, column.name)
