"""What is in hand now, from the stored runs: their packs, board, channel, watts, and the watt-hours they still take."""

from dataclasses import replace
from datetime import datetime

from iterum.core.bench.bench import Running
from iterum.core.bench.kit import Kit
from iterum.core.season.outlook import energy_wh, outlook
from iterum.core.season.run import BEFORE_CHARGE, LIVE, OPEN
from iterum.store.repository import Repository
from iterum.store.runs import KeptRun


def put_in_mah(repository: Repository, run: KeptRun, now: datetime) -> float:
    """mAh that a run has put in: the last that was read, else by its expected curve; 0 before it charges."""
    read = repository.runs.last_charge_mah(run.key)
    if read is not None:
        return read
    if run.expected is None or run.charging_at is None:
        return 0.0
    return run.expected.charge_at(run.minute(now))


def taken_wh(run: KeptRun, charge_mah: float) -> float:
    """Wh that so many mAh took at the source."""
    if run.expected is not None:
        return energy_wh(run.expected, charge_mah) / run.source_part
    volts = run.card.full_pack_v or run.card.pack_v
    return charge_mah / 1000 * volts / run.source_part


def running_of(repository: Repository, run: KeptRun, now: datetime) -> Running:
    """One run as the bench sees it. One that is over but still hangs there takes no more watts."""
    will_charge = run.state in LIVE or run.state in BEFORE_CHARGE
    volts = run.card.full_pack_v or run.card.pack_v * 1.2
    missing_mah = run.expected.missing_mah if run.expected else run.card.capacity_mah
    left_min = 0.0
    if will_charge:
        minutes = run.expected.minutes + run.expected.balance_min if run.expected else run.card.timer_min
        left_min = max(minutes - run.minute(now), 0.0)
        if run.expected is not None and run.state in LIVE:
            seen = [item.seen for item in repository.runs.observations(run.key)]
            left_min = outlook(run.expected, seen, run.minute(now)).left_min + run.expected.balance_min
    done_mah = put_in_mah(repository, run, now)
    left_wh = (taken_wh(run, max(missing_mah, done_mah)) - taken_wh(run, done_mah)) * run.source_part
    return Running(
        packs=run.packs,
        board=run.board,
        channel=run.channel,
        current_a=run.current_a,
        power_w=run.current_a * volts if will_charge else 0.0,
        energy_left_wh=max(left_wh, 0.0) if will_charge else 0.0,
        minutes_left=left_min,
    )


def taken_while_charging(repository: Repository, now: datetime) -> dict[str, float]:
    """By source, the Wh that charges that still run have taken so far."""
    found: dict[str, float] = {}
    for run in repository.runs.in_states(LIVE):
        if run.source is not None:
            found[run.source] = found.get(run.source, 0.0) + taken_wh(run, put_in_mah(repository, run, now))
    return found


def as_it_runs(repository: Repository, kit: Kit, now: datetime) -> tuple[Kit, tuple[Running, ...]]:
    """The kit, its sources less what charges that run have taken so far, and everything in hand."""
    taken = taken_while_charging(repository, now)
    sources = tuple(
        replace(source, taken_wh=source.taken_wh + taken[source.id]) if source.id in taken else source
        for source in kit.sources
    )
    runs = repository.runs.in_states(OPEN)
    return replace(kit, sources=sources), tuple(running_of(repository, run, now) for run in runs)
