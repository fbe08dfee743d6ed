"""Acts of a day at the bench: all packs checked, a heat flown, a charger that failed, the day called off."""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from iterum.core.planning.record import KeptPlan, PlanRecord
from iterum.core.planning.score import Prefer
from iterum.core.reasons import NotThere, Unsafe
from iterum.core.say import say
from iterum.core.season.outlook import COOL, Observation
from iterum.core.season.records import KeptFlight, KeptRun
from iterum.core.season.run import BEFORE_CHARGE, LIVE, Act
from iterum.core.things.kit import Charger, find
from iterum.devices.driver import LinkLost, Refused
from iterum.exchange.heats import Heat
from iterum.services.desk import Desk
from iterum.services.running import PERSON, Changed, RunDesk, Told
from iterum.services.watching import TYPED, Watcher
from iterum.store.database import Store
from iterum.store.troubles import StoreTrouble

ASKED_FOR = timedelta(hours=8)
"""So long after a heat it is asked who flew in it."""


@dataclass(frozen=True)
class Failed:
    """What came of a charger that failed. off : channels that were stopped or given up. not_off : those that Iterum
    could not stop, each with the reason."""

    charger: str
    off: tuple[str, ...]
    not_off: tuple[tuple[str, str], ...]


class Day:
    """What a person says of the whole bench, not of one batch."""

    def __init__(self, store: Store, desk: Desk, runs: RunDesk, watcher: Watcher) -> None:
        self._store, self._desk, self._runs, self._watcher = store, desk, runs, watcher

    # ------------------------------------------------------------------ the check round

    def check_round(self, felt: Mapping[int, str], now: datetime) -> tuple[KeptRun, ...]:
        """Write a hand check of every batch down that charges and was felt. Returns those that are not cool.

        felt : by key of a batch, how its packs feel: COOL, WARM or HOT. The guardian stops what is hot.
        """
        live = [run for run in self._runs.open() if run.state in LIVE and run.key in felt]
        for run in live:
            self._watcher.observe(run.key, TYPED, Observation(0.0, by_hand=True), now)
            self._watcher.mark_seen(run.key, now)
            for tag in run.packs:
                one = Observation(0.0, pack_id=tag, by_hand=True, touch=felt[run.key])
                self._watcher.observe(run.key, TYPED, one, now)
        self._watcher.keep(now)
        return tuple(run for run in live if felt[run.key] != COOL)

    # ------------------------------------------------------------------ heats

    def untold(self, now: datetime) -> tuple[Heat, ...]:
        """Heats that have begun and of which nobody has said who flew, the earliest first."""
        told = {(item.heat_at, item.family, item.name, item.pilot) for item in self.flights(now - ASKED_FOR)}
        return tuple(
            heat
            for heat in self._desk.heats()
            if heat.wish.is_heat
            and now - ASKED_FOR < heat.at <= now
            and (heat.at, heat.wish.family, heat.wish.name, heat.wish.pilot) not in told
        )

    def flights(self, since: datetime | None = None) -> tuple[KeptFlight, ...]:
        """Who flew in heats, as it was said, the newest first."""
        with self._store.reading() as repository:
            return repository.runs.flights(since)

    def planned_for(self, heat: Heat) -> tuple[str, ...]:
        """The packs that the plan in force has for a heat."""
        kept = self._desk.latest_plan()
        if kept is None:
            return ()
        every = (*kept.plan.past.flown, *kept.plan.heats)
        wanted = (heat.wish.family, heat.wish.name, heat.wish.pilot)
        same = [item for item in every if (item.heat.family, item.heat.name, item.heat.pilot) == wanted]
        nearest = min(same, key=lambda item: abs(kept.moment(item.heat.at_min) - heat.at), default=None)
        there = {pack.id for pack in self._desk.session().packs}
        return tuple(tag for tag in nearest.packs if tag in there) if nearest is not None else ()

    def flown(self, heat: Heat, packs: Sequence[str], now: datetime) -> None:
        """Write down who flew. Raises NotThere for a heat to come, and for a pack that is gone, of another class, or of
        another pilot.
        """
        if heat.at > now:
            raise NotThere("heat that has begun", heat.wish.name or heat.key)
        by_id = {pack.id: pack for pack in self._desk.session().packs}
        for tag in packs:
            pack = by_id.get(tag)
            if pack is None or (pack.family, pack.pilot) != (heat.wish.family, heat.wish.pilot):
                raise NotThere("pack", tag)
        with self._store.writing() as repository:
            flight = KeptFlight(now, heat.at, heat.wish.family, heat.wish.name, tuple(packs), heat.wish.pilot)
            repository.runs.add_flight(flight)

    # ------------------------------------------------------------------ what goes wrong with the day

    def stop_all(self, now: datetime) -> tuple[tuple[str, ...], tuple[tuple[str, str], ...]]:
        """Stop every charge at once; the places that were stopped, and those that Iterum could not stop, with why."""
        return self._ended([run for run in self._runs.open() if run.state in LIVE], "all stopped", now)

    def _ended(
        self, runs: Sequence[KeptRun], note: str, now: datetime
    ) -> tuple[tuple[str, ...], tuple[tuple[str, str], ...]]:  # fmt: skip
        """Stop or drop batches: the places where that is done, and the others, each with why.

        No charger waits for another one that is slow or silent, and no trouble with one keeps the others from ending.
        """

        def end(run: KeptRun) -> str:
            act = Act.STOP if run.state in LIVE else Act.DROP
            try:
                self._runs.act(run.key, act, run.state, now, by=PERSON, note=note)
            except Told:
                return ""  # it is off; only writing that down failed
            except Changed as changed:
                return str(changed) if changed.run.state in LIVE else ""
            except (LinkLost, Refused, Unsafe, StoreTrouble) as error:
                return str(error)
            return ""

        if not runs:
            return (), ()
        with ThreadPoolExecutor(len(runs)) as pool:
            whys = list(pool.map(end, runs))
        off = tuple(run.place for run, why in zip(runs, whys, strict=True) if not why)
        return off, tuple((run.place, why) for run, why in zip(runs, whys, strict=True) if why)

    def call_off(self, now: datetime) -> tuple[Heat, ...]:
        """Take every heat away that is still to come, and every batch that was planned; the heats that are left."""
        left = tuple(heat for heat in self._desk.heats() if heat.at <= now)
        self._desk.set_heats(left, now)
        kept = self._desk.latest_plan() or KeptPlan(now, Prefer.SOONEST.value, PlanRecord(), 0)
        self._desk.keep_plan(replace(kept, plan=kept.plan.to_storage(), revision=self._desk.revision()))
        return left

    def charger_failed(self, charger_id: str, now: datetime) -> Failed:
        """Stop what runs on a charger, give up what waits on it, and mark it. Raises NotThere.

        Iterum stops what it can; a person pulls the plug of the charger in any case.
        """
        charger = self._charger(charger_id)
        channels = {channel.id for channel in charger.channels}
        states = (*LIVE, *BEFORE_CHARGE)
        here = [run for run in self._runs.open() if run.channel in channels and run.state in states]
        name = charger.name or charger.id
        off, not_off = self._ended(here, say("{name} has failed", name=name), now)
        self._desk.save_kit_item(replace(charger, failed=True), charger.id)
        return Failed(name, off, not_off)

    def works_again(self, charger_id: str) -> None:
        """Take the mark of a charger away. Raises NotThere."""
        self._desk.save_kit_item(replace(self._charger(charger_id), failed=False), charger_id)

    def _charger(self, charger_id: str) -> Charger:
        charger = find(self._desk.session().kit.chargers, charger_id)
        if charger is None:
            raise NotThere("charger", charger_id)
        return charger
