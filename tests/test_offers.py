"""Nothing is offered that may not be done: every offer of every view and command on random benches, judged by an
independent check of the file, and taken as it stands."""

import json
from dataclasses import replace

import pytest

from iterum.core.electrical.joining import joining
from iterum.core.groups.group import obstacles
from iterum.core.groups.matching import raised
from iterum.core.permit.facts import Level
from iterum.core.permit.permit import permits
from iterum.core.planning.planner import Planner
from iterum.core.reasons import Unsafe
from iterum.core.season.storage import Way, plan_storage
from iterum.core.season.upkeep import upkeep
from iterum.core.sizing.arrange import answer, choice_of, match, place_groups
from iterum.core.sizing.size import charge, size
from iterum.core.things.choice import Choice
from iterum.core.things.rules import HouseRules
from iterum.exchange.session import from_document, to_document
from iterum.wording import about, sentence
from tests.benches import breaches, random_bench
from tests.conftest import SOAK, even

SEEDS = 100 * SOAK
BLOCKS = 4


def offers(session):
    """(where it is offered, the sizing) of everything that may be begun."""
    bench = session.bench
    matching = match(bench)
    for placed in place_groups(matching.groups, bench):
        if placed.offered:
            yield "match and charge", placed.sizing
    for left in matching.left_out:
        choice = choice_of(left)
        if choice is not None and left.fix.code != "fix_nowhere":
            _, sizing, refusal = answer(bench, choice)
            assert refusal is None, (left.fix.code, [item.code for item in refusal.reasons])
            yield left.fix.code, sizing
    for one in bench.packs:
        _, sizing, _ = answer(bench, Choice((one.id,)))
        if sizing is not None:
            yield "one pack", sizing
    for item in plan_storage(bench).batches:
        if item.way is Way.UP and item.batch.start_min < 1:
            yield "put away", size(bench, item.choice)
        elif item.batch.start_min < 1:  # what is to come down or be balanced can be begun as well, and takes as long
            down = upkeep(bench, item.kind, item.choice)
            assert down.current_a == item.batch.current_a
            assert down.minutes == pytest.approx(item.batch.full_min - item.batch.lead_min, rel=1e-4)
    planned = Planner(session).plan()
    for batch in planned.batches:
        if batch.start_min < 1e-6:
            choice = Choice(batch.packs, batch.board, batch.channel, current_a=batch.current_a)
            sizing = size(bench, choice)
            yield "plan", sizing
            assert (batch.full_min - batch.lead_min, batch.energy_in_wh) == pytest.approx(
                (sizing.charge.minutes, sizing.charge.energy_in_high_wh), rel=1e-4
            )


@pytest.mark.parametrize("block", range(BLOCKS))
def test_every_offer_obeys_every_limit_and_can_be_begun_as_it_stands(block):
    kinds = set()
    for seed in range(block * SEEDS // BLOCKS, (block + 1) * SEEDS // BLOCKS):
        session = random_bench(seed)
        document = json.loads(json.dumps(to_document(session)))
        assert from_document(document) == session
        for where, sizing in offers(session):
            choice = sizing.settled
            assert breaches(document, choice, sizing.current_a, sizing.charge.energy_in_high_wh, choice.end_v) == [], (
                seed,
                where,
            )
            again = size(session.bench, choice)
            assert again.dial == sizing.dial, (seed, where)
            judged = charge(session.bench, choice)
            assert judged.level is not Level.STOP or not sizing.joining.passes, (seed, where)
            assert judged.charge.minutes == sizing.minutes
            kinds.add(where)
    assert kinds >= {"match and charge", "one pack", "put away", "plan"}


@pytest.mark.parametrize("block", range(BLOCKS))
def test_every_fix_that_is_told_mends_all_that_is_in_the_way(block):
    told = 0
    for seed in range(block * 25 * SOAK, (block + 1) * 25 * SOAK):
        session = random_bench(seed, 12)
        bench = session.bench
        matching = match(bench)
        for left in matching.left_out:
            assert sentence(left.reason)
            assert about(left.fix)
            if left.lift is None:
                continue
            told += 1
            until_v = left.lift.until_v
            lifted = [raised(one, until_v) for one in left.lift.packs]
            others = [one for one in bench.members(left.fix.numbers["others"]) if one not in left.lift.packs]
            alone = [left.pack] if left.pack not in left.lift.packs else []
            ports = bench.kit.ports_for(left.pack.cells)
            assert obstacles([*lifted, *others, *alone], session.rules, ports) == (), (seed, left.pack.id)
            assert all(one.cell_v < until_v for one in left.lift.packs[:1])
            _, sizing, _ = answer(bench, choice_of(left))
            assert sizing.current_a == left.fix.numbers["current_a"]
            assert sizing.minutes == pytest.approx(left.fix.numbers["minutes"], rel=0.15, abs=2)
    assert told > 2


@pytest.mark.parametrize("gap_v", [0.05, 0.08, 0.095])
@pytest.mark.parametrize("count", [3, 6, 9])
def test_every_way_out_of_a_group_that_is_not_joined_leads_out(gap_v, count):
    rules = HouseRules()
    packs = [even(f"P{n}", 3.75, discharge_c=75) for n in range(count)] + [even("H", 3.75 + gap_v, discharge_c=75)]
    verdict = joining(packs, rules)
    by_id = {one.id: one for one in packs}
    if verdict.passes:
        assert verdict.ways == ()
        return
    assert verdict.ways
    for way in verdict.ways:
        ids = way.numbers["ids"]
        if way.code == "way_smaller_group":
            assert joining([one for one in packs if one.id not in ids], rules).passes
        elif way.code == "way_charge_low_first":
            assert joining(
                [raised(one, way.numbers["until_v"]) if one.id in ids else one for one in packs], rules
            ).passes
        else:
            assert way.code == "way_even_first"
            assert set(ids) < set(by_id)


def test_what_is_weak_over_full_or_in_doubt_is_offered_by_nobody():
    """The same verdict on every road: check, card, charge, plan, put away."""
    refused = 0
    for seed in range(25 * SOAK):
        session = random_bench(seed)
        bench = session.bench
        stopped = {tag for tag, verdict in permits(bench).items() if not verdict.charges}
        refused += len(stopped)
        offered = {tag for batch in Planner(session).plan().batches for tag in batch.packs}
        offered |= {tag for item in plan_storage(bench).batches if item.way is Way.UP for tag in item.batch.packs}
        assert not offered & stopped, seed
        for tag in stopped:
            with pytest.raises(Unsafe):
                size(replace(bench, running=()), Choice((tag,), None, session.kit.chargers[0].channels[0].id))
    assert refused > 20
