"""Workers and clocks: their leases by the database's clock, and the fences of those that write.

The lease is the worker's row, renewed from a thread of its own. The fence is a row of its own, so that renewing and
committing never wait for each other. Whoever takes runs from a worker raises its fence first and touches rows of the queue
in a later statement: a statement sees the queue as it was before the lock it waited for.
"""

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

import asyncpg

from oak_relay.store import ending

KILLER = {
    "kind": "failed",
    "message": "three workers died while this run was the only one under suspicion in them",
    "fix": "see the workers' logs; run it again when the cause is gone",
    "reached": "maybe",
}
"""The error of a run that kills workers."""


@dataclass(frozen=True, slots=True)
class Renewal:
    """A renewed lease: the time by the database's clock, and how far it has come (see `epoch`)."""

    now: datetime
    mark: int


async def register(
    connection: asyncpg.Connection, worker_id: UUID, name: str, revision: int, lease: float, role: str = "work"
) -> None:
    """A new incarnation of a worker or clock, with a lease of so many seconds by the database's clock and a fence."""
    async with connection.transaction():
        await connection.execute(
            "INSERT INTO worker (id, name, revision, lease_until, role) "
            "VALUES ($1, $2, $3, clock_timestamp() + make_interval(secs => $4), $5)",
            worker_id,
            name,
            revision,
            lease,
            role,
        )
        await connection.execute("INSERT INTO fence (worker_id) VALUES ($1)", worker_id)


async def renew(connection: asyncpg.Connection, worker_id: UUID, lease: float) -> Renewal | None:
    """Renew a lease, also one that is over while nobody has taken the worker for dead; None when somebody has."""
    row = await connection.fetchrow(
        "UPDATE worker SET lease_until = clock_timestamp() + make_interval(secs => $2) "
        "WHERE id = $1 AND dead_at IS NULL RETURNING clock_timestamp() AS now, "
        "coalesce((SELECT value FROM epoch WHERE name = 'mark'), 0) AS mark",
        worker_id,
        lease,
    )
    return None if row is None else Renewal(row["now"], row["mark"])


async def raise_all(connection: asyncpg.Connection) -> None:
    """Raise the fence of every writer; those that are committing are waited for. Within a transaction."""
    await connection.execute("SELECT FROM fence ORDER BY worker_id FOR UPDATE")
    await connection.execute("UPDATE fence SET value = value + 1")


_OVER = """
SELECT id FROM worker WHERE dead_at IS NULL AND lease_until < clock_timestamp() FOR UPDATE SKIP LOCKED
"""
_BURY = """
WITH dead AS MATERIALIZED (
  SELECT q.workspace_id, q.run_id, q.worker_id, (SELECT coalesce(sum(j.outcomes), 0) FROM journal j
    WHERE j.workspace_id = q.workspace_id AND j.run_id = q.run_id) AS outcomes
  FROM queue q JOIN worker w ON w.id = q.worker_id
  WHERE q.workspace_id = $1 AND w.dead_at IS NOT NULL ORDER BY q.run_id FOR UPDATE OF q SKIP LOCKED
), suspects AS MATERIALIZED (
  SELECT d.worker_id, count(*) AS n FROM dead d JOIN queue q USING (workspace_id, run_id) WHERE q.deaths >= 2 GROUP BY 1
)
UPDATE queue q SET worker_id = NULL, generation = q.generation + 1, ready_at = clock_timestamp(), outcomes = d.outcomes,
  deaths = CASE WHEN d.outcomes > q.outcomes THEN 1 ELSE q.deaths + 1 END,
  alone = CASE WHEN d.outcomes > q.outcomes THEN 0 WHEN q.deaths >= 2 AND s.n = 1 THEN q.alone + 1 ELSE q.alone END
FROM dead d LEFT JOIN suspects s USING (worker_id)
WHERE q.workspace_id = d.workspace_id AND q.run_id = d.run_id RETURNING q.run_id, q.alone
"""


async def bury(connection: asyncpg.Connection, workspace: int) -> int:
    """Declare workers whose lease is over dead and give back their runs; returns how many runs. One that was alone
    in three deaths, without an outcome in between, is set aside."""
    async with connection.transaction():
        over = [row["id"] for row in await connection.fetch(_OVER)]
        if over:
            await connection.execute("UPDATE worker SET dead_at = clock_timestamp() WHERE id = ANY($1::uuid[])", over)
            await _unfence(connection, over)
    async with connection.transaction():
        rows = await connection.fetch(_BURY, workspace)
        for row in rows:
            if row["alone"] >= 3:
                await ending.finish(connection, workspace, row["run_id"], "set aside", KILLER)
    return len(rows)


async def leave(connection: asyncpg.Connection, workspace: int, worker_id: UUID) -> int:
    """A worker goes in order: its runs are handed back."""
    async with connection.transaction():
        await connection.execute("UPDATE worker SET dead_at = clock_timestamp() WHERE id = $1", worker_id)
        await _unfence(connection, [worker_id])
        rows = await connection.fetch(
            "UPDATE queue SET worker_id = NULL, generation = generation + 1, ready_at = clock_timestamp() "
            "WHERE workspace_id = $1 AND worker_id = $2 RETURNING run_id",
            workspace,
            worker_id,
        )
    return len(rows)


async def _unfence(connection: asyncpg.Connection, worker_ids: list[UUID]) -> None:
    """These write nothing any more; what they are just committing is waited for."""
    await connection.execute(
        "SELECT FROM fence WHERE worker_id = ANY($1::uuid[]) ORDER BY worker_id FOR UPDATE", worker_ids
    )
    await connection.execute("DELETE FROM fence WHERE worker_id = ANY($1::uuid[])", worker_ids)


async def forget_dead(connection: asyncpg.Connection, days: int) -> None:
    """Workers that died long ago."""
    await connection.execute(
        "DELETE FROM worker w WHERE dead_at < clock_timestamp() - make_interval(days => $1) "
        "AND NOT EXISTS (SELECT FROM queue q WHERE q.worker_id = w.id)",
        days,
    )
