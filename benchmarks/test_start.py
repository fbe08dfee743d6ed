"""How soon the command is there, against importing the libraries that it needs (the peer)."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

FILE = Path(__file__).parents[1] / "tests/exchange/before/small.json"
MAIN = "import sys; sys.argv[0] = 'iterum'; from iterum.cli import main; main()"
COMMANDS = {
    "version": ("import click, importlib.metadata", ["--version"]),
    "size": ("import click, numpy; from pydantic import TypeAdapter; TypeAdapter(int)", ["size", str(FILE)]),
    "plan": (
        "import click, numpy; from pydantic import TypeAdapter; TypeAdapter(int)\n"
        "from ortools.sat.python import cp_model\nfrom ortools.linear_solver.python import model_builder",
        ["plan", "--seconds", "0", str(FILE)],
    ),
}
ENVIRONMENT = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}


def run(*words):
    subprocess.run([sys.executable, "-c", *words], check=True, capture_output=True, env=ENVIRONMENT)


@pytest.mark.parametrize("name", COMMANDS)
@pytest.mark.parametrize("what", ["libraries alone", "command"])
def test_start(benchmark, name, what):
    libraries, words = COMMANDS[name]
    benchmark.group = f"start: {name}"
    benchmark.pedantic(run, (libraries,) if what == "libraries alone" else (MAIN, *words), rounds=5, warmup_rounds=1)
