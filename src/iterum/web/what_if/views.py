"""What the what-if page shows: a question in an address, an answer from the core."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

from iterum.core.electrical.charging import Charge
from iterum.core.electrical.joining import EvenedOut, even_out
from iterum.core.groups.group import obstacles
from iterum.core.reading.numbers import figure_of
from iterum.core.reasons import Reason, Unsafe
from iterum.core.say import Words, say
from iterum.core.sizing.compare import Road, one_after_another, refills, together
from iterum.core.sizing.size import Sizing, charge, size
from iterum.core.things.bench import Bench
from iterum.core.things.chemistry import CHEMISTRIES, MAX_CELLS
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.rules import HouseRules
from iterum.web.match.join import JoinStep, join_steps
from iterum.web.pictures import curves

MOST_PACKS = 40


@dataclass(frozen=True)
class Ask:
    """One field of the question: its bounds, and what stands in it when nothing was asked."""

    name: str
    label: str
    unit: str
    low: float
    high: float
    default: str
    help: str = ""


FIELDS = (
    Ask("cells", Words("Cells in series"), "S", 1, MAX_CELLS, "4"),
    Ask("a_count", Words("Packs"), "", 1, MOST_PACKS, "2"),
    Ask("a_mah", Words("Capacity"), "mAh", 10, 200_000, "1800"),
    Ask("a_v", Words("Rest volts per cell"), "V", 0.5, 4.5, "3.75"),
    Ask("a_label_c", Words("Discharge C"), "C", 1, 500, "", Words("Empty: not known.")),
    Ask("b_count", Words("Packs"), "", 0, MOST_PACKS, "1"),
    Ask("b_mah", Words("Capacity"), "mAh", 10, 200_000, "1800"),
    Ask("b_v", Words("Rest volts per cell"), "V", 0.5, 4.5, "3.80"),
    Ask("b_label_c", Words("Discharge C"), "C", 1, 500, "", Words("Empty: not known.")),
    Ask("charge_c", Words("Charge C of all"), "C", 0.1, 20, "1"),
    Ask("amps", Words("Charger amps"), "A", 0.05, 200, "10"),
    Ask("watts", Words("Charger watts"), "W", 1, 5000, "200"),
    Ask("rate", Words("Wanted rate"), "C", 0.05, 10, "1"),
    Ask(
        "bank_wh",
        Words("Source, watt-hours to use"),
        "Wh",
        0.1,
        1_000_000,
        "",
        Words("Empty: mains. Of lead half at most."),
    ),
)


@dataclass(frozen=True)
class WhatIf:
    """What the core says: joining first, then charging."""

    packs: tuple[Pack, ...]
    obstacles: tuple[Reason, ...]
    evening: EvenedOut | None
    evening_picture: curves.EveningPicture | None
    evening_small: curves.EveningPicture | None
    ways: tuple[Reason, ...]
    steps: tuple[JoinStep, ...]
    sizing: Sizing | None
    refusals: tuple[Reason, ...]
    charge: Charge | None
    charge_picture: curves.ChargePicture | None
    charge_small: curves.ChargePicture | None
    together: Road | None = None
    apart: Road | None = None
    refills: int | None = None


def read_question(query: Mapping[str, str]) -> tuple[dict[str, str], dict[str, float | None], dict[str, str]]:
    """Texts as typed, numbers where they make sense, faults by field."""
    texts = {ask.name: query.get(ask.name, ask.default).strip() for ask in FIELDS}
    texts["chemistry"] = query.get("chemistry", "lipo")
    numbers: dict[str, float | None] = {}
    faults = {}
    for ask in FIELDS:
        text = texts[ask.name]
        if not text and not ask.default:
            numbers[ask.name] = None
            continue
        figure = figure_of(text, ask.unit)
        value = float("nan") if figure is None else figure
        if not ask.low <= value <= ask.high or (ask.name in ("cells", "a_count", "b_count") and value % 1):
            faults[ask.name] = say("Must be a number from {low:g} to {high:g}.", low=ask.low, high=ask.high)
        numbers[ask.name] = value
    if texts["chemistry"] not in CHEMISTRIES or not CHEMISTRIES[texts["chemistry"]].joins:
        faults["chemistry"] = say("Choose a chemistry that ends by volts.")
    if not faults and (numbers["a_count"] or 0) + (numbers["b_count"] or 0) > MOST_PACKS:
        faults["b_count"] = say("At most {most_packs} packs in all.", most_packs=MOST_PACKS)
    return texts, numbers, faults


def _packs(chemistry: str, numbers: Mapping[str, float | None]) -> tuple[Pack, ...]:
    cells = int(numbers["cells"] or 1)
    packs = []
    for side in ("a", "b"):
        count = int(numbers[f"{side}_count"] or 0)
        for number in range(1, count + 1):
            tag = side.upper() if count == 1 else f"{side.upper()}{number}"
            volts = cells * (numbers[f"{side}_v"] or 0.0)
            packs.append(
                Pack(tag, chemistry, cells, numbers[f"{side}_mah"] or 1.0, numbers["charge_c"],
                     numbers[f"{side}_label_c"], reading=Reading(volts, (volts / cells,) * cells))
            )  # fmt: skip
    return tuple(packs)


def answer(chemistry: str, numbers: Mapping[str, float | None], rules: HouseRules) -> WhatIf:
    """The answer to a question without faults, on a board with ports enough and mains."""
    packs = _packs(chemistry, numbers)
    amps, watts = numbers["amps"] or 0.0, numbers["watts"] or 0.0
    channel = Channel("charger", amps, watts, 0.05, 0.1 if amps >= 1 else 0.01, 1, MAX_CELLS)
    board = Board("board", MOST_PACKS) if len(packs) > 1 else None
    kit = Kit(boards=(board,) if board else (), chargers=(Charger("charger", (channel,)),))
    asked = replace(rules, rate_c=numbers["rate"])
    bench = Bench(packs, kit, asked)
    choice = Choice(tuple(pack.id for pack in packs), board.id if board else None, channel.id)
    sizing: Sizing | None = None
    predicted: Charge | None = None
    refusals: tuple[Reason, ...] = ()
    end_v = asked.full_v(packs[0].chemistry)
    try:
        sizing = size(bench, choice)
    except Unsafe as refusal:
        refusals = refusal.reasons
    evening = even_out(packs, asked, rate_c=sizing.rate_c if sizing else None) if len(packs) > 1 else None
    try:
        predicted = charge(bench, choice).charge
    except Unsafe as refusal:
        refusals = refusals or refusal.reasons
    broken = obstacles(packs, asked) if len(packs) > 1 else ()
    ways = evening.joining.ways if evening and not broken else ()
    apart = one_after_another(bench, choice) if len(packs) > 1 else None
    road = together(sizing) if sizing else apart
    bank_wh = numbers["bank_wh"]
    return WhatIf(
        packs=packs,
        obstacles=broken,
        evening=evening,
        evening_picture=curves.draw_evening(evening, packs, asked) if evening else None,
        evening_small=curves.draw_evening(evening, packs, asked, curves.PHONE_WIDTH) if evening else None,
        ways=ways,
        steps=join_steps(evening.joining, asked) if evening else (),
        sizing=sizing,
        refusals=refusals,
        charge=predicted,
        charge_picture=curves.draw_charge(predicted, packs[0].cells, end_v) if predicted else None,
        charge_small=curves.draw_charge(predicted, packs[0].cells, end_v, curves.PHONE_WIDTH) if predicted else None,
        together=together(sizing) if sizing else None,
        apart=apart,
        refills=refills(bank_wh, road.energy_in_wh) if bank_wh and road else None,
    )
