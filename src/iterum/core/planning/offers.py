"""What would save a heat that a plan gives up: each offer is searched from that plan, told with what it wins and costs.

The pilot decides what no planner may: to go over the house rule where labels allow, to start a heat later, to fly one
fewer, to fly another heat instead, to measure what was not read, to buy a part. What can be taken carries the plan it
leads to, so that taking it gives what was told.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import islice
from statistics import median

from iterum.core.planning.explain import explain
from iterum.core.planning.heats import DaySearch
from iterum.core.planning.parts import parts
from iterum.core.planning.plan import Plan, WishOutcome, with_odds
from iterum.core.planning.planner import Planner
from iterum.core.planning.problem import Problem
from iterum.core.planning.record import Offer, PlanRecord, record_of
from iterum.core.planning.rounds import Flight
from iterum.core.planning.schedule import decode
from iterum.core.planning.score import score_of
from iterum.core.quantities import at_most
from iterum.core.reasons import reason
from iterum.core.things.packs import Reading
from iterum.core.things.session import Session, Wish

STEPS, TRIES = 2, 10
"""Of search for each offer, from the plan at hand, and decisions tried in each."""
LATER_MIN = (5.0, 10.0, 15.0, 20.0, 30.0, 45.0)
"""Later starts that are asked for, the shortest first."""
FASTER_C = 2.0
"""Normal at the field, and not daily: what an offer over the house rule goes to where labels allow it."""
MOST_HEATS = 3
"""Heats given up for which offers are sought, the worthiest first."""


@dataclass(frozen=True)
class _Asked:
    """One change that is tried: its words, the problem with it, and whether a pilot can take it at once.

    wanted : what is asked for with it, where that changes.
    """

    code: str
    numbers: dict[str, object]
    problem: Problem
    takes: bool = True
    wanted: tuple[Wish, ...] | None = None


def heat_name(wish: Wish) -> str:
    """What a heat is called: its name, else its class and minute."""
    return wish.name or f"{wish.count} {wish.family} at {wish.at_min:.0f}"


def offers(planner: Planner, plan: Plan) -> Iterator[Offer | None]:
    """What would win back a heat that a plan gives up, one after another; None for a change that wins nothing.

    planner : that made the plan.
    """
    lost = [item for item in plan.wanted if item.wish.is_heat and not item.met]
    if not lost or planner.problem.day is None:
        return
    won: set[tuple[str, object]] = set()
    for asked in _changes(planner, plan, lost):
        key = (asked.code, asked.numbers.get("heat"))
        if key in won:
            continue  # a smaller change of this kind does
        offer = _tried(planner, plan, asked)
        won |= {key} if offer is not None else set()
        yield offer


def _tried(planner: Planner, plan: Plan, asked: _Asked) -> Offer | None:
    other = planner.again(asked.problem)
    if isinstance(other.search, DaySearch):
        other.search.tries = TRIES
    for _ in islice(other.improve(), STEPS):
        pass
    if not other.search.best.score.short < _short(plan, asked, planner):
        return None  # no need to count its minutes exactly
    retried = other.plan()
    if not retried.score.short < _short(plan, asked, planner):
        return None
    if asked.code == "offer_faster":
        retried = _fewest_faster(other, planner)
    return _offer(plan, retried, other, asked)


def _short(plan: Plan, asked: _Asked, planner: Planner) -> tuple[tuple[float, ...], float, float, float]:
    """What the plan at hand lacks, counted as the changed day counts it: a heat with fewer packs is worth less."""
    before = planner.problem.session.wanted
    if asked.wanted is None or len(asked.wanted) != len(before):
        return plan.score.short
    lost_worth = sum(old.value * old.count - new.value * new.count
                     for old, new in zip(before, asked.wanted, strict=True))  # fmt: skip
    return (plan.score.unfair, plan.score.unmet - lost_worth, plan.score.missing, plan.score.late_min)


def _offer(plan: Plan, other_plan: Plan, other: Planner, asked: _Asked) -> Offer | None:
    """The offer with what it wins and loses, by the names of heats; None where no heat is won."""
    other_plan = with_odds(other_plan, other.problem.rules, other.heats_over)
    met_before = {heat_name(item.wish) for item in plan.wanted if item.met and item.wish.is_heat}
    met_after = {heat_name(item.wish) for item in other_plan.wanted if item.met and item.wish.is_heat}
    wins = tuple(sorted(met_after - met_before))
    loses = tuple(sorted(met_before - met_after))
    if not wins or set(loses) - {asked.numbers.get("other")}:
        return None  # it wins nothing, or loses what nobody offered
    numbers = {**asked.numbers, "wins": wins, "loses": loses}
    if asked.code == "offer_faster":
        numbers["batches"] = _over_rule(other_plan, asked)
    record: PlanRecord | None = record_of(other_plan, explain(other.problem, other_plan)) if asked.takes else None
    return Offer(reason(asked.code, **numbers), record, asked.wanted)


def _over_rule(other_plan: Plan, asked: _Asked) -> tuple[tuple[float, tuple[str, ...]], ...]:
    """Batches over the house rule, as what is dialled for whom."""
    kept_c = asked.numbers["rule_c"]
    assert isinstance(kept_c, float)
    return tuple(
        (batch.current_a, batch.packs) for batch in other_plan.batches if not at_most(batch.rate_c, kept_c + 1e-3)
    )


def _fewest_faster(other: Planner, planner: Planner) -> Plan:
    """The plan with as few batches over the house rule as keep its heats."""
    problem, best = other.problem, other.search.best
    rule_c = _rule_c(planner.problem.session)
    genes = best.genes
    for at in range(len(genes)):
        for part in range(problem.parts):
            costs = problem.costs(genes[at].members, genes[at].machine, problem.boards_for(genes[at].members)[0], part)
            if costs is None or not at_most(costs.rate_c, rule_c):
                continue
            tried = (*genes[:at], genes[at]._replace(part=part), *genes[at + 1 :])
            schedule = decode(problem, tried)
            if schedule is not None and score_of(problem, schedule, other.prefer).short <= best.score.short:
                genes = tried
                break
    other.search.best = replace(best, genes=genes, schedule=decode(problem, genes) or best.schedule)
    other.gentle = False
    return other.plan()


def _rule_c(session: Session) -> float:
    """The rate that the house rules want."""
    return session.rules.rate_c or 1.0


# ---------------------------------------------------------------------------------------- the changes


def _changes(planner: Planner, plan: Plan, lost: Sequence[WishOutcome]) -> Iterator[_Asked]:
    """Every change that is tried, the cheapest for the pilot first."""
    problem = planner.problem
    session = problem.session
    worthiest = sorted(lost, key=lambda item: -item.wish.value * item.wish.count)[:MOST_HEATS]
    if _rule_c(session) < FASTER_C:
        faster = replace(session, rules=replace(session.rules, rate_c=FASTER_C))
        yield _Asked("offer_faster", {"rule_c": _rule_c(session)}, _changed(problem, faster))
    for item in worthiest:
        yield from _fewer(problem, item)
        yield from _later(problem, item)
        yield from _instead(problem, plan, item)
    yield from _measured(problem, worthiest)
    yield from _bought(problem, plan)


def _changed(problem: Problem, session: Session) -> Problem:
    """The problem with another kit, rules or packs: nothing that was worked out holds any more."""
    return Problem(session, problem.fixed, problem.coming, {}, problem.flights)


def _asking(problem: Problem, wanted: tuple[Wish, ...]) -> Problem:
    """The problem with other times or counts: what is known of its packs holds."""
    return Problem(
        replace(problem.session, wanted=wanted), problem.fixed, problem.coming, {}, problem.flights, problem.known
    )


def _with(problem: Problem, old: Wish, new: Wish) -> tuple[Wish, ...]:
    return tuple(new if wish is old or wish == old else wish for wish in problem.session.wanted)


def _fewer(problem: Problem, item: WishOutcome) -> Iterator[_Asked]:
    """As many as can be ready, or one fewer."""
    heat = item.wish
    could = 0 if item.reason is None else int(item.reason.numbers.get("could", 0))
    for count in sorted({heat.count - 1, item.have, could} - {0, heat.count}, reverse=True):
        wanted = _with(problem, heat, replace(heat, count=count))
        numbers: dict[str, object] = {"heat": heat_name(heat), "count": count, "of": heat.count}
        yield _Asked("offer_fewer", numbers, _asking(problem, wanted), wanted=wanted)


def _later(problem: Problem, item: WishOutcome) -> Iterator[_Asked]:
    """The heat a little later, by the pilot's word."""
    heat = item.wish
    soonest_min = item.reason.numbers.get("soonest_min") if item.reason else None
    for minutes in LATER_MIN:
        if soonest_min is not None and heat.at_min + minutes < soonest_min:
            continue  # no pack can be full by then
        wanted = _with(problem, heat, replace(heat, at_min=heat.at_min + minutes))
        numbers: dict[str, object] = {"heat": heat_name(heat), "minutes": minutes}
        yield _Asked("offer_later", numbers, _asking(problem, wanted), wanted=wanted)


def _instead(problem: Problem, plan: Plan, item: WishOutcome) -> Iterator[_Asked]:
    """Another heat given up for it, worth no more."""
    heat = item.wish
    flights = problem.day.flights if problem.day else ()
    heats = problem.day.heats if problem.day else ()
    for other in plan.wanted:
        same = other.wish.value * other.wish.count <= heat.value * heat.count
        if not (other.met and other.wish.is_heat and same and other.wish.family == heat.family):
            continue
        told = tuple(
            Flight(count=0) if one == other.wish else Flight(order=flight.order) if one == heat else flight
            for one, flight in zip(heats, flights, strict=True)
        )
        wanted = tuple(wish for wish in problem.session.wanted if wish != other.wish)
        left = tuple(flight for flight, one in zip(told, heats, strict=True) if one != other.wish)
        session = replace(problem.session, wanted=wanted)
        changed = Problem(session, problem.fixed, problem.coming, {}, left, problem.known)
        numbers: dict[str, object] = {"heat": heat_name(heat), "other": heat_name(other.wish)}
        yield _Asked("offer_instead", numbers, changed, wanted=wanted)


def _measured(problem: Problem, lost: Sequence[WishOutcome]) -> Iterator[_Asked]:
    """Packs of the class that were not read, were they as their class is."""
    session = problem.session
    for family in dict.fromkeys(item.wish.family for item in lost):
        mine = [pack for pack in session.packs if pack.family == family]
        unread = [pack for pack in mine if pack.reading is None and pack.charged_at is None]
        read = [pack.cell_v for pack in mine if pack.cell_v is not None]
        if not unread or not read:
            continue
        volts = round(median(read), 2)
        told = {pack.id: replace(pack, reading=Reading.of_cells((volts,) * pack.cells)) for pack in unread}
        packs = tuple(told.get(pack.id, pack) for pack in session.packs)
        numbers = {"ids": tuple(pack.id for pack in unread), "cell_v": volts}
        yield _Asked("offer_measure", numbers, _changed(problem, replace(session, packs=packs)), takes=False)


def _bought(problem: Problem, plan: Plan) -> Iterator[_Asked]:
    """One part more, each by itself: channel, charger with its own source, board, supply watts, watt-hours."""
    session, kit = problem.session, problem.session.kit
    for code, numbers, changed in parts(kit, plan.sources):
        yield _Asked(code, numbers, _changed(problem, replace(session, kit=changed)), takes=False)
