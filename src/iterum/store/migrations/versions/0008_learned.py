"""what charges taught of a pack, whether a charge was its own and whole, and the air of a day"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.add_column("packs", sa.Column("learned", sa.JSON()))
    op.add_column("packs", sa.Column("learns_from", sa.DateTime()))
    op.add_column("charges", sa.Column("alone", sa.Boolean()))
    op.add_column("charges", sa.Column("full", sa.Boolean()))
    op.add_column("charges", sa.Column("step_mohm", sa.Float()))
    op.add_column("meeting", sa.Column("air_c", sa.Float()))
    op.add_column("meeting", sa.Column("air_at", sa.DateTime()))
    op.execute(
        "UPDATE charges SET alone = (SELECT json_array_length(runs.packs) = 1 FROM runs WHERE runs.key = run_key)"
    )


def downgrade() -> None:
    for table, names in (("meeting", ("air_at", "air_c")), ("charges", ("step_mohm", "full", "alone")),
                         ("packs", ("learns_from", "learned"))):  # fmt: skip
        with op.batch_alter_table(table) as batch:
            for name in names:
                batch.drop_column(name)
