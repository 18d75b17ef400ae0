"""Rows kept by Oak Relay itself: `table.add`, `table.upsert`, `table.delete`, `table.find`, `table.total`."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Annotated, get_args

from pydantic import BaseModel, Field

from oak_relay.actions.base import Action, Connector, Elsewhere, Fields, Given, Repeat
from oak_relay.actions.linked.rows import LinkedRows, rows_of
from oak_relay.actions.sheets.cells import taken
from oak_relay.capabilities.given import Column, Filter, How, Result, Where
from oak_relay.capabilities.protocols import Surroundings, Tables
from oak_relay.changes import AddRow, DeleteRows, UpsertRow
from oak_relay.document import values
from oak_relay.document.check_base import COLUMNS
from oak_relay.document.errors import StepFailed
from oak_relay.document.values import in_brief
from oak_relay.triggers.table import LinkedTrigger, TableTrigger


class AddInput(Fields):
    table: str = Field(description="The table's name.")
    row: dict[str, object] = Field(description="Column to value.", json_schema_extra=COLUMNS)


class UpsertInput(AddInput):
    match: list[str] = Field(
        min_length=1, description="Columns that tell which row is meant.", json_schema_extra=COLUMNS
    )


_WHERE = (
    "Columns and the values they must have; or how they must stand: {at_least: 3}, {in: [a, b]}, with not, above, at_least, "
    "below, at_most, in, contains, begins_with, empty."
)


class FindInput(Fields):
    table: str = Field(description="The table's name.")
    where: dict[str, object] = Field(default_factory=dict, description=_WHERE, json_schema_extra=COLUMNS)
    order: list[Annotated[str, Field(pattern=r"^-?[a-z][a-z0-9_]{0,60}$")]] = Field(
        default_factory=list,
        max_length=5,
        description="Columns by which they are ordered, -column from the greatest down; else the oldest first.",
    )
    columns: list[str] | None = Field(
        None, description="Only these columns; all when left out.", json_schema_extra=COLUMNS
    )
    limit: int = Field(100, ge=1, le=10_000)


class TotalInput(Fields):
    table: str = Field(description="The table's name.")
    where: dict[str, object] = Field(default_factory=dict, description=_WHERE, json_schema_extra=COLUMNS)
    by: list[str] = Field(
        default_factory=list,
        max_length=5,
        description="Columns whose equal values make a group.",
        json_schema_extra=COLUMNS,
    )
    sum: list[str] = Field(
        default_factory=list, max_length=20, description="Columns of numbers to add up.", json_schema_extra=COLUMNS
    )
    average: list[str] = Field(
        default_factory=list, max_length=20, description="Columns of numbers to average.", json_schema_extra=COLUMNS
    )
    least: list[str] = Field(
        default_factory=list,
        max_length=20,
        description="Columns whose least number is told.",
        json_schema_extra=COLUMNS,
    )
    most: list[str] = Field(
        default_factory=list,
        max_length=20,
        description="Columns whose greatest number is told.",
        json_schema_extra=COLUMNS,
    )
    limit: int = Field(1000, ge=1, le=10_000, description="Groups, those with most rows first.")


class DeleteInput(Fields):
    table: str = Field(description="The table's name.")
    where: dict[str, object] = Field(
        min_length=1, description="Columns and the values that rows must have to be removed.", json_schema_extra=COLUMNS
    )


class Row(BaseModel):
    id: str
    row: dict[str, object]


class Upserted(Row):
    created: bool


class Found(BaseModel):
    rows: list[dict[str, object]]
    count: int


def _add(given: AddInput, at: Tables) -> AddRow:
    table = at.table(given.table)
    return AddRow(table.id, fitted(given.table, table.columns, given.row))


def _matched(given: UpsertInput) -> None:
    """Raises `StepFailed` (`invalid`) where the row lacks what it is matched by."""
    absent = [column for column in given.match if column not in given.row]
    if absent:
        raise StepFailed(
            "invalid", f"table.upsert matches by {', '.join(absent)}, which the row lacks", fix="add it to row:"
        )


def _upsert(given: UpsertInput, at: Tables) -> UpsertRow:
    _matched(given)
    added = _add(given, at)
    return UpsertRow(added.table, added.row, given.match)


def _delete(given: DeleteInput, at: Tables) -> DeleteRows:
    table = at.table(given.table)
    return DeleteRows(table.id, fitted(given.table, table.columns, given.where))


async def _find(given: FindInput, at: Tables) -> Result:
    order = [(one.removeprefix("-"), one.startswith("-")) for one in given.order]
    rows = await at.rows(given.table, meant(given.where), order, given.limit)
    if given.columns is not None:
        rows = [{name: row.get(name) for name in given.columns} for row in rows]
    else:
        columns = at.table(given.table).columns
        rows = [in_order(columns, row) for row in rows]
    return Result({"rows": rows, "count": len(rows)})


async def _total(given: TotalInput, at: Tables) -> Result:
    measures = {name: getattr(given, name) for name in ("sum", "average", "least", "most")}
    found = await at.totals(given.table, meant(given.where), given.by, measures, given.limit)
    return Result({"rows": found, "count": len(found)})


def _linked(table: str, at: Surroundings) -> tuple[tuple[Column, ...], LinkedRows]:
    known = at.table(table)
    assert known.link is not None
    return known.columns, rows_of(known.link, known.columns, at)


def has(table: str, columns: Iterable[Column], names: Iterable[str]) -> None:
    """Raises `StepFailed` (`invalid`) for a column that a table has not."""
    known = [column.name for column in columns]
    for name in names:
        if name not in known:
            raise StepFailed(
                "invalid", f"the table {table} has no column {name}; it has {', '.join(known)}", fix="correct the name"
            )


async def _find_there(given: FindInput, at: Surroundings) -> Result:
    columns, there = _linked(given.table, at)
    order = [(one.removeprefix("-"), one.startswith("-")) for one in given.order]
    where = meant(given.where)
    has(given.table, columns, [*where.match, *(one.column for one in where.filters), *(name for name, _ in order)])
    rows = await there.find(where, order, given.limit)
    if given.columns is not None:
        rows = [{name: row.get(name) for name in given.columns} for row in rows]
    return Result({"rows": rows, "count": len(rows)})


async def _total_there(given: TotalInput, at: Surroundings) -> Result:
    columns, there = _linked(given.table, at)
    measures = {name: getattr(given, name) for name in ("sum", "average", "least", "most")}
    where = meant(given.where)
    named = [*given.by, *(one for some in measures.values() for one in some)]
    has(given.table, columns, [*named, *where.match, *(one.column for one in where.filters)])
    found = await there.totals(where, given.by, measures, given.limit)
    return Result({"rows": found, "count": len(found)})


def _key_of(columns: Iterable[str], row: Mapping[str, object]) -> str:
    return values.dumps([row.get(name) for name in columns]) if columns else ""


async def _add_there(given: AddInput, at: Surroundings) -> Result:
    columns, there = _linked(given.table, at)
    row = await there.add(fitted(given.table, columns, given.row))
    return Result({"id": _key_of(_keys(given.table, at), row), "row": row})


async def _upsert_there(given: UpsertInput, at: Surroundings) -> Result:
    columns, there = _linked(given.table, at)
    _matched(given)
    row, created = await there.upsert(fitted(given.table, columns, given.row), given.match)
    return Result({"id": _key_of(_keys(given.table, at), row), "row": row, "created": created})


async def _delete_there(given: DeleteInput, at: Surroundings) -> Result:
    columns, there = _linked(given.table, at)
    gone = await there.delete(fitted(given.table, columns, given.where))
    return Result({"rows": gone, "count": len(gone)})


def _keys(table: str, at: Surroundings) -> Sequence[str]:
    link = at.table(table).link
    return link.key if link is not None else ()


def _keyed(key: Sequence[str], given: Given) -> Repeat:
    """A row with a key is added once, however often that is done: it is looked for first."""
    row = given.get("row")
    return "safe" if key and isinstance(row, Mapping) and all(name in row for name in key) else "unsafe"


def _matching(key: Sequence[str], given: Given) -> Repeat:
    match = given.get("match")
    return "safe" if isinstance(match, list) and set(key) <= set(match) and key else _keyed(key, given)


_HOWS: tuple[How, ...] = get_args(How)
_TEXTS = ("contains", "begins_with")


def meant(where: Mapping[str, object]) -> Where:
    """Which rows are meant: a mapping of nothing but ways to stand is one, any other value is to be had. Raises `StepFailed`
    (`invalid`)."""
    match: dict[str, object] = {}
    filters: list[Filter] = []
    for column, value in where.items():
        if not isinstance(value, Mapping) or not value or not all(name in _HOWS for name in value):
            match[column] = value
            continue
        for how in _HOWS:
            if how in value:
                _sound(column, how, value[how])
                filters.append(Filter(column, how, value[how]))
    return Where(match, tuple(filters))


def _sound(column: str, how: How, value: object) -> None:
    """Raises `StepFailed` (`invalid`) for what nothing can stand to so."""
    wanted = ""
    if how == "in" and not (isinstance(value, list) and len(value) <= 1000):
        wanted = "a list of at most 1,000 values"
    elif how == "empty" and not isinstance(value, bool):
        wanted = "true or false"
    elif how in _TEXTS and not (isinstance(value, str) and 0 < len(value) <= 500):
        wanted = "a text of at most 500 letters"
    elif how in ("above", "at_least", "below", "at_most") and (
        value is None or isinstance(value, bool | list | Mapping)
    ):
        wanted = "a number or a text"
    if wanted:
        raise StepFailed("invalid", f"where: {column}: {how} wants {wanted}", fix="correct the value")


def in_order(columns: Iterable[Column], row: Mapping[str, object]) -> dict[str, object]:
    """A row with its values in the order of the columns."""
    return {column.name: row[column.name] for column in columns if column.name in row}


def fitted(table: str, columns: Iterable[Column], row: Mapping[str, object]) -> dict[str, object]:
    """A row as it is kept: a text that is a number where a column holds numbers is taken as one. Raises `StepFailed`."""
    by_name = {column.name: column.type for column in columns}
    kept: dict[str, object] = {}
    for name, given in row.items():
        kind = by_name.get(name)
        if kind is None:
            raise StepFailed(
                "invalid", f"the table {table} has no column {name}; it has {', '.join(by_name)}", fix="correct the row"
            )
        value = kept[name] = taken(given, kind)
        if not _fits(value, kind):
            raise StepFailed(
                "invalid", f"{table}.{name} holds a {kind}, not {values.dumps(value)[:60]}", fix="correct the value"
            )
    if values.unstorable(kept):
        raise StepFailed(
            "invalid",
            f"a text for {table} holds U+0000 or half a character, which no table can keep",
            fix="clean the text",
        )
    return kept


def _fits(value: object, kind: str) -> bool:
    if value is None or kind == "any":
        return True
    if kind == "boolean":
        return isinstance(value, bool)
    if kind == "number":
        return not isinstance(value, bool | str | list | dict)
    return isinstance(value, str)


def _says(verb: str) -> Callable[[str, Given], str]:
    return lambda step, given: f"{verb} {in_brief(given.get('table'))}"


CONNECTOR = Connector(
    "Tables",
    [
        Action(
            "table.add",
            "Add a row to a table",
            AddInput,
            Row,
            reach="local",
            change=_add,
            elsewhere=Elsewhere(_add_there, _keyed),
            sentence=_says("Add a row to"),
            example_gives={"id": "…", "row": {"hut": "Glasswater", "nights": 2}},
            example={"table": "bookings", "row": {"hut": "${ input.hut }", "nights": 2}},
        ),
        Action(
            "table.upsert",
            "Update the row that matches, or add it",
            UpsertInput,
            Upserted,
            reach="local",
            change=_upsert,
            elsewhere=Elsewhere(_upsert_there, _matching),
            sentence=_says("Add or update a row in"),
            example_gives={"id": "…", "row": {"hut": "Glasswater", "free": 4}, "created": False},
            example={"table": "huts", "match": ["hut"], "row": {"hut": "${ input.hut }", "free": "${ input.free }"}},
            first=("table", "match", "row"),
        ),
        Action(
            "table.delete",
            "Remove rows of a table",
            DeleteInput,
            Found,
            reach="local",
            change=_delete,
            elsewhere=Elsewhere(_delete_there),
            sentence=_says("Remove rows of"),
            example_gives={"count": 1, "rows": [{"hut": "Glasswater", "nights": 2}]},
            example={"table": "bookings", "where": {"hut": "${ input.hut }"}},
        ),
        Action(
            "table.find",
            "Find rows of a table",
            FindInput,
            Found,
            reach="read",
            timeout=30,
            perform=_find,
            elsewhere=Elsewhere(_find_there),
            sentence=_says("Find rows of"),
            example_gives={"rows": [{"hut": "Glasswater", "free": 9}], "count": 1},
            example={"table": "huts", "where": {"hut": "${ input.hut }"}},
            first=("table", "where", "order", "limit"),
        ),
        Action(
            "table.total",
            "Count and add up rows of a table",
            TotalInput,
            Found,
            reach="read",
            timeout=30,
            perform=_total,
            elsewhere=Elsewhere(_total_there),
            sentence=_says("Count and add up rows of"),
            example_gives={"rows": [{"hut": "Glasswater", "count": 1, "sum": {"nights": 2}}], "count": 1},
            example={"table": "bookings", "by": ["hut"], "sum": ["nights"]},
            first=("table", "by", "sum", "where"),
        ),
    ],
    triggers=[TableTrigger(), LinkedTrigger()],
)
