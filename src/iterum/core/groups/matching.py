"""Which packs may share a board: as few groups as can be, then the narrowest windows.

Every rule (window on volts, window cell by cell, ratio of capacities) compares two packs at a time, and a
group is within a rule exactly when all its pairs are. So groups are cliques of a "may join" graph, at most
`ports` large, and the task is to cover all packs with the fewest of them. `grouping` holds that search.
"""

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

from iterum.core.groups.group import (
    MOST_APART_C,
    Group,
    average_v,
    figures,
    group_size_limit,
    in_plug_order,
    judge_group,
    obstacles,
    rest_v,
)
from iterum.core.groups.grouping import cover
from iterum.core.permit.facts import Act
from iterum.core.permit.permit import Permit, permit_of
from iterum.core.quantities import NOISE, floor_to_step
from iterum.core.reasons import Reason, reason
from iterum.core.things.chemistry import END_STEP_V
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules, MatchBy


@dataclass(frozen=True)
class Lift:
    """Packs to be charged first, by themselves, up to a voltage per cell at which all may join."""

    packs: tuple[Pack, ...]
    until_v: float


@dataclass(frozen=True)
class LeftOut:
    """A pack that shares no board now: the reason that binds, and what would mend it.

    lift : what is to be charged first, where that mends it.
    """

    pack: Pack
    reason: Reason
    fix: Reason
    lift: Lift | None = None


@dataclass(frozen=True)
class Matching:
    """Groups and left-out packs of one evening.

    proven : whether no smaller number of groups exists; where the search ran out, it is the best found.
    """

    groups: tuple[Group, ...]
    left_out: tuple[LeftOut, ...]
    verdicts: tuple[Permit, ...]
    proven: bool


def _may_join_masks(packs: Sequence[Pack], rules: HouseRules) -> list[int]:
    """For each pack a bit mask of the packs it may share a board with. `packs` rise in volts."""
    volts = [rest_v(pack) for pack in packs]
    cells = packs[0].cells
    limit = rules.match_limit
    cell_limit_v = rules.cell_window_v() + NOISE
    ratio = rules.max_capacity_ratio
    masks = [1 << index for index in range(len(packs))]
    for low in range(len(packs)):
        low_cells = packs[low].reading.cell_v  # type: ignore[union-attr]
        low_mah, low_c = packs[low].capacity_mah, packs[low].temperature_c
        for high in range(low + 1, len(packs)):
            if rules.match_by is MatchBy.VOLTS_PER_CELL:
                within = volts[high] / cells - volts[low] / cells <= limit + NOISE
            elif rules.match_by is MatchBy.VOLTS_PER_PACK:
                within = volts[high] - volts[low] <= limit + NOISE
            else:
                within = volts[high] - volts[low] <= volts[high] * limit / 100 + NOISE
            if not within:
                break  # volts rise, so no later pack is nearer
            high_mah = packs[high].capacity_mah
            if ratio is not None and max(low_mah, high_mah) > min(low_mah, high_mah) * ratio + NOISE:
                continue
            if not packs[low].may_meet(packs[high]):
                continue
            high_c = packs[high].temperature_c
            if low_c is not None and high_c is not None and abs(high_c - low_c) > MOST_APART_C + NOISE:
                continue
            high_cells = packs[high].reading.cell_v  # type: ignore[union-attr]
            if low_cells and high_cells:
                if any(abs(a - b) > cell_limit_v for a, b in zip(low_cells, high_cells, strict=True)):
                    continue
            masks[low] |= 1 << high
            masks[high] |= 1 << low
    return masks


def unfit(verdict: Permit) -> LeftOut | None:
    """Why a pack shares no board whatever the others are, or None when it may."""
    pack = verdict.pack
    told = verdict.against(Act.CHARGE)
    if verdict.full and not told:  # a full pack needs no charge, alone or with others
        code = "fix_full" if pack.chemistry.joins else "fix_full_nickel"
        return LeftOut(pack, verdict.fullness[0], reason(code, id=pack.id))
    for item in told or verdict.against(Act.JOIN):
        return LeftOut(pack, item, reason(f"fix_{item.code}", id=pack.id))
    return None


# ---------------------------------------------------------------------------------------- packs left on their own


def _alone(pack: Pack, groups: Sequence[Sequence[Pack]], rules: HouseRules, ports: int | None) -> LeftOut:
    """Why a fit pack is left on its own, judged against the whole of the nearest group, and what would mend it."""
    alone = reason("fix_alone", id=pack.id)
    if ports == 0:
        return LeftOut(pack, reason("no_board", cells=pack.cells), alone)
    if not groups:
        return LeftOut(pack, reason("only_one", family=pack.family), alone)
    by_distance = sorted(groups, key=lambda group: min(abs(average_v(item) - average_v(pack)) for item in group))
    for group in by_distance:
        lift = _lift(pack, group, rules, ports)
        if lift is not None:
            first = obstacles((*group, pack), rules, ports)[0]
            code = "fix_charge_up" if lift.packs == (pack,) else "fix_lift_others"
            others = tuple(item.id for item in group)
            ids = tuple(item.id for item in lift.packs)
            fix = reason(code, id=pack.id, ids=ids, others=others, until_v=lift.until_v)
            return LeftOut(pack, _told_against(first, pack, group), fix, lift)
    first = obstacles((*by_distance[0], pack), rules, ports)[0]
    fix = reason("fix_next_batch", id=pack.id) if first.code == "no_port_left" else alone
    return LeftOut(pack, _told_against(first, pack, by_distance[0]), fix)


def _told_against(first: Reason, pack: Pack, group: Sequence[Pack]) -> Reason:
    """The obstacle with the group that it stands against."""
    nearest = min(group, key=lambda item: (abs(average_v(item) - average_v(pack)), figures(item))).id
    if first.code == "ports_full":
        return reason("no_port_left", nearest=nearest, ports=first.numbers["ports"])
    return Reason(first.code, {**first.numbers, "nearest": nearest})


def raised(pack: Pack, until_v: float) -> Pack:
    """The pack charged by itself up to a voltage per cell: every cell comes up by as much as the average does.

    until_v : V per cell to which it is charged.
    """
    gain_v = max(until_v - average_v(pack), 0.0)
    assert pack.reading is not None  # its average was just asked for
    cell_v = tuple(round(volts + gain_v, 9) for volts in pack.reading.cell_v)
    total_v = round(pack.reading.pack_v + gain_v * pack.cells, 9)
    return replace(pack, reading=replace(pack.reading, cell_v=cell_v, pack_v=total_v))


def _lift(pack: Pack, group: Sequence[Pack], rules: HouseRules, ports: int | None) -> Lift | None:
    """What is to be charged first so that every obstacle is gone: the pack itself where it is low, else the group.

    To the middle of the volts that would do, so that rounding on a meter does not put it outside again.
    """
    if not any(item.code in ("window_too_wide", "same_cell_apart") for item in obstacles((*group, pack), rules, ports)):
        return None
    low = average_v(pack) < sum(map(average_v, group)) / len(group)
    lifted: Sequence[Pack] = (pack,) if low else group
    stay: Sequence[Pack] = group if low else (pack,)
    from_v = floor_to_step(min(map(average_v, lifted)), END_STEP_V)
    steps = round((floor_to_step(max(map(average_v, stay)), END_STEP_V) - from_v) / END_STEP_V)
    fits = []
    for step in range(1, steps + 1):
        until_v = round(from_v + step * END_STEP_V, 2)
        if not obstacles((*(raised(item, until_v) for item in lifted), *stay), rules, ports):
            fits.append(until_v)
    if not fits:
        return None
    return Lift(tuple(lifted), fits[len(fits) // 2])


def match_packs(
    packs: Sequence[Pack],
    rules: HouseRules,
    ports_for: Callable[[int], int | None],
    verdicts: Mapping[str, Permit] | None = None,
) -> Matching:
    """Group measured packs for boards: each group inside every rule, as few as can be, then narrowest.

    ports_for : most ports of a board for a number of cells; 0 without one, None when no board is known at all.
    verdicts : by pack, where they are known already. Packs that are unfit, full or near no other are left out, each
    with the reason and a fix.
    """
    judged = tuple((verdicts or {}).get(pack.id) or permit_of(pack, rules) for pack in packs)
    left_out: list[LeftOut] = []
    families: dict[str, list[Pack]] = defaultdict(list)
    for verdict in judged:
        left = unfit(verdict)
        if left is None:
            families[verdict.pack.family].append(verdict.pack)
        else:
            left_out.append(left)
    groups: list[Group] = []
    proven = True
    for members in families.values():
        grouped, alone, family_proven = _grouped(tuple(members), rules, ports_for(members[0].cells))
        groups += grouped
        left_out += alone
        proven = proven and family_proven
    return Matching(tuple(groups), tuple(left_out), judged, proven)


@lru_cache(maxsize=512)
def _grouped(
    members: tuple[Pack, ...], rules: HouseRules, ports: int | None
) -> tuple[tuple[Group, ...], tuple[LeftOut, ...], bool]:
    """Groups of the fit packs of one family, those left on their own, and whether fewer groups were ruled out.

    Families never mix, so what one of them comes to is worked out once for the same packs.
    """
    ordered = in_plug_order(members)
    limit = group_size_limit(rules, ports)
    covered = cover(
        [average_v(pack) for pack in ordered],
        _may_join_masks(ordered, rules),
        len(ordered) if limit is None else max(limit, 1),
    )
    sets = [[ordered[index] for index in indices] for indices in covered.groups]
    groups, alone = [], []
    for chosen in sets:
        if len(chosen) == 1:
            alone.append(_alone(chosen[0], [group for group in sets if group is not chosen], rules, limit))
        else:
            groups.append(judge_group(chosen, rules, ports))
    return tuple(groups), tuple(alone), covered.proven
