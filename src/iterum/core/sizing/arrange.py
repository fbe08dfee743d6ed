"""Groups after the pilot moved packs by hand, and where each group would best be charged."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from iterum.core.amps.limits import adapters, limits_and_current, setup_faults
from iterum.core.electrical.estimate import energy_to_wh
from iterum.core.electrical.joining import PORT, Joining, joining
from iterum.core.groups.group import Group, judge_group, refusals
from iterum.core.groups.matching import LeftOut, Matching, match_packs
from iterum.core.permit.permit import permits
from iterum.core.reasons import NotThere, Reason, Unsafe, reason
from iterum.core.sizing.size import Sizing, hookup, size
from iterum.core.things.bench import Bench, Running
from iterum.core.things.choice import Choice
from iterum.core.things.kit import Kit
from iterum.core.things.packs import Pack
from iterum.core.things.rules import HouseRules
from iterum.core.things.setup import Setup


def match(bench: Bench) -> Matching:
    """Group the packs that no batch has now, each left-out one with a fix that the kit at hand can do."""
    matching = match_packs(bench.free_packs, bench.rules, bench.kit.ports_for, permits(bench))
    in_hand = (
        LeftOut(pack, reason("in_hand", channel=bench.in_hand[pack.id].channel), reason("fix_in_hand", id=pack.id))
        for pack in bench.packs
        if pack.id in bench.in_hand
    )
    verdicts = tuple(permits(bench).values())
    return replace(
        matching, verdicts=verdicts, left_out=(*(mended(bench, left) for left in matching.left_out), *in_hand)
    )


CHARGING_FIXES = frozenset(
    {"fix_alone", "fix_next_batch", "fix_cells_apart_weak", "fix_nearly_flat", "fix_ends_by_drop"}
)
"""Fixes that are a charge of the pack alone."""


def choice_of(left: LeftOut) -> Choice | None:
    """The charge that mends a left-out pack; None where something else does."""
    if left.lift is not None:
        return Choice(tuple(pack.id for pack in left.lift.packs), end_v=left.lift.until_v)
    return Choice((left.pack.id,)) if left.fix.code in CHARGING_FIXES else None


def mended(bench: Bench, left: LeftOut) -> LeftOut:
    """The same, its fix with the amps and minutes of the place that is free for it, or with what stands in its way."""
    choice = choice_of(left)
    if choice is None:
        return left
    _, sizing, refusal = answer(bench, choice)
    if sizing is None or refusal is not None:
        if left.lift is not None:  # then alone, where that can be done
            return mended(bench, replace(left, lift=None, fix=reason("fix_alone", id=left.pack.id)))
        why = refusal.reasons[0] if refusal else _nowhere(bench)
        return replace(left, fix=reason("fix_nowhere", id=left.pack.id, why=why))
    numbers = {**left.fix.numbers, "current_a": sizing.current_a, "minutes": sizing.minutes}
    numbers["channel"] = sizing.setup.channel.id
    return replace(left, fix=Reason(left.fix.code, numbers))


def move_by_hand(matching: Matching, pack_id: str, with_pack_id: str | None, kit: Kit, rules: HouseRules) -> Matching:
    """The matching with one pack moved into the group of another, or out (`with_pack_id` None).

    A group that breaks a rule is kept, with its reasons: the pilot sees at once what is wrong with it, and
    sizing refuses it. Raises Unsafe for a pack that shares no board whatever the others are, and NotThere
    for a pack that is not there.
    pack_id : its tag.
    """
    joins = {verdict.pack.id: verdict.joins for verdict in matching.verdicts}
    pack = next((verdict.pack for verdict in matching.verdicts if verdict.pack.id == pack_id), None)
    if pack is None or with_pack_id == pack_id or (with_pack_id is not None and with_pack_id not in joins):
        raise NotThere("pack", pack_id if pack is None else with_pack_id)
    for mover in (pack_id, with_pack_id):
        if mover is not None and not joins[mover]:
            verdict = next(item for item in matching.verdicts if item.pack.id == mover)
            raise Unsafe(tuple(replace(item, numbers={**item.numbers, "id": mover}) for item in verdict.reasons))
    in_hand = [item for item in matching.left_out if item.reason.code == "in_hand"]
    busy = [item.reason for item in in_hand if item.pack.id in (pack_id, with_pack_id)]
    if busy:
        raise Unsafe(tuple(busy))
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

    sizing : None when no board and channel that are free can charge it; then `refusal` says why. after : packs of a
    group placed before it that cannot be charged at the same time so; meanwhile : the bench while those charge.
    """

    packs: tuple[Pack, ...]
    group: Group | None
    sizing: Sizing | None
    refusal: Unsafe | None
    after: tuple[str, ...] = ()
    meanwhile: Bench | None = None

    @cached_property
    def beside(self) -> Choice | None:
        """Where it could go on beside all that go on first; None where nothing is left for it."""
        if self.meanwhile is None:
            return None
        try:
            choice = suggest(self.meanwhile, Choice(tuple(pack.id for pack in self.packs)))
            at = hookup(self.meanwhile, choice)
            return replace(choice, current_a=limits_and_current(at.packs, at.setup, at.rules)[1])
        except Unsafe:
            return None

    @property
    def offered(self) -> bool:
        """Whether it can be begun as it stands."""
        return self.sizing is not None and self.sizing.joining.passes


def suggest(bench: Bench, choice: Choice, taken: Sequence[str] = ()) -> Choice:
    """The choice with its open board and channel filled in: the free ones that give the most amps.

    A source that holds enough comes first, then a board whose plug fits; among equals, what is not `taken` yet (ids of
    boards and channels), then the smallest board. Raises Unsafe with the first reason where nothing can charge it,
    NotThere for what is not there.
    """
    faults = choice.faults()
    if faults:
        raise Unsafe(faults)
    packs, rules = bench.members(choice.packs), bench.rules
    if choice.board is not None and choice.channel is not None:
        return choice
    if choice.rate_c is not None:
        rules = replace(rules, rate_c=choice.rate_c)
    unfit = (*refusals(packs, rules, None), *_held(bench, choice))
    if unfit:
        raise Unsafe(unfit)
    best: tuple[tuple[bool, bool, float, int, int], Setup] | None = None
    end_v = choice.end_v or rules.full_v(packs[0].chemistry)
    need_wh = energy_to_wh(packs, end_v)
    refusal: Unsafe | None = None
    for setup in _setups(bench, packs, choice):
        try:
            faults = tuple(setup_faults(packs, setup))
            if faults:
                raise Unsafe(faults)
            amps = limits_and_current(packs, setup, rules, choice.current_a)[1]
        except Unsafe as error:
            refusal = refusal or error
            continue
        parts = setup.board.part_ids if setup.board else ()
        busy = (setup.channel.id in taken) + any(part in taken for part in parts)
        short = setup.left_wh is not None and need_wh / setup.feed.efficiency_from_source > setup.left_wh
        merit = (short, bool(adapters(packs, setup.board)), -amps, busy, setup.board.ports if setup.board else 0)
        if best is None or merit < best[0]:
            best = merit, setup
    if best is None:
        raise refusal or Unsafe((_nowhere(bench),))
    board = best[1].board
    return replace(choice, board=board.id if board else None, channel=best[1].channel.id)


def _held(bench: Bench, choice: Choice) -> tuple[Reason, ...]:
    return tuple(reason("pack_busy", id=tag) for tag in choice.packs if tag in bench.in_hand)


def _nowhere(bench: Bench) -> Reason:
    """Nothing suits them, or all that could is taken."""
    free = {channel.id for _, channel in bench.kit.channels()} - {batch.channel for batch in bench.running}
    return reason("nothing_to_charge_with" if free or not bench.running else "all_taken")


def _setups(bench: Bench, packs: Sequence[Pack], choice: Choice) -> Iterator[Setup]:
    """The setups to try: all that are free, or those with the board or channel that was chosen."""
    if choice.board is not None:
        chosen = (setup.channel.id for setup in bench.setups_for(packs[:1]))
        channels = [choice.channel] if choice.channel else list(dict.fromkeys(chosen))
        for channel_id in channels:
            yield bench.refed(channel_id, choice.fed_by).setup(choice.board, channel_id)
        return
    fed = bench.refed(choice.channel or "", choice.fed_by) if choice.channel else bench
    setups = [setup for setup in fed.setups_for(packs) if choice.channel in (None, setup.channel.id)]
    if choice.channel is not None and not setups:  # taken, or no board for them: the answer says why
        board = next(iter(bench.kit.all_boards()), None) if len(packs) > 1 else None
        setups = [fed.setup(board.id if board else None, choice.channel)]
    yield from setups


def answer(bench: Bench, choice: Choice, taken: Sequence[str] = ()) -> tuple[Choice, Sizing | None, Unsafe | None]:
    """A choice with what was open in it suggested, and its sizing or the refusal.

    taken : channels and boards that are promised already.
    """
    try:
        choice = suggest(bench, choice, taken)
        return choice, size(bench, choice), None
    except Unsafe as refusal:
        return choice, None, refusal


def amps_of(bench: Bench, choice: Choice) -> float | None:
    """The amps that `answer` would dial for a choice, without what the charge comes to; None where nothing would."""
    try:
        place = hookup(bench, suggest(bench, choice))
        return limits_and_current(place.packs, place.setup, place.rules, choice.current_a)[1]
    except Unsafe:
        return None


def place_groups(groups: Sequence[Group], bench: Bench) -> tuple[Placed, ...]:
    """A suggested board and channel for each group, spread over what is free of the kit.

    Of two that cannot be charged at the same time the second says after which it comes, and where it could go then.
    """
    taken: list[str] = []
    placed: list[Placed] = []
    full = bench
    for group in groups:
        if group.reasons:
            placed.append(Placed(group.packs, group, None, Unsafe(group.reasons)))
            continue
        choice, sizing, refusal = answer(bench, Choice(tuple(pack.id for pack in group.packs)), taken)
        if sizing is not None and choice.channel is not None:
            board = sizing.setup.board
            taken += [choice.channel, *(board.part_ids if board else ())]
        seat = Placed(group.packs, group, sizing, refusal)
        if seat.offered and sizing is not None:
            seat = _in_turn(seat, sizing, placed, full)
            if not seat.after:
                full = replace(full, running=(*full.running, _as_running(sizing)))
        placed.append(seat)
    return tuple(placed)


def _in_turn(placed: Placed, sizing: Sizing, before: Sequence[Placed], full: Bench) -> Placed:
    """What is placed, and after which group it comes.

    full : the bench with every group before it that goes on at once.
    """
    settled = sizing.settled
    ids = tuple(pack.id for pack in placed.packs)
    if not full.conflicts(ids, settled.board, settled.channel or "") and _fits(full, settled):
        return placed
    at_once = [item for item in before if item.offered and not item.after]
    if not at_once:
        return placed
    first = next((item for item in at_once if _collide(item, placed)), at_once[0])
    return replace(placed, after=tuple(pack.id for pack in first.packs), meanwhile=full)


def _fits(full: Bench, settled: Choice) -> bool:
    """Whether its amps pass every limit beside those that go on first."""
    try:
        at = hookup(full, settled)
        limits_and_current(at.packs, at.setup, at.rules, settled.current_a)
    except Unsafe:
        return False
    return True


def _collide(one: Placed, other: Placed) -> bool:
    """Whether two groups want the same channel, or the same board."""
    first, second = (item.sizing.setup if item.sizing else None for item in (one, other))
    if first is None or second is None:
        return False
    parts = [set(setup.board.part_ids) if setup.board else set() for setup in (first, second)]
    return first.channel.id == second.channel.id or bool(parts[0] & parts[1])


def _as_running(sizing: Sizing) -> Running:
    board = sizing.setup.board
    full_v = sizing.full_v or sizing.dial.pack_v * 1.2
    return Running(
        packs=tuple(pack.id for pack in sizing.packs),
        board=board.id if board else None,
        channel=sizing.setup.channel.id,
        current_a=sizing.current_a,
        power_w=sizing.current_a * full_v,
        energy_left_wh=sizing.charge.energy_out_wh,
        minutes_left=sizing.minutes,
    )


@dataclass(frozen=True)
class Gives:
    """What other kit would give a group: amps and minutes until full, now and then; None where it is not charged."""

    packs: tuple[Pack, ...]
    was_a: float | None
    then_a: float | None
    was_min: float | None
    then_min: float | None

    @property
    def changes(self) -> bool:
        """Whether it makes any difference."""
        return self.was_a != self.then_a


def what_it_gives(groups: Sequence[Group], bench: Bench, kit: Kit) -> tuple[Gives, ...]:
    """Today's groups, each at the best place that is free, with the kit as it is and with another one."""
    pairs = zip(place_groups(groups, bench), place_groups(groups, replace(bench, kit=kit)), strict=True)
    gains = []
    for was, then in pairs:
        one, other = (item.sizing if item.offered else None for item in (was, then))
        gains.append(
            Gives(was.packs, one.current_a if one else None, other.current_a if other else None,
                  one.minutes if one else None, other.minutes if other else None)
        )  # fmt: skip
    return tuple(gains)


def joinings(matching: Matching, bench: Bench) -> tuple[Joining, ...]:
    """The verdict on joining each group, at the place and amps suggested for it; without a place at the wanted rate."""
    joined = []
    for placed in place_groups(matching.groups, bench):
        if placed.sizing is not None:
            joined.append(placed.sizing.joining)
            continue
        boards = [board for board in bench.kit.all_boards() if board.takes(placed.packs[0].cells)]
        port = min((board.port for board in boards), key=lambda port: port.lead_mohm, default=PORT)
        joined.append(joining(placed.packs, bench.rules, port))
    return tuple(joined)
