"""Addresses of the Kit page: boards, chargers, supplies, sources."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.exceptions import NotFound
from werkzeug.wrappers import Response

from iterum.core.reading.numbers import figure_of
from iterum.core.reading.told import OF_CHANNELS
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.say import kept, say
from iterum.core.sizing.arrange import what_it_gives
from iterum.core.things.kit import Board, Charger, Kit, Supply
from iterum.core.things.kit import Source as Origin
from iterum.core.things.ledger import Entry, EntryKind
from iterum.core.things.tags import next_tag
from iterum.devices.driver import LinkLost, Refused
from iterum.devices.lines import DEFAULT_PORT
from iterum.exchange.sense import kit_sense
from iterum.exchange.session import (
    charger_document,
    item_document,
    part_from,
)
from iterum.services.desk import kit_items
from iterum.services.links import CHARGER, CHECKER, proposed
from iterum.store.kit import KitItem
from iterum.store.rows import TagTaken
from iterum.web.context import bench, desk, links, log_book, now, undoable, work
from iterum.web.figures import whole
from iterum.web.forms import as_text, document_from, faults_by_field, make_fields, texts_of
from iterum.web.heard import Heard, hear, kit_document
from iterum.web.kit.views import PARTS, Picked, kit_page
from iterum.web.pilots import pilot_options
from iterum.wording import about, sentence

blueprint = Blueprint("kit", __name__, url_prefix="/kit", template_folder="templates")

KINDS: dict[str, type[KitItem]] = {"board": Board, "charger": Charger, "supply": Supply, "source": Origin}
MOST_CHANNELS = 16
LEDGER_SHOWN = 6
"""Entries of a source's ledger on the page, the newest."""


def _kind(name: str) -> type[KitItem]:
    if name not in KINDS:
        raise NotFound
    return KINDS[name]


def _find(kind: type, item_id: str) -> KitItem:
    for item in kit_items(desk().session().kit):
        if isinstance(item, kind) and item.id == item_id:
            return item
    raise NotThere("kit", item_id)


def _next_tag(part: str) -> str:
    """A tag for a new piece of kit that nobody uses: board-1, charger-2."""
    used = {item.id for item in (*kit_items(desk().session().kit), *kit_items(desk().retired()[1]))}
    return next_tag(f"{part}-0", used)


def _only_feed() -> str:
    """What a new piece of kit hangs on where there is only one thing to hang on; else mains until somebody says."""
    feeds = [tag for tag, _ in _feeds(None) if tag]
    return feeds[0] if len(feeds) == 1 else ""


def _feeds(known_as: str | None) -> list[tuple[str, str]]:
    """What a supply or charger may be fed by."""
    kit = desk().session().kit
    feeders = kit_items(replace(kit, boards=(), chargers=()))
    named = [(item.id, item.name or item.id) for item in feeders if item.id != known_as]
    return [("", say("Mains, without a limit")), *named]


def _others(board_id: str | None) -> list[tuple[str, str]]:
    """Boards that another one can hang behind."""
    boards = desk().session().kit.boards
    return [("", say("none")), *((board.id, board.name or board.id) for board in boards if board.id != board_id)]


@blueprint.get("/parts")
def parts() -> str:
    """What one part more would have given, on the latest busy days of the log; worked out beside the pages."""
    gains = log_book().part_gains(work())
    return render_template("kit/parts.html", gains=gains, done=gains is not None)


@blueprint.get("/parts/found")
def parts_found() -> str:
    """The table of the same page, once it is worked out."""
    gains = log_book().part_gains(work())
    return render_template("kit/parts_found.html", gains=gains, done=gains is not None)


@blueprint.get("")
def page() -> str:
    """Everything to charge with; retired things below."""
    kit = bench().kit
    shown = kit_page(bench(), request.args.get("part"), request.args.get("id"), now())
    return render_template(
        "kit/page.html",
        parts=PARTS,
        kit=kit,
        chains=shown.chains,
        holds=shown.holds,
        picked=shown.picked,
        form=_form_of(shown.picked),
        asked="id" in request.args,
        ledgers={item.id: desk().ledger(item.id)[:LEDGER_SHOWN] for item in kit.sources},
        removed=desk().removed_channels(),
        links=links().links(),
        proposals=_proposals(kit),
        kit_channels=[channel.id for _, channel in kit.channels()],
        port=DEFAULT_PORT,
        retired=[(_part_of(item), item) for item in kit_items(desk().retired()[1])],
    )


def _proposals(kit: Kit) -> dict[int, dict[str, str]]:
    """By device, which channel of the kit each of its channels is, or by its name may be."""
    known, ours = links().links(), [channel.id for _, channel in kit.channels()]
    taken = [name for link in known for name in link.device.channels]
    return {
        link.device.key: proposed(link, ours, taken) | {theirs: name for name, theirs in link.device.channels.items()}
        for link in known
    }


def _form_of(picked: Picked | None) -> dict[str, Any] | None:
    """The form of the part whose panel is open."""
    if picked is None:
        return None
    return _shown(picked.part, *_as_it_stands(picked.part, picked.part_id), {}, picked.part_id)


def _part_of(item: KitItem) -> str:
    return next(name for name, kind in KINDS.items() if isinstance(item, kind))


def _channel_texts(texts: Mapping[str, str], count: int) -> list[dict[str, str]]:
    return [
        {name.split("-", 1)[1]: value for name, value in texts.items() if name.startswith(f"channel{number}-")}
        for number in range(count)
    ]


def _form(
    part: str, texts: Mapping[str, str], channels: list[dict[str, str]], faults: Mapping[str, str],
    known_as: str | None, heard: Heard | None = None,
) -> str:  # fmt: skip
    return render_template("kit/edit.html", **_shown(part, texts, channels, faults, known_as), heard=heard)


def _shown(
    part: str, texts: Mapping[str, str], channels: list[dict[str, str]], faults: Mapping[str, str], known_as: str | None
) -> dict[str, Any]:
    """What the form of a part needs."""
    lines = []
    for number, channel in enumerate(channels):
        place = f"channels[{number}]."
        mine = {name.removeprefix(place).split("[")[0]: mend for name, mend in faults.items() if name.startswith(place)}
        lines.append(make_fields("channel", channel, mine, {}, f"channel{number}-"))
    options = {"fed_by": _feeds(known_as), "chains_to": _others(known_as), **pilot_options()}
    return {
        "part": part,
        "said_part": PARTS[part],
        "fields": make_fields(part, texts, faults, options),
        "channels": lines,
        "known_as": known_as,
        "faults": faults,
        "label": texts.get("label", ""),
    }


@blueprint.post("/device")
def add_device() -> Response:
    """Meet a charger or a cell checker at an address, or look for chargers on this machine."""
    if request.form.get("act") == "look":
        found = links().look_for()
        names = ", ".join(say("{device} at {address}", device=device.name, address=device.address) for device in found)
        told = (
            say("Found: {names}. Say which channel is which.", names=names)
            if found
            else say("No other charger answers on this machine.")
        )
        flash(told, "message" if found else "care")
        return redirect(url_for("kit.page", _anchor="devices"))
    kind = CHECKER if request.form.get("kind") == CHECKER else CHARGER
    try:
        device = links().add(kind, request.form.get("address", ""))
    except (LinkLost, Refused) as error:
        flash(say("Not added: {error}.", error=error), "care")
    else:
        flash(
            say("{device} answers. Say which channel is which.", device=device.name)
            if kind == CHARGER
            else say("{device} is added.", device=device.name)
        )
    return redirect(url_for("kit.page", _anchor="devices"))


@blueprint.post("/device/channels")
def bind_device() -> Response:
    """A person says which channel of the kit each channel of a device is."""
    key = request.form.get("key", -1, type=whole)
    link = next((item for item in links().links() if item.device.key == key), None)
    known = {channel.id for _, channel in desk().session().kit.channels()}
    theirs = link.identity.channels if link is not None and link.identity is not None else ()
    chosen = [(request.form.get(f"is-{place}", ""), name) for place, name in enumerate(theirs)]
    named = [(ours, name) for ours, name in chosen if ours in known]
    try:
        links().confirm(key, named, now())
    except Unsafe as refusal:
        flash(" ".join(about(item) for item in refusal.reasons), "care")
    else:
        flash(
            "Confirmed: "
            + (
                ", ".join(say("{name} is {ours}", name=name, ours=ours) for ours, name in named)
                or say("no channel is used")
            )
            + "."
        )
    return redirect(url_for("kit.page", _anchor="devices"))


@blueprint.post("/device/gone")
def drop_device() -> Response:
    """Talk to a device no more; it can be met again at its address."""
    with undoable(kept("A device is not asked any more")):
        links().drop(request.form.get("key", -1, type=whole))
    return redirect(url_for("kit.page"))


@blueprint.post("/channel/back")
def channel_back() -> Response:
    """Put a channel back on the charger it was taken off."""
    channel_id = request.form.get("id", "")
    with undoable(kept("{channel_id} is back on its charger", channel_id=channel_id)):
        desk().put_channel_back(channel_id)
    return redirect(url_for("kit.page"))


@blueprint.get("/<part>")
def edit(part: str) -> str:
    """The form for a new piece of kit, or for the one named."""
    _kind(part)
    known_as = request.args.get("id")
    if known_as is None:
        tag = _next_tag(part)
        channels = [texts_of("channel", {"id": f"{tag}-1"})] if part == "charger" else []
        return _form(part, {**texts_of(part, {}), "id": tag, "fed_by": _only_feed()}, channels, {}, None)
    return _form(part, *_as_it_stands(part, known_as), {}, known_as)


def _as_it_stands(part: str, known_as: str) -> tuple[dict[str, str], list[dict[str, str]]]:
    """The texts of a part's form, and of its channels. Raises NotThere."""
    item = _find(_kind(part), known_as)
    document = charger_document(item) if isinstance(item, Charger) else item_document(item)
    return texts_of(part, document), [texts_of("channel", channel) for channel in document.get("channels", ())]


@blueprint.post("/<part>/would")
def would(part: str) -> str:
    """What a part as it is typed would give today's groups; nothing is saved."""
    _kind(part)
    known_as = request.form.get("known_as") or None
    count = min(max(request.form.get("channels", 0, type=whole), 0), MOST_CHANNELS) if part == "charger" else 0
    document = document_from(part, request.form)
    if part == "charger":
        document["channels"] = [document_from("channel", channel) for channel in _channel_texts(request.form, count)]
    faults = {**faults_by_field(part, document, kit_sense(part, document)), **_feed_fault(document, known_as)}
    if faults:
        return render_template("kit/would.html", gives=None)
    as_it_is, groups = bench(), desk().matching(now())[0].groups
    typed = part_from(part, document)
    # Another tag changes nothing that flows, and what hangs on the part still calls it by the old one.
    kit = as_it_is.kit.with_part(replace(typed, id=known_as) if known_as else typed, known_as)
    gains = what_it_gives(groups, as_it_is, kit)
    return render_template("kit/would.html", gives=[item for item in gains if item.changes])


@blueprint.post("/<part>")
def save(part: str) -> str | Response | tuple[str, int]:
    """Add or change a piece of kit; every fault at its field, nothing typed is lost."""
    _kind(part)
    known_as = request.form.get("known_as") or None
    count = min(max(request.form.get("channels", 0, type=whole), 0), MOST_CHANNELS) if part == "charger" else 0
    if request.form.get("act") == "add" and count < MOST_CHANNELS:
        return _form(part, request.form, [*_channel_texts(request.form, count), texts_of("channel", {})], {}, known_as)
    channels = _channel_texts(request.form, count)
    if request.form.get("act", "").startswith("drop"):
        told = request.form["act"].removeprefix("drop")
        number = whole(told) if told.isascii() and told.isdigit() else 0
        return _form(part, request.form, [*channels[:number], *channels[number + 1 :]], {}, known_as)
    label = request.form.get("label", "").strip()
    if label and request.form.get("seen") != " ".join(label.split()):
        return _from_label(part, label, channels, known_as)
    document = document_from(part, request.form)
    if part == "charger":
        document["channels"] = [document_from("channel", channel) for channel in channels]
    faults = {
        **faults_by_field(part, document, kit_sense(part, document)),
        **_feed_fault(document, known_as),
    }
    if not faults:
        try:
            with undoable(kept("{part} is saved", part=document["id"])):
                desk().save_kit_item(part_from(part, document), known_as)
        except TagTaken as taken:
            place = "id" if taken.tag == document["id"] else "channels[0].id"
            faults = {place: say("{tag} is used already.", tag=taken.tag)}
        except Unsafe as held:
            faults = {"id": " ".join(map(about, held.reasons))}
        else:
            return redirect(url_for("kit.page"))
    return _form(part, request.form, channels, faults, known_as), 422


def _from_label(part: str, label: str, channels: Sequence[Mapping[str, str]], known_as: str | None) -> tuple[str, int]:
    """The form, its empty fields filled in with what a label says; what it leaves open is asked at its field."""
    heard = hear(label, part, request.form, as_asked=True)
    document = kit_document(part, request.form.get("id", "").strip() or _next_tag(part), heard.fields)
    told = {name: as_text(value) for name, value in document.items() if name != "channels"}
    texts = {**texts_of(part, {}), **told, **{name: text for name, text in request.form.items() if text}}
    lines = [dict(line) for line in channels]
    if part == "charger" and not any(line.get("max_current_a") for line in lines):
        lines = [texts_of("channel", channel) for channel in document["channels"]]
    faults = {asked.field or "label": sentence(asked.why) for asked in reversed(heard.open)}
    first = "channels[0]." if part == "charger" else ""
    faults = {f"{first}{name}" if name in OF_CHANNELS else name: why for name, why in faults.items()}
    if heard.told.faults:
        faults["label"] = " ".join(map(sentence, heard.told.faults))
    return _form(part, texts, lines or [texts_of("channel", {})], faults, known_as, heard), 422 if faults else 200


def _feed_fault(document: Mapping[str, Any], known_as: str | None) -> dict[str, str]:
    """A feed that is not there, or that leads back to where it begins."""
    kit, link = desk().session().kit, document.get("fed_by")
    if link and link not in kit.feeder_ids():
        return {"fed_by": say("{link} is no supply or source of the kit", link=link)}
    feeds = {supply.id: supply.fed_by for supply in kit.supplies}
    seen = {known_as, document.get("id")}
    while link in feeds:
        if link in seen:
            return {"fed_by": say("that leads back to itself; name what feeds it")}
        seen.add(link)
        link = feeds[link]
    return {}


@blueprint.post("/source/ledger")
def note_source() -> Response:
    """Filled again, so much taken in all, or seen at its stop volts under load."""
    source_id, act = request.form.get("id", ""), request.form.get("act", "")
    source = next((item for item in bench().kit.sources if item.id == source_id), None)
    if source is None or act not in ("filled", "empty", "told"):
        raise NotThere("source", source_id)
    taken_wh = 0.0
    if act == "told":
        left_wh = figure_of(request.form.get("left_wh", ""), "Wh")
        most_wh = (source.energy_wh or 0.0) * source.usable_part
        if left_wh is None or not 0 <= left_wh <= most_wh:
            flash(say("Not saved: it can hold 0 to {most_wh:.0f} Wh that may be taken.", most_wh=most_wh), "care")
            return redirect(url_for("kit.page"))
        taken_wh = most_wh - left_wh
    what = {
        "filled": kept("{source_id} is filled again", source_id=source_id),
        "empty": kept("{source_id} has nothing left", source_id=source_id),
        "told": kept("{source_id} holds what you said", source_id=source_id),
    }[act]
    with undoable(what):
        desk().note_source(Entry(source_id, now(), EntryKind(act), taken_wh))
    return redirect(url_for("kit.page"))


@blueprint.post("/<part>/retire")
def retire(part: str) -> Response:
    """Take a piece of kit out of use, or bring it back."""
    kind = _kind(part)
    item_id = request.form.get("id", "")
    back = request.form.get("back") == "yes"
    fed = [item.id for item in kit_items(desk().session().kit) if getattr(item, "fed_by", None) == item_id]
    if fed and not back:
        flash(
            say("Not retired: {fed:list} is fed by {item_id}. Feed it from elsewhere first.", fed=fed, item_id=item_id),
            "care",
        )
        return redirect(url_for("kit.page"))
    try:
        with undoable(
            kept("{item_id} is back in use", item_id=item_id) if back else kept("{item_id} is retired", item_id=item_id)
        ):
            desk().retire(kind, item_id, None if back else now())
    except Unsafe as held:
        failed = [say("If it has failed, pull its plug and say so: It failed.")] if part == "charger" else []
        flash(" ".join([say("Not retired:"), *map(about, held.reasons), *failed]), "care")
        return redirect(url_for("kit.page"))
    return redirect(url_for("kit.page"))
