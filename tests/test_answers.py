"""Random questions, and an independent check of every answer: what is sized breaks no limit of the file."""

import json
import random

import pytest

from iterum.core.reasons import Unsafe
from iterum.core.sizing.arrange import answer
from iterum.core.things.choice import Choice
from iterum.exchange.session import to_document
from tests.benches import breaches, random_bench
from tests.conftest import SOAK

ANSWERS = 600 if SOAK == 1 else 10_000 * SOAK
BLOCKS = 2 if SOAK == 1 else 50
OF_ONE_BENCH = 12


def random_choice(rng, bench):
    """One to four packs, mostly of one family, with or without a board, a channel, a rate, amps of their own."""
    first = rng.choice(bench.packs)
    alike = [one for one in bench.packs if one.family == first.family or rng.random() < 0.1]
    members = rng.sample(alike, min(len(alike), rng.choice((1, 1, 2, 3, 4))))
    channel = rng.choice([None, *(channel.id for _, channel in bench.kit.channels())])
    board = rng.choice([None, None, *(board.id for board in bench.kit.all_boards())])
    more = {"rate_c": rng.choice((None, None, 0.5, 3.0)), "own_rate_c": rng.choice((None, None, None, 1.5, 2.0)),
            "current_a": rng.choice((None, None, None, round(rng.uniform(0.1, 15), 1)))}  # fmt: skip
    return Choice(tuple(one.id for one in members), board, channel, **more)


@pytest.mark.parametrize("block", range(BLOCKS))
def test_no_answer_is_unsafe(block):
    told = sized = 0
    seed = 1_000_000 + block * 100_000
    while told < ANSWERS // BLOCKS:
        seed += 1
        session, rng = random_bench(seed), random.Random(seed)
        document = json.loads(json.dumps(to_document(session)))
        for _ in range(OF_ONE_BENCH):
            choice = random_choice(rng, session.bench)
            _, sizing, refusal = answer(session.bench, choice)
            told += 1
            if sizing is None:
                assert refusal is None or isinstance(refusal, Unsafe)
                continue
            sized += 1
            if sizing.joining.passes:
                settled = sizing.settled
                assert breaches(document, settled, sizing.current_a, sizing.charge.energy_in_high_wh, settled.end_v) == [], (
                    seed, choice)  # fmt: skip
    assert sized > told / 20
