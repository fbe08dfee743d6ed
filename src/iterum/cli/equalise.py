"""`iterum equalise`."""

import click

from iterum.cli import command
from iterum.cli.common import choice_of, print_json, print_verdict, printable, reads_session, table
from iterum.core.bench.faults import Level
from iterum.core.bench.kit import DEFAULT_LEAD_MOHM
from iterum.core.bench.session import Session
from iterum.core.electrical.joining import even_out
from iterum.core.sizing.size import rate_of
from iterum.exchange import results
from iterum.wording import minutes, sentence


@command("equalise")
@reads_session
def equalise(session: Session, as_json: bool) -> None:
    """See `iterum equalise --help`."""
    choice, bench = choice_of(session, needs_channel=False), session.bench
    board = session.kit.board(choice.board)
    lead_mohm = board.lead_mohm if board else DEFAULT_LEAD_MOHM
    packs = bench.members(choice.packs)
    rate_c = rate_of(bench, choice)
    evening = even_out(packs, session.rules, lead_mohm, choice.plugged_last, board.ports if board else None, rate_c)
    if as_json:
        print_json(results.equalise_document(evening))
        return
    rows = [
        (item.id, f"{item.peak_current_a:+.2f}", f"{item.peak_rate_c:.2f}", f"{item.over_s:.0f}", item.basis.value)
        for item in evening.packs
    ]
    table(("pack", "peak A", "C", "s above its charge C", "rests on"), rows)
    click.echo()
    plugs = evening.joining.plugs
    table(("plugged in", "most C", "wait before"), [
        (plug.id, f"{plug.rate_c:.2f}", minutes(plug.wait_s / 60) if plug.wait_s else "none") for plug in plugs
    ])  # fmt: skip
    click.echo()
    click.echo(
        f"Charging may start {_after(60 * evening.joining.wait_min)}; quite settled {_after(evening.settled_s)}."
    )
    print_verdict(evening.level.value, evening.reasons)
    for way in evening.joining.ways if evening.level is Level.STOP else ():
        click.echo(f"way out: {printable(sentence(way))}")


def _after(seconds: float | None) -> str:
    if seconds is None:
        return "not within four hours"
    return "at once" if seconds < 1 else f"after {minutes(seconds / 60)}"
