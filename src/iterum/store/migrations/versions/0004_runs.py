"""runs with their readings, findings, incidents, the charge log, devices"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"

NEW = ("column_maps", "devices", "incidents", "runs", "run_events", "observations", "found_wrong", "charges")


def upgrade() -> None:
    op.create_table(
        "column_maps",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("headings", sa.JSON(), nullable=False),
        sa.Column("meaning", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_table(
        "devices",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("host", sa.String(), nullable=False),
        sa.Column("port", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=True),
        sa.Column("channels", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_table(
        "incidents",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("packs", sa.JSON(), nullable=False),
        sa.Column("runs", sa.JSON(), nullable=False),
        sa.Column("stopped", sa.JSON(), nullable=False),
        sa.Column("note", sa.String(), nullable=True),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_table(
        "runs",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("begun_at", sa.DateTime(), nullable=False),
        sa.Column("packs", sa.JSON(), nullable=False),
        sa.Column("family", sa.String(), nullable=False),
        sa.Column("board", sa.String(), nullable=True),
        sa.Column("channel", sa.String(), nullable=False),
        sa.Column("current_a", sa.Float(), nullable=False),
        sa.Column("rate_c", sa.Float(), nullable=False),
        sa.Column("card", sa.JSON(), nullable=False),
        sa.Column("expected", sa.JSON(), nullable=True),
        sa.Column("before_v", sa.JSON(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("state_at", sa.DateTime(), nullable=False),
        sa.Column("charging_at", sa.DateTime(), nullable=True),
        sa.Column("paused_min", sa.Float(), nullable=False),
        sa.Column("ended_at", sa.DateTime(), nullable=True),
        sa.Column("driven", sa.Boolean(), nullable=False),
        sa.Column("heard_at", sa.DateTime(), nullable=True),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index(op.f("ix_runs_state"), "runs", ["state"], unique=False)
    op.create_table(
        "charges",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("pack_key", sa.Integer(), nullable=False),
        sa.Column("run_key", sa.Integer(), nullable=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("origin", sa.String(), nullable=False),
        sa.Column("charge_mah", sa.Float(), nullable=True),
        sa.Column("minutes", sa.Float(), nullable=True),
        sa.Column("rate_c", sa.Float(), nullable=True),
        sa.Column("before_v", sa.JSON(), nullable=False),
        sa.Column("after_v", sa.JSON(), nullable=False),
        sa.Column("resistance_mohm", sa.JSON(), nullable=False),
        sa.Column("note", sa.String(), nullable=True),
        sa.ForeignKeyConstraint(["pack_key"], ["packs.key"], name=op.f("fk_charges_pack_key")),
        sa.ForeignKeyConstraint(["run_key"], ["runs.key"], name=op.f("fk_charges_run_key")),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index(op.f("ix_charges_at"), "charges", ["at"], unique=False)
    op.create_index(op.f("ix_charges_pack_key"), "charges", ["pack_key"], unique=False)
    op.create_index(op.f("ix_charges_run_key"), "charges", ["run_key"], unique=False)
    op.create_table(
        "found_wrong",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("run_key", sa.Integer(), nullable=False),
        sa.Column("code", sa.String(), nullable=False),
        sa.Column("alarm", sa.String(), nullable=False),
        sa.Column("numbers", sa.JSON(), nullable=False),
        sa.Column("do", sa.String(), nullable=False),
        sa.Column("since", sa.DateTime(), nullable=False),
        sa.Column("last", sa.DateTime(), nullable=False),
        sa.Column("gone_at", sa.DateTime(), nullable=True),
        sa.Column("seen_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(["run_key"], ["runs.key"], name=op.f("fk_found_wrong_run_key")),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index(op.f("ix_found_wrong_run_key"), "found_wrong", ["run_key"], unique=False)
    op.create_table(
        "observations",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("run_key", sa.Integer(), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("at_min", sa.Float(), nullable=False),
        sa.Column("origin", sa.String(), nullable=False),
        sa.Column("pack_id", sa.String(), nullable=True),
        sa.Column("pack_v", sa.Float(), nullable=True),
        sa.Column("current_a", sa.Float(), nullable=True),
        sa.Column("charge_mah", sa.Float(), nullable=True),
        sa.Column("cell_v", sa.JSON(), nullable=True),
        sa.Column("temperature_c", sa.Float(), nullable=True),
        sa.Column("input_v", sa.Float(), nullable=True),
        sa.Column("by_hand", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(["run_key"], ["runs.key"], name=op.f("fk_observations_run_key")),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index(op.f("ix_observations_run_key"), "observations", ["run_key"], unique=False)
    op.create_table(
        "run_events",
        sa.Column("key", sa.Integer(), nullable=False),
        sa.Column("run_key", sa.Integer(), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("act", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("skipped", sa.Boolean(), nullable=False),
        sa.Column("by", sa.String(), nullable=False),
        sa.Column("note", sa.String(), nullable=True),
        sa.ForeignKeyConstraint(["run_key"], ["runs.key"], name=op.f("fk_run_events_run_key")),
        sa.PrimaryKeyConstraint("key"),
    )
    op.create_index(op.f("ix_run_events_run_key"), "run_events", ["run_key"], unique=False)
    op.add_column("packs", sa.Column("cycles", sa.Integer(), nullable=True))
    op.add_column("packs", sa.Column("bought_on", sa.String(), nullable=True))
    op.add_column("packs", sa.Column("timer_s", sa.Integer(), nullable=True))


def downgrade() -> None:
    for name in reversed(NEW):
        op.drop_table(name)
    for name in ("cycles", "bought_on", "timer_s"):
        op.drop_column("packs", name)
