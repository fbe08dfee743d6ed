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
from iterum.core.say import figure, say
from iterum.core.sizing.size import charge
from iterum.core.things.limit_kinds import KINDS
from iterum.core.things.session import Session
from iterum.exchange import results
from iterum.wording import between, sentence, span


def _shares(result: Charge, item: PackCharged) -> list[str]:
    """A into a pack early, halfway and at the end, each with its range where it has one."""
    fan = result.fan_of(item.id)
    told = [figure(share, ".2f") for share in item.share_a]
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
    click.echo(say("{current_a:plain} A: expected {expected},", current_a=current_a, expected=expected))
    click.echo(
        say(
            "{cc_minutes:min} of it to full volts; balancing may add {balance_min:min}.",
            cc_minutes=result.cc_minutes,
            balance_min=result.balance_min,
        )
    )
    if result.power_limit:
        slows = say(
            "{words} set the amps for {power_limited_min:min}",
            words=KINDS[result.power_limit].words,
            power_limited_min=result.power_limited_min,
        )
        click.echo(
            say(
                "{upper}{slows}, which takes {power_costs_min:min} longer.",
                upper=slows[0].upper(),
                slows=slows[1:],
                power_costs_min=result.power_costs_min,
            )
        )
    click.echo(
        say(
            "{span} mAh go in, about {charge_mah:.0f}; the source gives {span2} Wh, {peak_input_w:.0f} W at most.",
            span=span(result.charge_low_mah, result.charge_high_mah),
            charge_mah=result.charge_mah,
            span2=span(result.energy_in_wh, result.energy_in_high_wh, 1),
            peak_input_w=result.peak_input_w,
        )
    )
    for why in narrowing(session.bench.members(judged.choice.packs)):
        click.echo(printable(sentence(why)))
    click.echo()
    rows = [
        (item.id, *_shares(result, item), say("{peak_rate_c:.2f}, at "
        "most {peak_high_c:.2f}", peak_rate_c=item.peak_rate_c, peak_high_c=result.peak_high_c(item.id)),
         f"{item.charge_mah:.0f}", f"{item.end_soc * 100:.0f} %")
        for item in result.packs
    ]  # fmt: skip
    table(("pack", say("A after 1 min"), "middle", "end", say("most C"), say("mAh in"), "ends at"), rows)
    click.echo()
    print_limits(judged.limits)
    if len(result.packs) > 1 and judged.joining.passes:
        click.echo()
        print_timetable(judged.joining)
    print_verdict(judged.level.value, judged.reasons)
    for way in judged.joining.ways:
        click.echo(say("  way out: {printable}", printable=printable(sentence(way))))
