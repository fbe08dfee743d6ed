"""The session file: the open JSON format that every command reads and the pages import and export."""

import json
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import fields, replace
from datetime import datetime
from typing import Any

from iterum.core.fields import BadInput, Fault
from iterum.core.say import say
from iterum.core.season.learning import with_like
from iterum.core.things.bench import Running, running_at
from iterum.core.things.choice import Choice
from iterum.core.things.curve import KnownPoint, Learned
from iterum.core.things.days import Days
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.pilots import Pilot
from iterum.core.things.rules import HouseRules, MatchBy
from iterum.core.things.session import Session, Wish
from iterum.exchange.faults import checked
from iterum.exchange.sense import sense_faults
from iterum.exchange.shape import FORMAT, VERSION, in_file

MAX_BYTES = 4_000_000


# ---------------------------------------------------------------------------------------- file -> core


def _refuse_twice(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    counts = Counter(key for key, _ in pairs)
    twice = [Fault(key, say("stands twice in one object; keep one")) for key, count in counts.items() if count > 1]
    if twice:
        raise BadInput(twice)
    return dict(pairs)


def parse(raw: bytes | str, now: datetime | None = None) -> Session:
    """Read a session file. Raises BadInput with every fault: structure first, then sense.

    now : the present, by which readings are judged where the file does not say its own; None judges no reading's age.
    """
    if len(raw) > MAX_BYTES:
        raise BadInput(
            [Fault("", say("is larger than {max_bytes} MB; export a smaller session", max_bytes=MAX_BYTES // 1000000))]
        )
    try:
        text = raw if isinstance(raw, str) else raw.decode("utf-8-sig")
        document = json.loads(text, object_pairs_hook=_refuse_twice)
    except UnicodeDecodeError as error:
        raise BadInput(
            [Fault(say("byte {start}", start=error.start), say("is not UTF-8 text; save the file as UTF-8"))]
        ) from error
    except json.JSONDecodeError as error:
        mend = say("is not JSON here: {msg}{msg2}", msg=error.msg[0].lower(), msg2=error.msg[1:])
        raise BadInput(
            [Fault(say("line {lineno}, column {colno}", lineno=error.lineno, colno=error.colno), mend)]
        ) from error
    except (RecursionError, ValueError) as error:
        if isinstance(error, BadInput):
            raise
        raise BadInput([Fault("", say("nests too deep or holds a number too long to be a session file"))]) from error
    return from_document(document, now)


def from_document(document: Any, now: datetime | None = None) -> Session:
    """A session from decoded JSON. Raises BadInput with every fault.

    now : the present, where the file does not say its own; None judges no reading's age.
    """
    item, faults = checked(document)
    if isinstance(document, dict):
        faults += sense_faults(document, {fault.place for fault in faults}, now)
    if faults:
        raise BadInput(faults)
    packs = with_like(tuple(map(pack_of, item.packs)))
    rules = rules_of(item.rules) if item.rules else HouseRules()
    kit = Kit(
        boards=tuple(part.made(Board) for part in item.boards),
        chargers=tuple(map(charger_of, item.chargers)),
        supplies=tuple(part.made(Supply) for part in item.supplies),
        sources=tuple(part.made(Source) for part in item.sources),
    )
    starts_at = datetime.fromisoformat(item.starts_at) if item.starts_at else None
    session = (
        Session(
            packs=packs,
            kit=without_mains(kit),
            rules=rules,
            running=tuple(_running_of(part, packs, rules) for part in item.running),
            wanted=tuple(part.made(Wish, _WISH) for part in item.wanted),
            pilots=tuple(part.made(Pilot) for part in item.pilots),
            group=item.group and item.group.made(Choice),
            name=item.name,
            note=item.note,
            starts_at=starts_at,
        )
        .in_air(item.air_c)
        .at_table()
    )
    present = starts_at or now
    return session if present is None else session.at(present)


def part_from(part: str, document: Mapping[str, Any]) -> Any:
    """The core object of one part of a file ("pack", "board", "rules" ...). Raises BadInput with every fault."""
    item, faults = checked(document, part)
    if faults:
        raise BadInput(faults)
    return OF_PART[part](item)


_WISH = {"family": "class"}


def wish_document(wish: Wish) -> dict[str, Any]:
    """A wish or a heat as the file holds it."""
    document: dict[str, Any] = {"count": wish.count, "class": wish.family, "at_min": wish.at_min}
    document |= _filled(name=wish.name, fly_min=wish.fly_min)
    more = ("rest_min", "used_fraction") if wish.is_heat else ()
    document |= _filled(need_fraction=wish.need_fraction, spare=wish.spare, pilot=wish.pilot, final=wish.final or None)
    return document | {name: getattr(wish, name) for name in (*more, *(("value",) if wish.value != 1 else ()))}


def pilot_document(pilot: Pilot) -> dict[str, Any]:
    """A pilot as the file holds them."""
    document = _fields(pilot, *Pilot.__dataclass_fields__) | {"shape": pilot.shape.value}
    return {name: _plain(value) for name, value in document.items() if value is not False}


def choice_document(choice: Choice) -> dict[str, Any]:
    """A choice as the file holds it."""
    return _fields(choice, *Choice.__dataclass_fields__) | {"packs": list(choice.packs)}


def _running_of(item: Any, packs: Sequence[Pack], rules: HouseRules) -> Running:
    """A batch in hand from a checked item of the file."""
    by_id = {pack.id: pack for pack in packs}
    members = [by_id[tag] for tag in item.packs]
    return running_at(members, item.board, item.channel, item.current_a, item.minutes_left, rules, item.energy_left_wh)


def running_document(batch: Running) -> dict[str, Any]:
    """A batch in hand as the file holds it."""
    document = _fields(batch, "board", "channel", "current_a", "minutes_left", "energy_left_wh")
    return {"packs": list(batch.packs), **{name: _rounded(value) for name, value in document.items()}}


def _rounded(value: Any) -> Any:
    return round(value, 3) if isinstance(value, float) else value


def pack_of(item: Any) -> Pack:
    """A pack from a checked item of the file."""
    taken_at = datetime.fromisoformat(item.measured_at) if item.measured_at else None
    if taken_at is not None and taken_at.tzinfo is None:
        taken_at = taken_at.astimezone()
    reading = None
    if item.cell_volts:
        reading = Reading.of_cells(item.cell_volts, taken_at, item.temperature_c)
    elif item.pack_volts is not None:
        reading = Reading(item.pack_volts, (), taken_at, item.temperature_c)
    learned = None if item.learned is None else _learned_of(item.learned)
    pack: Pack = item.made(Pack, {"chemistry_name": "chemistry"}, reading=reading, learned=learned)
    return pack


def _learned_of(item: Any) -> Learned:
    """What charges taught of a pack from a checked item of the file."""
    at = [datetime.fromisoformat(point.at) if point.at else None for point in item.points]
    points = [point.made(KnownPoint, at=moment) for point, moment in zip(item.points, at, strict=True)]
    learned: Learned = item.made(Learned, points=tuple(points))
    return learned


def charger_of(item: Any) -> Charger:
    """A charger from a checked item of the file."""
    charger: Charger = item.made(Charger, channels=tuple(channel.made(Channel) for channel in item.channels))
    return charger


def without_mains(kit: Kit) -> Kit:
    """The kit with `fed_by` None where it only says "mains", or nothing."""
    known = kit.feeder_ids()
    return replace(
        kit,
        chargers=tuple(item if item.fed_by in known else replace(item, fed_by=None) for item in kit.chargers),
        supplies=tuple(item if item.fed_by in known else replace(item, fed_by=None) for item in kit.supplies),
    )


def rules_of(item: Any) -> HouseRules:
    """House rules from a checked `rules` object; what it leaves out keeps its default."""
    match = {"match_by": MatchBy(item.match.by), "match_limit": item.match.limit} if item.match else {}
    volts = {
        name: getattr(item, name).model_dump(by_alias=True, exclude_none=True)
        for name in ("end_v", "storage_v")
        if getattr(item, name) is not None
    }
    days = {"days": item.days.made(Days)} if item.days else {}
    rules: HouseRules = item.made(HouseRules, **match, **volts, **days)
    return rules


OF_PART: dict[str, Callable[[Any], Any]] = {
    "pack": pack_of,
    "board": lambda item: item.made(Board),
    "source": lambda item: item.made(Source),
    "supply": lambda item: item.made(Supply),
    "charger": charger_of,
    "rules": rules_of,
    "days": lambda item: item.made(Days),
    "group": lambda item: item.made(Choice),
    "wanted": lambda item: item.made(Wish, _WISH),
    "pilot": lambda item: item.made(Pilot),
}
"""What each part of a file becomes."""


# ---------------------------------------------------------------------------------------- core -> file


def _filled(**values: Any) -> dict[str, Any]:
    """The fields that say something."""
    return {name: value for name, value in values.items() if value is not None and value not in ((), {})}


def _fields(item: Any, *names: str) -> dict[str, Any]:
    return _filled(**{name: getattr(item, name) for name in names})


def pack_document(pack: Pack) -> dict[str, Any]:
    """A pack as the file holds it."""
    reading = pack.reading
    body = {field.name: getattr(pack, field.name) for field in fields(Pack)
            if field.name in in_file(Pack) and getattr(pack, field.name) != field.default}  # fmt: skip
    body = {{"chemistry_name": "chemistry"}.get(name, name): _plain(value) for name, value in body.items()}
    if reading is not None:
        body |= {"cell_volts": list(reading.cell_v)} if reading.cell_v else {"pack_volts": reading.pack_v}
        body |= _filled(
            measured_at=reading.taken_at.isoformat() if reading.taken_at else None, temperature_c=reading.temperature_c
        )
    return body


def _plain(value: Any) -> Any:
    """A value as JSON has it."""
    if isinstance(value, Learned):
        return _learned_document(value)
    return list(value) if isinstance(value, tuple) else getattr(value, "value", value)


def _learned_document(learned: Learned) -> dict[str, Any]:
    points = [
        _filled(cell_v=point.cell_v, at=point.at.isoformat() if point.at else None) | {"soc": point.soc}
        for point in learned.points
    ]
    return {**_fields(learned, "capacity_mah", "step_mohm"), "doubt": learned.doubt, "points": points}


def charger_document(charger: Charger) -> dict[str, Any]:
    """A charger with its channels as the file holds it."""
    document = _fields(
        charger, *(name for name in Charger.__dataclass_fields__ if name not in ("channels", "power_by_input_v"))
    )
    if not charger.lent:
        del document["lent"]
    if charger.power_by_input_v:
        document["power_by_input_v"] = [list(pair) for pair in charger.power_by_input_v]
    document["channels"] = [channel_document(channel) for channel in charger.channels]
    return document


def channel_document(channel: Channel) -> dict[str, Any]:
    """A channel as the file holds it."""
    return _fields(channel, *Channel.__dataclass_fields__)


def item_document(item: Board | Supply | Source) -> dict[str, Any]:
    """A board, supply or source as the file holds it."""
    kind: Any = type(item)
    document = _fields(item, *in_file(kind))
    if document.get("taken_wh") == 0:
        del document["taken_wh"]
    if not document.get("lent"):
        document.pop("lent", None)
    if "quiet_hours" in document:
        document["quiet_hours"] = [list(pair) for pair in document["quiet_hours"]]
    return document


def rules_document(rules: HouseRules) -> dict[str, Any]:
    """House rules as the file holds them, the defaults written out; what is left to something else is left out."""
    document: dict[str, Any] = {"match": {"by": rules.match_by.value, "limit": rules.match_limit}}
    for field in fields(HouseRules):
        value = getattr(rules, field.name)
        if field.name == "days":
            document |= {"days": vars(value)} if value != Days() else {}
            continue
        if field.name.startswith("match_") or (value is None and field.default is None) or value == {}:
            continue
        document[field.name] = dict(value) if isinstance(value, Mapping) else getattr(value, "value", value)
    return document


def to_document(session: Session) -> dict[str, Any]:
    """The whole session as the file holds it; `from_document` gives the same session back."""
    kit = session.kit
    document: dict[str, Any] = {"format": FORMAT, "version": VERSION, **_filled(name=session.name, note=session.note)}
    document |= _filled(air_c=session.air_c)
    document["rules"] = rules_document(session.rules)
    document["packs"] = [pack_document(pack) for pack in session.packs]
    document["boards"] = [item_document(board) for board in kit.boards]
    document["sources"] = [item_document(source) for source in kit.sources]
    document["supplies"] = [item_document(supply) for supply in kit.supplies]
    document["chargers"] = [charger_document(charger) for charger in kit.chargers]
    document |= _filled(
        starts_at=session.starts_at.isoformat() if session.starts_at else None,
        pilots=[pilot_document(pilot) for pilot in session.pilots] or None,
        wanted=[wish_document(wish) for wish in session.wanted] or None,
        running=[running_document(batch) for batch in session.running if batch.channel] or None,
        group=choice_document(session.group) if session.group else None,
    )
    return document


def dumps(session: Session) -> str:
    """The session file's text."""
    return json.dumps(to_document(session), indent=2, ensure_ascii=False) + "\n"
