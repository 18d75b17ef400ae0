"""SQLite: a file that a step is given, read in a process of its own that can do nothing else.

The library itself is asked before each thing it does (its authorizer), the file is opened for reading alone, and the process has limits of time,
memory and files.
"""

import asyncio
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from oak_relay.actions import apart
from oak_relay.actions.sql.guard import Allowed, Guarded
from oak_relay.actions.sql.shapes import ColumnTold, TableTold
from oak_relay.capabilities.protocols import Files
from oak_relay.document.errors import StepFailed
from oak_relay.jsontext import NotJson, dumps, loads

LARGEST = 200_000_000
_SECONDS = 60.0
_ANSWER = 8_000_000


async def read(
    file: object,
    at: Files,
    statement: Guarded,
    params: Mapping[str, object],
    allowed: Allowed,
    limit: int,
    seconds: float,
) -> tuple[list[dict[str, object]], bool]:
    """The rows of a statement that reads, and whether there are more. Raises `StepFailed`."""
    lacking = [name for name in statement.parameters if name not in params]
    if lacking:
        raise StepFailed("invalid", f"params has no {lacking[0]}", fix=f"give params: {{{lacking[0]}: …}}")
    given = {name: params[name] for name in statement.parameters}
    asked = {"sql": statement.sql, "params": given, "tables": list(allowed.tables), "limit": limit, "seconds": seconds}
    told = await _asked(file, at, asked, seconds)
    return told["rows"], told["more"]


async def tables(file: object, at: Files, allowed: Allowed, seconds: float) -> list[TableTold]:
    """The tables that may be read, with their columns. Raises `StepFailed`."""
    told = await _asked(file, at, {"describe": True, "tables": list(allowed.tables), "seconds": seconds}, seconds)
    return [
        TableTold(
            "main", one["name"], one["rows"], one["view"], "", [ColumnTold(**column) for column in one["columns"]]
        )
        for one in told["tables"]
    ]


async def _asked(file: object, at: Files, asked: dict[str, object], seconds: float) -> Any:
    held = await at.file(file)
    if held.size > LARGEST:
        raise StepFailed("too_long", f"a database that is a file has at most {LARGEST:,} bytes")
    with tempfile.TemporaryDirectory(prefix="oak-relay-") as folder:
        path = Path(folder) / "database"
        with path.open("wb") as into:
            async for piece in at.pieces(held):
                await asyncio.to_thread(into.write, piece)
        try:
            async with (
                asyncio.timeout(min(seconds, _SECONDS) + 5),
                apart.process("oak_relay.actions.sql", apart.once(dumps(asked).encode()), [str(path)]) as said,
            ):
                answer = await apart.whole(said, _ANSWER)
        except TimeoutError:
            raise StepFailed("timeout", "the statement took too long", fix="ask for less", reached="yes") from None
    try:
        told = loads(answer or b"")
    except NotJson:
        raise StepFailed(
            "too_long", "the statement takes more than it may", fix="ask for less", reached="yes"
        ) from None
    if "kind" in told:
        raise StepFailed(told["kind"], told["message"], fix="correct the statement", reached="yes")
    return told
