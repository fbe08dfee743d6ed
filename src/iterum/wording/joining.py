"""What is said of packs that are to share a board, and of what flows between them."""

from iterum.wording.choosing import Template, When

JOINING_SENTENCES: dict[str, Template] = {
    # two packs and more
    "families_differ": "{families:classes} never share a board.",
    "window_too_wide": When(
        lambda n: n["per"] == "cell",
        "{low} and {high} are {spread_v:.3f|allowed_v} V per cell apart, allowed {allowed_v:.3f|spread_v}.",
        "{low} and {high} are {spread_v:.3f|allowed_v} V over the pack apart, allowed {allowed_v:.3f|spread_v}.",
    ),
    "same_cell_apart": "Cell {cell} is {gap_v:.2f|allowed_v} V apart between two packs, allowed {allowed_v:.2f|gap_v}.",
    "temperatures_differ": "Packs at {coldest_c:deg} and {warmest_c:deg}; the most is {limit_c:apart} apart.",
    "capacities_differ": "{largest_mah:plain} mAh is {ratio:plain} times {smallest_mah:plain} mAh, allowed {allowed_ratio:plain} times.",
    "pilots_differ": "{ids:and} belong to different pilots. Their packs share a board only if both pilots say so.",
    "ports_full": "{count} packs, and room for {ports}.",
    "no_board": "No board takes {cells} cells.",
    "only_one": "The only {family:family} to charge.",
    "no_port_left": "It would fit with {nearest}, but all {ports} ports there are taken.",
    "taken_out": "You took it out.",
    "others_gone": "The others of its group were moved away.",
    # joining, and what flows
    "join_fine": "Plugged in one after another, no pack takes more than {rate_c:.1f}C.",
    "join_peak": "When {id} is plugged in, {other} takes {rate_c:.1f|limit_c}C; the limit is {limit_c:.1f|rate_c}C.",
    "join_out": "When {id} is plugged in, {other} gives {rate_c:.1f|limit_c}C; its discharge limit is {limit_c:.1f|rate_c}C.",
    "join_fuse": "When {id} is plugged in, {current_a:.1f|fuse_a} A flow through a port; its fuse is {fuse_a:.1f|current_a} A.",
    "join_long": "When {id} is plugged in, {other} takes more than its charge limit of {charge_c:plain}C for {over_s:.0f} s; "
    "the limit is {limit_s:.0f} s.",
    "join_above_charge_c": "{id} takes up to {rate_c:.1f}C; that is above its {charge_c:.1f}C charge limit for {over_s:.0f} s.",
    "charge_fine": "No pack passes its charge C.",
    "charge_above_c": When(
        lambda n: f"{n['likely_c']:.2f}" == f"{n['rate_c']:.2f}",
        "{id} takes {rate_c:.2f}C; its charge limit is {charge_c:plain}C, and it may be above that for {over_s:.0f} s.",
        "{id} takes {likely_c:.2f} to {rate_c:.2f}C; its charge limit is {charge_c:plain}C, and it may be above that for "
        "{over_s:.0f} s.",
    ),
    "charge_may_pass_c": (
        "{id} most likely stays within its charge limit of {charge_c:.1f}C; packs differ, so it may see {rate_c:.2f}C."
    ),
    "rests_on_measured": "Rests on measured milliohms.",
    "rests_on_label": "Rests on the label's C ({kind}), which is advertising and no measurement: {source}.",
    "rests_on_default": "Rests on a default for {kind}, nothing was measured: {source}.",
    "rests_on_no_label": "No discharge C and no milliohms are known. Iterum assumes a low resistance, the safe side for joining ({source}).",
    "balance_first_allowed": "Balance leads first: at most {current_a:.1f} A through a balance wire, allowed {limit_a:.0f}.",
    "balance_first_refused": "Balance leads first would push {current_a:.1f} A through a balance wire, allowed "
    "{limit_a:.0f}: main leads first for this group.",
    "way_smaller_group": "Leave {ids:and} for another batch; the rest may be joined now.",
    "way_even_first": "Join {ids:and} by themselves first and let them equalise for {minutes:min}; the others likewise; then all "
    "together.",
    "way_other_order": "Plug them in in this order: {ids:list}.",
    "way_charge_low_first": "Charge {ids:and} first, up to {until_v:.2f} V per cell; then all may be joined.",
}
