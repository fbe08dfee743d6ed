"""The session file: the open JSON format that every command reads and the pages import and export."""

import json
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import Any

from iterum.core.bench.bench import Running, running_at
from iterum.core.bench.choice import Choice
from iterum.core.bench.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.bench.packs import Condition, Pack, Reading
from iterum.core.bench.rules import Balance, HouseRules, JoinOrder, MatchBy, SizeAt
from iterum.core.bench.session import Session, Wish
from iterum.exchange.faults import BadInput, Fault, structural_faults
from iterum.exchange.sense import sense_faults

FORMAT, VERSION = "iterum-session", 1
MAX_BYTES = 4_000_000


# ---------------------------------------------------------------------------------------- file -> core


def _refuse_twice(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    counts = Counter(key for key, _ in pairs)
    twice = [Fault(key, "stands twice in one object; keep one") for key, count in counts.items() if count > 1]
    if twice:
        raise BadInput(twice)
    return dict(pairs)


def parse(raw: bytes | str) -> Session:
    """Read a session file. Raises BadInput with every fault: structure first, then sense."""
    if len(raw) > MAX_BYTES:
        raise BadInput([Fault("", f"is larger than {MAX_BYTES // 1_000_000} MB; export a smaller session")])
    try:
        text = raw if isinstance(raw, str) else raw.decode("utf-8-sig")
        document = json.loads(text, object_pairs_hook=_refuse_twice)
    except UnicodeDecodeError as error:
        raise BadInput([Fault(f"byte {error.start}", "is not UTF-8 text; save the file as UTF-8")]) from error
    except json.JSONDecodeError as error:
        mend = f"is not JSON here: {error.msg[0].lower()}{error.msg[1:]}"
        raise BadInput([Fault(f"line {error.lineno}, column {error.colno}", mend)]) from error
    except (RecursionError, ValueError) as error:
        if isinstance(error, BadInput):
            raise
        raise BadInput([Fault("", "nests too deep or holds a number too long to be a session file")]) from error
    return from_document(document)


def from_document(document: Any) -> Session:
    """A session from decoded JSON. Raises BadInput with every fault."""
    faults = structural_faults(document)
    if isinstance(document, dict):
        faults += sense_faults(document, {fault.place for fault in faults})
    if faults:
        raise BadInput(faults)
    packs = tuple(pack_from(item) for item in document.get("packs", ()))
    rules = rules_from(document.get("rules", {}))
    return Session(
        packs=packs,
        kit=kit_from(document),
        rules=rules,
        running=tuple(_running_from(item, packs, rules) for item in document.get("running", ())),
        wanted=tuple(wish_from(item) for item in document.get("wanted", ())),
        group=_group_from(document.get("group")),
        name=document.get("name"),
        note=document.get("note"),
        starts_at=datetime.fromisoformat(document["starts_at"]) if document.get("starts_at") else None,
    )


def wish_from(item: Mapping[str, Any]) -> Wish:
    """A wish or a heat from a checked item of the file."""
    given = _given(item, "count", "at_min", "name", "fly_min", "rest_min", "used_fraction", "value")
    return Wish(family=item["class"], **given)


def wish_document(wish: Wish) -> dict[str, Any]:
    """A wish or a heat as the file holds it."""
    found: dict[str, Any] = {"count": wish.count, "class": wish.family, "at_min": wish.at_min}
    found |= _filled(name=wish.name, fly_min=wish.fly_min)
    more = ("rest_min", "used_fraction") if wish.is_heat else ()
    return found | {name: getattr(wish, name) for name in (*more, *(("value",) if wish.value != 1 else ()))}


_CHOICE = ("board", "channel", "fed_by", "rate_c", "current_a", "end_v", "plugged_last")


def _group_from(item: Mapping[str, Any] | None) -> Choice | None:
    return None if item is None else choice_from(item)


def choice_from(item: Mapping[str, Any]) -> Choice:
    """A choice from a checked `group` of the file."""
    return Choice(tuple(item["packs"]), **_given(item, *_CHOICE))


def choice_document(choice: Choice) -> dict[str, Any]:
    """A choice as the file holds it."""
    return {"packs": list(choice.packs), **_fields(choice, *_CHOICE)}


def _running_from(item: Mapping[str, Any], packs: Sequence[Pack], rules: HouseRules) -> Running:
    """A batch in hand from a checked item of the file."""
    by_id = {pack.id: pack for pack in packs}
    members = [by_id[tag] for tag in item["packs"]]
    figures = (float(item["current_a"]), float(item["minutes_left"]))
    return running_at(members, item.get("board"), item["channel"], *figures, rules, item.get("energy_left_wh"))


def running_document(batch: Running) -> dict[str, Any]:
    """A batch in hand as the file holds it."""
    found = _fields(batch, "board", "channel", "current_a", "minutes_left", "energy_left_wh")
    return {"packs": list(batch.packs), **{name: _rounded(value) for name, value in found.items()}}


def _rounded(value: Any) -> Any:
    return round(value, 3) if isinstance(value, float) else value


def _given(item: Mapping[str, Any], *names: str) -> dict[str, Any]:
    """The named fields that are there and not null, so that a dataclass keeps its own default for the rest."""
    return {name: item[name] for name in names if item.get(name) is not None}


def reading_from(item: Mapping[str, Any]) -> Reading | None:
    """The reading inside a pack of the file, or None when it was not measured."""
    taken = datetime.fromisoformat(item["measured_at"]) if item.get("measured_at") else None
    if item.get("cell_volts"):
        return Reading.of_cells(tuple(map(float, item["cell_volts"])), taken, item.get("temperature_c"))
    if item.get("pack_volts") is not None:
        return Reading(float(item["pack_volts"]), (), taken, item.get("temperature_c"))
    return None


def pack_from(item: Mapping[str, Any]) -> Pack:
    """A pack from a checked item of the file."""
    return Pack(
        chemistry_name=item["chemistry"],
        condition=Condition(item.get("condition", "ok")),
        resistance_mohm=tuple(item.get("resistance_mohm") or ()),
        reading=reading_from(item),
        **_given(
            item,
            "id",
            "cells",
            "capacity_mah",
            "max_charge_c",
            "discharge_c",
            "capacity_now_mah",
            "connector",
            "cells_confirmed",
            "charged_full",
            "cycles",
            "bought_on",
            "timer_s",
            "name",
            "note",
        ),
    )


def board_from(item: Mapping[str, Any]) -> Board:
    """A board from a checked item of the file."""
    return Board(**_given(item, *(Board.__dataclass_fields__.keys() - {"parts"})))


def source_from(item: Mapping[str, Any]) -> Source:
    """A source from a checked item of the file."""
    plain = _given(item, *(Source.__dataclass_fields__.keys() - {"quiet_hours"}))
    return Source(quiet_hours=tuple((low, high) for low, high in item.get("quiet_hours") or ()), **plain)


def supply_from(item: Mapping[str, Any]) -> Supply:
    """A supply from a checked item of the file."""
    return Supply(**_given(item, *Supply.__dataclass_fields__))


def channel_from(item: Mapping[str, Any]) -> Channel:
    """A channel from a checked item of the file."""
    return Channel(**_given(item, *Channel.__dataclass_fields__))


def charger_from(item: Mapping[str, Any]) -> Charger:
    """A charger from a checked item of the file."""
    plain = _given(item, *(Charger.__dataclass_fields__.keys() - {"channels", "power_by_input_v"}))
    return Charger(
        channels=tuple(channel_from(channel) for channel in item["channels"]),
        power_by_input_v=tuple((float(volts), float(watts)) for volts, watts in item.get("power_by_input_v") or ()),
        **plain,
    )


def kit_from(document: Mapping[str, Any]) -> Kit:
    """The kit of a checked file. "mains" is mains without a limit, unless something in the file has that tag."""
    kit = Kit(
        boards=tuple(board_from(item) for item in document.get("boards", ())),
        chargers=tuple(charger_from(item) for item in document.get("chargers", ())),
        supplies=tuple(supply_from(item) for item in document.get("supplies", ())),
        sources=tuple(source_from(item) for item in document.get("sources", ())),
    )
    return without_mains(kit)


def without_mains(kit: Kit) -> Kit:
    """The kit with `fed_by` None where it only says "mains", or nothing."""
    known = kit.feeder_ids()
    return replace(
        kit,
        chargers=tuple(item if item.fed_by in known else replace(item, fed_by=None) for item in kit.chargers),
        supplies=tuple(item if item.fed_by in known else replace(item, fed_by=None) for item in kit.supplies),
    )


def rules_from(item: Mapping[str, Any]) -> HouseRules:
    """House rules from a checked `rules` object; what it leaves out keeps its default."""
    changes: dict[str, Any] = _given(
        item, "cell_limit_v", "max_packs", "rate_c", "setup_min", "join_over_s", "tail_fraction"
    )
    if "join_peak_c" in item:
        changes["join_peak_c"] = item["join_peak_c"]
    if "match" in item:
        changes |= {"match_by": MatchBy(item["match"]["by"]), "match_limit": float(item["match"]["limit"])}
    if "max_capacity_ratio" in item:
        changes["max_capacity_ratio"] = item["max_capacity_ratio"]
    if "size_at" in item:
        changes["size_at"] = SizeAt(item["size_at"])
    if "end_v" in item:
        changes["end_v"] = {name: float(volts) for name, volts in item["end_v"].items()}
    if "storage_v" in item:
        changes["storage_v"] = _storage_from(item["storage_v"])
    if "join_order" in item:
        changes["join_order"] = JoinOrder(item["join_order"])
    if "balance" in item:
        changes["balance"] = Balance(item["balance"])
    return HouseRules(**changes)


def _storage_from(value: Any) -> dict[str, float]:
    """Storage volts by chemistry; one number is for the two that practice quotes it for."""
    if isinstance(value, (int, float)):
        return {"lipo": float(value), "lihv": float(value)}
    return {name: float(volts) for name, volts in value.items()}


# ---------------------------------------------------------------------------------------- core -> file


def _filled(**values: Any) -> dict[str, Any]:
    """The fields that say something."""
    return {name: value for name, value in values.items() if value is not None and value not in ((), {})}


def _fields(item: Any, *names: str) -> dict[str, Any]:
    return _filled(**{name: getattr(item, name) for name in names})


def pack_document(pack: Pack) -> dict[str, Any]:
    """A pack as the file holds it."""
    reading = pack.reading
    head = _filled(id=pack.id, chemistry=pack.chemistry_name)
    body = _fields(pack, "cells", "capacity_mah", "max_charge_c", "discharge_c", "capacity_now_mah", "connector",
                   "cycles", "bought_on",
        "timer_s")  # fmt: skip
    if pack.condition is not Condition.OK:
        body["condition"] = pack.condition.value
    if reading is not None:
        body |= {"cell_volts": list(reading.cell_v)} if reading.cell_v else {"pack_volts": reading.pack_v}
        body |= _filled(
            measured_at=reading.taken_at.isoformat() if reading.taken_at else None, temperature_c=reading.temperature_c
        )
    body |= {name: True for name in ("cells_confirmed", "charged_full") if getattr(pack, name)}
    if pack.resistance_mohm:
        body["resistance_mohm"] = list(pack.resistance_mohm)
    return head | body | _fields(pack, "name", "note")


def charger_document(charger: Charger) -> dict[str, Any]:
    """A charger with its channels as the file holds it."""
    found = _fields(
        charger, *(name for name in Charger.__dataclass_fields__ if name not in ("channels", "power_by_input_v"))
    )
    if charger.power_by_input_v:
        found["power_by_input_v"] = [list(pair) for pair in charger.power_by_input_v]
    found["channels"] = [channel_document(channel) for channel in charger.channels]
    return found


def channel_document(channel: Channel) -> dict[str, Any]:
    """A channel as the file holds it."""
    return _fields(channel, *Channel.__dataclass_fields__)


def item_document(item: Board | Supply | Source) -> dict[str, Any]:
    """A board, supply or source as the file holds it."""
    found = _fields(item, *(name for name in type(item).__dataclass_fields__ if name != "parts"))
    if found.get("taken_wh") == 0:
        del found["taken_wh"]
    if "quiet_hours" in found:
        found["quiet_hours"] = [list(pair) for pair in found["quiet_hours"]]
    return found


def rules_document(rules: HouseRules) -> dict[str, Any]:
    """House rules as the file holds them, the defaults written out."""
    found: dict[str, Any] = {
        "match": {"by": rules.match_by.value, "limit": rules.match_limit},
        "max_capacity_ratio": rules.max_capacity_ratio,
        "size_at": rules.size_at.value,
        "setup_min": rules.setup_min,
        "join_peak_c": rules.join_peak_c,
        "join_over_s": rules.join_over_s,
        "tail_fraction": rules.tail_fraction,
        "join_order": rules.join_order.value,
        "balance": rules.balance.value,
    }
    return found | _filled(
        cell_limit_v=rules.cell_limit_v,
        max_packs=rules.max_packs,
        rate_c=rules.rate_c,
        end_v=dict(rules.end_v),
        storage_v=dict(rules.storage_v),
    )


def to_document(session: Session) -> dict[str, Any]:
    """The whole session as the file holds it; `from_document` gives the same session back."""
    kit = session.kit
    found: dict[str, Any] = {"format": FORMAT, "version": VERSION, **_filled(name=session.name, note=session.note)}
    found["rules"] = rules_document(session.rules)
    found["packs"] = [pack_document(pack) for pack in session.packs]
    found["boards"] = [item_document(board) for board in kit.boards]
    found["sources"] = [item_document(source) for source in kit.sources]
    found["supplies"] = [item_document(supply) for supply in kit.supplies]
    found["chargers"] = [charger_document(charger) for charger in kit.chargers]
    found |= _filled(
        starts_at=session.starts_at.isoformat() if session.starts_at and session.wanted else None,
        wanted=[wish_document(wish) for wish in session.wanted] or None,
        running=[running_document(batch) for batch in session.running] or None,
        group=choice_document(session.group) if session.group else None,
    )
    return found


def dumps(session: Session) -> str:
    """The session file's text."""
    return json.dumps(to_document(session), indent=2, ensure_ascii=False) + "\n"
