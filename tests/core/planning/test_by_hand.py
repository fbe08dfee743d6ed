"""A batch moved by hand: taken where every rule allows it, refused with each rule it would break."""

import json
import random
from itertools import islice

import pytest

from iterum.core.planning.by_hand import move, with_batch
from iterum.core.planning.plan import outcomes, source_uses, visits_in
from iterum.core.planning.planner import Planner
from iterum.core.planning.problem import Problem
from iterum.core.planning.record import record_of
from iterum.core.reasons import Unsafe
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.exchange.plan_result import plan_document
from iterum.exchange.session import to_document
from tests.conftest import SOAK, even
from tests.core.planning.checker import violations
from tests.core.planning.test_plans import random_session


def planned(session):
    planner = Planner(session)
    list(islice(planner.improve(), 2))
    return planner.plan()


@pytest.mark.parametrize("block", range(4))
def test_whatever_is_taken_breaks_no_rule(block):
    assert sum(moved_about(seed) for seed in range(block, 8 * SOAK + 8, 4)) > 2


def moved_about(seed):
    """Moves of one random session that were taken, each leaving a plan that passes the independent check."""
    rng, session = random.Random(seed), random_session(seed)
    plan = planned(session)
    batches, record = plan.batches, record_of(plan)
    channels = [channel.id for _, channel in session.kit.channels()]
    taken = 0
    for _ in range(12 if batches else 0):
        number = rng.randrange(len(batches))
        try:
            batch = move(
                session, batches, number, rng.choice(channels), batches[number].start_min + rng.choice((-9, 0, 4, 30))
            )
        except Unsafe:
            continue
        taken += 1
        batches = with_batch(batches, number, batch)
        wanted, sources = outcomes(Problem(session), batches, session.wanted), source_uses(session.kit, batches)
        record = record.by_hand(batches, [()] * len(batches), wanted, sources, visits_in(batches))
        assert violations(to_document(session), json.loads(json.dumps(plan_document(record)))) == []
    return taken


KIT = Kit(
    (Board("B", 2),),
    (Charger("c", (Channel("c-1", 12, 250), Channel("c-2", 12, 250)), "bank", total_power_w=100),),
    sources=(Source("bank", 12.8, energy_wh=400),),
)
SESSION = Session(tuple(even(f"P{n}", 3.75, max_charge_c=2) for n in range(4)), KIT, HouseRules(rate_c=1.0))


def refused(number, channel, start_min, now_min=0.0, session=SESSION):
    with pytest.raises(Unsafe) as caught:
        move(session, PLAN.batches, number, channel, start_min, now_min)
    return {item.code for item in caught.value.reasons}


PLAN = planned(SESSION)


def test_each_rule_in_the_way_is_named():
    first, second = PLAN.batches[0], PLAN.batches[1]
    assert refused(0, first.channel, -1) == {"move_past"}
    assert refused(0, "gone", 1) == {"move_no_channel"}
    assert refused(0, first.channel, 1, now_min=30) == {"move_begun"}
    other = Session(SESSION.packs[1:], KIT, SESSION.rules)
    tag = next(n for n, batch in enumerate(PLAN.batches) if "P0" in batch.packs)
    assert refused(tag, first.channel, 1, session=other) == {"move_begun"}
    codes = refused(1, first.channel, first.start_min + 1)
    assert "move_channel" in codes
    assert "move_hands" in codes
    assert second.start_min >= first.lead_min


def test_watts_and_energy_in_the_way_are_named():
    small = Kit(KIT.boards, KIT.chargers, sources=(Source("bank", 12.8, energy_wh=10),))
    assert "move_energy" in refused(
        0, PLAN.batches[0].channel, 400, session=Session(SESSION.packs, small, SESSION.rules)
    )
    busy = [batch for batch in PLAN.batches if batch.power_w > 50]
    if busy:
        number = PLAN.batches.index(busy[0])
        others = [batch for batch in PLAN.batches if batch is not busy[0] and batch.power_w > 50]
        assert all(
            "move_watts" in refused(number, busy[0].channel, item.start_min + 5) or item.channel == busy[0].channel
            for item in others
        )
