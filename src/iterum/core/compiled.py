"""Functions on arrays that are compiled where numba is there, and run as they stand where it is not.

Both give the same figures: it is one source. `make setup` compiles ahead (`python -m
iterum.core.planning.fast`). Only what searches for plans imports modules that use this: numba takes
a third of a second to load.
"""

import os
from collections.abc import Callable
from functools import cache
from hashlib import sha256
from pathlib import Path
from typing import Any, TypeVar

F = TypeVar("F", bound=Callable[..., object])

CORE = Path(__file__).parent
SOURCES = (
    "compiled.py",
    "quantities.py",
    "electrical/circuit.py",
    "electrical/charging.py",
    "electrical/estimate.py",
    "electrical/kernel.py",
    "electrical/plugging.py",
    "electrical/waiting.py",
    "electrical/ways.py",
    "planning/annealing.py",
    "planning/batches.py",
    "planning/costing.py",
    "planning/schedule.py",
    "planning/score.py",
    "planning/tables.py",
)
"""Compiled functions, and modules whose constants are compiled into them. A cache is of one state of
all of these: numba itself looks at one file at a time, and would keep what another file gave."""


def state_of_sources() -> str:
    """A name for the compiled functions as they are written now."""
    whole = sha256()
    for name in SOURCES:
        whole.update((CORE / name).read_bytes())
    return whole.hexdigest()[:16]


@cache
def cache_folder() -> Path:
    """Where compiled functions of this state are kept: beside the modules, else in the user's cache."""
    from platformdirs import user_cache_path  # noqa: PLC0415 (only where it is asked for)

    beside = CORE / "__pycache__"
    root = beside if os.access(CORE, os.W_OK) else user_cache_path("iterum")
    return root / f"compiled-{state_of_sources()}"


def is_ready() -> bool:
    """Whether everything is compiled, so that a search begins at once; also where nothing is to be compiled."""
    return not COMPILED or (cache_folder() / READY).exists()


READY = "ready"
"""Stands in the cache when everything is compiled."""
numba: Any
try:
    import numba
except ImportError:  # a machine for which there is no numba: slower, the same results
    COMPILED = False

    def compiled(function: F) -> F:
        """The function itself."""
        return function

    entry = compiled
else:
    COMPILED = not numba.config.DISABLE_JIT
    numba.config.CACHE_DIR = str(cache_folder())

    def compiled(function: F) -> F:
        """The function as machine code, for other compiled functions only: a way in from Python takes
        seconds to compile where many arrays are handed over."""
        made: F = numba.njit(cache=True, no_cpython_wrapper=True, no_cfunc_wrapper=True)(function)
        return made

    def entry(function: F) -> F:
        """The function as machine code; other threads run meanwhile."""
        made: F = numba.njit(cache=True, nogil=True, no_cfunc_wrapper=True)(function)
        return made
