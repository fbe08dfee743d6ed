"""Time of `match` and `size` for 10, 60 and 500 packs; what a pilot brings (60) must take well under 50 ms."""

import pytest

from benchmarks.sessions import random_session
from iterum.core.permit.permit import permit_of
from iterum.core.sizing.arrange import answer, match, place_groups
from iterum.core.things.choice import Choice

SIZES = (10, 60, 500)


@pytest.mark.parametrize("count", SIZES)
@pytest.mark.benchmark(group="match")
def test_judging_each_pack_alone(benchmark, count):
    """The peer of the same run: no grouping at all, only the verdict on each pack."""
    session = random_session(count)
    benchmark(lambda: [permit_of(pack, session.rules) for pack in session.packs])


@pytest.mark.parametrize("count", SIZES)
@pytest.mark.benchmark(group="match")
def test_match(benchmark, count):
    matching = benchmark(match, random_session(count).bench)
    benchmark.extra_info["groups"] = len(matching.groups)
    benchmark.extra_info["proven"] = matching.proven


@pytest.mark.parametrize("count", SIZES)
@pytest.mark.benchmark(group="size")
def test_size_every_group_on_every_channel(benchmark, count):
    bench = random_session(count).bench
    benchmark(place_groups, match(bench).groups, bench)


@pytest.mark.benchmark(group="size")
def test_size_one_group(benchmark):
    bench = random_session(60).bench
    group = max(match(bench).groups, key=lambda one: len(one.packs))
    benchmark(answer, bench, Choice(tuple(pack.id for pack in group.packs)))
