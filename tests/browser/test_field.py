"""Two hosts: Iterum on one, a phone's browser on the other, joined by a cable of their own."""

import json
import os
import re
import shutil
import subprocess
import sys
import time
import urllib.request
from contextlib import contextmanager
from urllib.parse import urlencode

import pytest
from playwright.sync_api import expect

from tests.browser.bench import (
    CHROMIUM,
    NEXT,
    PHONE,
    compared_and_started,
    launched,
    pad,
    read_now,
    state_of,
    taken_in_hand,
    tap_to,
    turning,
)

WORKER = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:])
"""Another run of these tests at the same time has a cable and doors of its own."""
HERE, THERE, NEW = (f"10.77.{31 + 2 * WORKER + other}.{end}" for other, end in ((0, 1), (0, 2), (1, 1)))
PORT, SHARED = 8793 + 10 * WORKER, 8797 + 10 * WORKER
SPACE = f"iterum{os.getpid()}"


def run(*words):
    return subprocess.run(words, capture_output=True, text=True, check=False)


@pytest.fixture(scope="module")
def other_host(tmp_path_factory):
    """A network namespace joined to this one; gives a command that starts a browser in it."""
    if not shutil.which("ip") or run("ip", "netns", "add", SPACE).returncode:
        pytest.skip("this machine does not let a test make a network of its own (ip netns add)")
    ours, theirs = f"it{os.getpid() % 10_000}a", f"it{os.getpid() % 10_000}b"
    inside = ("ip", "netns", "exec", SPACE)
    for words in (
        ("ip", "link", "add", ours, "type", "veth", "peer", "name", theirs, "netns", SPACE),
        ("ip", "addr", "add", f"{HERE}/24", "dev", ours), ("ip", "link", "set", ours, "up"),
        (*inside, "ip", "addr", "add", f"{THERE}/24", "dev", theirs), (*inside, "ip", "link", "set", theirs, "up"),
        (*inside, "ip", "link", "set", "lo", "up"),
    ):  # fmt: skip
        done = run(*words)
        if done.returncode:
            run("ip", "netns", "del", SPACE)
            pytest.skip(f"this machine does not let a test make a network of its own: {done.stderr.strip()}")
    browser = tmp_path_factory.mktemp("there") / "browser"
    browser.write_text(f'#!/bin/sh\nexec ip netns exec {SPACE} {CHROMIUM} "$@"\n')
    browser.chmod(0o755)
    yield browser, inside, ours
    run("ip", "link", "del", ours)
    run("ip", "netns", "del", SPACE)


@pytest.fixture(scope="module")
def iterum(other_host, tmp_path_factory):
    """The demo, served and shared by the command."""
    folder = tmp_path_factory.mktemp("shared")
    command = [sys.executable, "-m", "iterum", "serve", "--demo", "--port", str(PORT), "--data", str(folder),
               "--share", "--share-port", str(SHARED), "--speed", "60"]  # fmt: skip
    with (folder / "log").open("w") as log:
        process = subprocess.Popen(command, stdout=log, stderr=log)
    for _ in range(600):
        try:
            if ways()["shared"]:
                break
        except OSError:
            time.sleep(0.1)
    yield folder
    process.terminate()
    process.wait(30)


def ways():
    return json.loads(urllib.request.urlopen(f"http://127.0.0.1:{PORT}/share/ways.json", timeout=10).read())


def new_code(*more):
    told = run(sys.executable, "-m", "iterum", "share", "--port", str(PORT), *more)
    assert told.returncode == 0, told.stderr
    return told.stdout


@pytest.fixture(scope="module")
def phone_browser(other_host, playwright):
    browser = launched(playwright, str(other_host[0]))
    yield browser
    browser.close()


@contextmanager
def phone(browser):
    context = browser.new_context(viewport=PHONE, has_touch=True, ignore_https_errors=True)
    yield context.new_page()
    context.close()


def test_a_phone_pairs_measures_and_is_forgotten(iterum, phone_browser):
    told = new_code()
    digits = re.search(r"type (\d{4} \d{4})", told)[1]
    assert f"https://{HERE}:{SHARED}/" in told
    with phone(phone_browser) as page:
        page.goto(f"https://{HERE}:{SHARED}/measure")
        expect(page.get_by_role("heading", name="This device is not paired")).to_be_visible()
        expect(page.get_by_text("Smoke, hiss, sparks or fire")).to_be_visible()
        page.get_by_role("link", name="Type the digits").click()
        page.get_by_label("The eight digits").fill(digits)
        page.get_by_label("What this device is called").fill("test phone")
        page.get_by_role("button", name="Pair it").click()
        expect(page.get_by_role("heading", name="Bench", exact=True)).to_be_attached()
        page.goto(f"https://{HERE}:{SHARED}/run/1")
        expect(page.locator("#watch")).to_contain_text("Watched")
        forget()
        page.goto(f"https://{HERE}:{SHARED}/measure")
        expect(page.get_by_role("heading", name="This device is not paired")).to_be_visible()


def paired(page, name):
    page.goto(re.search(r"https://\S+", json.dumps(new_ways()))[0].rstrip('",]'))
    page.get_by_label("What this device is called").fill(name)
    page.get_by_role("button", name="Pair it").tap()
    expect(page.get_by_role("heading", name="Bench", exact=True)).to_be_attached()


def new_ways():
    """The address that the code holds."""
    new_code()
    return ways()["ways"][0]


def test_a_day_on_the_phone_alone(iterum, phone_browser):
    at = f"https://{HERE}:{SHARED}"
    with phone(phone_browser) as page:
        page.set_default_timeout(20_000)
        paired(page, "day phone")

        page.goto(f"{at}/p/T-02")  # the camera read the code of its label
        expect(read_now(page, "T-02")).to_be_visible()
        for digit in "382" * 6:
            pad(page).get_by_role("button", name=digit, exact=True).tap()
        pad(page).get_by_role("button", name=NEXT).tap()
        asked = pad(page).get_by_role("button", name="Confirm")
        written = page.get_by_text("T-02 is saved.")
        expect(asked.or_(written).first).to_be_visible()
        if not written.count():  # it stands off what was read before
            asked.tap()
        expect(written).to_be_visible()

        tap_to(page, "Packs", "Match")
        expect(page.locator(".phone-ladder svg").first).to_be_visible()
        tap_to(page, "Bench", "Plan")
        expect(page.get_by_role("heading", name="At the bench")).to_be_visible(timeout=60_000)
        tap_to(page, "Bench", "Bench")
        page.locator(".bench-row a[href^='/charge?']").first.tap()  # what a free channel has next
        key = taken_in_hand(page)
        evened = page.get_by_role("button", name=re.compile("They have equalised|Look again"))
        for _ in range(60):
            if not evened.count():
                break
            with turning(page):
                evened.tap()
            page.wait_for_timeout(1000)
        compared_and_started(page)
        expect(state_of(page)).to_have_text("charging")

        page.get_by_role("button", name=re.compile("cool")).first.tap()
        expect(page.get_by_text(re.compile("Checked: . batch"))).to_be_visible()
        page.goto(f"{at}/run/{key}")
        page.once("dialog", lambda dialog: dialog.accept())
        page.get_by_role("button", name=re.compile("^Stop ")).tap()
        expect(state_of(page)).to_have_text("stopped")

        page.get_by_role("link", name="Something’s wrong").tap()
        expect(page.get_by_text("Smoke, hiss, sparks or fire").first).to_be_visible()
        page.goto(f"{at}/run/{key}")
        page.get_by_role("button", name="Log it without reading them").tap()
        expect(page.get_by_text("free again.").first).to_be_visible()
        tap_to(page, "Bench", "Put away")
        expect(page.get_by_role("heading", name="Put away")).to_be_visible()


def phone_page(browser, address):
    with phone(browser) as page:
        try:
            return page.goto(address, timeout=5000)
        except Exception:
            return None


def forget():
    """As the page on this machine sends it."""
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
    page = opener.open(f"http://127.0.0.1:{PORT}/share").read().decode()
    token = re.search(r'csrf-token" content="([^"]+)"', page)[1]
    for key in re.findall(r'name="key"\s+value="(\d+)"', page):
        data = urlencode({"csrf_token": token, "key": key}).encode()
        opener.open(f"http://127.0.0.1:{PORT}/share/forget", data).read()


def test_an_unpaired_host_tries_and_gets_nothing(iterum, other_host):
    _, inside, _ = other_host

    def ask(*words):
        told = run(*inside, sys.executable, "-c", ASK, *words)
        return told.stdout.strip() or told.stderr.strip().splitlines()[-1]

    assert ask(f"https://{HERE}:{SHARED}/files/archive.jsonl") == "403"
    assert ask(f"https://{HERE}:{SHARED}/packs", "evil.example") == "400"
    assert ask(f"https://{HERE}:{SHARED}/packs", "127.0.0.1:8765") == "400"
    assert "refused" in ask(f"http://{HERE}:{PORT}/packs")  # the first door listens on its own machine only
    assert ask(f"http://{HERE}:{SHARED}/packs") != "200"  # no plain HTTP where TLS is spoken


ASK = """
import ssl, sys, urllib.request
request = urllib.request.Request(sys.argv[1], headers={"Host": sys.argv[2]} if len(sys.argv) > 2 else {})
context = ssl.create_default_context()
context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
try:
    print(urllib.request.urlopen(request, timeout=10, context=context).status)
except urllib.error.HTTPError as error:
    print(error.code)
"""
"""What a program on the other host does: asks, believing any certificate, and says what came."""


def test_the_certificate_is_believed_by_who_installed_the_authority(iterum, other_host):
    told = run(*other_host[1], sys.executable, "-c", f"""
import ssl, urllib.request
context = ssl.create_default_context(cafile={str(iterum / "authority.crt")!r})
print(urllib.request.urlopen("https://{HERE}:{SHARED}/share/pair", timeout=10, context=context).status)
""")  # fmt: skip
    assert told.stdout.strip() == "200", told.stderr


def test_the_bench_shows_the_fingerprint_that_a_browser_shows_and_the_phone_is_never_told_it(iterum, other_host):
    told = run(*other_host[1], sys.executable, "-c", f"""
import hashlib, ssl, urllib.request
raw = ssl.PEM_cert_to_DER_cert(ssl.get_server_certificate(("{HERE}", {SHARED}), timeout=10))
print(hashlib.sha256(raw).hexdigest().upper())
context = ssl._create_unverified_context()
print(urllib.request.urlopen("https://{HERE}:{SHARED}/share/pair", timeout=10, context=context).read().decode())
""")  # fmt: skip
    seen, _, page = told.stdout.partition("\n")
    shown = ways()["fingerprint"]
    assert shown.replace(" ", "") == seen
    assert shown not in page  # who stands between would show it too: it is compared with the bench's own screen


def test_a_new_address_is_answered_at_and_vouched_for_within_moments(iterum, other_host):
    _, inside, ours = other_host
    run("ip", "addr", "add", f"{NEW}/24", "dev", ours)
    run(*inside, "ip", "route", "add", f"{NEW.rsplit('.', 1)[0]}.0/24", "via", HERE)
    for _ in range(150):
        if any(NEW in address for address in ways()["addresses"]):
            break
        time.sleep(0.1)
    told = run(*inside, sys.executable, "-c", f"""
import ssl, urllib.request
context = ssl.create_default_context(cafile={str(iterum / "authority.crt")!r})
print(urllib.request.urlopen("https://{NEW}:{SHARED}/share/pair", timeout=10, context=context).status)
""")  # fmt: skip
    assert told.stdout.strip() == "200", told.stderr


def test_closed_is_closed(iterum, phone_browser):
    assert "Shared no more" in new_code("--close")
    assert phone_page(phone_browser, f"https://{HERE}:{SHARED}/share/pair") is None
    new_code()
    assert phone_page(phone_browser, f"https://{HERE}:{SHARED}/share/pair").status == 200
