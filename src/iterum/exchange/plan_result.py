"""A plan as a plain JSON document, with the names of the session file."""

from collections.abc import Iterable
from typing import Any

from iterum.core.planning.batches import PlannedBatch
from iterum.core.planning.plan import SourceUse, WishOutcome
from iterum.core.planning.record import Offer, PlanRecord
from iterum.core.planning.shares import PilotShare
from iterum.core.reasons import Reason
from iterum.exchange.results import Clock, reasons_document, tidy
from iterum.wording import about, minute_of, sentence


def plan_document(plan: PlanRecord, at: Clock = minute_of) -> dict[str, Any]:
    """What `plan` prints. at : how sentences write a minute of the plan."""
    return {
        "batches": [batch_document(batch, reasons, at) for batch, reasons in plan.explained],
        "left_out": [
            {"id": left.tag, "round": left.round, "code": left.reason.code, "text": about(left.reason),
             "fix": sentence(left.fix)}
            for left in plan.left_out
        ],
        **outcome_document(plan.wanted, plan.sources, at),
        "offers": [_offer_document(offer, at) for offer in plan.offers],
        "makespan_min": tidy(plan.makespan_min),
        "bound_min": tidy(plan.bound_min),
        "proved": plan.proved,
        "gap": tidy(plan.gap),
        "visits": plan.visits,
        "changed": [{"code": item.code, "text": sentence(item, at)} for item in plan.changed],
        "would_help": [
            {"code": item.reason.code, "text": sentence(item.reason, at), "saved_min": tidy(item.saved_min)}
            for item in plan.would_help
        ],
    }  # fmt: skip


_BATCH_FIGURES = (
    "early_min",
    "late_min",
    "current_a",
    "rate_c",
    "start_min",
    "lead_min",
    "full_min",
    "end_min",
    "power_w",
    "energy_in_wh",
    "power_in_w",
)


def batch_document(batch: PlannedBatch, reasons: Iterable[Reason], at: Clock = minute_of) -> dict[str, Any]:
    """One batch of a plan."""
    return {
        "packs": list(batch.packs),
        "rounds": list(batch.rounds),
        "class": batch.family,
        "board": batch.board,
        "channel": batch.channel,
        **{name: tidy(getattr(batch, name)) for name in _BATCH_FIGURES},
        "source": batch.source,
        "until_fraction": tidy(batch.until_fraction),
        "end_v": tidy(batch.end_v),
        "locked": batch.locked,
        "reasons": reasons_document(reasons, at),
    }


def shares_document(shares: Iterable[PilotShare]) -> list[dict[str, Any]]:
    """What a plan does for each pilot."""
    return [
        {
            "id": share.pilot,
            "heats": share.asked,
            "met": share.met,
            "expected": tidy(share.expected),
            "got_wh": tidy(share.got_wh),
            "gave_wh": tidy(share.gave_wh),
            "by_source": [{"source": source, "wh": tidy(wh)} for source, wh in share.by_source],
        }
        for share in shares
    ]


def _offer_document(offer: Offer, at: Clock) -> dict[str, Any]:
    return {
        "code": offer.reason.code,
        "text": sentence(offer.reason, at),
        "wins": list(offer.reason.numbers["wins"]),
        "loses": list(offer.reason.numbers["loses"]),
    }


def outcome_document(
    wanted: Iterable[WishOutcome], sources: Iterable[SourceUse], at: Clock = minute_of
) -> dict[str, Any]:
    """What becomes of the wishes, and what it takes from each source."""
    return {
        "wanted": [
            {
                "count": item.wish.count,
                "class": item.wish.family,
                "at_min": tidy(item.wish.at_min),
                "name": item.wish.name,
                "fly_min": item.wish.fly_min,
                "met": item.met,
                "have": item.have,
                "ready_min": tidy(item.ready_min),
                "packs": list(item.packs),
                "odds": None if item.odds is None else vars(item.odds) | {"packs": list(item.odds.packs)},
                "reason": None
                if item.reason is None
                else {"code": item.reason.code, "text": sentence(item.reason, at)},
            }
            for item in wanted
        ],
        "sources": [
            {"id": use.id, "used_wh": tidy(use.used_wh), "usable_wh": tidy(use.usable_wh), "peak_w": tidy(use.peak_w)}
            for use in sources
        ],
    }
