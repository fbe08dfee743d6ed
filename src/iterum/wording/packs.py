"""What is said of one pack: its verdict, what mends it, volts that are asked about."""

from collections.abc import Callable

from iterum.wording.figures import Numbers, apart, degrees, minutes, one_of, plain


def _apart(numbers: Numbers, then: str) -> str:
    spread, limit = apart(numbers["spread_v"], numbers["limit_v"])
    return f"Cells {spread} V apart, limit {limit} V; cell {numbers['cell']} is the {numbers['side']} one.{then}"


def _cell(numbers: Numbers, name: str) -> str:
    """The cell that a reason is about, or the average where only the total was read."""
    volts = apart(numbers[name], numbers["limit_v"])[0]
    return f"Cell {numbers['cell']} is at {volts} V" if numbers.get("cell") else f"The average cell is at {volts} V"


def _limit(numbers: Numbers, name: str) -> str:
    return apart(numbers[name], numbers["limit_v"])[1]


def _pins(numbers: Numbers) -> str:
    pins = numbers["cells"] + 1
    return f"A {numbers['cells']}S has {pins} pins on its balance plug." if numbers["plug"] else "Count its cells."


def _count_doubt(numbers: Numbers) -> str:
    others = one_of([f"{count}S" for count in numbers["others"]])
    return f"{numbers['pack_v']:.2f} V could also be a {others}. {_pins(numbers)}"


def _other_chemistry(numbers: Numbers) -> str:
    return f"{numbers['pack_v']:.2f} V could also be a full {numbers['count']}S {numbers['other']}. {_pins(numbers)}"


def _cold(numbers: Numbers) -> str:
    what = "The air is at" if numbers["of_air"] else "The pack is at"
    return (
        f"{what} {numbers['temperature_c']:deg}; below {numbers['limit_c']:deg} the limit is "
        f"{plain(numbers['rate_c'])}C."
    )


def _store(numbers: Numbers) -> str:
    """The lowest cell against storage voltage."""
    which = f"cell {numbers['cell']}" if numbers["cell"] else "the average cell"
    return f"the lowest, {which}, is at {numbers['lowest_v']:.2f} V, storage is {numbers['target_v']:.2f} V"


def _lift(numbers: Numbers) -> str:
    ids = one_of(numbers["ids"], "and")
    joins = one_of(numbers["others"], "and") if numbers["ids"] == (numbers["id"],) else numbers["id"]
    how = f" on {numbers['channel']}, about {minutes(numbers['minutes'])} at {plain(numbers['current_a'])} A,"
    return f"First charge {ids}{how} to {numbers['until_v']:.2f} V/cell; then join {joins}."


def _alone_fix(numbers: Numbers, head: str) -> str:
    if "channel" not in numbers:
        return f"{head}."
    return f"{head} on {numbers['channel']}, about {minutes(numbers['minutes'])} at {plain(numbers['current_a'])} A."


PACK_SENTENCES: dict[str, str | Callable[[Numbers], str]] = {
    # one pack
    "cells_agree": "Cells {spread_v:.2f} V apart, limit {limit_v:.2f} V.",
    "nothing_wrong": "No objection.",
    "damaged": "Marked as damaged. Never charge it. Keep it outside on a surface that cannot burn.",
    "pilot_has": lambda n: (
        f"{n['pilot']} still has {', '.join(n['things'])}{' and more' if n['more'] else ''}. Say first whose that is."
    ),
    "went_home": "{pilot} went home, and it with them.",
    "fix_went_home": "Say on Table that {pilot} is back.",
    "not_measured": "Not measured yet.",
    "charged_since": "Charged since it was measured: measure it again.",
    "flown_since": "Flown since it was measured: let it rest, then measure it again.",
    "below_refuse": lambda n: (
        f"{_cell(n, 'lowest_v')}, below {_limit(n, 'lowest_v')} V at rest. Never charge it again."
    ),
    "nearly_flat": lambda n: (
        (f"Cell {n['cell']} is" if n["cell"] else "The average cell is")
        + f" at {n['lowest_v']:.2f} V, close to the lower limit of {n['refuse_v']:.2f} V. "
        f"The limit is {plain(n['rate_c'])}C. Many chargers refuse it."
    ),
    "run_low": lambda n: (
        f"{_cell(n, 'lowest_v')}, below {_limit(n, 'lowest_v')} V: it was flown too far. Watch this charge."
    ),
    "over_full": lambda n: (
        f"{_cell(n, 'highest_v')}; full is {_limit(n, 'highest_v')} V. It is overcharged: do not charge or use it."
    ),
    "above_full": lambda n: f"{_cell(n, 'highest_v')}; full is {_limit(n, 'highest_v')} V. Do not charge or join it.",
    "volts_disagree": "{cell_v:.2f} V per cell: a {chemistry} cell never rests above {limit_v:.2f} V. The label or the "
    "reading is wrong.",
    "total_tenfold": "{typed_v:.2f} V is not a {cells}S. Was {meant_v:.2f} V meant?",
    "pins_disagree": "The balance plug has {pins} pins, so it is a {counted}S, but the label says {cells}S.",
    "other_chemistry": _other_chemistry,
    "life_doubt": "All cells lie between {lowest_v:.2f} and {highest_v:.2f} V, as in a LiFe pack. Is it really {chemistry}?",
    "life_possible": "{highest_v:.2f} V/cell could also be a LiFe pack. Is it really {chemistry}?",
    "air_outside": "The air is at {air_c:deg}. Charging is safe only from {low_c:deg} to {high_c:deg} cell temperature.",
    "cold": _cold,
    "stale": "The reading is more than {hours:.0f} hours old.",
    "worn": "It holds {now_mah:.0f} of {label_mah:.0f} mAh, less than 80 %: it is worn.",
    "spent": "It holds {now_mah:.0f} of {label_mah:.0f} mAh, less than 60 %: retire it.",
    "charge_c_unlikely": lambda n: (
        f"A charge rate of {plain(n['charge_c'])}C is probably the discharge rate, read from the wrong line of the label."
    ),
    "full_by_charge": "Full: its last charge ended by itself.",
    "in_hand": "Already in a batch on {channel}.",
    "too_cold": "The pack is at {temperature_c:deg}; charging starts at {limit_c:deg}.",
    "too_hot": "The pack is at {temperature_c:deg}; the limit is {limit_c:deg}.",
    "full": "Full: {cell_v:.3f} V/cell, full from {limit_v:.2f} V/cell.",
    "cells_apart_look": lambda n: _apart(n, ""),
    "cells_apart_weak": lambda n: _apart(n, f" The limit is {plain(n['rate_c'])}C."),
    "cells_not_read": "Only the total was measured.",
    "count_doubt": _count_doubt,
    "count_possible": _count_doubt,
    "ends_by_drop": "{chemistry} is charged alone: its charge ends by a small voltage drop that a board would hide.",
    # what storing it means
    "store_up": lambda n: f"Charge it to storage voltage: {_store(n)}.",
    "store_down": lambda n: f"Discharge it until the lowest cell is at storage voltage: {_store(n)}.",
    "store_balance": lambda n: f"Only balance it, and watch it: {_store(n)}, and other cells are above.",
    "store_there": "At storage voltage, {target_v:.2f} V/cell.",
    "store_any": "{chemistry} has no storage voltage.",
    # fixes
    "fix_damaged": "Insulate its terminals and take {id} to a battery collection point.",
    "fix_below_refuse": "Retire {id}: insulate its terminals and take it to a battery collection point.",
    "fix_over_full": "Leave {id} outside, check it for swelling and watch it. Then discharge it or fly it gently.",
    "fix_count_doubt": "Count the pins of the balance plug of {id} and enter the number, or measure each cell.",
    "fix_pins_disagree": "Read the label of {id} again and correct its cells, or count the pins again.",
    "fix_other_chemistry": "Count the pins of the balance plug of {id} and enter the number, or measure each cell.",
    "fix_life_doubt": "Read the label of {id} again. Then correct its chemistry, or confirm it.",
    "fix_life_possible": "Read the label of {id} again. Then correct its chemistry, or confirm it.",
    "fix_air_outside": lambda n: (
        f"Measure the temperature of {n['id']}, or take it to a place with {degrees(10)} to {degrees(30)}."
    ),
    "fix_too_cold": "Warm {id} to room temperature and measure it again.",
    "fix_too_hot": "Let {id} rest 10 to 15 minutes and measure it again.",
    "fix_cold": lambda n: f"Warm {n['id']} to {degrees(10)} or more, and measure its temperature, for more.",
    "fix_stale": "Measure {id} again.",
    "fix_cells_not_read": "Measure each cell of {id}.",
    "fix_cells_apart_look": "Balance {id} at its next charge; retire it if the difference returns.",
    "fix_run_low": "Shorten the flight timer of {id}.",
    "fix_worn": "Shorten the flight timer of {id}, and plan its replacement.",
    "fix_spent": "Retire {id}.",
    "fix_charge_c_unlikely": "Read the label of {id} again: the charge rate is the small number.",
    "fix_count_possible": "Count the pins of the balance plug of {id} and enter the number, or measure each cell.",
    "fix_cells_apart_weak": lambda n: (
        _alone_fix(n, f"Charge {n['id']} alone, slowly, in balance mode")
        + " Watch it; retire it if the difference returns."
    ),
    "fix_nearly_flat": lambda n: _alone_fix(n, f"Charge {n['id']} alone, slowly, in balance mode") + " Watch it.",
    "fix_volts_disagree": "Read the label of {id} again, and measure it again.",
    "fix_above_full": "Fly {id} gently or discharge it, and watch it.",
    "fix_in_hand": "Wait until its batch has ended, then measure {id}.",
    "fix_nowhere": lambda n: f"No free channel can charge {n['id']} now: {n['why']}",
    "fix_not_measured": "Measure {id}.",
    "fix_charged_since": "Measure {id} again when it is off the charger.",
    "fix_flown_since": "Measure {id} again when it has rested and cooled.",
    "fix_ends_by_drop": lambda n: _alone_fix(n, f"Charge {n['id']} alone, in the charger's mode for it"),
    "fix_charge_too_long": "Charge {id} on a channel with more watts or amps, or only up to lower volts.",
    "fix_full": "No charge needed. If {id} is not flown today, bring it to storage voltage.",
    "fix_full_nickel": "No charge needed.",
    "fix_alone": lambda n: _alone_fix(n, f"Charge {n['id']} alone"),
    "fix_next_batch": lambda n: _alone_fix(n, f"Charge {n['id']} in the next batch, or alone"),
    "fix_charge_up": _lift,
    "fix_lift_others": _lift,
    "fix_put_back": "Put {id} back.",
    # typed volts that are questioned before they are taken
    "volts_impossible": "Cell {cell}: {typed_v:.2f} V is over {limit_v:.2f}. Type it again.",
    "volts_over": "Cell {cell}: {typed_v:.2f} V is over full at {limit_v:.2f} V. Read it again: if it is so, it is not "
    "charged.",
    "cell_dead": "Cell {cell}: {typed_v:.2f} V is under {limit_v:.2f}. A dead cell, or a balance plug not home?",
    "fewer_cells": lambda n: (
        f"Cell {n['cell']} reads nothing. Is this a {n['count']}S? Count the pins of its balance plug: "
        f"{n['cells']}S has {n['cells'] + 1}."
    ),
    "digits_swapped": "Cell {cell}: {typed_v:.2f} V stands {gap_v:.2f} V off the others. Did you mean {meant_v:.2f}?",
    "cell_far_off": "Cell {cell}: {typed_v:.2f} V stands {gap_v:.2f} V off the others. Read it again.",
    "far_from_last": "It read {last_v:.3f} V per cell before and {typed_v:.3f} now, without a charge between. "
    "Is this the right pack?",
}
