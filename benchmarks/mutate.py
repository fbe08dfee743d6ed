"""Whether the tests of a room notice when a module that decides safety is wrong in one place.

`python -m benchmarks.mutate [COUNT] [MODULE...]`: so many faults of one token in each module, spread evenly over it,
each put into a copy of the code and tried against the tests of its own room. Prints what no test noticed.
"""

import ast
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from copy import deepcopy
from pathlib import Path
from queue import Queue
from tempfile import TemporaryDirectory

ROOT = Path(__file__).parents[1]
CORE = "src/iterum/core"
MODULES = {
    "guard": (f"{CORE}/run/guard.py", "tests/core/run"),
    "ledger": (f"{CORE}/things/ledger.py", "tests/core/things"),
    "limits": (f"{CORE}/amps/limits.py", "tests/core/sizing tests/core/things"),
    "watching": (f"{CORE}/season/watching.py", "tests/core/season tests/core/run"),
    "permit": (f"{CORE}/permit/permit.py", "tests/core/permit"),
    "joining": (f"{CORE}/electrical/joining.py", "tests/core/electrical"),
    "size": (f"{CORE}/sizing/size.py", "tests/core/sizing"),
    "schedule": (f"{CORE}/planning/schedule.py", "tests/core/planning"),
    "charging": (f"{CORE}/electrical/charging.py", "tests/core/electrical"),
}
"""By name: the module, and the tests of its room."""
SWAPPED = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Add: ast.Sub, ast.Sub: ast.Add,
    ast.Mult: ast.Div, ast.Div: ast.Mult, ast.And: ast.Or, ast.Or: ast.And,
}  # fmt: skip
NAMES = {"min": "max", "max": "min", "any": "all", "all": "any"}
LONGEST_S = 300


def _faults(node: ast.AST) -> Iterator[tuple[str, object]]:
    """What may be wrong at a node: the attribute, and what stands there then."""
    if isinstance(node, ast.Compare) and type(node.ops[0]) in SWAPPED:
        yield "ops", [SWAPPED[type(node.ops[0])](), *node.ops[1:]]
    elif isinstance(node, (ast.BinOp, ast.BoolOp)) and type(node.op) in SWAPPED:
        yield "op", SWAPPED[type(node.op)]()
    elif isinstance(node, ast.Name) and node.id in NAMES:
        yield "id", NAMES[node.id]
    elif isinstance(node, ast.Constant) and isinstance(node.value, bool):
        yield "value", not node.value
    elif isinstance(node, (ast.IfExp, ast.If)):
        yield "test", ast.UnaryOp(ast.Not(), node.test)


def mutants(source: str, count: int) -> list[tuple[int, str, str]]:
    """(line, what stood there, the whole module with one fault), spread evenly over it."""
    tree = ast.parse(source)
    nodes = list(ast.walk(tree))
    aside = [node.annotation for node in nodes if isinstance(node, (ast.arg, ast.AnnAssign)) and node.annotation]
    marked = (node for node in nodes if isinstance(node, (ast.ClassDef, ast.FunctionDef)))
    aside += [mark for node in marked for mark in node.decorator_list]
    untold = {id(part) for node in aside for part in ast.walk(node)}
    told = ((at, node) for at, node in enumerate(nodes) if id(node) not in untold)
    every = [(at, name, value) for at, node in told for name, value in _faults(node)]
    every.sort(key=lambda item: nodes[item[0]].lineno)  # type: ignore[attr-defined]
    made = []
    for number in range(min(count, len(every))):
        at, name, value = every[number * len(every) // min(count, len(every))]
        other = deepcopy(tree)
        node = list(ast.walk(other))[at]
        before = ast.unparse(node).splitlines()[0]
        setattr(node, name, value)
        after = ast.unparse(ast.fix_missing_locations(node)).splitlines()[0]
        made.append((node.lineno, f"{before}  ->  {after}", ast.unparse(ast.fix_missing_locations(other))))  # type: ignore[attr-defined]
    return made


def _survives(folder: Path, path: str, text: str, tests: str) -> bool:
    """Whether the tests of a room pass with this text in place of a module."""
    file = folder / path
    before = file.read_text()
    file.write_text(text)
    surroundings = {**os.environ, "PYTHONPATH": str(folder / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    words = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *tests.split()]
    try:
        done = subprocess.run(
            words, cwd=folder, env=surroundings, capture_output=True, timeout=LONGEST_S, check=False
        )  # fmt: skip
        return done.returncode == 0
    except subprocess.TimeoutExpired:
        return False
    finally:
        file.write_text(before)


def main() -> None:
    """Try every mutant; print what was not noticed, and the part that was."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 24
    chosen = sys.argv[2:] or list(MODULES)
    workers = os.cpu_count() or 1
    with TemporaryDirectory() as home:
        free: Queue[Path] = Queue()
        for number in range(workers):
            folder = Path(home) / str(number)
            for part in ("src", "tests", "benchmarks", "docs"):
                shutil.copytree(ROOT / part, folder / part, ignore=shutil.ignore_patterns("__pycache__", "compiled-*"))
            shutil.copy(ROOT / "pyproject.toml", folder)
            free.put(folder)

        def tried(path: str, text: str, tests: str) -> bool:
            folder = free.get()
            try:
                return _survives(folder, path, text, tests)
            finally:
                free.put(folder)

        for name in chosen:
            path, tests = MODULES[name]
            made = mutants((ROOT / path).read_text(), count)
            with ThreadPoolExecutor(workers) as pool:
                alive = list(pool.map(lambda item, path=path, tests=tests: tried(path, item[2], tests), made))  # type: ignore[misc]
            print(f"{name}: {len(made) - sum(alive)} of {len(made)} noticed", flush=True)
            for survived, (line, what, _) in zip(alive, made, strict=True):
                if survived:
                    print(f"  {path}:{line}: {what}", flush=True)


if __name__ == "__main__":
    main()
