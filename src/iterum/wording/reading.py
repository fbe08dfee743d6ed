"""What was understood of a typed line, and what is asked about it. "label: value" is shown as a chip."""

from collections.abc import Callable

from iterum.wording.figures import Numbers, plain


def _watts_amps(numbers: Numbers) -> str:
    parts = []
    if numbers.get("volts"):
        parts.append(f"{plain(numbers['volts'])} V")
    if numbers.get("current_a"):
        parts.append(f"{plain(numbers['current_a'])} A")
    if numbers.get("power_w"):
        parts.append(f"{plain(numbers['power_w'])} W")
    return " · ".join(parts)


def _range(low: float, high: float, unit: str) -> str:
    return f"{low:g} to {high:g} {unit}" if low != high else f"{high:g} {unit}"


def _usable(numbers: Numbers) -> str:
    part = f"{numbers['part'] * 100:.0f} % of a {numbers['chemistry']} source"
    return f"usable: {part}" if numbers["usable_wh"] is None else f"usable: {numbers['usable_wh']:.0f} Wh, {part}"


READING_SENTENCES: dict[str, str | Callable[[Numbers], str]] = {
    # a pack
    "means_chemistry": "chemistry: {chemistry}",
    "means_cells": lambda n: f"cells: {n['cells']}S" + (f" · {n['nominal_v']:.1f} V" if n["nominal_v"] else ""),
    "means_capacity": "capacity: {capacity_mah:g} mAh",
    "means_charge_c": "charge, at most: {rate_c:g}C = {current_a:.1f} A",
    "means_no_charge_c": "charge, at most: 1C = {current_a:.1f} A, because the label gives no charge rate",
    "means_discharge_c": "discharge: {rate_c:g}C = {current_a:.0f} A",
    "means_resistance": lambda n: "resistance: " + " ".join(f"{value:g}" for value in n["values"]) + " mΩ a cell",
    "means_connector": "plug: {connector}",
    "means_count": "how many: {count} alike",
    "means_together": "together: {energy_wh:.0f} Wh when full, at most {all_a:.1f} A on one board",
    "means_energy_agrees": "energy: {wh:g} Wh, as its volts and mAh say",
    "means_thousands": "“{text}” read as: {value:.0f}",
    "means_no_use": "{what}: {text}, not needed",
    # a charger
    "means_channels": "channels: {channels}",
    "means_charger_cells": lambda n: f"cells: {_range(n['low'], n['high'], 'in series')}",
    "means_cells_assumed": "cells: up to {cells}, because the label does not say",
    "means_cells_smaller": "cells: up to {cells}, the smaller figure",
    "means_nickel_cells": "nickel cells: {low:g} to {high:g}, not used: the lithium cells are the limit",
    "means_charger_amps": lambda n: (
        f"amps: {plain(n['low_a'])} to {plain(n['high_a'])} A" if n["low_a"] else f"amps: up to {plain(n['high_a'])} A"
    ),
    "means_fixed": lambda n: (
        "amps cannot be set: " + (f"{plain(n['current_a'])} A always flow" if n["current_a"] else "they always flow")
    ),
    "means_channel_watts": "a channel: {power_w:g} W = {current_a:.1f} A into {cells}S at {volts:.1f} V",
    "means_watts_by_amps": "a channel: {power_w:g} W, from its {current_a:g} A and {cells} cells",
    "means_total_watts": "all channels: {power_w:g} W",
    "means_mains_watts": "on mains: {power_w:g} W",
    "means_watts_at": "at {volts:g} V input: {power_w:g} W",
    "means_half_watts": "below {volts:g} V input: {power_w:g} W, half until you know better",
    "means_input": "input: {low_v:g} to {high_v:g} V",
    "means_ac_input": lambda n: f"mains input: {_range(n['low_v'], n['high_v'], 'V')}",
    "means_input_amps": "input, at most: {current_a:g} A",
    "means_discharge": lambda n: f"discharge: {_watts_amps(n)}",
    "means_step": "steps: {step_a:g} A",
    # a supply
    "means_output_v": "output: {volts:g} V",
    "means_inverter_input": "inverter input: {volts:g} V",
    "means_volts_highest": lambda n: (
        f"output volts: {n['output_v']:g} V, the highest of {', '.join(f'{v:g}' for v in n['all_v'])}"
    ),
    "means_supply_watts": lambda n: f"gives: {_watts_amps(n)}",
    "means_watts_smaller": "gives: {power_w:g} W, the smaller of its watts and volts × amps",
    "means_small_adapter": "small wall adapter: counts with half, {power_w:g} W",
    "means_efficiency": lambda n: f"efficiency: {n['part'] * 100:.0f} %",
    # a source
    "means_mains": "source: mains, without a limit",
    "means_bank": "source: USB bank. It switches off when idle: plug it in last",
    "means_bank_energy": lambda n: (
        f"{n['capacity_mah']:.0f} mAh at its cells’ {n['cell_v']:.2f} V: {n['energy_wh'] + 0.01:.0f} Wh, {n['usable_wh']:.0f} usable"
    ),
    "means_energy": "energy: {energy_wh:.0f} Wh, {usable_wh:.0f} usable",
    "means_battery_energy": "{ah:g} Ah at {volts:g} V: {energy_wh:.0f} Wh",
    "means_usable": _usable,
    "means_half_until_told": lambda n: (
        "usable: half" + (f", {n['usable_wh']:.0f} Wh" if n["usable_wh"] else "") + ", until its kind is known"
    ),
    "means_source_cells": "cells: {cells}S · {voltage_v:.1f} V",
    "means_volts_assumed": "volts: {voltage_v:g} V, as usual",
    "means_series": "in series: {count} make {voltage_v:g} V",
    "means_in_parallel": "in parallel: {count}",
    "means_gives": lambda n: f"gives: {_watts_amps(n)}",
    "means_cranking": "{current_a:g} A: cranking amps, no limit for charging",
    "means_generator": "source: generator, no watt-hours to count",
    "means_no_budget": "energy: not known. Plans go without a budget",
    # a board
    "means_ports": "ports: {ports}, so many packs at once",
    "means_board_cells": lambda n: f"cells: {_range(n['low'], n['high'], 'in series')}",
    "means_max_current_a": "amps: up to {current_a:g} A in all",
    "means_port_fuse_a": "fuse of each port: {current_a:g} A",
    "means_fuse_a": "one fuse: {current_a:g} A",
    # what is asked
    "ask_chemistry": "The label does not name the chemistry. Which is it?",
    "ask_cells": "How many cells in series? Count the pins of the balance plug, less one.",
    "ask_capacity": "What is the capacity in mAh?",
    "ask_thousands": "Is “{text}” one figure, or a number of packs?",
    "ask_volts": lambda n: (
        f"{n['volts']:g} V does not fit a "
        + " ".join(part for part in (f"{n['cells']}S" if n["cells"] else "", n["chemistry"] or "") if part)
        + " label. Which pack is it?"
        if n["cells"] or n["chemistry"]
        else f"{n['volts']:g} V fits more than one pack. Which is it?"
    ),
    "ask_amps": "What do {amps_a:g} A mean?",
    "ask_rate": "{rate_c:g}C: charge or discharge?",
    "ask_charge_which": "The label gives more than one charge rate. Which is the most it allows?",
    "ask_charge_rate": "{rate_c:g}C would be {current_a:.1f} A. That is nearly always the discharge rate. Is it the charge rate?",
    "ask_energy": "{wh:g} Wh does not fit: its volts and mAh make {own_wh:.1f} Wh. Check the label.",
    "ask_damage": lambda n: f"“{n['word']}”: is {'the pack' if n['count'] == 1 else 'one of them'} damaged?",
    "ask_charger_amps": "How many amps does a channel give at most?",
    "ask_charger_watts": "How many watts does a channel give at most?",
    "ask_watts": "Which watts are those of one channel?",
    "ask_watts_fall": "{low_w:g} W at {low_v:g} V but only {high_w:g} W at {high_v:g} V: is that right?",
    "ask_fixed": lambda n: (
        "Can its amps be set?" if not n["current_a"] else f"Can its {plain(n['current_a'])} A be set lower?"
    ),
    "ask_supply_watts": "How many watts, or volts and amps, does it give?",
    "ask_source_watts": "How many watts may it give?",
    "ask_source_volts": "At how many volts? {ah:g} Ah alone is no energy.",
    "ask_source_energy": "{wh:g} Wh does not fit: its Ah and volts make {own_wh:.0f} Wh. Which is right?",
    "ask_source_kind": "What kind of battery is it? Lead gives half of its energy, lithium 80 %.",
    "ask_joined_how": "{count} of them: how are they connected?",
    "ask_cranking": "Are {current_a:g} A for starting an engine?",
    "ask_ports": "How many packs does it take?",
    # what cannot be
    "label_count": "{count} packs at once: the most is {most}.",
    "label_cells": "{cells}S: packs here have 1 to {most} cells.",
    "label_capacity": "“{text}” would be {capacity_mah:g} mAh. Write it as 2200, or 2.2 Ah.",
    "label_channels": "{channels} channels: the most is {most}.",
    "label_names_packs": "This names packs too. Type the charger alone.",
    "label_two_sources": "{one:g} Ah or {other:g} Ah? Type one source at a time.",
    "label_not_charged": "{chemistry} packs are not charged with Iterum.",
}
