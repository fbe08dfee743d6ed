"""`iterum read`."""

import click

from iterum.cli import command
from iterum.cli.common import print_json, printable, table
from iterum.core.reading.reader import READERS, read
from iterum.exchange import results
from iterum.wording import sentence


@command("read")
@click.argument("kind", type=click.Choice(sorted(READERS)))
@click.argument("text", nargs=-1, required=True)
@click.option("--json", "as_json", is_flag=True, help="Print the result as JSON.")
def read_(kind: str, text: tuple[str, ...], as_json: bool) -> None:
    """See `iterum read --help`."""
    told = read(kind, " ".join(text))
    if as_json:
        print_json(results.read_document(told))
        return
    rows = []
    for item in told.means:
        name, _, value = sentence(item.why).partition(": ")
        rows.append((name, value, "assumed" if item.assumed else ""))
    if rows:
        table(("figure", "means", ""), rows)
    for fault in told.faults:
        click.echo(f"wrong: {printable(sentence(fault))}")
    for asked in told.questions:
        choices = ", ".join(item.words for item in asked.choices)
        click.echo(f"open: {printable(sentence(asked.why))}{f' ({choices})' if choices else ''}")
    for word in told.unread:
        click.echo(f"not understood: {printable(word.text)}")
