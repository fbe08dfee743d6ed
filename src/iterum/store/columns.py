"""Columns of a table from the fields of what it keeps, and objects from its rows: a field is said once, in the core."""

from dataclasses import MISSING, Field, fields, is_dataclass
from datetime import UTC, datetime
from enum import StrEnum
from functools import cache
from types import NoneType
from typing import Annotated, Any, TypeVar, cast, get_args, get_origin, get_type_hints

from sqlalchemy import JSON, Boolean, Column, DateTime, Float, Integer, Row, RowMapping, String, Table, text
from sqlalchemy.engine import Dialect
from sqlalchemy.types import TypeDecorator, TypeEngine

from iterum.core.fields import Kept
from iterum.store.documents import from_document, to_document

_Made = TypeVar("_Made")


class Moment(TypeDecorator[datetime]):
    """A moment, kept in UTC. A time without a zone is taken as this machine's local time."""

    impl = DateTime
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> datetime | None:  # noqa: ARG002
        """To UTC, without its zone, as SQLite keeps it."""
        return None if value is None else value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: Any | None, dialect: Dialect) -> datetime | None:  # noqa: ARG002
        """Back to a moment in UTC."""
        return None if value is None else value.replace(tzinfo=UTC)


_TYPES: dict[type, TypeEngine[Any]] = {
    datetime: Moment(),
    bool: Boolean(),
    int: Integer(),
    float: Float(),
    str: String(),
}


def columns_of(kind: type) -> list[Column[Any]]:
    """A column for each field of a dataclass that is kept. A field with a default may lack in rows from before it.

    kind : of the core.
    """
    return [_column(field, _base(kind, field.name)) for field in _kept(kind)]


def _column(field: Field[Any], base: Any) -> Column[Any]:
    inner, is_optional = _inner(base)
    default = None if is_optional else _default_of(field)
    return Column(
        field.name,
        _TYPES.get(inner) or (String() if _is_words(inner) else JSON(none_as_null=True)),
        nullable=is_optional,
        unique=field.name == "id",
        server_default=None if default is None else text(default),
    )


def _default_of(field: Field[Any]) -> str | None:
    """The default of a field as SQLite writes it; None where it has none."""
    if field.default is MISSING:
        return None
    if isinstance(field.default, (bool, int, float)):
        return repr(field.default + 0)
    return f"'{field.default}'" if isinstance(field.default, str) else "'[]'"


@cache
def _kept(kind: Any) -> tuple[Field[Any], ...]:
    """The fields that are kept."""
    hints = get_type_hints(kind, include_extras=True)
    return tuple(field for field in fields(kind) if Kept.ELSEWHERE not in _marks(hints[field.name]))


@cache
def kept_by_log(kind: Any) -> frozenset[str]:
    """The fields that tell what happened to a thing: they do not change with its label.

    kind : of the core.
    """
    hints = get_type_hints(kind, include_extras=True)
    return frozenset(field.name for field in _kept(kind) if Kept.BY_LOG in _marks(hints[field.name]))


def _marks(hint: Any) -> tuple[Any, ...]:
    return get_args(hint)[1:] if get_origin(hint) is Annotated else ()


@cache
def _base(kind: Any, name: str) -> Any:
    return get_type_hints(kind)[name]


def _inner(base: Any) -> tuple[Any, bool]:
    """A type without "or None", and whether that stood there."""
    parts = get_args(base)
    if NoneType not in parts:
        return base, False
    (inner,) = (part for part in parts if part is not NoneType)
    return inner, True


def _is_words(inner: Any) -> bool:
    return isinstance(inner, type) and issubclass(inner, StrEnum)


def values_of(item: Any, table: Table) -> dict[str, Any]:
    """What a row keeps of an object: the fields that are columns of its table.

    item : a dataclass of the core.
    """
    kind: Any = type(item)
    return {field.name: _written(getattr(item, field.name)) for field in _kept(kind) if field.name in table.c}


def _written(value: Any) -> Any:
    return to_document(value) if is_dataclass(value) and not isinstance(value, type) else value


def made(kind: type[_Made], row: Row[Any], **others: Any) -> _Made:
    """An object from the columns that are its fields.

    others : fields that stand elsewhere.
    """
    values, known = row._mapping, _kept(cast(Any, kind))
    found = {field.name: _read(kind, field.name, values) for field in known if field.name in values}
    return kind(**(found | others))


def _read(kind: type, name: str, values: RowMapping) -> Any:
    value = values[name]
    if isinstance(value, list):
        return _fixed(value)
    if isinstance(value, dict):
        return from_document(_inner(_base(kind, name))[0], value)
    return value


def _fixed(value: Any) -> Any:
    """A list, as JSON gives it, as a tuple."""
    return tuple(map(_fixed, value)) if isinstance(value, list) else value
