"""Rows of a sheet that lies on a server as a file, read whole and written back whole (WebDAV, RFC 4918, over HTTP, RFC 9110).

A change is sent on the condition that the file is still what was read (`If-Match`); where it is not (412), it is read again and the change
made anew. A server that gives no strong entity tag cannot promise that: there the rows are only read. A server that has locks (class 2)
is asked for one besides, since many look at the condition first and write a moment later.
"""

import asyncio
import random
from collections.abc import Callable, Mapping, Sequence
from contextlib import AsyncExitStack, suppress
from dataclasses import dataclass

import httpx

from oak_relay.actions.apart import once
from oak_relay.actions.exchange import Exchange, authorised, send
from oak_relay.actions.linked import memory
from oak_relay.actions.sheets import cells, reading
from oak_relay.actions.sheets.formats import Edit, Kind
from oak_relay.capabilities.given import Column, Where
from oak_relay.capabilities.links import FileLink
from oak_relay.capabilities.protocols import Surroundings
from oak_relay.document.errors import StepFailed

LARGEST, MOST = 20_000_000, 50_000
"""Bytes and rows of a file that is read as a table."""
_TRIES = 8
_LOCKED = 30
"""Seconds that a lock holds at most, when nobody gives it back."""
_LOCK = b"""<?xml version="1.0" encoding="utf-8"?>
<D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype><D:owner>Oak Relay</D:owner></D:lockinfo>"""


@dataclass(frozen=True, slots=True)
class _Held:
    """The file as it was read: its rows, each with its line."""

    data: bytes
    tag: str
    kind: Kind
    heads: Sequence[str]
    columns: Sequence[cells.Heading]
    rows: Sequence[tuple[int, memory.Row]]


_Made = tuple[list[Edit], object]


class FileRows:
    """The rows of one linked table."""

    def __init__(self, link: FileLink, known: Sequence[Column], at: Surroundings) -> None:
        self._link, self._known, self._at = link, known, at

    async def columns(self) -> tuple[list[Column], list[str]]:
        """Its columns; a file has no key of its own."""
        held = await self._read()
        return [Column(one.name, one.type if one.seen else "any") for one in held.columns], []

    async def find(
        self, where: Where, order: Sequence[tuple[str, bool]], limit: int, skip: int = 0
    ) -> list[memory.Row]:
        """Rows that are meant."""
        rows = [row for _, row in (await self._read()).rows if memory.fits(row, where)]
        return memory.ordered(rows, order)[skip : skip + limit]

    async def totals(
        self, where: Where, by: Sequence[str], measures: Mapping[str, Sequence[str]], limit: int
    ) -> list[dict[str, object]]:
        """Groups of rows that are meant."""
        rows = [row for _, row in (await self._read()).rows if memory.fits(row, where)]
        return memory.totals(rows, by, measures, limit)

    async def add(self, row: memory.Row) -> memory.Row:
        """Add a row; one that is there already as it should be was added before."""
        key = {name: row[name] for name in self._link.key if name in row}

        def add(held: _Held) -> _Made:
            there = _first(held, Where(key)) if key and len(key) == len(self._link.key) else None
            if there is None:
                return [_edit(held, row)], row
            if any(not memory.same(there[1].get(name), value) for name, value in row.items()):
                fix = "use table.upsert"
                raise StepFailed("invalid", "a row with that key is there already, and differs", fix=fix, reached="yes")
            return [], there[1]

        return await self._write(add)  # type: ignore[return-value]

    async def upsert(self, row: memory.Row, match: Sequence[str]) -> tuple[memory.Row, bool]:
        """Change the first row that has the values of the columns `match`, or add one; whether it was added."""

        def put(held: _Held) -> _Made:
            there = _first(held, Where({name: row[name] for name in match}))
            if there is None:
                return [_edit(held, row)], (row, True)
            after = {**there[1], **row}
            same = all(memory.same(there[1].get(name), value) for name, value in row.items())
            return [] if same else [{"set": there[0], **_edit(held, row)}], (after, False)

        return await self._write(put)  # type: ignore[return-value]

    async def delete(self, match: Mapping[str, object]) -> list[memory.Row]:
        """Remove the rows with these values."""

        def drop(held: _Held) -> _Made:
            gone = [(line, row) for line, row in held.rows if memory.fits(row, Where(match))]
            return [{"drop": line} for line, _ in gone], [row for _, row in gone]

        return await self._write(drop)  # type: ignore[return-value]

    async def _write(self, change: Callable[[_Held], _Made]) -> object:
        """Make a change of what the file is by then, and say what it gives."""
        lock = await self._lock()
        try:
            return await self._written(change, {"If": f"({lock})"} if lock else {})
        finally:
            if lock:
                with suppress(StepFailed):
                    await self._exchange("UNLOCK", headers={"Lock-Token": lock})

    async def _lock(self) -> str:
        """A lock on the file (RFC 4918, 9.10), waited for while somebody else has it; empty where the server has none."""
        until = asyncio.get_running_loop().time() + min(_LOCKED + 10.0, self._at.timeout * 0.7)
        headers = {"Timeout": f"Second-{_LOCKED}", "Depth": "0", "Content-Type": "application/xml; charset=utf-8"}
        while True:
            answered = await self._exchange("LOCK", _LOCK, headers)
            if answered.status in (200, 201):
                return answered.headers.get("lock-token", "")
            if answered.status != 423:
                return ""
            if asyncio.get_running_loop().time() > until:
                raise StepFailed("busy", "others have the file locked", fix="try again later", delay=5.0)
            await asyncio.sleep(random.uniform(0.05, 0.4))

    async def _written(self, change: Callable[[_Held], _Made], more: Mapping[str, str]) -> object:
        for _ in range(_TRIES):
            held = await self._read()
            edits, gives = change(held)
            if not edits:
                return gives
            if not held.tag:
                raise StepFailed(
                    "denied",
                    "the server gives no strong ETag for this file, so that nobody can change it without losing what others write",
                    fix="read it alone, or keep it on a server that does (RFC 9110)",
                )
            data = await reading.edited(held.kind, held.data, self._link.sheet, edits)
            answered = await self._exchange("PUT", data, {"If-Match": held.tag, **more})
            if answered.status != 412:
                _good(answered)
                return gives
        raise StepFailed(
            "busy", "others changed the file again and again meanwhile", fix="try again later", reached="no"
        )

    async def _exchange(
        self, method: str, data: bytes | None = None, headers: Mapping[str, str] | None = None
    ) -> Exchange:
        request = httpx.Request(method, self._link.url, content=data, headers=headers)
        if data is not None:
            self._at.send_check()
        return await send(
            self._at,
            await authorised(self._at, request, self._link.credential),
            LARGEST,
            self._link.credential,
            show=False,
        )

    async def _read(self) -> _Held:
        answered = await self._exchange("GET")
        _good(answered)
        tag = answered.headers.get("etag", "")
        kind = reading.kind_of(httpx.URL(self._link.url).path, answered.headers.get("content-type", ""))
        if kind == "jsonl":
            raise StepFailed("invalid", "a linked file is CSV or a workbook", fix="save it as one of them")
        found: list[tuple[int, memory.Row]] = []
        columns: list[cells.Heading] = []
        async with AsyncExitStack() as stack:
            sheet = await stack.enter_async_context(reading.opened(kind, once(answered.body), self._link.sheet, MOST))
            async for some in sheet.rows:
                columns = columns or cells.headings(sheet.heads, some, self._known, {})
                found += cells.rows(sheet.heads, some, columns)
            columns = columns or cells.headings(sheet.heads, [], self._known, {})
            strong = tag if tag.startswith('"') else ""
            return _Held(answered.body, strong, kind, sheet.heads, columns, found)


def _good(answered: Exchange) -> None:
    """Raises `StepFailed` for an answer that is not of success."""
    if not 200 <= answered.status < 300:
        raise answered.failure()


def _first(held: _Held, where: Where) -> tuple[int, memory.Row] | None:
    return next((one for one in held.rows if memory.fits(one[1], where)), None)


def _edit(held: _Held, row: Mapping[str, object]) -> dict[str, object]:
    places = {one.name: list(held.heads).index(one.head) for one in held.columns}
    return {"cells": [[places[name], value] for name, value in row.items() if name in places]}
