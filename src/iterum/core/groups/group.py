"""One group: its window in volts, what keeps packs out of it, the order to plug them in."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

from iterum.core.permit.facts import Act
from iterum.core.permit.permit import permit_of
from iterum.core.quantities import at_most, difference, spread
from iterum.core.reasons import Reason, reason
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules, MatchBy

MOST_APART_C = 15.0
"""Packs whose temperatures differ by more share no board. Common practice, no source."""


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


def rest_v(pack: Pack) -> float:
    """Rest volts of the whole pack. Raises ValueError for a pack without a reading."""
    if pack.reading is None:
        raise ValueError(f"{pack.id} has no reading")
    return pack.reading.pack_v


def average_v(pack: Pack) -> float:
    """Rest volts per cell, the average of its cells."""
    return rest_v(pack) / pack.cells


def measure_window(packs: Sequence[Pack], rules: HouseRules) -> Window:
    """How far apart measured packs of one family are under the school in force."""
    volts = [rest_v(pack) for pack in packs]
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
    """Every rule that keeps these measured packs from sharing one board, each with its numbers.

    ports : of the board; None where no board is known.
    """
    reasons: list[Reason] = []
    families = sorted({pack.family for pack in packs})
    if len(families) > 1:
        return (reason("families_differ", families=tuple(families)),)
    if not packs[0].chemistry.joins:
        return (reason("ends_by_drop", chemistry=packs[0].chemistry.label),)
    window = measure_window(packs, rules)
    if not at_most(window.spread_v, window.allowed_v):
        reasons.append(_window_reason(packs, window))
    gap_v, cell = _cell_gap(packs)
    if gap_v is not None and not at_most(gap_v, rules.cell_window_v()):
        reasons.append(
            reason(
                "same_cell_apart",
                gap_v=gap_v,
                allowed_v=rules.cell_window_v(),
                cell=cell,
                over_v=gap_v - rules.cell_window_v(),
            )
        )
    degrees = [pack.temperature_c for pack in packs if pack.temperature_c is not None]
    if degrees and not at_most(max(degrees) - min(degrees), MOST_APART_C):
        numbers = {"coldest_c": min(degrees), "warmest_c": max(degrees), "limit_c": MOST_APART_C}
        reasons.append(reason("temperatures_differ", **numbers))
    capacities = [pack.capacity_mah for pack in packs]
    if rules.max_capacity_ratio is not None and not at_most(
        max(capacities), min(capacities) * rules.max_capacity_ratio
    ):
        reasons.append(
            reason(
                "capacities_differ",
                largest_mah=max(capacities),
                smallest_mah=min(capacities),
                ratio=max(capacities) / min(capacities),
                allowed_ratio=rules.max_capacity_ratio,
            )
        )
    pairs = combinations(packs, 2) if len({pack.pilot for pack in packs}) > 1 else ()
    strangers = next((pair for pair in pairs if not pair[0].may_meet(pair[1])), None)
    if strangers is not None:
        owners = tuple(pack.pilot or "" for pack in strangers)
        reasons.append(reason("pilots_differ", ids=tuple(pack.id for pack in strangers), pilots=owners))
    limit = group_size_limit(rules, ports)
    if limit is not None and len(packs) > limit:
        reasons.append(reason("ports_full", count=len(packs), ports=limit))
    return tuple(reasons)


def _window_reason(packs: Sequence[Pack], window: Window) -> Reason:
    low = min(packs, key=rest_v)
    high = max(packs, key=rest_v)
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
    return tuple(sorted(packs, key=figures))


def figures(pack: Pack) -> tuple[object, ...]:
    """What packs are put in order by: rest volts, then every other figure. Tags decide nothing."""
    reading, learned = pack.reading, pack.learned
    return (
        reading.pack_v if reading else 0.0,
        reading.cell_v if reading else (),
        pack.capacity_ah,
        pack.capacity_mah,
        pack.charge_c,
        pack.gives_c,
        pack.resistance_mohm,
        pack.temperature_c or 0.0,
        learned.capacity_mah if learned else 0.0,
        pack.connector or "",
    )


def plug_in_order(packs: Sequence[Pack]) -> tuple[str, ...]:
    """Ids of the packs in the order to plug them in."""
    return tuple(pack.id for pack in in_plug_order(packs))


def judge_group(packs: Sequence[Pack], rules: HouseRules, ports: int | None = None) -> Group:
    """The verdict on packs that someone wants on one board, whether found by `match` or moved by hand.

    ports : of the board; None where no board is known.
    """
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


def refusals(packs: Sequence[Pack], rules: HouseRules, ports: int | None) -> tuple[Reason, ...]:
    """Why these packs must not be charged together (or, one pack, at all); empty when they may.

    ports : of the board; None where no board is known.
    """
    reasons: list[Reason] = []
    verdicts = [permit_of(pack, rules) for pack in packs]
    mixed_full = len({verdict.full for verdict in verdicts}) > 1
    for verdict in verdicts:
        keeps = verdict.against(Act.CHARGE if len(packs) == 1 else Act.JOIN)
        told = verdict.fullness if mixed_full else ()
        reasons += [Reason(item.code, {**item.numbers, "id": verdict.pack.id}) for item in (*keeps, *told)]
    families = {pack.family for pack in packs}
    if len(families) > 1 or (len(packs) > 1 and all(pack.reading is not None for pack in packs)):
        reasons += (item for item in obstacles(packs, rules, ports) if item.code != "ends_by_drop")
    return tuple(reasons)


_NEVER_JOINED = ("damaged", "not_measured", "charged_since", "flown_since", "ends_by_drop")


def unjoinable(packs: Sequence[Pack]) -> tuple[Reason, ...]:
    """Why these packs may never be joined whatever the rules, or cannot be counted with; empty when they can.

    A pack alone is joined to nothing, so how its charge ends does not matter.
    """
    against = []
    for pack in packs:
        codes = _NEVER_JOINED if len(packs) > 1 else _NEVER_JOINED[:-1]
        verdict = permit_of(pack, HouseRules())
        against += [
            Reason(item.code, {**item.numbers, "id": pack.id}) for item in verdict.reasons if item.code in codes
        ]
    families = sorted({pack.family for pack in packs})
    if len(families) > 1:
        against.append(reason("families_differ", families=tuple(families)))
    return tuple(against)


def pairs_within_rules(packs: Sequence[Pack], rules: HouseRules) -> bool:
    """Whether every pair of these packs may join: the property that `match` rests on."""
    return all(not obstacles(pair, rules) for pair in combinations(packs, 2))
