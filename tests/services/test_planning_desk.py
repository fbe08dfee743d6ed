"""A newer search takes the place of one that runs."""

from dataclasses import replace
from datetime import UTC, datetime

from iterum.core.planning.score import Prefer
from iterum.demo import demo_session
from iterum.services.planning import PlanDesk, PlanJob, make_plan


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


def test_a_plan_says_whether_its_search_had_too_little_time():
    few = replace(demo_session(), packs=demo_session().packs[:3], wanted=())
    assert make_plan(replace(demo_session(), wanted=()), Prefer.SOONEST, 0.0).record.hurried
    assert not make_plan(few, Prefer.SOONEST, 2.0).record.hurried
    assert not make_plan(few, Prefer.SOONEST, 2.0, stopped=lambda: True).record.hurried  # somebody was content
