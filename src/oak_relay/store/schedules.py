"""What is due in time, found by index; a row is locked by the clock that takes it."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple
from uuid import UUID

import asyncpg

_DUE = """
SELECT s.trigger_id, s.last_at, s.next_at, t.workflow_id, t.version_id, t.name, t.kind, t.config, t.start,
  w.name AS workflow
FROM schedule s JOIN trigger t ON t.workspace_id = s.workspace_id AND t.id = s.trigger_id
JOIN workflow w ON w.workspace_id = t.workspace_id AND w.id = t.workflow_id
WHERE s.workspace_id = $1 AND s.next_at <= clock_timestamp() AND NOT s.paused AND t.way = $2
ORDER BY s.next_at LIMIT $3 FOR UPDATE OF s SKIP LOCKED
"""


async def schedules(connection: asyncpg.Connection, workspace: int, most: int) -> list[asyncpg.Record]:
    """Schedules that are due; locked until the transaction ends."""
    return await connection.fetch(_DUE, workspace, "time", most)


async def next_due(connection: asyncpg.Connection, workspace: int) -> float | None:
    """Seconds until the next schedule is due; None when there is none."""
    left = await connection.fetchval(
        "SELECT extract(epoch FROM min(next_at) - clock_timestamp()) FROM schedule WHERE workspace_id = $1 AND NOT paused",
        workspace,
    )
    return None if left is None else float(left)


class Mark(NamedTuple):
    """Of a schedule the last occurrence that was looked at, when the next one begins, and what kept it from beginning."""

    trigger_id: UUID
    last_at: datetime
    next_at: datetime | None
    fault: str | None


async def mark(connection: asyncpg.Connection, workspace: int, marks: Sequence[Mark]) -> None:
    """Note how schedules stand."""
    await connection.execute(
        "UPDATE schedule s SET last_at = u.last_at, next_at = u.next_at, fault = u.fault "
        "FROM unnest($2::uuid[], $3::timestamptz[], $4::timestamptz[], $5::text[]) AS u(trigger_id, last_at, next_at, fault) "
        "WHERE s.workspace_id = $1 AND s.trigger_id = u.trigger_id",
        workspace,
        *(list(column) for column in zip(*marks, strict=True)),
    )


async def take_poll(connection: asyncpg.Connection, workspace: int) -> asyncpg.Record | None:
    """A poll that is due, its turn moved a minute on, so that another clock takes it up if this one dies."""
    async with connection.transaction():
        rows = await connection.fetch(_DUE, workspace, "watch", 1)
        if not rows:
            return None
        await move_poll(connection, workspace, rows[0]["trigger_id"], 60.0)
    return rows[0]


async def move_poll(connection: asyncpg.Connection, workspace: int, trigger_id: UUID, seconds: float) -> None:
    """The next turn of a poll."""
    await connection.execute(
        "UPDATE schedule SET next_at = clock_timestamp() + make_interval(secs => $3) WHERE workspace_id = $1 AND trigger_id = $2",
        workspace,
        trigger_id,
        seconds,
    )


async def note_poll(connection: asyncpg.Connection, workspace: int, trigger_id: UUID, fault: str | None) -> None:
    """How a poll went."""
    await connection.execute(
        "UPDATE schedule SET last_at = clock_timestamp(), fault = $3 WHERE workspace_id = $1 AND trigger_id = $2",
        workspace,
        trigger_id,
        fault,
    )


async def begin(connection: asyncpg.Connection, workspace: int, trigger_id: UUID, source: str, keys: list[str]) -> bool:
    """At the first look of a poll: what is there already is not new. False when it was begun before."""
    done = await connection.fetch(
        "INSERT INTO seen (workspace_id, trigger_id, source, event_key, run_id) "
        "SELECT $1, $2, $3, u.key, $2 FROM unnest($4::text[]) AS u(key) "
        "WHERE NOT EXISTS (SELECT FROM seen WHERE workspace_id = $1 AND trigger_id = $2 AND source = $3 AND event_key = '') "
        "ON CONFLICT DO NOTHING RETURNING 1",
        workspace,
        trigger_id,
        source,
        ["", *keys],
    )
    return bool(done)


async def still_there(connection: asyncpg.Connection, workspace: int, trigger_id: UUID, keys: list[str]) -> None:
    """Items that a poll still finds stay known, however long ago they were first seen."""
    await connection.execute(
        "UPDATE seen SET at = clock_timestamp() WHERE workspace_id = $1 AND trigger_id = $2 AND event_key = ANY($3::text[]) "
        "AND at < clock_timestamp() - interval '1 day'",
        workspace,
        trigger_id,
        keys,
    )


async def forget_old(connection: asyncpg.Connection, workspace: int, days: int) -> None:
    """Event ids and published events of long ago."""
    for statement in (
        "DELETE FROM seen WHERE workspace_id = $1 AND at < clock_timestamp() - make_interval(days => $2)",
        "DELETE FROM published WHERE workspace_id = $1 "
        "AND handled_at < clock_timestamp() - make_interval(days => least($2, 7))",
    ):
        await connection.execute(statement, workspace, days)


_LIST = """
SELECT s.*, t.name, t.kind, t.way, t.config, w.name AS workflow, w.title FROM schedule s
JOIN trigger t ON t.workspace_id = s.workspace_id AND t.id = s.trigger_id
JOIN workflow w ON w.workspace_id = t.workspace_id AND w.id = t.workflow_id
WHERE s.workspace_id = $1 AND ($2::text IS NULL OR w.name = $2) AND ($4::timestamptz IS NULL
  OR (coalesce(s.next_at, $7), w.name COLLATE "C", t.name COLLATE "C") > ($4, $5::text, $6::text))
ORDER BY coalesce(s.next_at, $7), w.name COLLATE "C", t.name COLLATE "C" LIMIT $3
"""
NEVER = datetime(9999, 12, 31, tzinfo=UTC)
"""When those come that do not come, in the order of the list."""


async def listed(
    connection: asyncpg.Connection,
    workspace: int,
    workflow: str | None,
    limit: int,
    behind: Sequence[object] | None = None,
) -> list[Any]:
    """Schedules and polls of workflows that are on, the next one first; behind the one of that moment (`NEVER` where there
    is none), workflow and trigger."""
    return await connection.fetch(_LIST, workspace, workflow, limit, *(behind or (None, None, None)), NEVER)


async def one(connection: asyncpg.Connection, workspace: int, workflow: str, name: str) -> asyncpg.Record | None:
    """A trigger in time, with what a run of it needs."""
    return await connection.fetchrow(
        "SELECT s.*, t.workflow_id, t.version_id, t.name, t.kind, t.way, t.config, t.start FROM schedule s "
        "JOIN trigger t ON t.workspace_id = s.workspace_id AND t.id = s.trigger_id "
        "JOIN workflow w ON w.workspace_id = t.workspace_id AND w.id = t.workflow_id "
        "WHERE s.workspace_id = $1 AND w.name = $2 AND t.name = $3",
        workspace,
        workflow,
        name,
    )


async def pause(
    connection: asyncpg.Connection, workspace: int, trigger_id: UUID, paused: bool, next_at: datetime | None
) -> None:
    """Pause a trigger in time, or let it go on from now; what came meanwhile does not come late."""
    await connection.execute(
        "UPDATE schedule SET paused = $3, next_at = coalesce($4, next_at), "
        "last_at = CASE WHEN $3 THEN last_at ELSE clock_timestamp() END WHERE workspace_id = $1 AND trigger_id = $2",
        workspace,
        trigger_id,
        paused,
        next_at,
    )
