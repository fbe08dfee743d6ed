"""The tables. Quantities carry their unit in the column name, as everywhere else."""

from typing import Any

from sqlalchemy import (
    JSON,
    Boolean,
    CheckConstraint,
    Column,
    Float,
    ForeignKey,
    Integer,
    MetaData,
    String,
    Table,
    false,
)

from iterum.core.things.kit import Board, Channel, Charger, Source, Supply
from iterum.core.things.packs import Pack
from iterum.core.things.pilots import Pilot
from iterum.core.things.session import Wish
from iterum.store.columns import Moment, columns_of

metadata = MetaData(
    naming_convention={
        "ix": "ix_%(column_0_label)s",
        "fk": "fk_%(table_name)s_%(column_0_name)s",
        "uq": "uq_%(table_name)s_%(column_0_name)s",
    }
)


def _number(name: str) -> Column[Any]:
    return Column(name, Float)


def _of(kind: type, *more: Column[Any]) -> list[Column[Any]]:
    """What is kept of a thing that has a tag: a key, its fields, and when it was retired (it can come back)."""
    return [Column("key", Integer, primary_key=True), *columns_of(kind), Column("retired_at", Moment), *more]


# `learns_from` : only charges since this moment count; it was told to forget those before.
packs = Table("packs", metadata, *_of(Pack, Column("learns_from", Moment)))

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

boards = Table("boards", metadata, *_of(Board))
chargers = Table("chargers", metadata, *_of(Charger))
supplies = Table("supplies", metadata, *_of(Supply))
sources = Table("sources", metadata, *_of(Source))

pilots = Table("pilots", metadata, *_of(Pilot))

channels = Table(
    "channels",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("charger_key", ForeignKey("chargers.key", ondelete="CASCADE"), nullable=False, index=True),
    Column("position", Integer, nullable=False),
    *columns_of(Channel),
    # A channel taken off its charger is kept, so that it can be put back.
    Column("removed", Boolean, nullable=False, default=False),
)

house_rules = Table(
    "house_rules",
    metadata,
    Column("key", Integer, primary_key=True),
    Column("set_at", Moment, nullable=False),
    Column("values", JSON, nullable=False),
)

wishes = Table("wishes", metadata, Column("key", Integer, primary_key=True), *columns_of(Wish))

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
    # The pilot who sees to it, where it holds packs of several.
    Column("tended_by", String),
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
    # The pilot whose heat it was, where several share the table.
    Column("pilot", String),
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
    # The pilot whose device it is, where it is one's.
    Column("pilot", String),
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
