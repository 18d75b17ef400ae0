"""Rows kept by Oak Relay itself: `table.add`, `table.upsert`, `table.delete`, `table.find`."""

from collections.abc import Callable, Iterable, Mapping

from pydantic import BaseModel, Field

from oak_relay.actions.base import Action, Connector, Fields, Given
from oak_relay.capabilities.given import Column, Result
from oak_relay.capabilities.protocols import Tables
from oak_relay.changes import AddRow, DeleteRows, UpsertRow
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.values import in_brief
from oak_relay.triggers.table import TableTrigger


class AddInput(Fields):
    table: str = Field(description="The table's name.")
    row: dict[str, object] = Field(description="Column to value.")


class UpsertInput(AddInput):
    match: list[str] = Field(min_length=1, description="Columns that tell which row is meant.")


class FindInput(Fields):
    table: str = Field(description="The table's name.")
    where: dict[str, object] = Field(default_factory=dict, description="Columns and the values they must have.")
    columns: list[str] | None = Field(None, description="Only these columns; all when left out.")
    limit: int = Field(100, ge=1, le=10_000)


class DeleteInput(Fields):
    table: str = Field(description="The table's name.")
    where: dict[str, object] = Field(
        min_length=1, description="Columns and the values that rows must have to be removed."
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
    check_row(given.table, table.columns, given.row)
    return AddRow(table.id, given.row)


def _upsert(given: UpsertInput, at: Tables) -> UpsertRow:
    absent = [column for column in given.match if column not in given.row]
    if absent:
        raise StepFailed(
            "invalid", f"table.upsert matches by {', '.join(absent)}, which the row lacks", fix="add it to row:"
        )
    added = _add(given, at)
    return UpsertRow(added.table, added.row, given.match)


def _delete(given: DeleteInput, at: Tables) -> DeleteRows:
    table = at.table(given.table)
    check_row(given.table, table.columns, given.where)
    return DeleteRows(table.id, given.where)


async def _find(given: FindInput, at: Tables) -> Result:
    rows = await at.rows(given.table, given.where, given.limit)
    if given.columns is not None:
        rows = [{name: row.get(name) for name in given.columns} for row in rows]
    return Result({"rows": rows, "count": len(rows)})


def check_row(table: str, columns: Iterable[Column], row: Mapping[str, object]) -> None:
    """Whether a row fits the columns. Raises `StepFailed`."""
    by_name = {column.name: column.type for column in columns}
    for name, value in row.items():
        if name not in by_name:
            raise StepFailed(
                "invalid", f"the table {table} has no column {name}; it has {', '.join(by_name)}", fix="correct the row"
            )
        if not _fits(value, by_name[name]):
            raise StepFailed(
                "invalid",
                f"{table}.{name} holds a {by_name[name]}, not {values.dumps(value)[:60]}",
                fix="correct the value",
            )
    if values.unstorable(row):
        raise StepFailed(
            "invalid",
            f"a text for {table} holds U+0000 or half a character, which no table can keep",
            fix="clean the text",
        )


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
            sentence=_says("Add a row to"),
            example={"table": "bookings", "row": {"hut": "${ input.hut }"}},
        ),
        Action(
            "table.upsert",
            "Update the row that matches, or add it",
            UpsertInput,
            Upserted,
            reach="local",
            change=_upsert,
            sentence=_says("Add or update a row in"),
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
            sentence=_says("Remove rows of"),
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
            sentence=_says("Find rows of"),
            example={"table": "huts", "where": {"hut": "${ input.hut }"}},
            first=("table", "where", "limit"),
        ),
    ],
    triggers=[TableTrigger()],
)
