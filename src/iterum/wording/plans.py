"""What is said of a plan: why a batch starts when it does, what would end it sooner, what was left out."""

from collections.abc import Callable, Sequence

from iterum.wording.figures import Numbers, apart, family_label, minutes, plain


def _batches(count: int) -> str:
    return "one batch" if count == 1 else f"{count} batches"


def _buys(what: str, numbers: Numbers) -> str:
    """What one step more would give back of what is given up."""
    if numbers["whole"]:
        return f"{what}: everything wanted is met."
    packs = numbers["packs"]
    gained = f"{plain(packs)} more charged" if packs else f"late by {minutes(numbers['late_min'])} in all"
    return f"{what}: {gained}."


def _heats(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _wins(what: str, numbers: Numbers, costs: str = "") -> str:
    """An offer: what it is, what it wins, what it costs."""
    lost = f", {_heats(numbers['loses'])} lost" if numbers["loses"] else ""
    return f"{what}: {_heats(numbers['wins'])} met{lost}{costs}."


def _faster(numbers: Numbers) -> str:
    dialled = [f"{plain(round(amps, 2))} A for {', '.join(packs)}" for amps, packs in numbers["batches"]]
    over = f"; over the house rule of {plain(numbers['rule_c'])}C, within their labels"
    return _wins(_heats(dialled), numbers, over) if dialled else _wins("Charged faster", numbers)


_CAUSES = {
    "hands": "its set-up takes longer", "minutes": "it takes longer to fill", "channel": "its channel is still taken",
    "board": "its board is still taken", "packs": "its packs come back late", "backs_off": "its charger backs off",
    "link": "its charge stands still unnoticed",
}  # fmt: skip


def odds_words(met: int, of: int, packs: Sequence[str], cause: str | None) -> str:
    """The odds of a heat, and what breaks it most often, where that is more than a rare chance."""
    if 100 * met > 99 * of:
        return "Met in all of 100 tries" if met == of else "Met in more than 99 of 100 tries"
    whole = f"Met in {round(100 * met / of)} of 100 tries"
    return f"{whole}; what breaks it: {', '.join(packs)}, {_CAUSES[cause]}" if cause and packs else whole


def _too_soon(numbers: Numbers) -> str:
    ready = "No pack" if not numbers["could"] else f"Only {numbers['could']} of {numbers['count']}"
    return f"{ready} can be full before it; all {numbers['count']} not before {numbers['soonest_min']}."


PLAN_SENTENCES: dict[str, str | Callable[[Numbers], str]] = {
    # a plan
    "as_said": "{text}",  # of a plan of which only sentences were kept
    "replan_runs": "Runs, or is about to: left alone until {end_min}.",
    "replan_same": "Nothing changes.",
    # what made another day of a rehearsed one
    "turn_happened": "{what}.",
    "turn_done": "{what}.",
    "turn_act": lambda n: f"{', '.join(n['packs'])}: {n['act']}.",
    "turn_other": "Something was changed.",
    "turn_anew": "The plan was made anew.",
    "turn_due": lambda n: f"{', '.join(n['packs'])} should have begun, and had not.",
    "turn_time": "A charge takes other than planned.",
    "replan_new": lambda n: f"New: {', '.join(n['packs'])} on {n['channel']} from {n['start_min']}.",
    "replan_moved": lambda n: (
        f"Moved: {', '.join(n['packs'])} to {n['channel']} at {n['start_min']}, "
        f"was {n['was_channel']} at {n['was_min']}."
    ),
    "replan_gone": lambda n: f"No longer as one batch: {', '.join(n['packs'])}.",
    "starts_at_once": "Starts at once.",
    "waits_channel": lambda n: f"Waits for {n['channel']}, free at {n['until_min']}.",
    "waits_board": lambda n: f"Waits for {n['board']}, free at {n['until_min']}.",
    "waits_hands": lambda n: (
        f"Waits for your hands: {', '.join(n['packs'])} {'is' if len(n['packs']) == 1 else 'are'} set up until {n['until_min']}."
    ),
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
    "alone_against": "Alone. {why}",
    "alone_later": lambda n: (
        f"Alone: joined to others the whole would end {minutes(n['minutes'])} later."
        if n["minutes"] > 0.5
        else "Alone, though it could join others at no loss of time: it needs no board so."
    ),
    "alone_ports_full": lambda n: f"Alone: the house rule lets {n['ports']} share a board.",
    "alone_no_room": "Alone: no batch that it may join has a port left.",
    "alone_as_found": "Alone: the search found no sooner plan with it on a board.",
    "wider_channel": "One more channel like {like}: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_board": "One more board like {like}: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_rate": "2C where labels allow it: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_hands": "A second pair of hands: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_watts": "Half as many watts again from the {of}: all done {saved_min:.0f} min sooner, at {end_min}.",
    "buys_channel": lambda n: _buys(f"One more channel like {n['like']}", n),
    "buys_board": lambda n: _buys(f"One more board like {n['like']}", n),
    "buys_rate": lambda n: _buys(f"2C for {_batches(n['faster'])}, where labels allow it", n),
    "buys_hands": lambda n: _buys("A second pair of hands", n),
    "buys_watts": lambda n: _buys(f"Half as many watts again from the {n['of']}", n),
    "buys_energy": lambda n: _buys(f"{n['wh']:.0f} Wh more in {n['source']}", n),
    "buys_time": lambda n: _buys(f"{minutes(n['minutes'])} more before each time", n),
    "heat_too_few": lambda n: f"There are not {n['count']} {family_label(n['family'])}.",
    "wish_left_out": lambda n: f"Not {n['count']} {family_label(n['family'])} will be full: see what is left out.",
    "heat_too_soon": _too_soon,
    "heat_no_channel": lambda n: f"No channel that is there charges {n['count']} {family_label(n['family'])} for it.",
    "heat_unlikely": lambda n: (
        f"By the plan its packs are full by then, but on a usual day that holds in {round(100 * n['met'] / n['of'])} of"
        " 100 tries: do not count on it."
    ),
    "heat_given_up": lambda n: (
        f"Given up for {_heats(n['others'])}: the bench cannot charge for all of them."
        if n["others"]
        else "The bench cannot have them all full by then."
    ),
    "offer_faster": _faster,
    "offer_fewer": lambda n: _wins(f"Fly {n['count']} of {n['of']} in {n['heat']}", n),
    "offer_later": lambda n: _wins(f"{n['heat']} {minutes(n['minutes'])} later, by your word", n),
    "offer_instead": lambda n: _wins(f"{n['heat']} rather than {n['other']}", n),
    "offer_measure": lambda n: _wins(
        f"Measure {', '.join(n['ids'])}: were they at {n['cell_v']:.2f} V per cell as their class is", n
    ),
    "offer_channel": lambda n: _wins(f"One channel more on {n['charger']}", n),
    "offer_charger": lambda n: _wins(f"A second {n['charger']}, fed by itself", n),
    "offer_board": lambda n: _wins(f"One more board of {n['ports']} ports", n),
    "offer_supply": lambda n: _wins("A supply of twice the watts", n),
    "offer_energy": lambda n: _wins(f"{n['wh']:.0f} Wh more in {n['source']}", n),
    # a part more, by itself
    "part_channel": "One channel more on {charger}",
    "part_charger": "A second {charger}, fed by itself",
    "part_board": "One more board of {ports} ports",
    "part_supply": "A supply of twice the watts",
    "part_energy": lambda n: f"{n['wh']:.0f} Wh more in {n['source']}",
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
    "no_channel_because": "No channel of the kit can charge it. {why}",
    "fix_no_channel_because": "Add a channel that takes its cells, or a source with the right volts.",
    "fix_no_channel": "Add a channel that takes its cells, or a source with the right volts.",
    "fix_not_wanted": "Leave it as it is, or ask for more of its class.",
    "fix_no_energy": "Charge it from another source, or take watt-hours from a class that flies later.",
}
