"""`iterum size`."""

import click

from iterum.cli import command
from iterum.cli.common import (
    choice_of,
    print_joining,
    print_json,
    print_limits,
    print_timetable,
    printable,
    reads_session,
    table,
)
from iterum.core.amps.limits import seats_on
from iterum.core.say import figure, retold, say
from iterum.core.sizing.size import Sizing, size
from iterum.core.things.limit_kinds import KINDS
from iterum.core.things.session import Session
from iterum.exchange import results
from iterum.wording import about, between, minutes, plain


@command("size")
@reads_session
def size_command(session: Session, as_json: bool) -> None:
    """See `iterum size --help`."""
    sizing = size(session.bench, choice_of(session))
    if as_json:
        print_json(results.size_document(sizing))
        return
    click.echo(
        say(
            "Set {current_a:plain} A ({rate_c:.2f}C). Bottleneck: {words}.\n",
            current_a=sizing.current_a,
            rate_c=sizing.rate_c,
            words=KINDS[sizing.binding].words,
        )
    )
    print_limits(sizing.limits)
    click.echo()
    shares = [(share.id, figure(share.current_a, ".2f"), figure(share.rate_c, ".2f")) for share in sizing.shares]
    table(("pack", "A", "C"), shares)
    click.echo()
    _print_card(sizing)
    board = sizing.setup.board
    for part, members in seats_on(sizing.packs, board) if board and board.parts else ():
        click.echo(
            say(
                "on {printable}: {printable2}",
                printable=printable(part.id),
                printable2=printable(" ".join(pack.id for pack in members)),
            )
        )
    for note in sizing.notes:
        click.echo(printable(about(note)))
    if len(sizing.packs) > 1:
        print_joining(say("these packs"), sizing.joining)
        if sizing.joining.passes:
            print_timetable(sizing.joining)


def _print_card(sizing: Sizing) -> None:
    card = sizing.dial
    full = (
        say("{end_v:.2f} V per cell, {full_pack_v:.2f} V in all", end_v=card.end_v, full_pack_v=card.full_pack_v)
        if card.end_v and card.full_pack_v
        else ""
    )
    drop = (
        say("a drop of {drop_mv:g} to {drop_mv2:g} mV per cell", drop_mv=card.drop_mv[0], drop_mv2=card.drop_mv[1])
        if card.drop_mv
        else ""
    )
    rows = [
        (say("kind"), f"{card.chemistry}, {retold(card.mode)}"),
        (say("cells"), f"{card.cells} S"),
        (say("current"), f"{plain(card.current_a)} A"),
        (say("full at") if card.end_v else say("ends by"), full or drop),
        (say("capacity"), f"{card.capacity_mah:.0f} mAh"),
        *([(say("stop at"), say("{stop_mah:.0f} mAh at the latest", stop_mah=card.stop_mah))] if card.stop_mah else []),
        (say("timer"), minutes(card.timer_min)),
        (say("temperature"), say("stop at {temperature_cutoff_c} °C", temperature_cutoff_c=card.temperature_cutoff_c)),
        (say("equalise"), minutes(card.wait_min) if card.wait_min else say("no wait")),
        (
            say("must show"),
            say(
                "{cells} S and {pack_v:.2f} V, within {pack_tolerance_v:.2f}; if not, stop",
                cells=card.cells,
                pack_v=card.pack_v,
                pack_tolerance_v=card.pack_tolerance_v,
            ),
        ),
        (say("full in"), between(sizing.minutes, sizing.charge.minutes_low, sizing.charge.minutes_high)),
        (
            say("balancing"),
            say("up to {balance_min:min} more", balance_min=card.balance_min) if card.balance_min else say("none"),
        ),
    ]
    table(("set", "to"), rows)
