"""What the Plan page shows, from the kept plan."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from iterum.core.session import Session
from iterum.services.desk import kit_items
from iterum.store.repository import KeptPlan
from iterum.web.pictures import day_strip


@dataclass(frozen=True)
class ToDo:
    """One visit to the bench: when, what comes off, what goes on."""

    at: datetime
    until: datetime
    off: tuple[Mapping[str, Any], ...]
    on: tuple[Mapping[str, Any], ...]


@dataclass(frozen=True)
class PlanPage:
    """A kept plan with its picture and its visits. `stale` says that something changed since."""

    kept: KeptPlan
    picture: day_strip.DayStrip | None
    todos: tuple[ToDo, ...]
    names: Mapping[str, str]
    stale: bool

    @property
    def document(self) -> Mapping[str, Any]:
        """The plan as the command line prints it."""
        return self.kept.document

    def clock(self, minute: float) -> datetime:
        """The time of day of a minute of the plan."""
        return self.kept.made_at + timedelta(minutes=minute)


def plan_page(kept: KeptPlan, session: Session, revision: int) -> PlanPage:
    """Everything the page shows of a plan."""
    kit = session.kit
    names = {item.id: item.name or item.id for item in kit_items(kit)}
    names |= {channel.id: channel.name or channel.id for _, channel in kit.channels()}
    limits = {source.id: source.power_limit_w for source in kit.sources}
    picture = day_strip.draw(
        kept.document,
        kept.made_at,
        names,
        {tag: watts for tag, watts in limits.items() if watts is not None},
        {source.id: source.usable_wh for source in kit.sources if source.usable_wh is not None},
    )
    batches = kept.document["batches"]
    todos = []
    for start, end, numbers in day_strip.visits(batches):
        on = tuple(batches[number] for number in numbers)
        taken = {(batch["channel"]) for batch in on} | {batch["board"] for batch in on if batch["board"]}
        off = tuple(
            batch for batch in batches
            if batch["end_min"] <= end + 1e-6 and (batch["channel"] in taken or batch["board"] in taken)
            and not any(item["start_min"] > batch["start_min"] and item["start_min"] < start
                        and item["channel"] == batch["channel"] for item in batches)
        )  # fmt: skip
        todos.append(ToDo(kept.made_at + timedelta(minutes=start), kept.made_at + timedelta(minutes=end), off, on))
    return PlanPage(kept, picture, tuple(todos), names, revision != kept.revision)
