"""What the Measure page shows, from results of the core."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from iterum.core.permit.permit import Permit, permit_of
from iterum.core.reading.numbers import figure_of
from iterum.core.reasons import Reason
from iterum.core.say import say
from iterum.core.things.chemistry import MAX_CELLS
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.rules import HouseRules
from iterum.core.things.typed_volts import question_total, question_volts
from iterum.web.degrees import own_degrees, typed_c
from iterum.web.pictures import caliper
from iterum.wording.figures import degrees

HIGHEST_TOTAL_V = 65.0
COLDEST_TYPED_C, HOTTEST_TYPED_C = -40.0, 150.0


@dataclass(frozen=True)
class Typed:
    """What was typed for one pack: the texts as they stand, the volts where they make sense, the faults by cell."""

    texts: tuple[str, ...]
    volts: tuple[float, ...]
    faults: dict[int, str]

    @property
    def complete(self) -> bool:
        """Whether every cell holds volts."""
        return bool(self.texts) and not self.faults and len(self.volts) == len(self.texts)


def read_typed(texts: Sequence[str], cells: int) -> Typed:
    """Three digits a cell ("384"), or volts with a point or comma ("3.84"). What was typed is kept as it is."""
    kept = tuple((list(texts) + [""] * cells)[:cells])
    volts, faults = [], {}
    for index, text in enumerate(kept):
        value = _volts_from(text.strip())
        if value is None:
            faults[index] = (
                say("Empty: type three digits.")
                if not text.strip()
                else say("“{value}” is no voltage: type three digits, such as 384.", value=text[:12])
            )
        else:
            volts.append(value)
    return Typed(kept, tuple(volts), faults)


def read_total(text: str) -> Typed:
    """Volts over the whole pack: "12.60", or its digits with two after the point, "1260"."""
    said = text.strip()
    digits = said.isascii() and said.isdigit() and 3 <= len(said) <= 4
    value = int(said) / 100 if digits else figure_of(said, "V")
    if value is not None and 0 <= value <= HIGHEST_TOTAL_V:
        return Typed((text,), (value,), {})
    fault = (
        say("Empty: type the total.")
        if not said
        else say("“{said}” is no total: type volts, such as 12.60.", said=said[:12])
    )
    return Typed((text,), (), {0: fault})


@dataclass(frozen=True)
class AirAsked:
    """The field for the air of the day: what stands in it, whether it is known, and its fault."""

    text: str
    known: bool
    fault: str = ""

    @classmethod
    def of(cls, air_c: float | None) -> "AirAsked":
        """The field as it stands when nothing was typed."""
        return cls("" if air_c is None else own_degrees(air_c), air_c is not None)


def read_temperature(text: str) -> tuple[float | None, str]:
    """Degrees Celsius of what was typed, and the fault when it is none; empty means not taken."""
    if not text.strip():
        return None, ""
    value = typed_c(text)
    if value is not None and COLDEST_TYPED_C <= value <= HOTTEST_TYPED_C:
        return value, ""
    return None, say(
        "“{value}” is no pack temperature: type degrees, such as {value2}.", value=text[:12], value2=degrees(21.0)
    )


def read_pins(text: str) -> tuple[int | None, str]:
    """How many pins were counted on a balance plug, and the fault where that is no number of pins; empty says none."""
    text = text.strip()
    if not text:
        return None, ""
    if text.isascii() and text.isdigit() and 2 <= int(text) <= MAX_CELLS + 1:
        return int(text), ""
    return None, say(
        "“{value}” is no number of pins: from 2 to {max_cells}, one more than its cells.",
        value=text[:12],
        max_cells=MAX_CELLS + 1,
    )


def _volts_from(text: str) -> float | None:
    if text.isascii() and text.isdigit() and len(text) in (3, 4):
        return float(int(text) / 10 ** (len(text) - 1))
    value = figure_of(text, "V")
    return value if value is not None and 0 <= value < 10 and len(text) <= 8 else None


@dataclass(frozen=True)
class Look:
    """The verdict on what was typed: questions first, then the verdict, then the caliper."""

    verdict: Permit | None
    questions: tuple[Reason, ...]
    impossible: bool
    picture: caliper.Caliper | None
    faults: dict[int, str]


def look_at(
    pack: Pack, typed: Typed, rules: HouseRules, temperature_c: float | None = None, by_total: bool = False
) -> Look:
    """What these volts say of the pack, before they are saved."""
    if not typed.complete:
        return Look(None, (), False, None, typed.faults)
    questions = question_total(pack, typed.volts[0]) if by_total else question_volts(pack, typed.volts)
    verdict = permit_of(replace(pack, reading=reading_of(typed, temperature_c, by_total), charged_full=False), rules)
    return Look(
        verdict=verdict,
        questions=questions,
        impossible=any(item.code == "volts_impossible" for item in questions),
        picture=caliper.draw(typed.volts) if len(typed.volts) > 1 and pack.chemistry.joins else None,
        faults={},
    )


def reading_of(typed: Typed, temperature_c: float | None, by_total: bool, at: datetime | None = None) -> Reading:
    """What was typed, as a reading."""
    if by_total:
        return Reading(typed.volts[0], (), at, temperature_c)
    return Reading.of_cells(typed.volts, at, temperature_c)


def next_to_measure(queue: Sequence[Pack], after: str | None, on_board: Collection[str]) -> Pack | None:
    """The next pack of the queue without a reading, going round once; None when all are measured.

    on_board : tags of packs on a charger now: their volts are not at rest.
    """
    ids = [pack.id for pack in queue]
    start = ids.index(after) + 1 if after in ids else 0
    turned = [*queue[start:], *queue[:start]]
    due = (pack for pack in turned if pack.reading is None and pack.id not in on_board and pack.condition == "ok")
    return next((pack for pack in due if pack.id != after), None)
