"""The bench shared with phones: who is let in, by which code, and until when.

Nothing is shared until somebody opens it. A device is paired once, by a code that is scanned or digits that are typed,
and holds a token from then on, of which only the hash is kept here.
"""

import re
import secrets
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum
from hashlib import sha256
from hmac import compare_digest
from threading import Lock

from iterum.core.say import say
from iterum.store.database import Store
from iterum.store.phones import Phone

OFFER_LASTS, TRIES, DIGITS = timedelta(minutes=5), 5, 8
MOST_TRIES = 20
"""Wrong tries from all addresses together after which a code is void: many of them are no slip."""
MOST_TOLD = 50
"""Addresses of which wrong codes, or moves, are remembered."""
SECRET_BYTES, TOKEN_BYTES = 16, 32
NAME_LENGTH = 40
SEEN_EVERY = timedelta(seconds=20)
"""So often it is written down that a device was seen."""
TWO_PLACES = timedelta(seconds=60)
"""A device seen at two addresses within this time is two devices."""


CALENDAR = "calendar"
"""The role of what only reads the visits."""


class Role(StrEnum):
    """What a device may do: work at the bench, see to the packs of one pilot, or everything."""

    BENCH = "bench"
    PILOT = "pilot"
    ALL = "all"


class NotPaired(Exception):
    """The code is not, or no more, one that pairs; says why."""


@dataclass
class Offer:
    """A way in for one device: a secret to scan, digits to type, until when. pilot : whose device it will be, where
    it is a pilot's. wrong : wrong tries by address."""

    secret: str
    digits: str
    role: Role
    until: datetime
    pilot: str | None = None
    wrong: Counter[str] = field(default_factory=Counter)


@dataclass(frozen=True)
class Wrong:
    """Wrong codes from one address: how many, and when last."""

    address: str
    count: int
    at: datetime


@dataclass(frozen=True)
class Moved:
    """A paired device that asks from another address than before, and is not let in until a person says that it is it.

    number : two digits that it shows, to be compared.
    """

    phone: Phone
    address: str
    number: str
    at: datetime


@dataclass(frozen=True)
class Shared:
    """How the bench is shared. until : when it closes by itself; None: when somebody closes it.

    plain : without encryption. addresses : of this machine on its networks. fingerprint : of the server’s
    certificate, as a browser shows it.
    """

    until: datetime | None
    plain: bool
    port: int
    addresses: tuple[str, ...] = ()
    named: bool = False
    fingerprint: str = ""

    def urls(self, path: str = "/") -> tuple[str, ...]:
        """Addresses to ask for a page at, those by number first: not every phone finds names."""
        scheme = "http" if self.plain else "https"
        hosts = [*self.addresses, *([NAME] if self.named else [])]
        return tuple(f"{scheme}://{host}:{self.port}{path}" for host in hosts)


NETWORKS = ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "100.64.0.0/10")
"""Local networks (RFC 1918, RFC 3927, and RFC 6598, which hotspots give out): shared on these alone."""
NAME, PORT = "iterum.local", 8766
"""What printed codes hold: they outlive a changed address."""


class Sharing:
    """Who is let in. Safe to use from several threads."""

    def __init__(self, store: Store) -> None:
        self._store, self._lock = store, Lock()
        self._offer: Offer | None = None
        self._wrong: dict[str, Wrong] = {}
        self._moved: dict[int, Moved] = {}
        self.shared: Shared | None = None

    # ------------------------------------------------------------------ pairing

    def offer(self, role: Role, now: datetime, pilot: str | None = None) -> Offer:
        """A new way in; the one before is void. pilot : whose device it will be."""
        digits = "".join(secrets.choice("0123456789") for _ in range(DIGITS))
        with self._lock:
            self._offer = Offer(secrets.token_urlsafe(SECRET_BYTES), digits, role, now + OFFER_LASTS, pilot)
            return self._offer

    def offered(self, now: datetime) -> Offer | None:
        """The way in that is open now."""
        with self._lock:
            return self._offer if self._offer is not None and now < self._offer.until else None

    def pair(self, code: str, name: str, agent: str, address: str, now: datetime) -> str:
        """Let a device in by a secret or by digits. Returns its token. Raises NotPaired with what to do."""
        code, name = re.sub(r"\s", "", code), " ".join(name.split())[:NAME_LENGTH]
        with self._lock:
            offer = self._offer
            if offer is None or now >= offer.until:
                self._offer = None
                raise NotPaired(say("No code is open just now. Ask for a new one on Iterum’s page On my phone."))
            if offer.wrong[address] >= TRIES:
                raise NotPaired(say("This device has tried too often. Ask for a new code on Iterum’s own screen."))
            if not any(compare_digest(code.encode(), known.encode()) for known in (offer.secret, offer.digits)):
                self._note_wrong(offer, address, now)
                left = TRIES - offer.wrong[address]
                more = f"{left} {'try is' if left == 1 else 'tries are'} left."
                more = more if left else say("Ask for a new one on Iterum’s own screen.")
                raise NotPaired(say("That is not the code. {more}", more=more))
            self._offer = None  # once
        token = secrets.token_urlsafe(TOKEN_BYTES)
        with self._store.writing(changes_session=False) as repository:
            repository.phones.add(
                name or "phone", offer.role.value, _hash(token), _kind(agent), address, now, offer.pilot
            )
        return token

    def _note_wrong(self, offer: Offer, address: str, now: datetime) -> None:
        """A wrong code: the bench is told, and one address cannot void the code for others."""
        offer.wrong[address] += 1
        before = self._wrong.pop(address, Wrong(address, 0, now))
        self._wrong[address] = Wrong(address, before.count + 1, now)
        while len(self._wrong) > MOST_TOLD:
            del self._wrong[next(iter(self._wrong))]
        if offer.wrong.total() >= MOST_TRIES:
            self._offer = None

    def wrong(self) -> tuple[Wrong, ...]:
        """Wrong codes by address, the latest first."""
        with self._lock:
            return tuple(reversed(self._wrong.values()))

    # ------------------------------------------------------------------ who is there

    def known(self, token: str, agent: str, address: str, now: datetime) -> Phone | Moved | None:
        """The device that holds this token; None for one that is unknown or forgotten.

        A token that comes from another kind of browser is not believed. One that is used at two addresses at once was
        stolen, and nobody can tell by whom: it is void. One that comes from another address than before may have been
        stolen while its owner is silent: a person at the bench has to say that it is the same device.
        """
        if not token:
            return None
        with self._store.reading() as repository:
            phone = repository.phones.by_token(_hash(token))
        if phone is None or phone.gone_at is not None or phone.kind != _kind(agent) or phone.role == CALENDAR:
            return None
        if address != phone.address:
            if now - phone.seen_at < TWO_PLACES:
                self.forget(
                    phone.key,
                    now,
                    say("used at {address} and at {address2} at once", address=phone.address, address2=address),
                )
                return None
            return self._asks(phone, address, now)
        if now - phone.seen_at >= SEEN_EVERY:
            with self._store.writing(changes_session=False) as repository:
                repository.phones.seen(phone.key, address, now)
        return phone

    def _asks(self, phone: Phone, address: str, now: datetime) -> Moved:
        with self._lock:
            known = self._moved.get(phone.key)
            if known is None or known.address != address:
                number = f"{secrets.randbelow(90) + 10}"
                known = self._moved[phone.key] = Moved(phone, address, number, now)
            while len(self._moved) > MOST_TOLD:
                del self._moved[next(iter(self._moved))]
            return known

    def moved(self) -> tuple[Moved, ...]:
        """Devices that ask from another address than before."""
        with self._lock:
            return tuple(self._moved.values())

    def is_same(self, key: int, number: str, now: datetime) -> bool:
        """A person says that a device is the same at its new address; False where that was not asked any more.

        number : that the person saw on it, as the page showed it beside the button.
        """
        with self._lock:
            asked = self._moved.get(key)
            if asked is None or asked.number != number:
                return False
            del self._moved[key]
        with self._store.writing(changes_session=False) as repository:
            repository.phones.seen(key, asked.address, now)
        return True

    def calendar(self, now: datetime) -> str:
        """A secret of its own for a calendar that asks for the visits by itself; it opens nothing else."""
        secret = secrets.token_urlsafe(TOKEN_BYTES)
        with self._store.writing(changes_session=False) as repository:
            repository.phones.add("Calendar", CALENDAR, _hash(secret), "", "", now)
        return secret

    def may_read_calendar(self, secret: str, address: str, now: datetime) -> bool:
        """Whether a secret is that of a calendar that was not revoked."""
        with self._store.reading() as repository:
            phone = repository.phones.by_token(_hash(secret))
        if phone is None or phone.gone_at is not None or phone.role != CALENDAR:
            return False
        if now - phone.seen_at >= SEEN_EVERY:
            with self._store.writing(changes_session=False) as repository:
                repository.phones.seen(phone.key, address, now)
        return True

    def forget(self, key: int, now: datetime, why: str = "forgotten here") -> None:
        """Let a device in no more, from this moment on."""
        with self._lock:
            self._moved.pop(key, None)
        with self._store.writing(changes_session=False) as repository:
            repository.phones.forget(key, now, why)

    def phones(self) -> Sequence[Phone]:
        """Every device that was ever paired, the latest first."""
        with self._store.reading() as repository:
            return repository.phones.all()

    # ------------------------------------------------------------------ the door

    def is_open(self, now: datetime) -> bool:
        """Whether the bench is shared now."""
        shared = self.shared
        return shared is not None and (shared.until is None or now < shared.until)


def _hash(token: str) -> str:
    return sha256(token.encode()).hexdigest()


def _kind(agent: str) -> str:
    """A browser without its versions, which rise while it stays the same."""
    return re.sub(r"[\d.]+", "", agent)[:200]
