"""What is said of amps: where a group may be charged, every limit as its formula, what stands beside the number."""

from collections.abc import Callable

from iterum.core.quantities import at_most
from iterum.core.things.limit_kinds import KINDS
from iterum.wording.figures import Numbers, apart, one_of, plain


def _less(others_w: float) -> str:
    return f" less {plain(others_w)} W in use" if others_w else ""


def _over_volts(numbers: Numbers) -> str:
    return f"{_less(numbers['others_w'])} ÷ {plain(numbers['volts'])} V"


def _source_power(numbers: Numbers) -> str:
    head = f"Source {plain(numbers['source_w'])} W × {plain(numbers['efficiency'])} = {plain(numbers['power_w'])} W"
    return head + _over_volts(numbers)


def _supply_power(numbers: Numbers) -> str:
    half = " ÷ 2, a small wall adapter," if numbers.get("half") else ""
    head = f"{numbers['supply']} {plain(numbers['output_w'])} W{half} × {plain(numbers['efficiency'])}"
    return f"{head} = {plain(numbers['power_w'])} W{_over_volts(numbers)}"


def _charger_input(numbers: Numbers) -> str:
    volts = numbers["input_v"]
    where = "on mains" if numbers["on_mains"] else f"at {plain(volts)} V input" if volts else "at input volts not known"
    half = ", half its label," if numbers.get("half") else ""
    return f"{plain(numbers['power_w'])} W{half} {where}{_over_volts(numbers)}"


def _of_share(numbers: Numbers, amps: str) -> str:
    """Amps of a part that carries only a share."""
    part = numbers["part"]
    return f"{plain(numbers[amps])} A" if at_most(1.0, part) else f"{plain(numbers[amps])} A ÷ {part:.3f}"


def _label_c(numbers: Numbers) -> str:
    where = "by its label" if numbers["labelled"] else "with no charge C on its label"
    return (
        f"{numbers['id']} takes {plain(numbers['rate_c'])}C {where}: "
        f"{plain(numbers['rate_c'])}C × {plain(numbers['total_ah'])} Ah"
    )


def _energy_short(numbers: Numbers) -> str:
    need, left = apart(numbers["need_wh"], numbers["left_wh"], 0)
    head = f"{numbers['source']} has {left} Wh left, this charge takes {need} Wh from it."
    ways = []
    if 0 < numbers["enough_for"] < numbers["count"]:
        ways.append(f"enough for {numbers['enough_for']} of the {numbers['count']} packs")
    if numbers["until_v"]:
        ways.append(f"{'all' if numbers['count'] > 1 else 'it'} up to {numbers['until_v']:.2f} V per cell")
    return f"{head} It is {one_of(ways)}." if ways else f"{head} It does not even lift them."


def _adapter(numbers: Numbers) -> str:
    return f"{numbers['of']}'s {numbers['plug']} on {numbers['board']}'s {numbers['socket']}"


def _over_limit(numbers: Numbers) -> str:
    typed, limit = apart(numbers["current_a"], numbers["limit_a"], 1)
    return f"{typed} A is more than the {limit} A that {KINDS[numbers['limit']].words} allows ({numbers['why']})."


SIZING_SENTENCES: dict[str, str | Callable[[Numbers], str]] = {
    # where it is to be charged
    "nothing_to_charge_with": "No board and channel in the kit suits them.",
    "kit_of_other": "{thing} is {pilot}’s and is not lent to others: {id} is not charged with it.",
    "not_own_kit": "{thing} is everybody’s; by the rule of the table {id} is charged with {pilot}’s own kit.",
    "all_taken": "Every channel is taken by a batch in hand.",
    "feed_busy": lambda n: f"{n['charger']} charges {', '.join(n['packs'])} now: it cannot be fed by something else.",
    "choice_empty": "No pack is named.",
    "choice_twice": lambda n: f"{one_of(n['ids'], 'and')} named twice; a pack has one plug.",
    "choice_amps": lambda n: f"{n['typed']:g} A is no current to dial: above 0, at most {plain(n['most'])} A.",
    "choice_rate": lambda n: f"{n['typed']:g}C is no rate: above 0, at most {plain(n['most'])}C.",
    "choice_end": lambda n: (
        f"A charge of these ends between {n['low_v']:.2f} and {n['high_v']:.2f} V per cell, not at {n['typed']:g}."
    ),
    "over_limit": _over_limit,
    "under_minimum": lambda n: "{} A is under the {} A that {} can do at least.".format(
        *apart(n["current_a"], n["smallest_a"], 1), n["channel"]
    ),
    "off_step": lambda n: (
        f"{n['channel']} is set in steps of {plain(n['step_a'])} A: {plain(n['current_a'])} A is none, "
        f"{plain(n['below_a'])} A is."
    ),
    "energy_short": _energy_short,
    "adapter_needed": "{id} needs an adapter, {plug} to {socket} of {board}: {current_a:.0f} A at most.",
    "adapter_unknown": "{id} needs an adapter, {plug} to {socket} of {board}; what it carries is not known here: its label "
    "says.",
    "capacity_disputed": "{ids}: the capacity that was typed and the mAh that its charges took cannot both be true. "
    "Charge it alone from rest to full, or type the capacity again; until then its ranges are wide.",
    "narrow_by_charge": "One logged charge alone, from rest to full, narrows this for {ids}.",
    "narrow_by_mohm": "Measured milliohms narrow the end of it for {ids}.",
    "no_budget": "No budget is known for {source}: what it still holds is not counted.",
    "charger_failed": "{charger} is marked as failed. Say on Kit that it works before you charge with it.",
    "channel_cells": "{channel} charges {min_cells} to {max_cells} cells, these packs have {cells}.",
    "board_missing": "{count} packs need a board.",
    "board_cells": "{board} takes {min_cells} to {max_cells} cells, these packs have {cells}.",
    "input_too_low": "{charger} needs {limit_v:.1f} V at its input and gets {input_v:.1f} V.",
    "input_too_high": "{charger} stands {limit_v:.1f} V at its input and gets {input_v:.1f} V.",
    "minimum_too_high": lambda n: (
        f"{n['channel']} cannot go under {plain(n['smallest_a'])} A, and {KINDS[n['limit']].words} "
        f"allows {n['limit_a']:.2f} A ({n['why']}). Add packs to share it, or take another channel."
    ),
    "minimum_dialled": "The smallest the channel can do is {smallest_a:.2f} A, more than the {wanted_a:.2f} A wanted "
    "and still within the labels.",
    # limits, as formulas
    "limit_wanted_amps": lambda n: f"Your own {plain(n['current_a'])} A",
    "limit_weak_pack": lambda n: (
        f"{n['id']} is weak or cold: {plain(n['rate_c'])}C × {plain(n['total_ah'])} Ah at most"
    ),
    "fixed_current": "{channel} always charges with {current_a:.2f} A: its current cannot be set.",
    "fixed_over_limit": lambda n: (
        f"{n['channel']} always charges with {plain(n['current_a'])} A, and {KINDS[n['limit']].words} allows "
        f"{n['limit_a']:.2f} A ({n['why']})."
    ),
    "amps_are_fixed": "{channel} always charges with {fixed_a:.2f} A; {current_a:.2f} A cannot be set.",
    "charge_too_long": "This charge would take {hours:.0f} hours; the limit is {limit_h:.0f} hours. All of it takes "
    "{need_wh:.0f} Wh.",
    "watts_at_one_voltage": lambda n: (
        f"The label of {n['charger']} gives {plain(n['power_w'])} W at {plain(n['at_v'])} V only. "
        + ("Its input voltage is unknown" if n["input_v"] is None else f"It is fed with {plain(n['input_v'])} V")
        + ", so half of that counts. Enter its watts at this voltage."
    ),
    "own_rate": lambda n: (
        f"No charge rate on the label of {one_of(n['ids'], 'and')}; {plain(n['rate_c'])}C is my decision."
    ),
    "own_rate_refused": lambda n: f"{plain(n['rate_c'])}C without a charge rate on the label is not possible here.",
    "own_rate_lipo": "{id} is {chemistry}: more than its label is possible for LiPo only.",
    "choice_own_rate": lambda n: f"{n['typed']:g}C cannot be your own decision: above 1C, at most {plain(n['most'])}C.",
    "limit_board_fuse": lambda n: f"Fuse of {n['board']} {_of_share(n, 'fuse_a')}",
    "limit_adapter": lambda n: f"Adapter {_adapter(n)}: {_of_share(n, 'adapter_a')}",
    "limit_wanted_rate": lambda n: f"Wanted {plain(n['rate_c'])}C × {plain(n['total_ah'])} Ah",
    "limit_pack_charge_c": _label_c,
    "limit_board_current": lambda n: f"Lead and plug of {n['board']} {_of_share(n, 'max_a')}",
    "limit_port_fuse": lambda n: f"Fuse {plain(n['fuse_a'])} A ÷ {n['part']:.3f}, the share of {n['id']}",
    "limit_channel_current": "{channel} by its label",
    "limit_channel_power": lambda n: f"Channel {plain(n['power_w'])} W{_over_volts(n)}",
    "limit_charger_power": lambda n: f"Charger {plain(n['power_w'])} W in all{_over_volts(n)}",
    "limit_charger_input": _charger_input,
    "limit_supply_power": _supply_power,
    "limit_source_power": _source_power,
    # beside the number
    "above_2c": "{rate_c:.1f}C: above 2C only because the label says so, and not daily. It costs packs life.",
    "no_label_c": lambda n: f"No charge C on the label of {one_of(n['ids'], 'and')}: 1C is the most.",
    "backs_off": "Amps are sized at {size_at} volts: expect the charger to back off before the end.",
    "lihv_label": "LiHV ends at 4.35 V per cell. On a LiPo that is a fire: check every label on this board.",
}
