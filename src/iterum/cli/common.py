"""What the commands share: a session from a file, exit codes, tables, and how a verdict is printed."""

import json
import sys
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from functools import wraps
from pathlib import Path
from typing import Any

import click

from iterum.core.amps.limits import Limit
from iterum.core.electrical.joining import Joining
from iterum.core.fields import BadInput, Fault
from iterum.core.reasons import Reason, Unsafe
from iterum.core.say import ENGLISH, LANGUAGE, figure, say, speaking
from iterum.core.things.choice import Choice
from iterum.core.things.limit_kinds import KINDS
from iterum.core.things.session import Session
from iterum.exchange.session import MAX_BYTES, parse
from iterum.wording import about, minutes, sentence

BAD_INPUT, REFUSED = 2, 3


def load(file: str) -> Session:
    """The session in a file. Raises BadInput, also when there is no such file."""
    path = Path(file)
    try:
        if path.is_dir():
            raise BadInput([Fault("", say("is a folder; name a session file"))])
        with path.open("rb") as stream:
            raw = stream.read(MAX_BYTES + 1)
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or str(error)
        if isinstance(error, BadInput):
            raise
        raise BadInput([Fault("", say("cannot be read: {why}", why=why))]) from error
    return parse(raw, present())


def reads_session(command: Callable[..., Any]) -> Callable[..., Any]:
    """Give a command its session, and map bad input and unsafe wishes to their exit codes in one place."""

    @click.argument("file", type=click.Path())
    @click.option("--json", "as_json", is_flag=True, help=say("Print JSON, with the names of the session file."))
    @wraps(command)
    def run(file: str, as_json: bool, **options: Any) -> None:
        try:
            with speaking(ENGLISH if as_json else LANGUAGE.get()):  # what programs read is the same everywhere
                command(load(file), as_json, **options)
        except BadInput as error:
            for fault in error.faults:
                click.echo(printable(f"{Path(file).name}: {fault}"), err=True)
            sys.exit(BAD_INPUT)
        except Unsafe as refusal:
            for item in refusal.reasons:
                click.echo(printable(say("refused: {about}", about=about(item))), err=True)
            sys.exit(REFUSED)

    return run


def printable(text: str) -> str:
    """Text from a file without control characters, which could move a terminal's cursor."""
    return "".join(letter if letter.isprintable() else "?" for letter in text)


def table(headings: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """A table for people: columns as wide as their widest entry, the last one free."""
    cells = [
        [printable(cell) for cell in row] for row in ([say(heading) if heading else "" for heading in headings], *rows)
    ]
    widths = [max(len(row[column]) for row in cells) for column in range(len(headings) - 1)]
    for row in cells:
        padded = [cell.ljust(width) for cell, width in zip(row, widths, strict=False)]
        click.echo("  ".join((*padded, row[-1])).rstrip())


def print_json(document: Any) -> None:
    """A document as JSON, in letters that every terminal shows."""
    click.echo(json.dumps(document, indent=2, ensure_ascii=True))


def volts(value: float | None, digits: int = 2) -> str:
    """Volts, or a dash where there are none."""
    return "-" if value is None else figure(value, f".{digits}f")


def print_joining(what: str, verdict: Joining) -> None:
    """What the joining rule says of a group, and the ways out."""
    click.echo(say("joining of {what}: {level}", what=what, level=verdict.level.value))
    for item in verdict.reasons:
        click.echo(f"  {printable(about(item))}")
    for way in verdict.ways:
        click.echo(say("  way out: {printable}", printable=printable(sentence(way))))


def print_timetable(joining: Joining) -> None:
    """What to plug in, step by step, the C into the pack that takes most, and how long to wait after it."""
    rows = [
        (
            step.plug,
            say("{into_c:.2f}C into {into}", into_c=step.into.into_c, into=step.into.id)
            if step.into and step.into.into_c >= 0.005
            else say("nothing flows"),
            minutes(step.wait_min) if step.wait_min else say("none"),
        )
        for step in joining.timetable
    ]
    table(("plug in", "what flows", "wait after it"), rows)
    click.echo(say("All waits together: {wait}.", wait=minutes(joining.wait_min) if joining.wait_min else say("none")))


def choice_of(session: Session, needs_channel: bool = True) -> Choice:
    """The choice of the file. Raises BadInput when it names none, or no channel where one is needed."""
    if session.group is None:
        raise BadInput([Fault("group", say("is missing; say which packs, board and channel"))])
    if needs_channel and session.group.channel is None:
        raise BadInput([Fault("group.channel", say("is missing; name the channel that charges the group"))])
    return session.group


def print_limits(limits: Sequence[Limit]) -> None:
    """Every limit with its amps and its formula, the narrowest first."""
    ordered = sorted(limits, key=lambda limit: limit.current_a)
    table(
        ("limit", "A", "how"),
        [(say(KINDS[limit.name].words), figure(limit.current_a, ".2f"), sentence(limit.reason)) for limit in ordered],
    )


def print_verdict(level: str, reasons: Sequence[Reason]) -> None:
    """A verdict with its reasons."""
    click.echo(say("verdict: {level}", level=level))
    for item in reasons:
        click.echo(f"  {printable(about(item))}")


def present() -> datetime:
    """This moment; the one place where the clock is read."""
    return datetime.now(UTC)  # noqa: TID251
