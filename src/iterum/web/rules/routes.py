"""Addresses of the House rules page."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from iterum.core.electrical.joining import passing_order
from iterum.core.groups.matching import Matching
from iterum.core.reasons import NotThere
from iterum.core.say import say
from iterum.core.sizing.arrange import amps_of
from iterum.core.things.choice import Choice
from iterum.core.things.rules import (
    RULES,
    Affects,
    HouseRules,
    Rule,
    School,
    chosen_school,
    first_time,
    lifted,
    with_first_time,
)
from iterum.exchange.session import part_from
from iterum.web.context import bench, desk, now
from iterum.web.forms import Field, document_from, faults_by_field, make_fields, texts_of
from iterum.web.frame import go_back_to

HERE = tuple(rule for rule in RULES if rule.affects is not Affects.TABLE)
"""The rule of the table is chosen on the page Table, where the pilots are."""
blueprint = Blueprint("rules", __name__, url_prefix="/rules", template_folder="templates")


@dataclass(frozen=True)
class SchoolRow:
    """One school as the page shows it. effect : what choosing it does to today's groups; None before it is known."""

    school: School
    chosen: bool
    default: bool
    effect: str | None


def _changed(rules: HouseRules, school: School) -> HouseRules:
    settings: dict[str, Any] = dict(school.settings)
    return replace(rules, **settings)


def _sets(matching: Matching) -> set[frozenset[str]]:
    return {frozenset(pack.id for pack in group.packs) for group in matching.groups}


def _effect(rule: Rule, school: School, rules: HouseRules, today: Matching) -> str:
    """What choosing a school would do to today's groups, in numbers."""
    if not any(pack.pack.reading for pack in today.verdicts):
        return say("Measure packs to see what it does.")
    if rule.affects is Affects.STORAGE:
        return say("Groups and amps stay; Put away aims at other volts.")
    if rule.affects is Affects.CARD:
        return say("Groups and amps stay; the card and its steps change.")
    changed = _changed(rules, school)
    if rule.affects is Affects.JOINING:
        return _joining_effect(changed, today)
    other = desk().matching_under(changed, now())
    moved = len({pack_id for group in _sets(today) ^ _sets(other) for pack_id in group})
    if moved:
        return say(
            "{groups} groups, {left_out} not in a group; {moved} packs change place.",
            groups=len(other.groups),
            left_out=len(other.left_out),
            moved=moved,
        )
    return say(
        "Same groups: {groups}. {amps_effect}", groups=len(other.groups), amps_effect=_amps_effect(rules, changed)
    )


def _joining_effect(changed: HouseRules, today: Matching) -> str:
    """How many of today's groups could be plugged in as they are."""
    orders = [passing_order(group.packs, changed) for group in today.groups]
    broken = orders.count(None)
    if not broken:
        return say("All {orders} groups may be plugged in as they are.", orders=len(orders))
    return say("{broken} of {orders} groups would need another way in.", broken=broken, orders=len(orders))


def _amps_effect(rules: HouseRules, changed: HouseRules) -> str:
    """What the amps of today's groups become: worked out for every rule, not known by its name."""
    groups = desk().matching(now())[0].groups
    before, after = (
        [amps_of(replace(bench(), rules=one), Choice(tuple(pack.id for pack in group.packs))) for group in groups]
        for one in (rules, changed)
    )
    if before == after:
        return say("Same amps.")
    shown = ", ".join(f"{amps:g}" for amps in after if amps)
    return say("Set {shown} A.", shown=shown) if shown else say("Nothing can be set.")


def _effects() -> dict[tuple[str, str], str]:
    """By rule and school, what choosing it would do."""
    rules = desk().session().rules
    today = desk().matching_under(rules, now())
    return {
        (rule.key, school.key): _effect(rule, school, rules, today)
        for rule in HERE
        for school in rule.schools
        if school != chosen_school(rule, rules)
    }


def _rows(effects: Mapping[tuple[str, str], str] | None) -> list[tuple[Rule, list[SchoolRow], School | None]]:
    rules = desk().session().rules
    rows = []
    for rule in HERE:
        chosen = chosen_school(rule, rules)
        schools = [
            SchoolRow(school, school == chosen, school == rule.schools[0], (effects or {}).get((rule.key, school.key)))
            for school in rule.schools
        ]
        rows.append((rule, schools, chosen))
    return rows


@blueprint.get("")
def page() -> str:
    """Each house rule with its schools, the default and why. What changing it does comes after, where it takes time."""
    rows = _rows(desk().remembered("effects of schools", now()))
    days = _days_fields(texts_of("days", vars(desk().session().rules.days)), {})
    return render_template("rules/page.html", rows=rows, days=days, can_go_back=desk().rules_can_go_back())


@blueprint.get("/effects")
def effects() -> str:
    """What each school that is not in force would do to today's groups, for the page that stands already."""
    effects = desk().remember("effects of schools", now(), _effects)
    return render_template("rules/effects.html", rows=_rows(effects))


def _days_fields(texts: Mapping[str, str], faults: Mapping[str, str]) -> list[Field]:
    return make_fields("days", texts, faults, {})


@blueprint.post("/days")
def days() -> str | Response | tuple[str, int]:
    """Say what days are like; what is wrong is told at its field, and nothing is lost."""
    if request.form.get("act") == "default":
        document: dict[str, Any] = {}
    else:
        document = document_from("days", request.form)
    faults = faults_by_field("days", document, ())
    if faults:
        fields = _days_fields(request.form, faults)
        return render_template("rules/page.html", rows=_rows(None), days=fields, open=True,
                               can_go_back=desk().rules_can_go_back()), 422  # fmt: skip
    desk().set_rules(replace(desk().session().rules, days=part_from("days", document)), now())
    flash(say("Plans from now on are tried against such days."))
    return redirect(url_for("rules.page") + "#days")


@blueprint.post("/first-time")
def first() -> Response:
    """Hold back as for a first time, or lift the next thing that does."""
    rules = desk().session().rules
    changed = lifted(rules) if request.form.get("act") == "lift" else with_first_time(rules)
    desk().set_rules(changed, now())
    still = first_time(changed)
    flash(say("Beginner mode: {still:list}.", still=still) if still else say("Beginner mode is off."))
    return redirect(go_back_to(request.form.get("back", "")))


@blueprint.post("")
def choose() -> Response:
    """Choose a school, or go back to the rules before the last change."""
    if request.form.get("act") == "back":
        desk().rules_back(now())
        flash(say("The rules before the last change are in force again."))
        return redirect(url_for("rules.page"))
    for rule in HERE:
        for school in rule.schools:
            if (rule.key, school.key) == (request.form.get("rule"), request.form.get("school")):
                desk().set_rules(_changed(desk().session().rules, school), now())
                flash(f"{rule.question} {school.label}.")
                return redirect(url_for("rules.page") + f"#rule-{rule.key}")
    raise NotThere("school", request.form.get("school"))
