"""After a charge: what was read of each pack, and its entry in the log."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime

from iterum.core.season.after_charge import After, ended_full, shares_mah
from iterum.core.season.health import MOST_AGAIN, ChargeRecord, nickel_again, ran_low
from iterum.core.season.learning import step_mohm
from iterum.core.season.records import KeptRun
from iterum.core.season.run import Act, State
from iterum.core.things.choice import Kind
from iterum.services.desk import Desk, relearn
from iterum.services.running import RunDesk
from iterum.store.repository import AFTER, Repository


@dataclass(frozen=True)
class Logged:
    """What a logged charge says of its packs.

    low : run too low before it. again : of packs that end by a drop in volts and were not full, which time in
    a row.
    """

    low: tuple[str, ...]
    again: Mapping[str, int]


class Checks:
    """Checking packs after their charge."""

    def __init__(self, desk: Desk, runs: RunDesk) -> None:
        self._desk, self._runs = desk, runs

    def check_after(
        self,
        key: int,
        expected: State,
        now: datetime,
        packs: Mapping[str, After],
        charge_mah: float | None,
        note: str | None = None,
        skipped: bool = False,
        ended_warm: bool | None = None,
    ) -> tuple[KeptRun, Logged]:
        """Log the charge of each pack with what was read of it.

        ended_warm : of packs that end by a drop in volts, whether they were warm then. Returns the run, and what is to
        be known of its packs.
        """
        look = self._runs.look(key, now)
        put_in = [item.seen.charge_mah for item in look.seen if item.seen.charge_mah is not None]
        total_mah = charge_mah if charge_mah is not None else put_in[-1] if put_in else None
        by_id = {pack.id: pack for pack in self._desk.session().packs}
        members = [by_id[tag] for tag in look.run.packs if tag in by_id]
        shares = shares_mah(members, look.run.before_v, total_mah)
        alone = len(members) == 1
        before_v = look.run.before_v.get(members[0].id, ()) if alone else ()
        seen = [item.seen for item in look.seen]
        full = ended_full(look.run, seen) and not skipped
        step = step_mohm(before_v, seen, look.run.current_a) if alone else None
        low: list[str] = []
        again: dict[str, int] = {}

        def write(repository: Repository) -> None:
            for pack in members:
                read = packs.get(pack.id, After())
                if read.is_read:
                    repository.add_reading(pack.id, read.reading(now), AFTER, now)
                if read.resistance_mohm:
                    repository.save_pack(replace(pack, resistance_mohm=read.resistance_mohm), pack.id)
                if look.run.kind is not Kind.CHARGE:
                    continue  # what fills nothing is no charge: it teaches nothing, and no charge is logged
                record = ChargeRecord(
                    at=now, charge_mah=shares.get(pack.id), minutes=look.minute or None, rate_c=look.run.rate_c,
                    before_v=look.run.before_v.get(pack.id, ()), after_v=read.cell_v,
                    resistance_mohm=read.resistance_mohm, note=note, alone=alone,
                    full=full, step_mohm=step,
                )  # fmt: skip
                if not pack.chemistry.joins and not skipped:
                    before = [item.record for item in repository.runs.charges(pack.id, count=MOST_AGAIN)]
                    count = nickel_again(pack, replace(record, ended_warm=ended_warm), before)
                    record = replace(record, ended_warm=ended_warm, again=count)
                    repository.set_charged_full([pack.id], count == 0)
                    again.update({pack.id: count} if count else {})
                if pack.chemistry.flat:
                    repository.set_charged_full([pack.id], full)
                repository.log_charge(pack.id, key, "run", record)
                whole = not look.run.stopped and look.run.card.stop_mah is None
                repository.balanced(pack.id, whole and look.run.card.balance_min > 0)
                relearn(repository, pack.id)
                low.extend([pack.id] if ran_low(pack, record) else [])
            if total_mah is not None and look.run.kind is Kind.CHARGE:
                self._runs.book(repository, look.run, total_mah, look.run.ended_at or now)

        run = self._runs.act(key, Act.CHECK, expected, now, note=note, skipped=skipped, write=write)
        return run, Logged(tuple(low), again)
