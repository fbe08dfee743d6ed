"""Results as plain JSON documents, with the names of the session file."""

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from iterum.core.amps.limits import Limit, seats_on
from iterum.core.electrical.circuit import Trace
from iterum.core.electrical.fan import Band, PackFan
from iterum.core.electrical.joining import EvenedOut, Joining
from iterum.core.groups.group import Group
from iterum.core.groups.matching import LeftOut, Matching
from iterum.core.permit.permit import Permit
from iterum.core.reading.told import Told
from iterum.core.reasons import Reason
from iterum.core.sizing.size import Budget, Judged, Sizing
from iterum.wording import about, fix_for, minute_of, sentence

Clock = Callable[[float], str]

DIGITS = 6
"""Digits that results are rounded to: far below any meter, far above the noise of binary fractions."""


def tidy(value: float | None) -> float | None:
    """A figure without the noise of binary fractions."""
    return None if value is None else round(value, DIGITS)


def reasons_document(reasons: Iterable[Reason], at: Clock = minute_of) -> list[dict[str, str]]:
    """Reasons as code and sentence."""
    return [{"code": item.code, "text": about(item, at)} for item in reasons]


def check_document(verdicts: Iterable[Permit]) -> dict[str, Any]:
    """What `check` prints: one entry a pack."""
    return {
        "packs": [
            {
                "id": verdict.pack.id,
                "class": verdict.pack.family,
                "soc": tidy(verdict.soc.value) if verdict.soc else None,
                "soc_low": tidy(verdict.soc.low) if verdict.soc else 0.0,
                "soc_high": tidy(verdict.soc.high) if verdict.soc else 1.0,
                "soc_source": verdict.soc.source if verdict.soc else None,
                "lowest_v": tidy(verdict.lowest_v),
                "spread_v": tidy(verdict.spread_v),
                "energy_wh": tidy(verdict.pack.rated_energy_wh),
                "energy_held_wh": tidy(verdict.held_energy_wh),
                "verdict": verdict.level.value,
                "max_rate_c": tidy(verdict.max_rate_c),
                "alone": verdict.alone,
                "charges": verdict.charges,
                "joins": verdict.joins,
                "full": verdict.full,
                "reasons": reasons_document(verdict.reasons),
            }
            for verdict in verdicts
        ]
    }


def joining_document(joining: Joining) -> dict[str, Any]:
    """The verdict on joining a group: the timetable, what flows at most, and the ways out."""
    return {
        "peak_rate_c": tidy(joining.peak_rate_c),
        "peak_out_c": tidy(joining.peak_out_c),
        "peak_current_a": tidy(joining.peak_current_a),
        "timetable": [
            {
                "plug": step.plug,
                "wait_min": tidy(step.wait_min),
                "into": None
                if step.into is None
                else {
                    "id": step.into.id,
                    "peak_rate_c": tidy(step.into.into_c),
                    "over_charge_c_s": tidy(step.into.over_s),
                },
            }
            for step in joining.timetable
        ],
        "wait_min": tidy(joining.wait_min),
        "balance_first_a": tidy(joining.balance_a),
        "verdict": joining.level.value,
        "reasons": reasons_document(joining.reasons),
        "ways_out": reasons_document(joining.ways),
    }


def permit_document(permits: Iterable[Permit]) -> dict[str, Any]:
    """What `permit` prints: every act of every pack, and what each pack may be by its volts."""
    return {"packs": [_permit(item) for item in permits]}


def _permit(permit: Permit) -> dict[str, Any]:
    return {
        "id": permit.pack.id,
        "acts": {
            act.value: {
                "allowed": allowance.allowed,
                "max_rate_c": tidy(allowance.max_rate_c),
                "until": allowance.until and allowance.until.isoformat(),
                "reasons": [_with_fix(item, permit.pack.id) for item in allowance.reasons],
            }
            for act, allowance in permit.acts.items()
        },
        "identities": [{"chemistry": item.chemistry, "cells": item.cells} for item in permit.identities],
    }


def _with_fix(item: Reason, pack_id: str) -> dict[str, Any]:
    """A reason with its cell and its fix, where it has them."""
    cell = item.numbers.get("cell")
    document = {"code": item.code, "text": sentence(item), **({"cell": cell} if cell is not None else {})}
    return {**document, "fix": fix_for(item, pack_id)}


def read_document(told: Told) -> dict[str, Any]:
    """What `read` prints: the fields that are understood, their meaning, unread words, open questions, faults."""
    return {
        "kind": told.kind,
        "count": told.count,
        "understood": dict(told.understood),
        "means": [sentence(item.why) for item in told.means],
        "assumed": [sentence(item.why) for item in told.means if item.assumed],
        "unread": [word.text for word in told.unread],
        "questions": [
            {"code": asked.code, "text": sentence(asked.why), "choices": [item.words for item in asked.choices]}
            for asked in told.questions
        ],
        "faults": [{"code": fault.code, "text": sentence(fault)} for fault in told.faults],
    }


def limits_document(limits: Iterable[Limit]) -> list[dict[str, Any]]:
    """Limits as amps with their formulas."""
    return [
        {"name": limit.name, "current_a": tidy(limit.current_a), "text": sentence(limit.reason)} for limit in limits
    ]


def budget_document(budget: Budget | None) -> dict[str, Any] | None:
    """Watt-hours of a charge against those that are left; None where no budget is known."""
    if budget is None:
        return None
    return {name: tidy(value) if isinstance(value, float) else value for name, value in vars(budget).items()}


def group_document(group: Group, joining: Joining) -> dict[str, Any]:
    """One group of `match`."""
    return {
        "packs": [pack.id for pack in group.packs],
        "class": group.family,
        "spread_v": tidy(group.window.spread_v),
        "allowed_v": tidy(group.window.allowed_v),
        "per": group.window.per,
        "cell_gap_v": tidy(group.worst_cell_gap_v),
        "cell_allowed_v": tidy(group.cell_allowed_v),
        "plug_in_order": list(joining.order),
        "joining": joining_document(joining),
    }


def left_out_document(left: LeftOut) -> dict[str, Any]:
    """One left-out pack of `match`."""
    return {
        "id": left.pack.id,
        "class": left.pack.family,
        "code": left.reason.code,
        "text": about(left.reason),
        "fix": sentence(left.fix),
    }


def match_document(matching: Matching, joinings: Sequence[Joining]) -> dict[str, Any]:
    """What `match` prints. joinings : the verdict on joining each group."""
    pairs = zip(matching.groups, joinings, strict=True)
    return {
        "groups": [group_document(group, joining) for group, joining in pairs],
        "left_out": [left_out_document(left) for left in matching.left_out],
        "proven": matching.proven,
    }


def size_document(sizing: Sizing) -> dict[str, Any]:
    """What `size` prints."""
    board = sizing.setup.board
    return {
        "current_a": tidy(sizing.current_a),
        "exact_a": tidy(sizing.exact_a),
        "rate_c": tidy(sizing.rate_c),
        "binding": sizing.binding,
        "limits": limits_document(sizing.limits),
        "shares": [
            {"id": share.id, "current_a": tidy(share.current_a), "rate_c": tidy(share.rate_c)}
            for share in sizing.shares
        ],
        "full_v": tidy(sizing.full_v),
        "minutes_about": tidy(sizing.minutes),
        "wait_min": tidy(sizing.joining.wait_min),
        "balance_min": tidy(sizing.charge.balance_min),
        "energy_in_wh": tidy(sizing.charge.energy_in_wh),
        "budget": budget_document(sizing.budget),
        "board_packs": [
            {"board": part.id, "packs": [pack.id for pack in members]}
            for part, members in (seats_on(sizing.packs, board) if board else ())
        ],
        "drop_off_rate_c": tidy(sizing.drop_off_rate_c),
        "joining": joining_document(sizing.joining),
        "dial": {name: tidy(value) if isinstance(value, float) else value for name, value in vars(sizing.dial).items()},
        "notes": reasons_document(sizing.notes),
    }


def series_document(ids: Sequence[str], trace: Trace) -> dict[str, Any]:
    """A trace as lists over time, dense enough to interpolate straight."""
    return {
        "t_s": [round(value, 3) for value in trace.t_s.tolist()],
        "node_v": [round(value, DIGITS) for value in trace.node_v.tolist()],
        "current_a": {
            pack_id: [round(value, DIGITS) for value in trace.current_a[:, index].tolist()]
            for index, pack_id in enumerate(ids)
        },
    }


def equalise_document(evening: EvenedOut) -> dict[str, Any]:
    """What `equalise` prints."""
    return {
        "packs": [
            {
                "id": item.id,
                "peak_current_a": tidy(item.peak_current_a),
                "peak_rate_c": tidy(item.peak_rate_c),
                "over_charge_c_s": tidy(item.over_s),
                "rests_on": item.basis.value,
            }
            for item in evening.packs
        ],
        "settled_s": tidy(evening.settled_s),
        "balance_leads_s": tidy(evening.balance_s),
        "joining": joining_document(evening.joining),
        "verdict": evening.level.value,
        "reasons": reasons_document(evening.reasons),
        "series": series_document([item.id for item in evening.packs], evening.trace),
    }


def pack_fan_document(fan: PackFan | None) -> dict[str, Any] | None:
    """One pack of a charge in every way that it may be: low end, middle and high end of each figure."""
    if fan is None:
        return None

    def ends(band: Band) -> list[float | None]:
        return [tidy(band.low), tidy(band.middle), tidy(band.high)]

    return {
        "peak_c": ends(fan.peak_c), "over_charge_c_s": ends(fan.over_s), "charge_mah": ends(fan.charge_mah),
        "share_a": [ends(share) for share in fan.share_a], "joined_c": ends(fan.joined_c),
    }  # fmt: skip


def charge_document(judged: Judged) -> dict[str, Any]:
    """What `charge` prints."""
    result = judged.charge
    plain_figures = ("current_a", "wait_min", "minutes", "minutes_low", "minutes_high", "balance_min", "cc_minutes",
                     "power_limited_min", "power_costs_min", "charge_mah", "charge_low_mah", "charge_high_mah",
                     "energy_out_wh", "energy_in_wh", "energy_in_high_wh",
                     "peak_out_w", "peak_input_w")  # fmt: skip
    return {
        **{name: tidy(getattr(result, name)) for name in plain_figures},
        "power_limit": result.power_limit,
        "done": result.done,
        "limits": limits_document(judged.limits),
        "budget": budget_document(judged.budget),
        "joining": joining_document(judged.joining),
        "packs": [
            {
                "id": item.id,
                "peak_rate_c": tidy(item.peak_rate_c),
                "peak_high_c": tidy(result.peak_high_c(item.id)),
                "charge_mah": tidy(item.charge_mah),
                "end_soc": tidy(item.end_soc),
                "share_a": [tidy(value) for value in item.share_a],
                "range": pack_fan_document(result.fan_of(item.id)),
            }
            for item in result.packs
        ],
        "verdict": judged.level.value,
        "reasons": reasons_document(judged.reasons),
        "series": series_document([item.id for item in result.packs], result.trace),
    }
