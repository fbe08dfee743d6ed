"""Sentences of the run: reading back, watching, what to do now, health, flying, putting away, cautions."""

from iterum.core.say import Words, say, write_as
from iterum.wording.choosing import Many, Template, When

FIGURES = {
    "pack_v": Words("volts of the pack"),
    "current_a": Words("amps"),
    "charge_mah": Words("mAh"),
    "minutes": Words("minutes"),
    "temperature_c": Words("degrees"),
    "input_v": Words("input volts"),
    "cell_v": Words("volts of a cell"),
}
"""What a charger shows."""

write_as("figure", lambda name: say(FIGURES[name]))

RUN_SENTENCES: dict[str, Template] = {
    # states
    "act_not_now": '"{act}" cannot be done now: the batch is {state}.',
    "act_not_skipped": '"{act}" cannot be skipped.',
    "channel_busy": "{packs:list} are still on {channel}. Remove that batch first.",
    "board_busy": "{packs:list} are still on {board}. Remove that batch first.",
    "pack_busy": "{id} is in another batch that is not over.",
    "held_in_hand": "{id} is needed by the batch of {packs:list}. Close that batch first.",
    "run_amps_over": "{current_a:.1f} A are more than the {limit_a:.1f} A that the chain allows now.",
    "pack_unfit": "{id} may not be charged: {why}",
    # what was really done in a lesson
    "not_as_said": "{id} is a {family:family}, Iterum was told {said:family}: charged like that, its cells are driven to {cell_v:.1f} V.",
    "stopped_short": "After {minutes:.0f} min {current_a:.1f} A still flow, and {lacks_mah:.0f} of {missing_mah:.0f} mAh are missing. It is "
    "full when the amps have fallen, here after {full_min:.0f} min.",
    "left_full": "{id} stands at {cell_v:.2f} V per cell for {hours:.0f} h. Storage is {storage_v:.2f}, {move_mah:.0f} mAh less.",
    # the look list
    "look_flat": "Flat and hard, not puffed or soft?",
    "look_skin": "Wrap whole, nothing crushed or pierced?",
    "look_leads": "Leads and plugs whole, nothing bare?",
    "look_dry": "Dry, no sweet smell of solvent?",
    "look_cool": "Hand cool, rested since it flew?",
    # confirming the settings
    "back_missing": "Cells, pack volts and amps must be read from the charger.",
    "back_count": "It shows {shown} cells, the card says {cells}. Another cell count is set or detected: a charger that "
    "guesses has set packs on fire. Do not go on.",
    "back_balance_out": "It sees no cells: a balance plug is not home.",
    "back_volts_count": "It shows {pack_v:.2f} V, the card {card_v:.2f}: that is {likely} cells, not {cells}. Count the "
    "pins of the balance plugs (cells + 1).",
    "back_volts": "It shows {pack_v:.2f} V, the card says {card_v:.2f} within {tolerance_v:.2f}. Other packs than planned, "
    "or they have not equalised: measure one again.",
    "back_no_lead": "It shows {pack_v:.2f} V: the main lead is not home, or a fuse is blown.",
    "back_amps_high": "It is set to {shown_a:.1f} A, the card says {card_a:.1f}. Too much: set it again.",
    "back_amps_low": "It is set to {shown_a:.1f} A, the card says {card_a:.1f}. Set it again, or it takes longer than planned.",
    "back_chemistry": "It ends at {shown_v:.2f} V per cell, the card says {card_v:.2f} for {chemistry}. Wrong chemistry is "
    "set: do not go on.",
    # watching
    "watch_cell_lags": When(
        "id",
        "Cell {cell} of {id} is {spread_v:.2f|limit_v} V below the others, allowed {limit_v:.2f|spread_v}.",
        "Cell {cell} is {spread_v:.2f|limit_v} V below the others, allowed {limit_v:.2f|spread_v}.",
    ),
    "watch_cell_leads": When(
        "id",
        "Cell {cell} of {id} is {spread_v:.2f|limit_v} V above the others, allowed {limit_v:.2f|spread_v}.",
        "Cell {cell} is {spread_v:.2f|limit_v} V above the others, allowed {limit_v:.2f|spread_v}.",
    ),
    "watch_cell_flat": When(
        "id",
        "A cell of {id} is still at {cell_v:.2f} V after {minutes:min} of charging, under {refuse_v:.2f} V.",
        "A cell is still at {cell_v:.2f} V after {minutes:min} of charging, under {refuse_v:.2f} V.",
    ),
    "watch_pack_lags": "{id} is {off_v:.2f} V per cell under the curve, allowed {limit_v:.2f}.",
    "watch_pack_leads": "{id} is {off_v:.2f} V per cell over the curve, allowed {limit_v:.2f}.",
    "watch_over_full": When(
        "id",
        "A cell of {id} is at {cell_v:.2f} V, full is {end_v:.2f}.",
        "A cell is at {cell_v:.2f} V, full is {end_v:.2f}.",
    ),
    "watch_volts_low": "Volts are {off_v:.2f} V per cell under the curve, allowed {limit_v:.2f}.",
    "watch_volts_high": "Volts are {off_v:.2f} V per cell over the curve, allowed {limit_v:.2f}.",
    "watch_mah_over": "{charge_mah:.0f} mAh are in, {missing_mah:.0f} were missing at most.",
    "watch_timer": "{minutes:.0f} min have passed, the safety timer is {timer_min:.0f}.",
    "watch_late": "{minutes:.0f} min have passed, it should have been full by {latest_min:.0f}, balancing included.",
    "watch_amps_stand": "Full volts for {minutes:.0f} min and still {current_a:.1f} A: the amps should be falling.",
    "watch_volts_stand": When(
        lambda n: n["rise_v"] > 0,
        "Volts rose {rise_v:.3f} V per cell in {minutes:min}, about {due_v:.3f} were due.",
        "Volts did not rise in {minutes:min}, about {due_v:.3f} V per cell were due.",
    ),
    "watch_volts_fall": "Volts fell to {cell_v:.2f} V per cell from {highest_v:.2f} while the amps stand: a cell may be "
    "giving way.",
    "watch_hot": When(
        "id",
        "{id} is at {temperature_c:deg}, allowed {limit_c:deg}.",
        "A pack is at {temperature_c:deg}, allowed {limit_c:deg}.",
    ),
    "watch_warm": When(
        "id",
        "{id} is at {temperature_c:deg} in air of {air_c:deg}: lithium should stay near the air.",
        "A pack is at {temperature_c:deg} in air of {air_c:deg}: lithium should stay near the air.",
    ),
    "watch_source_low": "The source is down to {input_v:.1f} V, its stop is {stop_v:.1f}.",
    "watch_source_sags": "The source sags to {input_v:.1f} V, its stop is {stop_v:.1f}.",
    "watch_check_due": "Check now: last check {since_min:min} ago, due every 10 min.",
    "silent": "The charger has sent nothing for {silent_s:.0f} s.",
    "watch_hot_hand": "{id} is hot to the hand.",
    "watch_warm_hand": "{id} is warm to the hand: lithium should stay near the air.",
    "watch_no_amps": "No amps have flowed for {minutes:min}, and it is not full. Its time does not count on.",
    "watch_source_fell": "Only {input_v:.1f} V come in: the bank has dropped its fast-charge volts.",
    "watch_not_stopped": "{channel} does not stop: {why}.",
    # the guardian
    "guard_no_batch": "{current_a:.1f} A flow, and no batch is on this channel.",
    "guard_not_allowed": "{current_a:.1f} A flow, and the batch is {state}: none may flow now.",
    "guard_claims": 'The charger says "{status}" and {current_a:.1f} A flow.',
    "guard_backwards": "{current_a:.1f} A flow out of the packs.",
    "guard_amps_over": "{current_a:.1f} A flow, {set_a:.1f} A were set.",
    "guard_cells": "The charger counts {shown} cells, the card says {cells}.",
    "guard_set_amps": "The charger is now set to {shown_a:.1f} A, the card says {card_a:.1f} A.",
    "guard_set_end": "The charger now ends at {shown_v:.2f} V/cell, the card says {card_v:.2f} V.",
    "guard_set_end_low": "The charger ends at {shown_v:.2f} V/cell, the card says {card_v:.2f} V: the packs will not be full.",
    "guard_counts_back": "The charger started counting again: {before_mah:.0f} mAh at {before_min:min}, then {after_mah:.0f} mAh. It may be "
    "putting in a second charge.",
    # which device is which
    "binding_taken": "{channel} is bound to {device} already. Remove it there first.",
    "binding_twice": "{channel} is named twice: each channel is one output of one charger.",
    "binding_held": "Packs are on {channel}. Remove that batch first.",
    "binding_doubtful": "Two chargers call themselves the same and have no serial number. Confirm in Kit which one {channel} "
    "is, then start again.",
    "figure_beyond": "These figures make no sense: {figure:figure} {value:g}. They are not believed.",
    "figure_cells": "These figures make no sense: volts of {count} cells for a pack of {cells}. They are not believed.",
    "figure_sum": "These figures make no sense: its cells come to {whole_v:.2f} V, the pack to {pack_v:.2f}. They are "
    "not believed.",
    # what to do now
    "do_half_amps": "Half the amps, and a hand on it every few minutes. If it gets warmer, stop.",
    "do_look_why_no_amps": "Look at the charger: it may have stopped, a lead may be off, or it has no input.",
    "do_plug_source_again": "Unplug the bank, wait a moment, plug it in again and start at once. It is not empty by this.",
    "do_pull_plug": "Pull its plug now: the input of the charger, or the main lead of the board if that can be reached safely.",
    "do_measure_all": "It is stopped. Unplug, and measure every pack of it.",
    "do_hands_off": "It is stopped. Do not touch a pack that swells or hisses; people back, outside with it only where that is safe.",
    "do_cool": "It is stopped. Let it cool to the air, measure, and go on at half the amps if all is well.",
    "do_other_source": "It is stopped: the source must not go lower. Charge on from another one.",
    "do_stop_and_measure": "Stop this channel now. Then unplug and measure every pack.",
    "do_stop_hands_off": "Stop this channel now. Do not touch a pack that swells or hisses; people back.",
    "do_stop_to_cool": "Stop this channel, let it cool to the air, measure, and go on at half the amps if all is well.",
    "do_watch_cell": "Watch that cell. If it does not close up near the end, stop and balance that pack alone.",
    "do_check_plug": "Check that its plugs are home. If they are, unplug it and measure it alone.",
    "do_compare_card": "Compare the charger with the dial card. If both agree, go on and look again in 5 min.",
    "do_feel_packs": "Go and feel every pack. If one is warm or soft, stop.",
    "do_stop_for_source": "Stop this channel: the source must not go lower. Charge on from another one.",
    "do_fewer_amps": "Start no more batches from this source; turn the amps down if it goes on.",
    "do_touch_packs": "Touch every pack, look for swelling, read the charger, and record the check.",
    "do_look_at_charger": "Look at the charger itself: it may go on or have stopped. Type in what it shows.",
    # health
    "health_fine": Many("count", "No objection, by one logged charge.", "No objection, by {count} logged charges."),
    "health_damaged": "It is marked as damaged.",
    "health_capacity": "It holds {value:%} of its label; the limit is {limit:%}.",
    "health_resistance": "Its resistance is {value:.1f} times the first measured, limit {limit:.2f}.",
    "health_spread": "Its cells rest {value:.2f} V apart, limit {limit:.2f}.",
    "health_cycles": "{value:.0f} cycles, limit {limit:.0f}.",
    "health_age": "{value:.1f} years old, limit {limit:.0f}.",
    "health_jumped": "Since {at:day} its charges look like those of another pack ({charge_mah:.0f} mAh then): measure it.",
    "health_run_low": "{count} of the last {of} charges put back more than 80 % of it: shorten the timer.",
    # use
    "flight_pack": "Pack: {c:plain}C × {ah:plain} Ah",
    "flight_part": Many("count", "{name} by its label", "{count} × {name}, each by its label"),
    "flight_over": "{peak_a:.1f} A are more than {limit_a:.1f} A, which is what {name} stands.",
    "flight_volts": "{name} stands {limit_v:.1f} V, a full pack has {full_v:.1f}.",
    "flight_no_c": "No discharge C on the label of {id}: its amps are not checked.",
    # runs that fill nothing
    "upkeep_one_pack": "{id} alone has nothing to equalise with.",
    "upkeep_even_already": "The cells of {ids:and} are within {within_v:.2f} V: nothing to balance.",
    "channel_no_discharge": "{channel} does not discharge.",
    "down_too_low": "{typed:.2f} V per cell is too low to discharge a pack to: {low_v:.2f} V at least.",
    "down_is_there": "The lowest cell of {id} is at {cell_v:.2f} V: it cannot be discharged to {end_v:.2f} V/cell.",
    "down_amps": "{typed_a:.2f} A cannot be set: {channel} takes up to {most_a:.2f} A out of these.",
    "limit_down_current": When(
        "label",
        "{channel} discharges with its label’s amps",
        "{channel} discharges with 1 A: its label gives no amps",
    ),
    "limit_down_rate": "{rate_c:plain}C out of {id}",
    "limit_down_power": "Discharge {power_w:plain} W ÷ {pack_v:.2f} V",
    "watch_mah_out": "{charge_mah:.0f} mAh are out, {missing_mah:.0f} were to come out at most.",
    "watch_cell_under": When(
        "id",
        "A cell of {id} is at {cell_v:.2f} V, under {least_v:.2f} V.",
        "A cell is at {cell_v:.2f} V, under {least_v:.2f} V.",
    ),
    # putting away
    "storage_no_discharge": "No channel of the kit discharges it. Fly it down, or charge another pack from it.",
    # cautions
    "caution_inspect": "Puffed, soft, crushed, pierced, wet, torn or nicked: never charge it. A smell of solvent: outside.",
    "caution_plug_order": "Main leads first, in this order. A high pack goes last, a low pack never last.",
    "caution_polarity": "Red to red, black to black: check clips, home-made leads and plugs that fit two ways.",
    "caution_spark": "A small spark when charger meets board is its capacitors. A spark between packs is not: stop.",
    "caution_evening": "Balance wires are thin, about 2 A: plug them in when the packs have equalised.",
    "caution_read_back": "Cells and volts must agree with the card before you confirm: a charger that guesses has set packs on fire.",
    "caution_place": "On stone or in a fire-resistant box, clear space, sand or extinguisher, a way out.",
    "caution_watch": "Stay in sight; feel every pack about every 10 minutes. Never alone in the house.",
    "caution_source_last": "The bank drops its volts when idle: everything else first, the bank last, then start at once. "
    "If it fell back, unplug it, wait a moment, plug it in again, start at once.",
    "caution_cold": "Not under {freezing_c:deg} or over {hottest_c:deg}.",
    "caution_stop": "Stop at the charger first. Do not touch a venting pack with bare hands.",
    "caution_after": "Off the board: balance leads first, then main leads. Read every cell of every pack.",
    "caution_label": "Labels and local rules come before this page.",
    "caution_away": "Batches go on while you fly: somebody who knows what to do must have them in sight.",
    "caution_storage": "Leave no pack full. Never discharge a pack with a lamp or resistor left alone.",
    "caution_disposal": "A retired pack is still full of energy until it is discharged and taped.",
    "caution_cabin": "In aircraft cabins packs are limited by Wh: ask the carrier.",
    "disposal_discharge": "Discharge it only if it is whole and cool: on a charger, outside, to its lowest volts.",
    "disposal_tape": "Insulate its terminals, each lead by itself; keep it in a fire-resistant box outside meanwhile.",
    "disposal_point": "Take it to a battery collection point. Never into household waste.",
    "disposal_no_salt": "No salt water: it corrodes the leads first and leaves the cell charged.",
    "disposal_local": "Follow the rules of your place; ask the collection point about hurt packs before you travel.",
}
