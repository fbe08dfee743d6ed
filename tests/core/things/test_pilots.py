"""Pilots at one table: whose packs meet on a board, and whose kit charges them."""

from dataclasses import replace

import pytest

from iterum.core.amps.limits import setup_faults
from iterum.core.fields import BadInput
from iterum.core.groups.group import obstacles
from iterum.core.groups.matching import match_packs
from iterum.core.permit.permit import permit_of
from iterum.core.reasons import Unsafe
from iterum.core.season.upkeep import upkeep
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.packs import Reading
from iterum.core.things.pilots import Pilot, Shape, TableRule, terms_of
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.demo import demo_session
from iterum.exchange.session import dumps, from_document, parse, to_document
from tests.conftest import even

ADA, BEN, CLEO = "Ada", "Ben", "Cleo"


def at_table(*packs, consents=(), rule=TableRule.EQUAL_HEATS, gone=(), kit=None):
    """Packs (tag, pilot) at a table; consents : (who, with whom)."""
    pilots = tuple(
        Pilot(name, name[:2], shape, tuple(other for who, other in consents if who == name), name in gone)
        for name, shape in zip((ADA, BEN, CLEO), Shape, strict=False)
    )
    made = tuple(replace(even(tag, 3.8), pilot=pilot) for tag, pilot in packs)
    rules = HouseRules(table=rule)
    session = Session(made, rules=rules, pilots=pilots)
    return (replace(session, kit=kit) if kit else session).at_table()


def codes(reasons):
    return [item.code for item in reasons]


def test_packs_of_two_pilots_meet_on_a_board_only_where_both_said_so():
    both = ((ADA, BEN), (BEN, ADA))
    for consents, apart in (((), True), (both[:1], True), (both, False)):
        session = at_table(("A", ADA), ("B", BEN), consents=consents)
        assert (codes(obstacles(session.packs, session.rules)) == ["pilots_differ"]) is apart
        assert (len(match_packs(session.packs, session.rules, lambda _cells: 6).groups) == 0) is apart


def test_consent_of_two_is_none_of_a_third_and_nobodys_pack_meets_no_pilots():
    session = at_table(("A", ADA), ("B", BEN), ("C", CLEO), ("N", None), consents=((ADA, BEN), (BEN, ADA), (BEN, CLEO)))
    by_id = {pack.id: pack for pack in session.packs}
    meet = {(one, two) for one in "ABCN" for two in "ABCN" if one < two and by_id[one].may_meet(by_id[two])}
    assert meet == {("A", "B")}
    assert all(by_id[one].may_meet(by_id[two]) == by_id[two].may_meet(by_id[one]) for one in "ABCN" for two in "ABCN")


def test_a_bench_without_pilots_is_as_before():
    session = at_table(("A", None), ("B", None))
    assert obstacles(session.packs, session.rules) == ()
    assert demo_session().at_table() == demo_session()


@pytest.mark.parametrize(("owner", "lent", "rule", "told"), [
    (None, False, TableRule.EQUAL_HEATS, []),
    (ADA, False, TableRule.EQUAL_HEATS, []),
    (BEN, False, TableRule.EQUAL_HEATS, ["kit_of_other"]),
    (BEN, True, TableRule.EQUAL_HEATS, []),
    (None, False, TableRule.OWN_KIT, ["not_own_kit"]),
    (ADA, False, TableRule.OWN_KIT, []),
    (BEN, True, TableRule.OWN_KIT, ["kit_of_other"]),
])  # fmt: skip
def test_whose_charger_charges_whose_packs(owner, lent, rule, told):
    kit = demo_session("club").kit
    duo = replace(next(item for item in kit.chargers if item.id == "duo"), pilot=owner, lent=lent)
    kit = replace(kit, chargers=(duo,), boards=())
    session = at_table(("A", ADA), rule=rule, kit=kit)
    assert codes(setup_faults(session.packs, session.bench.setup(None, "Duo-1"))) == told


def test_a_source_of_another_feeds_nobody_unless_it_is_lent():
    kit = demo_session("club").kit
    for lent, told in ((True, []), (False, ["kit_of_other"])):
        bank = replace(next(one for one in kit.sources if one.id == "bank"), lent=lent)
        pocket = replace(next(one for one in kit.chargers if one.id == "pocket"), pilot=None)
        one = replace(kit, sources=(bank,), chargers=(pocket,), supplies=())
        session = at_table(("A", ADA), kit=one)
        assert codes(setup_faults(session.packs, session.bench.setup(None, "Pocket-1"))) == told


def test_packs_even_out_on_a_board_of_another_only_where_it_is_lent():
    kit = demo_session("club").kit
    for lent in (False, True):
        six = replace(next(board for board in kit.boards if board.id == "Six"), pilot=BEN, lent=lent)
        session = at_table(("A", ADA), ("B", ADA), kit=replace(kit, boards=(six,)))
        low = replace(session.packs[1], reading=Reading.of_cells((3.78,) * 4))
        bench = replace(session.bench, packs=(session.packs[0], low))
        choice = Choice(("A", "B"), "Six")
        if lent:
            assert upkeep(bench, Kind.EVEN_OUT, choice).board == six
            continue
        with pytest.raises(Unsafe) as refused:
            upkeep(bench, Kind.EVEN_OUT, choice)
        assert set(codes(refused.value.reasons)) == {"kit_of_other"}


def test_who_went_home_took_the_packs_along():
    session = at_table(("A", ADA), ("B", BEN), gone=(BEN,))
    ada, ben = (permit_of(pack, session.rules) for pack in session.packs)
    assert ada.charges
    assert not ben.charges
    assert "went_home" in codes(ben.reasons)
    assert [pilot.id for pilot in session.here] == [ADA, CLEO]


def test_terms_name_only_pilots_who_are_known():
    told = terms_of((Pilot(ADA, "Ad", shares_with=("Nobody",)),), TableRule.OWN_KIT)
    assert told[ADA].with_packs_of == frozenset()
    assert told[ADA].own_kit


def test_a_mark_is_one_or_two_letters():
    with pytest.raises(BadInput, match="mark"):
        Pilot(ADA, "Ada")


def test_the_table_is_kept_in_the_session_file():
    session = demo_session("club")
    again = parse(dumps(session))
    assert (again.pilots, again.wanted, again.kit) == (session.pilots, session.wanted, session.kit)
    assert [pack.pilot for pack in again.packs] == [pack.pilot for pack in session.packs]
    assert [pack.terms for pack in again.packs] == [pack.terms for pack in session.packs]


def test_every_fault_about_pilots_is_told_with_its_place():
    document = to_document(demo_session("club"))
    document["packs"][0]["pilot"] = "Eve"
    document["wanted"][1]["pilot"] = "Eve"
    document["pilots"][1] |= {"mark": "Ad", "shape": "circle", "shares_with": ["Eve"]}
    document["pilots"][3]["id"] = "Ada"
    with pytest.raises(BadInput) as bad:
        from_document(document)
    places = {fault.place for fault in bad.value.faults}
    assert {"packs[0].pilot", "wanted[1].pilot", "pilots[1].mark", "pilots[1].shares_with[0]", "pilots[3].id"} <= places
