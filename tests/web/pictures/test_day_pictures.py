"""The box, the ladder to storage and the chain: everything once, in its place, and nothing outside the picture."""

import re
from dataclasses import replace
from datetime import timedelta
from itertools import pairwise

import pytest

from iterum.core.permit.permit import Way, permits
from iterum.core.planning.planner import Planner
from iterum.core.season.agenda import Do, ToDo
from iterum.core.season.box import Standing
from iterum.core.season.storage import plan_storage
from iterum.core.things.chain import trees
from iterum.core.things.volts import THERE_V
from iterum.web.packs.views import box
from iterum.web.pictures import chain
from iterum.web.put_away.views import HEIGHT, ladder
from tests.benches import random_bench
from tests.conftest import NOON


@pytest.mark.parametrize("seed", range(12))
def test_every_pack_stands_once_in_the_box(seed):
    session = random_bench(seed)
    shown = box(session, (), (), {})
    tags = [case.tag for shelf in shown.shelves for group in shelf.groups for case in group.cases]
    assert sorted(tags) == sorted(pack.id for pack in session.packs)
    assert sum(count for _, _, count in shown.counts) == len(tags)
    for shelf in shown.shelves:
        places = [list(Standing).index(group.standing) for group in shelf.groups]
        assert places == sorted(places)  # what is urgent first
    verdicts = permits(session.bench)
    for shelf in shown.shelves:
        for group in shelf.groups:
            may_charge = [verdicts[case.tag].charges for case in group.cases]
            assert all(may_charge) or group.standing in (Standing.APART, Standing.MEASURE, Standing.FULL)
    only = box(session, (), (), {}, shown.counts[0][0])
    assert sum(len(group.cases) for shelf in only.shelves for group in shelf.groups) == shown.counts[0][2]


@pytest.mark.parametrize("seed", range(12))
def test_every_batch_of_tonight_has_its_column_and_its_arrows_point_to_the_line(seed):
    plan = plan_storage(random_bench(seed).bench)
    pic = ladder(plan, {}, THERE_V, NOON)
    if pic is None:
        assert plan.batches == ()
        return
    drawn = [rung.tag for column in pic.columns for rung in column.rungs]
    assert sorted(drawn) == sorted(gap.pack.id for item in plan.batches for gap in item.gaps)
    for column in pic.columns:
        assert column.from_at >= NOON
        for rung in column.rungs:
            assert rung.below == (column.item.way is Way.UP)
            assert 0 <= rung.y <= HEIGHT
    starts = [column.from_at for column in pic.columns]
    assert starts == sorted(starts)
    assert pic.first is None or (pic.first.item.choice is not None and pic.first.from_at < NOON + timedelta(hours=12))


def test_a_pack_that_is_planned_twice_waits_for_its_next_batch():
    session = next(one for one in map(random_bench, range(99)) if Planner(one).plan().batches)
    first = Planner(session).plan().batches[0]
    todos = (ToDo(Do.SWAP, NOON, batch=first),
             ToDo(Do.SWAP, NOON + timedelta(hours=2), batch=replace(first, channel="another")))  # fmt: skip
    for agenda in (todos, todos[::-1]):
        groups = [group for shelf in box(session, (), agenda, {}).shelves for group in shelf.groups]
        waiting = {case.tag: group.title for group in groups for case in group.cases}
        assert {waiting[tag] for tag in first.packs} == {f"Wait for {first.channel}"}


@pytest.mark.parametrize("seed", range(12))
def test_no_part_of_the_chain_is_left_out_or_drawn_over_another(seed):
    session = random_bench(seed)
    held = trees(session.bench)
    shape = chain.shape_of(held)
    for tree in held:
        pic = chain.draw(tree, {}, {}, {}, shape)
        assert sum(part.narrowest for part in pic.parts) <= 1
        assert pic.px_a_w == shape.px_a_w  # one scale: what gives more is never drawn narrower
        assert [case.channel for case in pic.cases] == [
            link.part.id for branch in tree.branches for link, _ in branch.channels
        ]
        for part in pic.parts:
            assert 0 <= part.middle - part.half < part.middle + part.half <= pic.height
        for column in chain.COLUMNS:
            for above, below in pairwise(part for part in pic.parts if part.column == column):
                assert above.tag != below.tag
                assert above.middle + above.half <= below.middle - below.half
                assert above.y + above.height <= below.y + 1e-6
        for stream in pic.streams:
            assert all(0 <= float(y) <= pic.height for y in re.findall(r" (-?[\d.]+)", stream.path))
