"""Addresses of a run: take in hand, act, read back, record a check, read a file, check after, log."""

from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import Any

from flask import Blueprint, current_app, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.reading.numbers import figure_of
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.say import say
from iterum.core.season.after_charge import After
from iterum.core.season.health import MOST_AGAIN
from iterum.core.season.outlook import COOL, HOT, WARM, Observation
from iterum.core.season.read_back import Shown
from iterum.core.season.records import KeptEvent, KeptRun
from iterum.core.season.run import LIVE, Act, State
from iterum.core.season.watching import Alarm
from iterum.core.things.choice import Kind
from iterum.core.things.packs import Condition
from iterum.devices.driver import LinkLost, Refused
from iterum.guardian.reports import ChannelReport
from iterum.services.running import AT_THE_CHARGER, PERSON, Changed
from iterum.services.watching import TYPED
from iterum.store.troubles import StoreTrouble
from iterum.web.choices import choice_from
from iterum.web.context import checks, desk, links, now, runs, watcher
from iterum.web.degrees import typed_c
from iterum.web.frame import go_back_to
from iterum.web.pilots import owners, tender_of
from iterum.web.run.views import reading_from_volts, run_page
from iterum.web.words import doing
from iterum.wording import about

blueprint = Blueprint("run", __name__, url_prefix="/run", template_folder="templates")

UNITS = {"pack_v": "V", "current_a": "A", "charge_mah": "mAh", "input_v": "V", "minutes": "min", "at_min": "min"}
RANGES = {"cells": (0, 14), "pack_v": (0.0, 65.0), "current_a": (0.0, 100.0), "end_v": (1.0, 5.0),
          "charge_mah": (0.0, 200_000.0), "temperature_c": (-30.0, 120.0), "input_v": (0.0, 300.0)}  # fmt: skip


def _page(key: int, status: int = 200, **more: Any) -> tuple[str, int]:
    values = step_of(key, **more)
    run = values["shown"].look.run
    tenders = list(dict.fromkeys(owners().get(tag) for tag in run.packs))
    page = render_template("run/page.html", return_to=request.form.get("back", ""), tenders=tenders,
                           tender=tender_of(run), **values)  # fmt: skip
    return page, status


def step_of(key: int, **more: Any) -> dict[str, Any]:
    """What the step of a batch shows; `more` stands for what a form brought back. Raises NotThere.

    key : of the batch.
    """
    shown = run_page(runs().look(key, now()), desk().session(), now())
    values = {"shown": shown, "typed": {}, "faults": {}, "back": None, **more}
    values["has_checker"] = links().checker() is not None
    if shown.act is Act.READ_BACK and not values["typed"]:
        read = runs().shown_by_charger(shown.look.run)
        values["back"] = read
        if read is not None:
            values["typed"] = {name: "" if value is None else f"{value:g}" for name, value in vars(read).items()}
    return values


def _onward(key: int, unable: str | None = None) -> Response:
    """Where the act was asked for; the page of the batch where its charger did not do it. unable : which act."""
    back = request.form.get("back")
    if back and unable is None:
        return redirect(go_back_to(back))
    return redirect(url_for("run.page", key=key, unable=unable))


@blueprint.post("")
def begin() -> Response:
    """Take a batch in hand, as it was chosen: to charge it, or for one of the runs that fill nothing."""
    form = request.form
    try:
        kind = Kind(form.get("kind", Kind.CHARGE.value))
    except ValueError:
        raise NotThere("kind of batch", form["kind"]) from None
    choice = choice_from(form)
    try:
        key = runs().begin(choice, now()) if kind is Kind.CHARGE else runs().begin_upkeep(kind, choice, now())
    except Unsafe as refusal:
        flash(say("Not started: {reasons}", reasons=" ".join(about(item) for item in refusal.reasons)), "care")
        return redirect(go_back_to(form.get("back") or url_for("bench.page")))
    return redirect(url_for("bench.page", open=key))


@blueprint.get("/<int:key>")
def page(key: int) -> tuple[str, int]:
    """The step in hand, or the charge card. unable : the act that its charger did not do, which a person then does."""
    asked = request.args.get("unable")
    return _page(key, unable=next((act.value for act in BY_HAND if act.value == asked), None))


@blueprint.get("/<int:key>/live")
def live(key: int) -> str:
    """What changes by itself: figures, findings, the card. Asked for every two seconds."""
    shown = run_page(runs().look(key, now()), desk().session(), now())
    return render_template("run/live.html", shown=shown)


@blueprint.get("/alarms")
def alarms() -> str:
    """What is wrong on any channel, and when the watch looked last, for the sign on every page.

    It comes from the guardian: a database that cannot be read silences no alarm.
    """
    channels: Sequence[ChannelReport] = ()
    with suppress(LinkLost):  # then the watch says that nobody watches
        channels = links().guard.channels()
    signs = [
        (item, finding)
        for item in channels
        for finding in item.findings
        if finding.alarm is Alarm.STOP or (finding.alarm is Alarm.CARE and item.state in LIVE)
    ]
    signs.sort(key=lambda sign: sign[1].alarm is not Alarm.STOP)
    told = {item.run_key for item, _ in signs}
    stopped: Sequence[tuple[KeptRun, KeptEvent]] = ()
    with suppress(StoreTrouble):
        stopped = [item for item in runs().stopped() if item[0].key not in told]
    template = current_app.jinja_env.get_template("run/alarms.html")  # without the frame, which asks the store
    return template.render(
        signs=signs, unseen=sum(not item.seen for item, _ in signs), stopped=stopped, swapped=True,
        watch=current_app.extensions["iterum"]["watch"], watched=bool(channels),
        alarms_on=any(item.state in LIVE for item in channels),
    )  # fmt: skip


def _numbers(names: tuple[str, ...]) -> tuple[dict[str, Any], dict[str, str]]:
    """Figures of the form that are there, and the faults of those that are none or out of range."""
    values: dict[str, Any] = {}
    faults = {}
    for name in names:
        text = request.form.get(name, "").strip()
        if not text:
            continue
        low, high = RANGES[name]
        value = typed_c(text) if name == "temperature_c" else figure_of(text, UNITS.get(name, ""))
        if value is None:
            faults[name] = say("{value} is no number", value=repr(text))
            continue
        if not low <= value <= high:
            faults[name] = say("must be {low:g} to {high:g}, got {value:g}", low=low, high=high, value=value)
        values[name] = int(value) if name == "cells" else value
    return values, faults


def _state() -> State:
    """The state that whoever acts has seen. Raises NotThere for what is none."""
    told = request.form.get("expected", "")
    try:
        return State(told)
    except ValueError:
        raise NotThere("state", told) from None


def _changed(error: Changed) -> None:
    flash(say("Meanwhile the batch is {doing}. What you entered is kept in its log.", doing=doing(error.run)), "care")


BY_HAND = (Act.PLUG_IN, Act.EVEN_OUT, Act.START, Act.PAUSE, Act.RESUME, Act.STOP)
"""Acts that a person can do at the charger itself where it does not answer."""


SOUND = "all of these are sound"
"""What is written down where somebody says so of a whole board at once."""


def _try(act: Act, key: int, skipped: bool = False, seen: State | None = None) -> bool:
    """Do an act and say in words what stood in its way. True where its charger does not do it.

    seen : the state it is done in, where that is not the one of the form.
    """
    note = request.form.get("note", "").strip() or None
    if act is Act.INSPECT and request.form.get("sound") == "all":
        note = SOUND
    by = AT_THE_CHARGER if act in BY_HAND and request.form.get("by_hand") == "yes" else PERSON
    try:
        runs().act(key, act, seen or _state(), now(), by=by, note=note, skipped=skipped)
    except Changed as error:
        _changed(error)
    except Unsafe as refusal:
        flash(" ".join(about(item) for item in refusal.reasons), "care")
    except LinkLost as error:
        flash(say("The charger does not answer: {error}.", error=error), "care")
        return True
    except Refused as error:
        flash(say("The charger refuses: {error}.", error=error), "care")
        return True
    return False


@blueprint.post("/<int:key>/act")
def act(key: int) -> Response | tuple[str, int]:
    """One act: done, or skipped, which is written down as a choice."""
    try:
        wanted = Act(request.form.get("act", ""))
    except ValueError:
        raise NotThere("act", request.form.get("act")) from None
    skipped = request.form.get("skip") == "yes"
    if wanted is Act.STOP:  # it asks for nothing that might keep it from stopping
        return _onward(key, wanted.value if _try(wanted, key) else None)
    run = runs().look(key, now()).run
    looked = set(run.packs) if request.form.get("sound") == "all" else set(request.form.getlist("looked"))
    if wanted is Act.INSPECT and not skipped and looked != set(run.packs):
        faults = {"looked": say("Look at every pack and tick it, or skip and say why.")}
        return _page(key, 422, faults=faults, looked=request.form.getlist("looked"))
    if wanted is Act.INSPECT and skipped and not request.form.get("note", "").strip():
        return _page(key, 422, faults={"note": say("Say why it is skipped.")})
    unable = wanted.value if _try(wanted, key, skipped) and wanted in BY_HAND else None
    if wanted is Act.INSPECT and request.form.get("also") == Act.PLUG_IN.value and len(run.packs) == 1:
        _try(Act.PLUG_IN, key, seen=State.INSPECTED)  # of one pack there is no order, and nothing to even out
    return _onward(key, unable)


@blueprint.post("/<int:key>/read-back")
def read_back(key: int) -> Response | tuple[str, int]:
    """What the charger shows against the card; it does not go on while they differ."""
    values, faults = _numbers(("cells", "pack_v", "current_a", "end_v"))
    if faults:
        return _page(key, 422, typed=request.form, faults=faults)
    try:
        runs().read_back(key, Shown(**values), _state(), now(), request.form.get("note", "").strip() or None)
    except Unsafe as refusal:
        return _page(key, 422, typed=request.form, differ=refusal.reasons)
    except Changed as error:
        _changed(error)
    except LinkLost as error:
        flash(say("The charger does not answer: {error}", error=error), "care")
    except Refused as error:
        flash(say("The charger refuses: {error}.", error=error), "care")
    else:
        if request.form.get("also") == Act.START.value and _try(Act.START, key, seen=State.READ_BACK):
            return _onward(key, Act.START.value)
    return _onward(key)


@blueprint.post("/<int:key>/check")
def check(key: int) -> Response | tuple[str, int]:
    """A hand check: touched and looked at; what was read beside it is optional."""
    values, faults = _numbers(("pack_v", "current_a", "charge_mah", "temperature_c", "input_v"))
    by_id = {pack.id: pack for pack in desk().session().packs}
    run = runs().look(key, now()).run
    packs: dict[str, tuple[float, ...]] = {}
    for tag in run.packs:
        try:
            packs[tag] = _volts_of(request.form, f"v-{tag}", by_id[tag].cells if tag in by_id else run.card.cells)
        except ValueError as error:
            faults[f"v-{tag}"] = str(error)
    if faults:
        return _page(key, 422, typed=request.form, faults=faults)
    watcher().observe(key, TYPED, Observation(0.0, by_hand=True, **values), now())
    watcher().mark_seen(key, now())
    for tag, cells in packs.items():
        felt = request.form.get(f"touch-{tag}")
        touch = felt if felt in (COOL, WARM, HOT) else None
        if cells or touch:
            one = Observation(0.0, pack_v=sum(cells) if cells else None, cell_v=cells if len(cells) > 1 else (),
                              pack_id=tag, by_hand=True, touch=touch)  # fmt: skip
            watcher().observe(key, TYPED, one, now())
    watcher().keep(now())
    over = (
        "" if run.state in LIVE else say(" The batch is {doing} by now; it stands with its own time.", doing=doing(run))
    )
    flash(say("The check is saved.") + over)
    return _onward(key)


def _volts_of(form: Mapping[str, str], name: str, cells: int) -> tuple[float, ...]:
    """Volts of one pack, typed cell by cell or as a total. Raises ValueError."""
    text = form.get(name, "").strip()
    if not text:
        return ()
    words = text.replace(",", ".").split()
    if len(words) == 1 and cells > 1:
        total = float(words[0])
        total = total / 100 if total > 100 else total
        if not 0.5 * cells <= total <= 4.6 * cells:
            raise ValueError(say("{total:g} V is no total of {cells} cells", total=total, cells=cells))
        return (total,)
    return reading_from_volts(text, cells)


@blueprint.post("/<int:key>/tender")
def tender(key: int) -> Response:
    """Say which pilot sees to a batch with packs of several."""
    pilot = request.form.get("pilot", "")
    runs().set_tender(key, pilot)
    flash(say("{pilot} sees to this batch.", pilot=pilot))
    return redirect(url_for("run.page", key=key))


@blueprint.post("/<int:key>/seen")
def seen(key: int) -> Response:
    """Somebody has seen what is wrong: the sound stops, the finding stays."""
    watcher().mark_seen(key, now())
    return _onward(key)


@blueprint.post("/<int:key>/after")
def after(key: int) -> Response | tuple[str, int]:
    """Check each pack after its charge and write its log."""
    run = runs().look(key, now()).run
    if request.form.get("checker") == "next":
        return _with_checker(key, run.packs)
    values, faults = _numbers(("charge_mah",))
    by_volts, skipped = run.card.end_v is not None, request.form.get("skip") == "yes"
    packs = _read_after(run.packs, run.card.cells, by_volts, skipped, faults)
    if faults:
        return _page(key, 422, typed=request.form, faults=faults)
    note = request.form.get("note", "").strip() or None
    warm = {"yes": True, "no": False}.get(request.form.get("warm", ""))
    if not by_volts and warm is None and not skipped:
        return _page(
            key, 422, typed=request.form, faults={"all": say("Say whether it was warm: one that is not is not full.")}
        )
    try:
        _, logged = checks().check_after(key, _state(), now(), packs, values.get("charge_mah"), note, skipped, warm)
    except Changed as error:
        for tag, item in packs.items():  # somebody else was quicker; what was read here is kept all the same
            if item.is_read:
                desk().record_reading(tag, item.reading(now()), now())
        _changed(error)
        return _onward(key)
    if logged.low:
        flash(
            say("More than 80 % went back into {low:list}: run too low. Shorten the timer, see Use.", low=logged.low),
            "care",
        )
    for tag, count in logged.again.items():
        why = say("{tag} is not full: not warm at its end, or far too few mAh.", tag=tag)
        if count < MOST_AGAIN:
            flash(
                say(
                    "{why} Let it rest, then charge it again: {count} of at most {most_again} times.",
                    why=why,
                    count=count,
                    most_again=MOST_AGAIN,
                ),
                "care",
            )
        else:
            flash(
                say(
                    "{why} That is {most_again} times in a row: it takes no charge any more. Retire it.",
                    why=why,
                    most_again=MOST_AGAIN,
                ),
                "care",
            )
    _say_logged(run.packs)
    return _onward(key)


def _read_after(
    tags: Sequence[str], cells: int, by_volts: bool, skipped: bool, faults: dict[str, str]
) -> dict[str, After]:
    """What was read of each pack of the form; what is wrong with it goes to `faults`."""
    packs: dict[str, After] = {}
    for tag in tags:
        try:
            packs[tag] = _after_of(request.form, tag, cells, by_volts)
        except ValueError as error:
            faults[f"v-{tag}"] = str(error)
    if not skipped and not faults and any(not item.is_read for item in packs.values()):
        faults["all"] = say("Read every pack, or skip what you did not read: the charge is logged all the same.")
    return packs


def _with_checker(key: int, tags: Sequence[str]) -> tuple[str, int]:
    """The form again, with what the cell checker reads of the first pack that has no volts yet."""
    typed = request.form.to_dict()
    tag = next((one for one in tags if not typed.get(f"v-{one}", "").strip()), None)
    checker = links().checker()
    faults: dict[str, str] = {}
    if tag is not None and checker is not None:
        try:
            typed[f"v-{tag}"] = " ".join(f"{volts:.2f}" for volts in checker.check(tag))
        except (LinkLost, Refused) as error:
            faults = {f"v-{tag}": say("The cell checker: {error}.", error=error)}
    return _page(key, 200, typed=typed, faults=faults)


def _say_logged(tags: Sequence[str]) -> None:
    """Who is free again, and who is not: what was marked as damaged meanwhile stays apart."""
    damaged = {pack.id for pack in desk().session().packs if pack.condition is Condition.DAMAGED}
    apart, free = ([tag for tag in tags if (tag in damaged) is hurt] for hurt in (True, False))
    if not apart:
        flash(say("Logged. The packs are free again."))
        return
    more = say(" Free again: {free:list}.", free=free) if free else ""
    flash(
        say("Logged. Quarantined, outside, and not charged again: {apart:list}.{more}", apart=apart, more=more), "care"
    )


def _after_of(form: Mapping[str, str], tag: str, cells: int, by_volts: bool) -> After:
    """What was read of one pack after its charge: its cells, or, of nickel, the total. Raises ValueError."""
    ohms = _ohms(form.get(f"r-{tag}", ""), cells)
    if by_volts:
        return After(reading_from_volts(form.get(f"v-{tag}", ""), cells), ohms)
    total = _volts_of(form, f"v-{tag}", cells)
    return After((), ohms, sum(total) if total else None)


def _ohms(text: str, cells: int) -> tuple[float, ...]:
    words = text.replace(",", ".").split()
    if not words:
        return ()
    values = tuple(float(word) for word in words)
    if len(values) != cells or any(not 0 < value < 1000 for value in values):
        raise ValueError(say("resistance: one value in mOhm for each of {cells} cells", cells=cells))
    return values
