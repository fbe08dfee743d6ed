"""A planned batch moved by hand: to another time or channel, with the verdict of every rule at once."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from iterum.core.amps.limits import current_to_dial, setup_faults
from iterum.core.planning.batches import Costs, PlannedBatch
from iterum.core.planning.history import Past, problem_as_it_is
from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import EPS, Occupancy, free_from, power_free_from
from iterum.core.reasons import Reason, Unsafe, reason
from iterum.core.things.session import Session


@dataclass(frozen=True)
class _Place:
    """Where and when a batch is to go."""

    members: tuple[int, ...]
    machine: int
    board: int
    start_min: float
    costs: Costs


def move(
    session: Session,
    batches: Sequence[PlannedBatch],
    number: int,
    channel: str,
    start_min: float,
    now_min: float = 0.0,
    past: Past = Past(),  # noqa: B008 (it cannot be changed)
) -> PlannedBatch:
    """The batch at its new place, kept there. Raises Unsafe with every rule it would break; then nothing is moved.

    number : index of the batch in `batches`; times in minutes of the plan.
    now_min : the minute of the plan that is now; what is past cannot be moved.
    past : what was over when the plan was made.
    channel : its tag. start_min : minutes from now.
    """
    batch = batches[number]
    others = tuple(item for at, item in enumerate(batches) if at != number)
    problem = problem_as_it_is(session, batches, others, past)
    if batch.start_min < now_min - EPS or any(charge not in problem.index for charge in batch.charges):
        raise Unsafe((reason("move_begun", packs=batch.packs),))
    if start_min < now_min - EPS:
        raise Unsafe((reason("move_past"),))
    members = tuple(sorted(problem.index[charge] for charge in batch.charges))
    machine = next((item.index for item in problem.machines if item.channel.id == channel), None)
    if machine is None:
        raise Unsafe((reason("move_no_channel", channel=channel),))
    board = next((at for at, item in enumerate(problem.boards) if item.id == batch.board), -1)
    costs = _costs(problem, members, machine, board, batch)
    place = _Place(members, machine, board, start_min, costs)
    broken = _broken(problem, Occupancy(problem), place, others)
    if broken:
        raise Unsafe(tuple(broken))
    feed = problem.machines[machine].feed
    lead_min = start_min + problem.rules.setup_min + costs.wait_min
    return replace(
        batch,
        channel=channel,
        source=problem.machines[machine].source_id,
        current_a=costs.current_a,
        rate_c=costs.rate_c,
        start_min=start_min,
        lead_min=lead_min,
        full_min=lead_min + costs.full_min,
        end_min=lead_min + costs.minutes,
        power_w=costs.power_w,
        energy_in_wh=costs.energy_wh / feed.efficiency_from_source,
        power_in_w=costs.power_w / feed.efficiency_from_source,
        locked=True,
    )


def _costs(problem: Problem, members: tuple[int, ...], machine: int, board: int, batch: PlannedBatch) -> Costs:
    """What the batch costs there, at the amps nearest to those it had. Raises Unsafe where it cannot be charged."""
    options: list[tuple[float, int]] = []
    for part in range(problem.parts):
        costs = problem.costs(members, machine, board, part)
        if costs is not None:
            options.append((abs(costs.current_a - batch.current_a), part))
    if not options:
        setup = problem.setup(machine, board)
        packs = [problem.packs[at] for at in members]
        faults = setup_faults(packs, setup)
        if faults:
            raise Unsafe(tuple(faults))
        current_to_dial(packs, setup, problem.rules)  # says why it refuses
    part = min(options)[1]
    problem.refine(members, machine, board, part)
    costs = problem.costs(members, machine, board, part)
    assert costs is not None
    return costs


def in_the_way(bench: Occupancy, batch: PlannedBatch) -> list[Reason]:
    """What else is booked, or not allowed, where and when a planned batch is to be; its packs aside.

    Its channel and board must be in the kit.
    """
    problem = bench.problem
    machine, board = problem.machine_of(batch.channel), problem.board_of(batch.board)
    assert machine is not None  # as asked for above
    assert board is not None
    energy_wh = batch.energy_in_wh * machine.from_source
    wait_min = max(batch.lead_min - batch.start_min - problem.rules.setup_min, 0.0)
    full_min, minutes = batch.full_min - batch.lead_min, batch.end_min - batch.lead_min
    costs = Costs(batch.current_a, batch.rate_c, wait_min, full_min, minutes, batch.power_w, energy_wh)
    return _taken(bench, _Place((), machine.index, board, batch.start_min, costs))


def _broken(problem: Problem, bench: Occupancy, place: _Place, others: Sequence[PlannedBatch]) -> list[Reason]:
    """Everything that does not allow the batch there and then."""
    back_min = max(problem.release_min(place.members), _back_min(problem, place.members, others))
    late = [reason("move_not_back", back_min=back_min)] if back_min > place.start_min + EPS else []
    return [*_taken(bench, place), *late]


def _taken(bench: Occupancy, place: _Place) -> list[Reason]:
    """Whatever is taken of channel, boards, hands, watts and watt-hours."""
    problem = bench.problem
    start_min, machine = place.start_min, problem.machines[place.machine]
    hands_min = problem.rules.setup_min + place.costs.wait_min
    whole_min = hands_min + place.costs.minutes
    reasons: list[Reason] = []
    free_min = free_from(bench.channels[place.machine], start_min, whole_min)
    if free_min > start_min + EPS:
        reasons.append(reason("move_channel", channel=machine.channel.id, free_min=free_min))
    for part in problem.board_parts[place.board] if place.board >= 0 else ():
        free_min = free_from(bench.boards[part], start_min, whole_min)
        if free_min > start_min + EPS:
            reasons.append(reason("move_board", board=problem.boards[part].id, free_min=free_min))
    free_min = free_from(bench.person, start_min, hands_min)
    if free_min > start_min + EPS:
        reasons.append(reason("move_hands", free_min=free_min))
    for name, factor in machine.uses:
        watts, limit_w = place.costs.power_w * factor, problem.limits_w[name]
        free_min = power_free_from(bench.drawn[name], start_min, whole_min, watts, limit_w)
        if free_min > start_min + EPS:
            reasons.append(reason("move_watts", resource=name, watts=watts, limit_w=limit_w))
    return reasons + _energy(bench, place, machine.source_id, machine.from_source)


def _energy(bench: Occupancy, place: _Place, source: str | None, efficiency: float) -> list[Reason]:
    """Watt-hours of the source it would be charged from."""
    if source not in bench.usable_wh:
        return []
    lack_wh = bench.used_wh.get(source, 0.0) + place.costs.energy_wh / efficiency - bench.usable_wh[source]
    return [reason("move_energy", source=source, lack_wh=lack_wh)] if lack_wh > EPS else []


def _back_min(problem: Problem, members: Sequence[int], others: Sequence[PlannedBatch]) -> float:
    """When packs that come round again are back, by the batches before."""
    ends = {key: batch.full_min for batch in others for key in batch.charges}
    back = [
        ends.get(problem.keys[before], 0.0) + problem.rounds[index].away_min
        for index in members
        if problem.rounds and (before := problem.before[index]) is not None
    ]
    return max(back, default=0.0)


def with_batch(plan: Sequence[PlannedBatch], number: int, batch: PlannedBatch) -> tuple[PlannedBatch, ...]:
    """The list with one batch in another's place, in the order of time.

    number : counted from 0.
    """
    batches = [*plan[:number], batch, *plan[number + 1 :]]
    return tuple(sorted(batches, key=lambda item: item.start_min))
