"""The journal: entries of many runs in one statement and one commit, fenced by the worker's lease."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.store import artifacts, lanes, local, usage
from oak_relay.store.local import EntryRow


class Fenced(Exception):
    """The worker's lease is over: nothing was written and nothing may be."""


@dataclass(frozen=True, slots=True)
class EndRow:
    """The end of a run. `parent` is the run that waits for it, with the path there and what it is told;
    `opened` says that something may still be open that the run asked of others."""

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
    workflow: str
    depth: int
    lane: tuple[UUID, str] | None = None
    parent: tuple[UUID, str] | None = None
    told: tuple[str, bytes | None] | None = None
    opened: bool = False


@dataclass(frozen=True, slots=True)
class RestRow:
    """A run goes to rest until the first of its wakes, unless something woke it since it was claimed."""

    run_id: UUID
    wakes: tuple[tuple[str, datetime | None], ...]
    known_wakes: int
    worked: float
    tokens_in: int
    tokens_out: int
    money: str
    steps: int = 0
    attempts: int = 0


@dataclass(slots=True)
class Batch:
    """What one commit writes."""

    entries: list[EntryRow] = field(default_factory=list)
    ends: list[EndRow] = field(default_factory=list)
    rests: list[RestRow] = field(default_factory=list)

    @property
    def plain(self) -> bool:
        """Whether one statement writes it all."""
        return not (
            self.rests
            or any(e.used or (e.effect is not None and e.effect[0] != "table.add") for e in self.entries)
            or any(e.lane or e.parent or e.opened for e in self.ends)
        )


_LEASE = "SELECT id FROM worker WHERE id = $1 AND dead_at IS NULL AND lease_until > clock_timestamp() FOR SHARE"

_ENTRIES = f"""
WITH lease AS MATERIALIZED ({_LEASE}),
entries AS (
  INSERT INTO journal (workspace_id, run_id, seq, path, kind, attempt, hash, body, detail, sealed, started_at, at,
    scope, steps, attempts, tokens_in, tokens_out, money, worker_id)
  SELECT $2, u.run_id, u.seq, u.path, u.kind, u.attempt, u.hash, u.body, u.detail, u.sealed, u.started_at, u.at, u.scope,
    u.steps, u.attempts, u.tokens_in, u.tokens_out, u.money::numeric, lease.id
  FROM lease, unnest($3::uuid[], $4::int[], $5::text[], $6::text[], $7::int[], $8::text[], $9::text[], $10::text[],
    $11::bytea[], $12::timestamptz[], $13::timestamptz[], $14::text[], $15::int[], $16::int[], $17::bigint[], $18::bigint[],
    $19::text[]) AS u(run_id, seq, path, kind, attempt, hash, body, detail, sealed, started_at, at, scope, steps, attempts,
    tokens_in, tokens_out, money)
)"""
_ADDS = """, defs AS MATERIALIZED (
  SELECT id, name, searched FROM table_def WHERE workspace_id = $2 AND id = ANY($20::uuid[]) FOR KEY SHARE
), rows AS (
  INSERT INTO table_row (workspace_id, table_id, id, data, searched)
  SELECT $2, u.*, defs.searched FROM lease, unnest($20::uuid[], $21::uuid[], $22::text[]::jsonb[]) AS u(table_id, id, data)
  LEFT JOIN defs ON defs.id = u.table_id
), told AS (
  INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth)
  SELECT $2, u.id, 'table', u.table_id::text, '/tables/' || defs.name, u.id::text,
    jsonb_build_object('change', 'insert', 'table', defs.name, 'id', u.id, 'row', u.data)::text, u.depth
  FROM lease, unnest($20::uuid[], $21::uuid[], $22::text[]::jsonb[], $23::int[]) AS u(table_id, id, data, depth)
  JOIN defs ON defs.id = u.table_id
  WHERE EXISTS (SELECT FROM trigger t WHERE t.workspace_id = $2 AND t.kind = 'table' AND t.topic = u.table_id::text)
)"""
_ENDS = """, ending AS MATERIALIZED (
  SELECT * FROM unnest($24::uuid[], $25::text[], $26::text[], $27::text[], $28::text[], $29::bytea[], $30::bigint[],
    $31::bigint[], $32::text[], $33::int[], $34::int[], $35::text[], $36::int[])
  AS u(id, state, result, error, error_kind, sealed, tokens_in, tokens_out, money, steps, attempts, workflow, depth)
), gone AS (
  DELETE FROM queue q USING lease, ending u
  WHERE q.workspace_id = $2 AND q.run_id = u.id AND q.worker_id = lease.id RETURNING q.run_id
), ended AS (
  UPDATE run r SET state = u.state, result = u.result, error = u.error, error_kind = u.error_kind,
    sealed = coalesce(u.sealed, r.sealed), tokens_in = u.tokens_in, tokens_out = u.tokens_out, money = u.money::numeric,
    steps = u.steps, attempts = u.attempts, ended_at = clock_timestamp()
  FROM gone, ending u WHERE gone.run_id = u.id AND r.workspace_id = $2 AND r.id = u.id
), after AS (
  INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth, run_id)
  SELECT $2, u.id, 'run', u.workflow, '/runs/' || u.id, u.id::text, json_build_object('run', u.id, 'workflow', u.workflow,
    'state', u.state, 'result', CASE WHEN u.result LIKE '@%' THEN json_build_object('apart', u.result) ELSE u.result::json END,
    'error', u.error::json, 'large', u.result LIKE '@%')::text, u.depth, u.id
  FROM gone JOIN ending u ON gone.run_id = u.id
  WHERE EXISTS (SELECT FROM trigger t WHERE t.workspace_id = $2 AND t.kind = 'after' AND t.topic = u.workflow)
  ON CONFLICT DO NOTHING
)"""

_REST = """
WITH given AS (
  SELECT * FROM unnest($2::uuid[], $3::timestamptz[], $4::int[], $5::float8[], $6::bigint[], $7::bigint[], $8::text[],
    $13::int[], $14::int[]) AS u(id, until, wakes, worked, tokens_in, tokens_out, money, steps, attempts)
), rested AS (
  UPDATE queue q SET worker_id = NULL, worked = u.worked::numeric, deaths = 0, alone = 0,
    ready_at = CASE WHEN q.wakes = u.wakes THEN coalesce(u.until, 'infinity') ELSE clock_timestamp() END
  FROM given u WHERE q.workspace_id = $1 AND q.run_id = u.id AND q.worker_id = $9 RETURNING q.run_id
), woken AS (
  INSERT INTO wake (workspace_id, run_id, path, at)
  SELECT $1, w.* FROM unnest($10::uuid[], $11::text[], $12::timestamptz[]) AS w(run_id, path, at)
  WHERE w.run_id IN (SELECT run_id FROM rested) ON CONFLICT (workspace_id, run_id, path) DO UPDATE SET at = excluded.at
)
UPDATE run r SET state = 'waiting', tokens_in = u.tokens_in, tokens_out = u.tokens_out, money = u.money::numeric,
  steps = u.steps, attempts = u.attempts
FROM given u, rested d WHERE d.run_id = u.id AND r.workspace_id = $1 AND r.id = u.id
"""

_SIGNAL = """
WITH given AS (
  SELECT * FROM unnest($2::uuid[], $3::text[], $4::text[], $5::bytea[]) AS u(run_id, path, body, sealed)
), told AS (
  INSERT INTO signal (workspace_id, run_id, path, body, sealed)
  SELECT $1, g.* FROM given g WHERE EXISTS (SELECT FROM queue q WHERE q.workspace_id = $1 AND q.run_id = g.run_id)
  ON CONFLICT DO NOTHING RETURNING run_id
)
UPDATE queue q SET wakes = wakes + 1,
  ready_at = CASE WHEN worker_id IS NULL AND held IS NULL THEN clock_timestamp() ELSE ready_at END
WHERE q.workspace_id = $1 AND q.run_id IN (SELECT run_id FROM told)
"""


async def write(connection: asyncpg.Connection, workspace: int, worker_id: UUID, batch: Batch) -> None:
    """Write a batch in one commit. Raises `Fenced`; database errors come as they are and nothing is written."""
    pile = artifacts.Pile()
    statement, columns = _statement(workspace, batch, pile)
    if batch.plain and not pile:
        if await connection.fetchval(statement, worker_id, *columns) is None:
            raise Fenced
        return
    effects = [row for row in batch.entries if row.effect and row.effect[0] != "table.add"]
    async with connection.transaction():
        if await connection.fetchval(_LEASE, worker_id) is None:
            raise Fenced
        await _lock(connection, workspace, batch)
        await local.apply(connection, workspace, effects)
        if effects:
            statement, columns = _statement(workspace, batch, pile)
        if pile:
            await pile.write(connection, workspace)
        if used := [row.used for row in batch.entries if row.used]:
            await usage.write(connection, workspace, used)
        if await connection.fetchval(statement, worker_id, *columns) is None:
            raise Fenced
        await _settle(connection, workspace, batch.ends)
        if batch.rests:
            await _rest(connection, workspace, worker_id, batch.rests)


async def signal(
    connection: asyncpg.Connection, workspace: int, given: Sequence[tuple[UUID, str, str, bytes | None]]
) -> None:
    """Bring something to runs that wait for it: run, path, body, sealed. The first for a path counts."""
    ordered = sorted(given, key=lambda g: (g[0], g[1]))
    await connection.execute(_SIGNAL, workspace, *(list(column) for column in zip(*ordered, strict=True)))


async def landed(connection: asyncpg.Connection, workspace: int, worker_id: UUID, batch: Batch) -> bool:
    """Whether a batch whose commit was cut off is in the database; if so, results of effects are read back."""
    if batch.entries:
        rows = await connection.fetch(
            "SELECT j.run_id, j.seq, j.body, j.sealed FROM journal j "
            "JOIN unnest($2::uuid[], $3::int[]) AS u(run_id, seq) USING (run_id, seq) WHERE j.workspace_id = $1",
            workspace,
            [e.run_id for e in batch.entries],
            [e.seq for e in batch.entries],
        )
        apart = await artifacts.whole(connection, workspace, (row["body"] for row in rows))
        found = {(row["run_id"], row["seq"]): row for row in rows}
        for entry in batch.entries:
            if (entry.run_id, entry.seq) in found and entry.effect:
                text = found[entry.run_id, entry.seq]["body"]
                entry.body = apart.get(text, text)
                entry.sealed = found[entry.run_id, entry.seq]["sealed"]
        return bool(found)
    ids = [e.run_id for e in batch.ends] + [r.run_id for r in batch.rests]
    held = await connection.fetchval(
        "SELECT count(*) FROM queue WHERE workspace_id = $1 AND run_id = ANY($2::uuid[]) AND worker_id = $3",
        workspace,
        ids,
        worker_id,
    )
    return not held


_LOAD = """
SELECT run_id, seq, path, kind, attempt, hash, body, detail, sealed, started_at, at
FROM journal j WHERE workspace_id = $1 AND run_id = ANY($2::uuid[]) AND (scope = '' OR NOT EXISTS (
  SELECT FROM journal c WHERE c.workspace_id = $1 AND c.run_id = j.run_id AND c.kind = 'closed' AND c.path = j.scope || '#end'))
ORDER BY run_id, seq
"""
_SUMS = """
SELECT run_id, max(seq) + 1 AS seq, sum(steps) AS steps, sum(attempts) AS attempts,
  coalesce(sum(tokens_in), 0) AS tokens_in, coalesce(sum(tokens_out), 0) AS tokens_out, coalesce(sum(money), 0) AS money
FROM journal WHERE workspace_id = $1 AND run_id = ANY($2::uuid[]) GROUP BY run_id
"""


@dataclass(slots=True)
class Recorded:
    """What is recorded of a run: its entries in open scopes, sums over all of them, and what has arrived."""

    entries: list[Mapping[str, Any]] = field(default_factory=list)
    sums: asyncpg.Record | None = None
    signals: list[asyncpg.Record] = field(default_factory=list)


async def load(connection: asyncpg.Connection, workspace: int, run_ids: Sequence[UUID]) -> dict[UUID, Recorded]:
    """What is recorded of runs; entries in order. Those inside finished items and rounds are left out."""
    found = {run_id: Recorded() for run_id in run_ids}
    given = workspace, list(run_ids)
    rows = await connection.fetch(_LOAD, *given)
    # Of an attempt that began, what it was asked is needed too.
    apart = await artifacts.whole(
        connection,
        workspace,
        (text for row in rows for text in (row["body"], row["detail"] if row["kind"] == "began" else None)),
    )
    for row in rows:
        found[row["run_id"]].entries.append(artifacts.filled(row, apart, "body", "detail"))
    for row in await connection.fetch(_SUMS, *given):
        found[row["run_id"]].sums = row
    for row in await signals(connection, workspace, run_ids):
        found[row["run_id"]].signals.append(row)
    return found


async def signals(connection: asyncpg.Connection, workspace: int, run_ids: Sequence[UUID]) -> list[asyncpg.Record]:
    """What has arrived for runs."""
    return await connection.fetch(
        "SELECT run_id, path, body, sealed FROM signal WHERE workspace_id = $1 AND run_id = ANY($2::uuid[])",
        workspace,
        list(run_ids),
    )


_ENTRY_COLUMNS = (
    "run_id", "seq", "path", "kind", "attempt", "hash", "body", "detail", "sealed", "started", "at", "scope", "steps",
    "attempts", "tokens_in", "tokens_out", "money",
)  # fmt: skip
_ENTRY_TEXTS = tuple(_ENTRY_COLUMNS.index(name) + 1 for name in ("body", "detail"))
_END_COLUMNS = (
    "run_id", "state", "result", "error", "error_kind", "sealed", "tokens_in", "tokens_out", "money", "steps",
    "attempts", "workflow", "depth",
)  # fmt: skip

_END_RESULT = 1 + len(_ENTRY_COLUMNS) + 4 + _END_COLUMNS.index("result")


def _statement(workspace: int, batch: Batch, pile: artifacts.Pile) -> tuple[str, list[Any]]:
    """The statement that a batch needs, and its arguments behind the worker's id; what is large goes onto the pile."""
    columns: list[Any] = [workspace]
    columns += [[getattr(e, name) for e in batch.entries] for name in _ENTRY_COLUMNS]
    for place in _ENTRY_TEXTS:
        columns[place] = [pile.place(e.run_id, t) for e, t in zip(batch.entries, columns[place], strict=True)]
    added = [(e.effect[1], e.depth) for e in batch.entries if e.effect and e.effect[0] == "table.add"]
    if not added and not batch.ends:
        return f"{_ENTRIES} SELECT id FROM lease", columns
    columns += [[a["table"] for a, _ in added], [a["id"] for a, _ in added], [a["text"] for a, _ in added]]
    columns.append([depth for _, depth in added])
    if not batch.ends:
        return f"{_ENTRIES}{_ADDS} SELECT id FROM lease", columns
    columns += [[getattr(e, name) for e in batch.ends] for name in _END_COLUMNS]
    columns[_END_RESULT] = [pile.place(e.run_id, e.result) for e in batch.ends]
    return f"{_ENTRIES}{_ADDS}{_ENDS} SELECT id FROM lease", columns


async def _lock(connection: asyncpg.Connection, workspace: int, batch: Batch) -> None:
    """The queue rows and lanes that a batch changes, in the order of their keys, so that batches cannot block
    each other."""
    ids = (
        {e.run_id for e in batch.ends} | {e.parent[0] for e in batch.ends if e.parent} | {r.run_id for r in batch.rests}
    )
    if ids:
        await connection.execute(
            "SELECT FROM queue WHERE workspace_id = $1 AND run_id = ANY($2::uuid[]) ORDER BY run_id FOR UPDATE",
            workspace,
            list(ids),
        )
    await lanes.lock(connection, workspace, {e.lane for e in batch.ends if e.lane})


async def _settle(connection: asyncpg.Connection, workspace: int, ends: list[EndRow]) -> None:
    """What the ends of runs mean for others: what they asked for is taken back, parents are told, lanes move on."""
    opened = [e.run_id for e in ends if e.opened]
    if opened:
        await local.take_back(connection, workspace, opened)
        await local.unpin(connection, workspace, opened)
    told = [(*e.parent, *e.told) for e in ends if e.parent and e.told]
    if told:
        await signal(connection, workspace, told)
    await lanes.leave(connection, workspace, [e.lane for e in ends if e.lane])


async def _rest(connection: asyncpg.Connection, workspace: int, worker_id: UUID, rests: list[RestRow]) -> None:
    wakes = [(r.run_id, path, at) for r in rests for path, at in dict(r.wakes).items() if at is not None]
    await connection.execute(
        _REST,
        workspace,
        [r.run_id for r in rests],
        [min((at for _, at in r.wakes if at is not None), default=None) for r in rests],
        [r.known_wakes for r in rests],
        [r.worked for r in rests],
        [r.tokens_in for r in rests],
        [r.tokens_out for r in rests],
        [r.money for r in rests],
        worker_id,
        [w[0] for w in wakes],
        [w[1] for w in wakes],
        [w[2] for w in wakes],
        [r.steps for r in rests],
        [r.attempts for r in rests],
    )
