"""What is shipped: a wheel with templates, styles and fonts, and a command that serves from it."""

import os
import re
import signal
import socket
import subprocess
import sys
import time
import urllib.request
import zipfile
from functools import partial
from importlib.metadata import distribution
from pathlib import Path

import pytest

from iterum.services.compiling import AHEAD
from tests.conftest import SOAK, free_port

ROOT = Path(__file__).parents[1]


def built(folder):
    """The wheel, as a path."""
    build = "from hatchling.build import build_wheel; import sys; print(build_wheel(sys.argv[1]))"
    words = [sys.executable, "-W", "ignore", "-c", build, str(folder)]
    done = subprocess.run(words, cwd=ROOT, capture_output=True, text=True, check=True)
    return folder / done.stdout.split()[-1]


def test_a_wheel_holds_everything_that_a_page_needs(tmp_path):
    held = set(zipfile.ZipFile(built(tmp_path)).namelist())
    package = ROOT / "src"
    for path in (package / "iterum").rglob("*"):
        if path.is_file() and "__pycache__" not in path.parts:
            assert str(path.relative_to(package)) in held
    for ending in (".html", ".css", ".woff2", ".js", "harrow_fen.json"):
        assert any(name.endswith(ending) for name in held), ending


def locked_alone(environment):
    """An environment of what is locked and nothing else: the very files that were installed by the lock, linked."""
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", environment], check=True)
    (site,) = environment.glob("lib/python*/site-packages")
    for name in re.findall(r"^([\w.-]+)==", (ROOT / "requirements.lock").read_text(), re.M):
        held = distribution(name)
        for top in {file.parts[0] for file in held.files} - {"..", "__pycache__"}:
            (site / top).symlink_to(held.locate_file(top))


def test_the_wheel_alone_starts_the_demo_and_plans_in_an_empty_environment(tmp_path, monkeypatch):
    monkeypatch.setenv(AHEAD, "no")  # two minutes of compiling beside the other tests
    wheel = built(tmp_path)
    environment, commands = tmp_path / "empty", tmp_path / "empty" / "bin"
    if SOAK > 1:  # as whoever installs it does; here its parts are those that `make setup` has installed by the lock
        subprocess.run([sys.executable, "-m", "venv", environment], check=True)
        install = [commands / "python", "-m", "pip", "install", "--quiet", "--no-compile"]
        subprocess.run([*install, "--require-hashes", "-r", ROOT / "requirements.lock"], check=True)
    else:
        locked_alone(environment)
        install = [sys.executable, "-m", "pip", "--python", commands / "python", "install", "--quiet", "--no-compile"]
    subprocess.run([*install, "--no-deps", wheel], check=True)
    file = tmp_path / "file.json"
    file.write_text((ROOT / "tests/exchange/before/small.json").read_text())
    told = subprocess.run([commands / "iterum", "plan", "--seconds", "0.2", file], check=False, capture_output=True, text=True,
                          cwd=tmp_path)  # fmt: skip
    assert (told.returncode, "All done at minute" in told.stdout) == (0, True), told.stderr
    server, _, page = started(tmp_path, "--demo", command=[commands / "iterum"])
    stopped(server)
    assert "P-01" in page


COMMAND = (sys.executable, "-c", "from iterum.cli import main; main()")


def started(folder, *options, command=COMMAND):
    port = free_port()
    words = [*command, "serve", "--port", str(port)]
    # A shell that started the tests in the background would have its children ignore Ctrl+C.
    as_in_front = partial(signal.signal, signal.SIGINT, signal.SIG_DFL)
    words += ["--data", str(folder), *options]
    server = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, preexec_fn=as_in_front)  # noqa: PLW1509
    line = server.stdout.readline()
    assert f"http://127.0.0.1:{port}/" in line
    for _ in range(600):
        try:
            return server, port, urllib.request.urlopen(f"http://127.0.0.1:{port}/packs").read().decode()
        except OSError:
            time.sleep(0.1)
    raise AssertionError("the server did not answer")


def stopped(server):
    server.send_signal(signal.SIGINT)
    server.wait(timeout=60)
    server.stdout.close()


def test_the_demo_says_where_it_is_listens_here_only_and_keeps_what_was_changed(tmp_path):
    server, port, page = started(tmp_path, "--demo")
    assert "P-01" in page
    listening = Path(f"/proc/{server.pid}/net/tcp").read_text()
    assert re.search(rf"0100007F:{port:04X} 00000000:0000 0A", listening)
    assert not re.search(rf"00000000:{port:04X} 00000000:0000 0A", listening)
    stopped(server)
    assert {path.name for path in tmp_path.iterdir()} >= {"demo.sqlite3", "secret.key"}
    assert oct(os.stat(tmp_path / "secret.key").st_mode & 0o777) == "0o600"
    import sqlite3

    with sqlite3.connect(tmp_path / "demo.sqlite3") as database:
        database.execute("update packs set name = 'changed by hand' where id = 'P-01'")
    database.close()
    server, _, page = started(tmp_path, "--demo")
    stopped(server)
    assert "changed by hand" in page
    left = tmp_path / "demo.guardian"
    left.mkdir(exist_ok=True)
    (left / "of-before").write_text("")  # as one that was killed leaves it
    server, _, page = started(tmp_path, "--demo", "--fresh")
    stopped(server)
    assert not (left / "of-before").exists()  # the first batch of the new demo has the number of the old one
    assert "changed by hand" not in page
    assert "P-01" in page


@pytest.mark.parametrize("after_s", [0.0, 0.3, 0.6, 1.0])
@pytest.mark.parametrize("told", [signal.SIGTERM, signal.SIGINT])
def test_it_ends_whenever_it_is_told_to_also_while_it_starts(tmp_path, told, after_s):
    port, as_in_front = free_port(), partial(signal.signal, signal.SIGINT, signal.SIG_DFL)
    words = [*COMMAND, "serve", "--port", str(port), "--data", str(tmp_path)]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True, preexec_fn=as_in_front) as server:  # noqa: PLW1509
        assert str(port) in server.stdout.readline()
        time.sleep(after_s)
        server.send_signal(told)
        try:
            server.wait(timeout=60)  # it listened for ever once, and answered nobody
        finally:
            server.kill()
    with socket.socket() as again:
        again.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        again.bind(("127.0.0.1", port))


def test_without_the_demo_it_starts_empty(tmp_path):
    server, _, page = started(tmp_path)
    stopped(server)
    assert "No packs yet" in page
