"""What is said of one pack: its verdict, what mends it, volts that are asked about."""

from collections.abc import Callable

from iterum.wording.figures import Numbers, apart, minutes, one_of, plain


def _apart(numbers: Numbers, tail: str) -> str:
    spread, limit = apart(numbers["spread_v"], numbers["limit_v"])
    return f"Cells {spread} V apart, allowed {limit}; cell {numbers['cell']} is {numbers['side']}.{tail}"


def _count_doubt(numbers: Numbers) -> str:
    others = one_of([f"{count}S" for count in numbers["others"]])
    pins = f" (its balance plug has {numbers['cells'] + 1} pins)" if numbers["plug"] else ""
    return (
        f"{numbers['pack_v']:.2f} V on {numbers['cells']} cells is {numbers['cell_v']:.2f} V each, but would fit {others}. "
        f"Count the cells{pins} before anything else."
    )


def _count_possible(numbers: Numbers) -> str:
    others = one_of([f"{count}S" for count in numbers["others"]])
    check = f"that the balance plug has {numbers['cells'] + 1} pins" if numbers["plug"] else "how many cells it has"
    return f"{numbers['pack_v']:.2f} V would also fit {others}. Check {check}."


def _lift(numbers: Numbers) -> str:
    ids = one_of(numbers["ids"], "and")
    joins = one_of(numbers["others"], "and") if numbers["ids"] == (numbers["id"],) else numbers["id"]
    how = f" on {numbers['channel']}, about {minutes(numbers['minutes'])} at {plain(numbers['current_a'])} A,"
    return f"Charge {ids} first{how} up to {numbers['until_v']:.2f} V per cell; then join {joins}."


def _alone_fix(numbers: Numbers, head: str) -> str:
    if "channel" not in numbers:
        return f"{head}."
    return f"{head} on {numbers['channel']}, about {minutes(numbers['minutes'])} at {plain(numbers['current_a'])} A."


def _agree(numbers: Numbers) -> str:
    if numbers["spread_v"] is None:
        return "Nothing speaks against it."
    return f"Cells {numbers['spread_v']:.2f} V apart, allowed {numbers['limit_v']:.2f}."


PACK_SENTENCES: dict[str, str | Callable[[Numbers], str]] = {
    # one pack
    "cells_agree": _agree,
    "damaged": "Marked as damaged. Never charge it: keep it apart, outside, on something that cannot burn.",
    "not_measured": "No reading yet.",
    "charged_since": "On a charger since it was read: those volts say nothing any more.",
    "below_refuse": lambda n: "Lowest cell {} V, under {} V at rest. Do not charge it again.".format(
        *apart(n["lowest_v"], n["limit_v"])
    ),
    "nearly_flat": "Lowest cell {lowest_v:.2f} V, hardly over {refuse_v:.2f} V: alone, at {rate_c:.1f}C at most, in balance "
    "mode, and stay with it. Many chargers refuse it.",
    "run_low": "Lowest cell {lowest_v:.2f} V, under {limit_v:.2f} V: it was run too low. Watch this charge.",
    "over_full": lambda n: (
        "Highest cell {} V, full is {} V: overcharged. Do not charge it; let it rest outside.".format(
            *apart(n["highest_v"], n["limit_v"])
        )
    ),
    "above_full": lambda n: (
        "Highest cell {} V, over full at {} V: not charged, not joined. Fly it gently or bring it "
        "down, and watch it.".format(*apart(n["highest_v"], n["limit_v"]))
    ),
    "volts_disagree": "{cell_v:.2f} V per cell, and no {chemistry} cell rests over {limit_v:.2f} V: label and volts "
    "disagree. Find out what it is before anything else.",
    "worn": "It holds {now_mah:.0f} of {label_mah:.0f} mAh, under 80 %: worn.",
    "spent": "It holds {now_mah:.0f} of {label_mah:.0f} mAh, under 60 %: retire it.",
    "charge_c_unlikely": lambda n: (
        f"A charge C of {plain(n['charge_c'])} is nearly always the discharge C, read off the wrong line. "
        "Look at its label again."
    ),
    "full_by_charge": "Full by its last charge, which its charger ended.",
    "nothing_wrong": "Nothing speaks against it.",
    "in_hand": "In a batch on {channel} now.",
    "too_cold": "It is {temperature_c:.0f} °C, charge from {limit_c:.0f} °C up. Let it warm and read it again.",
    "too_hot": "It is {temperature_c:.0f} °C, charge up to {limit_c:.0f} °C. Let it rest and read it again.",
    "full": "Full: {cell_v:.3f} V per cell, full from {limit_v:.2f}.",
    "cells_apart_look": lambda n: _apart(n, " Look at it."),
    "cells_apart_weak": lambda n: _apart(n, f" Alone, at {plain(n['rate_c'])}C at most, in balance mode."),
    "cells_not_read": "Only the total was read. Read each of its {cells} cells before it shares a board.",
    "count_doubt": _count_doubt,
    "count_possible": _count_possible,
    "ends_by_drop": "{chemistry} ends by a small drop in volts that a board would hide. Charge it alone.",
    # what mends it
    "fix_damaged": "Discharge only if that is safe, insulate its terminals and take it to a battery collection point.",
    "fix_below_refuse": "Retire {id}: insulate its terminals and take it to a battery collection point.",
    "fix_over_full": "Let {id} rest outside, look at it for swelling, then bring it down by flying or discharging.",
    "fix_count_doubt": "Read {id} cell by cell on its balance plug, or count its pins and say so under Packs.",
    "fix_too_cold": "Warm {id} to room temperature, then read it again.",
    "fix_too_hot": "Let {id} rest 10 to 15 minutes, then read it again.",
    "fix_cells_apart_weak": lambda n: (
        _alone_fix(n, f"Balance {n['id']} alone, gently") + " Stay with it; retire it if the gap comes back."
    ),
    "fix_nearly_flat": lambda n: _alone_fix(n, f"Charge {n['id']} alone, gently") + " Stay with it.",
    "fix_volts_disagree": "Find out what {id} is: its label, its plug, its cells.",
    "fix_above_full": "Fly {id} gently or discharge it to below full, and watch it.",
    "fix_in_hand": "Wait until its batch is over, then measure {id}.",
    "fix_nowhere": lambda n: f"Nothing that is free can charge {n['id']} now: {n['why']}",
    "fix_not_measured": "Measure {id}.",
    "fix_charged_since": "Measure {id} again once it is off the charger.",
    "fix_ends_by_drop": lambda n: _alone_fix(n, f"Charge {n['id']} alone, in the charger's mode for it"),
    "fix_full": "Nothing to do. If it is not flown today, bring {id} to storage volts tonight.",
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
