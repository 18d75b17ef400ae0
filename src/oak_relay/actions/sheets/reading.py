"""Sheets read and made apart: the file goes in piece by piece, and rows come out some at a time."""

import asyncio
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass

from oak_relay.actions import apart
from oak_relay.actions.sheets.cells import Rows
from oak_relay.actions.sheets.formats import MOST_ROWS, Edit, Kind
from oak_relay.document.errors import StepFailed
from oak_relay.jsontext import NotJson, dumps, loads

_MODULE = "oak_relay.actions.sheets"
_SECONDS = 300.0
_LARGEST = 64_000_000
_READS, _MAKES = asyncio.Semaphore(4), asyncio.Semaphore(4)
"""So many files are read, and made, at once in a process; others wait."""
_BY_TYPE: dict[str, Kind] = {
    "text/csv": "csv",
    "text/tab-separated-values": "csv",
    "application/jsonl": "jsonl",
    "application/x-ndjson": "jsonl",
    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet": "xlsx",
}
MEDIA: dict[Kind, str] = {
    "csv": "text/csv; charset=utf-8",
    "jsonl": "application/jsonl",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}


@dataclass
class Sheet:
    """A sheet that is being read: its heads, the names of all sheets in the file, and the rows, some at a time."""

    heads: list[str]
    sheets: list[str]
    rows: AsyncIterator[Rows]


def kind_of(name: str, type: str) -> Kind:
    """What a file is by its media type, else by its name; CSV where neither tells."""
    by_name: dict[str, Kind] = {".xlsx": "xlsx", ".jsonl": "jsonl", ".ndjson": "jsonl"}
    named = next((kind for end, kind in by_name.items() if name.lower().endswith(end)), None)
    return _BY_TYPE.get(type.split(";")[0].strip().lower()) or named or "csv"


@asynccontextmanager
async def opened(
    kind: Kind, pieces: AsyncIterator[bytes], sheet: str = "", most: int = MOST_ROWS
) -> AsyncIterator[Sheet]:
    """The sheet in a file. Raises `StepFailed` (`invalid`), also while its rows are read, and what `pieces` raises."""
    try:
        async with (
            asyncio.timeout(_SECONDS),
            _READS,
            apart.process(_MODULE, pieces, ["read", kind, sheet, str(most)]) as told,
        ):
            said = await _line(told)
            yield Sheet(said["heads"], said["sheets"], _rows(told))  # type: ignore[arg-type]
    except TimeoutError:
        raise _too_much() from None


async def made(heads: Sequence[str], rows: AsyncIterator[Sequence[object]]) -> AsyncIterator[bytes]:
    """A workbook with these heads and rows. Raises `StepFailed`."""

    async def lines() -> AsyncIterator[bytes]:
        yield dumps(list(heads)).encode() + b"\n"
        async for row in rows:
            yield dumps(list(row)).encode() + b"\n"

    try:
        async with asyncio.timeout(_SECONDS), _MAKES, apart.process(_MODULE, lines(), ["make"]) as told:
            empty = True
            while piece := await told.read(1 << 18):
                empty = False
                yield piece
            if empty:
                raise StepFailed("too_long", "no workbook can hold these rows", fix="take CSV or JSON Lines")
    except TimeoutError:
        raise _too_much() from None


async def edited(kind: Kind, data: bytes, sheet: str, edits: Sequence[Edit]) -> bytes:
    """A file with some changes of a sheet. Raises `StepFailed`."""
    given = apart.once(dumps(list(edits)).encode() + b"\n", data)
    try:
        async with asyncio.timeout(_SECONDS), _READS, apart.process(_MODULE, given, ["edit", kind, sheet]) as told:
            made = await apart.whole(told, _LARGEST)
    except TimeoutError:
        raise _too_much() from None
    if not made:
        raise StepFailed("invalid", "the file cannot be changed", fix="save it anew")
    if made.startswith(b'{"fault":'):
        said = loads(made)
        raise StepFailed("invalid", said["fault"], fix=said["fix"])
    return made


async def _rows(told: asyncio.StreamReader) -> AsyncIterator[Rows]:
    while "end" not in (said := await _line(told)):
        yield said["rows"]  # type: ignore[misc]


async def _line(told: asyncio.StreamReader) -> dict[str, object]:
    try:
        line = await told.readline()
        said: dict[str, object] = await asyncio.to_thread(loads, line) if line else {}
    except (NotJson, ValueError):
        said = {}
    if "fault" in said:
        raise StepFailed("invalid", str(said["fault"]), fix=str(said["fix"]))
    if not said:
        raise _too_much()
    return said


def _too_much() -> StepFailed:
    return StepFailed("invalid", "the file takes too much to read", fix="send it in parts")
