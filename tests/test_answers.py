"""Random questions, and an independent check of every answer: what is sized breaks no limit of the file."""

import json
import random

import pytest

from iterum.core.planning.planner import Planner
from iterum.core.reasons import Unsafe
from iterum.core.sizing.arrange import answer
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.session import Session
from iterum.exchange.session import to_document
from tests.benches import breaches, random_bench
from tests.conftest import SOAK, even

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


def test_what_would_take_more_than_a_day_is_planned_nowhere_and_refused_everywhere():
    """Two 12S of 22 Ah on 30 W: some 1,900 Wh, more than two days (from memory: 0.5 A into 44 Ah)."""
    packs = tuple(even(f"G{n}", 3.75, 12, mah=22000) for n in (1, 2))
    kit = Kit((Board("B", 4, max_cells=12),), (Charger("C", (Channel("C-1", 10, 30, max_cells=12),)),))
    session = Session(packs, kit)
    _, sizing, refusal = answer(session.bench, Choice(("G1", "G2"), "B", "C-1"))
    assert sizing is None
    (told,) = [item for item in refusal.reasons if item.code == "charge_too_long"]
    assert told.numbers["hours"] > 48
    assert told.numbers["need_wh"] > 1700
    planned = Planner(session).plan()
    assert planned.batches == ()
    assert {left.reason.code for left in planned.left_out} == {"charge_too_long"}
