"""The best that any run has found for each session of `families`, kept in `best_known.json`.

`python -m benchmarks.known SECONDS SIZE...` searches every held-out and tuned session of these sizes
for so long by two methods, one long run and several short ones from other seeds, and keeps what is
better than before. A benchmark compares with the file as it stands when it begins.
"""

import json
import sys
from itertools import product
from pathlib import Path

from benchmarks.families import FAMILIES, HELD_OUT, TUNED, session_of
from iterum.core.planning.fast import FastSearch
from iterum.core.planning.problem import Problem
from iterum.core.planning.score import Prefer

FILE = Path(__file__).with_name("best_known.json")
SHORT_RUNS = 6


def known() -> dict[str, list[float]]:
    """By session, (packs that are not charged, minutes) of the best plan."""
    return json.loads(FILE.read_text()) if FILE.exists() else {}


def reached(search: FastSearch) -> list[float]:
    """(packs that are not charged, minutes) of the best plan of a search."""
    best = search.best
    charged = sum(len(item.gene.members) for item in best.schedule.placed)
    return [len(search.problem.packs) - charged, round(search.makespan_min, 2)]


def keep(name: str, found: list[float]) -> None:
    """Keep a plan that is better than what is known."""
    best = known()
    if name not in best or found < best[name]:
        FILE.write_text(json.dumps(dict(sorted({**best, name: found}.items())), indent=0) + "\n")


def main() -> None:
    """Search on."""
    seconds, sizes = float(sys.argv[1]), [int(size) for size in sys.argv[2:]]
    for count, seed, family in product(sizes, (*HELD_OUT, *TUNED), FAMILIES):
        problem, name = Problem(session_of(family, count, seed)), f"{family.name} {count} {seed}"
        for run in range(1 + SHORT_RUNS):
            search = FastSearch(problem, Prefer.SOONEST, seed=run + 1, threads=2)
            for _ in search.improve(seconds / 2 if run == 0 else seconds / 2 / SHORT_RUNS):
                pass
            keep(name, reached(search))
        print(name, known()[name], flush=True)


if __name__ == "__main__":
    main()
