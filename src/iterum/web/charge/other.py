"""What else can be done with packs than charge them: one card for each kind, or what speaks against it."""

from dataclasses import dataclass, replace

from iterum.core.reasons import Reason, Unsafe
from iterum.core.say import Words
from iterum.core.season.storage import PutAway, plan_storage
from iterum.core.season.upkeep import Upkeep, least_down_v, upkeep
from iterum.core.things.bench import Bench
from iterum.core.things.choice import Choice, Kind

TITLES = {
    Kind.EVEN_OUT: Words("Equalise without a charger"),
    Kind.BALANCE: Words("Balance only"),
    Kind.DOWN: Words("Discharge"),
}


@dataclass(frozen=True)
class OtherCard:
    """One kind: what it comes to, or why it cannot be done."""

    kind: Kind
    title: str
    upkeep: Upkeep | None
    refusals: tuple[Reason, ...]


@dataclass(frozen=True)
class OtherPage:
    """All of them for the same packs.

    storage : the plan that brings one pack to storage voltage; None for several, and where that is not allowed.
    least_v : V per cell, the lowest that they may be brought down to.
    """

    cards: tuple[OtherCard, ...]
    storage: PutAway | None
    least_v: float
    storage_v: float
    channels: tuple[tuple[str, str], ...]


def other_page(bench: Bench, choice: Choice) -> OtherPage:
    """Everything the page shows. Raises NotThere for a pack that is not there."""
    first = bench.members(choice.packs)[0]
    places = [(channel.id, channel.name or channel.id) for _, channel in bench.kit.channels()
              if channel.takes(first.cells)]  # fmt: skip
    return OtherPage(
        tuple(_card(bench, kind, choice) for kind in TITLES if kind is not Kind.EVEN_OUT or len(choice.packs) > 1),
        plan_storage(replace(bench, packs=(first,))) if len(choice.packs) == 1 else None,
        least_down_v(first),
        bench.rules.storage_of(first.chemistry) if first.chemistry.joins else 0.0,
        tuple(places),
    )


def _card(bench: Bench, kind: Kind, choice: Choice) -> OtherCard:
    asked = choice if kind is Kind.DOWN else Choice(choice.packs, choice.board, choice.channel)
    try:
        return OtherCard(kind, TITLES[kind], upkeep(bench, kind, asked), ())
    except Unsafe as refusal:
        return OtherCard(kind, TITLES[kind], None, refusal.reasons)
