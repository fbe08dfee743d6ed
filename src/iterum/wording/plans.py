"""What is said of a plan: why a batch starts when it does, what would end it sooner, what was left out."""

from collections.abc import Sequence

from iterum.core.say import Words, one_of, say, write_as
from iterum.wording.choosing import Many, Template, When

write_as(
    "settings",
    lambda batches: one_of(
        [say("{amps:plain} A for {packs:list}", amps=amps, packs=packs) for amps, packs in batches], "and"
    ),
)

RISKS = {
    "hands": Words("{packs:list}: set-up takes longer."),
    "minutes": Words("{packs:list}: charging takes longer."),
    "channel": Words("{packs:list}: the channel is still in use."),
    "board": Words("{packs:list}: the board is still in use."),
    "packs": Words("{packs:list}: the packs come back late."),
    "backs_off": Words("{packs:list}: the charger lowers its amps."),
    "link": Words("{packs:list}: the charge stops and nobody notices."),
}
"""What endangers a heat most often."""


def chance_words(met: int, of: int, packs: Sequence[str], cause: str | None) -> str:
    """How likely a heat is, and the main risk where there is more than a rare one.

    met : of the days tried, those on which it is met. of : days tried. packs : of the batch that is late.
    """
    chance = 100 * met / of
    if chance > 99:
        return say("more than 99 % likely")
    likely = say("{chance:.0f} % likely", chance=chance)
    if not cause or not packs:
        return likely
    return say(
        "{likely}; main risk: {risk}", likely=likely, risk=say(RISKS[cause], packs=tuple(packs)).removesuffix(".")
    )


PLAN_SENTENCES: dict[str, Template] = {
    # a plan
    "as_said": "{text}",  # of a plan of which only sentences were kept
    "replan_runs": "Runs, or is about to: left alone until {end_min}.",
    "replan_same": "Nothing changes.",
    # what made another day of a rehearsed one
    "turn_happened": "{what}.",
    "turn_done": "{what}.",
    "turn_act": "{packs:list}: {act}.",
    "turn_other": "Something was changed.",
    "turn_anew": "The plan was made again.",
    "turn_due": "{packs:list} should have begun, and had not.",
    "turn_time": "A charge takes other than planned.",
    "replan_new": "New: {packs:list} on {channel} from {start_min}.",
    "replan_moved": "Moved: {packs:list} to {channel} at {start_min}, was {was_channel} at {was_min}.",
    "replan_gone": "No longer as one batch: {packs:list}.",
    "starts_at_once": "Starts at once.",
    "waits_channel": "Waits for {channel}, free at {until_min}.",
    "waits_board": "Waits for {board}, free at {until_min}.",
    "waits_hands": Many(
        "packs",
        "Waits for you: {packs:list} is set up until {until_min}.",
        "Waits for you: {packs:list} are set up until {until_min}.",
    ),
    "waits_watts": "Waits for watts of {resource}, free at {until_min}.",
    "waits_order": "Starts here so that the whole ends no later.",
    "alone_only_one": "Alone: no other {family:family} is to be charged.",
    "alone_unfit": "Alone: its cells are too far apart for a board.",
    "alone_window_too_wide": "Alone: {spread_v:.3f|allowed_v} V from {nearest}, the nearest; allowed {allowed_v:.3f|spread_v}.",
    "alone_same_cell_apart": "Alone: cell {cell} is {gap_v:.2f|allowed_v} V from that of {nearest}, allowed {allowed_v:.2f|gap_v}.",
    "alone_capacities_differ": "Alone: {largest_mah:plain} and {smallest_mah:plain} mAh are too unlike beside {nearest}.",
    "alone_against": "Alone. {why}",
    "alone_later": When(
        lambda n: n["minutes"] > 0.5,
        "Alone: joined to others the whole would end {minutes:min} later.",
        "Alone: it could join others and lose no time, but so it needs no board.",
    ),
    "alone_ports_full": "Alone: the house rule lets {ports} share a board.",
    "alone_no_room": "Alone: no batch that it may join has a port left.",
    "alone_as_found": "Alone: the search found no sooner plan with it on a board.",
    "wider_channel": "One more channel like {like}: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_board": "One more board like {like}: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_rate": "2C where labels allow it: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_hands": "A second person: all done {saved_min:.0f} min sooner, at {end_min}.",
    "wider_watts": "Half as many watts again from the {of}: all done {saved_min:.0f} min sooner, at {end_min}.",
    "buys_channel": When(
        "whole",
        "One more channel like {like}: everything wanted is met.",
        When(
            "packs",
            "One more channel like {like}: {packs:plain} more charged.",
            "One more channel like {like}: late by {late_min:min} in all.",
        ),
    ),
    "buys_board": When(
        "whole",
        "One more board like {like}: everything wanted is met.",
        When(
            "packs",
            "One more board like {like}: {packs:plain} more charged.",
            "One more board like {like}: late by {late_min:min} in all.",
        ),
    ),
    "buys_rate": When(
        "whole",
        Many(
            "faster",
            "2C for one batch, where labels allow it: everything wanted is met.",
            "2C for {count} batches, where labels allow it: everything wanted is met.",
        ),
        When(
            "packs",
            Many(
                "faster",
                "2C for one batch, where labels allow it: {packs:plain} more charged.",
                "2C for {count} batches, where labels allow it: {packs:plain} more charged.",
            ),
            Many(
                "faster",
                "2C for one batch, where labels allow it: late by {late_min:min} in all.",
                "2C for {count} batches, where labels allow it: late by {late_min:min} in all.",
            ),
        ),
    ),
    "buys_hands": When(
        "whole",
        "A second person: everything wanted is met.",
        When(
            "packs",
            "A second person: {packs:plain} more charged.",
            "A second person: late by {late_min:min} in all.",
        ),
    ),
    "buys_watts": When(
        "whole",
        "Half as many watts again from the {of}: everything wanted is met.",
        When(
            "packs",
            "Half as many watts again from the {of}: {packs:plain} more charged.",
            "Half as many watts again from the {of}: late by {late_min:min} in all.",
        ),
    ),
    "buys_energy": When(
        "whole",
        "{wh:.0f} Wh more in {source}: everything wanted is met.",
        When(
            "packs",
            "{wh:.0f} Wh more in {source}: {packs:plain} more charged.",
            "{wh:.0f} Wh more in {source}: late by {late_min:min} in all.",
        ),
    ),
    "buys_time": When(
        "whole",
        "{minutes:min} more before each time: everything wanted is met.",
        When(
            "packs",
            "{minutes:min} more before each time: {packs:plain} more charged.",
            "{minutes:min} more before each time: late by {late_min:min} in all.",
        ),
    ),
    "heat_too_few": "There are not {count} {family:family}.",
    "wish_left_out": "Not {count} {family:family} will be full: see what is not planned.",
    "heat_too_soon": When(
        "could",
        "Only {could} of {count} can be full before it; all {count} not before {soonest_min}.",
        "No pack can be full before it; all {count} not before {soonest_min}.",
    ),
    "heat_no_channel": "No channel that is there charges {count} {family:family} for it.",
    "heat_unlikely": "By the plan its packs are full by then, but with usual delays that is only {chance:%} likely: do not count on it.",
    "heat_given_up": When(
        "others",
        "Given up for {others:and}: the bench cannot charge for all of them.",
        "The bench cannot have them all full by then.",
    ),
    "offer_faster": When(
        "batches",
        When(
            "loses",
            "{batches:settings}: {wins:and} met, {loses:and} lost; over the house rule of {rule_c:plain}C, within their labels.",
            "{batches:settings}: {wins:and} met; over the house rule of {rule_c:plain}C, within their labels.",
        ),
        When(
            "loses",
            "Charged faster: {wins:and} met, {loses:and} lost.",
            "Charged faster: {wins:and} met.",
        ),
    ),
    "offer_fewer": When(
        "loses",
        "Fly {count} of {of} in {heat}: {wins:and} met, {loses:and} lost.",
        "Fly {count} of {of} in {heat}: {wins:and} met.",
    ),
    "offer_later": When(
        "loses",
        "{heat} {minutes:min} later, by your word: {wins:and} met, {loses:and} lost.",
        "{heat} {minutes:min} later, by your word: {wins:and} met.",
    ),
    "offer_instead": When(
        "loses",
        "{heat} rather than {other}: {wins:and} met, {loses:and} lost.",
        "{heat} rather than {other}: {wins:and} met.",
    ),
    "offer_measure": When(
        "loses",
        "Measure {ids:list}: were they at {cell_v:.2f} V per cell as their class is: {wins:and} met, {loses:and} lost.",
        "Measure {ids:list}: were they at {cell_v:.2f} V per cell as their class is: {wins:and} met.",
    ),
    "offer_channel": When(
        "loses",
        "One channel more on {charger}: {wins:and} met, {loses:and} lost.",
        "One channel more on {charger}: {wins:and} met.",
    ),
    "offer_charger": When(
        "loses",
        "A second {charger}, fed by itself: {wins:and} met, {loses:and} lost.",
        "A second {charger}, fed by itself: {wins:and} met.",
    ),
    "offer_board": When(
        "loses",
        "One more board of {ports} ports: {wins:and} met, {loses:and} lost.",
        "One more board of {ports} ports: {wins:and} met.",
    ),
    "offer_supply": When(
        "loses",
        "A supply of twice the watts: {wins:and} met, {loses:and} lost.",
        "A supply of twice the watts: {wins:and} met.",
    ),
    "offer_energy": When(
        "loses",
        "{wh:.0f} Wh more in {source}: {wins:and} met, {loses:and} lost.",
        "{wh:.0f} Wh more in {source}: {wins:and} met.",
    ),
    # a part more, by itself
    "part_channel": "One channel more on {charger}",
    "part_charger": "A second {charger}, fed by itself",
    "part_board": "One more board of {ports} ports",
    "part_supply": "A supply of twice the watts",
    "part_energy": "{wh:.0f} Wh more in {source}",
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
    "no_energy": When(
        "source",
        "{source} has too little left: it takes {need_wh:.0f} Wh, {lack_wh:.0f} more than there is.",
        "No channel was free for it.",
    ),
    "no_channel_because": "No channel of the kit can charge it. {why}",
    "fix_no_channel_because": "Add a channel that takes its cells, or a source with the right volts.",
    "fix_no_channel": "Add a channel that takes its cells, or a source with the right volts.",
    "fix_not_wanted": "Leave it as it is, or ask for more of its class.",
    "fix_no_energy": "Charge it from another source, or take watt-hours from a class that flies later.",
}
