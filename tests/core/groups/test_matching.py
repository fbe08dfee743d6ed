"""Matching: every group inside every rule at once, as few as can be, then narrowest."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.groups.group import judge_group, obstacles, pairs_within_rules, plug_in_order, refusals
from iterum.core.reasons import Unsafe
from iterum.core.sizing.arrange import match, move_by_hand
from iterum.core.things.bench import Bench
from iterum.core.things.kit import Board, Channel, Charger, Kit
from iterum.core.things.rules import HouseRules, MatchBy
from tests.conftest import NOON, even, pack

KIT = Kit(boards=(Board("B-6", 6),), chargers=(Charger("c", (Channel("ch", 20, 500, max_cells=14),)),))


def matched(packs, rules=None, kit=KIT):
    return match(Bench(tuple(packs), kit, rules or HouseRules()))


volts = st.integers(360, 410).map(lambda hundredths: hundredths / 100)


@st.composite
def packs_of_one_class(draw, most=7):
    count = draw(st.integers(1, most))
    packs = []
    for index in range(count):
        base = draw(volts)
        cells = [round(base + draw(st.integers(-4, 4)) / 100, 2) for _ in range(2)]
        packs.append(pack(f"P{index}", *cells, mah=draw(st.sampled_from([1000, 1300, 1500, 2200, 3000]))))
    return packs


@st.composite
def house_rules(draw):
    by, limit = draw(
        st.sampled_from(
            [(MatchBy.VOLTS_PER_CELL, 0.10), (MatchBy.VOLTS_PER_CELL, 0.05), (MatchBy.VOLTS_PER_PACK, 0.3),
             (MatchBy.PERCENT_OF_HIGHEST, 5.0)]
        )
    )  # fmt: skip
    return HouseRules(match_by=by, match_limit=limit, max_capacity_ratio=draw(st.sampled_from([None, 1.0, 2.0])))


def partitions(items):
    """Every way to split a list into non-empty sets: the definition, with no search to trust."""
    if not items:
        yield []
        return
    first, rest = items[0], items[1:]
    for split in partitions(rest):
        yield [[first], *split]
        for index in range(len(split)):
            yield [*split[:index], [first, *split[index]], *split[index + 1 :]]


def width(group):
    averages = [item.cell_v for item in group]
    return max(averages) - min(averages)


@given(packs_of_one_class(), house_rules(), st.sampled_from([2, 3, 6]))
def test_no_split_has_fewer_groups_nor_as_few_and_narrower_ones(packs, rules, ports):
    matching = matched(packs, rules, Kit(boards=(Board("B", ports),)))
    assert matching.proven
    groups = [list(group.packs) for group in matching.groups] + [[left.pack] for left in matching.left_out]
    assert sorted(item.id for group in groups for item in group) == sorted(item.id for item in packs)
    best = min(
        (len(split), round(sum(map(width, split)), 6))
        for split in partitions(packs)
        if all(len(group) <= ports and not obstacles(group, rules) for group in split)
    )
    assert (len(groups), round(sum(map(width, groups)), 6)) == best


@given(packs_of_one_class(), house_rules())
def test_a_group_is_within_the_rules_exactly_when_all_its_pairs_are(packs, rules):
    assert (not obstacles(packs, rules)) == pairs_within_rules(packs, rules)


@given(packs_of_one_class(), house_rules(), st.randoms())
def test_the_order_in_which_packs_are_listed_changes_nothing(packs, rules, shuffler):
    shuffled = list(packs)
    shuffler.shuffle(shuffled)
    sets = [
        {tuple(sorted(group.plug_in_order)) for group in matched(order, rules).groups} for order in (packs, shuffled)
    ]
    assert sets[0] == sets[1]


class TestSchools:
    """The schools of practice, worked by hand. Common practice, no source."""

    def test_0_10_v_per_cell_apart_at_a_limit_of_0_10_is_allowed(self):
        assert not obstacles([even("A", 3.70), even("B", 3.80)], HouseRules())

    def test_dropping_the_last_digit_does_not_let_0_37_v_pass_as_0_3(self):
        rules = HouseRules(match_by=MatchBy.VOLTS_PER_PACK, match_limit=0.3)
        low, high = pack("A", 3.70, 3.70, 3.70, 3.70), pack("B", 3.79, 3.79, 3.79, 3.80)
        (reason,) = obstacles([low, high], rules)
        assert reason.code == "window_too_wide"
        assert round(reason.numbers["spread_v"], 9) == 0.37

    def test_5_percent_of_a_full_4s_is_0_84_v_and_of_one_at_storage_0_76_v(self):
        rules = HouseRules(match_by=MatchBy.PERCENT_OF_HIGHEST, match_limit=5.0, cell_limit_v=0.3)
        full = judge_group([even("A", 3.99), even("B", 4.20)], rules)
        storage = judge_group([even("A", 3.61), even("B", 3.80)], rules)
        assert (round(full.window.allowed_v, 9), round(storage.window.allowed_v, 9)) == (0.84, 0.76)
        assert full.allowed  # 4.20 - 3.99 is 0.21 a cell, 0.84 over the pack: equal to the limit
        assert storage.allowed

    def test_cell_against_the_same_cell_even_where_the_averages_agree(self):
        crossed = [pack("A", 3.70, 3.82), pack("B", 3.82, 3.70)]
        assert [item.code for item in obstacles(crossed, HouseRules())] == ["same_cell_apart"]

    def test_500_with_5000_is_unwise_and_1000_1300_1500_is_fine(self):
        assert [item.code for item in obstacles([even("A", 3.8, mah=500), even("B", 3.8, mah=5000)], HouseRules())] == [
            "capacities_differ"
        ]
        assert not obstacles([even(str(mah), 3.8, mah=mah) for mah in (1000, 1300, 1500)], HouseRules())

    def test_a_first_timer_joins_two_identical_packs_at_most(self):
        rules = HouseRules(max_capacity_ratio=1.0, max_packs=2)
        matching = matched([even(name, 3.8) for name in "ABC"], rules)
        assert sorted(len(group.packs) for group in matching.groups) == [2]

    def test_other_chemistry_other_cells_and_nimh_never_join(self):
        three, four = even("A", 3.8, cells=3), even("B", 3.8)
        assert [item.code for item in obstacles([three, four], HouseRules())] == ["families_differ"]
        cells = [even(name, 1.25, cells=6, chemistry="nimh") for name in "AB"]
        assert {left.reason.code for left in matched(cells).left_out} == {"ends_by_drop"}


class TestLeftOut:
    def reasons(self, *packs):
        return {left.pack.id: (left.reason.code, left.fix.code) for left in matched(packs).left_out}

    def test_each_left_out_pack_has_its_reason_and_its_fix(self):
        assert self.reasons(
            even("A", 3.80), even("B", 3.81), even("low", 3.60), even("full", 4.19), pack("new", cells=4),
            pack("hot", cells=4, charged_at=NOON), even("puffed", 3.8, condition="damaged"), pack("split", 3.8, 3.65, 3.8, 3.8), even("six", 3.8, cells=6),
        ) == {
            "low": ("window_too_wide", "fix_charge_up"),
            "full": ("full", "fix_full"),
            "new": ("not_measured", "fix_not_measured"),
            "hot": ("charged_since", "fix_charged_since"),
            "puffed": ("damaged", "fix_damaged"),
            "split": ("cells_apart_weak", "fix_cells_apart_weak"),
            "six": ("only_one", "fix_alone"),
        }  # fmt: skip

    def test_a_low_pack_is_charged_up_into_reach_and_told_how_long(self):
        (left,) = matched([even("A", 3.80), even("B", 3.81), even("low", 3.60, discharge_c=40)]).left_out
        until_v, minutes = left.fix.numbers["until_v"], left.fix.numbers["minutes"]
        assert not obstacles([even("low", until_v), even("A", 3.80)], HouseRules())
        assert 15 < minutes < 35  # 8 % to about half at 1C

    def test_without_a_board_that_takes_the_cells_each_is_charged_alone(self):
        kit = Kit(boards=(Board("small", 6, max_cells=3),))
        matching = matched([even("A", 3.8), even("B", 3.8)], HouseRules(), kit)
        assert {left.reason.code for left in matching.left_out} == {"no_board"}


def test_the_high_one_goes_in_last_and_the_low_one_never():
    assert plug_in_order([even("high", 3.85), even("low", 3.70), even("mid", 3.80)]) == ("low", "mid", "high")


class TestByHand:
    packs = (even("A", 3.80), even("B", 3.81), even("C", 3.95), even("D", 3.96))
    matching = matched([*packs, even("bad", 3.9, condition="damaged")])

    def moved(self, pack_id, to):
        return move_by_hand(self.matching, pack_id, to, KIT, HouseRules())

    def test_a_move_outside_the_rules_is_shown_with_its_verdict(self):
        group = next(item for item in self.moved("A", "C").groups if len(item.packs) == 3)
        assert "window_too_wide" in [item.code for item in group.reasons]

    def test_taking_one_out_of_a_pair_leaves_the_other_alone(self):
        codes = {left.pack.id: left.reason.code for left in self.moved("A", None).left_out}
        assert codes["A"] == "taken_out"
        assert codes["B"] == "others_gone"

    def test_a_damaged_pack_is_moved_nowhere_and_nothing_to_it(self):
        for pack_id, to in (("bad", "A"), ("A", "bad")):
            with pytest.raises(Unsafe):
                self.moved(pack_id, to)


def test_refusals_name_the_pack_and_refuse_a_full_one_among_others():
    packs = [even("A", 4.18), even("B", 4.15), even("C", 4.16, condition="damaged")]
    assert {(item.code, item.numbers.get("id")) for item in refusals(packs, HouseRules(), 6)} == {
        ("full", "A"),
        ("damaged", "C"),
    }
