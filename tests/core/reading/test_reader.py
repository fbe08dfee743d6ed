"""Lines as people type them, and what must come out: the figures, a question, or a word that is marked. Common
practice, no source, for what labels say; the sums are by hand."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.reading.numbers import figure_of
from iterum.core.reading.reader import READERS, kind_of, read
from iterum.core.reading.tokens import Kind, tokens_of
from iterum.core.things.chemistry import CHEMISTRIES
from iterum.exchange.session import part_from
from iterum.wording import sentence

PACKS = {
    "max discharge 5C 18650 3S 3500 mAh": {"chemistry": "li-ion", "cells": 3, "capacity_mah": 3500, "discharge_c": 5},
    "3S 18650 3000mAh discharge 20C charge 2C": {"max_charge_c": 2, "discharge_c": 20, "capacity_mah": 3000},
    "1300 4S lipo 2C charge 75C discharge": {"max_charge_c": 2, "discharge_c": 75},
    "1300 4S lipo charge 2C 75C": {"max_charge_c": 2, "discharge_c": 75},
    "1300 4S 45C charge 1-2C lipo": {"max_charge_c": 2, "discharge_c": 45},
    "lipo 4S 1300 charge: 6.5A": {"max_charge_c": 5},
    "7.4V LiPo 2200 45C / 90C burst": {"cells": 2, "discharge_c": 45},
    "15.000 mAh 6S lipo": {"capacity_mah": 15000},
    "10.000 mAh 6S lipo": {"capacity_mah": 10000},
    "2,200 mAh 3S LiPo": {"capacity_mah": 2200},
    "1.650 Ah 3S lipo": {"capacity_mah": 1650},
    "lipo 6S 3.3 22.2V": {"capacity_mah": 3300, "cells": 6},
    "8.4 V full 450 mAh lipo": {"cells": 2},
    "4S LiPo HV 15.2V 1500": {"chemistry": "lihv", "cells": 4},
    "LiFePO4 6.6V 2300mAh": {"chemistry": "life", "cells": 2, "capacity_mah": 2300},
    "3S2P 18650 6000": {"cells": 3, "capacity_mah": 6000, "chemistry": "li-ion"},
    "lithium polymer 11.1 V 2200mAh XT-60": {"chemistry": "lipo", "cells": 3, "connector": "XT60"},
    "2×Li-ion 3S2P 7000 18650": {"chemistry": "li-ion", "cells": 3, "capacity_mah": 7000},
    "4S IFR26650 2500 mAh": {"chemistry": "life", "capacity_mah": 2500},
    "6S 14500 mAh LiPo": {"capacity_mah": 14500},
    "NiMH 8 cell 2000": {"chemistry": "nimh", "cells": 8},
    "LiPo 4S 1.8 Ah 75C/150C charge 5C XT60": {
        "capacity_mah": 1800,
        "max_charge_c": 5,
        "discharge_c": 75,
        "connector": "XT60",
    },
    "LiPo 11.1V 2200mAh 3S 25C-50C": {"discharge_c": 25},
    "lipo 3S 2200 20-40C": {"discharge_c": 20},
    "LIPO4S1500": {"chemistry": "lipo", "cells": 4, "capacity_mah": 1500},
    "4s1500mah lipo": {"cells": 4, "capacity_mah": 1500},
    "4S 1500 lipo 178g 75x35x29mm": {"capacity_mah": 1500},
    "4S 1500 lipo bought 2024": {"capacity_mah": 1500},
    "4S 1500 LiPo 6.1 6.0 6.3 6.1 mohm": {"capacity_mah": 1500, "resistance_mohm": [6.1, 6.0, 6.3, 6.1]},
    "NiMH 6V 2000mAh": {"cells": 5},
    "lipo 3S 2200 Max Cont. Discharge 30C Burst 60C Charge 5C": {"discharge_c": 30, "max_charge_c": 5},
    "NiMH 7.2V 3000mAh": {"chemistry": "nimh", "cells": 6},
}
COUNTS = {
    "six 650 3S lipo": 6,
    "1300 4S x 6 lipo": 6,
    "6 x 650 3S lipo": 6,
    "6 pcs 650mAh 3S lipo": 6,
    "650mAh 3S lipo ×4": 4,
}
ASKS = {
    "1300 4S lipo charge 60C": ("pack", "charge_rate"),
    "14.8 V 1500": ("pack", "volts"),
    "4S 1500": ("pack", "chemistry"),
    "4S lipo": ("pack", "capacity"),
    "4S 1500 lipo puffed": ("pack", "damage"),
    "1500 lipo": ("pack", "cells"),
    "4S 26650 2500": ("pack", "chemistry"),
    "1500 4S lipo 95C, recommended charge 1C, max charge 3C": ("pack", "charge_which"),
    "4S 1500 lipo, one cell weak": ("pack", "damage"),
    "3S 18650 li-ion": ("pack", "capacity"),
    "3S 2200 mAh 1300 mAh lipo": ("pack", "capacity"),
    "3S 4S 1500 lipo": ("pack", "cells"),
    "14.8 V LiHV 1500 4S": ("pack", "volts"),
    "4S 11.1V 1500 lipo": ("pack", "volts"),
    "4S 1500mAh 40 Wh lipo": ("pack", "energy"),
    "1 500 mAh 4S lipo": ("pack", "thousands"),
    "0.8 A 8 W 2S": ("charger", "fixed"),
    "600 W": ("charger", "charger_amps"),
    "12 V 500 W 24 V 200 W 20 A 6S": ("charger", "watts_fall"),
    "two 12V 100Ah AGM": ("source", "joined_how"),
    "100 Ah 12 V": ("source", "source_kind"),
    "100 Ah": ("source", "source_volts"),
    "big one": ("source", "source_watts"),
    "2 x 100 Ah 12 V": ("source", "joined_how"),
    "adapter": ("supply", "supply_watts"),
    "parallel board": ("board", "ports"),
}
KIT = {
    ("charger", "80W 6A"): {"channels": [{"max_current_a": 6, "max_power_w": 80}]},
    ("charger", "500 W at 12 V, 1000 W at 23 V, 20 A 6S"): {"power_by_input_v": [[12, 500], [23, 1000]]},
    ("charger", "500W@12V 15A 6S"): {"power_by_input_v": [[12, 500]]},
    ("charger", "24V:650W 12V:300W 20A 8S"): {"power_by_input_v": [[12, 300], [24, 650]]},
    ("charger", "15A 6S 250W dc 11-18V"): {"input_min_v": 11, "input_max_v": 18},
    ("charger", "DC 7-30V 300W 16A 1-6S"): {"input_min_v": 7, "input_max_v": 30},
    ("charger", "dual AC 200W DC 600W 16A 1-6S"): {"mains_power_w": 200, "total_power_w": 600},
    ("charger", "quad 600 W, 200 W a channel, 10 A, 6S"): {"total_power_w": 600},
    ("charger", "50W 5A discharge 5W 1A 6S"): {
        "channels": [{"max_cells": 6, "max_current_a": 5, "max_power_w": 50, "discharge_power_w": 5, "discharge_current_a": 1}]},
    ("charger", "1-6S LiPo 1-15 NiMH 80W 5A"): {"channels": [{"min_cells": 1, "max_cells": 6, "max_current_a": 5, "max_power_w": 80}]},
    ("charger", "USB stick 2S 1A"): {"channels": [{"max_cells": 2, "max_current_a": 1, "max_power_w": 8.4, "fixed_current": True}]},
    ("charger", "200 W 10 A 6S, discharges with 2 A / 40 W"): {
        "channels": [{"max_cells": 6, "max_current_a": 10, "max_power_w": 200, "discharge_power_w": 40, "discharge_current_a": 2}]},
    ("charger", "80 W 10 A 6S, smallest current 1 A, 0.2 A steps"): {
        "channels": [{"max_cells": 6, "max_current_a": 10, "max_power_w": 80, "min_current_a": 1, "current_step_a": 0.2}]},
    ("charger", "dual 600 W 10 A 6S input 11-30 V 300 W at 12 V"): {
        "total_power_w": 600, "power_by_input_v": [[12, 300]], "input_min_v": 11, "input_max_v": 30},
    ("charger", "120W AC 240W DC 10A 6S"): {"mains_power_w": 120},
    ("charger", "1.5 kW 35A 12S AC 600W"): {"mains_power_w": 600},
    ("charger", "650W (24V) 320W (12V) 20A 8S"): {"power_by_input_v": [[12, 320], [24, 650]]},
    ("charger", "25A 6S 500W input current max 40A"): {
        "max_input_current_a": 40, "channels": [{"max_cells": 6, "max_current_a": 25, "max_power_w": 500}]},
    ("charger", "100W 10A LiPo 1-6S Pb 2-20V"): {
        "input_min_v": None, "channels": [{"min_cells": 1, "max_cells": 6, "max_current_a": 10, "max_power_w": 100}]},
    ("source", "12V socket 10A"): {"voltage_v": 12, "max_current_a": 10},
    ("source", "AGM 12V 100Ah 800CCA"): {"energy_wh": 1200, "max_current_a": None},
    ("charger", "3A 4S"): {"channels": [{"max_cells": 4, "max_current_a": 3, "max_power_w": 50.4}]},
    ("source", "LiFePO4 100Ah 12.8V"): {"energy_wh": 1280, "chemistry": "life", "cells": 4},
    ("source", "LiFe 12V 100Ah"): {"energy_wh": 1280},
    ("source", "26800 mAh 20 V 3 A"): {"energy_wh": 97.8, "voltage_v": 20, "max_current_a": 3, "falls_back": True},
    ("source", "10,000 mAh, 12V 1.5A"): {"energy_wh": 36.5, "usable_fraction": 0.85},
    ("source", "two 12 V 100 Ah AGM in series"): {"energy_wh": 2400, "voltage_v": 24, "cells": 12},
    ("source", "2 x 12V 7Ah lead in parallel"): {"energy_wh": 168, "voltage_v": 12},
    ("source", "car battery 60Ah 440A"): {"energy_wh": 720, "chemistry": "pb"},
    ("source", "500 Wh 300 W"): {"energy_wh": 500, "max_power_w": 300},
    ("source", "1 kW generator"): {"max_power_w": 1000},
    ("source", "3S 5200 lipo"): {"energy_wh": 57.7, "voltage_v": 11.1},
    ("supply", "12 V 1 A adapter"): {"output_v": 12, "max_power_w": 12},
    ("supply", "24 V 25 A"): {"output_v": 24, "max_power_w": 600},
    ("supply", "inverter 300W 12V"): {"max_power_w": 300},
    ("board", "6 ports XT60"): {"ports": 6, "connector": "XT60"},
    ("board", "4 packs 2-6S"): {"ports": 4, "min_cells": 2, "max_cells": 6},
    ("board", "6 way 40A, 5A fuse per port"): {"ports": 6, "max_current_a": 40, "port_fuse_a": 5},
}  # fmt: skip


@pytest.mark.parametrize(("text", "fields"), PACKS.items(), ids=PACKS)
def test_a_pack(text, fields):
    told = read("pack", text)
    assert {name: told.understood.get(name) for name in fields} == fields
    assert (told.questions, told.unread, told.faults) == ((), (), ())


@pytest.mark.parametrize(("text", "count"), COUNTS.items(), ids=COUNTS)
def test_several_alike(text, count):
    told = read("pack", text)
    assert (told.count, told.unread) == (count, ())
    assert told.understood["capacity_mah"] in (650, 1300)


@pytest.mark.parametrize(("asked", "fields"), KIT.items(), ids=[text for _, text in KIT])
def test_kit(asked, fields):
    told = read(*asked)
    assert {name: told.understood.get(name) for name in fields} == fields
    assert (told.unread, told.faults) == ((), ())


@pytest.mark.parametrize(("text", "asked"), ASKS.items(), ids=ASKS)
def test_what_a_line_leaves_open_is_asked_and_not_guessed(text, asked):
    kind, code = asked
    told = read(kind, text)
    (question,) = [item for item in told.questions if item.code == code]
    settles = {name for choice in question.choices for name in choice.fields} | {question.field}
    assert not settles & (set(told.understood) - {"channels"})
    for choice in question.choices:
        fields, still = told.answered({code: choice.value})
        assert code not in [item.code for item in still]
        given = fields["channels"][0] if "channels" in fields else fields
        assert all(given[name] == value for name, value in choice.fields.items())


def test_a_word_that_nobody_knows_is_marked_at_its_place():
    told = read("pack", "4S 1500 lipo Thunderclap")
    assert [(word.text, told.text[word.start : word.end]) for word in told.unread] == [("Thunderclap", "Thunderclap")]


@pytest.mark.parametrize(("kind", "text", "code"), [
    ("pack", "99 x 3S 650 lipo", "label_count"), ("pack", "16S 5000 lipo", "label_cells"), ("pack", "3S 2.2 mAh lipo", "label_capacity"),
    ("pack", "12V 7Ah lead", "label_not_charged"), ("charger", "60 x 100 W 5 A 6S", "label_channels"),
    ("charger", "6 x 650 3S dual 400W 12A 6S", "label_names_packs"), ("source", "12 V 60 Ah 8x2200 mAh", "label_two_sources"),
])  # fmt: skip
def test_what_cannot_be_is_refused_with_its_place(kind, text, code):
    assert code in [fault.code for fault in read(kind, text).faults]


@pytest.mark.parametrize(("text", "asked", "kind"), [
    ("dual 400 W 12 A 6S", "pack", "charger"), ("quad 600 W, 200 W a channel, 10 A, 6S", "source", "charger"),
    ("generator 1 kW", "pack", "source"), ("12 V 1 A adapter", "source", "supply"), ("6 ports XT60", "source", "board"),
    ("6x 4S 1500 lipo", "source", "source"), ("6x 4S 1500 lipo", "charger", "pack"), ("10,000 mAh 12V 1.5A", "pack", "source"),
    ("100Ah 12V", "charger", "source"), ("mains", "source", "source"), ("80W 6A", "pack", "charger"),
])  # fmt: skip
def test_what_is_typed_at_the_wrong_question_goes_where_it_belongs(text, asked, kind):
    assert kind_of(text, asked) == kind


# ------------------------------------------------------------------------------------ laws

WRITE_MAH = (
    lambda mah: f"{mah}mAh", lambda mah: f"{mah} mAh", lambda mah: f"{mah:,} mAh", lambda mah: f"{mah:,}mAh".replace(",", "."),
    lambda mah: f"{mah / 1000:g} Ah", lambda mah: f"{mah / 1000:g}Ah".replace(".", ","), lambda mah: f"{mah:,}mAh".replace(",", "'"),
)  # fmt: skip
CALLED = {"lipo": ("LiPo", "lipo", "Li-Po", "LIPO", "lithium polymer"), "lihv": ("LiHV", "LiPo HV", "lihv"),
          "li-ion": ("Li-ion", "18650", "Lithium Ion"), "life": ("LiFe", "LiFePO4", "LFP")}  # fmt: skip
WRITE_CELLS = (
    lambda cells: f"{cells}S",
    lambda cells: f"{cells}s",
    lambda cells: f"{cells} cells",
    lambda cells: f"{cells}S1P",
)


@given(
    st.sampled_from(sorted(CALLED)), st.integers(1, 12), st.integers(3, 300).map(lambda n: n * 50), st.integers(1, 5),
    st.integers(20, 150), st.randoms(use_true_random=False),
)  # fmt: skip
def test_a_label_in_any_order_and_spelling_gives_its_figures_back_or_a_question(
    chemistry, cells, mah, charge_c, discharge_c, rng
):
    parts = [rng.choice(WRITE_MAH)(mah), rng.choice(CALLED[chemistry]), rng.choice(WRITE_CELLS)(cells),
             rng.choice((f"charge {charge_c}C", f"{charge_c}C charge", f"max charge rate {charge_c}C")),
             rng.choice((f"discharge {discharge_c}C", f"{discharge_c}C discharge", f"{discharge_c}C"))]  # fmt: skip
    if rng.random() < 0.4:
        parts.append(f"{CHEMISTRIES[chemistry].nominal_v * cells:.1f}V")
    rng.shuffle(parts)
    told = read("pack", ("6x " if (six := rng.random() < 0.3) else "") + rng.choice((" ", ", ", " / ")).join(parts))
    wanted = {
        "chemistry": chemistry,
        "cells": cells,
        "capacity_mah": mah,
        "max_charge_c": charge_c,
        "discharge_c": discharge_c,
    }
    assert told.unread == ()
    for name, value in told.understood.items():
        assert value == pytest.approx(wanted[name]), (told.text, name)
    missing = set(wanted) - set(told.understood)
    assert not missing or told.questions, told.text
    assert told.count == (6 if six else 1)


@given(st.integers(1, 4), st.integers(1, 30), st.integers(2, 60), st.integers(2, 8), st.randoms(use_true_random=False))
def test_a_charger_in_any_order_gives_its_figures_back_or_a_question(channels, amps, tens, cells, rng):
    watts = 10 * tens
    parts = [rng.choice((f"{amps}A", f"{amps} A", f"0.1 to {amps} A", f"0.1-{amps}A")),
             rng.choice((f"{cells}S", f"1-{cells}S", f"{cells} cells")),
             rng.choice((f"{watts} W a channel", f"{watts}W per channel"))]  # fmt: skip
    parts.append(
        {1: "single", 2: rng.choice(("dual", "2 channels")), 3: "triple", 4: rng.choice(("quad", "4ch"))}[channels]
    )
    rng.shuffle(parts)
    told = read("charger", ", ".join(parts))
    assert told.unread == ()
    made = told.understood["channels"]
    assert (len(made), made[0]["max_current_a"], made[0]["max_power_w"], made[0]["max_cells"]) == (
        channels,
        amps,
        watts,
        cells,
    ), told.text


@given(st.text(max_size=60), st.sampled_from(sorted(READERS)))
def test_whatever_is_typed_every_word_is_accounted_for_and_every_field_can_be_saved_or_is_refused(text, kind):
    told = read(kind, text)
    for item in (*told.means, *told.questions):
        assert sentence(item.why)
    for fault in told.faults:
        assert sentence(fault)
    assert all(text[word.start : word.end] == word.text for word in told.unread)


@given(st.text("0123456789., 'SsCcVvAhmWx-/LiPo", max_size=30), st.sampled_from(sorted(READERS)))
def test_whatever_figures_are_typed_nothing_breaks(text, kind):
    told = read(kind, text)
    assert all(sentence(item.why) for item in (*told.means, *told.questions))
    places = [token.start for token in tokens_of(text)]
    assert places == sorted(places)
    assert (
        "".join(token.text for token in tokens_of(text)).split()
        == "".join(token.text for token in tokens_of(text)).split()
    )


def test_what_is_understood_is_a_pack_of_the_session_file():
    rng = random.Random(3)
    for text in PACKS:
        fields = {**read("pack", text).understood, "id": f"P{rng.random()}"}
        assert part_from("pack", fields).cells == fields["cells"]
    assert {token.kind for token in tokens_of("6x 4S, LiPo 18650 XT60")} == set(Kind)


@pytest.mark.parametrize(("text", "unit", "value"), [
    ("4S", "", 4), ("6 ports", "", 6), ("2 h", "", None), ("6 mohm", "", None), ("15,000", "", None), ("2C", "C", 2), ("1 kW", "W", 1000),
    ("2.2 Ah", "mAh", 2200), ("3,845 V", "V", 3.845), ("500 mA", "A", 0.5), ("-5", "min", -5), ("5 V", "A", None), ("1-2", "C", None),
])  # fmt: skip
def test_one_figure_of_a_field_with_or_without_its_unit(text, unit, value):
    assert figure_of(text, unit) == (None if value is None else pytest.approx(value))
