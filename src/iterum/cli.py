"""The commands. Each reads a session file, asks the core, and prints a table for people or JSON."""

import json
import socket
import sys
import threading
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from functools import wraps
from pathlib import Path
from typing import Any

import click
import platformdirs

from iterum.core.bench.choice import Choice
from iterum.core.bench.faults import Level
from iterum.core.bench.kit import DEFAULT_LEAD_MOHM
from iterum.core.bench.limits import Limit, seats_on
from iterum.core.bench.session import Session
from iterum.core.electrical.joining import Joining, even_out
from iterum.core.planning.score import Prefer
from iterum.core.reasons import Reason, Unsafe
from iterum.core.sizing.arrange import joinings, match
from iterum.core.sizing.size import Sizing, charge, rate_of, size
from iterum.demo import demo_session, time_lapse
from iterum.demo.live import start_bench, start_demo
from iterum.devices.lines import DEFAULT_PORT
from iterum.devices.sim_server import SimServer
from iterum.exchange import results
from iterum.exchange.faults import BadInput, Fault
from iterum.exchange.session import MAX_BYTES, parse
from iterum.services.planning import make_plan
from iterum.web.serve import HOST
from iterum.web.serve import serve as run_server
from iterum.wording import LIMIT_NAMES, about, family_label, minutes, plain, sentence

BAD_INPUT, REFUSED = 2, 3


@click.group(context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="iterum")
def main() -> None:
    """Plan charging sessions for many packs: which may share a board, at what amps, and why."""


def _load(file: str) -> Session:
    """The session in a file. Raises BadInput, also when there is no such file."""
    path = Path(file)
    try:
        if path.is_dir():
            raise BadInput([Fault("", "is a folder; name a session file")])
        with path.open("rb") as stream:
            raw = stream.read(MAX_BYTES + 1)
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or str(error)
        if isinstance(error, BadInput):
            raise
        raise BadInput([Fault("", f"cannot be read: {why}")]) from error
    return parse(raw)


def _reads_session(command: Callable[..., Any]) -> Callable[..., Any]:
    """Give a command its session, and map bad input and unsafe wishes to their exit codes in one place."""

    @click.argument("file", type=click.Path())
    @click.option("--json", "as_json", is_flag=True, help="Print JSON, with the names of the session file.")
    @wraps(command)
    def run(file: str, as_json: bool, **options: Any) -> None:
        try:
            command(_load(file), as_json, **options)
        except BadInput as error:
            for fault in error.faults:
                click.echo(_printable(f"{Path(file).name}: {fault}"), err=True)
            sys.exit(BAD_INPUT)
        except Unsafe as refusal:
            for item in refusal.reasons:
                click.echo(_printable(f"refused: {about(item)}"), err=True)
            sys.exit(REFUSED)

    return run


def _printable(text: str) -> str:
    """Text from a file without control characters, which could move a terminal's cursor."""
    return "".join(letter if letter.isprintable() else "?" for letter in text)


def _table(headings: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """A table for people: columns as wide as their widest entry, the last one free."""
    cells = [[_printable(cell) for cell in row] for row in (headings, *rows)]
    widths = [max(len(row[column]) for row in cells) for column in range(len(headings) - 1)]
    for row in cells:
        padded = [cell.ljust(width) for cell, width in zip(row, widths, strict=False)]
        click.echo("  ".join((*padded, row[-1])).rstrip())


def _print_json(document: Any) -> None:
    click.echo(json.dumps(document, indent=2, ensure_ascii=True))


def _volts(value: float | None, digits: int = 2) -> str:
    return "-" if value is None else f"{value:.{digits}f}"


@main.command()
@_reads_session
def check(session: Session, as_json: bool) -> None:
    """The verdict on each pack: fit, look or stop, with its reasons."""
    verdicts = list(session.bench.verdicts.values())
    if as_json:
        _print_json(results.check_document(verdicts))
        return
    rows = []
    for verdict in verdicts:
        charge = "-"
        if verdict.soc is not None:
            charge = f"{verdict.soc.low * 100:.0f}-{verdict.soc.high * 100:.0f} %"
            charge += " (estimate)" if verdict.soc.estimate else ""
        rows.append(
            (
                verdict.pack.id,
                family_label(verdict.pack.family),
                verdict.level.value,
                _volts(verdict.pack.cell_v, 3),
                _volts(verdict.spread_v),
                charge,
                f"{verdict.pack.rated_energy_wh:.1f}",
                " ".join(sentence(item) for item in verdict.reasons),
            )
        )
    _table(("pack", "class", "verdict", "V/cell", "apart", "charge", "Wh", "why"), rows)


@main.command("match")
@_reads_session
def match_command(session: Session, as_json: bool) -> None:
    """Which packs may share a board, in what order to plug them in, and what would mend the rest."""
    matching = match(session.bench)
    verdicts = joinings(matching, session.bench)
    if as_json:
        _print_json(results.match_document(matching, verdicts))
        return
    rows = [
        (
            str(number),
            family_label(group.family),
            _volts(group.window.spread_v, 3),
            f"{_volts(group.window.allowed_v, 3)} a {group.window.per}",
            verdict.level.value,
            f"{verdict.peak_rate_c:.1f}C",
            minutes(verdict.wait_min) if verdict.wait_min else "none",
            " ".join(verdict.order),
        )
        for number, (group, verdict) in enumerate(zip(matching.groups, verdicts, strict=True), 1)
    ]
    _table(
        ("group", "class", "V apart", "allowed", "joining", "most C", "wait", "packs, in the order to plug them in"),
        rows,
    )
    for number, verdict in enumerate(verdicts, 1):
        if not verdict.passes:
            _print_joining(f"group {number}", verdict)
    if not matching.proven:
        click.echo("A smaller number of groups was not ruled out in the time a search may take.")
    if matching.left_out:
        click.echo("\nLeft out")
        _table(
            ("pack", "why", "what mends it"),
            [(left.pack.id, sentence(left.reason), sentence(left.fix)) for left in matching.left_out],
        )


def _print_joining(what: str, verdict: Joining) -> None:
    """What the joining rule says of a group, and the ways out."""
    click.echo(f"joining of {what}: {verdict.level.value}")
    for item in verdict.reasons:
        click.echo(f"  {_printable(about(item))}")
    for way in verdict.ways:
        click.echo(f"  way out: {_printable(sentence(way))}")


def _choice(session: Session, needs_channel: bool = True) -> Choice:
    """The choice of the file. Raises BadInput when it names none, or no channel where one is needed."""
    if session.group is None:
        raise BadInput([Fault("group", "is missing; say which packs, board and channel")])
    if needs_channel and session.group.channel is None:
        raise BadInput([Fault("group.channel", "is missing; name the channel that charges the group")])
    return session.group


@main.command("size")
@_reads_session
def size_command(session: Session, as_json: bool) -> None:
    """The amps to dial for the file's group, every limit, and the card to set on the charger."""
    sizing = size(session.bench, _choice(session))
    if as_json:
        _print_json(results.size_document(sizing))
        return
    click.echo(f"Dial {plain(sizing.current_a)} A ({sizing.rate_c:.2f}C). Narrowest: {LIMIT_NAMES[sizing.binding]}.\n")
    _print_limits(sizing.limits)
    click.echo()
    shares = [(share.id, f"{share.current_a:.2f}", f"{share.rate_c:.2f}") for share in sizing.shares]
    _table(("pack", "A", "C"), shares)
    click.echo()
    _print_card(sizing)
    board = sizing.setup.board
    for part, members in seats_on(sizing.packs, board) if board and board.parts else ():
        click.echo(f"on {_printable(part.id)}: {_printable(' '.join(pack.id for pack in members))}")
    for note in sizing.notes:
        click.echo(_printable(about(note)))
    if len(sizing.packs) > 1:
        _print_joining("these packs", sizing.joining)


def _print_limits(limits: Sequence[Limit]) -> None:
    ordered = sorted(limits, key=lambda limit: limit.current_a)
    _table(("limit", "A", "how"), [(limit.name, f"{limit.current_a:.2f}", sentence(limit.reason)) for limit in ordered])


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
        ("even out", minutes(card.wait_min) if card.wait_min else "no wait"),
        ("must show", f"{card.cells} S and {card.pack_v:.2f} V, within {card.pack_tolerance_v:.2f}; if not, stop"),
        ("full in", f"{minutes(sizing.charge.minutes_low)} to {minutes(sizing.charge.minutes_high)}"),
        ("balancing", f"up to {minutes(card.balance_min)} more" if card.balance_min else "none"),
    ]
    _table(("set", "to"), rows)


@main.command()
@_reads_session
def equalise(session: Session, as_json: bool) -> None:
    """What flows between the packs of the file's group when they are joined, and for how long."""
    choice, bench = _choice(session, needs_channel=False), session.bench
    board = session.kit.board(choice.board)
    lead_mohm = board.lead_mohm if board else DEFAULT_LEAD_MOHM
    packs = bench.members(choice.packs)
    rate_c = rate_of(bench, choice)
    evening = even_out(packs, session.rules, lead_mohm, choice.plugged_last, board.ports if board else None, rate_c)
    if as_json:
        _print_json(results.equalise_document(evening))
        return
    rows = [
        (item.id, f"{item.peak_current_a:+.2f}", f"{item.peak_rate_c:.2f}", f"{item.over_s:.0f}", item.basis.value)
        for item in evening.packs
    ]
    _table(("pack", "peak A", "C", "s above its charge C", "rests on"), rows)
    click.echo()
    plugs = evening.joining.plugs
    _table(("plugged in", "most C", "wait before"), [
        (plug.id, f"{plug.rate_c:.2f}", minutes(plug.wait_s / 60) if plug.wait_s else "none") for plug in plugs
    ])  # fmt: skip
    click.echo()
    click.echo(
        f"Charging may start {_after(60 * evening.joining.wait_min)}; quite settled {_after(evening.settled_s)}."
    )
    _print_verdict(evening.level.value, evening.reasons)
    for way in evening.joining.ways if evening.level is Level.STOP else ():
        click.echo(f"way out: {_printable(sentence(way))}")


def _after(seconds: float | None) -> str:
    if seconds is None:
        return "not within four hours"
    return "at once" if seconds < 1 else f"after {minutes(seconds / 60)}"


def _print_verdict(level: str, reasons: Sequence[Reason]) -> None:
    click.echo(f"verdict: {level}")
    for item in reasons:
        click.echo(f"  {_printable(about(item))}")


@main.command("charge")
@_reads_session
def charge_command(session: Session, as_json: bool) -> None:
    """How long the file's group takes, what each pack sees, and what it costs the source."""
    judged = charge(session.bench, _choice(session))
    if as_json:
        _print_json(results.charge_document(judged))
        return
    result, current_a = judged.charge, judged.charge.current_a
    spread = f" ({minutes(result.minutes_low)} to {minutes(result.minutes_high)} by what the meter leaves open)"
    click.echo(f"{plain(current_a)} A: expected about {minutes(result.minutes)}{spread},")
    click.echo(f"{minutes(result.cc_minutes)} of it to full volts; balancing may add {minutes(result.balance_min)}.")
    if result.power_limit:
        slows = f"{LIMIT_NAMES[result.power_limit]} set the amps for {minutes(result.power_limited_min)}"
        click.echo(f"{slows[0].upper()}{slows[1:]}, which takes {minutes(result.power_costs_min)} longer.")
    click.echo(f"{result.charge_mah:.0f} mAh and {result.energy_out_wh:.1f} Wh go in; the source gives "
               f"{result.energy_in_wh:.1f} Wh, {result.peak_input_w:.0f} W at most.\n")  # fmt: skip
    rows = [
        (item.id, *(f"{share:.2f}" for share in item.share_a), f"{item.peak_rate_c:.2f}", f"{item.charge_mah:.0f}",
         f"{item.end_soc * 100:.0f} %")
        for item in result.packs
    ]  # fmt: skip
    _table(("pack", "A after 1 min", "middle", "end", "most C", "mAh in", "ends at"), rows)
    click.echo()
    _print_limits(judged.limits)
    _print_verdict(judged.level.value, judged.reasons)
    for way in judged.joining.ways:
        click.echo(f"  way out: {_printable(sentence(way))}")


@main.command("plan")
@click.option("--prefer", type=click.Choice([item.value for item in Prefer]), default=Prefer.SOONEST.value,
              show_default=True, help="What comes after what must be met.")  # fmt: skip
@click.option("--seconds", type=click.FloatRange(0, 3600), default=5.0, show_default=True, help="Of search.")
@_reads_session
def plan_command(session: Session, as_json: bool, prefer: str, seconds: float) -> None:
    """Batches over channels and time: every pack full in time, within what the field can give."""
    starts_at = session.starts_at or _clock().astimezone()  # quiet hours are times of day
    answer = make_plan(replace(session, starts_at=starts_at), Prefer(prefer), seconds)
    found, whys = answer.plan, answer.whys
    if as_json:
        _print_json(results.plan_document(answer.record))
        return
    rows = [
        (f"{batch.start_min:.0f}", f"{batch.full_min:.0f}", f"{batch.end_min:.0f}", batch.channel, batch.board or "-",
         family_label(batch.family), f"{plain(batch.current_a)} A", f"{batch.rate_c:.2f}C", " ".join(batch.packs))
        for batch in found.batches
    ]  # fmt: skip
    _table(
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
        click.echo(f"{_printable(use.id)}: {use.used_wh:.0f} Wh {of}, {use.peak_w:.0f} W at most")
    for item in found.wanted:
        name = f"{item.wish.count} {family_label(item.wish.family)} by minute {plain(item.wish.at_min)}"
        click.echo(f"{name}: {'met' if item.met else f'only {item.have} by then'}")
    click.echo("\nWhy")
    _table(("batch", "why"), [
        (" ".join(why.batch.packs), " ".join(sentence(item) for item in why.reasons)) for why in whys])  # fmt: skip
    for gain in answer.relaxed:
        click.echo(sentence(gain.reason))
    if found.left_out:
        click.echo("\nLeft out")
        _table(("pack", "why", "what mends it"),
               [(left.pack.id, sentence(left.reason), sentence(left.fix)) for left in found.left_out])  # fmt: skip


def _clock() -> datetime:
    return datetime.now(UTC)  # noqa: TID251 (the one place where the clock is read)


@main.command()
@click.option("--port", default=8765, show_default=True, type=click.IntRange(1, 65535), help="Port on this machine.")
@click.option("--data", type=click.Path(file_okay=False, path_type=Path), help="Folder of the database.")
@click.option("--demo", is_flag=True, help="Use the made-up meeting, in a database of its own.")
@click.option("--fresh", is_flag=True, help="With --demo: forget what was changed in it and start over.")
@click.option(
    "--charger", "chargers", multiple=True, metavar="HOST:PORT", help="A charger to read; may be given again."
)
@click.option("--checker", metavar="HOST:PORT", help="A cell checker to read packs with.")
@click.option("--speed", default=1.0, show_default=True, type=click.FloatRange(1, 600),
              help="With --demo: time-lapse, for clock and simulated charger alike.")  # fmt: skip
def serve(
    port: int, data: Path | None, demo: bool, fresh: bool, chargers: tuple[str, ...], checker: str | None, speed: float
) -> None:
    """Serve the pages on this machine, and watch every charge."""
    if speed != 1 and not demo:
        click.echo("--speed goes with --demo only: a real charger keeps real time.", err=True)
        sys.exit(BAD_INPUT)
    folder = data or platformdirs.user_data_path("iterum")
    database = folder / ("demo.sqlite3" if demo else "iterum.sqlite3")
    addresses = [("charger", *_address(text)) for text in chargers]
    addresses += [("checker", *_address(checker))] if checker else []
    _refuse_taken_port(port)
    clock = time_lapse(_clock, speed) if speed != 1 else _clock
    bench = None
    if demo:
        if fresh:
            for part in ("", "-wal", "-shm"):
                database.with_name(database.name + part).unlink(missing_ok=True)
        bench = start_bench(speed)
        start_demo(database, clock(), bench.port)
    click.echo(f"Iterum is at http://{HOST}:{port}/  (data in {database}; Ctrl+C stops it)")
    try:
        run_server(database, port, clock, addresses, speed)
    finally:
        if bench is not None:
            bench.stop()


def _address(text: str) -> tuple[str, int]:
    """HOST:PORT; anything else ends the command as bad input."""
    host, _, port = text.rpartition(":")
    if not host or not port.isdigit() or not 1 <= int(port) <= 65535:
        click.echo(f"{_printable(text)}: must be HOST:PORT, such as 127.0.0.1:{DEFAULT_PORT}", err=True)
        sys.exit(BAD_INPUT)
    return host, int(port)


@main.command("sim-charger")
@click.argument("file", type=click.Path(), required=False)
@click.option("--port", default=DEFAULT_PORT, show_default=True, type=click.IntRange(0, 65535), help="0: any free one.")
@click.option("--speed", default=1.0, show_default=True, type=click.FloatRange(0.1, 3600), help="Time-lapse.")
@click.option("--until-input-ends", is_flag=True, help="Stop when standard input is closed, as by a parent that ends.")
def sim_charger(file: str | None, port: int, speed: float, until_input_ends: bool) -> None:
    """A simulated charger and cell checker for the packs and kit of a session file, or of the demo."""
    try:
        session = _load(file) if file else demo_session()
    except BadInput as error:
        for fault in error.faults:
            click.echo(_printable(f"{Path(file or '').name}: {fault}"), err=True)
        sys.exit(BAD_INPUT)
    try:
        server = SimServer(session, HOST, port, speed)
    except OSError:
        click.echo(f"Port {port} is taken. Choose another with --port.", err=True)
        sys.exit(BAD_INPUT)
    click.echo(
        f"Simulated charger at {HOST}:{server.port}, ×{plain(speed)}, channels {', '.join(server.bench.channels)}"
    )
    sys.stdout.flush()
    server.start()
    try:
        if until_input_ends:
            sys.stdin.read()
        else:
            threading.Event().wait()
    except KeyboardInterrupt:
        pass
    server.close()


def _refuse_taken_port(port: int) -> None:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((HOST, port))
        except OSError:
            click.echo(
                f"Port {port} is taken. Choose another: --port {port + 1}, or PORT={port + 1} make demo.", err=True
            )
            sys.exit(BAD_INPUT)
