"""`iterum charge`."""

import click

from iterum.cli import command
from iterum.cli.common import (
    choice_of,
    print_json,
    print_limits,
    print_timetable,
    print_verdict,
    printable,
    reads_session,
    table,
)
from iterum.core.electrical.charging import Charge, PackCharged, narrowing
from iterum.core.sizing.size import charge
from iterum.core.things.limit_kinds import KINDS
from iterum.core.things.session import Session
from iterum.exchange import results
from iterum.wording import between, minutes, plain, sentence, span


def _shares(result: Charge, item: PackCharged) -> list[str]:
    """A into a pack early, halfway and at the end, each with its range where it has one."""
    fan = result.fan_of(item.id)
    told = [f"{share:.2f}" for share in item.share_a]
    if fan is None or len(result.packs) == 1:
        return told
    return [f"{share} ({span(band.low, band.high, 1)})" for share, band in zip(told, fan.share_a, strict=True)]


@command("charge")
@reads_session
def charge_command(session: Session, as_json: bool) -> None:
    """See `iterum charge --help`."""
    judged = charge(session.bench, choice_of(session))
    if as_json:
        print_json(results.charge_document(judged))
        return
    result, current_a = judged.charge, judged.charge.current_a
    expected = between(result.minutes, result.minutes_low, result.minutes_high)
    click.echo(f"{plain(current_a)} A: expected {expected},")
    click.echo(f"{minutes(result.cc_minutes)} of it to full volts; balancing may add {minutes(result.balance_min)}.")
    if result.power_limit:
        slows = f"{KINDS[result.power_limit].words} set the amps for {minutes(result.power_limited_min)}"
        click.echo(f"{slows[0].upper()}{slows[1:]}, which takes {minutes(result.power_costs_min)} longer.")
    click.echo(f"{span(result.charge_low_mah, result.charge_high_mah)} mAh go in, about {result.charge_mah:.0f}; the "
               f"source gives {span(result.energy_in_wh, result.energy_in_high_wh, 1)} Wh, "
               f"{result.peak_input_w:.0f} W at most.")  # fmt: skip
    for why in narrowing(session.bench.members(judged.choice.packs)):
        click.echo(printable(sentence(why)))
    click.echo()
    rows = [
        (item.id, *_shares(result, item), f"{item.peak_rate_c:.2f}, at most {result.peak_high_c(item.id):.2f}",
         f"{item.charge_mah:.0f}", f"{item.end_soc * 100:.0f} %")
        for item in result.packs
    ]  # fmt: skip
    table(("pack", "A after 1 min", "middle", "end", "most C", "mAh in", "ends at"), rows)
    click.echo()
    print_limits(judged.limits)
    if len(result.packs) > 1 and judged.joining.passes:
        click.echo()
        print_timetable(judged.joining)
    print_verdict(judged.level.value, judged.reasons)
    for way in judged.joining.ways:
        click.echo(f"  way out: {printable(sentence(way))}")
