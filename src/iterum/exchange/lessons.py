"""Lessons as files: one JSON a lesson, with the session in which it plays; a club can add its own."""

import json
from collections.abc import Iterable
from dataclasses import replace
from importlib.resources import files
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from iterum.core.fields import BadInput, Fault
from iterum.core.say import Words, say
from iterum.core.season.lesson import Does, Lesson, Option, Until
from iterum.core.things.choice import Choice, Kind
from iterum.core.things.session import Session
from iterum.exchange.session import parse

_ID = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid")


class _Charge(_Strict):
    packs: list[str] = Field(min_length=1, max_length=40)
    board: str | None = None
    channel: str | None = None
    current_a: float | None = Field(None, gt=0, le=200)
    rate_c: float | None = Field(None, gt=0, le=20)
    kind: Kind = Kind.CHARGE
    stop_min: float | None = Field(None, gt=0, le=600)


class _Leave(_Strict):
    packs: list[str] = Field(min_length=1, max_length=40)
    hours: float = Field(gt=0, le=10_000)


class _Does(_Strict):
    join: list[str] = Field(default_factory=list, max_length=40)
    last: str | None = None
    balance_first: bool = False
    rate_c: float | None = Field(None, gt=0, le=20)
    charge: _Charge | None = None
    leave: _Leave | None = None
    read: list[str] = Field(default_factory=list)


class _Choice(_Strict):
    id: str = _ID
    words: str = Field(min_length=1, max_length=120)
    good: bool
    then: str = Field(min_length=1, max_length=300)
    does: _Does = Field(default_factory=lambda: _Does.model_validate({}))


class _Lesson(_Strict):
    format: Literal["iterum-lesson"]
    version: Literal[1]
    id: str = _ID
    title: str = Field(min_length=1, max_length=60)
    situation: str = Field(min_length=1, max_length=600)
    question: str = Field(min_length=1, max_length=120)
    session: dict[str, Any]
    unread: list[str] = Field(default_factory=list, max_length=40)
    checker: Literal["cells", "total"] = "cells"
    truly: dict[str, dict[str, Any]] = Field(default_factory=dict, max_length=40)
    until: Until = Until.CHARGING
    begins: Literal["measure", "match", "charge", "put_away"] = "measure"
    choices: list[_Choice] = Field(min_length=2, max_length=4)
    instead: str = Field(min_length=1, max_length=300)


def lesson_schema() -> dict[str, Any]:
    """The schema of a lesson's file, for whoever writes one."""
    return _Lesson.model_json_schema()


def read_lesson(raw: bytes) -> Lesson:
    """One lesson from its file. Raises BadInput with every fault."""
    try:
        lesson = _Lesson.model_validate(json.loads(raw))
    except ValidationError as error:
        raise BadInput([Fault(".".join(map(str, item["loc"])), item["msg"]) for item in error.errors()]) from error
    except ValueError as error:
        raise BadInput([Fault("", say("is no JSON: {error}", error=error))]) from error
    session = parse(json.dumps(lesson.session).encode())
    options = tuple(_option(item) for item in lesson.choices)
    named = [(f"choices.{number}", _tags(item.does)) for number, item in enumerate(options)]
    named += [("unread", set(lesson.unread)), ("truly", set(lesson.truly))]
    tags = {pack.id for pack in session.packs}
    faults = [
        Fault(place, say("names {tag}, which is no pack of the session", tag=tag))
        for place, mine in named
        for tag in sorted(mine - tags)
    ]
    faults += [
        Fault("choices", say("needs one that is good") if good else say("needs one that is not good"))
        for good in (True, False)
        if not any(item.good is good for item in options)
    ]
    if faults:
        raise BadInput(faults)
    return Lesson(
        lesson.id,
        Words(lesson.title),
        Words(lesson.situation),
        Words(lesson.question),
        session,
        options,
        Words(lesson.instead),
        truth=_truth(lesson),
        unread=tuple(lesson.unread),
        by_total=lesson.checker == "total",
        until=lesson.until,
        begins=lesson.begins,
    )


def _truth(lesson: _Lesson) -> Session:
    """The session with its packs as they truly are, where their labels lie. Raises BadInput."""
    packs = [lesson.truly.get(item.get("id"), {}) | {"id": item.get("id")} if item.get("id") in lesson.truly else item
             for item in lesson.session.get("packs", [])]  # fmt: skip
    try:
        return parse(json.dumps({**lesson.session, "packs": packs}).encode())
    except BadInput as bad:
        raise BadInput([Fault(say("truly {place}", place=fault.place), fault.mend) for fault in bad.faults]) from bad


def _tags(does: Does) -> set[str]:
    return {*does.join, *does.leave, *(does.charge.packs if does.charge else ())}


def _option(item: _Choice) -> Option:
    does, charge = item.does, item.does.charge
    chosen = None
    if charge is not None:
        chosen = Choice(
            tuple(charge.packs), charge.board, charge.channel, rate_c=charge.rate_c, current_a=charge.current_a
        )
    asked = Does(tuple(does.join), does.last, does.balance_first, does.rate_c, chosen)
    if charge is not None:
        asked = replace(asked, kind=charge.kind, stop_min=charge.stop_min)
    if does.leave is not None:
        asked = replace(asked, leave=tuple(does.leave.packs), leave_h=does.leave.hours)
    return Option(item.id, Words(item.words), item.good, Words(item.then), asked)


def lessons(own: Path | None = None) -> tuple[Lesson, ...]:
    """The lessons that ship with Iterum, in their order, then those of a folder. Raises BadInput, naming the file."""
    shipped = [item for item in files("iterum.exchange").joinpath("course").iterdir() if item.name.endswith(".json")]
    mine = sorted(own.glob("*.json")) if own is not None and own.is_dir() else []
    return tuple(_each((*sorted(shipped, key=lambda item: item.name), *mine)))


def _each(lessons: Iterable[Any]) -> Iterable[Lesson]:
    for item in lessons:
        try:
            yield read_lesson(item.read_bytes())
        except BadInput as bad:
            raise BadInput([Fault(f"{item.name} {fault.place}".strip(), fault.mend) for fault in bad.faults]) from bad
