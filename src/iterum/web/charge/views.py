"""What the dial card shows: a choice, and what the bench answers to it."""

from dataclasses import dataclass, replace

from iterum.core.amps.limits import Seats, seats_on
from iterum.core.electrical.charging import Charge, charge_packs, narrowing, watts_cost_min
from iterum.core.reasons import NotThere, Reason
from iterum.core.say import say
from iterum.core.sizing.arrange import answer
from iterum.core.sizing.dial import Share
from iterum.core.sizing.size import Sizing, may_decide, over_c
from iterum.core.things.bench import MAINS, Bench
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Board, Channel, Charger
from iterum.core.things.packs import Pack
from iterum.services.desk import kit_items
from iterum.web.pictures import curves, pinch


@dataclass(frozen=True)
class EndChoice:
    """One of the end volts between which a pilot chooses for this charge, with what it gives and takes."""

    end_v: float
    chosen: bool
    charge: Charge


@dataclass(frozen=True)
class DialPage:
    """The dial card: what was chosen, the sizing or the refusal, and the picture."""

    packs: tuple[Pack, ...]
    choice: Choice
    sizing: Sizing | None
    refusals: tuple[Reason, ...]
    picture: pinch.Pinch | None
    charge_picture: curves.ChargePicture | None
    charge_small: curves.ChargePicture | None
    narrowing: tuple[Reason, ...]
    watts_cost_min: float
    ends: tuple[EndChoice, ...]
    seats: Seats
    may_decide: bool
    boards: tuple[Board, ...]
    channels: tuple[tuple[Charger, Channel], ...]
    busy: frozenset[str]
    feeds: tuple[tuple[str, str], ...]

    @property
    def ids(self) -> list[str]:
        """Tags of the packs."""
        return [pack.id for pack in self.packs]

    @property
    def offered(self) -> bool:
        """Whether it can be begun as it stands."""
        return self.sizing is not None and self.sizing.joining.passes

    @property
    def over_label(self) -> tuple[Reason, ...]:
        """Packs that take more than their label says, or may take it."""
        return () if self.sizing is None else over_c(self.packs, self.sizing.charge)

    @property
    def shares_in_order(self) -> list[Share]:
        """Each pack's share, in the order to plug the packs in."""
        if self.sizing is None:
            return []
        shares = {share.id: share for share in self.sizing.shares}
        return [shares[tag] for tag in self.sizing.joining.order]


def dial_page(bench: Bench, choice: Choice) -> DialPage:
    """Everything the dial card shows. Raises NotThere for a pack that is not there."""
    packs = bench.members(choice.packs)
    _, sizing, refusal = answer(bench, choice)
    if not packs:
        raise NotThere("group", "of no pack")
    cells = packs[0].cells
    by_volts = sizing is not None and packs[0].chemistry.table is not None
    end_v = sizing.rules.full_v(packs[0].chemistry) if sizing else 0.0
    named = [(item.id, item.name or item.id) for item in kit_items(replace(bench.kit, boards=(), chargers=()))]
    board = sizing.setup.board if sizing else None
    return DialPage(
        packs=packs,
        choice=choice,
        sizing=sizing,
        refusals=refusal.reasons if refusal else (),
        picture=pinch.draw(sizing, board is None) if sizing else None,
        charge_picture=curves.draw_charge(sizing.charge, cells, end_v) if sizing and by_volts else None,
        narrowing=narrowing(packs) if sizing else (),
        charge_small=_small(sizing, cells, end_v) if sizing and by_volts else None,
        watts_cost_min=watts_cost_min(packs, sizing.setup, sizing.rules, sizing.limits) if sizing else 0.0,
        ends=_ends(sizing) if sizing else (),
        seats=seats_on(packs, board) if board and board.parts else (),
        may_decide=may_decide(packs, bench.rules),
        boards=tuple(board for board in bench.kit.all_boards() if board.takes(cells)),
        channels=tuple(bench.kit.channels()),
        busy=frozenset(batch.channel for batch in bench.running) | bench.taken_boards,
        feeds=((MAINS, say("Mains")), *named),
    )


def _small(sizing: Sizing, cells: int, end_v: float) -> curves.ChargePicture:
    return curves.draw_charge(sizing.charge, cells, end_v, curves.PHONE_WIDTH)


def _ends(sizing: Sizing) -> tuple[EndChoice, ...]:
    """What a charge to each of the usual end volts gives and takes; empty where nobody chooses."""
    chemistry = sizing.packs[0].chemistry
    now_v = sizing.rules.full_v(chemistry)
    ends = []
    for end_v in chemistry.end_choices_v:
        rules = replace(sizing.rules, end_v={**sizing.rules.end_v, chemistry.name: end_v})
        result = charge_packs(sizing.packs, sizing.setup, rules, sizing.current_a, sizing.joining.start)
        ends.append(EndChoice(end_v, abs(end_v - now_v) < 0.001, result))
    return tuple(ends)


def hidden(shown: DialPage) -> Choice:
    """The choice to be begun: every open question answered, the packs in the order to plug them in."""
    assert shown.sizing is not None
    return replace(shown.sizing.settled, packs=shown.sizing.joining.order)
