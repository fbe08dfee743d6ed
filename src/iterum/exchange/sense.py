"""The sense of a session: what a schema cannot say (counts that agree, ids that exist, limits no school holds)."""

from collections.abc import Iterable, Mapping
from datetime import date, datetime, timedelta
from typing import Any

from iterum.core.fields import Fault
from iterum.core.say import say
from iterum.core.season.moments import is_of_our_time
from iterum.core.things.bench import MAINS
from iterum.core.things.kit import CHAIN
from iterum.core.things.session import LEFT_FRACTION, USED_FRACTION

CLOCKS_DIFFER = timedelta(minutes=5)
"""A reading may lie so far in the future: the clock of whoever wrote it down was ahead."""
_KIT_PARTS = {"boards": "board", "sources": "source", "supplies": "supply", "chargers": "charger"}


def _items(document: Mapping[str, Any], key: str) -> list[tuple[int, dict[str, Any]]]:
    value = document.get(key)
    return (
        [(index, item) for index, item in enumerate(value) if isinstance(item, dict)] if isinstance(value, list) else []
    )


def _ids(items: Iterable[tuple[int, Mapping[str, Any]]]) -> set[str]:
    """Ids that are texts; anything else has a structural fault of its own."""
    return {item["id"] for _, item in items if isinstance(item.get("id"), str)}


def _number(value: Any) -> float | None:
    return value if isinstance(value, (int, float)) and not isinstance(value, bool) else None


def pack_sense(item: Mapping[str, Any], place: str = "", present: datetime | None = None) -> list[Fault]:
    """What a schema cannot say of one pack: counts that agree, volts that a cell can have, a reading from the past.

    present : None where it is not known.
    """
    dot = f"{place}." if place else ""
    faults: list[Fault] = []
    cells = item.get("cells")
    volts = item.get("cell_volts")
    if isinstance(volts, list) and volts and item.get("pack_volts") is not None:
        faults.append(Fault(f"{dot}pack_volts", say("stands beside cell_volts; give one of the two")))
    for name in ("cell_volts", "resistance_mohm"):
        values = item.get(name)
        if isinstance(values, list) and isinstance(cells, int) and len(values) != cells:
            faults.append(
                Fault(
                    f"{dot}{name}",
                    say("must hold one value for each of {cells} cells, got {values}", cells=cells, values=len(values)),
                )
            )
    now_mah, label_mah = _number(item.get("capacity_now_mah")), _number(item.get("capacity_mah"))
    if now_mah is not None and label_mah is not None and now_mah > 1.5 * label_mah:
        faults.append(
            Fault(
                f"{dot}capacity_now_mah",
                say("is over 1.5 times the label's {label_mah:g} mAh; measure again", label_mah=label_mah),
            )
        )
    bought_on = item.get("bought_on")
    if isinstance(bought_on, str) and not _is_date(bought_on):
        faults.append(
            Fault(f"{dot}bought_on", say("must be a date like 2025-04-30, got {bought_on}", bought_on=repr(bought_on)))
        )
    measured_at = item.get("measured_at")
    if isinstance(measured_at, str):
        wrong = _moment_faults(f"{dot}measured_at", measured_at, "2026-06-13T08:47:00+01:00")
        faults += wrong or _future_faults(f"{dot}measured_at", measured_at, present)
    return faults


def _future_faults(place: str, text: str, present: datetime | None) -> list[Fault]:
    """A reading that lies in the future, by more than two clocks may differ."""
    if present is None or datetime.fromisoformat(text).astimezone() <= present + CLOCKS_DIFFER:
        return []
    return [
        Fault(
            place,
            say(
                "lies in the future: it is {present:%Y-%m-%dT%H:%M} now; type the time of the reading", present=present
            ),
        )
    ]


def _is_date(text: str) -> bool:
    try:
        date.fromisoformat(text)
    except ValueError:
        return False
    return True


def _moment_faults(place: str, text: str, example: str, zone: bool = False) -> list[Fault]:
    """What is wrong with a moment; with `zone` it must say how far its place is from UTC."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return [Fault(place, say("must be a time like {example}, got {value}", example=example, value=repr(text)))]
    if not is_of_our_time(moment):
        return [Fault(place, say("lies in the year {year}: that is none of ours", year=moment.year))]
    return (
        [Fault(place, say("needs its zone, as in {example}", example=example))]
        if zone and moment.tzinfo is None
        else []
    )


def _ordered(item: Mapping[str, Any], low: str, high: str, place: str) -> list[Fault]:
    low_value, high_value = _number(item.get(low)), _number(item.get(high))
    if low_value is not None and high_value is not None and low_value > high_value:
        return [
            Fault(
                f"{place}.{high}" if place else high,
                say(
                    "must be at least {low} ({low_value:g}), got {high_value:g}",
                    low=low,
                    low_value=low_value,
                    high_value=high_value,
                ),
            )
        ]
    return []


def kit_sense(part: str, item: Mapping[str, Any], place: str = "") -> list[Fault]:
    """What a schema cannot say of one board, charger, supply or source."""
    dot = f"{place}." if place else ""
    faults = _ordered(item, "min_cells", "max_cells", place) + _ordered(item, "input_min_v", "input_max_v", place)
    if part == "source" and item.get("max_current_a") is not None and item.get("voltage_v") is None:
        faults.append(Fault(f"{dot}voltage_v", say("is missing; a limit in amps needs its volts")))
    if part == "charger":
        for index, channel in _items(item, "channels"):
            where = f"{dot}channels[{index}]"
            faults += _ordered(channel, "min_cells", "max_cells", where)
            faults += _ordered(channel, "min_current_a", "max_current_a", where)
    return faults


def _doubles(names: Iterable[tuple[str, Any]]) -> list[Fault]:
    """Ids that were used before, each named with the place where it first stood."""
    first: dict[Any, str] = {}
    faults = []
    for place, name in names:
        if not isinstance(name, str):
            continue
        if name in first:
            faults.append(
                Fault(
                    f"{place}.id",
                    say("{name} is used already at {first}; each id once", name=repr(name), first=first[name]),
                )
            )
        first.setdefault(name, place)
    return faults


def _reference_faults(document: Mapping[str, Any]) -> list[Fault]:
    """fed_by and chains_to that name nothing."""
    sources = _ids(_items(document, "sources"))
    supplies = _ids(_items(document, "supplies"))
    faults = []
    boards = _ids(_items(document, "boards"))
    for index, item in _items(document, "boards"):
        behind = item.get("chains_to")
        if isinstance(behind, str) and (behind not in boards or behind == item.get("id")):
            faults.append(
                Fault(f"boards[{index}].chains_to", say("{behind} is no other board of this file", behind=repr(behind)))
            )
    for key in ("supplies", "chargers"):
        known, kind = supplies | sources, say("supply or source")
        for index, item in _items(document, key):
            fed_by = item.get("fed_by")
            if isinstance(fed_by, str) and fed_by not in known and fed_by not in ("", MAINS):
                names = ", ".join(sorted(known)) or say("none")
                faults.append(
                    Fault(
                        f"{key}[{index}].fed_by",
                        say(
                            "{fed_by} is no {kind} of this file ({names}); leave out for mains",
                            fed_by=repr(fed_by),
                            kind=kind,
                            names=names,
                        ),
                    )
                )
    return faults + _pilot_faults(document) + _circles(document)


def _pilot_faults(document: Mapping[str, Any]) -> list[Fault]:
    """Pilots that are named and stand in no list, and two with one mark."""
    pilots = _items(document, "pilots")
    known = _ids(pilots)
    names = ", ".join(sorted(known)) or say("none")
    told = [(f"{key}[{index}].pilot", item.get("pilot")) for key in ("packs", "wanted", "boards", "chargers", "sources")
            for index, item in _items(document, key)]  # fmt: skip
    for index, item in pilots:
        shares_with = item.get("shares_with")
        if isinstance(shares_with, list):
            told += [(f"pilots[{index}].shares_with[{at}]", other) for at, other in enumerate(shares_with)]
    faults = [Fault(place, say("{name} is no pilot of this file ({names})", name=repr(name), names=names))
              for place, name in told if isinstance(name, str) and name not in known]  # fmt: skip
    marks: dict[tuple[Any, Any], Any] = {}
    for index, item in pilots:
        mark = str(item.get("mark")), str(item.get("shape", "circle"))
        if mark in marks:
            faults.append(
                Fault(
                    f"pilots[{index}].mark", say("is that of {marks}; take other letters or a shape", marks=marks[mark])
                )
            )
        marks.setdefault(mark, item.get("id"))
    return faults


def _circles(document: Mapping[str, Any]) -> list[Fault]:
    """Supplies that feed themselves, through others or at once."""
    feeds = {
        item["id"]: item.get("fed_by") for _, item in _items(document, "supplies") if isinstance(item.get("id"), str)
    }
    faults = []
    for index, item in _items(document, "supplies"):
        link, seen = item.get("fed_by"), [item.get("id")]
        while isinstance(link, str) and link in feeds and link not in seen:
            seen.append(link)
            link = feeds[link]
        if isinstance(link, str) and link in seen:
            round_it = " > ".join(map(str, [*seen, link]))
            faults.append(
                Fault(
                    f"supplies[{index}].fed_by",
                    say("goes round in a circle ({round_it}); name what feeds it", round_it=round_it),
                )
            )
    return faults


def _board_fault(place: str, value: Any, boards: set[str]) -> list[Fault]:
    """A board, or a chain of two, that is not in the file."""
    if not isinstance(value, str) or value in boards:
        return []
    first, plus, second = value.partition(CHAIN)
    if plus and {first, second} <= boards and first != second:
        return []
    return [Fault(place, say("{value} is not a board of this file, nor a chain of two of them", value=repr(value)))]


def _running_faults(document: Mapping[str, Any]) -> list[Fault]:
    """What charges now names packs, boards and channels that are there, each once."""
    packs = {item["id"]: item for _, item in _items(document, "packs") if isinstance(item.get("id"), str)}
    boards = _ids(_items(document, "boards"))
    channels = set().union(*(_ids(_items(charger, "channels")) for _, charger in _items(document, "chargers")))
    faults: list[Fault] = []
    used: dict[str, str] = {}
    for index, item in _items(document, "running"):
        place = f"running[{index}]"
        named: Any = item.get("packs")
        families = set()
        for at, name in enumerate(named if isinstance(named, list) else []):
            if isinstance(name, str) and name not in packs:
                faults.append(Fault(f"{place}.packs[{at}]", say("{name} is no pack of this file", name=repr(name))))
            elif isinstance(name, str):
                families.add((packs[name].get("chemistry"), packs[name].get("cells")))
                faults += _once(f"{place}.packs[{at}]", say("pack {name}", name=name), used)
        if len(families) > 1:
            faults.append(Fault(f"{place}.packs", say("are of different classes; they never share a board")))
        faults += _board_fault(f"{place}.board", item.get("board"), boards)
        channel = item.get("channel")
        if isinstance(channel, str) and channel not in channels:
            faults.append(
                Fault(f"{place}.channel", say("{channel} is not a channel of this file", channel=repr(channel)))
            )
        elif isinstance(channel, str):
            faults += _once(f"{place}.channel", f"channel {channel}", used)
    return faults


def _once(place: str, what: str, used: dict[str, str]) -> list[Fault]:
    if what in used:
        return [
            Fault(
                place,
                say("{what} is in use already at {used}; it can be in one batch only", what=what, used=used[what]),
            )
        ]
    used[what] = place
    return []


def _group_faults(document: Mapping[str, Any]) -> list[Fault]:
    group = document.get("group")
    if not isinstance(group, dict):
        return []
    packs = _ids(_items(document, "packs"))
    boards = _ids(_items(document, "boards"))
    channels = set().union(*(_ids(_items(charger, "channels")) for _, charger in _items(document, "chargers")))
    faults = []
    named: Any = group.get("packs")
    members: list[Any] = named if isinstance(named, list) else []
    for index, name in enumerate(members):
        if not isinstance(name, str):
            continue
        if name not in packs:
            faults.append(Fault(f"group.packs[{index}]", say("{name} is no pack of this file", name=repr(name))))
        elif name in members[:index]:
            faults.append(
                Fault(f"group.packs[{index}]", say("{name} stands twice; a pack has one plug", name=repr(name)))
            )
    faults += _board_fault("group.board", group.get("board"), boards)
    feeders = _ids(_items(document, "sources")) | _ids(_items(document, "supplies")) | {MAINS}
    for key, known in (("channel", channels), ("fed_by", feeders), ("plugged_last", set(map(str, members)))):
        value = group.get(key)
        if isinstance(value, str) and value not in known:
            what = {"plugged_last": say("a pack of this group"), "fed_by": say("a supply or source of this file")}
            faults.append(
                Fault(
                    f"group.{key}",
                    say("{value} is not {what}", value=repr(value), what=what.get(key, say("a channel of this file"))),
                )
            )
    return faults


def sense_faults(document: Mapping[str, Any], known_places: set[str], now: datetime | None = None) -> list[Fault]:
    """Every fault of sense, leaving out places that already have a structural one.

    now : the present where the file does not say its own; None where it is not known.
    """
    faults: list[Fault] = []
    starts_at = document.get("starts_at")
    if isinstance(starts_at, str):
        faults += _moment_faults("starts_at", starts_at, "2026-06-13T08:00:00+01:00", zone=True)
    present = datetime.fromisoformat(starts_at) if isinstance(starts_at, str) and not faults else now
    for index, item in _items(document, "packs"):
        faults += pack_sense(item, f"packs[{index}]", present)
    faults += _doubles((f"packs[{index}]", item.get("id")) for index, item in _items(document, "packs"))
    kit_names: list[tuple[str, Any]] = []
    for key, part in _KIT_PARTS.items():
        for index, item in _items(document, key):
            place = f"{key}[{index}]"
            faults += kit_sense(part, item, place)
            kit_names.append((place, item.get("id")))
            kit_names += [(f"{place}.channels[{at}]", channel.get("id")) for at, channel in _items(item, "channels")]
    faults += _doubles((f"pilots[{index}]", item.get("id")) for index, item in _items(document, "pilots"))
    faults += _doubles(kit_names) + _reference_faults(document) + _group_faults(document)
    faults += _running_faults(document)
    faults += [fault for index, item in _items(document, "wanted") for fault in wish_sense(item, f"wanted[{index}]")]
    match = document["rules"].get("match") if isinstance(document.get("rules"), dict) else None
    faults += rules_sense(match)
    return [fault for fault in faults if fault.place not in known_places]


def wish_sense(wish: Mapping[str, Any], place: str = "") -> list[Fault]:
    """A flight leaves at least `LEFT_FRACTION` in a pack that is not filled for it.

    place : where it stands in the file.
    """
    need, used = _number(wish.get("need_fraction")), _number(wish.get("used_fraction"))
    least = round((USED_FRACTION if used is None else used) + LEFT_FRACTION, 4)
    if need is None or need >= min(least, 1.0):
        return []
    spot = f"{place}.need_fraction" if place else "need_fraction"
    return [
        Fault(
            spot,
            say(
                "must be at least {least:g}: what the flight uses and {left_fraction:g} more, got {need:g}",
                least=min(least, 1.0),
                left_fraction=LEFT_FRACTION,
                need=need,
            ),
        )
    ]


def rules_sense(match: Any) -> list[Fault]:
    """Limits on volts that no school holds: they would let packs push dangerous current into each other."""
    if not isinstance(match, dict):
        return []
    ceilings = {"volts_per_cell": 0.2, "volts_per_pack": 1.0, "percent_of_highest": 10.0}
    ceiling = ceilings.get(str(match.get("by")))
    limit = _number(match.get("limit"))
    if ceiling is not None and limit is not None and limit > ceiling:
        return [
            Fault(
                "rules.match.limit",
                say(
                    "must be at most {ceiling:g} for {match}, got {limit:g}; no school goes wider",
                    ceiling=ceiling,
                    match=match["by"],
                    limit=limit,
                ),
            )
        ]
    return []
