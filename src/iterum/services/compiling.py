"""Compiling ahead where nobody did: an installation from a wheel alone has no `make setup`.

Until it is done plans are searched in plain Python, which is slower and finds less.
"""

import os
import subprocess
import sys
from contextlib import suppress

from filelock import FileLock, Timeout

from iterum.core.compiled import cache_folder, is_ready

AHEAD = "ITERUM_COMPILE_AHEAD"
"""Environment: "no" leaves it at plain Python, for a machine that is to be quiet."""
_begun: list[bool] = []


def compile_ahead() -> None:
    """Begin to compile in a process of its own, once; it takes two minutes."""
    if _begun or is_ready() or os.environ.get(AHEAD) == "no":
        return
    _begun.append(True)
    process = subprocess.Popen(
        [sys.executable, "-m", "iterum.services.compiling"], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip
    process.returncode = 0  # nobody waits for it: it may outlive whoever asked


def main() -> None:
    """Compile, unless another process does so."""
    from iterum.core.planning.fast import main as compile_now  # noqa: PLC0415 (loads the compiler)

    cache_folder().mkdir(parents=True, exist_ok=True)
    with suppress(Timeout), FileLock(cache_folder() / "lock", timeout=0):
        compile_now()


if __name__ == "__main__":
    main()
