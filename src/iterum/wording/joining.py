"""What is said of packs that are to share a board, and of what flows between them."""

from collections.abc import Callable

from iterum.wording.figures import Numbers, apart, family_label, minutes, one_of, plain, span


def _window_too_wide(numbers: Numbers) -> str:
    where = "V per cell" if numbers["per"] == "cell" else "V over the pack"
    spread, allowed = apart(numbers["spread_v"], numbers["allowed_v"], 3)
    return f"{numbers['low']} and {numbers['high']} are {spread} {where} apart, allowed {allowed}."


def _same_cell(numbers: Numbers) -> str:
    gap, allowed = apart(numbers["gap_v"], numbers["allowed_v"])
    return f"Cell {numbers['cell']} is {gap} V apart between two packs, allowed {allowed}."


def _whose(tag: str, pilot: str) -> str:
    return f"{tag} is {pilot}’s" if pilot else f"{tag} has no pilot"


JOINING_SENTENCES: dict[str, str | Callable[[Numbers], str]] = {
    # two packs and more
    "families_differ": lambda n: (
        f"{one_of([family_label(family) for family in n['families']], 'and')} never share a board."
    ),
    "window_too_wide": _window_too_wide,
    "same_cell_apart": _same_cell,
    "temperatures_differ": "Packs at {coldest_c:deg} and {warmest_c:deg}; the most is {limit_c:apart} apart.",
    "capacities_differ": lambda n: (
        f"{plain(n['largest_mah'])} mAh is {plain(n['ratio'])} times {plain(n['smallest_mah'])} mAh, "
        f"allowed {plain(n['allowed_ratio'])} times."
    ),
    "pilots_differ": lambda n: (
        f"{_whose(n['ids'][0], n['pilots'][0])}, {_whose(n['ids'][1], n['pilots'][1])}: packs of two pilots share a "
        "board only where both said so."
    ),
    "ports_full": "{count} packs, and room for {ports}.",
    "no_board": "No board takes {cells} cells.",
    "only_one": lambda n: f"The only {family_label(n['family'])} to charge.",
    "no_port_left": "It would fit with {nearest}, but all {ports} ports there are taken.",
    "taken_out": "You took it out.",
    "others_gone": "The others of its group were moved away.",
    # joining, and what flows
    "join_fine": "Plugged in one after another, no pack takes more than {rate_c:.1f}C.",
    "join_peak": lambda n: "When {} is plugged in, {} takes {}C; the limit is {}C.".format(
        n["id"], n["other"], *apart(n["rate_c"], n["limit_c"], 1)
    ),
    "join_out": lambda n: "When {} is plugged in, {} gives {}C; its discharge limit is {}C.".format(
        n["id"], n["other"], *apart(n["rate_c"], n["limit_c"], 1)
    ),
    "join_fuse": lambda n: "When {} is plugged in, {} A flow through a port; its fuse is {} A.".format(
        n["id"], *apart(n["current_a"], n["fuse_a"], 1)
    ),
    "join_long": lambda n: (
        f"When {n['id']} is plugged in, {n['other']} takes more than its charge limit of {plain(n['charge_c'])}C for "
        f"{n['over_s']:.0f} s; the limit is {n['limit_s']:.0f} s."
    ),
    "join_above_charge_c": "{id} takes up to {rate_c:.1f}C; that is above its {charge_c:.1f}C charge limit for {over_s:.0f} s.",
    "charge_fine": "No pack passes its charge C.",
    "charge_above_c": lambda n: (
        f"{n['id']} takes {span(n['likely_c'], n['rate_c'], 2)}C; its charge limit is {plain(n['charge_c'])}C, and it may be above that for "
        f"{n['over_s']:.0f} s."
    ),
    "charge_may_pass_c": (
        "{id} most likely stays within its charge limit of {charge_c:.1f}C; packs differ, so it may see {rate_c:.2f}C."
    ),
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
        f"Join {one_of(n['ids'], 'and')} by themselves first and let them equalise for {minutes(n['minutes'])}; "
        "the others likewise; then all together."
    ),
    "way_other_order": lambda n: f"Plug them in in this order: {', '.join(n['ids'])}.",
    "way_charge_low_first": lambda n: (
        f"Charge {one_of(n['ids'], 'and')} first, up to {n['until_v']:.2f} V per cell; then all may be joined."
    ),
}
