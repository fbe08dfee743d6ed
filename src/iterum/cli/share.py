"""`iterum share`: how a phone comes in, for a machine without a screen."""

import json
import re
import sys
from http.cookiejar import CookieJar
from typing import Any
from urllib.error import HTTPError, URLError
from urllib.parse import urlencode
from urllib.request import HTTPCookieProcessor, OpenerDirector, build_opener

import click
import segno

from iterum.cli import command
from iterum.cli.common import BAD_INPUT
from iterum.core.say import say
from iterum.services.sharing import Offer, Role, Shared


def show(shared: Shared, offer: Offer) -> None:
    """Address, code and digits in a terminal."""
    tell(shared.urls(), shared.urls(f"/share/pair?code={offer.secret}"), offer.digits, shared.fingerprint)


def tell(addresses: tuple[str, ...], ways: tuple[str, ...], digits: str, fingerprint: str) -> None:
    """The same from its parts. ways : the addresses with the secret, for the code."""
    if not addresses:
        click.echo(say("Shared, but this machine is on no network. Join one, then: iterum share"))
        return
    segno.make(ways[0], error="l", micro=False).terminal(compact=True)
    click.echo(
        say(
            "Scan it within five minutes, or open {addresses} and type {digits} {digits2}",
            addresses=" or ".join(addresses),
            digits=digits[:4],
            digits2=digits[4:],
        )
    )
    if fingerprint:
        click.echo(
            say(
                "The phone warns once. Go on if its details show this SHA-256 fingerprint:\n{fingerprint}",
                fingerprint=fingerprint,
            )
        )


@command("share")
@click.option(
    "--port", default=8765, show_default=True, type=click.IntRange(1, 65535), help=say("Port Iterum runs at here.")
)
@click.option(
    "--all", "everything", is_flag=True, help=say("Let the device do everything, not only work at the bench.")
)
@click.option("--close", is_flag=True, help=say("Share no more."))
def share(port: int, everything: bool, close: bool) -> None:
    """See `iterum share --help`."""
    address, browser = f"http://127.0.0.1:{port}", build_opener(HTTPCookieProcessor(CookieJar()))
    try:
        if close:
            _post(browser, address, "/share/close", {})
            click.echo(say("Shared no more."))
            return
        told = _ways(browser, address)
        if not told["shared"]:
            _post(browser, address, "/share/open", {"until": "closed"})
        _post(browser, address, "/share/offer", {"role": (Role.ALL if everything else Role.BENCH).value})
        told = _ways(browser, address)
    except (HTTPError, URLError, OSError) as error:
        silent = say(
            "Iterum does not answer at {address}: {error}. Start it first: iterum serve", address=address, error=error
        )
        click.echo(silent, err=True)
        sys.exit(BAD_INPUT)
    if not told["shared"]:
        click.echo(say("It could not be shared: see the log of the server."), err=True)
        sys.exit(BAD_INPUT)
    tell(tuple(told["addresses"]), tuple(told["ways"]), told["digits"], told["fingerprint"])


def _ways(browser: OpenerDirector, address: str) -> dict[str, Any]:
    told: dict[str, Any] = json.loads(browser.open(f"{address}/share/ways.json", timeout=10).read())
    return told


def _post(browser: OpenerDirector, address: str, path: str, fields: dict[str, str]) -> None:
    """As the page would send it."""
    page = browser.open(f"{address}/share", timeout=10).read().decode()
    hit = re.search(r'name="csrf-token" content="([^"]+)"', page)
    token = hit[1] if hit else ""
    browser.open(f"{address}{path}", urlencode({**fields, "csrf_token": token}).encode(), timeout=10).read()
