"""Events in: an event, its run and its place in the queue are one statement, and an event id counts once."""

from dataclasses import dataclass
from typing import Literal
from uuid import UUID

import asyncpg

from oak_relay.store.tables import MAIN_WORKSPACE


@dataclass(frozen=True, slots=True)
class NewRun:
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
    sealed: bytes | None
    subject: str | None


@dataclass(frozen=True, slots=True)
class Receipt:
    """`accepted`, `duplicate` (then `run_id` is the first one's), or `stale`: the version is no longer live."""

    status: Literal["accepted", "duplicate", "stale"]
    run_id: UUID


_ACCEPT = """
WITH given AS (
  SELECT * FROM unnest($1::uuid[], $2::uuid[], $3::uuid[], $4::uuid[], $5::uuid[], $6::int[], $7::text[], $8::text[],
                       $9::text[], $10::text[], $11::bool[], $12::text[], $13::text[], $14::bytea[], $15::text[])
    AS g(run_id, event_id, trigger_id, workflow_id, version_id, revision, trigger_name, source,
         type, event_key, keyed, body, meta, sealed, subject)
), live AS (
  SELECT g.*, w.settings FROM given g JOIN workflow w ON w.workspace_id = $16 AND w.id = g.workflow_id
  WHERE g.trigger_id IS NULL OR EXISTS (
    SELECT FROM trigger t WHERE t.workspace_id = $16 AND t.id = g.trigger_id AND t.version_id = g.version_id)
), fresh AS (
  INSERT INTO seen (workspace_id, trigger_id, source, event_key, run_id)
  SELECT $16, coalesce(trigger_id, workflow_id), source, event_key, run_id FROM live WHERE keyed
  ON CONFLICT DO NOTHING RETURNING run_id
), accepted AS (
  SELECT * FROM live WHERE NOT keyed OR run_id IN (SELECT run_id FROM fresh)
), events AS (
  INSERT INTO event (workspace_id, id, trigger_id, event_key, source, type, body, meta, sealed)
  SELECT $16, event_id, trigger_id, event_key, source, type, body, meta, sealed FROM accepted
), runs AS (
  INSERT INTO run (workspace_id, id, workflow_id, version_id, event_id, trigger_name, subject, settings)
  SELECT $16, run_id, workflow_id, version_id, event_id, trigger_name, subject, nullif(settings, '{}') FROM accepted
), queued AS (
  INSERT INTO queue (workspace_id, run_id, workflow_id, revision)
  SELECT $16, run_id, workflow_id, revision FROM accepted
)
SELECT l.run_id, a.run_id IS NOT NULL AS accepted FROM live l LEFT JOIN accepted a USING (run_id)
"""

_FIRST = """
SELECT g.n, s.run_id FROM unnest($1::uuid[], $2::text[], $3::text[]) WITH ORDINALITY AS g(trigger_id, source, event_key, n)
JOIN seen s ON s.workspace_id = $4 AND s.trigger_id = g.trigger_id AND s.source = g.source AND s.event_key = g.event_key
"""


async def accept(connection: asyncpg.Connection, runs: list[NewRun]) -> list[Receipt]:
    """Write new runs in one commit; the receipts stand in the same order."""
    columns = list(
        zip(
            *(
                (
                    r.run_id,
                    r.event_id,
                    r.trigger_id,
                    r.workflow_id,
                    r.version_id,
                    r.revision,
                    r.trigger_name,
                    r.source,
                    r.type,
                    r.event_key,
                    r.keyed,
                    r.body,
                    r.meta,
                    r.sealed,
                    r.subject,
                )
                for r in runs
            ),
            strict=True,
        )
    )
    rows = await connection.fetch(_ACCEPT, *columns, MAIN_WORKSPACE)
    landed = {row["run_id"]: row["accepted"] for row in rows}
    twice = [r for r in runs if landed.get(r.run_id) is False]
    first: dict[UUID, UUID] = {}
    if twice:
        found = await connection.fetch(
            _FIRST,
            [r.trigger_id or r.workflow_id for r in twice],
            [r.source for r in twice],
            [r.event_key for r in twice],
            MAIN_WORKSPACE,
        )
        first = {twice[row["n"] - 1].run_id: row["run_id"] for row in found}
    return [_receipt(r.run_id, landed, first) for r in runs]


async def landed(connection: asyncpg.Connection, runs: list[NewRun]) -> bool:
    """Whether a batch whose commit was cut off is in the database."""
    count = await connection.fetchval(
        "SELECT count(*) FROM run WHERE workspace_id = $1 AND id = ANY($2::uuid[])",
        MAIN_WORKSPACE,
        [r.run_id for r in runs],
    )
    return bool(count)


def _receipt(run_id: UUID, landed: dict[UUID, bool], first: dict[UUID, UUID]) -> Receipt:
    if run_id not in landed:
        return Receipt("stale", run_id)
    if landed[run_id]:
        return Receipt("accepted", run_id)
    return Receipt("duplicate", first.get(run_id, run_id))
