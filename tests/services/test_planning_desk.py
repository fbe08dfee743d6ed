"""A newer search takes the place of one that runs."""

from datetime import UTC, datetime

from iterum.core.planning.score import Prefer
from iterum.demo import demo_session
from iterum.services.planning import PlanDesk, PlanJob


def test_a_search_whose_place_is_taken_keeps_nothing_however_late_it_ends():
    kept, desk = [], PlanDesk()
    old, new = (
        PlanJob(demo_session(), (Prefer.SOONEST,), seconds, datetime(2026, 6, 13, tzinfo=UTC), name, None,
                lambda plan: kept.append(plan.revision))
        for name, seconds in (("old", 5.0), ("new", 0.5))
    )  # fmt: skip
    desk.begin(old)
    desk.begin(new)
    for job in (old, new):
        job.wait(30)
    assert kept == ["new"]
