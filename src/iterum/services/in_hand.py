"""What is in hand now, fetched: the stored runs with what was read of them."""

from dataclasses import replace
from datetime import datetime

from iterum.core.season import in_hand
from iterum.core.season.records import KeptRun
from iterum.core.season.run import LIVE, OPEN
from iterum.core.things.bench import Running
from iterum.core.things.kit import Kit
from iterum.store.repository import Repository


def put_in_mah(repository: Repository, run: KeptRun, now: datetime) -> float:
    """mAh that a run has put in so far."""
    return in_hand.put_in_mah(run, repository.runs.last_charge_mah(run.key), now)


def running_of(repository: Repository, run: KeptRun, now: datetime) -> Running:
    """One run as the bench sees it."""
    seen = [item.seen for item in repository.runs.observations(run.key)] if run.state in LIVE else []
    return in_hand.running_of(run, seen, repository.runs.last_charge_mah(run.key), now)


def taken_while_charging(repository: Repository, now: datetime) -> dict[str, float]:
    """By source, the Wh that charges that still run have taken so far."""
    taken_mah: dict[str, float] = {}
    for run in repository.runs.in_states(LIVE):
        if run.source is not None:
            taken_mah[run.source] = taken_mah.get(run.source, 0.0) + in_hand.taken_wh(
                run, put_in_mah(repository, run, now)
            )
    return taken_mah


def as_it_runs(repository: Repository, kit: Kit, now: datetime) -> tuple[Kit, tuple[Running, ...]]:
    """The kit, its sources less what charges that run have taken so far, and everything in hand."""
    taken = taken_while_charging(repository, now)
    sources = tuple(
        replace(source, taken_wh=source.taken_wh + taken[source.id]) if source.id in taken else source
        for source in kit.sources
    )
    runs = repository.runs.in_states(OPEN)
    return replace(kit, sources=sources), tuple(running_of(repository, run, now) for run in runs)
