"""Classes of packs as tabs, shared by the pages that work class by class."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from iterum.core.things.packs import Pack


@dataclass(frozen=True)
class Tab:
    """One class with how many of its packs are done."""

    family: str
    done: int
    count: int


def class_tabs(packs: Sequence[Pack], is_done: Callable[[Pack], bool]) -> list[Tab]:
    """Classes in the order in which the packs name them."""
    families = dict.fromkeys(pack.family for pack in packs)
    return [
        Tab(family, sum(is_done(pack) for pack in packs if pack.family == family),
            sum(pack.family == family for pack in packs))
        for family in families
    ]  # fmt: skip


def chosen_class(asked: str | None, tabs: Sequence[Tab]) -> str | None:
    """The class asked for if there is one, else the first with something left, else the first."""
    if any(tab.family == asked for tab in tabs):
        return asked
    unfinished = (tab.family for tab in tabs if tab.done < tab.count)
    return next(unfinished, tabs[0].family if tabs else None)
