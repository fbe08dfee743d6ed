"""Something is wrong: stop what can be stopped, keep hurt packs apart, write it down."""

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime

from iterum.core.season.records import Incident, KeptEvent
from iterum.core.season.run import BEFORE_CHARGE, LIVE, OPEN, Act, State, after
from iterum.core.things.packs import Condition
from iterum.devices.driver import LinkLost, Refused
from iterum.services.in_hand import put_in_mah
from iterum.services.running import PERSON, RunDesk
from iterum.store.database import Store

SERIOUS = frozenset({"smoke", "swelling"})
"""What is seen of a pack that is never charged again until somebody says otherwise."""


class Incidents:
    """What is done at once when a person sees something wrong."""

    def __init__(self, store: Store, runs: RunDesk) -> None:
        self._store, self._runs = store, runs

    def incident(
        self, kind: str, run_keys: Sequence[int], pack_ids: Sequence[str], note: str | None, now: datetime
    ) -> Incident:
        """Stop these batches where Iterum can, keep hurt packs apart, and write it down; all of it at once."""
        stopped: list[str] = []
        with self._store.reading() as repository:
            runs = [repository.runs.get(key) for key in run_keys]
        for run in runs:
            place = self._runs.links.place(run.channel) if run.driven and run.state in LIVE else None
            if place is not None:
                try:
                    self._runs.links.guard.stop(run.channel, Act.STOP)
                    stopped.append(run.channel)
                except (LinkLost, Refused):
                    continue
            elif run.state in BEFORE_CHARGE:
                self._runs.take_off(run)
        hurt = tuple(pack_ids) if kind in SERIOUS else ()
        incident = Incident(now, kind, tuple(pack_ids), tuple(run_keys), tuple(stopped), note)
        with self._store.writing() as repository:
            for run in runs:
                now_run = repository.runs.get(run.key)
                act = Act.STOP if now_run.state in LIVE else Act.DROP
                if now_run.state not in OPEN or now_run.state in (State.DONE, State.STOPPED):
                    continue
                state = after(now_run.state, act)
                values = {"state": state.value, "state_at": now, "ended_at": now, "stopped": act is Act.STOP}
                if repository.runs.change(run.key, now_run.state, values):
                    if act is Act.STOP:
                        self._runs.book(repository, now_run, put_in_mah(repository, now_run, now), now)
                    repository.runs.add_event(
                        KeptEvent(run.key, now, act.value, state, False, PERSON, f"incident: {kind}")
                    )
            for pack in repository.packs():
                if pack.id in hurt:
                    repository.save_pack(replace(pack, condition=Condition.DAMAGED), pack.id)
                    repository.drop_hand_move(pack.id)
            repository.runs.add_incident(incident)
        return incident
