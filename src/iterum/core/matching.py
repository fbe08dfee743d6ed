"""Which packs may share a board: as few groups as can be, then the narrowest windows.

Every rule (window on volts, window cell by cell, ratio of capacities) compares two packs at a time, and a
group is within a rule exactly when all its pairs are. So groups are cliques of a "may join" graph, at most
`ports` large, and the task is to cover all packs with the fewest of them. `grouping` holds that search.
"""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

from iterum.core.grouping import cover
from iterum.core.kit import Kit
from iterum.core.packs import KEEPS_FROM_BOARD, KEEPS_FROM_CHARGE, Pack, PackVerdict, judge_pack
from iterum.core.quantities import NOISE, at_most, difference, spread
from iterum.core.reasons import Reason, reason
from iterum.core.rules import HouseRules, MatchBy


@dataclass(frozen=True)
class Window:
    """How far apart a group is on the school's own measure, and how far it may be.

    per : "cell" or "pack", what the volts are counted over.
    """

    spread_v: float
    allowed_v: float
    per: str


@dataclass(frozen=True)
class Group:
    """Packs that may share a board.

    plug_in_order : ids in the order to plug them in. worst_cell_gap_v : largest difference between the same
    cell of two packs, None unless every cell was read. reasons : why it may not be, empty when it may.
    """

    packs: tuple[Pack, ...]
    window: Window
    worst_cell_gap_v: float | None
    worst_cell: int | None
    cell_allowed_v: float
    plug_in_order: tuple[str, ...]
    reasons: tuple[Reason, ...] = ()

    @property
    def family(self) -> str:
        """Chemistry and cells: "lipo-4S"."""
        return self.packs[0].family

    @property
    def allowed(self) -> bool:
        """Whether every rule holds."""
        return not self.reasons


@dataclass(frozen=True)
class LeftOut:
    """A pack that shares no board now: the reason that binds, and what would mend it."""

    pack: Pack
    reason: Reason
    fix: Reason


@dataclass(frozen=True)
class Matching:
    """Groups and left-out packs of one evening.

    proven : whether no smaller number of groups exists; where the search ran out, it is the best found.
    """

    groups: tuple[Group, ...]
    left_out: tuple[LeftOut, ...]
    verdicts: tuple[PackVerdict, ...]
    proven: bool


def _rest_v(pack: Pack) -> float:
    """Rest volts of the whole pack. Raises ValueError for a pack without a reading."""
    if pack.reading is None:
        raise ValueError(f"{pack.id} has no reading")
    return pack.reading.pack_v


def _average_v(pack: Pack) -> float:
    return _rest_v(pack) / pack.cells


def measure_window(packs: Sequence[Pack], rules: HouseRules) -> Window:
    """How far apart measured packs of one family are under the school in force."""
    volts = [_rest_v(pack) for pack in packs]
    if rules.match_by is MatchBy.VOLTS_PER_CELL:
        return Window(difference(max(volts) / packs[0].cells, min(volts) / packs[0].cells), rules.match_limit, "cell")
    if rules.match_by is MatchBy.VOLTS_PER_PACK:
        return Window(spread(volts), rules.match_limit, "pack")
    return Window(spread(volts), max(volts) * rules.match_limit / 100, "pack")


def _cell_gap(packs: Sequence[Pack]) -> tuple[float, int] | tuple[None, None]:
    """Largest difference (V) between the same cell of two packs, and that cell's number."""
    readings = [pack.reading.cell_v for pack in packs if pack.reading and pack.reading.cell_v]
    if len(readings) < 2:
        return None, None
    gaps = [spread(column) for column in zip(*readings, strict=True)]
    worst = max(range(len(gaps)), key=gaps.__getitem__)
    return gaps[worst], worst + 1


def obstacles(packs: Sequence[Pack], rules: HouseRules, ports: int | None = None) -> tuple[Reason, ...]:
    """Every rule that keeps these measured packs from sharing one board, each with its numbers."""
    found: list[Reason] = []
    families = sorted({pack.family for pack in packs})
    if len(families) > 1:
        return (reason("families_differ", families=tuple(families)),)
    if not packs[0].chemistry.joins:
        return (reason("ends_by_drop", chemistry=packs[0].chemistry.label),)
    window = measure_window(packs, rules)
    if not at_most(window.spread_v, window.allowed_v):
        found.append(_window_reason(packs, window))
    gap_v, cell = _cell_gap(packs)
    if gap_v is not None and not at_most(gap_v, rules.cell_window_v()):
        found.append(
            reason(
                "same_cell_apart",
                gap_v=gap_v,
                allowed_v=rules.cell_window_v(),
                cell=cell,
                over_v=gap_v - rules.cell_window_v(),
            )
        )
    capacities = [pack.capacity_mah for pack in packs]
    if rules.max_capacity_ratio is not None and not at_most(
        max(capacities), min(capacities) * rules.max_capacity_ratio
    ):
        found.append(
            reason(
                "capacities_differ",
                largest_mah=max(capacities),
                smallest_mah=min(capacities),
                ratio=max(capacities) / min(capacities),
                allowed_ratio=rules.max_capacity_ratio,
            )
        )
    limit = group_size_limit(rules, ports)
    if limit is not None and len(packs) > limit:
        found.append(reason("ports_full", count=len(packs), ports=limit))
    return tuple(found)


def _window_reason(packs: Sequence[Pack], window: Window) -> Reason:
    low = min(packs, key=_rest_v)
    high = max(packs, key=_rest_v)
    return reason(
        "window_too_wide",
        spread_v=window.spread_v,
        allowed_v=window.allowed_v,
        over_v=window.spread_v - window.allowed_v,
        per=window.per,
        low=low.id,
        high=high.id,
    )


def group_size_limit(rules: HouseRules, ports: int | None) -> int | None:
    """Most packs in one group: the board's ports and the house rule, whichever is less."""
    limits = [limit for limit in (ports, rules.max_packs) if limit is not None]
    return min(limits, default=None)


def in_plug_order(packs: Sequence[Pack]) -> tuple[Pack, ...]:
    """The packs from lowest to highest rest volts.

    So the odd one goes in last when it is high (the others share what it pushes) and never last when it is
    low (it would take everything). Common practice, no source.
    """
    return tuple(sorted(packs, key=lambda pack: (_rest_v(pack), pack.id)))


def plug_in_order(packs: Sequence[Pack]) -> tuple[str, ...]:
    """Ids of the packs in the order to plug them in."""
    return tuple(pack.id for pack in in_plug_order(packs))


def judge_group(packs: Sequence[Pack], rules: HouseRules, ports: int | None = None) -> Group:
    """The verdict on packs that someone wants on one board, whether found by `match` or moved by hand."""
    gap_v, cell = _cell_gap(packs)
    return Group(
        packs=in_plug_order(packs),
        window=measure_window(packs, rules),
        worst_cell_gap_v=gap_v,
        worst_cell=cell,
        cell_allowed_v=rules.cell_window_v(),
        plug_in_order=plug_in_order(packs),
        reasons=obstacles(packs, rules, ports),
    )


def _may_join_masks(packs: Sequence[Pack], rules: HouseRules) -> list[int]:
    """For each pack a bit mask of the packs it may share a board with. `packs` rise in volts."""
    volts = [_rest_v(pack) for pack in packs]
    cells = packs[0].cells
    limit = rules.match_limit
    cell_limit_v = rules.cell_window_v() + NOISE
    ratio = rules.max_capacity_ratio
    masks = [1 << index for index in range(len(packs))]
    for low in range(len(packs)):
        low_cells = packs[low].reading.cell_v  # type: ignore[union-attr]
        low_mah = packs[low].capacity_mah
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
            high_cells = packs[high].reading.cell_v  # type: ignore[union-attr]
            if low_cells and high_cells:
                if any(abs(a - b) > cell_limit_v for a, b in zip(low_cells, high_cells, strict=True)):
                    continue
            masks[low] |= 1 << high
            masks[high] |= 1 << low
    return masks


_LEFT_OUT_ORDER = ("damaged", "below_refuse", "over_full", "count_doubt", "cells_apart_stop", "not_measured",
                   "charged_since", "too_hot", "too_cold", "ends_by_drop")  # fmt: skip


def unfit(verdict: PackVerdict) -> LeftOut | None:
    """Why a pack shares no board whatever the others are, or None when it may."""
    pack = verdict.pack
    for code in _LEFT_OUT_ORDER:
        for item in verdict.reasons:
            if item.code == code:
                return LeftOut(pack, item, reason(f"fix_{code}", id=pack.id))
    if verdict.full:
        item = next(item for item in verdict.reasons if item.code == "full")
        return LeftOut(pack, item, reason("fix_full", id=pack.id))
    return None


def _alone(pack: Pack, others: Sequence[Pack], rules: HouseRules, kit: Kit) -> LeftOut:
    """Why a fit pack is left on its own, judged against its nearest neighbour, and what would mend it."""
    if kit.ports_for(pack.cells) == 0:
        return LeftOut(pack, reason("no_board", cells=pack.cells), reason("fix_alone", id=pack.id))
    neighbours = sorted(others, key=lambda other: abs(_average_v(other) - _average_v(pack)))
    if not neighbours:
        return LeftOut(pack, reason("only_one", family=pack.family), reason("fix_alone", id=pack.id))
    nearest = neighbours[0]
    against = obstacles((pack, nearest), rules)
    if not against:
        return LeftOut(pack, reason("no_port_left", nearest=nearest.id), reason("fix_next_batch", id=pack.id))
    first = against[0]
    binding = Reason(first.code, {**first.numbers, "nearest": nearest.id})
    if first.code == "window_too_wide" and _rest_v(pack) < _rest_v(nearest):
        return LeftOut(pack, binding, _charge_up_fix(pack, nearest, rules))
    if first.code == "window_too_wide":
        return LeftOut(pack, binding, reason("fix_wait_for_group", id=pack.id, until_v=_average_v(pack)))
    return LeftOut(pack, binding, reason("fix_alone", id=pack.id))


def _charge_up_fix(pack: Pack, nearest: Pack, rules: HouseRules) -> Reason:
    """Charge the low pack alone until it is within reach of the nearest: to which volts, about how many minutes."""
    table = pack.chemistry.table
    window = measure_window((pack, nearest), rules)
    allowed_v = window.allowed_v if window.per == "cell" else window.allowed_v / pack.cells
    # Half the window, so that rounding on the meter does not put it outside again.
    until_v = _average_v(nearest) - allowed_v / 2
    rate_c = min(rules.wanted_rate_c(pack.chemistry), pack.charge_c)
    minutes = 60 * (table.soc(until_v) - table.soc(_average_v(pack))) / rate_c if table else 0.0
    return reason(
        "fix_charge_up",
        id=pack.id,
        nearest=nearest.id,
        until_v=until_v,
        minutes=max(minutes, 1.0),
        current_a=rate_c * pack.capacity_ah,
    )


def match(packs: Sequence[Pack], kit: Kit, rules: HouseRules) -> Matching:
    """Group measured packs for boards: each group inside every rule, as few as can be, then narrowest.

    Packs that are unfit, full or near no other are left out, each with the reason and a fix.
    """
    verdicts = tuple(judge_pack(pack, rules) for pack in packs)
    left_out: list[LeftOut] = []
    families: dict[str, list[Pack]] = defaultdict(list)
    for verdict in verdicts:
        left = unfit(verdict)
        if left is None:
            families[verdict.pack.family].append(verdict.pack)
        else:
            left_out.append(left)
    groups: list[Group] = []
    proven = True
    for members in families.values():
        ordered = sorted(members, key=lambda pack: (_rest_v(pack), pack.id))
        ports = kit.ports_for(ordered[0].cells)
        limit = group_size_limit(rules, ports)
        found = cover(
            [_average_v(pack) for pack in ordered],
            _may_join_masks(ordered, rules),
            len(ordered) if limit is None else max(limit, 1),
        )
        proven = proven and found.proven
        for indices in found.groups:
            chosen = [ordered[index] for index in indices]
            if len(chosen) == 1:
                grouped = [ordered[index] for others in found.groups if len(others) > 1 for index in others]
                others = grouped or [pack for pack in ordered if pack is not chosen[0]]
                left_out.append(_alone(chosen[0], others, rules, kit))
            else:
                groups.append(judge_group(chosen, rules, ports))
    return Matching(tuple(groups), tuple(left_out), verdicts, proven)


def refusals(packs: Sequence[Pack], rules: HouseRules, ports: int | None) -> tuple[Reason, ...]:
    """Why these packs must not be charged together (or, one pack, at all); empty when they may."""
    found: list[Reason] = []
    verdicts = [judge_pack(pack, rules) for pack in packs]
    mixed_full = len({verdict.full for verdict in verdicts}) > 1
    for verdict in verdicts:
        keeps = KEEPS_FROM_CHARGE if len(packs) == 1 else KEEPS_FROM_BOARD
        for item in verdict.reasons:
            if item.code in keeps or (item.code == "full" and mixed_full):
                found.append(Reason(item.code, {**item.numbers, "id": verdict.pack.id}))
    families = {pack.family for pack in packs}
    if len(families) > 1 or (len(packs) > 1 and all(pack.reading is not None for pack in packs)):
        found += (item for item in obstacles(packs, rules, ports) if item.code != "ends_by_drop")
    return tuple(found)


_NEVER_JOINED = ("damaged", "not_measured", "charged_since", "ends_by_drop")


def unjoinable(packs: Sequence[Pack]) -> tuple[Reason, ...]:
    """Why these packs may never be joined whatever the rules, or cannot be reckoned with; empty when they can."""
    found = []
    for pack in packs:
        verdict = judge_pack(pack, HouseRules())
        found += [
            Reason(item.code, {**item.numbers, "id": pack.id}) for item in verdict.reasons if item.code in _NEVER_JOINED
        ]
    families = sorted({pack.family for pack in packs})
    if len(families) > 1:
        found.append(reason("families_differ", families=tuple(families)))
    return tuple(found)


def pairs_within_rules(packs: Sequence[Pack], rules: HouseRules) -> bool:
    """Whether every pair of these packs may join: the property that `match` rests on."""
    return all(not obstacles(pair, rules) for pair in combinations(packs, 2))
