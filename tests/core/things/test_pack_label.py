"""Labels as pilots read them out: what they say is taken, what they leave open is asked."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from iterum.core.things.pack_label import PackLabel, read_label


@pytest.mark.parametrize(("text", "expected"), [
    ("6 x 650 3S 60C XT30", PackLabel(6, None, 3, 650, None, 60, "XT30")),
    ("3S 2200", PackLabel(1, None, 3, 2200, None, None, None)),
    ("2,200 mAh 4S LiPo 45C", PackLabel(1, "lipo", 4, 2200, None, 45, None)),
    ("LiPo 4S 1.8 Ah 75C/150C charge 5C XT60", PackLabel(1, "lipo", 4, 1800, 5, 75, "XT60")),
    ("4S LiHV 850mAh, 5C charge", PackLabel(1, "lihv", 4, 850, 5, None, None)),
    ("14.8 V LiPo 1500", PackLabel(1, "lipo", 4, 1500, None, None, None)),
    ("11,1V Li-Po 2200mAh 30C", PackLabel(1, "lipo", 3, 2200, None, 30, None)),
    ("2×Li-ion 3S2P 7000 18650", PackLabel(2, "li-ion", 3, 7000, None, None, None)),
    ("3S 18650 3500", PackLabel(1, "li-ion", 3, 3500, None, None, None)),  # the size of its cells is no mAh
    ("INR21700 4S 4.2Ah", PackLabel(1, "li-ion", 4, 4200, None, None, None)),
    ("4S IFR26650 2500 mAh", PackLabel(1, "life", 4, 2500, None, None, None)),
    ("4S 26650 2500", PackLabel(1, None, 4, 2500, None, None, None)),  # of either kind
    ("4x 3500 3S round cells", PackLabel(4, "li-ion", 3, 3500, None, None, None)),
    ("6S 14500 mAh LiPo", PackLabel(1, "lipo", 6, 14500, None, None, None)),
    ("NiMH 8 cell 2000", PackLabel(1, "nimh", 8, 2000, None, None, None)),
    ("LiFePO4 6.6V 2100", PackLabel(1, "life", 2, 2100, None, None, None)),
    ("4S 15,000 LiPo", PackLabel(1, "lipo", 4, 15000, None, None, None)),
    ("4 pcs 5S 1300 lipo", PackLabel(4, "lipo", 5, 1300, None, None, None)),
])  # fmt: skip
def test_a_label_is_read_as_it_is_said(text, expected):
    assert read_label(text) == expected


@pytest.mark.parametrize(("text", "could_be"), [
    ("14.4 V 3000", {("nimh", 12), ("li-ion", 4)}),
    ("7.2 V 3000", {("nimh", 6), ("li-ion", 2)}),
    ("14.8 V 1500", {("lipo", 4), ("li-ion", 4)}),
])  # fmt: skip
def test_volts_that_several_chemistries_have_are_asked_about(text, could_be):
    label = read_label(text)
    assert label.chemistry is None
    assert set(label.could_be) >= could_be


@pytest.mark.parametrize(("text", "says"), [
    ("4S LiPo", "capacity"), ("3S 18650 li-ion", "size of its cells"), ("14500 2S", "size of its cells"),
    ("450 class 3S 2200", "450 or 2200 mAh"), ("3S 2200 mAh 1300 mAh", "2200 or 1300 mAh"), ("14.8 V LiHV 1500 4S", "does not go with"), ("99 x 3S 650", "60 at most"),
    ("0 x 3S 650", "60 at most"), ("16S 5000 lipo", "1 to 14"), ("3S 2.2 mAh", "2.2 Ah"), ("", "capacity"), ("9.13 V 2200", "no pack"),
    ("dual 400W 12A 6S 8x2200 3S LiPo", "6S or 3S"), ("3S 650 4S 1500 LiPo", "650 or 1500 mAh"), ("3S 4S 1500 LiPo", "3S or 4S"),
])  # fmt: skip
def test_what_a_label_cannot_say_is_told_with_its_mend(text, says):
    with pytest.raises(ValueError, match=says):
        read_label(text)


@given(
    st.integers(1, 60), st.integers(1, 14), st.integers(100, 22_000), st.integers(10, 150), st.permutations(range(4))
)
def test_the_order_of_words_is_no_matter(count, cells, mah, rate_c, order):
    words = [f"{cells}S", f"{mah}mAh", f"{rate_c}C", "LiPo"]
    label = read_label(f"{count} x " + " ".join(words[at] for at in order))
    assert label == PackLabel(count, "lipo", cells, mah, None, rate_c, None)
