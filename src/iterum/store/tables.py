"""The tables. Quantities carry their unit in the column name, as everywhere else."""

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import (
    JSON,
    Boolean,
    CheckConstraint,
    Column,
    DateTime,
    Float,
    ForeignKey,
    Integer,
    MetaData,
    String,
    Table,
    false,
)
from sqlalchemy.engine import Dialect
from sqlalchemy.types import TypeDecorator

metadata = MetaData(
    naming_convention={
        "ix": "ix_%(column_0_label)s",
        "fk": "fk_%(table_name)s_%(column_0_name)s",
        "uq": "uq_%(table_name)s_%(column_0_name)s",
    }
)


class Moment(TypeDecorator[datetime]):
    """A moment, kept in UTC. A time without a zone is taken as this machine's local time."""

    impl = DateTime
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> datetime | None:  # noqa: ARG002
        """To UTC, without its zone, as SQLite keeps it."""
        return None if value is None else value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: Any | None, dialect: Dialect) -> datetime | None:  # noqa: ARG002
        """Back to a moment in UTC."""
        return None if value is None else value.replace(tzinfo=UTC)


def _number(name: str) -> Column[Any]:
    return Column(name, Float)


def _common() -> list[Column[Any]]:
    """What every stored thing has: a key, its tag, a name, and when it was retired (kept, so that it can come back)."""
    return [
        Column("key", Integer, primary_key=True),
        Column("id", String, nullable=False, unique=True),
        Column("name", String),
        Column("note", String),
        Column("retired_at", Moment),
    ]


packs = Table(
    "packs",
    metadata,
    *_common(),
    Column("chemistry_name", String, nullable=False),
    Column("cells", Integer, CheckConstraint("cells between 1 and 14"), nullable=False),
    Column("capacity_mah", Float, CheckConstraint("capacity_mah > 0"), nullable=False),
    _number("max_charge_c"),
    _number("discharge_c"),
    _number("capacity_now_mah"),
    Column("connector", String),
    Column("condition", String, nullable=False),
    Column("resistance_mohm", JSON, nullable=False),
    Column("cycles", Integer),
    Column("bought_on", String),
    Column("timer_s", Integer),
    # When it was last on a charger: a reading from before says nothing any more.
    Column("charged_at", Moment),
    Column("charged_full", Boolean, nullable=False, server_default=false()),
    Column("cells_confirmed", Boolean, nullable=False, server_default=false()),
    Column("pins", Integer),
    Column("chemistry_confirmed", Boolean, nullable=False, server_default=false()),
    Column("memory", Integer),
    Column("since_balance", Integer, nullable=False, server_default="0"),
    # What the charges that it had alone taught of it, by those since the moment it was told to forget.
    Column("learned", JSON(none_as_null=True)),
    Column("learns_from", Moment),
)

readings = Table(
    "readings",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("pack_key", ForeignKey("packs.key"), nullable=False, index=True),
    Column("taken_at", Moment),
    Column("entered_at", Moment, nullable=False),
    Column("pack_v", Float, nullable=False),
    Column("cell_v", JSON, nullable=False),
    _number("temperature_c"),
    Column("origin", String, nullable=False),
    Column("corrects_key", ForeignKey("readings.key"), index=True),
)

boards = Table(
    "boards",
    metadata,
    *_common(),
    Column("ports", Integer, CheckConstraint("ports > 0"), nullable=False),
    Column("min_cells", Integer, nullable=False),
    Column("max_cells", Integer, nullable=False),
    _number("max_current_a"),
    _number("port_fuse_a"),
    _number("fuse_a"),
    Column("lead_mohm", Float, nullable=False),
    Column("connector", String),
    Column("chains_to", String),
)

chargers = Table(
    "chargers",
    metadata,
    *_common(),
    Column("fed_by", String),
    Column("efficiency", Float, nullable=False),
    _number("total_power_w"),
    _number("input_min_v"),
    _number("input_max_v"),
    _number("max_input_current_a"),
    Column("power_by_input_v", JSON, nullable=False),
    _number("mains_power_w"),
    Column("failed", Boolean, nullable=False, server_default=false()),
)

channels = Table(
    "channels",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("charger_key", ForeignKey("chargers.key", ondelete="CASCADE"), nullable=False, index=True),
    Column("position", Integer, nullable=False),
    Column("id", String, nullable=False, unique=True),
    Column("name", String),
    Column("max_current_a", Float, nullable=False),
    Column("max_power_w", Float, nullable=False),
    Column("min_current_a", Float, nullable=False),
    Column("current_step_a", Float, nullable=False),
    Column("min_cells", Integer, nullable=False),
    Column("max_cells", Integer, nullable=False),
    _number("discharge_power_w"),
    _number("discharge_current_a"),
    Column("capacity_step_mah", Float, nullable=False),
    Column("fixed_current", Boolean, nullable=False, server_default=false()),
    # A channel taken off its charger is kept, so that it can be put back.
    Column("removed", Boolean, nullable=False, default=False),
)

supplies = Table(
    "supplies",
    metadata,
    *_common(),
    Column("fed_by", String),
    Column("max_power_w", Float, nullable=False),
    _number("output_v"),
    Column("efficiency", Float, nullable=False),
)

sources = Table(
    "sources",
    metadata,
    *_common(),
    _number("voltage_v"),
    _number("max_current_a"),
    _number("max_power_w"),
    _number("energy_wh"),
    _number("usable_fraction"),
    Column("quiet_hours", JSON, nullable=False, default=list),
    Column("falls_back", Boolean, nullable=False, server_default=false()),
    Column("chemistry", String),
    Column("cells", Integer),
    _number("stop_v"),
)

house_rules = Table(
    "house_rules",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("set_at", Moment, nullable=False),
    Column("values", JSON, nullable=False),
)

wishes = Table(
    "wishes",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("count", Integer, nullable=False),
    Column("family", String, nullable=False),
    Column("at_min", Float, nullable=False),
    Column("name", String),
    _number("fly_min"),
    Column("rest_min", Float, nullable=False),
    Column("used_fraction", Float, nullable=False),
    _number("need_fraction"),
    Column("spare", Integer),
    Column("value", Float, nullable=False),
)

hand_moves = Table(
    "hand_moves",
    metadata,
    Column("pack_key", ForeignKey("packs.key", ondelete="CASCADE"), primary_key=True),
    # The pack whose group it was moved to; empty when it was taken out.
    Column("with_pack_key", ForeignKey("packs.key", ondelete="CASCADE")),
    Column("moved_at", Moment, nullable=False),
)

plans = Table(
    "plans",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("made_at", Moment, nullable=False),
    Column("prefer", String, nullable=False),
    # As `iterum plan --json` prints it: what was planned stays readable when packs and kit change.
    Column("document", JSON, nullable=False),
    # The revision of the session that was planned, so that a page can say when things have changed since.
    Column("revision", Integer, nullable=False),
)

runs = Table(
    "runs",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("begun_at", Moment, nullable=False),
    Column("packs", JSON, nullable=False),
    Column("family", String, nullable=False),
    Column("board", String),
    Column("channel", String, nullable=False),
    Column("current_a", Float, nullable=False),
    Column("rate_c", Float, nullable=False),
    # The dial card and the prediction as they were then: what is measured against must not change later.
    Column("card", JSON, nullable=False),
    Column("expected", JSON),
    Column("before_v", JSON, nullable=False),
    Column("state", String, nullable=False, index=True),
    Column("state_at", Moment, nullable=False),
    Column("charging_at", Moment),
    Column("paused_min", Float, nullable=False, default=0.0),
    Column("ended_at", Moment),
    # Whether a charger with a driver carries it out, and when that was last heard.
    Column("driven", Boolean, nullable=False, default=False),
    Column("heard_at", Moment),
    # The whole choice as it was made, and the source it is charged from with the part of its Wh that arrives.
    Column("choice", JSON),
    Column("source", String),
    _number("source_part"),
    # Whether its charge was stopped before it had ended by itself.
    Column("stopped", Boolean, nullable=False, server_default=false()),
    # What it is there for: a charge, or one of the runs that fill nothing.
    Column("kind", String, nullable=False, server_default="charge"),
)

run_events = Table(
    "run_events",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("run_key", ForeignKey("runs.key"), nullable=False, index=True),
    Column("at", Moment, nullable=False),
    Column("act", String, nullable=False),
    Column("state", String, nullable=False),
    Column("skipped", Boolean, nullable=False),
    Column("by", String, nullable=False),
    Column("note", String),
)

observations = Table(
    "observations",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("run_key", ForeignKey("runs.key"), nullable=False, index=True),
    Column("at", Moment, nullable=False),
    Column("at_min", Float, nullable=False),
    Column("origin", String, nullable=False),
    Column("pack_id", String),
    _number("pack_v"),
    _number("current_a"),
    _number("charge_mah"),
    Column("cell_v", JSON),
    _number("temperature_c"),
    _number("input_v"),
    Column("by_hand", Boolean, nullable=False),
    Column("touch", String),
)

found_wrong = Table(
    "found_wrong",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("run_key", ForeignKey("runs.key"), nullable=False, index=True),
    Column("code", String, nullable=False),
    Column("alarm", String, nullable=False),
    Column("numbers", JSON, nullable=False),
    Column("do", String, nullable=False),
    Column("since", Moment, nullable=False),
    Column("last", Moment, nullable=False),
    Column("gone_at", Moment),
    Column("seen_at", Moment),
)

incidents = Table(
    "incidents",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("at", Moment, nullable=False),
    Column("kind", String, nullable=False),
    Column("packs", JSON, nullable=False),
    Column("runs", JSON, nullable=False),
    Column("stopped", JSON, nullable=False),
    Column("note", String),
)

flights = Table(
    "flights",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("at", Moment, nullable=False),
    Column("heat_at", Moment, nullable=False),
    Column("family", String, nullable=False),
    Column("name", String),
    Column("packs", JSON, nullable=False),
)

charges = Table(
    "charges",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("pack_key", ForeignKey("packs.key"), nullable=False, index=True),
    Column("run_key", ForeignKey("runs.key"), index=True),
    Column("at", Moment, nullable=False, index=True),
    Column("origin", String, nullable=False),
    _number("charge_mah"),
    _number("minutes"),
    _number("rate_c"),
    Column("before_v", JSON, nullable=False),
    Column("after_v", JSON, nullable=False),
    Column("resistance_mohm", JSON, nullable=False),
    Column("note", String),
    # Nickel: whether it was warm at its end, and how often it was charged again because it was not full.
    Column("ended_warm", Boolean),
    Column("again", Integer),
    # Whether no other pack shared its board, whether the charger ended it, and the step in volts as amps started.
    Column("alone", Boolean),
    Column("full", Boolean),
    _number("step_mohm"),
)

ledger = Table(
    "ledger",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("source", String, nullable=False, index=True),
    Column("at", Moment, nullable=False),
    Column("kind", String, nullable=False),
    Column("wh", Float, nullable=False),
    Column("run_key", ForeignKey("runs.key"), index=True),
    Column("note", String),
)

devices = Table(
    "devices",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("kind", String, nullable=False),
    # Its scheme says which driver speaks to it.
    Column("address", String, nullable=False),
    Column("name", String),
    # Channel of the kit -> channel as the device calls it, as a person confirmed it.
    Column("channels", JSON, nullable=False),
    # What it said of itself when it was met.
    Column("identity", JSON),
    Column("confirmed_at", Moment),
)

column_maps = Table(
    "column_maps",
    metadata,
    Column("key", Integer, primary_key=True),
    # The headings of a file that was imported, and what its pilot said they mean.
    Column("headings", JSON, nullable=False),
    Column("meaning", JSON, nullable=False),
)

meeting = Table(
    "meeting",
    metadata,
    Column("key", Integer, CheckConstraint("key = 1"), primary_key=True),
    Column("name", String),
    Column("note", String),
    Column("group_choice", JSON),
    # The moment from which the minutes of wishes count.
    Column("starts_at", Moment),
    # Degrees of the air, asked once a day, and when that was.
    _number("air_c"),
    Column("air_at", Moment),
    # Rises with every change, so that what was computed before can be kept until then.
    Column("revision", Integer, nullable=False),
)

undos = Table(
    "undos",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("at", Moment, nullable=False),
    Column("what", String, nullable=False),
    Column("undone_at", Moment),
)

undo_rows = Table(
    "undo_rows",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("undo_key", ForeignKey("undos.key", ondelete="CASCADE"), nullable=False, index=True),
    Column("table_name", String, nullable=False),
    Column("row_key", Integer, nullable=False),
    # As the database holds it; none where the row was not there before, or is there no more.
    Column("was", JSON(none_as_null=True)),
    Column("became", JSON(none_as_null=True)),
)

phones = Table(
    "phones",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("name", String, nullable=False),
    Column("role", String, nullable=False),
    # Of the token in its cookie: who reads the database cannot pass for the phone.
    Column("token_hash", String, nullable=False, unique=True),
    # What kind of browser it is, without its versions, and where it was seen last.
    Column("kind", String, nullable=False),
    Column("address", String, nullable=False),
    Column("paired_at", Moment, nullable=False),
    Column("seen_at", Moment, nullable=False),
    Column("gone_at", Moment),
    Column("gone_why", String),
)

kept_ids = Table(
    "kept_ids",
    metadata,
    # Of what a device kept while the link was down: it is taken once.
    Column("id", String, primary_key=True),
    Column("at", Moment, nullable=False),
)
