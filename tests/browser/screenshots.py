"""Makes docs/screenshots again from the demo data: `make shots`, or some of them by name."""

import sys
import tempfile
import time
from datetime import datetime
from pathlib import Path

from iterum.core.planning.score import Prefer
from iterum.core.season.outlook import Observation
from iterum.core.season.run import Act, State
from iterum.core.things.choice import Choice
from iterum.demo.live import load_demo
from iterum.exchange.lessons import lessons
from iterum.services.desk import Desk
from iterum.services.planning import PlanJob
from iterum.services.watching import TYPED
from iterum.store.database import Store
from tests.browser.bench import PHONE, WIDE, chromium, patient, playing, plugged_in, running, turning
from tests.devices.bench import Clock, Field, served

FOLDER = Path(__file__).parents[2] / "docs" / "screenshots"
MORNING = datetime(2026, 6, 13, 8, 47).astimezone()

VIEWS = {
    "bench": ("/bench", WIDE, "day"),
    "bench-phone": ("/bench", PHONE, "day"),
    "measure": ("/measure?pack=P-07", WIDE, "day"),
    "measure-phone": ("/measure?pack=P-10", PHONE, "day"),
    "match": ("/match?class=lipo-4S", WIDE, "day"),
    "match-night": ("/match?class=lipo-6S", WIDE, "night"),
    "dial": ("/charge?packs=T-01&packs=T-02&packs=T-04&packs=T-07", WIDE, "day"),
    "lesson": ("/rehearse", WIDE, "day"),
    "heats": ("/heats", WIDE, "day"),
    "plan": ("/plan?batch=4", WIDE, "day"),
    "put-away": ("/put-away", WIDE, "day"),
    "run": ("/run/1", WIDE, "day"),
    "join": ("/match/join?packs=P-04&packs=P-02&packs=P-07&packs=P-01&packs=P-03&packs=P-08", WIDE, "day"),
    "what-if": ("/what-if?a_count=10&a_label_c=75&b_label_c=75&b_v=3.85&rate=2&charge_c=2", WIDE, "day"),
    "packs": ("/packs?id=P-04", WIDE, "day"),
    "kit": ("/kit", WIDE, "day"),
    "pack": ("/packs/health?id=L-02", WIDE, "day"),
    "rules": ("/rules", WIDE, "day"),
    "table": ("/table", WIDE, "day"),
}

TALL = {"dial", "pack", "plan"}


def take_table(names: list[str], folder: Path) -> None:
    """The page Table of the made-up club, with a plan."""
    names = [name for name in names if name == "table"]
    if not names:
        return
    path = folder / "club.sqlite3"
    store = Store(path)
    desk = Desk(store)
    load_demo(store, desk, MORNING, "club")
    session = desk.session_at(MORNING, MORNING)
    job = PlanJob(session, (Prefer.STEADIEST,), 10, MORNING, desk.revision(), keep=desk.keep_plan)
    job.start()
    job.wait(60)
    store.close()
    with running(path, lambda: MORNING) as address:
        take(names, address)


def main(names: list[str]) -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    wanted = names or list(VIEWS)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "demo.sqlite3"
        store = Store(path)
        desk = Desk(store)
        load_demo(store, desk, MORNING)
        job = PlanJob(
            desk.session_at(MORNING, MORNING), tuple(Prefer), 18, MORNING, desk.revision(), keep=desk.keep_plan
        )
        job.start()
        job.wait(60)
        store.close()
        with running(path, lambda: MORNING) as address:
            take([name for name in wanted if not name.startswith(("run", "lesson", "bench", "table"))], address)
        with tempfile.TemporaryDirectory() as other:
            take_bench([name for name in wanted if name.startswith("bench")], Path(other))
        with tempfile.TemporaryDirectory() as other:
            take_table(wanted, Path(other))
            take_run([name for name in wanted if name.startswith("run")], Path(other))
            with running(path, lambda: MORNING) as real:
                take_lesson([name for name in wanted if name.startswith("lesson")], Path(other), real)


def take(names: list[str], address: str) -> None:
    with chromium() as browser:
        for name in names:
            where, size, theme = VIEWS[name]
            page = browser.new_page(viewport=size, is_mobile=size is PHONE, has_touch=size is PHONE)
            page.context.add_cookies([{"name": "iterum_theme", "value": theme, "url": address}])
            page.goto(address + where)
            page.evaluate("document.fonts.ready")
            if name == "rules":  # one of them open, with its schools
                page.locator(".rule > summary").first.click()
            page.wait_for_timeout(300)
            page.screenshot(path=FOLDER / f"{name}.png", animations="disabled", full_page=name in TALL)
            page.close()


def take_lesson(names: list[str], folder: Path, real: str) -> None:
    """A lesson on its own bench: the low pack was typed as the others are, and plugged in with them."""
    lesson = next(item for item in lessons() if item.id == "low-one-last")
    with playing(lesson, folder, MORNING, real) as address:
        with chromium() as browser:
            page = patient(browser.new_page(viewport=WIDE))
            page.goto(f"{address}/measure")
            page.keyboard.type("384384384384")
            page.wait_for_timeout(500)
            with turning(page):
                page.keyboard.press("Enter")
            plugged_in(page, *(f"G-{number}" for number in range(1, 7)))
        take(names, address)


def take_bench(names: list[str], folder: Path) -> None:
    """A planned day, a quarter of an hour in: what came first was begun as it was planned."""
    clock = Clock(MORNING)
    with served(clock) as server:
        field = Field(folder, clock, server)
        session = field.desk.session_at(clock(), clock())
        job = PlanJob(session, (Prefer.STEADIEST,), 5, clock(), field.desk.revision(), keep=field.desk.keep_plan)
        job.start()
        job.wait(30)
        first = sorted(job.answers[Prefer.STEADIEST].record.batches, key=lambda batch: batch.start_min)[:3]
        for batch in first:
            key = field.runs.begin(batch.choice, clock())
            field.runs.act(key, Act.INSPECT, State.PLANNED, clock())
            run = field.runs.act(key, Act.PLUG_IN, State.INSPECTED, clock())
            if run.card.evens_out_min:
                field.pass_time(run.card.evens_out_min)
                run = field.runs.act(key, Act.EVEN_OUT, run.state, clock())
            run = field.runs.act(key, Act.READ_BACK, run.state, clock(), skipped=True)
            field.runs.act(key, Act.START, run.state, clock())
            field.pass_time(1)
        field.pass_time(6)
        with running(folder / "field.sqlite3", clock, watch=True) as address:
            time.sleep(2.5)  # until the watch has looked
            take(names, address)
        field.close()


def take_run(names: list[str], folder: Path) -> None:
    """A batch on the simulated bench, 14 minutes in, with one hand check behind it."""
    clock = Clock(MORNING)
    with served(clock) as server:
        field = Field(folder, clock, server)
        key = field.runs.begin(Choice(("P-01", "P-02", "P-07", "P-08"), "Six", "Twin-1"), clock())
        for act, state in (
            (Act.INSPECT, State.PLANNED),
            (Act.PLUG_IN, State.INSPECTED),
            (Act.EVEN_OUT, State.PLUGGED_IN),
        ):
            field.runs.act(key, act, state, clock())
            field.pass_time(2)
        run = field.runs.look(key, clock()).run
        field.runs.read_back(key, field.runs.shown_by_charger(run), run.state, clock())
        field.runs.act(key, Act.START, State.READ_BACK, clock())
        field.pass_time(8)
        node_v = server.bench.channels["Twin-1"].node_v
        for tag, off_v in (("P-01", 0.01), ("P-02", -0.02), ("P-07", 0.02), ("P-08", 0.0)):
            field.watcher.observe(key, TYPED, Observation(0, pack_v=node_v + off_v, pack_id=tag, by_hand=True), clock())
        field.pass_time(6)
        with running(folder / "field.sqlite3", clock, watch=True) as address:
            time.sleep(2.5)  # until the watch has looked
            take(names, address)
        field.close()


if __name__ == "__main__":
    main(sys.argv[1:])
