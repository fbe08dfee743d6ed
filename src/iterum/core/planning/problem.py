"""What a plan may be made of: who may share a batch, and what a batch costs on each board and channel.

Standard terms. A batch is packs charged together. Families (chemistry and cells) are never mixed. Channels are
unlike parallel machines; a board, a channel and the person are unary resources; watts of charger, supply and source
are cumulative ones; watt-hours of a source are a budget.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from math import ceil, inf, log2

import numpy as np

from iterum.core.amps.limits import current_to_dial, setup_faults
from iterum.core.electrical.charging import DAY_MIN, balance_allowance_min, charge_packs
from iterum.core.electrical.estimate import energy_to_wh
from iterum.core.electrical.joining import passing_order, waits_at_c
from iterum.core.electrical.resistance import resistance_of
from iterum.core.electrical.waiting import NO_WAIT_V, Waits, spread_per_cell_v, start_of, waits
from iterum.core.groups.group import figures, group_size_limit, in_plug_order, obstacles
from iterum.core.permit.permit import Permit, permit_of
from iterum.core.planning.batches import ESTIMATED_PART, Costs, Machine, PlannedBatch, batch_in_hand
from iterum.core.planning.known import Known
from iterum.core.planning.resources import Resources
from iterum.core.planning.rounds import ChargeKey, Flight, Round, Rounds, Waiting, heats_to_come, plan_rounds
from iterum.core.quantities import NOISE, at_most, ceil_to_step
from iterum.core.reasons import Unsafe
from iterum.core.sizing.dial import minutes_at
from iterum.core.things.bench import Running
from iterum.core.things.chemistry import END_STEP_V
from iterum.core.things.kit import Port
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.pilots import TableRule
from iterum.core.things.rules import HouseRules
from iterum.core.things.session import Session, Wish
from iterum.core.things.setup import Setup, least_power_w, total_ah


def _by_volts(pack: Pack) -> tuple[object, ...]:
    return pack.family, *figures(pack)


@dataclass
class Problem(Resources):
    """One session to plan, with the decisions on its heats. Answers about sets of packs are worked out once."""

    session: Session
    fixed: tuple[PlannedBatch, ...] = ()
    """Batches that are not to be moved: done, running, or about to be set up. Their packs are not in the session."""
    coming: tuple[Waiting, ...] = ()
    """Packs of those batches, and those that have flown: they may fly in heats, and come round again."""
    not_before: dict[tuple[int, ...], float] = field(default_factory=dict)
    """Batches, by their packs, that are to stay where an earlier plan had them: not before these minutes."""
    flights: tuple[Flight, ...] | None = None
    """The decisions on the heats to come, in the order of time; None: all of them whole, full packs first."""
    known: Known = field(default_factory=Known)
    evening: tuple[tuple[Pack, Running], ...] = ()
    """Packs that even out on a board without a channel, each with its run: neither they nor their board are planned."""

    def __post_init__(self) -> None:
        """Spares are wishes like others; packs that even out without a channel have their board, and wait."""
        evening = [batch for batch in self.session.running if not batch.channel]
        if evening:
            members = self.session.bench.members
            self.evening = tuple((pack, batch) for batch in evening for pack in members(batch.packs))
            self.session = self.session.without(evening)
        if any(wish.spare for wish in self.session.wanted):
            wanted = tuple(one for wish in self.session.wanted for one in wish.with_spares)
            self.session = replace(self.session, wanted=wanted)

    def otherwise(self, flights: tuple[Flight, ...]) -> "Problem":
        """The same with other decisions on its heats; what is known of its packs is shared."""
        return Problem(self.session, self.fixed, self.coming, self.not_before, flights, self.known, self.evening)

    @cached_property
    def taken(self) -> tuple[PlannedBatch, ...]:
        """Everything that is not to be moved: `fixed`, and what the session says is charging."""
        return (*self.fixed, *(batch_in_hand(running, self.session) for running in self.session.running))

    @cached_property
    def verdicts(self) -> tuple[Permit, ...]:
        """The verdict on each pack of the session that no batch has in hand."""
        return tuple(permit_of(pack, self.rules) for pack in self.session.bench.free_packs)

    @cached_property
    def packs(self) -> tuple[Pack, ...]:
        """Packs that may be charged and need it, by family and rising volts: what is to be planned."""
        if self.day is not None:
            return tuple(item.pack for item in self.rounds)
        chosen = [verdict.pack for verdict in self.verdicts if verdict.charges and not verdict.full]
        return tuple(sorted(chosen, key=_by_volts))

    @cached_property
    def keys(self) -> tuple[ChargeKey, ...]:
        """By pack, which charge of the day it stands for."""
        return tuple(item.key for item in self.rounds) or tuple(ChargeKey(pack.id) for pack in self.packs)

    @cached_property
    def index(self) -> dict[ChargeKey, int]:
        """Where in `packs` the pack of a charge is."""
        return {key: index for index, key in enumerate(self.keys)}

    @cached_property
    def numbers(self) -> tuple[int, ...]:
        """By pack, its number in what is known."""
        return tuple(self.known.number(pack, self.need_of((index,))) for index, pack in enumerate(self.packs))

    def need_of(self, members: tuple[int, ...]) -> float:
        """How full the packs of a batch must be, 0..1: as the neediest of their flights.

        members : indices into the packs of the problem.
        """
        return max(self.rounds[index].need for index in members) if self.rounds else 1.0

    def rules_of(self, members: tuple[int, ...]) -> HouseRules:
        """The house rules for a batch: where less than full is enough, its charge ends at lower volts.

        members : indices into the packs of the problem.
        """
        return self._rules_for(self.packs[members[0]], self.need_of(members))

    def end_v_of(self, members: tuple[int, ...]) -> float | None:
        """V per cell at which the charge of a batch ends, None where the house rules say it.

        members : indices into the packs of the problem.
        """
        rules = self.rules_of(members)
        return None if rules is self.rules else rules.full_v(self.packs[members[0]].chemistry)

    def _rules_for(self, pack: Pack, need: float) -> HouseRules:
        table, full_v = pack.chemistry.table, self.rules.full_v(pack.chemistry)
        if need >= 1 or table is None:
            return self.rules
        end_v = min(ceil_to_step(table.rest_v(need), END_STEP_V), full_v)
        key = (pack.chemistry_name, end_v)
        if key not in self.known.rules:
            self.known.rules[key] = replace(self.rules, end_v={**self.rules.end_v, pack.chemistry_name: end_v})
        return self.known.rules[key]

    def _numbers(self, members: tuple[int, ...]) -> tuple[int, ...]:
        return tuple([self.numbers[index] for index in members])

    @cached_property
    def joins(self) -> tuple[bool, ...]:
        """By pack, whether it may share a board at all."""
        return tuple(permit_of(pack, self.rules).joins for pack in self.packs)

    # ------------------------------------------------------------------ a day of heats

    @cached_property
    def day(self) -> Rounds | None:
        """Who flies in which heat, and so what is to be charged; None where nothing flies."""
        if not any(wish.is_heat or wish.pilot for wish in self.session.wanted):
            return None
        flights = self.flights or (Flight(),) * len(heats_to_come(self.session))
        return plan_rounds(self.session, self.verdicts, self.coming, flights, self.full_in_min)

    def full_in_min(self, pack: Pack, need: float = 1.0) -> float:
        """Minutes from setting a pack up until it can be full at the soonest: alone, on the channel that is best for
        it; without end where none charges it.

        need : how full, 0..1.
        """
        number = self.known.number(pack, need)
        if number not in self.known.full_in_min:
            rules = self._rules_for(pack, need)
            alone_min = min((self._alone_min(pack, machine, rules) for machine in self.machines), default=inf)
            self.known.full_in_min[number] = self.rules.setup_min + alone_min
        return self.known.full_in_min[number]

    def _alone_min(self, pack: Pack, machine: Machine, rules: HouseRules) -> float:
        setup = self.setup(machine.index, -1)
        if setup_faults([pack], setup):
            return inf
        try:
            return minutes_at([pack], current_to_dial([pack], setup, rules), setup, rules)
        except Unsafe:
            return inf

    @cached_property
    def rounds(self) -> tuple[Round, ...]:
        """By pack, the charge of the day it stands for; empty where nothing flies."""
        if self.day is None:
            return ()
        return tuple(sorted(self.day.rounds, key=lambda item: (*_by_volts(item.pack), item.number)))

    @cached_property
    def owners(self) -> dict[str, str | None]:
        """By tag, whose each pack is, those in hand and flying included."""
        owned = {item.pack.id: item.pack.pilot for item in self.coming}
        return owned | {pack.id: pack.pilot for pack in self.session.packs}

    @cached_property
    def asking(self) -> tuple[str, ...]:
        """Pilots who fly in heats that are to come, in the order of the table."""
        flying = {heat.pilot for heat in self.day.heats if heat.is_heat} if self.day is not None else set()
        return tuple(pilot.id for pilot in self.session.here if pilot.id in flying)

    @cached_property
    def most_wh(self) -> dict[str, float]:
        """By common source, the most Wh that each pilot may take of it where energy is shared evenly."""
        sources = [one for one in self.kit.sources if one.usable_wh is not None and one.pilot is None]
        if self.rules.table is not TableRule.EQUAL_ENERGY or len(self.session.here) < 2:
            return {}
        had_wh = {one.id: sum(self.session.had_wh.get((one.id, pilot.id), 0.0) for pilot in self.session.here)
                  for one in sources}  # fmt: skip
        return {one.id: ((one.usable_wh or 0.0) + had_wh[one.id]) / len(self.session.here) for one in sources}

    def part_of_each(self, members: tuple[int, ...]) -> dict[str, float]:
        """By pilot, the part of what goes into a batch that is for packs of theirs.

        members : indices into the packs of the problem.
        """
        whole_wh = sum(self.energy_wh_of(index) for index in members)
        parts: dict[str, float] = {}
        for index in members:
            pilot = self.packs[index].pilot
            if pilot is not None:
                parts[pilot] = parts.get(pilot, 0.0) + self.energy_wh_of(index) / max(whole_wh, NOISE)
        return parts

    @cached_property
    def before(self) -> tuple[int | None, ...]:
        """By pack, the index of the same pack's charge before this one, which must be over first."""
        last: dict[str, int] = {}
        earlier: list[int | None] = [None] * len(self.packs)
        for index in sorted(range(len(self.rounds)), key=lambda index: self.rounds[index].release_min):
            tag = self.packs[index].id
            earlier[index] = last.get(tag)
            last[tag] = index
        return tuple(earlier)

    def release_min(self, members: tuple[int, ...]) -> float:
        """From when on these packs are all there, and may be set up.

        members : indices into the packs of the problem.
        """
        there_min = max((self.rounds[index].release_min for index in members), default=0.0) if self.rounds else 0.0
        return max(there_min, self.not_before.get(members, 0.0)) if self.not_before else there_min

    def last_min(self, members: tuple[int, ...]) -> float:
        """When the first heat of these packs begins: full after that they are of no use for it; without end for packs
        that do not fly.

        members : indices into the packs of the problem.
        """
        if not self.rounds:
            return inf
        heats = (self.rounds[index].heat for index in members)
        return min((heat.at_min for heat in heats if heat.is_heat), default=inf)

    def due_min(self, index: int) -> float:
        """By when a pack is wanted full; without end where nobody asks.

        index : of a pack of the problem.
        """
        if self.rounds:
            return self.rounds[index].heat.at_min
        family = self.packs[index].family
        return min((wish.at_min for wish in self.wanted if wish.family == family), default=inf)

    @cached_property
    def away(self) -> tuple[tuple[float, float], ...]:
        """(from, until) of the heats: nobody is at the bench."""
        return tuple((wish.at_min, wish.over_min) for wish in self.wanted if wish.is_heat)

    @cached_property
    def families(self) -> dict[str, tuple[int, ...]]:
        """Indices of `packs` by family."""
        families: dict[str, list[int]] = {}
        for index, pack in enumerate(self.packs):
            families.setdefault(pack.family, []).append(index)
        return {name: tuple(members) for name, members in families.items()}

    @cached_property
    def balances_min(self) -> tuple[float, ...]:
        """By pack, the balancing allowance of a batch of it alone."""
        return tuple(balance_allowance_min([pack], self.rules) for pack in self.packs)

    @cached_property
    def wanted(self) -> tuple[Wish, ...]:
        """What is wanted full, the earliest first."""
        return tuple(sorted(self.session.wanted, key=lambda wish: wish.at_min))

    # ------------------------------------------------------------------ who may share a batch

    def may_join(self, members: Sequence[int]) -> bool:
        """Whether these packs may share a board by every rule of matching and joining (ports aside).

        members : indices into the packs of the problem.
        """
        members = tuple(sorted(members))
        if self.rounds and len({self._tags[index] for index in members}) < len(members):
            return False  # the same pack twice
        key = self._numbers(members)
        known = self.known.may_join.get(key)
        if known is None:
            known = self.known.may_join[key] = self._judge(members)
        return known

    @cached_property
    def _tags(self) -> tuple[str, ...]:
        return tuple(pack.id for pack in self.packs)

    def _judge(self, key: tuple[int, ...]) -> bool:
        if len(key) == 1:
            return True
        packs = [self.packs[index] for index in key]
        most = group_size_limit(self.rules, None)
        if not all(self.joins[index] for index in key) or (most is not None and len(key) > most):
            return False
        if obstacles(packs, self.rules):
            return False
        ports = {board.port for board in self.boards if board.takes(packs[0].cells)} or {Port()}
        return any(self._may_meet(key, port) for port in ports)

    def _may_meet(self, members: tuple[int, ...], port: Port) -> bool:
        """Whether the joining rule allows these packs on a board with such ports, in any order."""
        key = (self._numbers(members), port)
        if key not in self.known.may_meet:
            packs = [self.packs[index] for index in members]
            gentle = self._gentle(packs, port)
            self.known.may_meet[key] = gentle or passing_order(packs, self.rules, port) is not None
        return self.known.may_meet[key]

    def _in_order(self, members: tuple[int, ...], port: Port) -> tuple[Pack, ...]:
        packs = [self.packs[index] for index in members]
        return passing_order(packs, self.rules, port) or in_plug_order(packs)

    def plug_order(self, members: tuple[int, ...], board: int) -> tuple[ChargeKey, ...]:
        """The charges of a batch in the order to plug its packs in.

        members : indices into the packs of the problem. board : index of a board of the problem, -1 for none.
        """
        if len(members) == 1:
            return (self.keys[members[0]],)
        by_tag = {self.keys[index].tag: self.keys[index] for index in members}
        return tuple(by_tag[pack.id] for pack in self._in_order(members, self.boards[board].port))

    def _gentle(self, packs: Sequence[Pack], port: Port) -> bool:
        """Whether even the widest gap against an endless group, each through its own lead, stays within what every
        pack may take and give: no need to ask the model plug by plug."""
        volts = [pack.reading.pack_v for pack in packs if pack.reading]
        gap_v, lead_ohm = max(volts) - min(volts), port.lead_mohm / 1000
        most_a = [gap_v / (resistance_of(pack).r0_ohm + lead_ohm) for pack in packs]
        join_c = inf if self.rules.join_peak_c is None else self.rules.join_peak_c
        return max(most_a) <= (port.fuse_a or inf) and all(
            amps <= min(join_c, pack.charge_c, pack.gives_c) * pack.capacity_ah
            for amps, pack in zip(most_a, packs, strict=True)
        )

    # ------------------------------------------------------------------ what a batch costs

    def boards_for(self, members: Sequence[int]) -> tuple[int, ...]:
        """Indices of boards that take these packs, the smallest first; (-1,) for one pack, which needs none.

        members : indices into the packs of the problem.
        """
        if len(members) == 1:
            return (-1,)
        cells = self.packs[members[0]].cells
        return tuple(
            index
            for index, board in enumerate(self.boards)
            if board.takes(cells) and board.fewest <= len(members) <= board.ports
        )

    def costs(self, members: tuple[int, ...], machine: int, board: int, part: int) -> Costs | None:
        """Costs by the fast estimate, or as refined; None where it cannot be done. `part` : which of the `parts`.

        members : indices into the packs of the problem. machine : index of a channel of the problem. board : index of
        a board of the problem, -1 for none.
        """
        key = self._key(members, machine, board, part)
        if key in self.known.exact:
            return self.known.exact[key]
        if key not in self.known.costs:
            self.known.costs[key] = self._reckon(members, *key[1:])
        return self.known.costs[key]

    def _key(
        self, members: tuple[int, ...], machine: int, board: int, part: int
    ) -> tuple[tuple[int, ...], int, int, int]:
        machines, boards = self.alike
        return self._numbers(members), machines[machine], -1 if board < 0 else boards[board], part

    def _reckon(self, members: tuple[int, ...], machine: int, board: int, part: int) -> Costs | None:
        packs, rules = [self.packs[index] for index in members], self.rules_of(members)
        setup = self.setup(machine, board)
        if setup_faults(packs, setup) or (len(packs) > 1 and not self._may_meet(members, setup.port)):
            return None
        try:
            current_a = current_to_dial(packs, setup, rules)
        except Unsafe:
            return None
        full_v = packs[0].cells * rules.full_v(packs[0].chemistry)
        if part:
            current_a = self._slower_a(part, current_a, machine, full_v, setup.channel)
        full_min = self._minutes(members, current_a, setup)
        if full_min > DAY_MIN * ESTIMATED_PART:
            return None
        return Costs(
            current_a=current_a,
            rate_c=current_a / total_ah(packs),
            wait_min=self._estimated_wait_min(packs, current_a, setup),
            full_min=full_min,
            minutes=full_min + self.balance_of(members),
            power_w=current_a * full_v,
            energy_wh=sum(self._energy_wh(index, rules) for index in members),
        )

    def _minutes(self, members: tuple[int, ...], current_a: float, setup: Setup) -> float:
        """Minutes without balancing; the same on every channel whose watts do not bind."""
        packs, rules = [self.packs[index] for index in members], self.rules_of(members)
        full_w = current_a * packs[0].cells * rules.full_v(packs[0].chemistry)
        power_w = least_power_w(setup)
        key = (self._numbers(members), current_a, None if power_w >= full_w else power_w, setup.lead_mohm)
        if key not in self.known.minutes:
            self.known.minutes[key] = minutes_at(packs, current_a, setup, rules)
        return self.known.minutes[key]

    def _waits(self, members: tuple[int, ...], current_a: float, setup: Setup) -> Waits:
        """How long packs that share a board even out, and how they stand then."""
        packs = [self.packs[index] for index in members]
        rate_c = waits_at_c(packs, self.rules, round(current_a / total_ah(packs), 6))
        key = (self._numbers(members), setup.port, rate_c)
        if key not in self.known.waits:
            self.known.waits[key] = waits(self._in_order(members, setup.port), setup.port, self.rules, rate_c)
        return self.known.waits[key]

    def _estimated_wait_min(self, packs: Sequence[Pack], current_a: float, setup: Setup) -> float:
        """The same, nearly: the pack that is furthest out, against all the others as one large pack."""
        if len(packs) < 2 or at_most(spread_per_cell_v(packs), NO_WAIT_V):
            return 0.0
        whole_ah = total_ah(packs)
        mean_v = sum((pack.cell_v or 0.0) * pack.capacity_ah for pack in packs) / whole_ah
        out = max(packs, key=lambda pack: abs((pack.cell_v or 0.0) - mean_v))
        own_v, others_ah = out.cell_v or 0.0, whole_ah - out.capacity_ah
        gap_v = 2 * round((mean_v - own_v) * whole_ah / others_ah / 2, 2)
        # The same for packs of a kind at about the same volts, and no shorter at a lower rate.
        rate_c = ceil(2 * current_a / whole_ah - 0.1) / 2
        kind = (out.family, out.capacity_mah, out.charge_c, resistance_of(out).r0_ohm)
        key = (*kind, setup.port, round(own_v, 1), gap_v, round(log2(others_ah / out.capacity_ah)), rate_c)
        if key not in self.known.nearly:
            reading = Reading.of_cells((own_v + gap_v,) * out.cells)
            pair = in_plug_order((out, replace(out, reading=reading, capacity_mah=1000 * others_ah)))
            self.known.nearly[key] = waits(pair, setup.port, self.rules, rate_c).charge_min
        return self.known.nearly[key]

    def balance_of(self, members: Sequence[int]) -> float:
        """The balancing allowance of a batch, min. A weak pack is balanced whatever the house rule; it is alone.

        members : indices into the packs of the problem.
        """
        return self.balances_min[members[0]] if len(members) == 1 else self._balance_on_board_min(members[0])

    def balance_min_of(self, index: int) -> tuple[float, float]:
        """The balancing allowance of a batch that begins with a pack, min: alone, and with others.

        index : of a pack of the problem.
        """
        return self.balances_min[index], self._balance_on_board_min(index)

    def energy_wh_of(self, index: int) -> float:
        """Wh into a pack until its end volts, at the cautious end.

        index : of a pack of the problem.
        """
        return self._energy_wh(index, self.rules_of((index,)))

    def _balance_on_board_min(self, index: int) -> float:
        pack = self.packs[index]
        return balance_allowance_min((pack, pack), self.rules)

    def _energy_wh(self, index: int, rules: HouseRules) -> float:
        """Wh into one pack until its end volts."""
        pack = self.packs[index]
        key = (self.numbers[index], rules.full_v(pack.chemistry))
        if key not in self.known.energy_wh:
            self.known.energy_wh[key] = energy_to_wh([pack], key[1])
        return self.known.energy_wh[key]

    def refine(self, members: tuple[int, ...], machine: int, board: int, part: int) -> bool:
        """Put the full model's minutes, waits and energy in place of the fast estimate's.

        False when that was done before.
        members : indices into the packs of the problem. machine : index of a channel of the problem. board : index of
        a board of the problem, -1 for none. part : index into the rates to be tried.
        """
        key = self._key(members, machine, board, part)
        costs = self.costs(members, machine, board, part)
        if costs is None or key in self.known.exact:
            return False
        packs = [self.packs[index] for index in members]
        setup, start = self.setup(machine, board), None
        if len(packs) > 1:
            waited = self._waits(members, costs.current_a, setup)
            start = start_of(self._in_order(members, setup.port), waited)
        full = charge_packs(packs, setup, self.rules_of(members), costs.current_a, start)
        self.known.exact[key] = replace(
            costs,
            wait_min=full.wait_min,
            full_min=full.minutes,
            minutes=full.minutes + full.balance_min,
            energy_wh=full.energy_in_high_wh * setup.feed.efficiency_from_source,
            low_min=full.minutes_low,
            high_min=full.minutes_high,
            ways_min=() if full.fan is None else tuple(np.round(np.sort(full.fan.all_minutes), 2).tolist()),
        )
        return True
