"""What the Match page shows, from results of the core."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from iterum.core.groups.matching import LeftOut, Matching
from iterum.core.permit.permit import Permit
from iterum.core.say import say
from iterum.core.sizing.arrange import Placed
from iterum.core.things.curve import StateOfCharge
from iterum.core.things.packs import Pack
from iterum.core.things.session import Session
from iterum.web.match.join import JoinPage
from iterum.web.pictures import ladder
from iterum.web.words import amps, letter


@dataclass(frozen=True)
class GroupCard:
    """One group beside the ladder: its letter, where it would be charged, its ladder for a phone."""

    letter: str
    placed: Placed
    small: ladder.Ladder | None
    joined: JoinPage | None
    after: str = ""

    @property
    def ids(self) -> list[str]:
        """Tags of its packs, in the order to plug them in."""
        return [pack.id for pack in self.placed.packs]

    @property
    def total_ah(self) -> float:
        """Ah of all its packs together."""
        return sum(pack.capacity_ah for pack in self.placed.packs)


@dataclass(frozen=True)
class MatchPage:
    """One class on the Match page. `pages` are ranges of groups when one ladder cannot show them all."""

    family: str
    picture: ladder.Ladder | None
    cards: tuple[GroupCard, ...]
    left_out: tuple[LeftOut, ...]
    verdicts: dict[str, Permit]
    fix_minutes: float
    proven: bool
    page: int
    pages: int
    names: Mapping[str, str]


def _tags(placed: Placed) -> tuple[str, ...]:
    return tuple(pack.id for pack in placed.packs)


def _head(placed: Placed) -> tuple[str, int | None]:
    """Amps and ports that stand at a group's head."""
    sizing = placed.sizing
    board = sizing.setup.board if sizing else None
    text = f"{amps(sizing.current_a)} A" if sizing and placed.offered else say("not as it is")
    return text, board.ports if board else None


def _pages(groups: Sequence[Placed], left: int) -> list[list[int]]:
    """Groups by ladder page, so that no column gets narrower than can be seen."""
    room = ladder.columns_that_fit(756.0)
    pages: list[list[int]] = [[]]
    used = left
    for index, placed in enumerate(groups):
        needed = len(placed.packs) + 5
        if pages[-1] and used + needed > room:
            pages.append([])
            used = 0
        pages[-1].append(index)
        used += needed
    return pages


def soc_by_pack(verdicts: Sequence[Permit]) -> dict[str, float]:
    """State of charge (0..1) by pack id, to fill rungs with."""
    by_pack: dict[str, StateOfCharge] = {item.pack.id: item.soc for item in verdicts if item.soc is not None}
    return {pack_id: soc.middle for pack_id, soc in by_pack.items()}


def match_page(
    session: Session,
    matching: Matching,
    placed: Sequence[Placed],
    family: str,
    page: int,
    joined: Callable[[Placed], JoinPage | None],
) -> MatchPage:
    """Everything the page shows of one class. `joined` tells how a group evens out."""
    mine = [item for item in placed if item.packs[0].family == family]
    left = tuple(item for item in matching.left_out if item.pack.family == family)
    verdicts = [verdict for verdict in matching.verdicts if verdict.pack.family == family]
    soc = soc_by_pack(verdicts)
    pages = _pages(mine, len(left))
    page = min(max(page, 0), len(pages) - 1)
    chosen = pages[page]
    shown_left = left if page == 0 else ()
    picture = ladder.draw(
        [item.group for index in chosen if (item := mine[index]).group],
        shown_left,
        session.rules,
        soc,
        [_head(mine[index]) for index in chosen],
        first_letter=chosen[0] if chosen else 0,
    )
    cards = tuple(
        GroupCard(
            letter(index),
            mine[index],
            ladder.draw(
                [group], (), session.rules, soc, [_head(mine[index])],
                width=360.0, height=380.0, first_letter=index,
            ),
            joined(mine[index]),
            next((letter(at) for at, item in enumerate(mine) if _tags(item) == mine[index].after), ""),
        )
        for index in chosen
        if (group := mine[index].group)
    )  # fmt: skip
    minutes = sum(item.fix.numbers.get("minutes", 0.0) for item in left if item.lift is not None)
    return MatchPage(
        family, picture, cards, left, {v.pack.id: v for v in verdicts}, minutes, matching.proven, page, len(pages),
        {channel.id: channel.name or channel.id for _, channel in session.kit.channels()},
    )  # fmt: skip


def groups_to_move_to(cards: Sequence[GroupCard], pack: Pack) -> list[tuple[str, str]]:
    """(letter, id of a pack in it) of the groups another pack could be moved to."""
    return [(card.letter, card.ids[0]) for card in cards if pack.id not in card.ids]
