"""The job's rules and computation: pure functions on frozen values, no I/O, no clock, no interface.

`from iterum.core import Bench, Pack, match, size` is what others build on; docs/api.md shows each with an example that
is run as a test. A name is loaded when it is asked for, because the search for plans takes a third of a second to load.
"""

from importlib import import_module
from typing import Any

PUBLIC = {
    "BadInput": "iterum.core.fields",
    "Bench": "iterum.core.things.bench",
    "Board": "iterum.core.things.kit",
    "Channel": "iterum.core.things.kit",
    "Charger": "iterum.core.things.kit",
    "Choice": "iterum.core.things.choice",
    "HouseRules": "iterum.core.things.rules",
    "Kit": "iterum.core.things.kit",
    "Pack": "iterum.core.things.packs",
    "Prefer": "iterum.core.planning.score",
    "Reading": "iterum.core.things.packs",
    "Source": "iterum.core.things.kit",
    "Supply": "iterum.core.things.kit",
    "Unsafe": "iterum.core.reasons",
    "Wish": "iterum.core.things.session",
    "charge": "iterum.core.sizing.size",
    "match": "iterum.core.sizing.arrange",
    "plan": "iterum.core.planning.planner",
    "sentence": "iterum.wording",
    "size": "iterum.core.sizing.size",
}
"""Each name, and where it lives."""
__all__ = list(PUBLIC)


def __getattr__(name: str) -> Any:
    """A public name. Raises AttributeError for any other."""
    if name not in PUBLIC:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    import_module("iterum.wording")  # so that an error says its sentence
    return getattr(import_module(PUBLIC[name]), name)


def __dir__() -> list[str]:
    """The public names."""
    return sorted(PUBLIC)
