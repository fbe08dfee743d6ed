"""Which driver speaks to an address, by its scheme. To add a charger: its module, and one row here."""

from urllib.parse import urlsplit

from iterum.core.say import say
from iterum.devices.driver import ChargerDriver, CheckerDriver, Refused
from iterum.devices.lines import LineCharger, LineChecker
from iterum.devices.log_lines import LogCharger

DRIVERS: dict[str, type[ChargerDriver]] = {"line": LineCharger, "log": LogCharger}
CHECKERS: dict[str, type[CheckerDriver]] = {"line": LineChecker}


def whole(address: str) -> str:
    """An address with its scheme; HOST:PORT alone is one of the line protocol."""
    address = address.strip()
    return address if _scheme(address) in DRIVERS else f"line://{address}"


def _scheme(address: str) -> str:
    try:
        return urlsplit(address).scheme
    except ValueError:  # brackets that hold no address
        return ""


_ONLY: set[str] = set()


def only(address: str) -> None:
    """Reach nothing but this address of the line protocol in this process, from now on: a rehearsal has no other."""
    for known in (DRIVERS, CHECKERS):
        for scheme in [name for name in known if name != "line"]:
            del known[scheme]
    _ONLY.clear()
    _ONLY.add(whole(address))


def _may_reach(address: str) -> None:
    """Raises Refused for what a rehearsal must not reach."""
    if _ONLY and whole(address) not in _ONLY:
        raise Refused(say("this is a rehearsal: it reaches the simulated charger alone"))


def commands_at(address: str) -> bool:
    """Whether the charger at an address takes commands; one that is only listened to cannot be stopped."""
    driver = DRIVERS.get(_scheme(address))
    return driver is not None and driver.commands


def charger_at(address: str, timeout_s: float) -> ChargerDriver:
    """The driver of a charger. Raises Refused for an address that no driver understands, or that is out of reach."""
    _may_reach(address)
    driver = DRIVERS.get(_scheme(address))
    if driver is None:
        raise Refused(say("an address begins with one of {drivers:list}", drivers=DRIVERS))
    return driver.at(address, timeout_s)


def checker_at(address: str, timeout_s: float) -> CheckerDriver:
    """The driver of a cell checker. Raises Refused as `charger_at` does."""
    _may_reach(address)
    driver = CHECKERS.get(_scheme(address))
    if driver is None:
        raise Refused(say("the address of a cell checker begins with one of {checkers:list}", checkers=CHECKERS))
    return driver.at(address, timeout_s)
