"""`iterum plan`."""

import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from math import ceil
from threading import Event
from time import monotonic
from typing import Any

import click

from iterum.cli import command
from iterum.cli.common import present, print_json, printable, reads_session, table
from iterum.core.electrical.joining import joining
from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.plan import Plan, Progress
from iterum.core.planning.score import Prefer
from iterum.core.planning.shares import shares_of
from iterum.core.say import figure, say, say_many
from iterum.core.things.session import Session
from iterum.exchange.plan_result import plan_document, shares_document
from iterum.exchange.results import joining_document
from iterum.services.planning import make_plan
from iterum.wording import family_label, plain, sentence
from iterum.wording.plans import chance_words


def _progress(progress: Progress) -> None:
    """How far the search is, where somebody looks on."""
    if sys.stderr.isatty():
        so_far = say(
            "\rtry {iterations}: all done at minute {makespan_min:.0f}",
            iterations=progress.iterations,
            makespan_min=progress.makespan_min,
        )
        click.echo(say("{so_far}, Ctrl+C takes the best so far ", so_far=so_far), err=True, nl=False)


@contextmanager
def taking_the_best() -> Iterator[Event]:
    """While it lasts, Ctrl+C says that the best so far is good enough."""
    stopped = Event()
    before = signal.signal(signal.SIGINT, lambda *_: stopped.set())
    try:
        yield stopped
    finally:
        signal.signal(signal.SIGINT, before)
        if sys.stderr.isatty():
            click.echo(err=True)


def _bound_words(plan: Plan) -> str:
    """How good the plan is, where anybody knows."""
    if plan.proved:
        return " " + say("No plan is sooner.")
    if plan.bound_min is None or plan.gap is None:
        return ""
    at_most = ceil(100 * plan.gap)
    return " " + say(
        "Earliest possible: minute {bound_min:.0f}. This plan is at most {at_most} % later.",
        bound_min=plan.bound_min,
        at_most=at_most,
    )


def _visits(count: int) -> str:
    return say_many("one visit", "{count} visits", count)


def _named(batch: PlannedBatch) -> str:
    """Its packs in a row of a table, each with its round where that is not the first."""
    return " ".join(map(str, batch.charges))


def _joining(session: Session, batch: PlannedBatch) -> dict[str, Any] | None:
    """How the packs of a batch are joined, by their readings; None for one pack, and for packs that fly before."""
    if len(batch.packs) < 2 or max(batch.rounds) > 1:
        return None
    packs, setup = session.bench.members(batch.packs), session.bench.setup(batch.board, batch.channel)
    return joining_document(joining(packs, session.rules, setup.port, batch.rate_c))


@command("plan")
@click.option("--prefer", type=click.Choice([item.value for item in Prefer]), default=Prefer.SOONEST.value,
              show_default=True, help=say("What comes after what must be met."))  # fmt: skip
@click.option("--seconds", type=click.FloatRange(0, 3600), default=5.0, show_default=True, help=say("Of search."))
@reads_session
def plan_command(session: Session, as_json: bool, prefer: str, seconds: float) -> None:
    """See `iterum plan --help`."""
    starts_at = session.starts_at or present().astimezone()  # quiet hours are times of day
    begun_s = monotonic()
    with taking_the_best() as stopped:
        answer = make_plan(replace(session, starts_at=starts_at), Prefer(prefer), seconds, _progress, stopped.is_set)
    best, whys = answer.plan, answer.whys
    if as_json:
        document = plan_document(answer.record)
        for batch, told in zip(best.batches, document["batches"], strict=True):
            told["joining"] = _joining(session, batch)
        if session.pilots:
            document["pilots"] = shares_document(shares_of(session, best.wanted, best.batches))
        document["seconds"] = round(monotonic() - begun_s, 2)
        print_json(document)
        return
    rows = [
        (f"{batch.start_min:.0f}", f"{batch.full_min:.0f}", f"{batch.end_min:.0f}", batch.channel, batch.board or "-",
         family_label(batch.family), f"{plain(batch.current_a)} A", f"{figure(batch.rate_c, '.2f')}C", _named(batch))
        for batch in best.batches
    ]  # fmt: skip
    table(
        (
            "from min",
            "full at",
            "off at",
            "channel",
            "board",
            "class",
            "dial",
            "rate",
            say("packs, in the order to plug them in"),
        ),
        rows,
    )
    click.echo(say("\nAll done at minute {makespan_min:.0f}.", makespan_min=best.makespan_min) + _bound_words(best))
    click.echo(say("{visits} to the bench.", visits=_visits(best.visits)))
    for use in best.sources:
        of = (
            say("and no budget is known")
            if use.usable_wh is None
            else say("of {usable_wh:.0f} Wh left", usable_wh=use.usable_wh)
        )
        click.echo(
            say(
                "{printable}: {used_wh:.0f} Wh {of}, {peak_w:.0f} W at most",
                printable=printable(use.id),
                used_wh=use.used_wh,
                of=of,
                peak_w=use.peak_w,
            )
        )
    for item in best.wanted:
        name = say(
            "{count} {family:family} by minute {at_min:plain}",
            count=item.wish.count,
            family=item.wish.family,
            at_min=item.wish.at_min,
        )
        called = f"{item.wish.name}, {name}" if item.wish.name else name
        why = f". {sentence(item.reason)}" if item.reason else ""
        odds = item.odds
        why += f". {chance_words(odds.met, odds.of, odds.packs, odds.cause)}" if odds and item.met else ""
        click.echo(
            printable(f"{called}: {say('met') if item.met else say('only {have} by then', have=item.have)}{why}")
        )
    if session.pilots:
        click.echo("\n" + say("Pilots"))
        table(
            ("pilot", "heats met", "expected", say("Wh got"), say("Wh given")),
            [
                (
                    printable(share.pilot),
                    say("{met} of {asked}", met=share.met, asked=share.asked),
                    figure(share.expected, ".1f"),
                    f"{share.got_wh:.0f}",
                    f"{share.gave_wh:.0f}",
                )
                for share in shares_of(session, best.wanted, best.batches)
            ],
        )
    click.echo("\n" + say("Why"))
    table(("batch", "why"), [
        (_named(why.batch), " ".join(sentence(item) for item in why.reasons)) for why in whys])  # fmt: skip
    for gain in answer.relaxed:
        click.echo(sentence(gain.reason))
    if answer.offers:
        click.echo(say("\nWhat would win a heat back"))
        for offer in answer.offers:
            click.echo(printable(f"- {sentence(offer.reason)}"))
    if best.left_out:
        click.echo(say("\nLeft out"))
        table(("pack", "why", "fix"),
               [(str(left.key), sentence(left.reason), sentence(left.fix)) for left in best.left_out])  # fmt: skip
