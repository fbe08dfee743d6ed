"""What the dial card shows, from results of the core."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from iterum.core.arrange import suggest
from iterum.core.charging import Charge, charge, watts_cost_min
from iterum.core.feed import feed_of
from iterum.core.kit import Board, Channel, Charger, Kit, find
from iterum.core.matching import plug_in_order
from iterum.core.packs import Pack
from iterum.core.reasons import Reason, Unsafe, reason
from iterum.core.rules import JoinOrder
from iterum.core.session import Session
from iterum.core.sizing import Setup, Share, Sizing, size
from iterum.services.desk import kit_items
from iterum.web.pictures import curves, pinch

RATES = ("0.5", "1", "1.5", "2", "3")


@dataclass(frozen=True)
class Choice:
    """Which board, channel, rate and feed were chosen; empty keeps what is suggested or in the house rules."""

    board: str = ""
    channel: str = ""
    rate: str = ""
    feed: str = ""

    @classmethod
    def from_query(cls, query: Mapping[str, str]) -> "Choice":
        """What the page's form asks for."""
        return cls(*(query.get(name, "") for name in ("board", "channel", "rate", "feed")))


@dataclass(frozen=True)
class DialPage:
    """The dial card: what was chosen, the sizing or the refusal, and the picture."""

    packs: tuple[Pack, ...]
    choice: Choice
    setup: Setup | None
    sizing: Sizing | None
    refusals: tuple[Reason, ...]
    picture: pinch.Pinch | None
    charge: Charge | None
    charge_picture: curves.ChargePicture | None
    charge_small: curves.ChargePicture | None
    watts_cost_min: float
    boards: tuple[Board, ...]
    channels: tuple[tuple[Charger, Channel], ...]
    feeds: tuple[tuple[str, str], ...]

    @property
    def ids(self) -> list[str]:
        """Tags of the packs."""
        return [pack.id for pack in self.packs]

    @property
    def shares_in_order(self) -> list[Share]:
        """Each pack's share, in the order to plug the packs in."""
        shares = {share.id: share for share in (self.sizing.shares if self.sizing else ())}
        measured = [pack for pack in self.packs if pack.reading is not None]
        return [shares[pack_id] for pack_id in plug_in_order(measured) if pack_id in shares]


def _refed(kit: Kit, channel_id: str, feed: str) -> Kit:
    """The kit with the charger of one channel fed by something else."""
    fed_by = feed if feed in kit.feeder_ids() else None
    chargers = tuple(
        replace(charger, fed_by=fed_by) if any(channel.id == channel_id for channel in charger.channels) else charger
        for charger in kit.chargers
    )
    return replace(kit, chargers=chargers)


def _setup(session: Session, packs: Sequence[Pack], choice: Choice) -> Setup | None:
    """Board, channel and feed as chosen, the rest as suggested."""
    kit = session.kit
    suggested = suggest(packs, kit, session.rules).setup
    channel_id = choice.channel or (suggested.channel.id if suggested else "")
    if choice.feed:
        kit = _refed(kit, channel_id, choice.feed)
    board = find(kit.all_boards(), choice.board) if choice.board else suggested.board if suggested else None
    if len(packs) == 1 and not choice.board:
        board = None
    for charger, channel in kit.channels():
        if channel.id == channel_id:
            return Setup(board, channel, feed_of(charger, kit))
    return None


def _sized(packs: Sequence[Pack], setup: Setup | None, session: Session, rate: str) -> Sizing:
    """The sizing. Raises Unsafe."""
    if setup is None:
        found = suggest(packs, session.kit, session.rules)
        raise found.refusal or Unsafe((reason("nothing_to_charge_with"),))
    rules = replace(session.rules, rate_c=float(rate)) if rate in RATES else session.rules
    return size(packs, setup, rules)


def dial_page(session: Session, ids: Sequence[str], choice: Choice) -> DialPage:
    """Everything the dial card shows. Raises KeyError for a pack that is not there."""
    by_id = {pack.id: pack for pack in session.packs}
    packs = tuple(by_id[pack_id] for pack_id in dict.fromkeys(ids))
    setup = _setup(session, packs, choice)
    sizing: Sizing | None = None
    refusals: tuple[Reason, ...] = ()
    try:
        sizing = _sized(packs, setup, session, choice.rate)
    except Unsafe as refusal:
        refusals = refusal.reasons
    cells = packs[0].cells
    predicted = None
    if sizing and setup and packs[0].chemistry.table:
        settles = session.rules.join_order is JoinOrder.SETTLE_THEN_BALANCE
        predicted = charge(packs, setup, session.rules, sizing.current_a, settle_first=settles)
    end_v = session.rules.full_v(packs[0].chemistry)
    named = [(item.id, item.name or item.id) for item in kit_items(replace(session.kit, boards=(), chargers=()))]
    return DialPage(
        packs=packs,
        choice=choice,
        setup=setup,
        sizing=sizing,
        refusals=refusals,
        picture=pinch.draw(sizing, setup is None or setup.board is None) if sizing else None,
        charge=predicted,
        charge_picture=curves.draw_charge(predicted, cells, end_v) if predicted else None,
        charge_small=curves.draw_charge(predicted, cells, end_v, curves.PHONE_WIDTH) if predicted else None,
        watts_cost_min=watts_cost_min(packs, setup, session.rules, sizing) if sizing and setup else 0.0,
        boards=tuple(board for board in session.kit.all_boards() if board.takes(cells)),
        channels=tuple(session.kit.channels()),
        feeds=(("mains", "Mains"), *named),
    )
