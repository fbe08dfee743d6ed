"""What is said of amps: where a group may be charged, every limit as its formula, what stands beside the number."""

from iterum.core.quantities import at_most
from iterum.wording.choosing import Many, Template, When

SIZING_SENTENCES: dict[str, Template] = {
    # where it is to be charged
    "nothing_to_charge_with": "No board and channel in the kit suits them.",
    "kit_of_other": "{thing} is {pilot}’s and is not lent to others: {id} is not charged with it.",
    "not_own_kit": "{thing} is everybody’s; by the rule of the table {id} is charged with {pilot}’s own kit.",
    "all_taken": "Every channel is used by a running batch.",
    "feed_busy": "{charger} charges {packs:list} now: it cannot be fed by something else.",
    "choice_empty": "No pack is named.",
    "choice_twice": "{ids:and} named twice; a pack has one plug.",
    "choice_amps": "{typed:g} A cannot be set: above 0, at most {most:plain} A.",
    "choice_rate": "{typed:g}C is no charge rate: above 0, at most {most:plain}C.",
    "choice_end": "A charge of these ends between {low_v:.2f} and {high_v:.2f} V per cell, not at {typed:g}.",
    "over_limit": "{current_a:.1f|limit_a} A is more than the limit of {limit_a:.1f|current_a} A. Bottleneck: {limit:limit} "
    "({why}).",
    "under_minimum": "{current_a:.1f|smallest_a} A is less than the smallest current of {channel}, {smallest_a:.1f|current_a} A.",
    "off_step": "{channel} is set in steps of {step_a:plain} A: {current_a:plain} A cannot be set, "
    "{below_a:plain} A can.",
    "energy_short": When(
        lambda n: 0 < n["enough_for"] < n["count"],
        When(
            "until_v",
            "{source} has {left_wh:.0f|need_wh} Wh left, this charge takes {need_wh:.0f|left_wh} Wh from it. It is enough "
            "for {enough_for} of the {count} packs or all up to {until_v:.2f} V per cell.",
            "{source} has {left_wh:.0f|need_wh} Wh left, this charge takes {need_wh:.0f|left_wh} Wh from it. It is enough "
            "for {enough_for} of the {count} packs.",
        ),
        When(
            "until_v",
            Many(
                "count",
                "{source} has {left_wh:.0f|need_wh} Wh left, this charge takes {need_wh:.0f|left_wh} Wh from it. It is "
                "enough for up to {until_v:.2f} V per cell.",
                "{source} has {left_wh:.0f|need_wh} Wh left, this charge takes {need_wh:.0f|left_wh} Wh from it. It is "
                "enough for all up to {until_v:.2f} V per cell.",
            ),
            "{source} has {left_wh:.0f|need_wh} Wh left, this charge takes {need_wh:.0f|left_wh} Wh from it. It is not "
            "enough for any charge.",
        ),
    ),
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
    "minimum_too_high": "{channel} charges with {smallest_a:plain} A or more, and the limit is {limit_a:.2f} A. Bottleneck: {limit:limit} "
    "({why}). Add packs to share it, or take another channel.",
    "minimum_dialled": "The smallest the channel can do is {smallest_a:.2f} A, more than the {wanted_a:.2f} A wanted "
    "and still within the labels.",
    # limits, as formulas
    "limit_wanted_amps": "Your own {current_a:plain} A",
    "limit_weak_pack": "{id} is weak or cold: {rate_c:plain}C × {total_ah:plain} Ah at most",
    "fixed_current": "{channel} always charges with {current_a:.2f} A: its current cannot be set.",
    "fixed_over_limit": "{channel} always charges with {current_a:plain} A, and the limit is {limit_a:.2f} A. Bottleneck: {limit:limit} "
    "({why}).",
    "amps_are_fixed": "{channel} always charges with {fixed_a:.2f} A; {current_a:.2f} A cannot be set.",
    "charge_too_long": "This charge would take {hours:.0f} hours; the limit is {limit_h:.0f} hours. All of it takes "
    "{need_wh:.0f} Wh.",
    "watts_at_one_voltage": When(
        lambda n: n["input_v"] is None,
        "The label of {charger} gives {power_w:plain} W at {at_v:plain} V only. Its input voltage is unknown, so half of "
        "that counts. Enter its watts at this voltage.",
        "The label of {charger} gives {power_w:plain} W at {at_v:plain} V only. It is fed with {input_v:plain} V, so half "
        "of that counts. Enter its watts at this voltage.",
    ),
    "own_rate": "No charge rate on the label of {ids:and}; {rate_c:plain}C is my decision.",
    "own_rate_refused": "{rate_c:plain}C without a charge rate on the label is not possible here.",
    "own_rate_lipo": "{id} is {chemistry}: more than its label is possible for LiPo only.",
    "choice_own_rate": "{typed:g}C cannot be your own decision: above 1C, at most {most:plain}C.",
    "limit_board_fuse": When(
        lambda n: at_most(1.0, n["part"]),
        "Fuse of {board} {fuse_a:plain} A",
        "Fuse of {board} {fuse_a:plain} A ÷ {part:.3f}",
    ),
    "limit_adapter": When(
        lambda n: at_most(1.0, n["part"]),
        "Adapter {of}'s {plug} on {board}'s {socket}: {adapter_a:plain} A",
        "Adapter {of}'s {plug} on {board}'s {socket}: {adapter_a:plain} A ÷ {part:.3f}",
    ),
    "limit_wanted_rate": "Wanted {rate_c:plain}C × {total_ah:plain} Ah",
    "limit_pack_charge_c": When(
        "labelled",
        "{id} takes {rate_c:plain}C by its label: {rate_c:plain}C × {total_ah:plain} Ah",
        "{id} takes {rate_c:plain}C with no charge C on its label: {rate_c:plain}C × {total_ah:plain} Ah",
    ),
    "limit_board_current": When(
        lambda n: at_most(1.0, n["part"]),
        "Lead and plug of {board} {max_a:plain} A",
        "Lead and plug of {board} {max_a:plain} A ÷ {part:.3f}",
    ),
    "limit_port_fuse": "Fuse {fuse_a:plain} A ÷ {part:.3f}, the share of {id}",
    "limit_channel_current": "{channel} by its label",
    "limit_channel_power": When(
        "others_w",
        "Channel {power_w:plain} W less {others_w:plain} W in use ÷ {volts:plain} V",
        "Channel {power_w:plain} W ÷ {volts:plain} V",
    ),
    "limit_charger_power": When(
        "others_w",
        "Charger {power_w:plain} W in all less {others_w:plain} W in use ÷ {volts:plain} V",
        "Charger {power_w:plain} W in all ÷ {volts:plain} V",
    ),
    "limit_charger_input": When(
        "on_mains",
        When(
            "half",
            When(
                "others_w",
                "{power_w:plain} W, half its label, on mains less {others_w:plain} W in use ÷ {volts:plain} V",
                "{power_w:plain} W, half its label, on mains ÷ {volts:plain} V",
            ),
            When(
                "others_w",
                "{power_w:plain} W on mains less {others_w:plain} W in use ÷ {volts:plain} V",
                "{power_w:plain} W on mains ÷ {volts:plain} V",
            ),
        ),
        When(
            "input_v",
            When(
                "half",
                When(
                    "others_w",
                    "{power_w:plain} W, half its label, at {input_v:plain} V input less {others_w:plain} W in use ÷ {volts:plain} V",
                    "{power_w:plain} W, half its label, at {input_v:plain} V input ÷ {volts:plain} V",
                ),
                When(
                    "others_w",
                    "{power_w:plain} W at {input_v:plain} V input less {others_w:plain} W in use ÷ {volts:plain} V",
                    "{power_w:plain} W at {input_v:plain} V input ÷ {volts:plain} V",
                ),
            ),
            When(
                "half",
                When(
                    "others_w",
                    "{power_w:plain} W, half its label, at input volts not known less {others_w:plain} W in use ÷ {volts:plain} V",
                    "{power_w:plain} W, half its label, at input volts not known ÷ {volts:plain} V",
                ),
                When(
                    "others_w",
                    "{power_w:plain} W at input volts not known less {others_w:plain} W in use ÷ {volts:plain} V",
                    "{power_w:plain} W at input volts not known ÷ {volts:plain} V",
                ),
            ),
        ),
    ),
    "limit_supply_power": When(
        "half",
        When(
            "others_w",
            "{supply} {output_w:plain} W ÷ 2, a small wall adapter, × {efficiency:plain} = {power_w:plain} W less {others_w:plain} W in use ÷ {volts:plain} V",
            "{supply} {output_w:plain} W ÷ 2, a small wall adapter, × {efficiency:plain} = {power_w:plain} W ÷ {volts:plain} V",
        ),
        When(
            "others_w",
            "{supply} {output_w:plain} W × {efficiency:plain} = {power_w:plain} W less {others_w:plain} W in use ÷ {volts:plain} V",
            "{supply} {output_w:plain} W × {efficiency:plain} = {power_w:plain} W ÷ {volts:plain} V",
        ),
    ),
    "limit_source_power": When(
        "others_w",
        "Source {source_w:plain} W × {efficiency:plain} = {power_w:plain} W less {others_w:plain} W in use ÷ {volts:plain} V",
        "Source {source_w:plain} W × {efficiency:plain} = {power_w:plain} W ÷ {volts:plain} V",
    ),
    # beside the number
    "above_2c": "{rate_c:.1f}C: above 2C only because the label says so, and not daily. It costs packs life.",
    "no_label_c": "No charge C on the label of {ids:and}: 1C is the most.",
    "backs_off": "Amps are sized at {size_at} volts: expect the charger to back off before the end.",
    "lihv_label": "LiHV ends at 4.35 V per cell. On a LiPo that is a fire: check every label on this board.",
}
