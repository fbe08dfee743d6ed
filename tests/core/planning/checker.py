"""An independent check of a printed plan against a session file: every rule again, from the files alone.

It shares no code with the planner. The electrical model, which is checked elsewhere, says how long a batch takes.
"""

from collections import Counter
from dataclasses import replace
from itertools import pairwise

from iterum.core.electrical.charging import charge_packs
from iterum.core.electrical.joining import joining
from iterum.core.permit.permit import permit_of
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.core.things.packs import Reading
from iterum.exchange.session import from_document

EPS = 1e-4


def violations(document, plan):
    """Every rule that the plan breaks, in words; empty when it breaks none."""
    return list(_violations(document, plan))


def violations_on_the_way(document, done, plan, flown=()):
    """The same for a plan made while another was followed: what charges is as it is, the rest obeys every rule.

    document : the session as it is now. done : batches that are over. flown : the packs of each heat that has begun.
    Times from now.
    """
    return [
        *_on_the_way(document, done, plan, flown),
        *_nobody_flies_empty(document, [*done, *plan["batches"]], plan, flown),
    ]


def _nobody_flies_empty(document, batches, plan, flown):
    """Every pack that counts for a heat was charged once more often than it has flown, or was full to begin with."""
    flights = Counter(tag for packs in flown for tag in packs)
    charges = Counter(tag for batch in batches for tag in batch["packs"])
    session = from_document(document)
    judged = {pack.id: permit_of(pack, session.rules) for pack in session.packs}
    for heat in sorted(plan["wanted"], key=lambda heat: heat["at_min"]):
        if heat["fly_min"] and heat["at_min"] > 0:
            fresh = [tag for tag in heat["packs"] if charges[tag] + judged[tag].full > flights[tag]]
            if len(fresh) < heat["have"]:
                yield f"{heat['at_min']}: {heat['have']} told, {fresh} charged"
            flights.update(heat["packs"])


def _on_the_way(document, done, plan, flown):
    session = from_document(document)
    packs = {pack["id"]: pack for pack in document["packs"]}
    kit = {channel["id"]: (charger, channel) for charger in document["chargers"] for channel in charger["channels"]}
    rules = document.get("rules", {})
    to_come = [batch for batch in plan["batches"] if batch["lead_min"] > 0]
    listed = [(tag, number) for batch in to_come for tag, number in zip(batch["packs"], batch["rounds"], strict=True)]
    if len(listed) != len(set(listed)):
        yield "a pack is charged twice"
    named = {tag for batch in plan["batches"] for tag in batch["packs"]} | {left["id"] for left in plan["left_out"]}
    if set(packs) - named - {tag for wish in plan["wanted"] for tag in wish["packs"]}:
        yield f"packs that nothing names: {sorted(set(packs) - named)}"
    for batch in to_come:
        if batch["channel"] not in kit:
            yield f"{batch['channel']} is gone"
            continue
        board = next((item for item in document.get("boards", ()) if item["id"] == batch["board"]), None)
        members = [
            _as_it_comes(packs[tag], number, document)
            for tag, number in zip(batch["packs"], batch["rounds"], strict=True)
        ]
        yield from _group(members, batch, board, rules)
        yield from _amps(members, batch, *kit[batch["channel"]], board, document)
        yield from _minutes(session, batch, bool(flown) or any(heat["fly_min"] for heat in plan["wanted"]))
        if any(
            heat["fly_min"]
            and heat["at_min"] + EPS < batch["lead_min"]
            and batch["start_min"] < heat["at_min"] + heat["fly_min"] - EPS
            for heat in plan["wanted"]
        ):
            yield f"somebody sets up {batch['packs']} while away"
    yield from _overlaps(plan["batches"], rules.get("setup_min", 3))
    yield from _power_and_energy({**plan, "batches": [*done, *plan["batches"]]}, document, kit, {
        batch["source"] for batch in to_come})  # fmt: skip


def _violations(document, plan):
    session = from_document(document)
    packs = {pack["id"]: pack for pack in document["packs"]}
    boards = {board["id"]: board for board in document.get("boards", ())}
    chargers = {
        channel["id"]: (charger, channel) for charger in document["chargers"] for channel in charger["channels"]
    }
    listed = [
        (tag, number) for batch in plan["batches"] for tag, number in zip(batch["packs"], batch["rounds"], strict=True)
    ]
    left = [left["id"] for left in plan["left_out"] if left["round"] == 1]
    flown = {tag for wish in plan["wanted"] for tag in wish["packs"]}  # full ones may fly without a charge before
    if len(listed) != len(set(listed)) or {tag for tag, _ in listed} | set(left) | flown != set(packs):
        yield f"packs listed {sorted(listed)}"
    running = {tag for batch in document.get("running", ()) for tag in batch["packs"]}
    if running & {tag for tag, _ in listed} or not running <= set(left):
        yield f"packs that charge already are planned, or not named: {sorted(running)}"
    for batch in plan["batches"]:
        members = [
            _as_it_comes(packs[tag], number, document)
            for tag, number in zip(batch["packs"], batch["rounds"], strict=True)
        ]
        yield from _group(members, batch, boards.get(batch["board"]), document.get("rules", {}))
        yield from _amps(members, batch, *chargers[batch["channel"]], boards.get(batch["board"]), document)
        yield from _minutes(session, batch, any(heat["fly_min"] for heat in plan["wanted"]))
    yield from _overlaps(plan["batches"], document.get("rules", {}).get("setup_min", 3))
    yield from _power_and_energy(plan, document, chargers, {source["id"] for source in document.get("sources", ())})
    if plan["bound_min"] is not None and plan["bound_min"] > plan["makespan_min"] + EPS:
        yield "the bound is over the makespan"
    if (plan["gap"] is None) != (plan["bound_min"] is None) or (plan["proved"] and plan["bound_min"] is None):
        yield "something is said about the best plan without a bound"
    ends = [batch["end_min"] for batch in plan["batches"]]
    if abs(max(ends, default=0) - plan["makespan_min"]) > EPS:
        yield "the makespan is not the last end"
    if any(wish["fly_min"] for wish in plan["wanted"]):
        yield from _day(document, plan)
        return
    for wish in plan["wanted"]:
        full = [b["full_min"] for b in plan["batches"] if b["class"] == wish["class"] for _ in b["packs"]]
        full += [
            0.0 for left in plan["left_out"] if left["code"] == "full" and _family(packs[left["id"]]) == wish["class"]
        ]
        if wish["met"] != (sum(end <= wish["at_min"] + EPS for end in full) >= wish["count"]):
            yield f"wish {wish} is not as told"


def _as_it_comes(pack, number, document):
    """The pack as it is, or, from its second time round on, as low as the heats of its class leave it."""
    if number == 1:
        return pack
    family = f"{pack['chemistry']}-{pack['cells']}S"
    volts = round(CHEMISTRIES[pack["chemistry"]].table.rest_v(_left(from_document(document).wanted, family)), 3)
    return {**pack, "cell_volts": _apart_as_before(pack.get("cell_volts"), volts, pack["cells"])}


def _left(wanted, family):
    """How full a pack of a class comes back, 0..1: all heats of a class are alike in these files."""
    heats = [wish for wish in wanted if wish.family == family]
    return round(heats[0].need - heats[0].used_fraction, 6) if heats else 0.2


def _apart_as_before(was, volts, cells):
    """Cells that were over 0.10 V apart are so again; others are taken to be alike."""
    if not was or max(was) - min(was) <= 0.10 + 1e-9:
        return [volts] * cells
    return [round(volts + one - sum(was) / cells, 3) for one in was]


def _day(document, plan):
    """The day told again from the plan alone: who is full when heats begin, and nobody charged while away."""
    setup_min = document.get("rules", {}).get("setup_min", 3)
    heats = sorted(plan["wanted"], key=lambda heat: heat["at_min"])
    charges = {}
    for batch in plan["batches"]:
        for heat in heats:
            if (
                heat["fly_min"]
                and heat["at_min"] + EPS < batch["start_min"] + setup_min
                and batch["start_min"] < heat["at_min"] + heat["fly_min"] - EPS
            ):
                yield f"somebody sets up {batch['packs']} while away"
        for tag, number in zip(batch["packs"], batch["rounds"], strict=True):
            charges[tag, number] = batch
    flights = {}
    full = {left["id"] for left in plan["left_out"] if left["code"] == "full"}
    for heat in heats:
        ready = []
        for tag in heat["packs"]:
            before = flights.get(tag, [])
            charge = charges.get((tag, len(before) + 1))
            if before and charge and charge["start_min"] < before[-1] - EPS:
                yield f"{tag} is charged before it is back and has rested"
            if charge or (tag in full and not before):
                ready.append(charge["full_min"] if charge else 0.0)
            if heat["fly_min"]:
                gone = max(heat["at_min"], ready[-1] if ready and charge else 0.0)
                flights.setdefault(tag, []).append(gone + heat["fly_min"] + 15)
        if len(set(heat["packs"])) < len(heat["packs"]) or heat["have"] != sum(
            end <= heat["at_min"] + EPS for end in ready
        ):
            yield f"heat {heat['name']} is not as told"


def _family(pack):
    return f"{pack['chemistry']}-{pack['cells']}S"


def _volts(pack):
    return sum(pack["cell_volts"]) if "cell_volts" in pack else pack["pack_volts"]


def _group(members, batch, board, rules):
    if {_family(pack) for pack in members} != {batch["class"]}:
        yield "families mixed"
    if any(
        pack.get("condition") == "damaged" or not ("cell_volts" in pack or "pack_volts" in pack) for pack in members
    ):
        yield "a damaged or unmeasured pack is charged"
    if len(members) == 1:
        return
    if board is None:
        yield "several packs without a board"
        return
    cells = members[0]["cells"]
    if len(members) > board["ports"] or not board.get("min_cells", 1) <= cells <= board.get("max_cells", 14):
        yield "the board does not take them"
    match = rules.get("match", {"by": "volts_per_cell", "limit": 0.10})
    volts = [_volts(pack) for pack in members]
    spread = max(volts) - min(volts)
    allowed = {"volts_per_cell": match["limit"] * cells, "volts_per_pack": match["limit"],
               "percent_of_highest": max(volts) * match["limit"] / 100}[match["by"]]  # fmt: skip
    if spread > allowed + 1e-9:
        yield f"{spread} V apart, allowed {allowed}"
    limit = match["limit"] if match["by"] == "volts_per_cell" else 0.10
    for column in zip(*(pack["cell_volts"] for pack in members if "cell_volts" in pack), strict=True):
        if max(column) - min(column) > limit + 1e-9:
            yield "cells apart"
        if max(max(p["cell_volts"]) - min(p["cell_volts"]) for p in members) > 0.10 + 1e-9:
            yield "a pack whose own cells are apart shares a board"
    ratio = rules.get("max_capacity_ratio", 2.0)
    sizes = [pack["capacity_mah"] for pack in members]
    if ratio is not None and max(sizes) > ratio * min(sizes) + 1e-9:
        yield "capacities too unlike"


def _ah(pack):
    return min(pack.get("capacity_now_mah", pack["capacity_mah"]), pack["capacity_mah"]) / 1000


def _amps(members, batch, charger, channel, board, document):
    amps, total_ah = batch["current_a"], sum(_ah(pack) for pack in members)
    cells, chemistry = members[0]["cells"], CHEMISTRIES[members[0]["chemistry"]]
    full_v = cells * document.get("rules", {}).get("end_v", {}).get(chemistry.name, chemistry.full_v)
    step = channel.get("current_step_a", 0.1)
    if abs(amps / step - round(amps / step)) > 1e-6:
        yield f"{amps} A is no multiple of {step}"
    if not channel.get("min_current_a", 0.1) - EPS <= amps <= channel["max_current_a"] + EPS:
        yield "amps outside the channel"
    if not channel.get("min_cells", 1) <= cells <= channel.get("max_cells", 6):
        yield "cells outside the channel"
    if amps > min(pack.get("max_charge_c", 1.0) for pack in members) * total_ah + EPS:
        yield "a pack passes its charge C"
    if amps * full_v > channel["max_power_w"] + EPS:
        yield "watts outside the channel"
    if board and amps > board.get("max_current_a", 1e9) + EPS:
        yield "amps outside the board"
    if board and amps * max(map(_ah, members)) / total_ah > board.get("port_fuse_a", 1e9) + EPS:
        yield "a port fuse would blow"


def _flown(pack, session):
    volts = round(pack.chemistry.table.rest_v(_left(session.wanted, pack.family)), 3)
    was = pack.reading.cell_v if pack.reading else None
    return replace(pack, reading=Reading.of_cells(tuple(_apart_as_before(was, volts, pack.cells))))


def _minutes(session, batch, for_heats):
    packs = [
        next(pack if number == 1 else _flown(pack, session) for pack in session.packs if pack.id == tag)
        for tag, number in zip(batch["packs"], batch["rounds"], strict=True)
    ]
    where = replace(session.bench, running=()).setup(batch["board"], batch["channel"])
    if where.feed.input_fault():
        yield "the charger's input volts are wrong"
    verdict = joining(packs, session.rules, where.port, batch["rate_c"]) if len(packs) > 1 else None
    if verdict and not verdict.passes:
        yield "joining breaks its rule"
    wait_min = verdict.wait_min if verdict else 0.0
    if batch["lead_min"] < batch["start_min"] + session.rules.setup_min + wait_min - 0.01:
        yield f"{batch['packs']} charge before they have evened out for {wait_min} min"
    start = verdict.start if verdict else None
    rules = session.rules
    if batch["until_fraction"] < 1:  # as full as its flights need, and no less
        chemistry = packs[0].chemistry
        if batch["end_v"] < chemistry.table.rest_v(batch["until_fraction"]) - EPS:
            yield f"{batch['packs']} end at {batch['end_v']} V"
        rules = replace(rules, end_v={**rules.end_v, chemistry.name: batch["end_v"]})
    full = charge_packs(packs, where, rules, batch["current_a"], start)
    given, whole = batch["full_min"] - batch["lead_min"], batch["end_min"] - batch["lead_min"]
    if given < full.minutes - 0.01:
        yield f"{batch['packs']} are not full by then: {given} of {full.minutes} min"
    if whole < given - 0.01 or (not for_heats and whole < given + full.balance_min - 0.01):
        yield f"{batch['packs']} are not balanced by then"


def _overlaps(batches, setup_min):
    for key, length in (("channel", None), ("board", None), ("person", setup_min)):
        taken = {}
        for batch in batches:
            name = batch.get(key, "hands")
            end = batch["end_min"] if length is None else batch["start_min"] + length
            if name is not None:
                taken.setdefault(name, []).append((batch["start_min"], end))
        for name, times in taken.items():
            times.sort()
            if any(low[1] > high[0] + EPS for low, high in pairwise(times)):
                yield f"{key} {name} is taken twice"


def _power_and_energy(plan, document, chargers, asked):  # noqa: C901 (one figure after the other)
    """Watts and watt-hours of everything; `asked` are the sources that may not give more than they have."""
    sources = {source["id"]: source for source in document.get("sources", ())}
    supplies = {supply["id"]: supply for supply in document.get("supplies", ())}
    loads, used = [], dict.fromkeys(sources, 0.0)
    for batch in plan["batches"]:
        if batch["end_min"] <= 0 and batch["source"] in used:  # over: only its energy counts
            used[batch["source"]] += batch["energy_in_wh"]
        if batch["end_min"] <= 0:
            continue
        charger, _ = chargers[batch["channel"]]
        pack = next(pack for pack in document["packs"] if pack["id"] == batch["packs"][0])
        chemistry = CHEMISTRIES[pack["chemistry"]]
        end_v = document.get("rules", {}).get("end_v", {}).get(chemistry.name, chemistry.full_v)
        at_packs = batch["current_a"] * pack["cells"] * end_v
        at_charger = at_packs / charger.get("efficiency", 0.85)
        supply = supplies.get(charger.get("fed_by"))
        source = sources.get(supply.get("fed_by") if supply else charger.get("fed_by"))
        at_source = at_charger / (supply.get("efficiency", 0.88) if supply else 1)
        window = batch["lead_min"], batch["end_min"]
        loads.append((*window, ("charger", charger["id"]), at_packs, charger.get("total_power_w", 1e9)))
        if supply:
            loads.append((*window, ("supply", supply["id"]), at_charger, supply["max_power_w"]))
        if source:
            limits = [source["max_power_w"]] if source.get("max_power_w") else []
            if source.get("max_current_a"):
                limits.append(source["max_current_a"] * source["voltage_v"])
            loads.append((*window, ("source", source["id"]), at_source, min(limits, default=1e9)))
            used[source["id"]] += batch["energy_in_wh"]
    for start, _, name, _, limit in loads:
        drawn = sum(watts for low, high, other, watts, _ in loads if other == name and low <= start + EPS < high)
        if drawn > limit + 1e-3:
            yield f"{name} gives {drawn} W, limit {limit}"
    for use in plan["sources"]:
        source = sources[use["id"]]
        if abs(use["used_wh"] - used[use["id"]]) > 0.01:
            yield f"{use['id']}: energy is not the sum of its batches"
        if source.get("energy_wh") is not None and use["id"] in asked:
            if used[use["id"]] > source["energy_wh"] * source.get("usable_fraction", 1.0) + 0.01:
                yield f"{use['id']} gives more than it may"
