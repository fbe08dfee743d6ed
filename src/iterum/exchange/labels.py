"""What a label says, as the document of a file."""

from typing import Any

from iterum.core.things.charger_label import ChargerLabel


def charger_of(told: ChargerLabel, tag: str) -> dict[str, Any]:
    """A charger with as many channels as its label says, tags counted from its own."""
    line = {"max_current_a": told.max_current_a, "max_power_w": told.channel_power_w, "max_cells": told.max_cells,
            "min_current_a": told.min_current_a, "current_step_a": told.current_step_a, "min_cells": told.min_cells,
            "discharge_power_w": told.discharge_power_w, "discharge_current_a": told.discharge_current_a}  # fmt: skip
    line = {name: value for name, value in line.items() if value is not None}
    channels = [{**line, "id": f"{tag}-{number}"} for number in range(1, told.channels + 1)]
    names = ("total_power_w", "mains_power_w", "input_min_v", "input_max_v")
    whole = {name: value for name in names if (value := getattr(told, name)) is not None}
    if told.power_by_input_v:
        whole["power_by_input_v"] = [list(pair) for pair in told.power_by_input_v]
    return {"id": tag, "channels": channels, **whole}
