"""Groups after the pilot moved packs by hand, and where each group would best be charged."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from iterum.core.feed import feed_of
from iterum.core.kit import Board, Kit
from iterum.core.matching import Group, LeftOut, Matching, judge_group, refusals
from iterum.core.packs import Pack
from iterum.core.reasons import Unsafe, reason
from iterum.core.rules import HouseRules
from iterum.core.sizing import Setup, Sizing, setup_faults, size_joinable


def move_by_hand(matching: Matching, pack_id: str, with_pack_id: str | None, kit: Kit, rules: HouseRules) -> Matching:
    """The matching with one pack moved into the group of another, or out (`with_pack_id` None).

    A group that breaks a rule is kept, with its reasons: the pilot sees at once what is wrong with it, and
    sizing refuses it. Raises Unsafe for a pack that shares no board whatever the others are, and KeyError
    for a pack that is not there.
    """
    joins = {verdict.pack.id: verdict.joins for verdict in matching.verdicts}
    pack = next((verdict.pack for verdict in matching.verdicts if verdict.pack.id == pack_id), None)
    if pack is None or (with_pack_id is not None and with_pack_id not in joins):
        raise KeyError(pack_id if pack is None else with_pack_id)
    for mover in (pack_id, with_pack_id):
        if mover is not None and not joins[mover]:
            verdict = next(item for item in matching.verdicts if item.pack.id == mover)
            raise Unsafe(tuple(replace(item, numbers={**item.numbers, "id": mover}) for item in verdict.reasons))
    sets = [[member for member in group.packs if member.id != pack_id] for group in matching.groups]
    left = {item.pack.id: item for item in matching.left_out if item.pack.id != pack_id}
    if with_pack_id is None:
        left[pack_id] = LeftOut(pack, reason("taken_out"), reason("fix_put_back", id=pack_id))
    elif with_pack_id in left:
        sets.append([left.pop(with_pack_id).pack, pack])
    else:
        next(members for members in sets if any(member.id == with_pack_id for member in members)).append(pack)
    for members in sets:
        if len(members) == 1:
            alone = members[0]
            left[alone.id] = LeftOut(alone, reason("others_gone"), reason("fix_alone", id=alone.id))
    groups = tuple(_judged(members, kit, rules) for members in sets if len(members) > 1)
    return replace(matching, groups=groups, left_out=tuple(left.values()))


def _judged(members: Sequence[Pack], kit: Kit, rules: HouseRules) -> Group:
    return judge_group(members, rules, kit.ports_for(members[0].cells))


@dataclass(frozen=True)
class Placed:
    """A group (or one pack alone) with the place suggested for it.

    sizing : None when no board and channel of the kit can charge it; then `refusal` says why.
    """

    packs: tuple[Pack, ...]
    group: Group | None
    setup: Setup | None
    sizing: Sizing | None
    refusal: Unsafe | None


def setups_for(packs: Sequence[Pack], kit: Kit) -> list[Setup]:
    """Every board and channel of the kit that could be tried for these packs."""
    boards: Sequence[Board | None] = [None]
    if len(packs) > 1:
        boards = [board for board in kit.all_boards() if board.takes(packs[0].cells) and board.ports >= len(packs)]
    return [Setup(board, channel, feed_of(charger, kit)) for board in boards for charger, channel in kit.channels()]


def _needs_adapter(packs: Sequence[Pack], board: Board | None) -> bool:
    """Whether the board's plugs are known to be others than the packs'."""
    if board is None or board.connector is None:
        return False
    return any(pack.connector not in (None, board.connector) for pack in packs)


def suggest(packs: Sequence[Pack], kit: Kit, rules: HouseRules, taken: Sequence[str] = ()) -> Placed:
    """The board and channel that give these packs the most amps, on a board of their own connector first.

    Among equals, what is not `taken` yet (ids of boards and channels), then the smallest board.
    """
    best: tuple[tuple[bool, float, int, int], Setup, Sizing] | None = None
    unfit = refusals(packs, rules, None)
    refusal = Unsafe(unfit) if unfit else None
    for setup in () if unfit else setups_for(packs, kit):
        try:
            faults = setup_faults(packs, setup)
            if faults:
                raise Unsafe(tuple(faults))
            sizing = size_joinable(packs, setup, rules)
        except Unsafe as error:
            refusal = refusal or error
            continue
        adapter = _needs_adapter(packs, setup.board)
        busy = (setup.channel.id in taken) + (setup.board is not None and setup.board.id in taken)
        merit = (adapter, -sizing.current_a, busy, setup.board.ports if setup.board else 0)
        if best is None or merit < best[0]:
            best = merit, setup, sizing
    if best is None:
        return Placed(tuple(packs), None, None, None, refusal or Unsafe((reason("nothing_to_charge_with"),)))
    return Placed(tuple(packs), None, best[1], best[2], None)


def place_groups(groups: Sequence[Group], kit: Kit, rules: HouseRules) -> tuple[Placed, ...]:
    """A suggested board and channel for each group, spread over the kit."""
    taken: list[str] = []
    placed = []
    for group in groups:
        found = suggest(group.packs, kit, rules, taken)
        if found.setup is not None:
            taken += [found.setup.channel.id, found.setup.board.id if found.setup.board else ""]
        placed.append(replace(found, group=group))
    return tuple(placed)
