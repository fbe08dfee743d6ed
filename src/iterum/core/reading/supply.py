"""A supply from its label: a brick, a wall adapter, an inverter, a USB outlet: "24 V 25 A", "12 V 1 A adapter"."""

from iterum.core.reading.told import Line, Told
from iterum.core.reading.words import count_in
from iterum.core.things.kit import SMALL_ADAPTER_W

MOST_OUTPUT_V = 100.0


def read_supply(text: str) -> Told:
    """What the label of a supply says: its volts and watts at the output.

    text : as it was typed.
    """
    line = Line(text)
    count = count_in(line) or 1
    for place in line.numbers("v"):
        token = line.tokens[place]
        if token.low is not None or token.value > MOST_OUTPUT_V:
            line.take(
                place, *(there for there in (line.beside(place, "ac", "input", "in", "mains"),) if there is not None)
            )
            line.mean("means_ac_input", place, low_v=token.low or token.value, high_v=token.value)
    volts = sorted({line.value(place) for place in line.numbers("v")})
    amps = [line.value(place) for place in line.numbers("a")]
    watts = [line.value(place) for place in line.numbers("w")]
    parts = [line.value(place) / 100 for place in line.numbers("%")]
    line.take(*line.numbers("v"), *line.numbers("a"), *line.numbers("w"), *line.numbers("%"))
    inverter = line.words("inverter*")
    line.take(
        *inverter,
        *line.words(
            "supply",
            "psu",
            "brick",
            "charger",
            "adapter",
            "adaptor",
            "wall",
            "wart",
            "usb*",
            "usb-c",
            "pd",
            "outlet",
            "socket",
            "laptop",
            "server",
            "dc",
            "ac",
            "switching",
            "switch-mode",
            "pure",
            "sine",
            "output",
            "out",
        ),
    )
    output_v = volts[-1] if volts else None
    if len(volts) > 1:
        line.mean("means_volts_highest", output_v=output_v, all_v=volts)
    if output_v is not None:
        if not inverter:
            line.fields["output_v"] = output_v
        line.mean("means_output_v" if not inverter else "means_inverter_input", volts=output_v)
    by_amps = min(amps) * output_v if amps and output_v is not None and not inverter else None
    power_w = min([*watts, *([by_amps] if by_amps is not None and not watts else [])], default=None)
    if watts and power_w and by_amps is not None and abs(by_amps - power_w) > 0.1 * max(power_w, by_amps):
        power_w = min(power_w, by_amps)
        line.mean("means_watts_smaller", assumed=True, power_w=power_w)
    if power_w is None:
        line.ask("supply_watts", field="max_power_w")
    else:
        line.fields["max_power_w"] = round(power_w, 1)
        line.mean("means_supply_watts", power_w=power_w, volts=output_v, current_a=amps[0] if amps else None)
        if power_w <= SMALL_ADAPTER_W:
            line.mean("means_small_adapter", assumed=True, power_w=power_w / 2)
    if parts and 0 < parts[0] <= 1:
        line.fields["efficiency"] = parts[0]
        line.mean("means_efficiency", part=parts[0])
    return line.told("supply", count)
