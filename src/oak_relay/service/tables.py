"""`/api/v1/tables`: tables kept here and their rows; `/api/v1/actions`: the catalogue."""

from typing import Annotated, Any, Literal
from uuid import UUID

from fastapi import APIRouter, Query, Response
from pydantic import Field
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.actions.tables import check_row
from oak_relay.capabilities.given import Column
from oak_relay.service import exact
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import In, RowOut, RowPage, TableOut
from oak_relay.store import people, rows

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["tables"])


class ColumnIn(In):
    name: str = Field(pattern=r"^[a-z][a-z0-9_]{0,60}$")
    type: Literal["text", "number", "boolean", "any"] = "text"


class TableIn(In):
    name: str = Field(pattern=r"^[a-z][a-z0-9_-]{0,60}$")
    columns: list[ColumnIn] = Field(min_length=1, max_length=200)


class RowsIn(In):
    rows: list[dict[str, object]] = Field(min_length=1, max_length=5000)


@router.get("/tables")
async def list_tables(parts: PartsDep, _: CallerDep) -> list[TableOut]:
    """Tables with their columns and how many rows they have."""
    async with parts.database.connect() as connection:
        return [
            TableOut(name=t.name, columns=t.columns, rows=t.rows, created_at=t.created_at)
            for t in await rows.tables(connection, parts.workspace)
        ]


@router.post("/tables", status_code=201)
async def create_table(given: TableIn, parts: PartsDep, who: CallerDep) -> TableOut:
    """Make a table. 409 when there is one of that name."""
    try:
        async with parts.database.begin() as connection:
            await rows.create(connection, parts.workspace, given.name, [c.model_dump() for c in given.columns])
            await people.note(connection, parts.workspace, who.name, "table", given.name)
            made = next(t for t in await rows.tables(connection, parts.workspace) if t.name == given.name)
    except IntegrityError:
        raise Problem(409, f"there is a table {given.name} already", fix="choose another name") from None
    parts.config_changed()
    return TableOut(name=made.name, columns=made.columns, rows=0, created_at=made.created_at)


@router.delete("/tables/{name}", status_code=204)
async def drop_table(name: str, parts: PartsDep, who: CallerDep) -> None:
    """Remove a table with all its rows."""
    async with parts.database.begin() as connection:
        if not await rows.drop(connection, parts.workspace, name):
            raise missing("table", name)
        await people.note(connection, parts.workspace, who.name, "remove table", name)
    parts.config_changed()


@router.get("/tables/{name}/rows", response_model=RowPage)
async def list_rows(
    name: str,
    parts: PartsDep,
    _: CallerDep,
    after: UUID | None = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
) -> Response:
    """Rows, oldest first."""
    async with parts.database.connect() as connection:
        table = await _table(connection, parts.workspace, name)
        found = await rows.find(connection, parts.workspace, table.id, {}, limit + 1, after)
    page = [RowOut(**row) for row in found[:limit]]
    return exact.answer(RowPage(rows=page, next=page[-1].id if len(found) > limit else None))


@router.post("/tables/{name}/rows", status_code=201)
async def add_rows(name: str, given: RowsIn, parts: PartsDep, _: CallerDep) -> dict[str, int]:
    """Add rows, all or none."""
    async with parts.database.begin() as connection:
        table = await _table(connection, parts.workspace, name)
        for row in given.rows:
            check_row(name, _columns(table), row)
        await rows.add(connection, parts.workspace, table.id, given.rows)
    parts.hints.send("published")
    return {"added": len(given.rows)}


@router.patch("/tables/{name}/rows/{row_id:uuid}")
async def update_row(
    name: str, row_id: UUID, given: dict[str, object], parts: PartsDep, _: CallerDep
) -> dict[str, bool]:
    """Change columns of a row."""
    async with parts.database.begin() as connection:
        table = await _table(connection, parts.workspace, name)
        check_row(name, _columns(table), given)
        if not await rows.update(connection, parts.workspace, table.id, row_id, given):
            raise missing("row", str(row_id))
    parts.hints.send("published")
    return {"updated": True}


@router.delete("/tables/{name}/rows/{row_id:uuid}", status_code=204)
async def remove_row(name: str, row_id: UUID, parts: PartsDep, who: CallerDep) -> None:
    """Remove a row; those who listen for that are told."""
    async with parts.database.begin() as connection:
        table = await _table(connection, parts.workspace, name)
        if not await rows.remove(connection, parts.workspace, table.id, row_id):
            raise missing("row", str(row_id))
        await people.note(connection, parts.workspace, who.name, "remove row", f"{name} {row_id}")
    parts.hints.send("published")


async def _table(connection: AsyncConnection, workspace: int, name: str) -> Any:
    table = next((t for t in await rows.tables(connection, workspace) if t.name == name), None)
    if table is None:
        raise missing("table", name)
    return table


def _columns(table: Any) -> list[Column]:
    return [Column(**column) for column in table.columns]
