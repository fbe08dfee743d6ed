"""Three people: one who begins, one at the keyboard, one with a phone; and how many keys and acts each may need."""

import re

from playwright.sync_api import expect

from tests.browser.bench import read_now, state_of, turning

KEYS_TO_AMPS = 90
"""From nothing to the first amps: six like packs, one charger, one bank, one board; measuring not counted."""


class Hands:
    """Somebody who only has a keyboard, and counts."""

    def __init__(self, page):
        self.page, self.keys = page, 0

    def type(self, text, then="Enter", counted=True):
        expect(self.page.locator("html[data-ready]")).to_have_count(1)
        expect(self.page.locator("input:focus")).to_have_count(1)
        for letter in text:
            self.page.keyboard.press(letter if letter != " " else "Space")
        self.keys += len(text) if counted else 0
        if then:
            self.press(then, counted)

    def label(self, text, then="Enter"):
        """Type a label, see what was understood, and save it."""
        self.type(text, then=None)
        expect(self.page.locator("input[name=seen]").last).to_have_value(text)
        if then:
            self.press(then)

    def press(self, key, counted=True):
        expect(self.page.locator("html[data-ready]")).to_have_count(1)
        self.page.keyboard.press(key)
        self.keys += 1 if counted else 0


def charged(hands, cells, pack_v, current_a, alone=False):
    """Every step of a batch, from taken in hand to charging; what the charger shows is typed."""
    state = state_of(hands.page)
    expect(state).to_have_text("planned")
    if alone:
        hands.press("Enter")  # signs nothing: the pack needs its own tick
        expect(hands.page.get_by_role("alert").first).to_be_visible()
        expect(hands.page.get_by_role("checkbox").first).to_be_focused()
        hands.press("Space")
    else:
        hands.press("a")
        expect(state).to_have_text("inspected")
    hands.press("Enter")
    expect(state).to_have_text("plugged in")
    hands.type(cells, then="Tab")
    hands.type(pack_v, then="Tab")
    hands.type(current_a)
    if alone:  # compared and started in one act
        expect(state).to_have_text("charging")
        return
    expect(state).to_have_text("settings confirmed")
    hands.press("Enter")
    expect(state).to_have_text("charging")


def arrived(page, words):
    expect(page.get_by_role("heading", name=words).first).to_be_visible()


def test_a_new_pilot_comes_from_nothing_to_amps_in_ninety_keys(page, empty_address):
    hands = Hands(page)
    page.goto(empty_address)
    arrived(page, "An empty bench")
    hands.label("6x650 3S 60C XT30 LiPo")
    expect(page.get_by_text("A-01 to A-06").first).to_be_visible()
    hands.label("dual 400W 12A 6S")
    expect(page.get_by_text("charger-1").first).to_be_visible()
    hands.label("12 V 60 Ah AGM")
    expect(page.get_by_text("source-1").first).to_be_visible()
    hands.label("6")
    for number in range(1, 7):
        expect(read_now(page, f"A-{number:02}")).to_be_visible()
        hands.type("380380380", counted=False)
    page.get_by_role("main").get_by_role("link", name="Match").first.wait_for()
    hands.press("Enter")
    page.get_by_role("main").get_by_role("link", name="Set up group").first.wait_for()
    hands.press("Enter")
    page.get_by_role("button", name="Start this batch").wait_for()
    hands.press("Enter")
    charged(hands, "3", "11.4", "3.9")
    assert hands.keys <= KEYS_TO_AMPS


KEYS_OF_ONE = 60
"""From an empty bench to first amps: one pack, one charger, mains."""


def test_one_pack_on_one_charger_has_amps_after_sixty_keys(page, empty_address):
    hands = Hands(page)
    page.goto(empty_address)
    hands.label("4S 1500 lipo")
    hands.label("80W 6A")
    hands.label("mains")
    expect(page.get_by_label("A parallel board, where you have one", exact=True)).to_be_focused()
    hands.press("Enter")
    expect(read_now(page, "A-01")).to_be_visible()
    hands.type("380380380380")
    page.get_by_role("main").get_by_role("link", name="Charge A-01").wait_for()
    hands.press("Enter")
    page.get_by_role("button", name="Start this batch").wait_for()
    hands.press("Enter")
    charged(hands, "4", "15.2", "1.5", alone=True)
    assert hands.keys <= KEYS_OF_ONE + 1  # one of them was the Enter that signs nothing


KEYS_OF_A_BOX = 40
"""A box of 24 packs of four classes, three chargers, a battery and a generator, besides labels and volts."""


def test_a_whole_box_is_typed_in_with_few_keys_besides_its_labels(page, empty_address):
    hands, labels = Hands(page), 0
    page.goto(empty_address)
    for label, said in (
        ("8x 4S 1500 LiPo 2C charge 75C", "A-01 to A-08"), ("6x 6S 1300 lipo 100C", "A-09 to A-14"), ("6x 3S 18650 3500", "A-15 to A-20"),
        ("4x 2S 450 LiHV", "A-21 to A-24"), ("dual 400W 12A 6S", "charger-1"), ("80W 6A", "charger-2"),
        ("15A 300W dc 11-18V 6S", "charger-3"), ("100 Ah 12.8 V LiFePO4", "source-1"), ("generator 1 kW", "source-2"),
        ("6 ports XT60", "board-1"),
    ):  # fmt: skip
        hands.label(label)  # the cursor goes on by itself; what belongs to another question is saved there
        labels += len(label)
        expect(page.get_by_text(re.compile(f"{said} (is|are) saved"))).to_be_visible()
    assert hands.keys - labels <= KEYS_OF_A_BOX
    page.goto(f"{empty_address}/begin")
    for tag in ("A-01 to A-08", "A-21 to A-24", "charger-3", "source-2", "board-1"):
        expect(page.get_by_role("main")).to_contain_text(tag)


def test_what_the_label_leaves_open_is_asked_on_the_same_page(page, empty_address):
    page.goto(empty_address)
    hands = Hands(page)
    hands.label("2 x 14.4 V 1500")
    expect(page.get_by_label("4S Li-ion")).to_be_focused()  # Enter goes to what is open
    expect(page.get_by_label("Your packs", exact=True)).to_have_value("2 x 14.4 V 1500")
    hands.press("Space")
    hands.press("Enter")
    expect(page.get_by_text("A-01 to A-02").first).to_be_visible()


def test_a_word_of_damage_is_answered_first_or_the_packs_are_quarantined(page, empty_address):
    page.goto(empty_address)
    hands = Hands(page)
    hands.label("2x 4S 1500 lipo puffed")
    expect(page.get_by_label("quarantine", exact=True)).to_be_focused()
    page.get_by_role("button", name="Save as quarantined").click()
    expect(page.get_by_text("A-01 to A-02").first).to_be_visible()
    page.goto(f"{empty_address}/packs")
    expect(page.locator(".box")).to_contain_text("Quarantined")


def test_what_was_refused_is_typed_anew_and_not_typed_on_to(page, empty_address):
    page.goto(empty_address)
    hands = Hands(page)
    hands.label("2x1500 4S LiPo")
    expect(page.get_by_text("A-01 to A-02").first).to_be_visible()
    hands.label("8x2200 3S LiPo")  # the cursor has gone on to the charger
    expect(page.get_by_text("A-03 to A-10 are saved.")).to_be_visible()
    hands.label("dual 400W 6S")
    expect(page.get_by_label("How many amps does a channel give at most?")).to_be_focused()
    hands.type("12 A")
    expect(page.get_by_text("charger-1 is saved.")).to_be_visible()
    page.goto(f"{empty_address}/kit/charger?id=charger-1")
    expect(page.get_by_role("group", name="Channel 1").get_by_label("Most cells")).to_have_value("6")


def test_a_table_of_packs_is_taken_whole(page, empty_address):
    page.goto(f"{empty_address}/begin/table")
    page.get_by_label("Paste it here").fill(
        "Tag;Cells;Capacity (mAh);C rating\nR-1;3S;2,200;45\nR-2;3;2.2 Ah;45\nR-3;4;1500;60\n"
    )
    page.get_by_role("button", name="Read it").click()
    expect(page.get_by_label("C rating means")).to_have_value("discharge_c")
    page.get_by_role("button", name="Take 3 rows").click()
    expect(page.get_by_text("Line 2: does not say its chemistry.")).to_be_visible()  # asked, never assumed
    page.get_by_label("Rows that name no chemistry are").select_option("lipo")
    page.get_by_role("button", name="Take 3 rows").click()
    expect(page.locator(".box")).to_contain_text("R-3")
    expect(page.get_by_label("R-2, 3S LiPo 2200", exact=False)).to_have_count(1)


def test_an_expert_takes_the_next_batch_with_one_key(page, planned_address):
    page.goto(planned_address + "/bench")
    said = page.get_by_role("region", name="Now").inner_text()
    assert "Start this batch" in said
    page.get_by_role("main").focus()
    page.keyboard.press("Enter")
    expect(state_of(page)).to_have_text("planned")


KEYS_FROM_PLAN_TO_AMPS, KEYS_A_PACK = 17, 13
"""With a plan made: six packs on a board taken in hand, looked at, plugged in, compared and started. A pack of 4S read:
three digits per cell, and Enter."""


def test_an_expert_comes_from_the_plan_to_a_charge_in_a_few_keys(page, planned_address):
    page.goto(f"{planned_address}/bench")
    hands = Hands(page)
    page.get_by_role("main").focus()
    dialled = page.get_by_role("region", name="Now").inner_text()
    hands.press("Enter")
    expect(state_of(page)).to_have_text("planned")
    assert page.locator("[name=looked]").count() > 3
    charged(hands, "4", "15.5", re.search(r"Set\s+([\d.]+)\s+A", dialled)[1])
    assert hands.keys <= KEYS_FROM_PLAN_TO_AMPS


def test_packs_are_read_one_after_another_by_their_digits_and_enter_alone(page, empty_address):
    page.goto(empty_address)
    hands = Hands(page)
    hands.label("3x1300 4S LiPo")
    hands.keys = 0
    expect(page.get_by_text("A-01 to A-03").first).to_be_visible()
    page.goto(f"{empty_address}/measure")
    page.evaluate("window.stands = 'yes'")
    for tag in ("A-01", "A-02"):
        expect(read_now(page, tag)).to_be_visible()
        hands.type("384384384384")
    expect(read_now(page, "A-03")).to_be_visible()
    assert hands.keys == 2 * KEYS_A_PACK
    assert page.evaluate("window.stands") == "yes"  # the page stands, its next pack comes in it
    assert (page.title(), page.url) == ("Measure A-03 · Iterum", f"{empty_address}/measure?pack=A-03")
    expect(page.get_by_label("Cell 1, volts")).to_be_focused()
    expect(page.get_by_role("navigation", name="Places")).to_contain_text("2 of 3")
    with turning(page):
        page.go_back()
    expect(read_now(page, "A-02")).to_be_visible()


TAPS_FROM_GROUP_TO_AMPS = 6
"""From what Match offers: its card, in hand, all sound, plugged in, compared, started; typing on the keyboard apart."""


def test_a_thumb_comes_from_a_group_to_a_charge_in_a_few_taps(phone, address):
    taps = 0

    def tap(item):
        nonlocal taps
        taps += 1
        item.tap()

    phone.goto(f"{address}/match?class=lipo-6S")
    tap(phone.get_by_role("link", name="Group A", exact=True))
    tap(phone.get_by_role("button", name="Start this batch"))
    state = state_of(phone)
    expect(state).to_have_text("planned")
    tap(phone.get_by_role("button", name="All of these are OK"))
    expect(state).to_have_text("inspected")
    tap(phone.get_by_role("button", name="All plugged in"))
    expect(state).to_have_text("plugged in")
    for label, shown in (("Cells", "6"), ("Pack volts", "22.5"), ("Current set", "9.9")):
        phone.get_by_label(label).first.fill(shown)
    tap(phone.get_by_role("button", name="Compare"))
    tap(phone.get_by_role("button", name="It is charging"))
    expect(state).to_have_text("charging")
    assert taps <= TAPS_FROM_GROUP_TO_AMPS


def test_a_point_that_is_typed_stays_where_it_was_typed(page, empty_address):
    page.goto(empty_address)
    hands = Hands(page)
    hands.label("3S 2200 lipo")
    expect(page.get_by_text("A-01").first).to_be_visible()
    page.goto(f"{empty_address}/measure?pack=A-01&total=yes")
    total = page.get_by_label("Whole pack, volts")
    for typed, stands in (("11.1", "11.1"), ("12,60", "12,60"), ("1260", "12.60"), ("780", "7.80")):
        total.fill("")
        total.press_sequentially(typed)
        expect(total).to_have_value(stands)
    total.fill("")
    total.press_sequentially("11.1")
    page.reload()  # what was typed is given back as it was
    expect(total).to_have_value("11.1")
    page.keyboard.press("End")
    page.keyboard.press("0")
    expect(total).to_have_value(re.compile(r"^(11\.10|0)$"))
    page.goto(f"{empty_address}/measure?pack=A-01")
    first = page.get_by_label("Cell 1, volts")
    first.press_sequentially("3.84")
    expect(first).to_have_value("3.84")
    expect(page.get_by_label("Cell 2, volts")).to_be_focused()


def test_nothing_is_signed_by_a_tap_that_was_meant_for_what_stood_there_before(page, address):
    page.goto(f"{address}/charge?packs=T-02&packs=T-05&channel=Twin-2&board=Four")
    with turning(page):
        page.get_by_role("button", name="Start this batch").click()
    state = state_of(page)
    page.reload()
    page.evaluate("document.getElementById('all-sound').click()")  # at once, as a hand that was on its way
    expect(page.locator("button[aria-disabled=true]")).to_have_count(0)
    expect(state).to_have_text("planned")
    with turning(page):
        page.get_by_role("button", name="All of these are OK").click()
    expect(state).to_have_text("inspected")
