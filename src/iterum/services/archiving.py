"""Everything out as one archive, and an archive in: checked by reading all of it back before it is kept."""

from collections.abc import Iterator
from dataclasses import replace
from datetime import datetime

from iterum.core.fields import BadInput, Fault
from iterum.core.say import say
from iterum.core.season.figures import not_true
from iterum.core.things.session import Session
from iterum.devices.driver import Refused
from iterum.devices.drivers import whole
from iterum.exchange.log_csv import untrue
from iterum.exchange.session import dumps, parse
from iterum.services.desk import read_session, relearn
from iterum.services.links import CHARGER, CHECKER
from iterum.store.archive import MOST_FAULTS, read
from iterum.store.database import Store
from iterum.store.merge import Taken
from iterum.store.repository import Repository
from iterum.wording import sentence

MOST_RUNS = 1_000_000


class Archives:
    """Everything of one bench, out and in."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def text(self, now: datetime) -> str:
        """The archive: everything that is kept, retired things too."""
        with self._store.reading() as repository:
            return "".join(repository.archive(now))

    def of_pilot(self, pilot: str, now: datetime) -> str:
        """The packs of one pilot, with their readings and charges, as an archive of a bench of one."""
        with self._store.reading() as repository:
            return "".join(repository.archive(now, pilot))

    def take(self, raw: bytes) -> Taken:
        """Take an archive in, all of it or nothing. Raises BadInput with the faults."""
        rows = read(raw)
        with self._store.writing() as repository:
            taken = repository.merge(rows)
            _check(repository)
            _relearn(repository, taken)
        return taken


def _check(repository: Repository) -> None:
    """Read back all that is kept now, as the pages will. Raises BadInput."""
    faults: list[Fault] = []
    for name, look in _LOOKS.items():
        try:
            faults += [Fault(name, text) for text in look(repository)]
        except BadInput as bad:
            faults += [Fault(f"{name}, {fault.place}" if fault.place else name, fault.mend) for fault in bad.faults]
        except (ValueError, KeyError, TypeError, AttributeError, Refused) as error:
            faults.append(
                Fault(
                    name,
                    say(
                        "cannot be read back: {splitlines}",
                        splitlines=repr(str(error).splitlines()[0] if str(error) else error),
                    ),
                )
            )
    if faults:
        raise BadInput(faults[:MOST_FAULTS])


def _bench(repository: Repository) -> Iterator[str]:
    """Packs and kit in use and retired, rules, heats and the plan."""
    session = read_session(repository)
    parse(dumps(replace(session, starts_at=None)))  # its heats count from the morning, and packs were measured since
    parse(dumps(Session(packs=repository.packs(retired=True), kit=repository.kit(retired=True))))
    repository.latest_plans()
    repository.hand_moves()
    repository.air()
    yield from ()


def _readings(repository: Repository) -> Iterator[str]:
    cells = {pack.id: pack.cells for retired in (False, True) for pack in repository.packs(retired)}
    for kept in repository.measured(None, None, None, None, 0):
        reading = kept.reading
        wrong = not_true(
            cells[kept.pack_id], reading.pack_v, cell_v=reading.cell_v, temperature_c=reading.temperature_c
        )
        if wrong is not None:
            yield f"{kept.pack_id}: {sentence(wrong)}"


def _runs(repository: Repository) -> Iterator[str]:
    for run in repository.runs.latest(MOST_RUNS):
        repository.runs.events(run.key)
        for finding in repository.runs.findings(run.key, holding=False):
            sentence(finding.finding.what)
            sentence(finding.finding.do)
        for kept in repository.runs.observations(run.key):
            seen = kept.seen
            wrong = not_true(0, seen.pack_v, seen.current_a, seen.charge_mah, seen.cell_v, seen.temperature_c,
                             seen.input_v, seen.at_min)  # fmt: skip
            if wrong is not None:
                yield say("batch of {packs:list}: {sentence}", packs=run.packs, sentence=sentence(wrong))


def _log(repository: Repository) -> Iterator[str]:
    repository.ledger()
    repository.runs.incidents()
    for charge in repository.runs.charges():
        yield from (f"{charge.pack_id}: {text}" for text in untrue(charge.record))


def _devices(repository: Repository) -> Iterator[str]:
    for device in repository.runs.devices():
        whole(device.address)
        if device.kind not in (CHARGER, CHECKER):
            yield f"{device.kind!r} is no charger and no checker"


_LOOKS = {"bench": _bench, "readings": _readings, "runs": _runs, "log": _log, "devices": _devices}


def _relearn(repository: Repository, taken: Taken) -> None:
    """What charges of before teach of packs that were here already."""
    new = {key for _, table, key in taken.lines if table == "charges"}
    came = {key for _, table, key in taken.lines if table == "packs"}
    for tag in {item.pack_id for item in repository.runs.charges() if item.key in new}:
        if repository.key_of(tag) not in came:
            relearn(repository, tag)
