"""The queue: claims in batches, the lease of a worker, runs of the dead given to the living."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.store.tables import MAIN_WORKSPACE


@dataclass(frozen=True, slots=True)
class Claim:
    """A run that a worker may walk. `walks` counts claims, this one included; `wakes` as it was when claimed."""

    run_id: UUID
    workflow_id: UUID
    version_id: UUID
    event_id: UUID
    subject: str | None
    settings: str | None
    created_at: datetime
    cancelled: bool
    walks: int
    wakes: int
    worked: float
    steps: int
    attempts: int
    event: dict[str, Any]


_CLAIM = """
WITH lease AS MATERIALIZED (
  SELECT id FROM worker WHERE id = $1 AND dead_at IS NULL AND lease_until > clock_timestamp() FOR SHARE
), picked AS MATERIALIZED (
  SELECT q.workspace_id, q.run_id FROM queue q
  WHERE q.worker_id IS NULL AND q.ready_at <= clock_timestamp() AND q.revision <= $2
  ORDER BY q.ready_at LIMIT $3 FOR UPDATE SKIP LOCKED
), taken AS (
  UPDATE queue q SET worker_id = lease.id, walks = q.walks + 1 FROM picked p, lease
  WHERE q.workspace_id = p.workspace_id AND q.run_id = p.run_id
  RETURNING q.workspace_id, q.run_id, q.walks, q.wakes, q.worked
), forgotten AS (
  DELETE FROM wake w USING taken t WHERE t.walks > 1 AND w.workspace_id = t.workspace_id AND w.run_id = t.run_id
), marked AS (
  UPDATE run r SET state = 'running', started_at = coalesce(r.started_at, clock_timestamp())
  FROM taken t WHERE r.workspace_id = t.workspace_id AND r.id = t.run_id
  RETURNING r.id, r.workspace_id, r.workflow_id, r.version_id, r.event_id, r.subject, r.settings, r.created_at,
            r.cancel_at IS NOT NULL AS cancelled, r.steps, r.attempts, t.walks, t.wakes, t.worked
)
SELECT m.*, e.event_key, e.source, e.type, e.body, e.meta, e.sealed, e.at
FROM marked m JOIN event e ON e.workspace_id = m.workspace_id AND e.id = m.event_id
"""


async def claim(connection: asyncpg.Connection, worker_id: UUID, revision: int, most: int) -> list[Claim]:
    """Take up to `most` runs that are ready; none when the lease is over."""
    rows = await connection.fetch(_CLAIM, worker_id, revision, most)
    return [
        Claim(
            row["id"],
            row["workflow_id"],
            row["version_id"],
            row["event_id"],
            row["subject"],
            row["settings"],
            row["created_at"],
            row["cancelled"],
            row["walks"],
            row["wakes"],
            float(row["worked"]),
            row["steps"],
            row["attempts"],
            {k: row[k] for k in ("event_key", "source", "type", "body", "meta", "sealed", "at")},
        )
        for row in rows
    ]


async def next_ready(connection: asyncpg.Connection) -> float | None:
    """Seconds until the next waiting run is due; None when there is none."""
    left = await connection.fetchval(
        "SELECT extract(epoch FROM min(ready_at) - clock_timestamp()) FROM queue WHERE worker_id IS NULL"
    )
    return None if left is None else float(left)


async def register(connection: asyncpg.Connection, worker_id: UUID, name: str, revision: int, lease: float) -> None:
    """A new incarnation of a worker, with a lease of so many seconds by the database's clock."""
    await connection.execute(
        "INSERT INTO worker (id, name, revision, lease_until) VALUES ($1, $2, $3, clock_timestamp() + make_interval(secs => $4))",
        worker_id,
        name,
        revision,
        lease,
    )


async def renew(connection: asyncpg.Connection, worker_id: UUID, lease: float) -> bool:
    """Renew a lease that is not over yet; False when it is."""
    done = await connection.fetchval(
        "UPDATE worker SET lease_until = clock_timestamp() + make_interval(secs => $2) "
        "WHERE id = $1 AND dead_at IS NULL AND lease_until > clock_timestamp() RETURNING true",
        worker_id,
        lease,
    )
    return bool(done)


async def bury(connection: asyncpg.Connection) -> int:
    """Declare workers whose lease is over dead and give back their runs; returns how many runs."""
    async with connection.transaction():
        await connection.execute(
            "UPDATE worker SET dead_at = clock_timestamp() WHERE id IN ("
            "SELECT id FROM worker WHERE dead_at IS NULL AND lease_until < clock_timestamp() FOR UPDATE SKIP LOCKED)"
        )
        rows = await connection.fetch(
            "UPDATE queue q SET worker_id = NULL, ready_at = clock_timestamp(), deaths = deaths + 1 "
            "FROM worker w WHERE q.worker_id = w.id AND w.dead_at IS NOT NULL RETURNING q.run_id"
        )
    return len(rows)


async def give_back(connection: asyncpg.Connection, worker_id: UUID, run_id: UUID, reason: str) -> bool:
    """Return a run whose walk broke; the third time it is set aside with its reason. Whether it was."""
    async with connection.transaction():
        deaths = await connection.fetchval(
            "UPDATE queue SET worker_id = NULL, deaths = deaths + 1, ready_at = clock_timestamp() + make_interval(secs => 2 ^ deaths) "
            "WHERE workspace_id = $3 AND run_id = $2 AND worker_id = $1 RETURNING deaths",
            worker_id,
            run_id,
            MAIN_WORKSPACE,
        )
        if deaths is None or deaths < 3:
            return False
        await connection.execute("DELETE FROM queue WHERE workspace_id = $2 AND run_id = $1", run_id, MAIN_WORKSPACE)
        await connection.execute(
            "UPDATE run SET state = 'set aside', error = $2, error_kind = 'failed', ended_at = clock_timestamp() "
            "WHERE workspace_id = $3 AND id = $1",
            run_id,
            reason,
            MAIN_WORKSPACE,
        )
    return True


async def leave(connection: asyncpg.Connection, worker_id: UUID) -> int:
    """A worker goes in order: its runs are handed back."""
    async with connection.transaction():
        await connection.execute("UPDATE worker SET dead_at = clock_timestamp() WHERE id = $1", worker_id)
        rows = await connection.fetch(
            "UPDATE queue SET worker_id = NULL, ready_at = clock_timestamp() WHERE worker_id = $1 RETURNING run_id",
            worker_id,
        )
    return len(rows)


async def cancelled_here(connection: asyncpg.Connection, worker_id: UUID) -> list[UUID]:
    """Runs of this worker that somebody has cancelled."""
    rows = await connection.fetch(
        "SELECT r.id FROM queue q JOIN run r ON r.workspace_id = q.workspace_id AND r.id = q.run_id "
        "WHERE q.worker_id = $1 AND r.cancel_at IS NOT NULL",
        worker_id,
    )
    return [row["id"] for row in rows]


async def version_text(connection: asyncpg.Connection, version_id: UUID) -> str:
    """The document of a version."""
    return str(
        await connection.fetchval(
            "SELECT text FROM version WHERE workspace_id = $1 AND id = $2", MAIN_WORKSPACE, version_id
        )
    )
