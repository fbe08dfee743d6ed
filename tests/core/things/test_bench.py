"""The bench as it is now: what runs takes packs, board, channel, watts and watt-hours before anything is answered."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.permit.facts import Level
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.sizing.arrange import suggest
from iterum.core.sizing.size import charge, size
from iterum.core.things.bench import MAINS, Bench, Running, running_at
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.rules import HouseRules
from tests.conftest import even, refused

PACKS = tuple(even(f"P{n}", 3.80, mah=5000, max_charge_c=5) for n in range(6))
DUO = Charger(
    "duo",
    (Channel("duo-1", 20, 400), Channel("duo-2", 20, 400)),
    fed_by="brick",
    efficiency=0.9,
    total_power_w=400,
)
KIT = Kit(
    boards=(Board("A", 4), Board("B", 4)),
    chargers=(DUO,),
    supplies=(Supply("brick", 600, 24, "inverter", 0.9), Supply("inverter", 800, None, "bank", 0.8)),
    sources=(Source("bank", 12.8, 100, energy_wh=1000, usable_fraction=0.5),),
)
BENCH = Bench(PACKS, KIT, HouseRules(rate_c=5.0))
RUNNING = running_at(PACKS[:1], None, "duo-1", 15.0, 30.0, BENCH.rules)


def limit(sizing, name):
    return next(item.current_a for item in sizing.limits if item.name == name)


class TestChain:
    def test_a_supply_may_hang_on_a_supply_and_every_efficiency_counts(self):
        feed = BENCH.setup(None, "duo-1").feed
        assert [supply.id for supply in feed.supplies] == ["brick", "inverter"]
        assert feed.efficiency_from_source == pytest.approx(0.9 * 0.9 * 0.8)
        assert feed.efficiencies == pytest.approx({"brick": 0.9, "inverter": 0.81, "bank": 0.648})

    def test_fed_by_mains_for_once_the_chain_is_gone(self):
        feed = BENCH.refed("duo-1", MAINS).setup(None, "duo-1").feed
        assert (feed.supplies, feed.source, feed.on_mains) == ((), None, True)

    def test_what_is_not_there_is_said(self):
        for ask in (
            lambda: BENCH.setup("Z", "duo-1"),
            lambda: BENCH.setup(None, "none"),
            lambda: BENCH.members(["none"]),
            lambda: BENCH.refed("duo-1", "nobody"),
        ):
            with pytest.raises(NotThere):
                ask()


class TestWhatRuns:
    def test_252_w_of_400_leave_148_for_the_other_channel(self):
        """15 A into a 4S is 252 W at full volts."""
        busy = Bench(PACKS, KIT, BENCH.rules, (RUNNING,))
        sizing = size(busy, Choice(("P1",), None, "duo-2"))
        assert limit(sizing, "charger_power") == pytest.approx((400 - 252) / 16.8)
        assert limit(sizing, "supply_power") == pytest.approx((600 - 252 / 0.9) * 0.9 / 16.8)
        assert (sizing.current_a, sizing.binding) == (8.8, "charger_power")

    def test_what_it_will_still_take_is_kept_for_it(self):
        busy = Bench(PACKS, KIT, BENCH.rules, (RUNNING,))
        left_wh = busy.left_wh(busy.setup(None, "duo-2").feed)
        assert left_wh == pytest.approx(500 - 252 * 0.5 / 0.648)

    def test_a_suggestion_never_names_what_is_taken_and_a_choice_of_it_is_refused(self):
        busy = Bench(PACKS, KIT, BENCH.rules, (running_at(PACKS[:2], "A", "duo-1", 5.0, 30.0, BENCH.rules),))
        suggested = suggest(busy, Choice(("P2", "P3")))
        assert (suggested.board, suggested.channel) == ("B", "duo-2")
        with pytest.raises(Unsafe) as refusal:
            size(busy, Choice(("P0", "P2"), "A", "duo-1"))
        assert {item.code for item in refusal.value.reasons} == {"pack_busy", "channel_busy", "board_busy"}
        full = Bench(PACKS, KIT, BENCH.rules, (*busy.running, running_at(PACKS[4:], None, "duo-2", 5, 9, BENCH.rules)))
        with refused("all_taken"):
            suggest(full, Choice(("P2",)))

    def test_a_charger_that_runs_is_not_fed_by_something_else_meanwhile(self):
        busy = Bench(PACKS, KIT, BENCH.rules, (RUNNING,))
        with refused("feed_busy"):
            size(busy, Choice(("P1",), None, "duo-2", fed_by=MAINS))

    def test_naming_the_feed_that_it_has_and_feeding_an_idle_charger_otherwise_are_fine(self):
        busy = Bench(PACKS, KIT, BENCH.rules, (RUNNING,))
        as_it_is = KIT.channel("duo-2")[0].fed_by
        assert size(busy, Choice(("P1",), None, "duo-2", fed_by=as_it_is)).current_a > 0
        assert size(BENCH, Choice(("P1",), None, "duo-2", fed_by=MAINS)).current_a > 0

    def test_a_batch_that_is_over_but_hangs_there_takes_its_places_and_no_watts(self):
        over = Bench(PACKS, KIT, BENCH.rules, (Running(("P0",), None, "duo-1", 5.0, 0.0, 0.0, 0.0),))
        assert suggest(over, Choice(("P1",))).channel == "duo-2"
        assert (
            size(over, Choice(("P1",), None, "duo-2")).current_a
            == size(BENCH, Choice(("P1",), None, "duo-2")).current_a
        )


class TestChainedBoards:
    kit = Kit(
        boards=(
            Board("A", 4, max_current_a=30, port_fuse_a=10, connector="XT60"),
            Board("C", 3, max_current_a=12, fuse_a=9, connector="XT60"),
        ),
        chargers=(Charger("c", (Channel("ch", 60, 2000),)),),
    )
    packs = tuple(even(f"P{n}", 3.8, mah=mah, max_charge_c=5) for n, mah in enumerate((2000, 2000, 2000, 1000, 1000)))
    bench = Bench(packs, kit, HouseRules(rate_c=5.0))

    def test_the_hung_board_takes_a_port_and_its_packs_share_passes_that_ports_fuse(self):
        chain = self.kit.board("A + C")
        assert chain.ports == 4 - 1 + 3
        sizing = size(self.bench, Choice(tuple(pack.id for pack in self.packs), "A + C", "ch"))
        # The two small ones hang on C: 2000 of 8000 mAh, a quarter of the amps.
        assert limit(sizing, "board_fuse") == pytest.approx(9 / 0.25)
        assert limit(sizing, "board_current") == pytest.approx(30)  # all of it through A, a quarter through C's 12 A
        assert limit(sizing, "port_fuse") == pytest.approx(10 / 0.25)

    def test_a_board_whose_own_name_has_a_plus_is_found_whole(self):
        kit = Kit(boards=(*self.kit.boards, Board("A + C", 2)))
        assert kit.board("A + C").parts == ()
        assert kit.board("C + A").part_ids == ("C", "A")
        assert kit.board("A + A") is None


class TestAdapters:
    def test_an_xt90_pack_on_an_xt30_board_is_named_and_its_amps_are_a_limit(self):
        packs = tuple(even(n, 3.8, cells=6, mah=5000, max_charge_c=5, connector="XT90") for n in "AB")
        kit = Kit(boards=(Board("B", 4, connector="XT30"),), chargers=(Charger("c", (Channel("ch", 60, 2000),)),))
        sizing = size(Bench(packs, kit, HouseRules(rate_c=4.0)), Choice(("A", "B"), "B", "ch"))
        assert (sizing.binding, sizing.current_a) == ("adapter_current", 30.0)  # 15 A each, half of all
        assert [item.code for item in sizing.notes].count("adapter_needed") == 2

    def test_an_unknown_plug_is_named_too(self):
        packs = (even("A", 3.8, connector="banana"), even("B", 3.8, connector="clip"))
        kit = Kit(boards=(Board("B", 4, connector="clip"),), chargers=(Charger("c", (Channel("ch", 9, 200),)),))
        notes = size(Bench(packs, kit), Choice(("A", "B"), "B", "ch")).notes
        assert [item.numbers["id"] for item in notes if item.code == "adapter_unknown"] == ["A"]


class TestInputVolts:
    table = ((12.0, 150.0), (24.0, 300.0))

    def power_w(self, **more):
        charger = Charger("c", (Channel("ch", 90, 900),), power_by_input_v=self.table, **more)
        kit = Kit(chargers=(charger,), sources=(Source("bank", max_power_w=5000),))
        setup = Bench((), kit).setup(None, "ch")
        return setup.feed.charger_input_power_w

    def test_the_lowest_watts_count_where_input_volts_are_not_known_and_the_highest_on_mains(self):
        assert self.power_w(fed_by="bank") == 150
        assert self.power_w() == 300
        assert self.power_w(mains_power_w=200.0) == 200

    def test_input_amps_at_volts_not_known_count_at_the_lowest_that_the_label_allows(self):
        assert self.power_w(fed_by="bank", max_input_current_a=10, input_min_v=10) == pytest.approx(10 * 10 * 0.85)


@given(
    st.lists(st.tuples(st.floats(0.1, 20), st.floats(0, 120)), max_size=2),
    st.floats(0.1, 20),
)
def test_what_is_offered_beside_what_runs_never_passes_a_part_of_the_chain(running, typed_a):
    """Every watt and watt-hour at every link, summed again by hand."""
    batches = tuple(
        running_at(PACKS[n : n + 1], None, f"duo-{n + 1}", amps, minutes, BENCH.rules)
        for n, (amps, minutes) in enumerate(running[:1])
    )
    bench = Bench(PACKS, KIT, BENCH.rules, batches)
    judged = charge(bench, Choice(("P5",), None, "duo-2", current_a=round(typed_a, 1)))
    watts = 16.8 * (judged.charge.current_a + sum(batch.current_a for batch in batches))
    held_wh = 500 - sum(16.8 * b.current_a * b.minutes_left / 60 / 0.648 for b in batches)
    within = (
        watts <= 400 + 1e-6
        and watts / 0.9 <= 600 + 1e-6
        and watts / 0.81 <= 800 + 1e-6
        and watts / 0.648 <= 1280 + 1e-6
        and judged.charge.energy_in_wh <= held_wh + 1e-6
    )
    assert within or judged.level is Level.STOP
