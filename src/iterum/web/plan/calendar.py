"""What is to be done at the bench from now on, as a calendar: only times and tags, for a calendar lies about."""

from datetime import timedelta

from iterum.core.planning.record import KeptPlan
from iterum.core.say import say
from iterum.core.season.run import LIVE
from iterum.core.season.watching import next_check_min
from iterum.exchange.visits import Visit, visits_calendar
from iterum.web.context import desk, now, runs
from iterum.web.pictures.day_strip import visits


def bench_calendar() -> bytes:
    """The visits of the plan that are still to come, when its batches are full, and the hand checks that are due."""
    kept = desk().latest_plan()
    events = [*(_of_plan(kept) if kept is not None else []), *_checks()]
    return visits_calendar([visit for visit in events if visit.at > now()], now().replace(microsecond=0))


def _of_plan(kept: KeptPlan) -> list[Visit]:
    batches = kept.plan.batches
    events = []
    for start, end, numbers in visits(batches):
        tags = "; ".join(", ".join(batches[number].packs) for number in numbers)
        events.append(Visit(kept.moment(start), say("Plug in {tags}", tags=tags), end - start))
    events += [Visit(kept.moment(batch.end_min), say("Take off {packs:list}", packs=batch.packs)) for batch in batches]
    return events


def _checks() -> list[Visit]:
    events = []
    for run in runs().open():
        if run.state in LIVE and run.charging_at is not None:
            look = runs().look(run.key, now())
            due_min = next_check_min([item.seen for item in look.seen]) + run.paused_min
            events.append(
                Visit(run.charging_at + timedelta(minutes=due_min), say("Touch {packs:list}", packs=run.packs))
            )
    return events
