"""what acts changed, to be taken back"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.create_table(
        "undos",
        sa.Column("key", sa.Integer(), primary_key=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("what", sa.String(), nullable=False),
        sa.Column("undone_at", sa.DateTime()),
    )
    op.create_table(
        "undo_rows",
        sa.Column("key", sa.Integer(), primary_key=True),
        sa.Column(
            "undo_key",
            sa.Integer(),
            sa.ForeignKey("undos.key", name="fk_undo_rows_undo_key", ondelete="CASCADE"),
            nullable=False,
        ),
        sa.Column("table_name", sa.String(), nullable=False),
        sa.Column("row_key", sa.Integer(), nullable=False),
        sa.Column("was", sa.JSON()),
        sa.Column("became", sa.JSON()),
    )
    op.create_index("ix_undo_rows_undo_key", "undo_rows", ["undo_key"])


def downgrade() -> None:
    op.drop_table("undo_rows")
    op.drop_table("undos")
