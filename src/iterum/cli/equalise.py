"""`iterum equalise`."""

import click

from iterum.cli import command
from iterum.cli.common import choice_of, print_json, print_timetable, print_verdict, printable, reads_session, table
from iterum.core.electrical.joining import even_out
from iterum.core.permit.facts import Level
from iterum.core.say import figure, say
from iterum.core.sizing.size import rate_of
from iterum.core.things.session import Session
from iterum.exchange import results
from iterum.wording import sentence


@command("equalise")
@reads_session
def equalise(session: Session, as_json: bool) -> None:
    """See `iterum equalise --help`."""
    choice, bench = choice_of(session, needs_channel=False), session.bench
    packs, board = bench.members(choice.packs), session.kit.board(choice.board)
    rate_c = rate_of(bench, choice) if choice.channel else 0.0
    evening = even_out(packs, session.rules, board, choice.plugged_last, rate_c)
    if as_json:
        print_json(results.equalise_document(evening))
        return
    rows = [
        (
            item.id,
            figure(item.peak_current_a, "+.2f"),
            figure(item.peak_rate_c, ".2f"),
            f"{item.over_s:.0f}",
            say(item.basis.value),
        )
        for item in evening.packs
    ]
    table(("pack", say("peak A"), "C", say("s above its charge C"), "rests on"), rows)
    click.echo()
    if evening.level is not Level.STOP:
        print_timetable(evening.joining)
        if choice.channel:
            click.echo(say("Charging may start {after}.", after=_after(60 * evening.joining.wait_min)))
        click.echo(say("They are equalised {after}. Measure each pack again then.", after=_after(evening.settled_s)))
    print_verdict(evening.level.value, evening.reasons)
    for way in evening.joining.ways if evening.level is Level.STOP else ():
        click.echo(say("way out: {printable}", printable=printable(sentence(way))))


def _after(seconds: float | None) -> str:
    if seconds is None:
        return say("not within four hours")
    return "at once" if seconds < 1 else say("after {seconds:min}", seconds=seconds / 60)
