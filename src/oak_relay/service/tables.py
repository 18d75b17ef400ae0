"""`/api/v1/tables`: tables kept here and their rows; `/api/v1/actions`: the catalogue."""

import asyncio
import re
from collections.abc import AsyncIterator, Iterable, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Annotated, Any, Literal, TypeVar
from uuid import UUID

from fastapi import APIRouter, Path, Query, Response
from fastapi.responses import StreamingResponse
from pydantic import Field, StrictBool, model_validator
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.actions.apart import once
from oak_relay.actions.linked.rows import LinkedRows, rows_of
from oak_relay.actions.sheets import cells, reading
from oak_relay.actions.sheets.formats import Kind
from oak_relay.actions.tables import fitted, has, in_order, meant
from oak_relay.capabilities.given import Column, Where
from oak_relay.capabilities.links import Link, OperationsLink, link_of
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.service import exact
from oak_relay.service.lists import Asks, Page, page
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.preconditions import Asked, Preconditions
from oak_relay.service.problems import Problem, missing
from oak_relay.service.receipts import RowsAdded, RowUpdated
from oak_relay.service.shapes import ImportColumn, ImportFault, ImportOut, In, RowOut, TableOut
from oak_relay.store import people, rows
from oak_relay.store.tags import tag_of
from oak_relay.vault.blanking import Blanker

T = TypeVar("T")
_SOME = 10_000
"""Rows that are asked for at once of where they live."""
_COLUMN = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,60}")
router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["tables"])


class ColumnIn(In):
    name: str = Field(pattern=r"^[a-z][a-z0-9_]{0,60}$")
    type: Literal["text", "number", "boolean", "any"] = "text"


class TableIn(In):
    name: str = Field(pattern=r"^[a-z][a-z0-9_-]{0,60}$")
    columns: list[ColumnIn] = Field(
        default_factory=list,
        max_length=200,
        description="Its columns; of a linked table they are told by the other side when left out.",
    )
    link: Link | None = Field(None, description="Where its rows live, when that is elsewhere.")

    @model_validator(mode="after")
    def _one_source(self) -> "TableIn":
        if not self.columns and self.link is None:
            raise ValueError("give columns, or a link")
        return self


class RowsIn(In):
    rows: list[dict[str, object]] = Field(min_length=1, max_length=5000)


class ImportIn(In):
    text: str | None = Field(
        None, max_length=900_000, description="The rows: CSV (RFC 4180), its first line the heads, or JSON Lines."
    )
    file: str | None = Field(None, max_length=60, description="In its place the id of an uploaded file.")
    kind: Kind | None = Field(None, description="What it is; told by the file's type and name when left out.")
    sheet: str = Field("", max_length=200, description="The sheet of a workbook; the first when left out.")
    columns: dict[str, str] = Field(
        default_factory=dict, max_length=200, description="Heads of the file and the columns they mean; empty for none."
    )
    match: list[str] = Field(default_factory=list, max_length=10, description="Columns that tell which row is meant.")
    create: StrictBool = Field(False, description="Make the table where there is none.")
    check: StrictBool = Field(False, description="Only say what would be done.")

    @model_validator(mode="after")
    def _one_source(self) -> "ImportIn":
        if (self.text is None) == (self.file is None):
            raise ValueError("give one of text and file")
        return self


@router.get("/tables")
async def list_tables(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[TableOut]:
    """Tables with their columns and how many rows they have, by name."""
    async with parts.database.connect() as connection:
        found = await rows.tables(connection, parts.workspace, asked.limit + 1, asked.after)
    return page(found, asked, lambda table: table.name, _table_out)


def _table_out(row: Any) -> TableOut:
    return TableOut(name=row.name, columns=row.columns, rows=row.rows, created_at=row.created_at, link=row.link)


@router.post("/tables", status_code=201)
async def create_table(given: TableIn, parts: PartsDep, who: CallerDep) -> TableOut:
    """Make a table, or link one: its rows stay where they are, and are read once, to see its columns. 409 when there is one of
    that name."""
    columns, link = [c.model_dump() for c in given.columns], given.link
    if link is not None:
        columns, link = await _seen(link, columns, parts)
    stored = None if link is None else link.model_dump(mode="json", by_alias=True)
    try:
        async with parts.database.begin() as connection:
            await rows.create(connection, parts.workspace, given.name, columns, stored)
            await people.note(connection, parts.workspace, who.name, "table", given.name)
            [made] = await rows.tables(connection, parts.workspace, 1, only=given.name)
    except IntegrityError:
        raise Problem(409, f"there is a table {given.name} already", fix="choose another name") from None
    parts.config_changed()
    return _table_out(made)


async def _seen(link: Link, given: list[dict[str, str]], parts: Parts) -> tuple[list[dict[str, str]], Link]:
    """The columns of what a link leads to, and the link with its key. Raises `Problem`."""
    if isinstance(link, OperationsLink):
        listing = parts.registry.catalogue.known(link.list.do)
        if listing is not None and listing.shape.repeat(link.list.with_) != "safe":
            fix = "name one that only reads: whoever looks at the table carries it out"
            raise Problem(422, "the rows cannot be read", f"{link.list.do} may change something", fix)
    try:
        found, key = await rows_of(link, (), parts.at()).columns()
    except StepFailed as failed:
        raise Problem(422, "the rows cannot be read", failed.message, failed.fix) from None
    found = [Column(**one) for one in given] or found  # type: ignore[arg-type]
    names = [one.name for one in found]
    odd = next((one for one in names if not _COLUMN.fullmatch(one)), None)
    if odd is not None:
        raise Problem(
            422,
            f"a column is called {odd[:60]!r}",
            fix="call it otherwise there: letters, digits and _, with a letter first",
        )
    if not names or len(names) > 200:
        raise Problem(422, f"there are {len(names)} columns", fix="give columns: 1 to 200 of them")
    if key and not link.key:
        link = link.model_copy(update={"key": tuple(key)})
    key = [one if one in names else cells.named(one) for one in link.key]  # as the head of a file calls it
    if absent := [one for one in key if one not in names]:
        raise Problem(422, f"there is no column {absent[0]} to be the key", fix=f"name some of {', '.join(names[:50])}")
    link = link.model_copy(update={"key": tuple(key)})
    return [{"name": one.name, "type": one.type} for one in found], link


@router.delete("/tables/{name}", status_code=204)
async def drop_table(name: str, parts: PartsDep, who: CallerDep) -> None:
    """Remove a table with all its rows."""
    async with parts.database.begin() as connection:
        if not await rows.drop(connection, parts.workspace, name):
            raise missing("table", name)
        await people.note(connection, parts.workspace, who.name, "remove table", name)
    parts.config_changed()


@router.get("/tables/{name}/rows", response_model=Page[RowOut])
async def list_rows(
    name: str,
    parts: PartsDep,
    _: CallerDep,
    asked: Asks,
    text: Annotated[str | None, Query(min_length=1, max_length=200, description="Words that a row has.")] = None,
    newest: Annotated[bool, Query(description="The newest first.")] = False,
    where: Annotated[
        str | None,
        Query(max_length=4_000, description='Which rows, as `where` of `table.find`, as JSON: {"free": {"above": 3}}.'),
    ] = None,
    order: Annotated[
        list[str], Query(max_length=5, description="Columns by which they are ordered; -column from the greatest down.")
    ] = [],  # noqa: B006
) -> Response:
    """Rows, oldest first. What stands only in what is blanked is not found: with `text` or `where` a page may hold fewer rows than
    there are, and still have a `next`. In an `order` of columns pages are cut by counting: a row that is added meanwhile moves them."""
    table, columns = await _known(name, parts)
    wanted = _Wanted(_where(where, name, columns), _order(order, name, columns), text)
    if table.link is not None:
        return await _linked_rows(table, columns, asked, wanted, parts)
    skip = max(0, asked.number()) if wanted.order else 0
    after = None if wanted.order else asked.id()
    async with parts.database.connect() as connection:
        found = await rows.find(
            connection,
            parts.workspace,
            table.id,
            asked.limit + 1,
            after,
            newest,
            wanted.where,
            text,
            wanted.order,
            skip,
        )
    place: Any = skip + asked.limit if wanted.order else None
    told = page(found, asked, lambda row: place or row["id"], lambda row: _row(columns, row))
    blanker = parts.registry.now.blanker
    told.items = [one for one in told.items if wanted.seen(one.row, blanker)]
    return exact.answer(told)


@dataclass(frozen=True, slots=True)
class _Wanted:
    """Which rows are asked for, and in which order."""

    where: Where
    order: list[tuple[str, bool]]
    text: str | None

    def seen(self, row: Mapping[str, object], blanker: Blanker) -> bool:
        """Whether a row that was found is so by what is shown of it."""
        columns = {*self.where.match, *(one.column for one in self.where.filters)}
        some = {name: row.get(name) for name in columns}
        if some and blanker.value(some) != some:
            return False
        return not self.text or values.dumps(self.text)[1:-1].lower() in blanker.json(values.dumps(row)).lower()


def _where(given: str | None, name: str, columns: list[Column]) -> Where:
    """Which rows are meant. Raises `Problem`."""
    try:
        read = values.loads(given) if given else {}
        if not isinstance(read, dict) or len(read) > 20:
            raise Problem(422, "where is no mapping of columns", fix='give JSON: {"free": {"above": 3}}')
        where = meant(read)
        has(name, columns, [*where.match, *(one.column for one in where.filters)])
    except values.NotJson as error:
        raise Problem(422, "where is no JSON", str(error), 'give JSON: {"free": {"above": 3}}') from None
    except StepFailed as failed:
        raise Problem(422, failed.message, fix=failed.fix) from None
    return where


def _order(given: list[str], name: str, columns: list[Column]) -> list[tuple[str, bool]]:
    """An order of columns. Raises `Problem`."""
    order = [(one.removeprefix("-"), one.startswith("-")) for one in given]
    try:
        has(name, columns, [column for column, _ in order])
    except StepFailed as failed:
        raise Problem(422, failed.message, fix=failed.fix) from None
    return order


async def _linked_rows(table: Any, columns: list[Column], asked: Asks, wanted: _Wanted, parts: Parts) -> Response:
    """Rows that live elsewhere, as they are there; the next page begins behind so many."""
    skip = max(0, asked.number())
    link = link_of(table.link)
    try:
        at = parts.at()
        found = await rows_of(link, columns, at).find(wanted.where, wanted.order, asked.limit + 1, skip)
    except StepFailed as failed:
        raise Problem(502, "the linked rows cannot be read", failed.message, failed.fix) from None
    blanker, now = at.blanker(), datetime.now(UTC)
    told = []
    for number, row in enumerate(found[: asked.limit], skip + 1):
        if wanted.seen(row, blanker):
            shown = blanker.value(in_order(columns, row))
            key = values.dumps([shown.get(one) for one in link.key]) if link.key else str(number)
            told.append(RowOut(id=key, row=shown, updated_at=now, tag=_tag(columns, row)))
    after = str(skip + asked.limit) if len(found) > asked.limit else None
    return exact.answer(Page[RowOut](items=told, next=after))


def _tag(columns: Iterable[Column], row: Mapping[str, object]) -> str:
    """The tag of a row that lives elsewhere: of its values."""
    return tag_of(values.dumps(in_order(columns, row)))


def _here(table: Any, name: str) -> None:
    """Raises `Problem` for a table whose rows live elsewhere."""
    if table.link is not None:
        raise Problem(
            409, f"the rows of {name} live elsewhere", fix="a step changes them: table.add, table.upsert, table.delete"
        )


@router.get("/tables/{name}/rows.csv", response_class=Response)
async def rows_as_csv(name: str, parts: PartsDep, _: CallerDep) -> StreamingResponse:
    """All rows as CSV (RFC 4180), with a head; the columns in their order."""
    table, columns = await _known(name, parts)
    blanker, every = parts.registry.now.blanker, _every(table, parts)
    first = await anext(every)  # what is wrong is told before anything is

    async def lines() -> AsyncIterator[str]:
        yield cells.line(column.name for column in columns)
        async for some in _after(first, every):
            yield "".join(blanker.text(cells.line(row.get(column.name) for column in columns)) for row in some)

    return _download(name, "csv", lines())


@router.get("/tables/{name}/rows.jsonl", response_class=Response)
async def rows_as_json_lines(name: str, parts: PartsDep, _: CallerDep) -> StreamingResponse:
    """All rows as JSON Lines; the columns in their order."""
    table, columns = await _known(name, parts)
    blanker, every = parts.registry.now.blanker, _every(table, parts)
    first = await anext(every)

    async def lines() -> AsyncIterator[str]:
        async for some in _after(first, every):
            yield "".join(f"{blanker.json(values.dumps(in_order(columns, row)))}\n" for row in some)

    return _download(name, "jsonl", lines())


@router.get("/tables/{name}/rows.xlsx", response_class=Response)
async def rows_as_workbook(name: str, parts: PartsDep, _: CallerDep) -> StreamingResponse:
    """All rows as a workbook of one sheet (Office Open XML), with a head; the columns in their order."""
    table, columns = await _known(name, parts)
    blanker, every = parts.registry.now.blanker, _every(table, parts)
    first = await anext(every)

    async def shown() -> AsyncIterator[list[object]]:
        async for some in _after(first, every):
            for row in some:
                yield [blanker.value(row.get(column.name)) for column in columns]

    made = reading.made([column.name for column in columns], shown())
    try:
        begun = await anext(made)
    except StepFailed as failed:
        raise Problem(422, failed.message, fix=failed.fix) from None

    async def pieces() -> AsyncIterator[bytes]:
        yield begun
        async for piece in made:
            yield piece

    return _download(name, "xlsx", pieces())


async def _known(name: str, parts: Parts) -> tuple[Any, list[Column]]:
    async with parts.database.connect() as connection:
        table = await _table(connection, parts.workspace, name)
    return table, _columns(table)


async def _every(table: Any, parts: Parts) -> AsyncIterator[list[dict[str, Any]]]:
    """All rows of a table, oldest first, some at a time."""
    if table.link is not None:
        try:
            there, skip = rows_of(link_of(table.link), _columns(table), parts.at(300.0)), 0
            while some := await there.find(Where(), (), _SOME, skip):
                yield some
                skip += len(some)
                if len(some) < _SOME:
                    return
            if not skip:
                yield []
        except StepFailed as failed:
            raise Problem(502, "the linked rows cannot be read", failed.message, failed.fix) from None
        return
    after: UUID | None = None
    while True:
        async with parts.database.connect() as connection:
            found = await rows.find(connection, parts.workspace, table.id, 1000, after)
        yield [dict(row["row"]) for row in found]  # type: ignore[call-overload]
        if len(found) < 1000:
            return
        after = UUID(str(found[-1]["id"]))


def _download(name: str, kind: Kind, pieces: AsyncIterator[str] | AsyncIterator[bytes]) -> StreamingResponse:
    disposition = {"Content-Disposition": f'attachment; filename="{name}.{kind}"'}
    return StreamingResponse(pieces, media_type=reading.MEDIA[kind], headers=disposition)


@router.post("/tables/{name}/import")
async def import_rows(name: str, given: ImportIn, parts: PartsDep, who: CallerDep) -> ImportOut:
    """Take rows of a file into a table, all or none; a new one is made with the types that are guessed, where `create` says
    so. With `match`, rows that have the same values there are updated. With `check` only say what would be done."""
    try:
        async with _sheet(given, parts) as sheet, parts.database.begin() as connection:
            told = await _imported(name, given, sheet, connection, parts.workspace)
            await people.note(connection, parts.workspace, who.name, "import", name)
            if given.check:
                await connection.rollback()
    except StepFailed as failed:
        raise Problem(422, failed.message, fix=failed.fix) from None
    if not given.check:
        parts.config_changed()
        parts.hints.send("published")
    return told


@asynccontextmanager
async def _sheet(given: ImportIn, parts: Parts) -> AsyncIterator[reading.Sheet]:
    """What is to be taken, while it is read."""
    if given.text is not None:
        async with reading.opened(
            given.kind or "csv", once(given.text.encode("utf-8", "replace")), given.sheet
        ) as sheet:
            yield sheet
        return
    at = parts.at()
    file = await at.file({"file": given.file})
    kind = given.kind or reading.kind_of(file.name, file.type)
    async with reading.opened(kind, at.pieces(file), given.sheet) as sheet:
        yield sheet


async def _imported(
    name: str, given: ImportIn, sheet: reading.Sheet, connection: AsyncConnection, workspace: int
) -> ImportOut:
    """Take the rows of a sheet. Raises `Problem` where some do not fit, and is then to be undone."""
    table = next(iter(await rows.tables(connection, workspace, 1, only=name)), None)
    if table is None and not given.create:
        raise missing("table", name, "say create, to have it made")
    if table is not None:
        _here(table, name)
    first: cells.Rows = await anext(sheet.rows, [])
    columns = cells.headings(sheet.heads, first, _columns(table) if table is not None else (), given.columns)
    twice = {one.name for one in columns if sum(other.name == one.name for other in columns) > 1}
    if twice:
        raise Problem(422, f"two columns would be called {sorted(twice)[0]}", fix="map one of them to another name")
    absent = [one for one in given.match if one not in {column.name for column in columns}]
    if absent:
        raise Problem(422, f"the file has no column {absent[0]} to match by", fix="name columns that it has")
    told = ImportOut(
        columns=[ImportColumn(head=c.head, name=c.name, type=c.type, seen=list(c.seen)) for c in columns],
        rows=0, added=0, updated=0, faults=[], created=table is None, sheets=sheet.sheets,
    )  # fmt: skip
    kinds = [Column(one.name, one.type) for one in columns] if table is None else _columns(table)
    if table is None and not given.check:
        made = [ColumnIn(name=c.name, type=c.type) for c in columns]
        await rows.create(connection, workspace, name, [c.model_dump() for c in made])
        table = await _table(connection, workspace, name)
    wrong = 0
    async for some in _after(first, sheet.rows):
        taken, faults = await asyncio.to_thread(_fitting, name, kinds, sheet.heads, some, columns)
        told.rows += len(some)
        told.faults += faults[: 100 - len(told.faults)]
        wrong += len(faults)
        if table is None or given.check or wrong:
            continue
        if given.match:
            added, updated = await rows.upsert(connection, workspace, table.id, given.match, taken)
        else:
            await rows.add(connection, workspace, table.id, taken)
            added, updated = len(taken), 0
        told.added, told.updated = told.added + added, told.updated + updated
    if wrong and not given.check:
        line = told.faults[0]
        raise Problem(
            422, f"{wrong:,} of {told.rows:,} lines do not fit", f"line {line.line}: {line.message}", "correct them"
        )
    return told


async def _after(first: Sequence[T], others: AsyncIterator[Sequence[T]]) -> AsyncIterator[Sequence[T]]:
    if first:
        yield first
    async for some in others:
        yield some


@router.post("/tables/{name}/rows", status_code=201)
async def add_rows(name: str, given: RowsIn, parts: PartsDep, _: CallerDep) -> RowsAdded:
    """Add rows, all or none; to a linked table one after the other, up to the first that is not taken."""
    table, columns = await _known(name, parts)
    try:
        kept = [fitted(name, columns, row) for row in given.rows]
        if table.link is not None:
            there = rows_of(link_of(table.link), columns, parts.at())
            for row in kept:
                await there.add(row)
            return RowsAdded(added=len(kept))
    except StepFailed as failed:
        raise Problem(422, failed.message, fix=failed.fix) from None
    async with parts.database.begin() as connection:
        await rows.add(connection, parts.workspace, table.id, kept)
    parts.hints.send("published")
    return RowsAdded(added=len(given.rows))


RowId = Annotated[str, Path(max_length=4_000, description="Its id; of a linked table the values of its key, as JSON.")]


@router.patch("/tables/{name}/rows/{row_id:path}")
async def update_row(
    name: str, row_id: RowId, given: dict[str, object], parts: PartsDep, _: CallerDep, asked: Preconditions
) -> RowUpdated:
    """Change columns of a row; of a linked table, where it is still what was meant when it is read once more just before."""
    table, columns = await _known(name, parts)
    if table.link is not None:
        key = _key(row_id, link_of(table.link))
        try:
            there = rows_of(link_of(table.link), columns, parts.at())
            await _still(there, columns, key, asked)
            await there.upsert(fitted(name, columns, {**given, **key}), list(key))
        except StepFailed as failed:
            raise Problem(422, failed.message, fix=failed.fix) from None
        return RowUpdated(updated=True)
    row = _uuid(row_id)
    async with parts.database.begin() as connection:
        await _check(connection, parts.workspace, table, row, asked)
        kept = fitted(name, columns, given)
        if not await rows.update(connection, parts.workspace, table.id, row, kept):
            raise missing("row", row_id)
    parts.hints.send("published")
    return RowUpdated(updated=True)


@router.delete("/tables/{name}/rows/{row_id:path}", status_code=204)
async def remove_row(name: str, row_id: RowId, parts: PartsDep, who: CallerDep, asked: Preconditions) -> None:
    """Remove a row; those who listen for that are told."""
    table, columns = await _known(name, parts)
    if table.link is not None:
        key = _key(row_id, link_of(table.link))
        try:
            there = rows_of(link_of(table.link), columns, parts.at())
            await _still(there, columns, key, asked)
            if not await there.delete(key):
                raise missing("row", row_id)
        except StepFailed as failed:
            raise Problem(422, failed.message, fix=failed.fix) from None
    async with parts.database.begin() as connection:
        if table.link is None:
            await _check(connection, parts.workspace, table, _uuid(row_id), asked)
            if not await rows.remove(connection, parts.workspace, table.id, _uuid(row_id)):
                raise missing("row", row_id)
        await people.note(connection, parts.workspace, who.name, "remove row", f"{name} {row_id[:200]}")
    parts.hints.send("published")


def _uuid(row_id: str) -> UUID:
    try:
        return UUID(row_id)
    except ValueError:
        raise missing("row", row_id[:100]) from None


def _key(row_id: str, link: Link) -> dict[str, object]:
    """The values of the key that a row of a linked table is called by. Raises `Problem`."""
    try:
        found = values.loads(row_id)
    except values.NotJson:
        found = None
    if not link.key:
        raise Problem(409, "these rows have no key to be told apart by", fix="link the table with a key")
    if not isinstance(found, list) or len(found) != len(link.key):
        raise missing("row", row_id[:100])
    return dict(zip(link.key, found, strict=True))


async def _check(connection: AsyncConnection, workspace: int, table: Any, row_id: UUID, asked: Asked) -> None:
    """Raises `Problem` when a row is another than the one that was meant."""
    changed = await rows.changed_at(connection, workspace, table.id, row_id)
    if changed is None:
        raise missing("row", str(row_id))
    asked.check(tag_of(changed), "the row")


async def _still(there: LinkedRows, columns: list[Column], key: Mapping[str, object], asked: Asked) -> None:
    """Raises `Problem` when a row that lives elsewhere is not there, or is another than the one that was meant."""
    found = await there.find(Where(key), (), 1)
    if not found:
        raise missing("row", values.dumps(list(key.values()))[:100])
    asked.check(_tag(columns, found[0]), "the row")


def _fitting(
    table: str, columns: list[Column], heads: list[str], some: cells.Rows, meant: list[cells.Heading]
) -> tuple[list[dict[str, object]], list[ImportFault]]:
    """Rows of a sheet as they are kept, and the lines that do not fit."""
    taken: list[dict[str, object]] = []
    faults: list[ImportFault] = []
    for line, row in cells.rows(heads, some, meant):
        try:
            taken.append(fitted(table, columns, row))
        except StepFailed as failed:
            faults.append(ImportFault(line=line, message=failed.message))
    return taken, faults


async def _table(connection: AsyncConnection, workspace: int, name: str) -> Any:
    table = next(iter(await rows.tables(connection, workspace, 1, only=name)), None)
    if table is None:
        raise missing("table", name)
    return table


def _row(columns: list[Column], row: dict[str, Any]) -> RowOut:
    return RowOut(**{**row, "row": in_order(columns, row["row"]), "tag": tag_of(row["updated_at"])})


def _columns(table: Any) -> list[Column]:
    return [Column(**column) for column in table.columns]
