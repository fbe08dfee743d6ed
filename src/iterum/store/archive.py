"""Everything that is kept, as lines of JSON: the form of the file, written and read.

One line a row, named by its table, after a line that says what the file is. A row refers to another by that one's key
in the file, which stands before it.
"""

import json
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from functools import cache
from typing import Annotated, Any, Literal

from annotated_types import Ge, Len, Lt
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, create_model
from sqlalchemy import JSON, Boolean, Column, Connection, Float, Integer, Table, select

from iterum.core.fields import BadInput, Fault
from iterum.core.say import say
from iterum.core.season.moments import is_of_our_time
from iterum.exchange.faults import place_of
from iterum.store import tables
from iterum.store.columns import Moment
from iterum.store.versions import ARCHIVES

FORMAT = "iterum-archive"
MAX_BYTES, MOST_FAULTS = 200_000_000, 50
_MOST = 2**63
_NOT_KEPT = ("undos", "undo_rows", "phones", "kept_ids")
KEPT = tuple(table for table in tables.metadata.sorted_tables if table.name not in _NOT_KEPT)


# ---------------------------------------------------------------------------------------- the form of a line


def _moment(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    moment = datetime.fromisoformat(value)
    if moment.tzinfo is None or not is_of_our_time(moment):
        raise ValueError(say("must be a moment of our time with its zone"))
    return moment


def _type(column: Column[Any]) -> Any:
    kind = column.type
    if isinstance(kind, Moment):
        return Annotated[datetime, BeforeValidator(_moment, json_schema_input_type=str)]
    if isinstance(kind, JSON):
        return dict[str, Any] | list[Any]
    if isinstance(kind, Boolean):
        return bool
    if isinstance(kind, Float):
        return float
    if isinstance(kind, Integer) or column.foreign_keys:
        return Annotated[int, Ge(-_MOST), Lt(_MOST)]
    return Annotated[str, Len(0, 10_000)]


@cache
def _model(table: Table) -> type[BaseModel]:
    """The form of a row of one table, from its columns."""
    columns: dict[str, Any] = {"table": (Literal[table.name], ...)}
    for column in table.c:
        kind, may_lack = _type(column), column.nullable or column.default is not None or column.server_default
        said = Field(..., alias=column.name) if not may_lack else Field(None, alias=column.name)
        columns[f"{column.name}_"] = (kind if not column.nullable else kind | None, said)
    return create_model(table.name, __config__=ConfigDict(extra="forbid", strict=True, allow_inf_nan=False), **columns)


def schema() -> dict[str, Any]:
    """The JSON Schema of one line."""
    parts = {table.name: _model(table).model_json_schema() for table in KEPT}
    said = {"format": {"const": FORMAT}, "version": {"type": "string"}, "made_at": {"type": "string"}}
    head = {"type": "object", "required": ["format", "version"], "properties": said}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "One line of an Iterum archive",
        "oneOf": [head, *({"$ref": f"#/$defs/{name}"} for name in parts)],
        "$defs": parts,
    }


# ---------------------------------------------------------------------------------------- out


def lines_of(connection: Connection, now: datetime) -> Iterator[str]:
    """Every row, a line each, what a row refers to before it."""
    yield _line({"format": FORMAT, "version": ARCHIVES[0], "made_at": now.astimezone(UTC).isoformat()})
    for table in KEPT:
        for row in connection.execute(select(table).order_by(*table.primary_key.columns)):
            values = {name: _plain(value) for name, value in row._mapping.items() if value is not None}
            yield _line({"table": table.name, **values})


def lines_of_pilot(connection: Connection, pilot: str, now: datetime) -> Iterator[str]:
    """The packs of one pilot, their readings and their charges, as a bench of one keeps them.

    Whose they are, and the batches in which they were charged beside packs of others, stay at the table.
    """
    yield _line({"format": FORMAT, "version": ARCHIVES[0], "made_at": now.astimezone(UTC).isoformat()})
    packs = tables.packs
    mine = select(packs.c.key).where(packs.c.pilot == pilot).scalar_subquery()
    left_out = {"packs": "pilot", "charges": "run_key"}
    for table in KEPT:
        if table.name not in ("packs", "readings", "charges"):
            continue
        rule = packs.c.pilot == pilot if table is packs else table.c.pack_key.in_(mine)
        for row in connection.execute(select(table).where(rule).order_by(*table.primary_key.columns)):
            values = {name: _plain(value) for name, value in row._mapping.items() if value is not None}
            values.pop(left_out.get(table.name, ""), None)
            yield _line({"table": table.name, **values})


def _line(values: Mapping[str, Any]) -> str:
    return json.dumps(values, ensure_ascii=False, separators=(",", ":")) + "\n"


def _plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, datetime) else value


# ---------------------------------------------------------------------------------------- in


Line = tuple[int, Table, dict[str, Any]]
"""A row of an archive: the number of its line, its table, its values."""


def read(raw: bytes) -> list[Line]:
    """Every row of an archive. Raises BadInput with the first faults of all."""
    if len(raw) > MAX_BYTES:
        raise BadInput([Fault("", say("is larger than {max_bytes} MB", max_bytes=MAX_BYTES // 1000000))])
    try:
        lines = raw.decode("utf-8-sig").split("\n")
    except UnicodeDecodeError as error:
        raise BadInput([Fault(say("byte {start}", start=error.start), say("is not UTF-8 text"))]) from error
    faults: list[Fault] = []
    _read_head(lines[0])
    by_name = {table.name: table for table in KEPT}
    rows = []
    for number, line in enumerate(lines[1:], 2):
        if not line.strip():
            continue
        values = _document(number, line, faults)
        name = values.get("table") if values is not None else None
        if values is None or not isinstance(name, str) or name not in by_name:
            if values is not None:
                faults.append(
                    Fault(
                        say("line {number}", number=number),
                        say("must name one of the tables {by_name:list}", by_name=by_name),
                    )
                )
            continue
        try:
            model = _model(by_name[name]).model_validate(values, by_alias=True)
        except ValidationError as error:
            for one in error.errors(include_url=False, include_input=False)[:5]:
                place = place_of(tuple(str(step).removesuffix("_") for step in one["loc"][:2]))
                faults.append(Fault(say("line {number}, {place}", number=number, place=place), one["msg"]))
            continue
        given = model.model_dump(exclude_unset=True)
        rows.append(
            (number, by_name[name], {key.removesuffix("_"): one for key, one in given.items() if key != "table"})
        )
    faults += _lostreferences(rows)
    if faults:
        raise BadInput(faults[:MOST_FAULTS])
    return rows


def _read_head(line: str) -> None:
    """Raises BadInput where the file is none of ours, or of a later version."""
    head = _document(1, line, [])
    if head is None or head.get("format") != FORMAT:
        begin = f'{{"format":"{FORMAT}"}}'
        raise BadInput([Fault("line 1", say("is no archive of Iterum; it begins with {begin}", begin=begin))])
    if head.get("version") not in ARCHIVES:
        raise BadInput([Fault("line 1", say("was written by a newer Iterum; take it in with that one"))])


def _document(number: int, line: str, faults: list[Fault]) -> dict[str, Any] | None:
    try:
        document = json.loads(line)
        line.encode()
        if json.dumps(document).count("\\ud8") or "\\u0000" in line:
            raise ValueError
    except (ValueError, RecursionError):
        faults.append(Fault(say("line {number}", number=number), say("is no JSON")))
        return None
    if not isinstance(document, dict):
        faults.append(Fault(say("line {number}", number=number), say("must be an object")))
        return None
    return document


def _lostreferences(rows: list[Line]) -> Iterator[Fault]:
    """Rows that refer to what the file does not hold before them, and keys that stand twice."""
    there: set[tuple[str, int]] = set()
    for number, table, values in rows:
        for column, other in references(table):
            target = values.get(column)
            if target is not None and (other, target) not in there:
                yield Fault(
                    say("line {number}, {column}", number=number, column=column),
                    say("refers to {other} {target}, which no line before it holds", other=other, target=target),
                )
        key = (table.name, values[key_of(table)])
        if key in there:
            yield Fault(
                say("line {number}", number=number), say("stands twice: {table} {key}", table=table.name, key=key[1])
            )
        there.add(key)


@cache
def references(table: Table) -> tuple[tuple[str, str], ...]:
    """Columns of a table that refer to rows of others: (column, name of the other table)."""
    return tuple((column.name, link.column.table.name) for column in table.c for link in column.foreign_keys)


def key_of(table: Table) -> str:
    """The name of its primary key."""
    (column,) = table.primary_key.columns
    return str(column.name)
