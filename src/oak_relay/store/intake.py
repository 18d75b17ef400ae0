"""Events in: an event, its run and its place in the queue are one statement, and an event id counts once."""

from collections import defaultdict
from typing import Literal, NamedTuple
from uuid import UUID

import asyncpg
from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document import values
from oak_relay.store import arrays, artifacts, cancelling, ending, files, lanes

DROPPED = {
    "kind": "cancelled",
    "message": "another run of this subject was not over",
    "fix": "limits: per_subject: queue lets it wait",
    "reached": "no",
}
REPLACED = {
    "kind": "cancelled",
    "message": "a newer run of this subject took its place",
    "fix": "limits: per_subject: queue lets both run",
    "reached": "no",
}


class NewRun(NamedTuple):
    """An event and the run it makes. `event_key` is the sender's id, or the event's own when it has none;
    only a sender's id (`keyed`) is counted once. `trigger_id` None means a person or a client starts it."""

    run_id: UUID
    event_id: UUID
    trigger_id: UUID | None
    workflow_id: UUID
    version_id: UUID
    revision: int
    trigger_name: str
    source: str
    type: str
    event_key: str
    keyed: bool
    body: str
    meta: str
    subject: str | None
    policy: str = "free"
    depth: int = 0
    trace_parent: str | None = None
    origin_id: UUID | None = None
    origin_how: str | None = None


class Receipt(NamedTuple):
    """`accepted`, `duplicate` (then `run_id` is the first one's), `stale`: the version is on no longer, or
    `dropped`: another run of the subject is not over, and the workflow says to drop (the run is kept as cancelled)."""

    status: Literal["accepted", "duplicate", "stale", "dropped"]
    run_id: UUID


_GIVEN = {
    "run_id": "uuid", "event_id": "uuid", "trigger_id": "uuid", "workflow_id": "uuid", "version_id": "uuid", "revision": "int",
    "trigger_name": "text", "source": "text", "type": "text", "event_key": "text", "keyed": "bool", "body": "text", "meta": "text",
    "subject": "text", "lane": "text", "depth": "int", "trace_parent": "text", "origin_id": "uuid", "origin_how": "text",
}  # fmt: skip
_ACCEPT = f"""
WITH turn AS MATERIALIZED (SELECT pg_advisory_xact_lock_shared($2)
), given AS (
  SELECT u.* FROM turn, {arrays.rows(_GIVEN, 3)}
), live AS (
  SELECT g.*, w.settings FROM given g JOIN workflow w ON w.workspace_id = $1 AND w.id = g.workflow_id
  WHERE g.trigger_id IS NULL OR EXISTS (
    SELECT FROM trigger t WHERE t.workspace_id = $1 AND t.id = g.trigger_id AND t.version_id = g.version_id)
), fresh AS (
  INSERT INTO seen (workspace_id, trigger_id, source, event_key, run_id)
  SELECT $1, coalesce(trigger_id, workflow_id), source, event_key, run_id FROM live WHERE keyed
  ON CONFLICT DO NOTHING RETURNING run_id
), accepted AS (
  SELECT * FROM live WHERE NOT keyed OR run_id IN (SELECT run_id FROM fresh)
), events AS (
  INSERT INTO event (workspace_id, id, trigger_id, event_key, source, type, body, meta)
  SELECT $1, event_id, trigger_id, event_key, source, type, body, meta FROM accepted
), runs AS (
  INSERT INTO run (workspace_id, id, workflow_id, version_id, event_id, trigger_name, subject, settings, depth,
    trace_parent, origin_id, origin_how)
  SELECT $1, run_id, workflow_id, version_id, event_id, trigger_name, subject, nullif(settings, '{{}}'), depth,
    trace_parent, origin_id, origin_how FROM accepted
), queued AS (
  INSERT INTO queue (workspace_id, run_id, workflow_id, revision, lane, held, ready_at)
  SELECT $1, run_id, workflow_id, revision, lane, CASE WHEN lane IS NOT NULL THEN 'lane' END,
    CASE WHEN lane IS NOT NULL THEN 'infinity'::timestamptz ELSE now() END FROM accepted
)
SELECT run_id FROM accepted
"""

_THERE = """
SELECT r.* FROM unnest($2::uuid[]) AS g(id) CROSS JOIN LATERAL (
  SELECT id, error FROM run WHERE workspace_id = $1 AND id = g.id OFFSET 0) AS r
"""
_FIRST = """
SELECT g.n, s.run_id FROM unnest($1::uuid[], $2::text[], $3::text[]) WITH ORDINALITY AS g(trigger_id, source, event_key, n)
CROSS JOIN LATERAL (SELECT run_id FROM seen
  WHERE workspace_id = $4 AND trigger_id = g.trigger_id AND source = g.source AND event_key = g.event_key OFFSET 0) AS s
"""
_PLACE = {"run_id": "uuid", "place": "bigint"}
_PUT = f"""
UPDATE queue q SET place = u.place FROM {arrays.rows(_PLACE, 2)} WHERE q.workspace_id = $1 AND q.run_id = u.run_id
"""


async def accept(connection: asyncpg.Connection, workspace: int, runs: list[NewRun], turn: int = 0) -> list[Receipt]:
    """Write new runs in one commit; the receipts stand in the same order. `turn` is a number by which `settled` can
    wait for this commit."""
    lined = {r.run_id: r for r in runs if r.policy != "free" and r.subject is not None}
    columns = {name: [getattr(r, name, None) for r in runs] for name in _GIVEN}
    pile = artifacts.Pile()
    columns["body"] = [pile.place(r.event_id, r.body) for r in runs]
    columns["lane"] = [r.subject if r.run_id in lined else None for r in runs]
    given = arrays.given(_GIVEN, columns.values())
    dropped: set[UUID] = set()
    held = [(r.run_id, file) for r in runs for file in files.named(r.body)]
    if lined or pile or held:
        async with connection.transaction():
            if pile:
                await pile.write(connection, workspace)
            accepted = {row["run_id"] for row in await connection.fetch(_ACCEPT, workspace, turn, *given)}
            entering = [r for r in runs if r.run_id in lined and r.run_id in accepted]
            dropped = await _into_lanes(connection, workspace, entering)
            await files.refer(connection, workspace, [one for one in held if one[0] in accepted])
    else:
        accepted = {row["run_id"] for row in await connection.fetch(_ACCEPT, workspace, turn, *given)}
    return await _receipts(connection, workspace, runs, accepted, dropped)


async def settled(
    connection: asyncpg.Connection, workspace: int, runs: list[NewRun], turn: int
) -> list[Receipt] | None:
    """The receipts of a batch whose commit was cut off, if it is in the database; None when it is not and will not be.
    A commit that is still under way is waited for."""
    async with connection.transaction():
        await connection.execute("SELECT pg_advisory_xact_lock($1)", turn)
        there = await connection.fetch(_THERE, workspace, [r.run_id for r in runs])
    if not there:
        return None
    dropped = {row["id"] for row in there if row["error"] == values.dumps(DROPPED)}
    return await _receipts(connection, workspace, runs, {row["id"] for row in there}, dropped)


async def _receipts(
    connection: asyncpg.Connection, workspace: int, runs: list[NewRun], accepted: set[UUID], dropped: set[UUID]
) -> list[Receipt]:
    """What became of each: an id that came before is a duplicate, also where the version is not on any more."""
    rest = [r for r in runs if r.run_id not in accepted]
    first: dict[UUID, UUID] = {}
    if rest:
        found = await connection.fetch(
            _FIRST,
            [r.trigger_id or r.workflow_id for r in rest],
            [r.source for r in rest],
            [r.event_key for r in rest],
            workspace,
        )
        first = {rest[row["n"] - 1].run_id: row["run_id"] for row in found}
    return [
        Receipt("dropped" if run.run_id in dropped else "accepted", run.run_id)
        if run.run_id in accepted
        else Receipt("duplicate", first[run.run_id])
        if run.keyed and run.run_id in first
        else Receipt("stale", run.run_id)
        for run in runs
    ]


async def _into_lanes(connection: asyncpg.Connection, workspace: int, runs: list[NewRun]) -> set[UUID]:
    """Give each run its place behind those of its subject that are not over; returns those that are dropped."""
    if not runs:
        return set()
    by_lane: dict[lanes.Lane, list[NewRun]] = defaultdict(list)
    for run in runs:
        by_lane[run.workflow_id, run.subject or ""].append(run)
    entered = await lanes.enter(connection, workspace, [lane for lane, some in by_lane.items() for _ in some])
    places: dict[UUID, int] = {}
    dropped: list[UUID] = []
    for lane, some in by_lane.items():
        open_, tail = entered[lane]
        busy = open_ > len(some)
        for index, run in enumerate(some):
            places[run.run_id] = tail - len(some) + index + 1
            if run.policy == "drop" and (busy or index):
                dropped.append(run.run_id)
    await connection.execute(_PUT, workspace, *arrays.given(_PLACE, (list(places), list(places.values()))))
    for run_id in dropped:
        await ending.finish(connection, workspace, run_id, "cancelled", DROPPED)
    for lane, some in by_lane.items():
        if some[-1].policy == "replace":
            await _replace(connection, workspace, lane, places[some[-1].run_id])
    await lanes.go_on(connection, workspace, list(by_lane))
    return set(dropped)


async def _replace(connection: asyncpg.Connection, workspace: int, lane: lanes.Lane, place: int) -> None:
    """The runs before a place: those that have not begun are over, the others are asked to end."""
    before = await connection.fetch(
        "SELECT run_id, held = 'lane' AS waits FROM queue WHERE workspace_id = $1 AND workflow_id = $2 AND lane = $3 AND place < $4 "
        "ORDER BY place",
        workspace,
        *lane,
        place,
    )
    for row in before:
        if row["waits"]:
            await ending.finish(connection, workspace, row["run_id"], "cancelled", REPLACED)
    await cancelling.mark_cancelled(connection, workspace, [row["run_id"] for row in before if not row["waits"]])


async def backlog(connection: AsyncConnection, workspace: int, most: int) -> bool:
    """Whether more than so many runs are ready and nobody walks them."""
    statement = text(
        "SELECT count(*) > :most FROM (SELECT FROM queue WHERE workspace_id = :w AND worker_id IS NULL AND ready_at <= clock_timestamp() "
        "LIMIT :most + 1) AS ready"
    )
    return bool((await connection.execute(statement, {"w": workspace, "most": most})).scalar())
