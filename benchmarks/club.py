"""Days at a shared table: the plan by equal shares of heats against first come, first served.

`python -m benchmarks.club [SEEDS] [SECONDS]` prints the table of docs/club.md.
"""

import random
import sys
from statistics import mean

from iterum.core.planning.problem import Problem
from iterum.core.planning.schedule import Gene, Occupancy, decode
from iterum.core.planning.score import Prefer, ready_for_heats
from iterum.core.planning.shares import shares_of
from iterum.core.quantities import at_most
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.pilots import Pilot, Shape, TableRule
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session, Wish
from iterum.services.planning import make_plan

PILOTS = tuple(Pilot(name, name[:2], shape) for name, shape in zip(("Ada", "Ben", "Cleo", "Dov"), Shape, strict=False))
CLASSES = (("lipo", 4, 1500), ("lipo", 4, 1300), ("lipo", 6, 1300))


def club_day(seed: int, rule: TableRule = TableRule.EQUAL_HEATS) -> Session:
    """Four pilots, three heats each, one generator; the same for the same seed."""
    rng = random.Random(f"club {seed}")
    packs: list[Pack] = []
    heats: list[Wish] = []
    gap_min = rng.choice((45, 55, 65))
    for number, pilot in enumerate(PILOTS):
        chemistry, cells, mah = rng.choice(CLASSES)
        count = rng.choice((2, 3, 3, 4))
        for index in range(count * rng.choice((1, 2, 3))):
            volts = (round(3.78 + rng.gauss(0, 0.05), 2),) * cells
            packs.append(Pack(f"{pilot.id[0]}-{index + 1}", chemistry, cells, mah, rng.choice((1, 2, 3)), 60,
                              reading=Reading.of_cells(volts), pilot=pilot.id))  # fmt: skip
        for turn in range(3):
            at_min = float(50 + turn * gap_min + 9 * number + rng.randint(0, 5))
            heats.append(Wish(count, f"{chemistry}-{cells}S", at_min, f"{pilot.id} {turn + 1}", 6.0, 15.0, 0.7,
                              pilot=pilot.id, final=turn == 2))  # fmt: skip
    generator = Source("generator", voltage_v=230, max_power_w=rng.choice((400, 600, 900)))
    duo = Charger("duo", (Channel("duo-1", 15, 250), Channel("duo-2", 15, 250)), "generator", total_power_w=400)
    own = Charger("own", (Channel("own-1", 8, 120),), "generator", pilot=rng.choice(PILOTS).id)
    kit = Kit((Board("six", 6, max_current_a=40), Board("three", 3, max_current_a=30)), (duo, own), (), (generator,))
    rules = HouseRules(table=rule, rate_c=rng.choice((1.0, 2.0)))
    return Session(tuple(packs), kit, rules, tuple(heats), PILOTS).at_table()


def first_come(session: Session, seed: int) -> dict[str, int]:
    """By pilot, the heats that are met where each, in the order in which they come to the table, puts on what needs a
    charge as soon as a channel is free."""
    problem = Problem(session)
    came = list(PILOTS)
    random.Random(f"came {seed}").shuffle(came)
    place = {pilot.id: number for number, pilot in enumerate(came)}
    ports = max(board.ports for board in problem.boards)
    bench, genes = Occupancy(problem), []

    def turn(index: int) -> tuple[float, int]:
        return problem.rounds[index].release_min, place[problem.packs[index].pilot or ""]

    order = sorted(range(len(problem.packs)), key=turn)
    while order:
        group = [order.pop(0)]
        for index in list(order):
            key = tuple(sorted((*group, index)))
            same = problem.packs[index].pilot == problem.packs[group[0]].pilot
            if same and len(group) < ports and problem.boards_for(key) and problem.may_join(key):
                group.append(index)
                order.remove(index)
        seats = [bench.find(Gene(tuple(sorted(group)), machine, 0, balance=False))
                 for machine in range(len(problem.machines))]  # fmt: skip
        free = min((seat for seat in seats if seat is not None), key=lambda seat: seat.start_min, default=None)
        if free is not None:
            bench.take(free)
            genes.append(free.gene)
    schedule = decode(problem, genes)
    assert schedule is not None  # nothing cuts it short
    met = dict.fromkeys(place, 0)
    for heat, ready in ready_for_heats(problem, schedule):
        met[heat.pilot or ""] += sum(at_most(at_min, heat.at_min) for at_min in ready) >= heat.count
    return met


def main() -> None:
    """Print heats met, the least share and the spread of shares, in the mean over the days."""
    seeds, seconds = int(sys.argv[1]) if len(sys.argv) > 1 else 20, float(sys.argv[2]) if len(sys.argv) > 2 else 5.0
    told: dict[str, list[tuple[int, float, float]]] = {}
    for seed in range(seeds):
        met = first_come(club_day(seed), seed)
        rows = {"first come, first served": [count / 3 for count in met.values()]}
        for rule in (TableRule.EQUAL_HEATS, TableRule.BY_NEED):
            session = club_day(seed, rule)
            plan = make_plan(session, Prefer.STEADIEST, seconds).plan
            rows[rule.value] = [share.met / 3 for share in shares_of(session, plan.wanted, plan.batches)]
        for name, parts in rows.items():
            told.setdefault(name, []).append((round(3 * sum(parts)), min(parts), max(parts) - min(parts)))
    print(f"| {seeds} days, 12 heats each, {seconds:g} s of search | heats met | least share | spread |")
    print("|---|---|---|---|")
    for name, days in told.items():
        heats, least, spread = (mean(day[at] for day in days) for at in range(3))
        print(f"| {name} | {heats:.1f} | {100 * least:.0f} % | {100 * spread:.0f} % |")


if __name__ == "__main__":
    main()
