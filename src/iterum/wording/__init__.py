"""Reason codes and numbers -> the one sentence that page, command line and printed sheet all use.

Form: number + unit + limit or reason + act. Volts per cell have three decimals when averaged, two when read.
"""

from collections.abc import Callable

from iterum.core.reasons import Reason
from iterum.wording.figures import FAMILY_LABELS, Numbers, apart, family_label, minutes, one_of, plain
from iterum.wording.running import RUN_SENTENCES

LIMIT_NAMES = {
    "wanted_rate": "the rate you want",
    "pack_charge_c": "the packs' charge C",
    "weak_pack": "a weak pack",
    "board_current": "the board",
    "board_fuse": "the board's fuse",
    "port_fuse": "a port fuse",
    "adapter_current": "an adapter",
    "channel_current": "the channel's amps",
    "channel_power": "the channel's watts",
    "charger_power": "the charger's watts",
    "charger_input": "the charger's input",
    "supply_power": "the supply",
    "source_power": "the source",
    "source_energy": "what the source still holds",
}


def _less(others_w: float) -> str:
    return f" less {plain(others_w)} W in use" if others_w else ""


def _over_volts(numbers: Numbers) -> str:
    return f"{_less(numbers['others_w'])} ÷ {plain(numbers['volts'])} V"


def _source_power(numbers: Numbers) -> str:
    head = f"Source {plain(numbers['source_w'])} W × {plain(numbers['efficiency'])} = {plain(numbers['power_w'])} W"
    return head + _over_volts(numbers)


def _supply_power(numbers: Numbers) -> str:
    head = f"{numbers['supply']} {plain(numbers['output_w'])} W × {plain(numbers['efficiency'])}"
    return f"{head} = {plain(numbers['power_w'])} W{_over_volts(numbers)}"


def _charger_input(numbers: Numbers) -> str:
    volts = numbers["input_v"]
    where = "on mains" if numbers["on_mains"] else f"at {plain(volts)} V input" if volts else "at input volts not known"
    return f"{plain(numbers['power_w'])} W {where}{_over_volts(numbers)}"


def _of_share(numbers: Numbers, amps: str) -> str:
    """Amps of a part that carries only a share."""
    part = numbers["part"]
    return f"{plain(numbers[amps])} A" if part > 1 - 1e-9 else f"{plain(numbers[amps])} A ÷ {part:.3f}"


def _label_c(numbers: Numbers) -> str:
    where = "by its label" if numbers["labelled"] else "with no charge C on its label"
    return (
        f"{numbers['id']} takes {plain(numbers['rate_c'])}C {where}: "
        f"{plain(numbers['rate_c'])}C × {plain(numbers['total_ah'])} Ah"
    )


def _window_too_wide(numbers: Numbers) -> str:
    where = "V per cell" if numbers["per"] == "cell" else "V over the pack"
    spread, allowed = apart(numbers["spread_v"], numbers["allowed_v"], 3)
    return f"{numbers['low']} and {numbers['high']} are {spread} {where} apart, allowed {allowed}."


def _apart(numbers: Numbers, tail: str) -> str:
    spread, limit = apart(numbers["spread_v"], numbers["limit_v"])
    return f"Cells {spread} V apart, allowed {limit}; cell {numbers['cell']} is {numbers['side']}.{tail}"


def _same_cell(numbers: Numbers) -> str:
    gap, allowed = apart(numbers["gap_v"], numbers["allowed_v"])
    return f"Cell {numbers['cell']} is {gap} V apart between two packs, allowed {allowed}."


def _energy_short(numbers: Numbers) -> str:
    need, left = apart(numbers["need_wh"], numbers["left_wh"], 0)
    head = f"{numbers['source']} has {left} Wh left, this charge takes {need} Wh from it."
    ways = []
    if 0 < numbers["enough_for"] < numbers["count"]:
        ways.append(f"enough for {numbers['enough_for']} of the {numbers['count']} packs")
    if numbers["until_v"]:
        ways.append(f"{'all' if numbers['count'] > 1 else 'it'} up to {numbers['until_v']:.2f} V per cell")
    return f"{head} It is {one_of(ways)}." if ways else f"{head} It does not even lift them."


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


def _adapter(numbers: Numbers) -> str:
    return f"{numbers['of']}'s {numbers['plug']} on {numbers['board']}'s {numbers['socket']}"


def _over_limit(numbers: Numbers) -> str:
    typed, limit = apart(numbers["current_a"], numbers["limit_a"], 1)
    return f"{typed} A is more than the {limit} A that {LIMIT_NAMES[numbers['limit']]} allows ({sentence(numbers['why'])})."


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


def _batches(count: int) -> str:
    return "one batch" if count == 1 else f"{count} batches"


def _buys(what: str, numbers: Numbers) -> str:
    """What one step more would give back of what is given up."""
    if numbers["whole"]:
        return f"{what}: everything wanted is met."
    packs = numbers["packs"]
    gained = f"{plain(packs)} more charged" if packs else f"late by {minutes(numbers['late_min'])} in all"
    return f"{what}: {gained}."


SENTENCES: dict[str, str | Callable[[Numbers], str]] = {
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
    "full_by_charge": "Full: its last charge ended by its drop, and it was warm.",
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
    # two packs and more
    "families_differ": lambda n: (
        f"{one_of([family_label(family) for family in n['families']], 'and')} never share a board."
    ),
    "window_too_wide": _window_too_wide,
    "same_cell_apart": _same_cell,
    "capacities_differ": lambda n: (
        f"{plain(n['largest_mah'])} mAh is {plain(n['ratio'])} times {plain(n['smallest_mah'])} mAh, "
        f"allowed {plain(n['allowed_ratio'])} times."
    ),
    "ports_full": "{count} packs, and room for {ports}.",
    "no_board": "No board takes {cells} cells.",
    "only_one": lambda n: f"The only {family_label(n['family'])} to charge.",
    "no_port_left": "It would fit with {nearest}, but all {ports} ports there are taken.",
    "taken_out": "You took it out.",
    "others_gone": "The others of its group were moved away.",
    # joining, and what flows
    "join_fine": "Plugged one after another, no pack sees more than {rate_c:.1f}C.",
    "join_peak": "Plugging {id} in pushes {rate_c:.1f}C through a pack, allowed {limit_c:.1f}C.",
    "join_long": lambda n: (
        f"Plugging {n['id']} in keeps {n['other']} above its {plain(n['charge_c'])}C for {n['over_s']:.0f} s, "
        f"allowed {n['limit_s']:.0f} s."
    ),
    "join_above_charge_c": "{id} sees {rate_c:.1f}C, over its charge {charge_c:.1f}C for {over_s:.0f} s.",
    "charge_fine": "No pack passes its charge C.",
    "charge_above_c": "{id} takes up to {rate_c:.1f}C, over its charge {charge_c:.1f}C for {over_s:.0f} s.",
    "rests_on_measured": "Rests on measured milliohms.",
    "rests_on_label": "Rests on the label's C ({kind}), which is advertising and no measurement: {source}.",
    "rests_on_default": "Rests on a default for {kind}, nothing was measured: {source}.",
    "rests_on_no_label": "No discharge C and no milliohms are known: reckoned as of low resistance, the safe side for "
    "joining ({source}).",
    "balance_first_allowed": "Balance leads first: at most {current_a:.1f} A through a balance wire, allowed {limit_a:.0f}.",
    "balance_first_refused": "Balance leads first would push {current_a:.1f} A through a balance wire, allowed "
    "{limit_a:.0f}: main leads first for this group.",
    "way_smaller_group": lambda n: f"Leave {one_of(n['ids'], 'and')} for another batch; the rest may be joined now.",
    "way_even_first": lambda n: (
        f"Join {one_of(n['ids'], 'and')} by themselves first and let them even out for {minutes(n['minutes'])}; "
        "the others likewise; then all together."
    ),
    "way_other_order": lambda n: f"Plug them in as {', '.join(n['ids'])}, each evened out before the next.",
    "way_charge_low_first": lambda n: (
        f"Charge {one_of(n['ids'], 'and')} first, up to {n['until_v']:.2f} V per cell; then all may be joined."
    ),
    # a plan
    "replan_runs": "Runs, or is about to: left alone until {end_min}.",
    "replan_same": "Nothing changes.",
    "replan_new": lambda n: f"New: {', '.join(n['packs'])} on {n['channel']} from {n['start_min']}.",
    "replan_moved": lambda n: (
        f"Moved: {', '.join(n['packs'])} to {n['channel']} at {n['start_min']}, "
        f"was {n['was_channel']} at {n['was_min']}."
    ),
    "replan_gone": lambda n: f"No longer as one batch: {', '.join(n['packs'])}.",
    "starts_at_once": "Starts at once.",
    "waits_channel": lambda n: f"Waits for {n['channel']}, free at {n['until_min']}.",
    "waits_board": lambda n: f"Waits for {n['board']}, free at {n['until_min']}.",
    "waits_hands": lambda n: f"Waits for your hands: {', '.join(n['packs'])} are set up until {n['until_min']}.",
    "waits_watts": lambda n: f"Waits for watts of {n['resource']}, free at {n['until_min']}.",
    "waits_order": "Starts here so that the whole ends no later.",
    "alone_only_one": lambda n: f"Alone: no other {family_label(n['family'])} is to be charged.",
    "alone_unfit": "Alone: its cells are too far apart for a board.",
    "alone_window_too_wide": lambda n: "Alone: {} V from {}, the nearest; allowed {}.".format(
        apart(n["spread_v"], n["allowed_v"], 3)[0], n["nearest"], apart(n["spread_v"], n["allowed_v"], 3)[1]
    ),
    "alone_same_cell_apart": lambda n: "Alone: cell {} is {} V from that of {}, allowed {}.".format(
        n["cell"], apart(n["gap_v"], n["allowed_v"])[0], n["nearest"], apart(n["gap_v"], n["allowed_v"])[1]
    ),
    "alone_capacities_differ": lambda n: (
        f"Alone: {plain(n['largest_mah'])} and {plain(n['smallest_mah'])} mAh are too unlike beside {n['nearest']}."
    ),
    "alone_later": lambda n: (
        f"Alone: joined to others the whole would end {minutes(n['minutes'])} later."
        if n["minutes"] > 0.5
        else "Alone, though it could join others at no loss of time: it needs no board so."
    ),
    "alone_ports_full": lambda n: f"Alone: the house rule lets {n['ports']} share a board.",
    "alone_no_room": "Alone: no batch that it may join has a port left.",
    "wider_channel": "One channel more: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_board": "One large board more: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_rate": "2C where labels allow it: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_hands": "A second pair of hands: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_watts": "Half as many watts again: all done {saved_min:.0f} min sooner, at {end_min}.",
    "buys_channel": lambda n: _buys("One channel more", n),
    "buys_board": lambda n: _buys("One large board more", n),
    "buys_rate": lambda n: _buys(f"2C for {_batches(n['faster'])}, where labels allow it", n),
    "buys_hands": lambda n: _buys("A second pair of hands", n),
    "buys_watts": lambda n: _buys("Half as many watts again", n),
    "buys_energy": lambda n: _buys(f"{n['wh']:.0f} Wh more in {n['source']}", n),
    "buys_time": lambda n: _buys(f"{minutes(n['minutes'])} more before each time", n),
    "no_heat_needs_it": "No heat needs it today.",
    "waits_return": "Starts when its packs are back and have rested, at {until_min}.",
    "waits_flight": "Starts when you are back from the heat, at {until_min}.",
    "waits_quiet": "Starts when {source} may run again, at {until_min}.",
    "move_begun": "These packs are being charged, or something was measured since: plan again instead.",
    "move_past": "That time is past.",
    "move_no_channel": "{channel} is not in the kit any more, or its input volts are wrong.",
    "move_channel": "{channel} is taken then; free for it from {free_min}.",
    "move_board": "{board} is taken then; free for it from {free_min}.",
    "move_hands": "You are at another batch or away then; free from {free_min}.",
    "move_watts": "It would take {watts:.0f} W more of {resource} than is left of its {limit_w:.0f} W.",
    "move_not_back": "Its packs are back and rested at {back_min}.",
    "move_energy": "{source} would lack {lack_wh:.0f} Wh.",
    "kept_by_you": "Kept where you put it.",
    "no_channel": "No channel of the kit can charge it.",
    "done_before": "Charged already, at {end_min}.",
    "not_asked_any_more": "What was asked for is full or on its way.",
    "fix_done": "Measure {id} before it goes on a board again.",
    "not_wanted": "Not asked for: {count} of its class are.",
    "storage_no_energy": "The source has too little left for it: {need_wh:.0f} Wh.",
    "no_energy": lambda n: (
        f"{n['source']} has too little left: it takes {n['need_wh']:.0f} Wh, {n['lack_wh']:.0f} more than there is."
        if n["source"]
        else "No channel was free for it."
    ),
    "fix_no_channel": "Add a channel that takes its cells, or a source with the right volts.",
    "fix_not_wanted": "Leave it as it is, or ask for more of its class.",
    "fix_no_energy": "Charge it from another source, or take watt-hours from a class that flies later.",
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
    "fix_nowhere": lambda n: f"Nothing that is free can charge {n['id']} now: {about(n['why'])}",
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
    # where it is to be charged
    "nothing_to_charge_with": "No board and channel in the kit suits them.",
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
    "no_budget": "No budget is known for {source}: what it still holds is not counted.",
    "channel_cells": "{channel} charges {min_cells} to {max_cells} cells, these packs have {cells}.",
    "board_missing": "{count} packs need a board.",
    "board_cells": "{board} takes {min_cells} to {max_cells} cells, these packs have {cells}.",
    "input_too_low": "{charger} needs {limit_v:.1f} V at its input and gets {input_v:.1f} V.",
    "input_too_high": "{charger} stands {limit_v:.1f} V at its input and gets {input_v:.1f} V.",
    "minimum_too_high": lambda n: (
        f"{n['channel']} cannot go under {plain(n['smallest_a'])} A, and {LIMIT_NAMES[n['limit']]} "
        f"allows {n['limit_a']:.2f} A ({sentence(n['why'])}). Add packs to share it, or take another channel."
    ),
    "minimum_dialled": "The smallest the channel can do is {smallest_a:.2f} A, more than the {wanted_a:.2f} A wanted "
    "and still within the labels.",
    # limits, as formulas
    "limit_wanted_amps": lambda n: f"Your own {plain(n['current_a'])} A",
    "limit_weak_pack": lambda n: f"{n['id']} is weak: {plain(n['rate_c'])}C × {plain(n['total_ah'])} Ah at most",
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


SENTENCES |= RUN_SENTENCES


MOMENTS = frozenset({"until_min", "end_min", "start_min", "was_min", "free_min", "back_min"})
"""Numbers that are minutes of a plan."""


def minute_of(value: float) -> str:
    """A moment of a plan whose time of day is not known."""
    return f"minute {value:.0f}"


def sentence(item: Reason, at: Callable[[float], str] = minute_of) -> str:
    """The one sentence for a reason. Raises KeyError for a code without wording, which is a defect.

    at : how a minute of a plan is written, a time of day where it is known.
    """
    template = SENTENCES[item.code]
    numbers = {name: at(value) if name in MOMENTS else value for name, value in item.numbers.items()}
    return template(numbers) if callable(template) else template.format(**numbers)


def about(item: Reason, at: Callable[[float], str] = minute_of) -> str:
    """The sentence, led by the pack it is about where the reason names one and the sentence does not."""
    text = sentence(item, at)
    pack_id = item.numbers.get("id")
    return f"{pack_id}: {text}" if pack_id and str(pack_id) not in text else text


__all__ = [
    "FAMILY_LABELS",
    "LIMIT_NAMES",
    "SENTENCES",
    "about",
    "family_label",
    "minute_of",
    "minutes",
    "one_of",
    "plain",
    "sentence",
]
