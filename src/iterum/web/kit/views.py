"""What the Kit page shows: the chain as pictures, what the sources hold, and the part that is picked."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from iterum.core.say import Words, say
from iterum.core.things.bench import Bench
from iterum.core.things.chain import Link, Narrow, Tree, trees
from iterum.core.things.kit import Board, Channel, Charger, Source, Supply
from iterum.services.desk import kit_items
from iterum.web.pictures import chain

BAR = 498.0


@dataclass(frozen=True)
class Holds:
    """What one source holds, as a bar on the axis that all share. bars : (class, x, width) of its parts."""

    id: str
    name: str
    whole_wh: float
    used_wh: float
    run_wh: float
    left_wh: float
    reserve_wh: float
    bars: tuple[tuple[str, float, float], ...]
    label: str


@dataclass(frozen=True)
class PartWords:
    """What a kind of part is called on buttons and heads."""

    add: Words
    new: Words


PARTS = {
    "source": PartWords(Words("Add a source"), Words("New source")),
    "supply": PartWords(Words("Add a supply"), Words("New supply")),
    "charger": PartWords(Words("Add a charger"), Words("New charger")),
    "board": PartWords(Words("Add a board"), Words("New board")),
}


@dataclass(frozen=True)
class Picked:
    """The part whose panel is open. part, part_id : what its form is about: of a channel, its charger."""

    id: str
    kind: str
    name: str
    part: str
    part_id: str
    why: str
    figures: tuple[tuple[str, str], ...]
    source: Source | None = None


@dataclass(frozen=True)
class KitPage:
    """Pictures, sources, and the panel."""

    chains: tuple[chain.Picture, ...]
    holds: tuple[Holds, ...]
    picked: Picked | None


def kit_page(bench: Bench, part: str | None, tag: str | None, now: datetime) -> KitPage:
    """Everything the page shows of the kit as it runs now. part, tag : what is picked, if anything."""
    held = trees(bench)
    names = {item.id: item.name or item.id for item in kit_items(bench.kit)}
    names |= {channel.id: channel.name or channel.id for _, channel in bench.kit.channels()}
    clocks = {batch.channel: (now + timedelta(minutes=batch.minutes_left)).astimezone().strftime("%H:%M")
              for batch in bench.running if batch.power_w}  # fmt: skip
    families = list(dict.fromkeys(pack.family for pack in bench.packs))
    tints = {pack.id: chain.TINTS[families.index(pack.family) % len(chain.TINTS)] for pack in bench.packs}
    shape = chain.shape_of(held)
    if part is None and held and held[0].branches and isinstance(first := held[0].branches[0].charger.part, Charger):
        part, tag = "charger", first.id
    return KitPage(
        tuple(chain.draw(tree, names, clocks, tints, shape) for tree in held),
        _holds(bench, names),
        _picked(bench, held, part, tag, names),
    )


def _holds(bench: Bench, names: Mapping[str, str]) -> tuple[Holds, ...]:
    """The sources, each with what it still holds; no bar where there is no meter."""
    most_wh = max((source.energy_wh or 0.0 for source in bench.kit.sources), default=0.0)
    holds = []
    for source in bench.kit.sources:
        whole = source.energy_wh or 0.0
        run = bench.reserved_wh(source.id)
        left = max((source.usable_wh or 0.0) - run, 0.0)
        reserve = whole * (1 - source.usable_part)
        used = max(whole - reserve - left - run, 0.0)
        px = BAR / most_wh if most_wh else 0.0
        bars, at = [], 1.0
        for kind, watt_hours in (("f-used", used), ("f-pinetint", run), ("f-brassfill", left), ("f-plumtint", reserve)):
            if watt_hours * px >= 1:
                bars.append((f"{kind} holds-part", round(at, 1), round(watt_hours * px, 1)))
            at += watt_hours * px
        label = say(
            "{names}: {left:.0f} Wh left of {whole:.0f}, {reserve:.0f} in reserve",
            names=names[source.id],
            left=left,
            whole=whole,
            reserve=reserve,
        )
        holds.append(Holds(source.id, names[source.id], whole, used, run, left, reserve, tuple(bars), label))
    return tuple(holds)


def _picked(
    bench: Bench, chain: tuple[Tree, ...], part: str | None, tag: str | None, names: Mapping[str, str]
) -> Picked | None:
    """The panel of a part; None where nothing is picked, or it is not there any more."""
    board = next((item for item in bench.kit.boards if part == "board" and item.id == tag), None)
    if board is not None:
        return _board(board, names)
    for tree in chain:
        if part == "source" and isinstance(tree.source.part, Source) and tree.source.part.id == tag:
            return _source(tree, tree.source.part, names)
        for branch in tree.branches:
            supply = branch.supply
            if part == "supply" and supply is not None and isinstance(supply.part, Supply) and supply.part.id == tag:
                fed = (
                    (say("Fed by"), names.get(supply.part.fed_by or "", "mains")),
                    (say("Keeps"), f"{supply.part.efficiency:g}"),
                )
                return _of(supply, supply.part, "supply", tree.narrowest, names, fed)
            item = branch.charger.part
            if part == "charger" and isinstance(item, Charger) and item.id == tag:
                return _of(branch.charger, item, "charger", tree.narrowest, names, _charger(item, names))
            for link, _ in branch.channels:
                line = link.part
                if part == "channel" and isinstance(line, Channel) and line.id == tag and isinstance(item, Charger):
                    told = _of(link, line, "channel", tree.narrowest, names, _channel(line))
                    return Picked(line.id, "channel", told.name, "charger", item.id, told.why, told.figures)
    return next((Picked(item.id, "supply", names[item.id], "supply", item.id, say("Nothing hangs on it."), ())
                 for item in bench.kit.supplies if part == "supply" and item.id == tag), None)  # fmt: skip


def _flow(link: Link) -> tuple[tuple[str, str], ...]:
    """What a part gives now, what is left, and its own limit."""
    left = "no limit" if link.left_w is None else f"{link.left_w:.0f} W"
    most = "no limit" if link.own_w is None else f"{link.own_w:.0f} W"
    return ((say("Gives at most"), most), (say("Gives now"), f"{link.now_w:.0f} W"), (say("Left"), left))


def _of(
    link: Link, item: Supply | Charger | Channel, kind: str, narrow: Narrow | None, names: Mapping[str, str],
    more: tuple[tuple[str, str], ...],
) -> Picked:  # fmt: skip
    name, why = names.get(item.id, item.id), _why(item.id, narrow)
    return Picked(item.id, kind, name, kind, item.id, why, (*_flow(link), *more))


def _why(tag: str, narrow: Narrow | None) -> str:
    """What is said of the part that holds the most back; nothing of any other."""
    if narrow is None or narrow.id != tag:
        return ""
    return say(
        "The bottleneck: the parts after it could give the packs {holds_back_w:.0f} W more.",
        holds_back_w=narrow.holds_back_w,
    )


def _source(tree: Tree, source: Source, names: Mapping[str, str]) -> Picked:
    holds = ((say("Volts"), f"{source.voltage_v:g} V"),) if source.voltage_v else ()
    fed = ", ".join(names.get(branch.charger.part.id, "") for branch in tree.branches if branch.charger.part)
    figures = (*_flow(tree.source), *holds, (say("Feeds"), fed or "nothing"))
    why = _why(source.id, tree.narrowest)
    return Picked(source.id, "source", names[source.id], "source", source.id, why, figures, source)


def _charger(item: Charger, names: Mapping[str, str]) -> tuple[tuple[str, str], ...]:
    runs_on = (
        say("{input_min_v:g} to {input_max_v:g} V", input_min_v=item.input_min_v or 0, input_max_v=item.input_max_v)
        if item.input_max_v
        else say("not told")
    )
    table = tuple((say("At {volts:g} V in", volts=volts), f"{watts:g} W") for volts, watts in item.power_by_input_v)
    fed = names.get(item.fed_by or "", "mains")
    return ((say("Fed by"), fed), (say("Keeps"), f"{item.efficiency:g}"), (say("Runs on"), runs_on), *table)


def _channel(item: Channel) -> tuple[tuple[str, str], ...]:
    amps = say(
        "{min_current_a:g} to {max_current_a:g} A in steps of {current_step_a:g}",
        min_current_a=item.min_current_a,
        max_current_a=item.max_current_a,
        current_step_a=item.current_step_a,
    )
    return (
        (say("Amps"), amps),
        (say("Cells"), say("{min_cells} to {max_cells} S", min_cells=item.min_cells, max_cells=item.max_cells)),
    )


def _board(item: Board, names: Mapping[str, str]) -> Picked:
    fuse = (
        say("{port_fuse_a:g} A each port", port_fuse_a=item.port_fuse_a)
        if item.port_fuse_a
        else say("none: prefer a fused board")
    )
    carries = f"{item.max_current_a:g} A" if item.max_current_a else say("not told")
    figures = (
        (say("Ports"), str(item.ports)),
        (say("Cells"), say("{min_cells} to {max_cells} S", min_cells=item.min_cells, max_cells=item.max_cells)),
        (say("Carries"), carries),
        (say("Fuses"), fuse),
        (say("Plugs"), item.connector or "not told"),
    )
    return Picked(item.id, "board", names[item.id], "board", item.id, "", figures)
