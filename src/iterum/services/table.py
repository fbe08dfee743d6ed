"""What each pilot at the table had today: heats flown, and watt-hours by source."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from iterum.core.season.moments import begin_of
from iterum.core.season.records import KeptRun
from iterum.core.things.ledger import Entry, EntryKind
from iterum.core.things.packs import Pack
from iterum.store.database import Store
from iterum.store.repository import Repository


@dataclass(frozen=True)
class Account:
    """One pilot today. flown : names of heats. by_source : (source, Wh) into packs of theirs. gave_wh : Wh from sources
    of theirs into packs of others.
    """

    pilot: str
    flown: tuple[str, ...]
    by_source: tuple[tuple[str, float], ...]
    gave_wh: float


def had_wh(
    entries: Iterable[Entry], runs: Mapping[int, KeptRun], packs: Sequence[Pack], since: datetime
) -> dict[tuple[str, str], float]:
    """By source and pilot, Wh that were taken for packs of theirs; a batch is split by what its packs hold.

    entries : of the ledger. runs : by key. since : the begin of the day.
    """
    owned = {pack.id: pack for pack in packs}
    taken: dict[tuple[str, str], float] = {}
    for entry in entries:
        run = runs.get(entry.run_key or 0)
        if entry.kind is not EntryKind.CHARGE or run is None or entry.at < since:
            continue
        known = [owned[tag] for tag in run.packs if tag in owned]
        whole_wh = sum(pack.rated_energy_wh for pack in known)
        for pack in known:
            if pack.pilot is not None:
                part = entry.wh * pack.rated_energy_wh / whole_wh
                taken[entry.source, pack.pilot] = taken.get((entry.source, pack.pilot), 0.0) + part
    return taken


def had_today(repository: Repository, packs: Sequence[Pack], now: datetime) -> dict[tuple[str, str], float]:
    """The same of today.

    now : the present.
    """
    since = begin_of(now.astimezone().date())
    entries = repository.ledger()
    keys = [entry.run_key for entry in entries if entry.run_key is not None and entry.at >= since]
    return had_wh(entries, {key: repository.runs.get(key) for key in keys}, packs, since)


class Table:
    """The table and what was had from it."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def accounts(self, now: datetime) -> tuple[Account, ...]:
        """What each pilot had today, in the order of the table."""
        with self._store.reading() as repository:
            pilots, kit = repository.pilots(), repository.kit()
            packs = (*repository.packs(), *repository.packs(retired=True))
            taken = had_today(repository, packs, now)
            flights = repository.runs.flights(begin_of(now.astimezone().date()))
        owners = {pack.id: pack.pilot for pack in packs}
        lent_by = {source.id: source.pilot for source in kit.sources}
        told = []
        for pilot in pilots:
            flown = tuple(flight.name or flight.family for flight in flights
                          if any(owners.get(tag) == pilot.id for tag in flight.packs))  # fmt: skip
            mine = tuple((source, wh) for (source, whose), wh in taken.items() if whose == pilot.id)
            gave_wh = sum(wh for (source, whose), wh in taken.items()
                          if lent_by.get(source) == pilot.id and whose != pilot.id)  # fmt: skip
            told.append(Account(pilot.id, flown, mine, gave_wh))
        return tuple(told)
