"""`iterum rehearse`."""

import sys
import threading
from datetime import datetime
from pathlib import Path

import click

from iterum.cli import command
from iterum.cli.common import BAD_INPUT, present
from iterum.core.fields import BadInput
from iterum.core.reasons import NotThere
from iterum.core.say import say
from iterum.core.season.lesson import Lesson
from iterum.devices import drivers
from iterum.devices.lines import THIS_MACHINE
from iterum.devices.sim_server import SimServer
from iterum.exchange.lessons import lessons
from iterum.services.desk import Desk
from iterum.services.rehearsing import BEGAN, Rehearsal, RehearsalClock, copied, folder_of, laid_out
from iterum.store.database import Store
from iterum.store.troubles import StoreTrouble
from iterum.web.serve import rehearse as run_rehearsal


@command("rehearse")
@click.argument("database", type=click.Path(dir_okay=False, exists=True, path_type=Path))
@click.option(
    "--real", "real_url", default="http://127.0.0.1:8765", show_default=True, help=say("Where the real bench is.")
)
@click.option("--speed", default=10.0, show_default=True, type=click.FloatRange(1, 600), help="Time-lapse.")
@click.option("--at", help=say("The moment at which it begins; now without it."))
@click.option("--lesson", "named", help=say("Play this lesson, on its own bench, instead of a copy."))
@click.option(
    "--until-input-ends", is_flag=True, help=say("Stop when standard input is closed, as by a parent that ends.")
)
def rehearse(
    database: Path, real_url: str, speed: float, at: str | None, named: str | None, until_input_ends: bool
) -> None:
    """See `iterum rehearse --help`."""
    begins = datetime.fromisoformat(at) if at else present()
    mine = folder_of(database, named) / "iterum.sqlite3"
    try:
        course = lessons(database.parent / "lessons")
        lesson, first = _lesson(course, named), None
        mine.parent.mkdir(parents=True, exist_ok=True)
        if lesson is not None:
            laid_out(lesson, mine, begins)
            session = lesson.truth
        else:
            copied(database, mine, begins)
            copied(database, mine.with_name(BEGAN), begins)
            store = Store(mine)
            session, first = Desk(store).session(), Desk(store).latest_plan()
            store.close()
    except (StoreTrouble, BadInput, NotThere) as trouble:
        click.echo(str(trouble), err=True)
        sys.exit(BAD_INPUT)
    clock = RehearsalClock(begins, speed)
    bench = SimServer(session, THIS_MACHINE, 0, 1.0, clock.monotonic)
    bench.start()
    address = f"{THIS_MACHINE}:{bench.port}"
    drivers.only(address)  # from here on this process can reach nothing else
    over = threading.Event()
    if until_input_ends:
        threading.Thread(target=_until_input_ends, args=(over,), daemon=True).start()

    def told(url: str) -> None:
        click.echo(say("The rehearsal is at {url}", url=url))
        sys.stdout.flush()

    try:
        run_rehearsal(mine, Rehearsal(real_url.rstrip("/"), clock, bench, lesson, course, first), address, over, told)
    finally:
        bench.close()


def _lesson(course: tuple[Lesson, ...], named: str | None) -> Lesson | None:
    if named is None:
        return None
    lesson = next((item for item in course if item.id == named), None)
    if lesson is None:
        raise NotThere("lesson", named)
    return lesson


def _until_input_ends(over: threading.Event) -> None:
    sys.stdin.read()
    over.set()
