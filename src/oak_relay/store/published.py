"""What was published and is not handed on yet: events, changes of rows, ends of runs."""

from collections import defaultdict
from collections.abc import Mapping
from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.document import values
from oak_relay.store import artifacts

_LOCK = 7226305
_TRIGGERS = {"table": "table", "run": "after", "event": "event"}


async def take(connection: asyncpg.Connection, workspace: int, most: int) -> list[Mapping[str, Any]]:
    """The oldest of what is not handed on; none when another clock is at it. Who begins to listen for one of
    their types waits until they are."""
    if not await connection.fetchval("SELECT pg_try_advisory_xact_lock($1)", _LOCK):
        return []
    rows = await connection.fetch(
        "SELECT * FROM published WHERE workspace_id = $1 AND handled_at IS NULL ORDER BY id LIMIT $2", workspace, most
    )
    types = sorted({f"event|{row['topic']}" for row in rows if row["kind"] == "event"})
    if types:
        await connection.execute(
            "SELECT pg_advisory_xact_lock(hashtextextended(k, 7226302)) "
            "FROM (SELECT k FROM unnest($1::text[]) AS k ORDER BY k) AS s",
            types,
        )
    return await _whole(connection, workspace, rows)


async def _whole(connection: asyncpg.Connection, workspace: int, rows: list[asyncpg.Record]) -> list[Mapping[str, Any]]:
    """The same with results of runs that were too large to be told along."""
    told = {row["id"]: values.loads(row["body"]) for row in rows if row["kind"] == "run"}
    large = {key: body["result"]["apart"] for key, body in told.items() if body.pop("large", None)}
    apart = await artifacts.whole(connection, workspace, large.values())
    for key, text in large.items():
        told[key]["result"] = values.loads(apart[text])
    return [{**row, "body": values.dumps(told[row["id"]])} if row["id"] in told else row for row in rows]


async def triggers(
    connection: asyncpg.Connection, workspace: int, rows: list[Mapping[str, Any]]
) -> dict[tuple[str, str], list[asyncpg.Record]]:
    """The triggers that listen, by kind and topic of what was published."""
    found: dict[tuple[str, str], list[asyncpg.Record]] = defaultdict(list)
    kinds = {_TRIGGERS[row["kind"]]: row["kind"] for row in rows}
    for row in await connection.fetch(
        "SELECT id, workflow_id, version_id, name, kind, topic, config, start FROM trigger "
        "WHERE workspace_id = $1 AND kind = ANY($2::text[]) AND topic = ANY($3::text[]) ORDER BY id",
        workspace,
        list(kinds),
        list({row["topic"] for row in rows}),
    ):
        found[kinds[row["kind"]], row["topic"]].append(row)
    return found


async def listeners(
    connection: asyncpg.Connection, workspace: int, rows: list[Mapping[str, Any]]
) -> dict[str, list[asyncpg.Record]]:
    """The runs that wait for an event, by its type."""
    found: dict[str, list[asyncpg.Record]] = defaultdict(list)
    types = {row["topic"] for row in rows if row["kind"] == "event"}
    if types:
        for row in await connection.fetch(
            "SELECT * FROM listener WHERE workspace_id = $1 AND type = ANY($2::text[]) ORDER BY run_id, path",
            workspace,
            list(types),
        ):
            found[row["type"]].append(row)
    return found


async def heard(connection: asyncpg.Connection, workspace: int, places: list[tuple[UUID, str]]) -> None:
    """These wait no longer."""
    await connection.execute(
        "DELETE FROM listener l USING unnest($2::uuid[], $3::text[]) AS u(run_id, path) "
        "WHERE l.workspace_id = $1 AND l.run_id = u.run_id AND l.path = u.path",
        workspace,
        [place[0] for place in places],
        [place[1] for place in places],
    )


async def handled(connection: asyncpg.Connection, workspace: int, rows: list[Mapping[str, Any]]) -> None:
    """These are handed on; events are kept for runs that ask for them later, the rest is not needed any more."""
    await connection.execute(
        "UPDATE published SET handled_at = clock_timestamp() WHERE workspace_id = $1 AND id = ANY($2::uuid[])",
        workspace,
        [row["id"] for row in rows if row["kind"] == "event"],
    )
    await connection.execute(
        "DELETE FROM published WHERE workspace_id = $1 AND id = ANY($2::uuid[])",
        workspace,
        [row["id"] for row in rows if row["kind"] != "event"],
    )


async def give_up(connection: asyncpg.Connection, workspace: int) -> UUID | None:
    """The oldest is not handed on; it is kept, marked as handled."""
    return await connection.fetchval(
        "UPDATE published SET handled_at = clock_timestamp() WHERE workspace_id = $1 AND id = (SELECT min(id::text)::uuid "
        "FROM published WHERE workspace_id = $1 AND handled_at IS NULL) RETURNING id",
        workspace,
    )
