"""Long computations in a process of their own: a page asks again until the answer is there, and
waits for nothing.
"""

import logging
from collections.abc import Callable, Hashable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from multiprocessing import get_context
from threading import Lock
from typing import Any, TypeVar, cast

_Result = TypeVar("_Result")


class Work:
    """Computations by name, the latest of each kept. Safe to use from several threads."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._pool: ProcessPoolExecutor | None = None
        self._begun: dict[str, tuple[Hashable, Future[Any]]] = {}

    def done(self, name: str, of: Hashable, compute: Callable[..., _Result], *args: Any) -> _Result | None:
        """What `compute(*args)` gives; None as long as it is being worked out. It begins when
        first asked for.

        of : what it rests on; where that has changed, it begins again. Raises what `compute`
        raises.
        """
        with self._lock:
            known = self._begun.get(name)
            if known is None or known[0] != of:
                if known is not None:
                    known[1].cancel()
                known = self._begun[name] = of, self._submitted(compute, *args)
        if not known[1].done():
            return None
        try:
            return cast(_Result, known[1].result())
        except BrokenProcessPool:
            logging.getLogger("iterum").warning("%s was not worked out: its process ended", name)
            with self._lock:
                self._pool, self._begun = None, {}
            return None

    def _submitted(self, compute: Callable[..., _Result], *args: Any) -> "Future[_Result]":
        if self._pool is None:
            # A new interpreter: a copy of a server with its threads and connections is no safe place to work in.
            self._pool = ProcessPoolExecutor(1, get_context("spawn"))
        return self._pool.submit(compute, *args)

    def close(self) -> None:
        """Work no more."""
        with self._lock:
            if self._pool is not None:
                for process in list(getattr(self._pool, "_processes", {}).values()):
                    process.terminate()
                self._pool.shutdown(wait=True, cancel_futures=True)
            self._pool, self._begun = None, {}
