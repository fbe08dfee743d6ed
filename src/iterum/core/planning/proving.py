"""Bounds worked out in a helper process with a hard end, so that no plan ever waits for one.

What it tells holds for every plan that charges at least as many packs of each family as were asked
about. It is ended when the search ends, whatever it is doing.
"""

import signal
from collections.abc import Mapping
from contextlib import suppress
from multiprocessing import get_context
from multiprocessing.connection import Connection

from iterum.core.planning.problem import Problem

LEAST_S, LEAST_LARGE_S, LARGE = 1.5, 6.0, 40
"""A search that is shorter asks for no bound, that of more than so many packs the second: the helper takes a second to
load, and knows nothing of a large session before its core would have found a better plan."""


def is_worth_it(packs: int, seconds: float) -> bool:
    """Whether a bound may be known before a search is over.

    packs : how many. seconds : of the search, 0 or more.
    """
    return seconds >= (LEAST_LARGE_S if packs > LARGE else LEAST_S)


def _prove(answers: "Connection[float, None]", problem: Problem, charged: Mapping[str, int]) -> None:
    """In the helper: one bound, min, then a sharper one."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C is for whoever asks; the helper is ended with its search
    from iterum.core.planning.bounds import leaders_bound_min, lower_bound_min  # noqa: PLC0415 (loads a solver)

    with suppress(BrokenPipeError):
        answers.send(lower_bound_min(problem, charged))
        answers.send(leaders_bound_min(problem, charged))
    answers.close()


class Prover:
    """A helper at work on one problem. Use as a context: it ends with it."""

    def __init__(self, problem: Problem, charged: Mapping[str, int]) -> None:
        """charged : by family, how many packs a plan charges."""
        self.charged = dict(charged)
        self.bound_min: float | None = None
        context = get_context("spawn")
        self._answers, theirs = context.Pipe(duplex=False)
        bare = Problem(problem.session, problem.fixed, problem.coming, {}, problem.flights)
        self._process = context.Process(target=_prove, args=(theirs, bare, self.charged), daemon=True)
        self._process.start()
        theirs.close()

    def poll(self) -> float | None:
        """The best bound so far, min; None until there is one."""
        with suppress(EOFError, OSError):
            while self._answers.poll():
                self.bound_min = max(self.bound_min or 0.0, self._answers.recv())
        return self.bound_min

    @property
    def done(self) -> bool:
        """Whether it has nothing more to tell."""
        return not self._process.is_alive()

    def end(self) -> None:
        """End it now."""
        if self._process.is_alive():
            self._process.kill()
        self._process.join(1.0)
        self._answers.close()
