"""`iterum plan`."""

from dataclasses import replace

import click

from iterum.cli import command
from iterum.cli.common import present, print_json, printable, reads_session, table
from iterum.core.bench.session import Session
from iterum.core.planning.score import Prefer
from iterum.exchange.plan_result import plan_document
from iterum.services.planning import make_plan
from iterum.wording import family_label, plain, sentence


@command("plan")
@click.option("--prefer", type=click.Choice([item.value for item in Prefer]), default=Prefer.SOONEST.value,
              show_default=True, help="What comes after what must be met.")  # fmt: skip
@click.option("--seconds", type=click.FloatRange(0, 3600), default=5.0, show_default=True, help="Of search.")
@reads_session
def plan_command(session: Session, as_json: bool, prefer: str, seconds: float) -> None:
    """See `iterum plan --help`."""
    starts_at = session.starts_at or present().astimezone()  # quiet hours are times of day
    answer = make_plan(replace(session, starts_at=starts_at), Prefer(prefer), seconds)
    found, whys = answer.plan, answer.whys
    if as_json:
        print_json(plan_document(answer.record))
        return
    rows = [
        (f"{batch.start_min:.0f}", f"{batch.full_min:.0f}", f"{batch.end_min:.0f}", batch.channel, batch.board or "-",
         family_label(batch.family), f"{plain(batch.current_a)} A", f"{batch.rate_c:.2f}C", " ".join(batch.packs))
        for batch in found.batches
    ]  # fmt: skip
    table(
        (
            "from min",
            "full at",
            "balanced",
            "channel",
            "board",
            "class",
            "dial",
            "rate",
            "packs, in the order to plug them in",
        ),
        rows,
    )
    proof = "and that is proved" if found.proved else f"not before minute {found.bound_min:.0f} whatever you do"
    click.echo(f"\nAll done at minute {found.makespan_min:.0f}, {proof}; {found.visits} visits to the bench.")
    for use in found.sources:
        of = "and no budget is known" if use.usable_wh is None else f"of {use.usable_wh:.0f} Wh left"
        click.echo(f"{printable(use.id)}: {use.used_wh:.0f} Wh {of}, {use.peak_w:.0f} W at most")
    for item in found.wanted:
        name = f"{item.wish.count} {family_label(item.wish.family)} by minute {plain(item.wish.at_min)}"
        click.echo(f"{name}: {'met' if item.met else f'only {item.have} by then'}")
    click.echo("\nWhy")
    table(("batch", "why"), [
        (" ".join(why.batch.packs), " ".join(sentence(item) for item in why.reasons)) for why in whys])  # fmt: skip
    for gain in answer.relaxed:
        click.echo(sentence(gain.reason))
    if found.left_out:
        click.echo("\nLeft out")
        table(("pack", "why", "what mends it"),
               [(left.pack.id, sentence(left.reason), sentence(left.fix)) for left in found.left_out])  # fmt: skip
