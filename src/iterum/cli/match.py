"""`iterum match`."""

import click

from iterum.cli import command
from iterum.cli.common import print_joining, print_json, reads_session, table, volts
from iterum.core.say import Words, figure, say
from iterum.core.sizing.arrange import joinings, match
from iterum.core.things.session import Session
from iterum.exchange import results
from iterum.wording import family_label, minutes, sentence

PER = {"cell": Words("{allowed} per cell"), "pack": Words("{allowed} per pack")}
"""What the allowed volts are counted over."""


@command("match")
@reads_session
def match_command(session: Session, as_json: bool) -> None:
    """See `iterum match --help`."""
    matching = match(session.bench)
    verdicts = joinings(matching, session.bench)
    if as_json:
        print_json(results.match_document(matching, verdicts))
        return
    rows = [
        (
            str(number),
            family_label(group.family),
            volts(group.window.spread_v, 3),
            say(PER[group.window.per], allowed=volts(group.window.allowed_v, 3)),
            say(verdict.level.value),
            f"{figure(verdict.peak_rate_c, '.1f')}C",
            minutes(verdict.wait_min) if verdict.wait_min else say("none"),
            " ".join(verdict.order),
        )
        for number, (group, verdict) in enumerate(zip(matching.groups, verdicts, strict=True), 1)
    ]
    table(
        (
            "group",
            "class",
            "V apart",
            "allowed",
            "joining",
            say("most C"),
            "wait",
            say("packs, in the order to plug them in"),
        ),
        rows,
    )
    for number, verdict in enumerate(verdicts, 1):
        if not verdict.passes:
            print_joining(say("group {number}", number=number), verdict)
    if not matching.proven:
        click.echo(say("A smaller number of groups was not ruled out in the time a search may take."))
    if matching.left_out:
        click.echo(say("\nLeft out"))
        table(
            ("pack", "why", "fix"),
            [(left.pack.id, sentence(left.reason), sentence(left.fix)) for left in matching.left_out],
        )
