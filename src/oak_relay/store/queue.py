"""The queue: runs are claimed in batches, those of all workflows in turn."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

import asyncpg

from oak_relay.store import artifacts


class Claim(NamedTuple):
    """A run that a worker may walk. `walks` counts claims, this one included; `wakes` as it was when claimed;
    `generation` tells this claim from others of the run, `fence` is the value of the worker's fence it was made under."""

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
    generation: int
    fence: int
    started_at: datetime
    event: dict[str, Any]


_TURNS = """
WITH RECURSIVE turn AS (
  (SELECT q.workflow_id, 1 AS n FROM queue q
   WHERE q.worker_id IS NULL AND q.workspace_id = $4 AND q.workflow_id > $5::uuid ORDER BY q.workflow_id LIMIT 1)
  UNION ALL
  SELECT q.workflow_id, t.n + 1 FROM turn t CROSS JOIN LATERAL (
    SELECT i.workflow_id FROM queue i WHERE i.worker_id IS NULL AND i.workspace_id = $4 AND i.workflow_id > t.workflow_id
    ORDER BY i.workflow_id LIMIT 1) q
  WHERE t.n < $6
), share AS MATERIALIZED (SELECT greatest(1, ceil($3::float / greatest(1, count(*))))::int AS most FROM turn),
"""
"""Workflows that have something in the queue, from a given one on, and what each may have of a claim."""

_FENCED = "fenced AS MATERIALIZED (SELECT worker_id AS id, value FROM fence WHERE worker_id = $1 FOR SHARE),"
"""The worker's fence, shared until the commit; none when it is declared dead. Before rows of the queue, as everywhere."""
_PICKED = """
picked AS MATERIALIZED (
  SELECT r.run_id FROM turn t JOIN workflow w ON w.workspace_id = $4 AND w.id = t.workflow_id AND w.at_once IS NULL
  CROSS JOIN LATERAL (
    SELECT q.run_id FROM queue q WHERE EXISTS (SELECT FROM fenced) AND q.worker_id IS NULL AND q.workspace_id = $4
    AND q.workflow_id = t.workflow_id AND q.ready_at <= statement_timestamp() AND q.revision <= $2 AND q.deaths < 2
    ORDER BY q.ready_at LIMIT (SELECT most FROM share) FOR UPDATE SKIP LOCKED) r
  LIMIT $3
),"""
_PICKED_LIMITED = """
picked AS MATERIALIZED (
  SELECT r.run_id FROM unnest($5::uuid[], $6::int[]) AS t(workflow_id, most)
  CROSS JOIN LATERAL (
    SELECT q.run_id FROM queue q WHERE EXISTS (SELECT FROM fenced) AND q.worker_id IS NULL AND q.workspace_id = $4
    AND q.workflow_id = t.workflow_id AND q.ready_at <= statement_timestamp() AND q.revision <= $2 AND q.deaths < 2
    ORDER BY q.ready_at LIMIT greatest(0, t.most - (SELECT count(*) FROM queue h
      WHERE h.worker_id IS NOT NULL AND h.workspace_id = $4 AND h.workflow_id = t.workflow_id)) FOR UPDATE SKIP LOCKED) r
  LIMIT $3
),"""
_PICKED_SUSPECTS = """
level AS MATERIALIZED (
  SELECT min(q.deaths) AS deaths FROM queue q
  WHERE q.workspace_id = $4 AND q.worker_id IS NULL AND q.ready_at <= statement_timestamp() AND q.deaths >= 2
), picked AS MATERIALIZED (
  SELECT q.run_id FROM queue q, level l WHERE EXISTS (SELECT FROM fenced) AND q.workspace_id = $4 AND q.worker_id IS NULL
  AND q.ready_at <= statement_timestamp() AND q.revision <= $2 AND q.deaths >= 2 AND q.deaths = l.deaths AND $3::int > 0 ORDER BY q.ready_at
  LIMIT (SELECT CASE deaths WHEN 2 THEN 16 WHEN 3 THEN 4 ELSE 1 END FROM level) FOR UPDATE OF q SKIP LOCKED
),"""
"""Runs under suspicion: fewer together the more often workers died under them, at last one alone."""
_TAKEN = """
taken AS (
  UPDATE queue q SET worker_id = fenced.id, walks = q.walks + 1, generation = q.generation + 1,
    started_at = coalesce(q.started_at, clock_timestamp())
  FROM fenced WHERE q.workspace_id = $4 AND q.run_id = ANY (ARRAY(SELECT run_id FROM picked))
  RETURNING q.run_id, q.walks, q.wakes, q.worked, q.lane, q.generation, q.started_at, fenced.value AS fence
), forgotten AS (
  DELETE FROM wake w USING taken t WHERE t.walks > 1 AND w.workspace_id = $4 AND w.run_id = t.run_id
)
SELECT r.id, r.workflow_id, r.version_id, r.event_id, r.subject, r.settings, r.created_at, r.cancel_at IS NOT NULL AS cancelled,
  r.kind, r.parent_id, r.parent_path, r.depth, r.money_limit, r.trace_parent, r.origin_how IN ('failure', 'step') AS seeded,
  t.walks, t.wakes, t.worked, t.lane, t.generation, t.fence, t.started_at, e.event_key, e.source, e.type, e.body, e.meta, e.at
FROM taken t CROSS JOIN LATERAL (SELECT * FROM run WHERE workspace_id = $4 AND id = t.run_id OFFSET 0) AS r
CROSS JOIN LATERAL (SELECT * FROM event WHERE workspace_id = $4 AND id = r.event_id OFFSET 0) AS e
"""
_CLAIM = f"{_TURNS}{_FENCED}{_PICKED}{_TAKEN}"
_CLAIM_LIMITED = f"WITH {_FENCED}{_PICKED_LIMITED}{_TAKEN}"
_CLAIM_SUSPECTS = f"WITH {_FENCED}{_PICKED_SUSPECTS}{_TAKEN}"
_CANCELLED = """
SELECT r.id FROM queue q CROSS JOIN LATERAL (SELECT id, cancel_at FROM run WHERE workspace_id = $1 AND id = q.run_id OFFSET 0) AS r
WHERE q.workspace_id = $1 AND q.worker_id = $2 AND r.cancel_at IS NOT NULL
"""
_SUSPECTS = "SELECT EXISTS (SELECT FROM queue WHERE workspace_id = $1 AND worker_id IS NULL AND deaths >= 2)"
_WIDTH = 64
_FIRST = UUID(int=0)
_LAST_TURN = f"""{_TURNS.rstrip().rstrip(",")}
SELECT workflow_id FROM turn WHERE $1::uuid IS NOT NULL AND $2::int IS NOT NULL ORDER BY n DESC LIMIT 1"""


@dataclass(slots=True)
class RoundRobin:
    """Where a worker's next claim begins among the workflows that have something in the queue."""

    workflow_id: UUID = _FIRST


async def claim(
    connection: asyncpg.Connection, workspace: int, worker_id: UUID, revision: int, most: int, turn: RoundRobin
) -> list[Claim]:
    """Take up to `most` runs that are ready, an equal share of each workflow in turn; none for a worker that is
    declared dead."""
    given = worker_id, revision, most, workspace, turn.workflow_id, _WIDTH
    rows = await connection.fetch(_CLAIM, *given)
    last = None
    if turn.workflow_id != _FIRST or len({row["workflow_id"] for row in rows}) >= _WIDTH:
        last = await connection.fetchval(_LAST_TURN, *given)
    turn.workflow_id = last or _FIRST
    return await _claims(connection, workspace, rows)


async def claim_limited(
    connection: asyncpg.Connection, workspace: int, worker_id: UUID, revision: int, most: int
) -> list[Claim]:
    """Take runs of workflows that limit how many are at work at once; who claims of one holds its row."""
    async with connection.transaction():
        limited = await connection.fetch(
            "SELECT id, at_once FROM workflow w WHERE w.workspace_id = $1 AND at_once IS NOT NULL AND EXISTS ("
            "SELECT FROM queue q WHERE q.worker_id IS NULL AND q.workspace_id = w.workspace_id AND q.workflow_id = w.id "
            "AND q.ready_at <= clock_timestamp()) ORDER BY random() LIMIT $2 FOR NO KEY UPDATE SKIP LOCKED",
            workspace,
            _WIDTH,
        )
        if not limited:
            return []
        columns = [row["id"] for row in limited], [row["at_once"] for row in limited]
        rows = await connection.fetch(_CLAIM_LIMITED, worker_id, revision, most, workspace, *columns)
    return await _claims(connection, workspace, rows)


async def claim_suspects(connection: asyncpg.Connection, workspace: int, worker_id: UUID, revision: int) -> list[Claim]:
    """Take some runs under which workers have died again and again without an outcome."""
    rows = await connection.fetch(_CLAIM_SUSPECTS, worker_id, revision, 1, workspace)
    return await _claims(connection, workspace, rows)


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
        row["generation"],
        row["fence"],
        row["started_at"],
        {k: row[k] for k in ("event_key", "source", "type", "body", "meta", "at")},
    )


async def give_back_unknown(connection: asyncpg.Connection, workspace: int, worker_id: UUID, known: list[UUID]) -> int:
    """Give back what is this worker's without its knowing: claims whose answer was lost. How many."""
    async with connection.transaction():
        await connection.execute("SELECT FROM fence WHERE worker_id = $1 FOR SHARE", worker_id)
        rows = await connection.fetch(
            "UPDATE queue SET worker_id = NULL, generation = generation + 1, ready_at = clock_timestamp() "
            "WHERE workspace_id = $1 AND worker_id = $2 AND NOT run_id = ANY($3::uuid[]) RETURNING run_id",
            workspace,
            worker_id,
            known,
        )
    return len(rows)


async def next_ready(connection: asyncpg.Connection, workspace: int) -> float | None:
    """Seconds until the next waiting run is due; None when there is none."""
    left = await connection.fetchval(
        "SELECT extract(epoch FROM min(ready_at) - clock_timestamp()) FROM queue "
        "WHERE workspace_id = $1 AND worker_id IS NULL AND ready_at < 'infinity'",
        workspace,
    )
    return None if left is None else float(left)


async def suspects(connection: asyncpg.Connection, workspace: int) -> bool:
    """Whether there is a run that is to be walked alone."""
    return bool(await connection.fetchval(_SUSPECTS, workspace))


async def cancelled_here(connection: asyncpg.Connection, workspace: int, worker_id: UUID) -> list[UUID]:
    """Runs of this worker that somebody has cancelled."""
    rows = await connection.fetch(_CANCELLED, workspace, worker_id)
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
        "SELECT run_id, wakes FROM queue WHERE workspace_id = $1 AND worker_id = $2 AND run_id = ANY($3::uuid[])",
        workspace,
        worker_id,
        run_ids,
    )
    return {row["run_id"]: row["wakes"] for row in rows}
