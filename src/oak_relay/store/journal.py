"""The journal: entries of many runs in one statement and one commit, fenced by the worker's lease."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID

import asyncpg
import uuid_utils.compat as uuids

from oak_relay.document import values
from oak_relay.store.tables import MAIN_WORKSPACE


class Fenced(Exception):
    """The worker's lease is over: nothing was written and nothing may be."""


@dataclass(slots=True)
class EntryRow:
    """An entry as it is stored; `effect` is a change of our own records in the same commit, whose result
    `finish_body` puts into the body."""

    run_id: UUID
    seq: int
    path: str
    kind: str
    attempt: int
    hash: str
    body: str | None
    detail: str | None
    sealed: bytes | None
    started: datetime | None
    at: datetime | None
    effect: tuple[str, dict[str, Any]] | None = None
    workflow_id: UUID | None = None
    result: Any = None
    finish_body: Any = None


@dataclass(frozen=True, slots=True)
class EndRow:
    """The end of a run."""

    run_id: UUID
    state: str
    result: str | None
    error: str | None
    error_kind: str | None
    sealed: bytes | None
    tokens_in: int
    tokens_out: int
    money: str
    steps: int
    attempts: int


@dataclass(frozen=True, slots=True)
class RestRow:
    """A run goes to rest until the first of its wakes, unless something woke it since it was claimed."""

    run_id: UUID
    wakes: tuple[tuple[str, datetime], ...]
    known_wakes: int
    worked: float
    tokens_in: int
    tokens_out: int
    money: str


@dataclass(slots=True)
class Batch:
    """What one commit writes."""

    entries: list[EntryRow] = field(default_factory=list)
    ends: list[EndRow] = field(default_factory=list)
    rests: list[RestRow] = field(default_factory=list)


_LEASE = "SELECT id FROM worker WHERE id = $1 AND dead_at IS NULL AND lease_until > clock_timestamp() FOR SHARE"

_ENTRIES = f"""
WITH lease AS MATERIALIZED ({_LEASE}),
entries AS (
  INSERT INTO journal (workspace_id, run_id, seq, path, kind, attempt, hash, body, detail, sealed, started_at, at, worker_id)
  SELECT $2, u.*, lease.id FROM lease, unnest($3::uuid[], $4::int[], $5::text[], $6::text[], $7::int[], $8::text[],
    $9::text[], $10::text[], $11::bytea[], $12::timestamptz[], $13::timestamptz[]) AS u
), defs AS MATERIALIZED (
  SELECT id, searched FROM table_def WHERE workspace_id = $2 AND id = ANY($14::uuid[]) FOR KEY SHARE
), rows AS (
  INSERT INTO table_row (workspace_id, table_id, id, data, searched)
  SELECT $2, u.*, defs.searched FROM lease, unnest($14::uuid[], $15::uuid[], $16::text[]::jsonb[]) AS u(table_id, id, data)
  LEFT JOIN defs ON defs.id = u.table_id
)"""
_ENDS = """, gone AS (
  DELETE FROM queue q USING lease, unnest($17::uuid[]) AS u(id)
  WHERE q.workspace_id = $2 AND q.run_id = u.id AND q.worker_id = lease.id RETURNING q.run_id
), ended AS (
  UPDATE run r SET state = u.state, result = u.result, error = u.error, error_kind = u.error_kind,
    sealed = coalesce(u.sealed, r.sealed), tokens_in = u.tokens_in, tokens_out = u.tokens_out, money = u.money::numeric,
    steps = u.steps, attempts = u.attempts, ended_at = clock_timestamp()
  FROM gone, unnest($17::uuid[], $18::text[], $19::text[], $20::text[], $21::text[], $22::bytea[], $23::bigint[], $24::bigint[],
    $25::text[], $26::int[], $27::int[])
    AS u(id, state, result, error, error_kind, sealed, tokens_in, tokens_out, money, steps, attempts)
  WHERE gone.run_id = u.id AND r.workspace_id = $2 AND r.id = u.id
)"""
_WRITE = f"{_ENTRIES} SELECT id FROM lease"
_END = f"{_ENTRIES}{_ENDS} SELECT id FROM lease"

_REST = """
WITH given AS (
  SELECT * FROM unnest($2::uuid[], $3::timestamptz[], $4::int[], $5::float8[], $6::bigint[], $7::bigint[], $8::text[])
    AS u(id, until, wakes, worked, tokens_in, tokens_out, money)
), rested AS (
  UPDATE queue q SET worker_id = NULL, worked = u.worked::numeric,
    ready_at = CASE WHEN q.wakes = u.wakes THEN u.until ELSE clock_timestamp() END
  FROM given u WHERE q.workspace_id = $1 AND q.run_id = u.id AND q.worker_id = $9 RETURNING q.run_id
), woken AS (
  INSERT INTO wake (workspace_id, run_id, path, at)
  SELECT $1, w.* FROM unnest($10::uuid[], $11::text[], $12::timestamptz[]) AS w(run_id, path, at)
  WHERE w.run_id IN (SELECT run_id FROM rested) ON CONFLICT (workspace_id, run_id, path) DO UPDATE SET at = excluded.at
)
UPDATE run r SET state = 'waiting', tokens_in = u.tokens_in, tokens_out = u.tokens_out, money = u.money::numeric
FROM given u, rested d WHERE d.run_id = u.id AND r.workspace_id = $1 AND r.id = u.id
"""


async def write(connection: asyncpg.Connection, worker_id: UUID, batch: Batch) -> None:
    """Write a batch in one commit. Raises `Fenced`; database errors come as they are and nothing is written."""
    effects = [row for row in batch.entries if row.effect and row.effect[0] != "table.add"]
    if not effects and not batch.rests:
        if await connection.fetchval(_statement(batch), worker_id, *_columns(batch)) is None:
            raise Fenced
        return
    async with connection.transaction():
        if await connection.fetchval(_LEASE, worker_id) is None:
            raise Fenced
        await _apply(connection, effects)
        if await connection.fetchval(_statement(batch), worker_id, *_columns(batch)) is None:
            raise Fenced
        if batch.rests:
            await _rest(connection, worker_id, batch.rests)


async def landed(connection: asyncpg.Connection, batch: Batch) -> bool:
    """Whether a batch whose commit was cut off is in the database; if so, results of effects are read back."""
    if batch.entries:
        rows = await connection.fetch(
            "SELECT j.run_id, j.seq, j.body FROM journal j JOIN unnest($2::uuid[], $3::int[]) AS u(run_id, seq) USING (run_id, seq) "
            "WHERE j.workspace_id = $1",
            MAIN_WORKSPACE,
            [e.run_id for e in batch.entries],
            [e.seq for e in batch.entries],
        )
        found = {(row["run_id"], row["seq"]): row["body"] for row in rows}
        for entry in batch.entries:
            if (entry.run_id, entry.seq) in found and entry.effect:
                entry.body = found[entry.run_id, entry.seq]
        return bool(found)
    ids = [e.run_id for e in batch.ends] + [r.run_id for r in batch.rests]
    held = await connection.fetchval(
        "SELECT count(*) FROM queue WHERE workspace_id = $1 AND run_id = ANY($2::uuid[]) AND worker_id IS NOT NULL",
        MAIN_WORKSPACE,
        ids,
    )
    return not held


_LOAD = """
SELECT run_id, seq, path, kind, attempt, hash, body, detail, sealed, started_at, at
FROM journal WHERE workspace_id = $1 AND run_id = ANY($2::uuid[]) ORDER BY run_id, seq
"""


async def load(connection: asyncpg.Connection, run_ids: Sequence[UUID]) -> dict[UUID, list[asyncpg.Record]]:
    """The entries of runs, in order."""
    found: dict[UUID, list[asyncpg.Record]] = {run_id: [] for run_id in run_ids}
    for row in await connection.fetch(_LOAD, MAIN_WORKSPACE, list(run_ids)):
        found[row["run_id"]].append(row)
    return found


def _statement(batch: Batch) -> str:
    return _END if batch.ends else _WRITE


def _columns(batch: Batch) -> list[Any]:
    entries = batch.entries
    added = [e.effect[1] for e in entries if e.effect and e.effect[0] == "table.add"]
    columns: list[Any] = [MAIN_WORKSPACE]
    for name in ("run_id", "seq", "path", "kind", "attempt", "hash", "body", "detail", "sealed", "started", "at"):
        columns.append([getattr(e, name) for e in entries])
    columns += [[a["table"] for a in added], [a["id"] for a in added], [a["text"] for a in added]]
    if batch.ends:
        for name in (
            "run_id",
            "state",
            "result",
            "error",
            "error_kind",
            "sealed",
            "tokens_in",
            "tokens_out",
            "money",
            "steps",
            "attempts",
        ):
            columns.append([getattr(e, name) for e in batch.ends])
    return columns


async def _rest(connection: asyncpg.Connection, worker_id: UUID, rests: list[RestRow]) -> None:
    wakes = [(r.run_id, path, at) for r in rests for path, at in dict(r.wakes).items()]
    await connection.execute(
        _REST,
        MAIN_WORKSPACE,
        [r.run_id for r in rests],
        [min(at for _, at in r.wakes) for r in rests],
        [r.known_wakes for r in rests],
        [r.worked for r in rests],
        [r.tokens_in for r in rests],
        [r.tokens_out for r in rests],
        [r.money for r in rests],
        worker_id,
        [w[0] for w in wakes],
        [w[1] for w in wakes],
        [w[2] for w in wakes],
    )


async def _apply(connection: asyncpg.Connection, rows: list[EntryRow]) -> None:
    """Effects with results; locks are taken in the order of their keys, so that batches cannot block each other."""
    keys = sorted({_lock_key(row) for row in rows})
    await connection.execute(
        "SELECT pg_advisory_xact_lock(hashtextextended(k, 7226302)) FROM (SELECT k FROM unnest($1::text[]) AS k ORDER BY k) AS s",
        keys,
    )
    for table_id in sorted({row.effect[1]["table"] for row in rows if row.effect and row.effect[0] == "table.upsert"}):
        await _search(connection, table_id)
    for row in rows:
        assert row.effect is not None
        op, data = row.effect
        if op == "table.upsert":
            row.result = await _upsert(connection, data)
        elif op == "once":
            row.result = await _once(connection, row, data)
        elif op == "answer":
            await connection.execute(
                "UPDATE run SET answer = coalesce(answer, $3) WHERE workspace_id = $1 AND id = $2",
                MAIN_WORKSPACE,
                row.run_id,
                data["text"],
            )
        row.body, row.sealed = row.finish_body(row.result)


def _lock_key(row: EntryRow) -> str:
    assert row.effect is not None
    op, data = row.effect
    if op == "table.upsert":
        return f"{data['table']}|{values.dumps([data['row'][c] for c in data['match']])}"
    return f"{row.run_id}" if op == "answer" else f"{row.workflow_id}|{data['step']}|{data['key']}"


_UPSERT = """
WITH target AS (
  SELECT id FROM table_row WHERE workspace_id = $1 AND table_id = $2 AND searched AND data @> $3::text::jsonb ORDER BY id LIMIT 1
), changed AS (
  UPDATE table_row t SET data = t.data || $4::text::jsonb, updated_at = now() FROM target
  WHERE t.workspace_id = $1 AND t.table_id = $2 AND t.id = target.id RETURNING t.id, t.data
), added AS (
  INSERT INTO table_row (workspace_id, table_id, id, data, searched)
  SELECT $1, $2, $5, $4::text::jsonb, true WHERE NOT EXISTS (SELECT FROM target) RETURNING id, data
)
SELECT id, data::text AS data, false AS created FROM changed UNION ALL SELECT id, data::text, true FROM added
"""


async def _search(connection: asyncpg.Connection, table_id: UUID) -> None:
    """See that a table's rows are indexed by their values. The lock waits for rows that are just being added,
    and those that come later see the mark."""
    known = await connection.fetchval(
        "SELECT searched FROM table_def WHERE workspace_id = $1 AND id = $2", MAIN_WORKSPACE, table_id
    )
    if known is False:
        await connection.execute(
            "SELECT FROM table_def WHERE workspace_id = $1 AND id = $2 FOR UPDATE", MAIN_WORKSPACE, table_id
        )
        await connection.execute(
            "UPDATE table_def SET searched = true WHERE workspace_id = $1 AND id = $2", MAIN_WORKSPACE, table_id
        )
        await connection.execute(
            "UPDATE table_row SET searched = true WHERE workspace_id = $1 AND table_id = $2 AND NOT searched",
            MAIN_WORKSPACE,
            table_id,
        )


async def _upsert(connection: asyncpg.Connection, data: dict[str, Any]) -> dict[str, Any]:
    match = values.dumps({column: data["row"][column] for column in data["match"]})
    row = await connection.fetchrow(
        _UPSERT, MAIN_WORKSPACE, data["table"], match, values.dumps(data["row"]), uuids.uuid7()
    )
    return {"id": str(row["id"]), "row": values.loads(row["data"]), "created": row["created"]}


async def _once(connection: asyncpg.Connection, row: EntryRow, data: dict[str, Any]) -> dict[str, Any]:
    holder = await connection.fetchval(
        "INSERT INTO once (workspace_id, workflow_id, step, key, run_id) VALUES ($1, $2, $3, $4, $5) "
        "ON CONFLICT (workspace_id, workflow_id, step, key) DO UPDATE SET at = once.at RETURNING run_id",
        MAIN_WORKSPACE,
        row.workflow_id,
        data["step"],
        values.storable_text(data["key"])[:400],
        row.run_id,
    )
    return {"first": holder == row.run_id, "run": str(holder)}
