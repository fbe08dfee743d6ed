"""The same question asked by page, command, file and plan has the same answer: amps, watt-hours, minutes, verdict."""

import html
import json
import re
from dataclasses import replace

import pytest
from click.testing import CliRunner

from iterum.cli import main
from iterum.core.planning.planner import Planner
from iterum.core.reasons import Unsafe
from iterum.core.sizing.size import charge, size
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Board, Channel, Charger, Kit, Source, Supply
from iterum.core.things.packs import Reading
from iterum.core.things.rules import HouseRules, JoinOrder
from iterum.core.things.session import Session
from iterum.exchange.session import choice_document
from iterum.wording import about, minutes, span
from tests.conftest import NOON, even, pack
from tests.web.conftest import Visitor

SIX = Board("Six", 6, max_current_a=40)
DUO = Charger("duo", (Channel("duo-1", 20, 252, min_cells=1, max_cells=6), Channel("duo-2", 20, 252, max_cells=6)),
              total_power_w=400)  # fmt: skip


def kit(*boards, charger=DUO, **more):
    return Kit(boards=boards or (SIX,), chargers=(charger,), **more)


def fed_by(source, *supplies, **charger):
    fed = Charger("duo", DUO.channels, (supplies or (source,))[0].id, 0.9, **charger)
    return kit(charger=fed, supplies=supplies, sources=(source,))


def alike(count, cell_v=3.75, **more):
    return tuple(even(f"P{n}", cell_v, **more) for n in range(1, count + 1))


def total(tag, pack_v, cells, chemistry, **more):
    return replace(pack(tag, chemistry=chemistry, cells=cells, **more), reading=Reading(pack_v))


FOUR, ONE = alike(4), alike(1)
TAGS = tuple(one.id for one in alike(6))
ON_SIX = {"board": "Six", "channel": "duo-1"}
ALONE = Choice(("P1",), channel="duo-1")
BANK = Source("bank", 12.8, None, 500, 58 / 0.8, 0.8)
WEAK = (pack("P1", 3.70, 3.82, 3.82, 3.82, max_charge_c=3),)
TWO_AMP_PORTS = Board("Six", 6, port_fuse_a=2)

# What is asked: packs, kit, the choice, house rules; what is in hand already; amps, or codes of why not.
SITUATIONS = {
    "four alike at the house rate": (FOUR, kit(), Choice(TAGS[:4], **ON_SIX), {}, (), 7.2),
    "two volts apart wait and charge": (
        (even("P1", 3.70, discharge_c=95), even("P2", 3.79, discharge_c=95)), kit(), Choice(TAGS[:2], **ON_SIX), {}, (), 3.6),
    "own amps below all limits": (FOUR, kit(), Choice(TAGS[:4], **ON_SIX, current_a=4.5), {}, (), 4.5),
    "own amps above the channel": (FOUR, kit(), Choice(TAGS[:4], **ON_SIX, current_a=25.0), {}, (), ("over_limit",)),
    "a rate chosen on the card": (FOUR, kit(), Choice(TAGS[:4], **ON_SIX, rate_c=0.5), {}, (), 3.6),
    "a rate over the label": (FOUR, kit(), Choice(TAGS[:4], **ON_SIX, rate_c=3.0), {}, (), 7.2),
    "an 80 W mate on the charger": (
        FOUR, kit(), Choice(TAGS[:3], **ON_SIX), {"rate_c": 3}, (Choice(("P4",), channel="duo-2", current_a=1.0),), 5.4),
    "252 W on the other channel": (
        (*alike(3, max_charge_c=4), even("Q", 3.75, mah=5000, max_charge_c=5)), kit(), Choice(TAGS[:3], **ON_SIX),
        {"rate_c": 3}, (Choice(("Q",), channel="duo-2"),), 8.8),
    "the channel is taken": (
        FOUR, kit(), Choice(TAGS[:2], **ON_SIX), {}, (Choice(("P4",), channel="duo-1"),), ("channel_busy",)),
    "a pack is in hand": (
        FOUR, kit(), Choice(TAGS[:4], **ON_SIX), {}, (Choice(("P4",), channel="duo-2"),), ("pack_busy",)),
    "ports fused at 2 A": (FOUR, kit(TWO_AMP_PORTS), Choice(TAGS[:4], **ON_SIX, rate_c=2.0), {"rate_c": 2}, (), 7.2),
    "3.8 A through a 2 A port": (
        alike(1), kit(TWO_AMP_PORTS), Choice(("P1",), **ON_SIX, current_a=3.8), {"rate_c": 3}, (), ("over_limit", "over_limit")),
    "10S on a channel of 6": ((even("P1", 3.75, 10),), kit(), ALONE, {}, (), ("channel_cells",)),
    "five volts into ten": (
        ONE, fed_by(Source("bank", 5.0, None, 60, 40, 1.0), input_min_v=10.0), ALONE, {}, (), ("input_too_low",)),
    "six from what 58 Wh leave": (
        alike(6, 3.6, mah=1500), fed_by(BANK), Choice(TAGS, **ON_SIX), {}, (), ("energy_short",)),
    "six part of the way": (
        alike(6, 3.6, mah=1500), fed_by(BANK), Choice(TAGS, **ON_SIX, end_v=3.76), {}, (), 9.0),
    "a bank half used": (
        alike(2, mah=1500), fed_by(Source("bank", 12.8, None, 500, 100, 0.8, taken_wh=60)), Choice(TAGS[:2], **ON_SIX),
        {}, (), ("energy_short",)),
    "a bank without a figure": (
        alike(2), fed_by(Source("bank", 12.8, None, 500)), Choice(TAGS[:2], **ON_SIX), {}, (), 3.6),
    "a supply behind a supply": (
        alike(4, max_charge_c=3),
        fed_by(Source("bank", 12.8, None, 500, 900, 1.0), Supply("up", 100, 24, "inverter", 0.9),
               Supply("inverter", 90, 12, "bank", 0.8)), Choice(TAGS[:4], **ON_SIX), {"rate_c": 2}, (), 4.3),
    "fed by mains for once": (
        alike(4, mah=1500), fed_by(Source("bank", 12.8, None, 30, 30, 1.0)), Choice(TAGS[:4], **ON_SIX, fed_by="mains"), {}, (),
        6.0),
    "weak, one cell low": (WEAK, kit(), Choice(("P1",), channel="duo-1", rate_c=2.0), {"rate_c": 2}, (), 0.9),
    "nearly flat": ((even("P1", 3.05),), kit(), ALONE, {"rate_c": 3}, (), 0.9),
    "weak beside another": (
        (*WEAK, even("P2", 3.8)), kit(), Choice(("P1", "P2"), **ON_SIX), {}, (), ("cells_apart_weak",)),
    "aged to half of its label": ((even("P1", 3.75, capacity_now_mah=1000),), kit(), ALONE, {}, (), 1.0),
    "4.24 V a cell": ((even("P1", 4.24),), kit(), ALONE, {}, (), ("above_full",)),
    "a lihv cell at 4.40 V": ((even("P1", 4.40, chemistry="lihv"),), kit(), ALONE, {}, (), ("over_full",)),
    "full already": ((even("P1", 4.20),), kit(), ALONE, {}, (), 1.8),
    "not measured": ((pack("P1", cells=4),), kit(), ALONE, {}, (), ("not_measured",)),
    "damaged": ((even("P1", 3.8, condition="damaged"),), kit(), ALONE, {}, (), ("damaged",)),
    "li-ion 3S at 8.40 V in all": ((total("P1", 8.40, 3, "li-ion"),), kit(), ALONE, {}, (), ("count_doubt",)),
    "li-ion to 4.10 V": (
        (even("P1", 3.6, 3, chemistry="li-ion", mah=3500),), kit(), Choice(("P1",), channel="duo-1", end_v=4.10), {}, (), 3.5),
    "lipo to 4.35 V": (ONE, kit(), Choice(("P1",), channel="duo-1", end_v=4.35), {}, (), ("choice_end",)),
    "nickel alone": ((total("P1", 9.8, 8, "nimh", mah=2400),), kit(charger=Charger("duo", (Channel("duo-1", 5, 80, max_cells=14),))), ALONE, {}, (), 2.4),
    "nimh at the volts of a lipo": ((total("P1", 27.9, 8, "nimh"),), kit(), ALONE, {}, (), ("volts_disagree",)),
    "one cell": ((even("P1", 3.8, 1, mah=500),), kit(), ALONE, {}, (), 0.5),
    "joined as the rule on joining forbids": (
        (*alike(3, 3.70, mah=1300, discharge_c=95), even("H", 3.79, mah=1300, discharge_c=95)), kit(),
        Choice((*TAGS[:3], "H"), **ON_SIX), {"join_peak_c": 1.0}, (), ("join_peak",)),
    "balance leads first, too far apart": (
        (even("P1", 3.70), even("P2", 3.79)), kit(), Choice(TAGS[:2], **ON_SIX),
        {"join_order": JoinOrder.BALANCE_FIRST}, (), 3.6),
    "on two boards hung together": (
        alike(6), kit(Board("Six", 4, max_current_a=40), Board("Two", 4, chains_to="Six")),
        Choice(TAGS, "Six + Two", "duo-1"), {}, (), 10.8),
    "behind an adapter": (
        (even("P1", 3.75, mah=20000, connector="XT90"),), kit(Board("Six", 6, connector="XT30")),
        Choice(("P1",), **ON_SIX), {}, (), 15.0),
}  # fmt: skip


NEVER = (("not_measured",), ("damaged",), ("choice_end",))
"""Nothing is even worked out for these."""


class Asked:
    """One situation in the application, its exported file, and the core's bench of that file."""

    def __init__(self, app, tmp_path, packs, kit, choice, rules, in_hand):
        parts = app.extensions["iterum"]
        self.runs, self.desk, self.choice = parts["runs"], parts["desk"], choice
        self.desk.write(Session(packs, kit, HouseRules(**{"rate_c": 1.0, **rules})), NOON)
        for other in in_hand:
            self.runs.begin(other, NOON)
        self.visitor = Visitor(app)
        document = json.loads(self.visitor.get("/files/session.json").text) | {"group": choice_document(choice)}
        self.file = tmp_path / "asked.json"
        self.file.write_text(json.dumps(document))
        self.bench = self.desk.bench(NOON)

    def command(self, name, *options):
        return CliRunner().invoke(main, [name, str(self.file), *options])

    def page(self):
        return self.visitor.get("/charge", query_string=choice_document(self.choice)).text

    def begin(self, page):
        """Press the button of the card as it stands; the run, or None."""
        form = re.search(r'<form method="post" action="/run".*?</form>', page, re.S)
        if form is None:
            return None
        fields: dict[str, list[str]] = {}
        for name, value in re.findall(r'name="(\w+)" value="([^"]*)"', form[0]):
            fields.setdefault(name, []).append(html.unescape(value))
        self.visitor.post("/run", **fields)
        return self.runs.open()[-1]


@pytest.mark.parametrize("name", SITUATIONS)
def test_page_command_file_and_plan_agree(name, empty_app, tmp_path):
    *asked, wanted = SITUATIONS[name]
    here = Asked(empty_app, tmp_path, *asked)
    judged = charge(here.bench, here.choice) if wanted not in NEVER else None
    text = " ".join(html.unescape(here.page()).split())
    if isinstance(wanted, tuple):
        _refused_everywhere(here, wanted, judged, text)
        return
    sizing = size(here.bench, here.choice)
    assert (sizing.current_a, sizing.joining.passes) == (wanted, True)
    same = [(told.charge.minutes, told.charge.energy_in_wh, told.joining.wait_min) for told in (sizing, judged)]
    assert same[0] == same[1]
    answers = [json.loads(here.command(command, "--json").stdout) for command in ("size", "charge")]
    for answer in answers:
        assert answer["current_a"] == pytest.approx(wanted)
        assert answer["energy_in_wh"] == pytest.approx(sizing.charge.energy_in_wh, abs=1e-5)
        assert answer["wait_min"] == pytest.approx(sizing.joining.wait_min)
    assert answers[0]["minutes_about"] == answers[1]["minutes"] == pytest.approx(sizing.minutes, abs=1e-5)
    assert answers[0]["limits"] == answers[1]["limits"]
    assert answers[1]["verdict"] == judged.level.value
    assert f'big-amps"><b>{wanted:.1f}</b>' in text
    full = f"full in about <b>{minutes(sizing.minutes)}</b>"
    assert (full if sizing.full_v else f"full in <b>{minutes(sizing.minutes)}</b> at most, from empty") in text
    if sizing.full_v:
        assert f"gives {span(sizing.charge.energy_in_wh, sizing.charge.energy_in_high_wh, 1)} Wh" in text
    run = here.begin(here.page())
    assert (run.current_a, run.card, run.choice.packs) == (wanted, sizing.dial, sizing.joining.order)
    _planned_alike(here, sizing)


def _refused_everywhere(here, codes, judged, text):
    with pytest.raises(Unsafe) as refusal:
        here.runs.offer(here.choice, NOON)
    assert set(codes) <= {item.code for item in refusal.value.reasons}
    assert "Start this batch" not in text
    begun = len(here.runs.open())
    answer = html.unescape(here.visitor.post("/run", **choice_document(here.choice)).text)
    assert len(here.runs.open()) == begun
    sized = here.command("size", "--json")
    for item in refusal.value.reasons:
        if item.code in codes:
            assert about(item) in text
            assert about(item) in " ".join(answer.split())
            assert about(item) in (
                sized.stderr if sized.exit_code == 3 else json.loads(sized.stdout)["joining"]["reasons"][0]["text"]
            )
    if judged is None:
        assert here.command("charge", "--json").exit_code == 3
    else:
        told = json.loads(here.command("charge", "--json").stdout)
        assert told["verdict"] == judged.level.value == "stop"
        assert set(codes) <= {item["code"] for item in told["reasons"]}
    document = json.loads(here.command("plan", "--seconds", "0.1", "--json").stdout)
    if here.choice.current_a is None and here.choice.end_v is None:
        at_once = [
            (set(batch["packs"]), batch["channel"]) for batch in document["batches"] if batch["start_min"] < 1e-6
        ]
        assert (set(here.choice.packs), here.choice.channel) not in at_once


def _planned_alike(here, sizing):
    """Whatever a plan of the same bench begins now is what `size` says at its amps."""
    session = here.desk.session(NOON)
    for batch in Planner(session).plan().batches:
        if batch.start_min < 1e-6:
            again = size(here.bench, Choice(batch.packs, batch.board, batch.channel, current_a=batch.current_a))
            assert again.charge.energy_in_wh == pytest.approx(batch.energy_in_wh, rel=1e-4)
            assert again.minutes == pytest.approx(batch.full_min - batch.lead_min, rel=1e-4)
            assert again.joining.wait_min == batch.lead_min - batch.start_min - session.rules.setup_min
