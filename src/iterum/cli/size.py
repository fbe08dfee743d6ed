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
    click.echo(f"Dial {plain(sizing.current_a)} A ({sizing.rate_c:.2f}C). Narrowest: {KINDS[sizing.binding].words}.\n")
    print_limits(sizing.limits)
    click.echo()
    shares = [(share.id, f"{share.current_a:.2f}", f"{share.rate_c:.2f}") for share in sizing.shares]
    table(("pack", "A", "C"), shares)
    click.echo()
    _print_card(sizing)
    board = sizing.setup.board
    for part, members in seats_on(sizing.packs, board) if board and board.parts else ():
        click.echo(f"on {printable(part.id)}: {printable(' '.join(pack.id for pack in members))}")
    for note in sizing.notes:
        click.echo(printable(about(note)))
    if len(sizing.packs) > 1:
        print_joining("these packs", sizing.joining)
        if sizing.joining.passes:
            print_timetable(sizing.joining)


def _print_card(sizing: Sizing) -> None:
    card = sizing.dial
    full = f"{card.end_v:.2f} V per cell, {card.full_pack_v:.2f} V in all" if card.end_v and card.full_pack_v else ""
    drop = f"a drop of {card.drop_mv[0]:g} to {card.drop_mv[1]:g} mV a cell" if card.drop_mv else ""
    rows = [
        ("kind", f"{card.chemistry}, {card.mode}"),
        ("cells", f"{card.cells} S"),
        ("current", f"{plain(card.current_a)} A"),
        ("full at" if card.end_v else "ends by", full or drop),
        ("capacity", f"{card.capacity_mah:.0f} mAh"),
        *([("stop at", f"{card.stop_mah:.0f} mAh at the latest")] if card.stop_mah else []),
        ("timer", minutes(card.timer_min)),
        ("temperature", f"stop at {card.temperature_cutoff_c} °C"),
        ("equalise", minutes(card.wait_min) if card.wait_min else "no wait"),
        ("must show", f"{card.cells} S and {card.pack_v:.2f} V, within {card.pack_tolerance_v:.2f}; if not, stop"),
        ("full in", between(sizing.minutes, sizing.charge.minutes_low, sizing.charge.minutes_high)),
        ("balancing", f"up to {minutes(card.balance_min)} more" if card.balance_min else "none"),
    ]
    table(("set", "to"), rows)
