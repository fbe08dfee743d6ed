"""Twenty browsers on a charge that goes on: how soon the live page answers, and how soon a stop is off.

Run with `make bench`; the figures are printed and kept in docs/reliability.md.
"""

import re
import statistics
import subprocess
import sys
import threading
import time
import urllib.request
from http.cookiejar import CookieJar
from urllib.parse import urlencode

import pytest

BROWSERS, SECONDS = 20, 20


@pytest.fixture(scope="module")
def address(tmp_path_factory):
    """The demo served by the command, in a process of its own."""
    port = "8791"
    folder = str(tmp_path_factory.mktemp("live"))
    command = [sys.executable, "-m", "iterum", "serve", "--demo", "--port", port, "--data", folder]
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    for _ in range(300):
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}/run/1").read()
            break
        except OSError:
            time.sleep(0.1)
    yield f"http://127.0.0.1:{port}"
    process.terminate()
    process.wait(20)


def browsing(address, took, until_s):
    """What an open run page asks for: itself each second, alarms each two."""
    at = 0
    while time.monotonic() < until_s:
        for path in ("/run/1/live", "/run/alarms") if at % 2 else ("/run/1/live",):
            begun = time.monotonic()
            urllib.request.urlopen(address + path).read()
            took.append(time.monotonic() - begun)
        at += 1
        time.sleep(1)


def test_the_live_page_with_twenty_browsers(benchmark, address):
    took: list[float] = []

    def all_browse():
        until_s = time.monotonic() + SECONDS
        threads = [threading.Thread(target=browsing, args=(address, took, until_s)) for _ in range(BROWSERS)]
        for thread in threads:
            thread.start()
            time.sleep(1 / BROWSERS)
        for thread in threads:
            thread.join()

    benchmark.pedantic(all_browse, rounds=1)
    took.sort()
    print(f"\nlive page, {BROWSERS} browsers: {len(took)} answers, median {1000 * statistics.median(took):.0f} ms, "
          f"p99 {1000 * took[int(0.99 * len(took))]:.0f} ms, longest {1000 * took[-1]:.0f} ms")  # fmt: skip


def test_from_the_button_to_a_channel_that_is_off(benchmark, address):
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))
    token = re.search(r'csrf-token" content="([^"]+)"', opener.open(address + "/run/1").read().decode())[1]

    def stop():
        data = urlencode({"csrf_token": token, "act": "stop", "expected": "charging"}).encode()
        return opener.open(urllib.request.Request(f"{address}/run/1/act", data, {"Referer": address})).read().decode()

    page = benchmark.pedantic(stop, rounds=1)  # answered only when the charger shows that nothing flows
    assert "stopped" in page
