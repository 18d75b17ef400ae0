"""The queue: claims in batches, the lease of a worker, runs of the dead given to the living."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.document import values
from oak_relay.store import artifacts, journal, lanes, local

KILLER = {
    "kind": "failed",
    "message": "three workers died while this run was the only one under suspicion in them",
    "fix": "see the workers' logs; run it again when the cause is gone",
    "reached": "maybe",
}
"""The error of a run that kills workers."""


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
    kind: str
    parent_id: UUID | None
    parent_path: str | None
    depth: int
    money: float | None
    trace_parent: str | None
    lane: str | None
    seeded: bool
    event: dict[str, Any]


_TURNS = """
WITH RECURSIVE turn AS (
  (SELECT q.workspace_id, q.workflow_id, 1 AS n FROM queue q
   WHERE q.worker_id IS NULL AND (q.workspace_id, q.workflow_id) > ($4::smallint, $5::uuid)
   ORDER BY q.workspace_id, q.workflow_id LIMIT 1)
  UNION ALL
  SELECT q.workspace_id, q.workflow_id, t.n + 1 FROM turn t CROSS JOIN LATERAL (
    SELECT i.workspace_id, i.workflow_id FROM queue i
    WHERE i.worker_id IS NULL AND (i.workspace_id, i.workflow_id) > (t.workspace_id, t.workflow_id)
    ORDER BY i.workspace_id, i.workflow_id LIMIT 1) q
  WHERE t.n < $6
), share AS MATERIALIZED (SELECT greatest(1, ceil($3::float / greatest(1, count(*))))::int AS most FROM turn),
"""
"""Workflows that have something in the queue, from a given one on, and what each may have of a claim."""

_PICKED = """
picked AS MATERIALIZED (
  SELECT r.workspace_id, r.run_id FROM turn t
  JOIN workflow w ON w.workspace_id = t.workspace_id AND w.id = t.workflow_id AND w.at_once IS NULL
  CROSS JOIN LATERAL (
    SELECT q.workspace_id, q.run_id FROM queue q WHERE q.worker_id IS NULL AND q.workspace_id = t.workspace_id
    AND q.workflow_id = t.workflow_id AND q.ready_at <= clock_timestamp() AND q.revision <= $2 AND q.deaths < 2
    ORDER BY q.ready_at LIMIT (SELECT most FROM share) FOR UPDATE SKIP LOCKED) r
  LIMIT $3
),"""
_PICKED_LIMITED = """
WITH picked AS MATERIALIZED (
  SELECT r.workspace_id, r.run_id FROM unnest($4::uuid[], $5::int[]) AS t(workflow_id, most)
  CROSS JOIN LATERAL (
    SELECT q.workspace_id, q.run_id FROM queue q WHERE q.worker_id IS NULL AND q.workflow_id = t.workflow_id
    AND q.ready_at <= clock_timestamp() AND q.revision <= $2 AND q.deaths < 2
    ORDER BY q.ready_at LIMIT greatest(0, t.most - (
      SELECT count(*) FROM queue h WHERE h.worker_id IS NOT NULL AND h.workflow_id = t.workflow_id)) FOR UPDATE SKIP LOCKED) r
  LIMIT $3
),"""
_PICKED_SUSPECTS = """
WITH level AS MATERIALIZED (
  SELECT min(q.deaths) AS deaths FROM queue q WHERE q.worker_id IS NULL AND q.ready_at <= clock_timestamp() AND q.deaths >= 2
), picked AS MATERIALIZED (
  SELECT q.workspace_id, q.run_id FROM queue q, level l WHERE q.worker_id IS NULL AND q.ready_at <= clock_timestamp()
  AND q.revision <= $2 AND q.deaths = l.deaths ORDER BY q.ready_at
  LIMIT (SELECT CASE deaths WHEN 2 THEN 16 WHEN 3 THEN 4 ELSE 1 END FROM level) FOR UPDATE OF q SKIP LOCKED
),"""
"""Runs under suspicion: fewer together the more often workers died under them, at last one alone."""
_TAKEN = """
lease AS MATERIALIZED (
  SELECT id FROM worker WHERE id = $1 AND dead_at IS NULL AND lease_until > clock_timestamp() FOR SHARE
), taken AS (
  UPDATE queue q SET worker_id = lease.id, walks = q.walks + 1 FROM picked p, lease
  WHERE q.workspace_id = p.workspace_id AND q.run_id = p.run_id
  RETURNING q.workspace_id, q.run_id, q.walks, q.wakes, q.worked, q.lane
), forgotten AS (
  DELETE FROM wake w USING taken t WHERE t.walks > 1 AND w.workspace_id = t.workspace_id AND w.run_id = t.run_id
), marked AS (
  UPDATE run r SET state = 'running', started_at = coalesce(r.started_at, clock_timestamp())
  FROM taken t WHERE r.workspace_id = t.workspace_id AND r.id = t.run_id
  RETURNING r.id, r.workspace_id, r.workflow_id, r.version_id, r.event_id, r.subject, r.settings, r.created_at,
            r.cancel_at IS NOT NULL AS cancelled, r.kind, r.parent_id, r.parent_path, r.depth,
            r.money_limit, r.trace_parent, r.origin_how IN ('resume', 'redo') AS seeded, t.walks, t.wakes, t.worked, t.lane
)
SELECT m.*, e.event_key, e.source, e.type, e.body, e.meta, e.sealed, e.at
FROM marked m JOIN event e ON e.workspace_id = m.workspace_id AND e.id = m.event_id
"""
_CLAIM = f"{_TURNS}{_PICKED}{_TAKEN}"
_CLAIM_LIMITED = f"{_PICKED_LIMITED}{_TAKEN}"
_CLAIM_SUSPECTS = f"{_PICKED_SUSPECTS}{_TAKEN}"
_WIDTH = 64
_FIRST = (0, UUID(int=0))


@dataclass(slots=True)
class Turn:
    """Where a worker's next claim begins among the workflows that have something in the queue."""

    workspace_id: int = _FIRST[0]
    workflow_id: UUID = _FIRST[1]


async def claim(
    connection: asyncpg.Connection, workspace: int, worker_id: UUID, revision: int, most: int, turn: Turn
) -> list[Claim]:
    """Take up to `most` runs that are ready, an equal share of each workflow in turn; none when the lease is over."""
    begin = turn.workspace_id, turn.workflow_id
    rows = await connection.fetch(_CLAIM, worker_id, revision, most, *begin, _WIDTH)
    last = (
        await connection.fetch(
            f"{_TURNS.rstrip().rstrip(',')} SELECT workspace_id, workflow_id FROM turn "
            "WHERE $1::uuid IS NOT NULL AND $2::int IS NOT NULL ORDER BY n DESC LIMIT 1",
            worker_id,
            revision,
            most,
            *begin,
            _WIDTH,
        )
        if begin != _FIRST or len({row["workflow_id"] for row in rows}) >= _WIDTH
        else []
    )
    if last:
        turn.workspace_id, turn.workflow_id = last[0]["workspace_id"], last[0]["workflow_id"]
    else:
        turn.workspace_id, turn.workflow_id = _FIRST
    return await _claims(connection, workspace, rows)


async def claim_limited(
    connection: asyncpg.Connection, workspace: int, worker_id: UUID, revision: int, most: int
) -> list[Claim]:
    """Take runs of workflows that limit how many are at work at once; who claims of one holds its row."""
    async with connection.transaction():
        limited = await connection.fetch(
            "SELECT id, at_once FROM workflow w WHERE at_once IS NOT NULL AND EXISTS (SELECT FROM queue q "
            "WHERE q.worker_id IS NULL AND q.workspace_id = w.workspace_id AND q.workflow_id = w.id "
            "AND q.ready_at <= clock_timestamp()) ORDER BY random() LIMIT $1 FOR NO KEY UPDATE SKIP LOCKED",
            _WIDTH,
        )
        if not limited:
            return []
        rows = await connection.fetch(
            _CLAIM_LIMITED,
            worker_id,
            revision,
            most,
            [row["id"] for row in limited],
            [row["at_once"] for row in limited],
        )
    return await _claims(connection, workspace, rows)


async def claim_suspects(connection: asyncpg.Connection, workspace: int, worker_id: UUID, revision: int) -> list[Claim]:
    """Take some runs under which workers have died again and again without an outcome."""
    return await _claims(connection, workspace, await connection.fetch(_CLAIM_SUSPECTS, worker_id, revision))


async def _claims(connection: asyncpg.Connection, workspace: int, rows: list[asyncpg.Record]) -> list[Claim]:
    apart = await artifacts.whole(connection, workspace, (row["body"] for row in rows))
    return [_claimed(artifacts.filled(row, apart, "body")) for row in rows]


def _claimed(row: Mapping[str, Any]) -> Claim:
    return Claim(
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
        row["kind"],
        row["parent_id"],
        row["parent_path"],
        row["depth"],
        None if row["money_limit"] is None else float(row["money_limit"]),
        row["trace_parent"],
        row["lane"],
        row["seeded"],
        {k: row[k] for k in ("event_key", "source", "type", "body", "meta", "sealed", "at")},
    )


async def next_ready(connection: asyncpg.Connection, workspace: int) -> float | None:
    """Seconds until the next waiting run is due; None when there is none."""
    left = await connection.fetchval(
        "SELECT extract(epoch FROM min(ready_at) - clock_timestamp()) FROM queue "
        "WHERE worker_id IS NULL AND ready_at < 'infinity'"
    )
    return None if left is None else float(left)


async def register(
    connection: asyncpg.Connection, worker_id: UUID, name: str, revision: int, lease: float, role: str = "work"
) -> None:
    """A new incarnation of a worker or clock, with a lease of so many seconds by the database's clock."""
    await connection.execute(
        "INSERT INTO worker (id, name, revision, lease_until, role) "
        "VALUES ($1, $2, $3, clock_timestamp() + make_interval(secs => $4), $5)",
        worker_id,
        name,
        revision,
        lease,
        role,
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


_BURY = """
WITH dead AS MATERIALIZED (
  SELECT q.workspace_id, q.run_id, q.worker_id, (SELECT count(*) FROM journal j WHERE j.workspace_id = q.workspace_id
    AND j.run_id = q.run_id AND j.kind IN ('value', 'ended', 'closed')) AS outcomes
  FROM queue q JOIN worker w ON w.id = q.worker_id WHERE w.dead_at IS NOT NULL ORDER BY q.run_id FOR UPDATE OF q SKIP LOCKED
), suspects AS MATERIALIZED (
  SELECT d.worker_id, count(*) AS n FROM dead d JOIN queue q USING (workspace_id, run_id) WHERE q.deaths >= 2 GROUP BY 1
)
UPDATE queue q SET worker_id = NULL, ready_at = clock_timestamp(), outcomes = d.outcomes,
  deaths = CASE WHEN d.outcomes > q.outcomes THEN 1 ELSE q.deaths + 1 END,
  alone = CASE WHEN d.outcomes > q.outcomes THEN 0 WHEN q.deaths >= 2 AND s.n = 1 THEN q.alone + 1 ELSE q.alone END
FROM dead d LEFT JOIN suspects s USING (worker_id)
WHERE q.workspace_id = d.workspace_id AND q.run_id = d.run_id RETURNING q.run_id, q.alone
"""


async def bury(connection: asyncpg.Connection, workspace: int) -> int:
    """Declare workers whose lease is over dead and give back their runs; returns how many runs. One that was alone
    in three deaths, without an outcome in between, is set aside."""
    async with connection.transaction():
        await connection.execute(
            "UPDATE worker SET dead_at = clock_timestamp() WHERE id IN ("
            "SELECT id FROM worker WHERE dead_at IS NULL AND lease_until < clock_timestamp() FOR UPDATE SKIP LOCKED)"
        )
        rows = await connection.fetch(_BURY)
        for row in rows:
            if row["alone"] >= 3:
                await finish(connection, workspace, row["run_id"], "set aside", KILLER)
    return len(rows)


async def suspects(connection: asyncpg.Connection, workspace: int) -> bool:
    """Whether there is a run that is to be walked alone."""
    return bool(await connection.fetchval("SELECT EXISTS (SELECT FROM queue WHERE worker_id IS NULL AND deaths >= 2)"))


async def finish(
    connection: asyncpg.Connection, workspace: int, run_id: UUID, state: str, error: dict[str, Any]
) -> bool:
    """End a run that no worker ends: it leaves the queue and its lane, and its parent is told. False when it has
    ended already."""
    gone = await connection.fetchrow(
        "DELETE FROM queue WHERE workspace_id = $1 AND run_id = $2 RETURNING workflow_id, lane", workspace, run_id
    )
    if gone is None:
        return False
    row = await connection.fetchrow(
        "UPDATE run SET state = $3, error = $4, error_kind = $5, ended_at = clock_timestamp() "
        "WHERE workspace_id = $1 AND id = $2 RETURNING parent_id, parent_path, kind, depth",
        workspace,
        run_id,
        state,
        values.dumps(error),
        error["kind"],
    )
    await local.take_back(connection, workspace, [run_id])
    if row["kind"] != "run" and row["parent_id"] is not None:
        told = values.dumps({"state": state, "result": None, "error": error, "run": str(run_id)})
        await journal.signal(connection, workspace, [(row["parent_id"], row["parent_path"], told, None)])
    if gone["lane"] is not None:
        await lanes.leave(connection, workspace, [(gone["workflow_id"], gone["lane"])])
    await connection.execute(
        "INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth, run_id) "
        "SELECT $1, $2::uuid, 'run', w.name, '/runs/' || $2::uuid::text, $2::uuid::text, json_build_object('run', $2::uuid, 'workflow', w.name, "
        "'state', $3::text, 'result', NULL, 'error', $4::text::json)::text, $5, $2::uuid FROM workflow w WHERE w.workspace_id = $1 "
        "AND w.id = $6 AND EXISTS (SELECT FROM trigger t WHERE t.workspace_id = $1 AND t.kind = 'after' AND t.topic = w.name) "
        "ON CONFLICT DO NOTHING",
        workspace,
        run_id,
        state,
        values.dumps(error),
        row["depth"] + 1,
        gone["workflow_id"],
    )
    return True


async def give_back(
    connection: asyncpg.Connection, workspace: int, worker_id: UUID, run_id: UUID, reason: dict[str, Any]
) -> bool:
    """Return a run whose walk broke; the third time it is set aside with its reason. Whether it was."""
    async with connection.transaction():
        deaths = await connection.fetchval(
            "UPDATE queue SET worker_id = NULL, deaths = deaths + 1, ready_at = clock_timestamp() + make_interval(secs => 2 ^ deaths) "
            "WHERE workspace_id = $3 AND run_id = $2 AND worker_id = $1 RETURNING deaths",
            worker_id,
            run_id,
            workspace,
        )
        return deaths is not None and deaths >= 3 and await finish(connection, workspace, run_id, "set aside", reason)


async def leave(connection: asyncpg.Connection, worker_id: UUID) -> int:
    """A worker goes in order: its runs are handed back."""
    async with connection.transaction():
        await connection.execute("UPDATE worker SET dead_at = clock_timestamp() WHERE id = $1", worker_id)
        rows = await connection.fetch(
            "UPDATE queue SET worker_id = NULL, ready_at = clock_timestamp() WHERE worker_id = $1 RETURNING run_id",
            worker_id,
        )
    return len(rows)


async def cancelled_here(connection: asyncpg.Connection, workspace: int, worker_id: UUID) -> list[UUID]:
    """Runs of this worker that somebody has cancelled."""
    rows = await connection.fetch(
        "SELECT r.id FROM queue q JOIN run r ON r.workspace_id = q.workspace_id AND r.id = q.run_id "
        "WHERE q.worker_id = $1 AND r.cancel_at IS NOT NULL",
        worker_id,
    )
    return [row["id"] for row in rows]


async def version_text(connection: asyncpg.Connection, workspace: int, version_id: UUID) -> str:
    """The document of a version."""
    return str(
        await connection.fetchval("SELECT text FROM version WHERE workspace_id = $1 AND id = $2", workspace, version_id)
    )


async def wakes(
    connection: asyncpg.Connection, workspace: int, worker_id: UUID, run_ids: list[UUID]
) -> dict[UUID, int]:
    """How often runs of this worker were woken."""
    rows = await connection.fetch(
        "SELECT run_id, wakes FROM queue WHERE worker_id = $1 AND run_id = ANY($2::uuid[])", worker_id, run_ids
    )
    return {row["run_id"]: row["wakes"] for row in rows}
