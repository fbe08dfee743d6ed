"""What is said of one pack: its verdict, fix, volts that are asked about."""

from iterum.wording.choosing import Template, When

COUNT = When(
    "plug",
    "{pack_v:.2f} V could also be a {others:cells}. A {cells}S has {pins} pins on its balance plug.",
    "{pack_v:.2f} V could also be a {others:cells}. Count its cells.",
)

LIFT = When(
    lambda n: n["ids"] == (n["id"],),
    "First charge {ids:and} on {channel}, about {minutes:min} at {current_a:plain} A, to {until_v:.2f} V/cell; then join "
    "{others:and}.",
    "First charge {ids:and} on {channel}, about {minutes:min} at {current_a:plain} A, to {until_v:.2f} V/cell; then join "
    "{id}.",
)

PACK_SENTENCES: dict[str, Template] = {
    # one pack
    "cells_agree": "Cells {spread_v:.2f} V apart, limit {limit_v:.2f} V.",
    "nothing_wrong": "No objection.",
    "damaged": "Marked as damaged. Never charge it. Keep it outside on a surface that cannot burn.",
    "pilot_has": When(
        "more",
        "{pilot} still has {things:list} and more. Say first whose they are.",
        "{pilot} still has {things:list}. Say first whose they are.",
    ),
    "went_home": "{pilot} went home, and it with them.",
    "fix_went_home": "Say on Table that {pilot} is back.",
    "not_measured": "Not measured yet.",
    "charged_since": "Charged since it was measured: measure it again.",
    "flown_since": "Flown since it was measured: let it rest, then measure it again.",
    "below_refuse": When(
        "cell",
        "Cell {cell} is at {lowest_v:.2f|limit_v} V, below {limit_v:.2f|lowest_v} V at rest. Never charge it again.",
        "The average cell is at {lowest_v:.2f|limit_v} V, below {limit_v:.2f|lowest_v} V at rest. Never charge it again.",
    ),
    "nearly_flat": When(
        "cell",
        "Cell {cell} is at {lowest_v:.2f} V, close to the lower limit of {refuse_v:.2f} V. The limit is {rate_c:plain}C. "
        "Many chargers refuse it.",
        "The average cell is at {lowest_v:.2f} V, close to the lower limit of {refuse_v:.2f} V. The limit is "
        "{rate_c:plain}C. Many chargers refuse it.",
    ),
    "run_low": When(
        "cell",
        "Cell {cell} is at {lowest_v:.2f|limit_v} V, below {limit_v:.2f|lowest_v} V: it was flown too far. Watch this charge.",
        "The average cell is at {lowest_v:.2f|limit_v} V, below {limit_v:.2f|lowest_v} V: it was flown too far. Watch this charge.",
    ),
    "over_full": When(
        "cell",
        "Cell {cell} is at {highest_v:.2f|limit_v} V; full is {limit_v:.2f|highest_v} V. It is overcharged: do not charge or use it.",
        "The average cell is at {highest_v:.2f|limit_v} V; full is {limit_v:.2f|highest_v} V. It is overcharged: do not charge or use it.",
    ),
    "above_full": When(
        "cell",
        "Cell {cell} is at {highest_v:.2f|limit_v} V; full is {limit_v:.2f|highest_v} V. Do not charge or join it.",
        "The average cell is at {highest_v:.2f|limit_v} V; full is {limit_v:.2f|highest_v} V. Do not charge or join it.",
    ),
    "volts_disagree": "{cell_v:.2f} V per cell: a {chemistry} cell never rests above {limit_v:.2f} V. The label or the "
    "reading is wrong.",
    "total_tenfold": "{typed_v:.2f} V is not a {cells}S. Was {meant_v:.2f} V meant?",
    "pins_disagree": "The balance plug has {pins} pins, so it is a {counted}S, but the label says {cells}S.",
    "other_chemistry": When(
        "plug",
        "{pack_v:.2f} V could also be a full {count}S {other}. A {cells}S has {pins} pins on its balance plug.",
        "{pack_v:.2f} V could also be a full {count}S {other}. Count its cells.",
    ),
    "life_doubt": "All cells lie between {lowest_v:.2f} and {highest_v:.2f} V, as in a LiFe pack. Is it really {chemistry}?",
    "life_possible": "{highest_v:.2f} V/cell could also be a LiFe pack. Is it really {chemistry}?",
    "air_outside": "The air is at {air_c:deg}. Charging is safe only from {low_c:deg} to {high_c:deg} cell temperature.",
    "cold": When(
        "of_air",
        "The air is at {temperature_c:deg}; below {limit_c:deg} the limit is {rate_c:plain}C.",
        "The pack is at {temperature_c:deg}; below {limit_c:deg} the limit is {rate_c:plain}C.",
    ),
    "stale": "The reading is more than {hours:.0f} hours old.",
    "worn": "It holds {now_mah:.0f} of {label_mah:.0f} mAh, less than 80 %: it is worn.",
    "spent": "It holds {now_mah:.0f} of {label_mah:.0f} mAh, less than 60 %: retire it.",
    "charge_c_unlikely": "A charge rate of {charge_c:plain}C is probably the discharge rate, read from the wrong line of the label.",
    "full_by_charge": "Full: its last charge ended by itself.",
    "in_hand": "Already in a batch on {channel}.",
    "too_cold": "The pack is at {temperature_c:deg}; charging starts at {limit_c:deg}.",
    "too_hot": "The pack is at {temperature_c:deg}; the limit is {limit_c:deg}.",
    "full": "Full: {cell_v:.3f} V/cell, full from {limit_v:.2f} V/cell.",
    "cells_apart_look": When(
        lambda n: n["side"] == "low",
        "Cells {spread_v:.2f|limit_v} V apart, limit {limit_v:.2f|spread_v} V; cell {cell} is the low one.",
        "Cells {spread_v:.2f|limit_v} V apart, limit {limit_v:.2f|spread_v} V; cell {cell} is the high one.",
    ),
    "cells_apart_weak": When(
        lambda n: n["side"] == "low",
        "Cells {spread_v:.2f|limit_v} V apart, limit {limit_v:.2f|spread_v} V; cell {cell} is the low one. The limit is {rate_c:plain}C.",
        "Cells {spread_v:.2f|limit_v} V apart, limit {limit_v:.2f|spread_v} V; cell {cell} is the high one. The limit is {rate_c:plain}C.",
    ),
    "cells_not_read": "Only the total was measured.",
    "count_doubt": COUNT,
    "count_possible": COUNT,
    "ends_by_drop": "{chemistry} is charged alone: its charge ends by a small voltage drop that a board would hide.",
    # what storing it means
    "store_up": When(
        "cell",
        "Charge it to storage voltage: the lowest, cell {cell}, is at {lowest_v:.2f} V, storage is {target_v:.2f} V.",
        "Charge it to storage voltage: the lowest, the average cell, is at {lowest_v:.2f} V, storage is {target_v:.2f} V.",
    ),
    "store_down": When(
        "cell",
        "Discharge it until the lowest cell is at storage voltage: the lowest, cell {cell}, is at {lowest_v:.2f} V, storage is {target_v:.2f} V.",
        "Discharge it until the lowest cell is at storage voltage: the lowest, the average cell, is at {lowest_v:.2f} V, storage is {target_v:.2f} V.",
    ),
    "store_balance": When(
        "cell",
        "Only balance it, and watch it: the lowest, cell {cell}, is at {lowest_v:.2f} V, storage is {target_v:.2f} V, and other cells are above.",
        "Only balance it, and watch it: the lowest, the average cell, is at {lowest_v:.2f} V, storage is {target_v:.2f} V, and other cells are above.",
    ),
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
    "fix_air_outside": "Measure the temperature of {id}, or take it to a place with {cool_c:deg} to {mild_c:deg}.",
    "fix_too_cold": "Warm {id} to room temperature and measure it again.",
    "fix_too_hot": "Let {id} rest 10 to 15 minutes and measure it again.",
    "fix_cold": "Warm {id} to {cool_c:deg} or more, and measure its temperature, for more.",
    "fix_stale": "Measure {id} again.",
    "fix_cells_not_read": "Measure each cell of {id}.",
    "fix_cells_apart_look": "Balance {id} at its next charge; retire it if the difference returns.",
    "fix_run_low": "Shorten the flight timer of {id}.",
    "fix_worn": "Shorten the flight timer of {id}, and plan its replacement.",
    "fix_spent": "Retire {id}.",
    "fix_charge_c_unlikely": "Read the label of {id} again: the charge rate is the small number.",
    "fix_count_possible": "Count the pins of the balance plug of {id} and enter the number, or measure each cell.",
    "fix_cells_apart_weak": When(
        lambda n: "channel" in n,
        "Charge {id} alone, slowly, in balance mode on {channel}, about {minutes:min} at {current_a:plain} A. Watch it; retire it if the difference returns.",
        "Charge {id} alone, slowly, in balance mode. Watch it; retire it if the difference returns.",
    ),
    "fix_nearly_flat": When(
        lambda n: "channel" in n,
        "Charge {id} alone, slowly, in balance mode on {channel}, about {minutes:min} at {current_a:plain} A. Watch it.",
        "Charge {id} alone, slowly, in balance mode. Watch it.",
    ),
    "fix_volts_disagree": "Read the label of {id} again, and measure it again.",
    "fix_above_full": "Fly {id} gently or discharge it, and watch it.",
    "fix_in_hand": "Wait until its batch has ended, then measure {id}.",
    "fix_nowhere": "No free channel can charge {id} now: {why}",
    "fix_not_measured": "Measure {id}.",
    "fix_charged_since": "Measure {id} again when it is off the charger.",
    "fix_flown_since": "Measure {id} again when it has rested and cooled.",
    "fix_ends_by_drop": When(
        lambda n: "channel" in n,
        "Charge {id} alone, in the charger's mode for it on {channel}, about {minutes:min} at {current_a:plain} A.",
        "Charge {id} alone, in the charger's mode for it.",
    ),
    "fix_charge_too_long": "Charge {id} on a channel with more watts or amps, or only up to lower volts.",
    "fix_full": "No charge needed. If {id} is not flown today, bring it to storage voltage.",
    "fix_full_nickel": "No charge needed.",
    "fix_alone": When(
        lambda n: "channel" in n,
        "Charge {id} alone on {channel}, about {minutes:min} at {current_a:plain} A.",
        "Charge {id} alone.",
    ),
    "fix_next_batch": When(
        lambda n: "channel" in n,
        "Charge {id} in the next batch, or alone on {channel}, about {minutes:min} at {current_a:plain} A.",
        "Charge {id} in the next batch, or alone.",
    ),
    "fix_charge_up": LIFT,
    "fix_lift_others": LIFT,
    "fix_put_back": "Put {id} back.",
    # typed volts that are questioned before they are taken
    "volts_impossible": "Cell {cell}: {typed_v:.2f} V is over {limit_v:.2f}. Type it again.",
    "volts_over": "Cell {cell}: {typed_v:.2f} V is over full at {limit_v:.2f} V. Read it again: if it is so, it is not "
    "charged.",
    "cell_dead": "Cell {cell}: {typed_v:.2f} V is under {limit_v:.2f}. A dead cell, or a balance plug not home?",
    "fewer_cells": "Cell {cell} reads nothing. Is this a {count}S? Count the pins of its balance plug: {cells}S has {pins}.",
    "digits_swapped": "Cell {cell}: {typed_v:.2f} V stands {gap_v:.2f} V off the others. Did you mean {meant_v:.2f}?",
    "cell_far_off": "Cell {cell}: {typed_v:.2f} V stands {gap_v:.2f} V off the others. Read it again.",
    "far_from_last": "It read {last_v:.3f} V per cell before and {typed_v:.3f} now, without a charge between. "
    "Is this the right pack?",
}
