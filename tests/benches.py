"""Random benches of every awkward kind, and an independent check of what is offered on them, from the file alone."""

import random
from dataclasses import replace
from datetime import datetime, timedelta

from iterum.core.permit.permit import permits
from iterum.core.things.bench import running_at
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.packs import Reading
from iterum.core.things.rules import HouseRules, MatchBy
from iterum.core.things.session import Session
from tests.conftest import NOON, pack

KINDS = (("lipo", 4, 1800), ("lipo", 4, 1800), ("lipo", 6, 3300), ("lihv", 2, 450), ("li-ion", 3, 3500), ("life", 4, 2500),
         ("nimh", 8, 2400), ("lipo", 1, 500))  # fmt: skip
SPAN = {"lipo": (2.95, 4.27), "lihv": (2.98, 4.42), "li-ion": (2.4, 4.27), "life": (2.4, 3.72), "nimh": (0.9, 1.7)}
USUAL = {"lipo": (3.6, 4.15), "lihv": (3.6, 4.3), "li-ion": (3.3, 4.1), "life": (3.1, 3.33), "nimh": (1.1, 1.4)}


def random_pack(rng, index, kind, usual_v):
    """One pack: mostly as packs are, sometimes weak, over full, aged, damaged, read by its total, or not at all."""
    chemistry, cells, mah = kind
    base = rng.uniform(*SPAN[chemistry]) if rng.random() < 0.15 else usual_v + rng.choice((0, 0.01, 0.03, 0.06, 0.2))
    apart = rng.choice((0.0, 0.01, 0.01, 0.03, 0.15))
    volts = [round(base + rng.choice((0, 0, -apart)), 2) for _ in range(cells)]
    more = {"max_charge_c": rng.choice((None, 1, 2, 3)), "discharge_c": rng.choice((None, 20, 75)),
            "connector": rng.choice((None, "XT60", "XT30"))}  # fmt: skip
    if rng.random() < 0.15:
        more["capacity_now_mah"] = mah * rng.choice((0.55, 0.75, 0.9, 1.2))
    if rng.random() < 0.08:
        more["condition"] = "damaged"
    if rng.random() < 0.1 and chemistry != "nimh" and cells > 1:
        more["pins"] = cells + rng.choice((0, 1, 1, 1, 2))
    made = pack(f"P{index}", *volts, mah=mah, chemistry=chemistry, **more)
    if rng.random() < 0.05:
        return replace(made, reading=None)
    if chemistry == "nimh" or rng.random() < 0.15:
        made = replace(made, reading=Reading(round(_odd_total(rng, chemistry, cells, volts), 2)))
    at = NOON - timedelta(hours=rng.choice((0, 0, 0, 0, 0, 0, 0.4, 1, 11, 13, 200)))
    warm_c = rng.choice((5.0, -2.0, 38.0, 47.0)) if rng.random() < 0.1 else rng.choice((None, None, 20.0))
    return replace(made, reading=replace(made.reading, taken_at=at, temperature_c=warm_c))


def _odd_total(rng, chemistry, cells, volts):
    """Mostly the sum; sometimes that of a full pack with one cell less, of this chemistry or of another."""
    if chemistry == "nimh" or cells < 3 or rng.random() < 0.8:
        return sum(volts)
    return (cells - 1) * (rng.choice((4.2, 4.35)) - rng.choice((0.0, 0.01, 0.03)))


def random_bench(seed, most=9):
    """A session with packs of every kind, a kit with narrow places, things that run, sources half used."""
    rng = random.Random(seed)
    kinds = {kind: rng.uniform(*USUAL[kind[0]]) for kind in rng.sample(KINDS, 2)}
    packs = tuple(random_pack(rng, index, *rng.choice(list(kinds.items()))) for index in range(rng.randint(1, most)))
    boards = tuple(
        Board(f"b{n}", rng.choice((2, 4, 6)), max_current_a=rng.choice((None, 10, 40)),
              port_fuse_a=rng.choice((None, 5, 10)), fuse_a=rng.choice((None, 15)), connector=rng.choice((None, "XT60")),
              chains_to="b0" if n and rng.random() < 0.4 else None)
        for n in range(rng.randint(0, 3))
    )  # fmt: skip
    feeds = rng.choice((None, "bank", "brick"))
    chargers = tuple(
        Charger(
            f"c{n}",
            tuple(
                Channel(f"c{n}-{k}", rng.choice((3, 12)), rng.choice((40, 200)), rng.choice((0.1, 0.5, 1.0)),
                        rng.choice((0.1, 0.5)), 1, rng.choice((4, 6, 8)), rng.choice((None, 10, 30)))
                for k in range(rng.randint(1, 2))
            ),
            feeds if rng.random() < 0.7 else None,
            efficiency=rng.choice((0.8, 0.9)),
            total_power_w=rng.choice((None, 60, 250)),
            power_by_input_v=rng.choice(((), ((12.0, 50.0), (24.0, 200.0)))),
            input_min_v=rng.choice((None, 10.0)),
        )
        for n in range(rng.randint(1, 2))
    )  # fmt: skip
    supply = Supply("brick", rng.choice((80, 300)), rng.choice((None, 5.0, 24.0)), rng.choice((None, "bank")), 0.9)
    source = Source("bank", rng.choice((None, 12.8)), None, rng.choice((60.0, 500.0)), rng.choice((None, 20, 60, 400)), 0.8,
                    taken_wh=rng.choice((0.0, 10.0)))  # fmt: skip
    rules = HouseRules(
        *rng.choice(((MatchBy.VOLTS_PER_CELL, 0.1), (MatchBy.VOLTS_PER_PACK, 0.3), (MatchBy.PERCENT_OF_HIGHEST, 5.0))),
        rate_c=rng.choice((None, 1.0, 2.0, 3.0)),
        join_peak_c=rng.choice((5.0, 5.0, None)),
    )
    session = Session(packs, Kit(boards, chargers, (supply,), (source,)), rules, starts_at=NOON)
    session = session.in_air(rng.choice((None, None, None, 20.0, 20.0, 20.0, 8.0, -5.0, 47.0))).at(NOON)
    return replace(session, running=_running(rng, session))


def _running(rng, session):
    """Up to one batch of one pack on the first channel."""
    fit = [one for one in session.packs if permits(session.bench)[one.id].charges]
    if not fit or rng.random() < 0.5:
        return ()
    channel = session.kit.chargers[0].channels[0]
    one = rng.choice(fit)
    amps = min(channel.max_current_a, 10.0, channel.max_power_w / (one.cells * 4.2)) * rng.uniform(0.3, 1)
    figures = (round(max(amps, 0.1), 1), float(rng.randint(1, 60)), session.rules)
    batch = running_at([one], None, channel.id, *figures)
    return (replace(batch, energy_left_wh=round(batch.energy_left_wh, 3)),)


# ---------------------------------------------------------------------------------------- the check, from the file alone

FULL = {"lipo": 4.20, "lihv": 4.35, "li-ion": 4.20, "life": 3.60, "nimh": 1.50}
BRIM = {**FULL, "life": 3.65}
REFUSE = {"lipo": 3.0, "lihv": 3.0, "li-ion": 2.5, "life": 2.5}
PLUG_A = {"XT30": 15.0, "XT60": 30.0}
EPS = 1e-6


def breaches(document, choice, amps, energy_in_wh, end_v=None):
    """What speaks against charging this now, by the file: every pack, limit, place and watt-hour, each in words.

    choice : packs, board, channel. energy_in_wh : what the charge takes at the source, as the offer says.
    """
    packs = {item["id"]: item for item in document["packs"]}
    members = [packs[tag] for tag in choice.packs]
    broken = [f"{tag} twice" for tag in set(choice.packs) if choice.packs.count(tag) > 1]
    for item in members:
        broken += _pack_breaches(item, len(members) > 1, amps)
        broken += _warmth_breaches(document, item, amps * held_ah(item) / sum(map(held_ah, members)))
    if len({(item["chemistry"], item["cells"]) for item in members}) > 1:
        broken.append("families mixed")
    broken += _joined_breaches(document, members) if len(members) > 1 else ()
    broken += _place_breaches(document, members, choice, amps, end_v)
    return [*broken, *_source_breaches(document, choice, members, amps, energy_in_wh, end_v)]


def held_ah(item):
    return item.get("capacity_now_mah", item["capacity_mah"]) / 1000


def _pack_breaches(item, joined, amps):
    volts = item.get("cell_volts")
    total = sum(volts) if volts else item.get("pack_volts")
    name, chemistry, cells = item["id"], item["chemistry"], item["cells"]
    if total is None or item.get("condition") == "damaged":
        yield f"{name} is damaged or not measured"
        return
    average, high, low = total / cells, max(volts or [total / cells]), min(volts or [total / cells])
    if chemistry == "nimh":
        if joined or average > 1.60 + EPS:
            yield f"{name}: nickel joined, or no nickel"
        return
    if high > BRIM[chemistry] + 0.02 + EPS or low < REFUSE[chemistry] - EPS:
        yield f"{name} is over full, or under its refuse volts"
    weak = (volts and max(volts) - min(volts) > 0.10 + EPS) or low <= REFUSE[chemistry] + 0.10 + EPS
    if weak and (joined or amps > 0.5 * held_ah(item) + EPS):
        yield f"{name} is weak"

    if not volts and cells > 1:
        yield from _total_breaches(item, joined)
    if item.get("pins") is not None and item["pins"] != cells + 1:
        yield f"{name} has another number of pins"
    looks_like_life = chemistry in ("lipo", "lihv", "li-ion") and low >= 3.25 and high <= 3.40 and high - low <= 0.03
    if volts and chemistry == "lipo" and looks_like_life and not item.get("chemistry_confirmed"):
        yield f"{name} reads as LiFe does"


def _total_breaches(item, joined):
    """A total that a full pack of fewer cells has as well, and pins that nobody counted."""
    name, chemistry, cells, total = item["id"], item["chemistry"], item["cells"], item["pack_volts"]
    if joined:
        yield f"{name} is joined by its total"
    counted = item.get("pins") == cells + 1 or item.get("cells_confirmed")
    if not counted and total / (cells - 1) <= BRIM[chemistry] + EPS:
        yield f"{name} may be a {cells - 1}S"
    if not counted and chemistry == "lipo" and abs(total / (cells - 1) - 4.35) <= 0.01 + EPS:
        yield f"{name} may be a full {cells - 1}S LiHV"


def _warmth_breaches(document, item, amps):
    """Cells that are, or may be, too cold or too warm to be charged, or too cold for more than half their capacity."""
    now = datetime.fromisoformat(document["starts_at"])
    warm_c, air_c, at = item.get("temperature_c"), document.get("air_c"), item.get("measured_at")
    fresh = at is None or now - datetime.fromisoformat(at) <= timedelta(minutes=30)
    known_c = warm_c if warm_c is not None and fresh else air_c
    for degrees in (warm_c, known_c):
        if degrees is not None and not 0 <= degrees <= 45:
            yield f"{item['id']} at {degrees} °C"
    if known_c is not None and known_c < 10 and amps > 0.5 * held_ah(item) + EPS:
        yield f"{item['id']} is cold"


def _joined_breaches(document, members):
    """Old readings, volts and warmth too far apart for one board."""
    now = datetime.fromisoformat(document["starts_at"])
    for item in members:
        at = item.get("measured_at")
        if at is not None and now - datetime.fromisoformat(at) > timedelta(hours=12):
            yield f"{item['id']} was read too long ago"
    rules, cells = document["rules"]["match"], members[0]["cells"]
    means = [
        sum(item.get("cell_volts") or (item["pack_volts"],))
        for item in members
        if "pack_volts" in item or "cell_volts" in item
    ]
    allowed_v = {"volts_per_cell": rules["limit"] * cells, "volts_per_pack": rules["limit"],
                 "percent_of_highest": max(means) * rules["limit"] / 100}[rules["by"]]  # fmt: skip
    if max(means) - min(means) > allowed_v + 1e-4:
        yield "volts too far apart"
    warm = [item["temperature_c"] for item in members if item.get("temperature_c") is not None
            and now - datetime.fromisoformat(item["measured_at"]) <= timedelta(minutes=30)]  # fmt: skip
    if warm and max(warm) - min(warm) > 15 + EPS:
        yield "one warm and one cold"


def _place_breaches(document, members, choice, amps, end_v):
    channels = {channel["id"]: channel for charger in document["chargers"] for channel in charger["channels"]}
    channel = channels[choice.channel]
    cells, whole = members[0]["cells"], sum(map(held_ah, members))
    step, least = channel.get("current_step_a", 0.1), channel.get("min_current_a", 0.1)
    if abs(amps / step - round(amps / step)) > 1e-6 or not least - EPS <= amps <= channel["max_current_a"] + EPS:
        yield f"{amps} A on {channel['id']}"
    if not channel.get("min_cells", 1) <= cells <= channel.get("max_cells", 6):
        yield "cells outside the channel"
    for item in members:
        own_c = choice.own_rate_c if choice.own_rate_c and item["chemistry"] == "lipo" else 1.0
        label_a = item.get("max_charge_c", min(own_c, 2.0)) * min(held_ah(item), item["capacity_mah"] / 1000)
        if amps * held_ah(item) / whole > label_a + EPS:
            yield f"{item['id']} passes its charge C"
    if amps * _full_v(document, members[0], end_v) > channel["max_power_w"] + EPS:
        yield "watts outside the channel"
    for batch in document.get("running", ()):
        if batch["channel"] == channel["id"] or set(batch["packs"]) & set(choice.packs):
            yield "taken by what runs"
    if len(members) > 1 and choice.board is None:
        yield "several packs without a board"
    if choice.board is not None:
        yield from _board_breaches(document, members, choice, amps, whole)


def _board_breaches(document, members, choice, amps, whole):
    boards = {board["id"]: board for board in document["boards"]}
    parts = [boards[choice.board]] if choice.board in boards else [boards[name] for name in choice.board.split(" + ")]
    ports = sum(board["ports"] for board in parts) - (len(parts) - 1)
    if len(members) > ports:
        yield "no room on the board"
    for board in parts[:1]:
        if amps > min(board.get("max_current_a") or 1e9, board.get("fuse_a") or 1e9) + EPS:
            yield "amps outside the board"
    largest = max(map(held_ah, members)) / whole
    fuses = [board["port_fuse_a"] for board in parts if board.get("port_fuse_a")]
    if len(parts) == 1 and fuses and amps * largest > fuses[0] + EPS:
        yield "a port fuse would blow"
    for item in members if len(parts) == 1 else ():
        plug, socket = item.get("connector"), parts[0].get("connector")
        if (
            plug
            and socket
            and plug != socket
            and amps * held_ah(item) / whole > min(PLUG_A[plug], PLUG_A[socket]) + EPS
        ):
            yield f"the adapter of {item['id']}"


def _chain(document, channel_id):
    """(charger, supplies, source) behind a channel."""
    charger = next(c for c in document["chargers"] if any(ch["id"] == channel_id for ch in c["channels"]))
    supplies, link = [], charger.get("fed_by")
    by_id = {item["id"]: item for item in document.get("supplies", ())}
    while link in by_id:
        supplies.append(by_id[link])
        link = by_id[link].get("fed_by")
    source = next((item for item in document.get("sources", ()) if item["id"] == link), None)
    return charger, supplies, source


def _source_breaches(document, choice, members, amps, energy_in_wh, end_v):
    charger, supplies, source = _chain(document, choice.channel)
    mine = _links(charger, supplies, source, amps * _full_v(document, members[0], end_v))
    taken_wh = source.get("taken_wh", 0.0) if source else 0.0
    for batch in document.get("running", ()):
        item = next(one for one in document["packs"] if one["id"] == batch["packs"][0])
        theirs = _links(*_chain(document, batch["channel"]), batch["current_a"] * _full_v(document, item))
        mine = {key: watts + theirs.get(key, 0.0) for key, watts in mine.items()}
        if source:
            taken_wh += theirs.get(("source", source["id"]), 0.0) * batch["minutes_left"] / 60
    own_w = mine["charger", charger["id"]]
    links = [
        ("charger", charger, charger.get("total_power_w")),
        *(("supply", item, item["max_power_w"]) for item in supplies),
    ]
    if source:
        links.append(("source", source, source["max_power_w"]))
    for kind, item, watts in links:
        if watts is not None and mine[kind, item["id"]] > watts + 1e-3:
            yield f"the watts of {item['id']}"
    if supplies or source:
        yield from _input_breaches(charger, supplies[0].get("output_v") if supplies else source.get("voltage_v"), own_w)
    if source and energy_in_wh + taken_wh > source.get("energy_wh", 1e9) * source.get("usable_fraction", 1.0) + 0.01:
        yield f"the source's watt-hours: {energy_in_wh} and {taken_wh} of {source['energy_wh']}"


def _full_v(document, item, end_v=None):
    return item["cells"] * (end_v or document["rules"].get("end_v", {}).get(item["chemistry"], FULL[item["chemistry"]]))


def _input_breaches(charger, input_v, own_w):
    table = sorted(map(tuple, charger.get("power_by_input_v", ())))
    if table:
        low, high = table
        along = 0 if input_v is None else min(max((input_v - low[0]) / (high[0] - low[0]), 0), 1)
        if own_w > low[1] + (high[1] - low[1]) * along + 1e-3:
            yield "the charger's watts at its input volts"
    if charger.get("input_min_v") and input_v is not None and input_v < charger["input_min_v"]:
        yield "the charger's input volts"


def _links(charger, supplies, source, watts):
    """Watts of each link for so many at the packs."""
    asked_w = {("charger", charger["id"]): watts}
    part = charger.get("efficiency", 0.85)
    for supply in supplies:
        asked_w["supply", supply["id"]] = watts / part
        part *= supply.get("efficiency", 0.88)
    if source:
        asked_w["source", source["id"]] = watts / part
    return asked_w


assert set(FULL) == set(CHEMISTRIES)
