"""`iterum read`."""

import click

from iterum.cli import command
from iterum.cli.common import print_json, printable, table
from iterum.core.reading.reader import READERS, read
from iterum.core.say import ENGLISH, say, speaking
from iterum.exchange import results
from iterum.wording import sentence


@command("read")
@click.argument("kind", type=click.Choice(sorted(READERS)))
@click.argument("text", nargs=-1, required=True)
@click.option("--json", "as_json", is_flag=True, help=say("Print the result as JSON."))
def read_(kind: str, text: tuple[str, ...], as_json: bool) -> None:
    """See `iterum read --help`."""
    if as_json:
        with speaking(ENGLISH):
            print_json(results.read_document(read(kind, " ".join(text))))
        return
    told = read(kind, " ".join(text))
    rows = []
    for item in told.means:
        name, _, value = sentence(item.why).partition(": ")
        rows.append((name, value, say("assumed") if item.assumed else ""))
    if rows:
        table(("figure", "means", ""), rows)
    for fault in told.faults:
        click.echo(say("wrong: {printable}", printable=printable(sentence(fault))))
    for asked in told.questions:
        choices = ", ".join(item.words for item in asked.choices)
        click.echo(
            say("open: {question} ({choices})", question=printable(sentence(asked.why)), choices=choices)
            if choices
            else say("open: {question}", question=printable(sentence(asked.why)))
        )
    for word in told.unread:
        click.echo(say("not understood: {printable}", printable=printable(word.text)))
