"""The shape of the session file, made from the fields of the core: their types, bounds, titles, units and help.

Each part of the file ("pack", "board" ...) is a pydantic model that is built from the dataclass it becomes. It checks
structure, all faults at once, and publishes the JSON Schema; nothing about a field is said twice.
"""

from collections.abc import Mapping
from dataclasses import MISSING, fields
from enum import Enum
from functools import cache
from typing import Annotated, Any, Literal, TypeVar, get_args, get_origin, get_type_hints

from annotated_types import Ge, Gt, Le, Len
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, create_model
from pydantic.json_schema import GenerateJsonSchema, JsonSchemaValue
from pydantic_core import core_schema

from iterum.core.fields import Kept, Name, Note, Says
from iterum.core.things.bench import Running
from iterum.core.things.chemistry import CHEMISTRIES, MAX_CELLS
from iterum.core.things.choice import Choice
from iterum.core.things.curve import KnownPoint, Learned
from iterum.core.things.days import Days
from iterum.core.things.kit import Board, Channel, Charger, Source, Supply
from iterum.core.things.packs import Pack, Reading
from iterum.core.things.pilots import Pilot
from iterum.core.things.rules import HouseRules, MatchBy
from iterum.core.things.session import Wish

FORMAT, VERSION = "iterum-session", 1
_ABOUT = (
    "Packs, kit and wishes of one charging session. Units stand in the key: _v volts, _a amps, _w watts, _wh, _mah, "
    "_mohm, _min minutes, _s seconds, _c multiples of capacity per hour. Fractions are 0..1."
)
_ANNOTATED: Any = Annotated
_TUPLE: Any = tuple
_LITERAL: Any = Literal
_create: Any = create_model
"""The same three for types that are only known when this runs."""
_STRICT = ConfigDict(extra="forbid", strict=True, allow_inf_nan=False, defer_build=True)


def _whole(value: Any) -> Any:
    """4.0 is a whole number, as JSON Schema counts it."""
    return int(value) if isinstance(value, float) and value.is_integer() else value


def _checked(hint: Any, null: bool = False) -> Any:
    """A hint of the core as pydantic takes it, what it `Says` as title, description, unit and pattern.

    null : whether null is taken as well, for a field that may be left out.
    """
    if isinstance(hint, type) and issubclass(hint, Enum):
        return _LITERAL[tuple(item.value for item in hint)]
    if get_origin(hint) is not Annotated:
        if get_origin(hint) is tuple:
            return _TUPLE[tuple(_checked(part) if part is not Ellipsis else part for part in get_args(hint))]
        return hint | None if null else hint
    base, *marks = get_args(hint)
    base = _checked(base)
    optional = type(None) in get_args(base)
    kept = [mark for mark in marks if not isinstance(mark, (Says, Kept))]
    for says in [mark for mark in marks if isinstance(mark, Says)][-1:]:
        extra: Any = {"x-unit": says.unit} if says.unit else None
        kept.append(
            Field(
                title=says.title or None, description=says.help or None, pattern=says.pattern, json_schema_extra=extra
            )
        )
    if get_origin(base) is Literal:
        null = False
    if int in (base, *get_args(base)):
        kept.append(BeforeValidator(_whole))
    return _ANNOTATED[(base | None if null and not optional else base, *kept)]


_Core = TypeVar("_Core")


@cache
def _hints(kind: type[object]) -> dict[str, Any]:
    return get_type_hints(kind)


class Item(BaseModel):
    """One checked part of a file."""

    model_config = _STRICT

    def made(self, kind: type[_Core], rename: Mapping[str, str] | None = None, **others: Any) -> _Core:
        """The core object of this part. rename : core field -> field of the file. others : fields worked out elsewhere.

        Null counts as left out, unless it is a value of that field.
        """
        hints = _hints(kind)  # type: ignore[arg-type]  # a class has a hash
        values = dict(others)
        for field in fields(kind):  # type: ignore[arg-type]
            name = (rename or {}).get(field.name, field.name)
            if field.name in others or name not in type(self).model_fields:
                continue
            value, hint = getattr(self, name), hints[field.name]
            if value is None and type(None) not in get_args(hint):
                continue
            values[field.name] = hint(value) if isinstance(hint, type) and issubclass(hint, Enum) else value
        return kind(**values)


@cache
def in_file(kind: type) -> tuple[str, ...]:
    """The fields of a dataclass that the file holds: all but those that neither are typed nor say what they are.

    kind : of the core.
    """
    hints = get_type_hints(kind, include_extras=True)
    marks = {field.name: [type(mark) for mark in hints[field.name].__metadata__]
             if get_origin(hints[field.name]) is Annotated else [] for field in fields(kind)}  # fmt: skip
    return tuple(name for name, told in marks.items() if Says in told or Kept not in told)


def _fields(kind: type, types: Mapping[str, Any], rename: Mapping[str, str], without: str) -> dict[str, Any]:
    """The fields of a dataclass as those of a model. types : what some of them are in a file, instead."""
    described = {}
    hints = get_type_hints(kind, include_extras=True)
    for name in in_file(kind):
        if name in without.split():
            continue
        field = kind.__dataclass_fields__[name]  # type: ignore[attr-defined]  # it is a dataclass
        hint, default = hints[name], field.default
        if field.name in types:
            marks = get_args(hint)[1:] if get_origin(hint) is Annotated else ()
            hint = _ANNOTATED[(types[field.name], *marks)] if marks else types[field.name]
        if field.default_factory is not MISSING:
            default = field.default_factory()
        required = default is MISSING
        described[rename.get(name, name)] = (_checked(hint, not required), Field(default=... if required else default))
    return described


def _model(
    name: str, title: str, kind: type, types: Mapping[str, Any] | None = None, rename: Mapping[str, str] | None = None,
    without: str = "", more: Mapping[str, Any] | None = None,
) -> Any:  # fmt: skip
    """A part of the file from a core dataclass. more : fields that stand elsewhere in the core, with their defaults."""
    made = _fields(kind, types or {}, rename or {}, without) | dict(more or {})
    model = _create(name, __base__=Item, **made)
    model.model_config["title"] = title
    return model


def _by_chemistry(name: str, ranges: Mapping[str, tuple[float, float]]) -> Any:
    """An object of volts by chemistry, each within its range."""
    made: dict[str, Any] = {}
    for chemistry, (low_v, high_v) in ranges.items():
        says = Says(CHEMISTRIES[chemistry].label, "V")
        made[chemistry] = (_checked(_ANNOTATED[float, Ge(low_v), Le(high_v), says], null=True), None)
    return _create(name, __base__=Item, **made)


def _both_lipos(value: Any) -> Any:
    """One number for storage volts is for the two chemistries that practice quotes it for."""
    is_number = isinstance(value, (int, float)) and not isinstance(value, bool)
    return {"lipo": value, "lihv": value} if is_number else value


def _or_number(schema: dict[str, Any]) -> None:
    """Say in the schema that one number does as well."""
    lipo = CHEMISTRIES["lipo"]
    number = {"type": "number", "minimum": lipo.storage_range_v[0], "maximum": lipo.storage_range_v[1]}
    schema["anyOf"] = [number, *schema.get("anyOf", [])]


_JOINING = [chemistry for chemistry in CHEMISTRIES.values() if chemistry.joins]
_Class: Any = _ANNOTATED[str, Field(pattern=f"^({'|'.join(CHEMISTRIES)})-([1-9]|1[0-{MAX_CELLS - 10}])S$")]
_Moment: Any = _ANNOTATED[str | None, Len(0, 40)]
_End = _by_chemistry("end_v", {item.name: (item.end_from_v, item.brim_v) for item in _JOINING})
_Storage = _by_chemistry("storage_v", {item.name: item.storage_range_v for item in _JOINING})
_Match = _create(
    "match",
    __base__=Item,
    by=(_ANNOTATED[_checked(MatchBy), Field(title="Measured in")], ...),
    limit=(Annotated[float, Gt(0), Le(20), Field(title="Limit")], ...),
)

_Known = _model("known", "A known point", KnownPoint, {"at": _Moment})
_Learned = _model("learned", "Learned from its charges", Learned, {"points": _TUPLE[_Known, ...]})
_PACK = {"chemistry_name": _LITERAL[tuple(CHEMISTRIES)], "learned": _Learned | None}
Channel_ = _model("channel", "Channel", Channel)
_Days = _model("days", "What days are like", Days)
PARTS: dict[str, Any] = {
    "pack": _model(
        "pack", "Pack", Pack,
        _PACK, {"chemistry_name": "chemistry"}, "",
        _fields(
            Reading, {"taken_at": _Moment, "pack_v": float | None},
            {"pack_v": "pack_volts", "cell_v": "cell_volts", "taken_at": "measured_at"}, "",
        ) | {"pack_volts": (_checked(get_type_hints(Reading, include_extras=True)["pack_v"], null=True), None)},
    ),
    "board": _model("board", "Board", Board),
    "source": _model("source", "Source", Source),
    "supply": _model("supply", "Supply", Supply),
    "charger": _model("charger", "Charger", Charger, {"channels": _TUPLE[Channel_, ...]}),
    "channel": Channel_,
    "days": _Days,
    "rules": _model(
        "rules", "House rules", HouseRules,
        without="match_by match_limit end_v storage_v days",
        more={
            "days": (_ANNOTATED[_Days | None, Field(title="What days are like")], None),
            "match": (_ANNOTATED[_Match | None, Field(title="How close packs must be")], None),
            "end_v": (_ANNOTATED[_End | None, Field(title="End volts per cell")], None),
            "storage_v": (
                Annotated[
                    _Storage | None,
                    BeforeValidator(_both_lipos),
                    Field(
                        title="Storage volts per cell",
                        description="By chemistry; one number is for LiPo and LiHV.",
                        json_schema_extra=_or_number,
                    ),
                ],
                None,
            ),
        },
    ),
    "group": _model("group", "Group", Choice),
    "pilot": _model("pilot", "Pilot", Pilot),
    "wanted": _model(
        "wanted", "Wish", Wish, {"family": _Class, "at_min": Annotated[float, Ge(0), Le(100000)]},
        {"family": "class"},
    ),
    "running": _model(
        "running", "A batch that charges now", Running, without="power_w board energy_left_wh",
        more={
            name: (_checked(get_type_hints(Running, include_extras=True)[name], null=True), None)
            for name in ("board", "energy_left_wh")
        },
    ),
}  # fmt: skip


def _list_of(part: str, most: int, title: str) -> Any:
    return _ANNOTATED[_TUPLE[PARTS[part], ...], Len(0, most), Field(title=title)], ()


SESSION: Any = _create(
    "session",
    __base__=Item,
    format=(_ANNOTATED[_LITERAL[FORMAT], Field(title="Format")], ...),
    version=(_ANNOTATED[_LITERAL[VERSION], Field(title="Version")], ...),
    name=(_checked(Name), None),
    note=(_checked(Note), None),
    starts_at=(
        _checked(
            Annotated[
                _Moment,
                Says(
                    "Starts at", help="The time of day of minute 0, such as 2026-06-13T08:00:00+01:00. Left out: now."
                ),
            ]
        ),
        None,
    ),
    air_c=(_checked(Annotated[float | None, Ge(-30), Le(60), Says("Air today", "°C")]), None),
    rules=(PARTS["rules"] | None, None),
    packs=_list_of("pack", 2000, "Packs"),
    boards=_list_of("board", 200, "Boards"),
    sources=_list_of("source", 200, "Sources"),
    supplies=_list_of("supply", 200, "Supplies"),
    chargers=_list_of("charger", 200, "Chargers"),
    wanted=_list_of("wanted", 500, "Wishes"),
    pilots=_list_of("pilot", 40, "Pilots"),
    running=_list_of("running", 200, "What charges now"),
    group=(PARTS["group"] | None, None),
)
"""The whole file."""


class _Published(GenerateJsonSchema):
    """JSON Schema with an optional field as one type, "number or null", which a person reads more easily."""

    def nullable_schema(self, schema: core_schema.NullableSchema) -> JsonSchemaValue:
        """What may be empty, said in its own type where it has one."""
        inner = self.generate_inner(schema["schema"])
        if isinstance(inner.get("type"), str):
            return {**inner, "type": [inner["type"], "null"]}
        return super().nullable_schema(schema)

    def default_schema(self, schema: core_schema.WithDefaultSchema) -> JsonSchemaValue:
        """A field with its default, where that says something."""
        described = super().default_schema(schema)
        return {name: value for name, value in described.items() if name != "default" or value not in (None, [], False)}


@cache
def schema() -> dict[str, Any]:
    """The published JSON Schema of the session file."""
    made = SESSION.model_json_schema(schema_generator=_Published)
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": "urn:iterum:session:1"}
    return {**head, **made, "title": "Iterum session", "description": _ABOUT}
