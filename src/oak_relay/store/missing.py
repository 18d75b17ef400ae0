"""Events that were answered and that a database which was set back does not hold: their senders were told that they are
kept, so somebody has to know which they are."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

import asyncpg


@dataclass(frozen=True, slots=True)
class Answered:
    """An event that was taken in and answered: its run, its workflow, and the sender's id for it."""

    run_id: UUID
    workflow_id: UUID
    source: str
    event_key: str
    at: datetime


async def note(connection: asyncpg.Connection, workspace: int, given: Sequence[Answered]) -> int:
    """Note those whose run is not there; how many."""
    rows = await connection.fetch(
        "INSERT INTO missing_event (workspace_id, id, workflow, source, event_key, answered_at) "
        "SELECT $1, u.id, coalesce(w.name, ''), u.source, u.event_key, u.at "
        "FROM unnest($2::uuid[], $3::uuid[], $4::text[], $5::text[], $6::timestamptz[]) AS u(id, workflow_id, source, event_key, at) "
        "LEFT JOIN workflow w ON w.workspace_id = $1 AND w.id = u.workflow_id "
        "WHERE NOT EXISTS (SELECT FROM run r WHERE r.workspace_id = $1 AND r.id = u.id) ON CONFLICT DO NOTHING RETURNING id",
        workspace,
        [a.run_id for a in given],
        [a.workflow_id for a in given],
        [a.source for a in given],
        [a.event_key for a in given],
        [a.at for a in given],
    )
    return len(rows)


async def listed(
    connection: asyncpg.Connection, workspace: int, after: UUID | None, limit: int
) -> list[asyncpg.Record]:
    """Events that are missing, in the order in which they were answered."""
    return await connection.fetch(
        "SELECT * FROM missing_event WHERE workspace_id = $1 AND ($2::uuid IS NULL OR id > $2) ORDER BY id LIMIT $3",
        workspace,
        after,
        limit,
    )


async def counts(connection: asyncpg.Connection, workspace: int) -> tuple[int, int]:
    """How many runs are held, and how many events are missing."""
    row = await connection.fetchrow(
        "SELECT (SELECT count(*) FROM queue WHERE workspace_id = $1 AND held = 'restore') AS held, "
        "(SELECT count(*) FROM missing_event WHERE workspace_id = $1) AS missing",
        workspace,
    )
    return int(row["held"]), int(row["missing"])


async def forget(connection: asyncpg.Connection, workspace: int) -> int:
    """They were looked after; how many."""
    done = await connection.execute("DELETE FROM missing_event WHERE workspace_id = $1", workspace)
    return int(str(done).rpartition(" ")[2])
