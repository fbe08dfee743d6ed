"""What a plan shares: channels as unlike machines, boards, and the watts and hours of whatever feeds them."""

from dataclasses import replace
from datetime import datetime, time, timedelta
from functools import cached_property
from math import inf

from iterum.core.amps.limits import slower_current
from iterum.core.fields import ANY
from iterum.core.planning.batches import Machine
from iterum.core.planning.known import Known
from iterum.core.things.bench import Bench
from iterum.core.things.feed import Feed
from iterum.core.things.kit import Board, Channel, Kit, Source
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session
from iterum.core.things.setup import Setup

RATE_PARTS = (1.0, 0.75, 0.5)
"""Parts of the amps that sizing allows, at which a batch may be charged: the fastest starves others of watts. After
them come the even shares of every shared limit, which no part of the amps hits."""
MOST_SHARES = 3
"""Into so many even shares a limit is split at most."""


class Resources:
    """The kit of a session as resources of a plan."""

    session: Session
    known: Known

    @property
    def rules(self) -> HouseRules:
        """The house rules in force."""
        return self.session.rules

    @property
    def kit(self) -> Kit:
        """The kit to plan with."""
        return self.session.kit

    @cached_property
    def bench(self) -> Bench:
        """The bench with nothing in hand: what charges already is among `fixed`, with its times."""
        return replace(self.session.bench, running=())

    @cached_property
    def machines(self) -> tuple[Machine, ...]:
        """Channels whose input volts are right."""
        machines: list[Machine] = []
        for _, channel in self.kit.channels():
            feed = self.bench.setup(None, channel.id).feed
            if feed.input_fault() is None:
                machines.append(Machine(len(machines), channel, feed, _uses(feed)))
        return tuple(machines)

    def machine_of(self, channel: str) -> Machine | None:
        """The machine of a channel, None where it is not in the kit or its input volts are wrong."""
        return next((item for item in self.machines if item.channel.id == channel), None)

    def board_of(self, board: str | None) -> int | None:
        """The index of a board, -1 for none, None where it is not in the kit."""
        if board is None:
            return -1
        return next((at for at, item in enumerate(self.boards) if item.id == board), None)

    @cached_property
    def limits_w(self) -> dict[str, float]:
        """Watts of every shared resource, counted where it stands: at the packs, the supply's output, the source."""
        limits_w: dict[str, float] = {}
        for machine in self.machines:
            feed = machine.feed
            own = [w for w in (feed.charger.total_power_w, feed.charger_input_power_w) if w is not None]
            limits_w[f"charger {feed.charger.id}"] = min(own, default=inf)
            limits_w |= {f"supply {supply.id}": supply.max_power_w for supply in feed.supplies}
            if feed.source:
                limit_w = feed.source.power_limit_w
                limits_w[f"source {feed.source.id}"] = inf if limit_w is None else limit_w
        return limits_w

    @cached_property
    def shares_w(self) -> tuple[tuple[str, float], ...]:
        """(resource, W of it) of the even shares of every limit that several channels share."""
        shares_w = []
        for name, limit_w in self.limits_w.items():
            users = sum(name in dict(machine.uses) for machine in self.machines)
            shares_w += [(name, limit_w / among) for among in range(2, min(users, MOST_SHARES) + 1) if limit_w < inf]
        return tuple(shares_w)

    @property
    def parts(self) -> int:
        """How many rates a batch may be charged at: parts of the most, and even shares."""
        return len(RATE_PARTS) + len(self.shares_w)

    def gentler(self, part: int) -> range:
        """Rates to try for fewer amps than those of a batch, the least first.

        part : which of the `parts`.
        """
        return range(len(RATE_PARTS) - 1, part, -1) if part < len(RATE_PARTS) else range(0)

    def _slower_a(self, part: int, most_a: float, machine: int, full_v: float, channel: Channel) -> float:
        """The amps of one of the rates, in the channel's steps."""
        if part < len(RATE_PARTS):
            return slower_current(most_a, RATE_PARTS[part], channel)
        name, share_w = self.shares_w[part - len(RATE_PARTS)]
        factor = dict(self.machines[machine].uses).get(name)
        if factor is None:
            return most_a
        return slower_current(most_a, min(share_w / factor / full_v / most_a, 1.0), channel)

    @cached_property
    def boards(self) -> tuple[Board, ...]:
        """Boards, the smallest first, so that a large one is not taken by a pair."""
        return tuple(sorted(self.kit.all_boards(), key=lambda board: (board.ports, board.id)))

    @cached_property
    def board_parts(self) -> tuple[tuple[int, ...], ...]:
        """By board, the indices of the boards it is made of: itself, or the two of a chain."""
        index = {board.id: number for number, board in enumerate(self.boards)}
        return tuple(tuple(index[part] for part in board.part_ids) for board in self.boards)

    def quiet_min(self, source: Source | None) -> tuple[tuple[float, float], ...]:
        """(from, until) in which a source must not run, over two weeks from minute 0: longer than any plan."""
        if source is None or not source.quiet_hours or self.session.starts_at is None:
            return ()
        starts_at = self.session.starts_at
        spans = []
        for day in range(-1, QUIET_DAYS):
            for low, high in source.quiet_hours:
                begins, ends = (_minute_of(text, starts_at, day) for text in (low, high))
                spans.append((begins, ends if ends > begins else ends + DAY_MIN))
        return tuple((low, high) for low, high in spans if high > 0)

    def setup(self, machine: int, board: int) -> Setup:
        """The board, channel and feed behind two indices.

        machine : index of a channel of the problem.
        """
        key = (machine, board)
        if key not in self.known.setups:
            self.known.setups[key] = self._setup(machine, board)
        return self.known.setups[key]

    def _setup(self, machine: int, board: int) -> Setup:
        place = self.machines[machine]
        return self.bench.setup(None if board < 0 else self.boards[board].id, place.channel.id)

    @cached_property
    def alike(self) -> tuple[tuple[int, ...], tuple[int, ...]]:
        """By machine and by board, the first one that is just like it: what holds for one holds for the other."""
        machines = [(replace(item.channel, id=ANY, name=None), replace(item.feed, charger=replace(
            item.feed.charger, id=ANY, name=None, channels=()))) for item in self.machines]  # fmt: skip
        boards = [replace(board, id=ANY, name=None, note=None) for board in self.boards]
        return tuple(machines.index(item) for item in machines), tuple(boards.index(board) for board in boards)


DAY_MIN = 24 * 60.0
QUIET_DAYS = 14


def _minute_of(clock: str, starts_at: datetime, day: int) -> float:
    """Minutes from the session's start until a time of day, so many days on.

    Where the session is of this machine's place, by the rules of that date: a generator's quiet hours end by the
    clock on the wall, also in the night in which clocks change.
    """
    shown = datetime.combine(starts_at.date() + timedelta(days=day), time.fromisoformat(clock))
    here = starts_at.astimezone().utcoffset() == starts_at.utcoffset()
    at = shown.astimezone() if here else shown.replace(tzinfo=starts_at.tzinfo)
    return (at - starts_at) / timedelta(minutes=1)


def _uses(feed: Feed) -> tuple[tuple[str, float], ...]:
    """By resource, the watts of it for each watt at the packs."""
    kinds = dict.fromkeys((supply.id for supply in feed.supplies), "supply")
    links = ((f"{kinds.get(link, 'source')} {link}", 1 / part) for link, part in feed.efficiencies.items())
    return ((f"charger {feed.charger.id}", 1.0), *links)
