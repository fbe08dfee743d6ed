"""Public functions of the core say what goes in, in which unit and bound, and what they refuse."""

import inspect
import pkgutil
import re
import textwrap
import typing
from importlib import import_module

import pytest

import iterum.core

MODULES = [import_module(item.name) for item in pkgutil.walk_packages(iterum.core.__path__, "iterum.core.")]
PLAIN = re.compile(r"\b(float|int|str|bool)\b")
"""Types that say nothing of what a figure or a text means; a pack or a board says it itself."""
UNITS = {"_v": ("V",), "_a": ("A",), "_w": ("W",), "_wh": ("Wh",), "_mah": ("mAh",), "_mohm": ("mOhm",), "_s": ("s", "seconds"),
         "_min": ("min", "minute"), "_c": ("C", "°C", "Celsius", "per hour", "rate")}  # fmt: skip


def is_compiled(module, name):
    """Whether only compiled functions can call it: it has no way in from Python, so it is nobody's to call."""
    return f"@compiled\ndef {name}(" in inspect.getsource(module)


def public():
    """(name, function) of every public function and method of the core's own modules."""
    for module in MODULES:
        for name, item in vars(module).items():
            if name.startswith("_") or getattr(item, "__module__", "") != module.__name__:
                continue
            if inspect.isclass(item):
                for method, held in vars(item).items():
                    made = inspect.unwrap(getattr(held, "__func__", held))
                    if inspect.isfunction(made) and not method.startswith("_") and made.__module__ == module.__name__:
                        yield f"{module.__name__}.{name}.{method}", made
            elif callable(item) and not is_compiled(module, name):
                yield f"{module.__name__}.{name}", inspect.unwrap(item)


FUNCTIONS = dict(public())


def test_the_core_has_functions_to_read():
    assert len(FUNCTIONS) > 200


@pytest.mark.parametrize("name", FUNCTIONS)
def test_every_plain_parameter_is_said_with_its_unit_and_every_refusal_with_its_condition(name):
    function = FUNCTIONS[name]
    text = inspect.getdoc(function) or ""
    assert text, name
    hints = typing.get_type_hints(function)
    for parameter in inspect.signature(function).parameters.values():
        kind = str(hints.get(parameter.name, "")).replace("iterum.", "")
        if parameter.name in ("self", "cls") or not PLAIN.search(kind) or kind.startswith("collections.abc.Callable"):
            continue
        assert re.search(rf"\b{parameter.name}\b", text), f"{parameter.name} is not said"
        said = re.search(rf"\b{parameter.name}\b(?:, \w+)* : ([^.]+)", text)
        unit = next((unit for ending, unit in UNITS.items() if parameter.name.endswith(ending)), None)
        if said and unit and "float" in kind:
            assert any(word in said[1] for word in unit), f"{parameter.name} has no unit in {said[1]!r}"
    source = textwrap.dedent(inspect.getsource(function))
    if re.search(r"^\s+raise \w+", source, re.M) and "def " not in source.split(":", 1)[1]:
        assert "Raises" in text
