"""What a run takes: mAh so far, watt-hours at its source, and what it still needs of watts, watt-hours and minutes."""

from collections.abc import Sequence
from datetime import datetime, timedelta

from iterum.core.season.outlook import Observation, energy_wh, outlook
from iterum.core.season.records import KeptRun
from iterum.core.season.run import BEFORE_CHARGE, LIVE, Act, State
from iterum.core.things.bench import Running
from iterum.core.things.choice import Kind


def put_in_mah(run: KeptRun, read_mah: float | None, now: datetime) -> float:
    """mAh that a run has put in: the last that was read, else by its expected curve; 0 before it charges.

    read_mah : mAh that were read last, None where none were.
    """
    if read_mah is not None:
        return read_mah
    if run.expected is None or run.charging_at is None:
        return 0.0
    return run.expected.charge_at(run.minute(now))


def taken_wh(run: KeptRun, charge_mah: float) -> float:
    """Wh that so many mAh took at the source.

    charge_mah : mAh, 0 or more.
    """
    if run.expected is not None:
        return energy_wh(run.expected, charge_mah) / run.source_part
    volts = run.card.full_pack_v or run.card.pack_v
    return charge_mah / 1000 * volts / run.source_part


def running_of(run: KeptRun, seen: Sequence[Observation], read_mah: float | None, now: datetime) -> Running:
    """One run as the bench sees it. One that is over but still hangs there takes no more watts.

    seen : what was read of it so far. read_mah : the last mAh that were read, None without.
    """
    if run.kind is not Kind.CHARGE:
        return _upkeep(run, now)
    will_charge = run.state in LIVE or run.state in BEFORE_CHARGE
    volts = run.card.full_pack_v or run.card.pack_v * 1.2
    missing_mah = run.card.capacity_mah
    if run.expected is not None:  # the cautious end: what it still takes must be there
        missing_mah = max(run.expected.missing_high_mah or 0.0, run.expected.missing_mah)
    left_min = 0.0
    if will_charge:
        minutes = run.expected.minutes + run.expected.balance_min if run.expected else run.card.timer_min
        left_min = max(minutes - run.minute(now), 0.0)
        if run.expected is not None and run.state in LIVE:
            left_min = outlook(run.expected, seen, run.minute(now)).left_min + run.expected.balance_min
    done_mah = put_in_mah(run, read_mah, now)
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


def _upkeep(run: KeptRun, now: datetime) -> Running:
    """A run that fills nothing: packs, board and channel are taken until its end; watts only as balancing passes."""
    minutes = run.expected.minutes if run.expected is not None else run.card.timer_min
    waited_min = (now - run.state_at) / timedelta(minutes=1) if run.state is State.PLUGGED_IN else 0.0
    left_min = minutes - run.minute(now) - (waited_min if run.kind is Kind.EVEN_OUT else 0.0)
    goes_on = run.state in LIVE or (run.state in BEFORE_CHARGE and run.next_act is not Act.CHECK)
    balances = goes_on and run.kind is Kind.BALANCE
    return Running(
        packs=run.packs,
        board=run.board,
        channel=run.channel,
        current_a=run.current_a,
        power_w=run.current_a * run.card.pack_v if balances else 0.0,
        energy_left_wh=0.0,
        minutes_left=max(left_min, 0.0) if goes_on else 0.0,
    )
