"""The journal: pages of many runs in one statement and one commit, fenced by the worker's lease."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from typing import Any, NamedTuple
from uuid import UUID

import asyncpg

from oak_relay.document import values
from oak_relay.store import arrays, artifacts, cancelling, changes, ending, files, lanes, locks, pages, signals, usage
from oak_relay.store.changes import Added
from oak_relay.store.pages import EntryRow, Page, Stored


class Fenced(Exception):
    """The worker is declared dead: nothing was written and nothing may be."""


class Raised(Exception):
    """The writer's fence has another value than it knows: some of its runs may be another's now. Nothing was written."""


class EndRow(NamedTuple):
    """The end of a run. `parent` is the run that waits for it, with the path there and what it is told;
    `opened` says that something may still be open that the run asked of others."""

    run_id: UUID
    generation: int
    state: str
    result: str | None
    error: str | None
    error_kind: str | None
    tokens_in: int
    tokens_out: int
    money: Decimal
    unpriced: int
    steps: int
    attempts: int
    workflow: str
    depth: int
    started_at: datetime
    lane: tuple[UUID, str] | None = None
    parent: tuple[UUID, str] | None = None
    outcome: str | None = None
    opened: bool = False
    note: str | None = None
    child: bool = False
    """Whether another run waits for it."""


@dataclass(frozen=True, slots=True)
class RestRow:
    """A run goes to rest until the first of its wakes, unless something woke it since it was claimed."""

    run_id: UUID
    generation: int
    wakes: tuple[tuple[str, datetime | None], ...]
    known_wakes: int
    worked: float
    tokens_in: int
    tokens_out: int
    money: Decimal
    unpriced: int = 0
    steps: int = 0
    attempts: int = 0
    talks: lanes.Lane | None = None
    """The lane of a run of a conversation, which it yields where it waits for something else than who talks."""


@dataclass(frozen=True, slots=True)
class BackRow:
    """A run is given back, to be walked again after `delay` seconds. With a `reason` (an error as data) its walk broke;
    the third time it is set aside with it. Without one what held it up lies outside of it."""

    run_id: UUID
    generation: int
    delay: float = 1.0
    reason: dict[str, object] | None = None


@dataclass(slots=True)
class Batch:
    """What one commit writes; `freed` once runs may go that waited for those which it ends or lets rest."""

    pages: list[Page] = field(default_factory=list)
    ends: list[EndRow] = field(default_factory=list)
    rests: list[RestRow] = field(default_factory=list)
    backs: list[BackRow] = field(default_factory=list)
    freed: bool = False

    @property
    def simple(self) -> bool:
        """Whether one statement writes it all."""
        return not (
            self.rests
            or self.backs
            or any(e.change is not None and not isinstance(e.change, Added) for e in self.entries())
            or any(e.lane or e.parent or e.opened for e in self.ends)
        )

    def entries(self) -> Iterator[EntryRow]:
        """The entries of all pages."""
        for page in self.pages:
            yield from page.entries


_ADD = {"table_id": "uuid", "id": "uuid", "data": "text", "depth": "int"}
_END = {
    "run_id": "uuid", "generation": "int", "state": "text", "result": "text", "error": "text", "error_kind": "text", "tokens_in": "bigint",
    "tokens_out": "bigint", "money": "numeric", "unpriced": "int", "steps": "int", "attempts": "int", "workflow": "text", "depth": "int",
    "started_at": "timestamptz", "note": "text", "child": "bool",
}  # fmt: skip
_FIRST_PAGE = 4
_FIRST_ADD = _FIRST_PAGE + len(pages.COLUMNS)
_FIRST_END = _FIRST_ADD + len(_ADD)

_INTO = f"INSERT INTO journal (workspace_id, worker_id, {', '.join(pages.COLUMNS)})"
_PAGE = ", ".join(f"string_to_array(u.{name}, ' ')" if name in pages.LISTS else f"u.{name}" for name in pages.COLUMNS)
SEED = f"{_INTO} SELECT $1, NULL, {_PAGE} FROM {arrays.rows(pages.COLUMNS, 2)}"
"""Pages that a run begins with: $1 the workspace, then their columns."""

# $1 the worker, $2 the workspace, $3 the value of the fence as the writer knows it. The row is shared until the commit:
# who raises it waits, and a raise that was quicker makes this statement find nothing.
_ENTRIES = f"""
WITH fenced AS MATERIALIZED (SELECT worker_id AS id FROM fence WHERE worker_id = $1 AND value = $3 FOR SHARE),
pages AS (
  {_INTO} SELECT $2, fenced.id, {_PAGE} FROM fenced, {arrays.rows(pages.COLUMNS, _FIRST_PAGE)}
)"""
_ADDS = f""", adding AS MATERIALIZED (
  SELECT u.table_id, u.id, u.data::jsonb AS data, u.depth FROM fenced, {arrays.rows(_ADD, _FIRST_ADD)}
), defs AS MATERIALIZED (
  SELECT id, name, searched FROM table_def WHERE workspace_id = $2 AND id IN (SELECT table_id FROM adding) FOR KEY SHARE
), rows AS (
  INSERT INTO table_row (workspace_id, table_id, id, data, searched)
  SELECT $2, u.table_id, u.id, u.data, defs.searched FROM adding u LEFT JOIN defs ON defs.id = u.table_id
), told AS (
  INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth)
  SELECT $2, u.id, 'table', u.table_id::text, '/tables/' || defs.name, u.id::text,
    jsonb_build_object('change', 'insert', 'table', defs.name, 'id', u.id, 'row', u.data)::text, u.depth
  FROM adding u JOIN defs ON defs.id = u.table_id
  WHERE EXISTS (SELECT FROM trigger t WHERE t.workspace_id = $2 AND t.way = 'table' AND t.topic = u.table_id::text)
)"""


_ENDED = "state, result, error, tokens_in, tokens_out, money, unpriced, steps, attempts, started_at, note"
_ENDS = f""", gone AS (
  DELETE FROM queue q USING fenced, {arrays.rows(_END, _FIRST_END)}
  WHERE q.workspace_id = $2 AND q.run_id = u.run_id AND q.worker_id IS NOT DISTINCT FROM fenced.id AND q.generation = u.generation
  RETURNING q.workspace_id, u.*
), ended AS (
  UPDATE run r SET ({_ENDED}, ended_at) = ROW (g.{_ENDED.replace(", ", ", g.")}, clock_timestamp())
  FROM gone g WHERE r.workspace_id = g.workspace_id AND r.id = g.run_id
  RETURNING r.id, r.state, r.origin_id
), done_again AS (
  SELECT id, origin_id FROM ended WHERE state = 'succeeded' AND origin_id IS NOT NULL
), mended AS (
  UPDATE failure f SET mended_by = m.id FROM (
    WITH RECURSIVE before AS (
      SELECT id, origin_id FROM done_again
      UNION SELECT b.id, r.origin_id FROM before b CROSS JOIN LATERAL (
        SELECT origin_id FROM run WHERE workspace_id = $2 AND id = b.origin_id OFFSET 0) AS r WHERE r.origin_id IS NOT NULL
    ) SELECT id, origin_id FROM before
  ) AS m WHERE f.workspace_id = $2 AND f.run_id = m.origin_id AND f.mended_by IS NULL
), failed AS (
  INSERT INTO failure (workspace_id, run_id, state, error_kind)
  SELECT $2, u.run_id, u.state, coalesce(u.error_kind, '') FROM gone u WHERE u.state <> 'succeeded'
), after AS (
  INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth, run_id)
  SELECT $2, u.run_id, 'run', u.workflow, '/runs/' || u.run_id, u.run_id::text, json_build_object('run', u.run_id,
    'workflow', u.workflow, 'state', u.state, 'result', CASE WHEN u.result LIKE '@%' THEN json_build_object('apart', u.result)
    ELSE u.result::json END, 'error', u.error::json, 'child', u.child, 'large', u.result LIKE '@%')::text, u.depth, u.run_id
  FROM gone u
  WHERE EXISTS (SELECT FROM trigger t WHERE t.workspace_id = $2 AND t.way = 'run' AND
    (t.topic = u.workflow OR (t.topic = '*' AND NOT u.child AND u.workflow <> '')))
  ON CONFLICT DO NOTHING
)"""


def _spends(first: int) -> str:
    return f", spends AS ({usage.INTO} SELECT $2, u.* FROM fenced, {arrays.rows(usage.COLUMNS, first)})"


_PARTS = (
    (_ENTRIES, _FIRST_ADD),
    (f"{_ENTRIES}{_ADDS}", _FIRST_END),
    (f"{_ENTRIES}{_ADDS}{_ENDS}", _FIRST_END + len(_END)),
)
_WRITE, _WRITE_ROWS, _WRITE_ENDS = (
    (f"{parts} SELECT id FROM fenced", f"{parts}{_spends(first)} SELECT id FROM fenced") for parts, first in _PARTS
)
"""Each without and with what calls used."""

_RESTED = {
    "id": "uuid", "until": "timestamptz", "wakes": "int", "worked": "float8", "tokens_in": "bigint", "tokens_out": "bigint",
    "money": "numeric", "steps": "int", "attempts": "int", "unpriced": "int", "generation": "int",
}  # fmt: skip
_WAKE = {"run_id": "uuid", "path": "text", "at": "timestamptz"}
_FIRST_WAKE = 3 + len(_RESTED)
_REST = f"""
WITH rested AS (
  UPDATE queue q SET worker_id = NULL, generation = q.generation + 1, worked = u.worked::numeric, deaths = 0, alone = 0,
    ready_at = CASE WHEN q.wakes = u.wakes THEN coalesce(u.until, 'infinity') ELSE clock_timestamp() END
  FROM {arrays.rows(_RESTED, 3)} WHERE q.workspace_id = $1 AND q.run_id = u.id AND q.worker_id IS NOT DISTINCT FROM $2::uuid
    AND q.generation = u.generation RETURNING q.workspace_id, u.*
), woken AS (
  INSERT INTO wake (workspace_id, run_id, path, at)
  SELECT $1, u.* FROM {arrays.rows(_WAKE, _FIRST_WAKE)}
  WHERE u.run_id IN (SELECT id FROM rested) ON CONFLICT (workspace_id, run_id, path) DO UPDATE SET at = excluded.at
)
UPDATE run r SET (tokens_in, tokens_out, money, steps, attempts, unpriced) =
  ROW (g.tokens_in, g.tokens_out, g.money, g.steps, g.attempts, g.unpriced)
FROM rested g WHERE r.workspace_id = g.workspace_id AND r.id = g.id
"""

_YIELD = """
UPDATE queue q SET lane = NULL FROM unnest($2::uuid[], $3::text[]) AS u(run_id, lane)
WHERE q.workspace_id = $1 AND q.run_id = u.run_id AND q.lane = u.lane AND q.worker_id IS NULL
  AND NOT EXISTS (SELECT FROM question a WHERE a.workspace_id = $1 AND a.run_id = q.run_id AND a.state = 'open' AND a.conversation_id IS NOT NULL)
  AND (q.ready_at > clock_timestamp() + interval '1 minute' AND q.ready_at < 'infinity'
    OR EXISTS (SELECT FROM question a WHERE a.workspace_id = $1 AND a.run_id = q.run_id AND a.state = 'open')
    OR EXISTS (SELECT FROM listener l WHERE l.workspace_id = $1 AND l.run_id = q.run_id))
RETURNING q.workflow_id, u.lane
"""

_GIVEN_BACK = {"run_id": "uuid", "delay": "float8", "broke": "bool", "generation": "int"}
_BACK = f"""
UPDATE queue q SET worker_id = NULL, generation = q.generation + 1,
  ready_at = clock_timestamp() + make_interval(secs => u.delay * CASE WHEN u.broke THEN 2 ^ q.deaths ELSE 1 END),
  deaths = q.deaths + u.broke::int
FROM {arrays.rows(_GIVEN_BACK, 3)}
WHERE q.workspace_id = $1 AND q.run_id = u.run_id AND q.worker_id IS NOT DISTINCT FROM $2::uuid AND q.generation = u.generation
RETURNING q.run_id, q.deaths
"""


_GROUND = f"""
WITH fenced AS MATERIALIZED (SELECT worker_id FROM fence WHERE worker_id = $1 AND value = $2 FOR SHARE)
SELECT had.* FROM fenced LEFT JOIN LATERAL ({locks.having(3)}) AS had ON true
"""
"""The fence first, and then what is to be locked before anything else; no row where the fence was raised."""


async def write(connection: asyncpg.Connection, workspace: int, worker_id: UUID, fence: int, batch: Batch) -> None:
    """Write a batch in one commit, if the writer's fence has the value it knows. Raises `Raised`; database errors come as
    they are and nothing is written."""
    pile = artifacts.Pile()
    statement, columns = _statement(batch, pile)
    held = [(page.run_id, file) for page in batch.pages for e in page.entries for file in files.named(e.body or "")]
    if batch.simple and not pile and not held:
        if await connection.fetchval(statement, worker_id, workspace, fence, *columns) is None:
            raise Raised
        return
    applied = [row for row in batch.entries() if row.change is not None and not isinstance(row.change, Added)]
    async with connection.transaction():
        if not await connection.fetch(_GROUND, worker_id, fence, changes.conversations(applied)):
            raise Raised
        await _lock(connection, workspace, batch)
        await changes.apply(connection, workspace, applied)
        if applied:
            statement, columns = _statement(batch, pile)
        if pile:
            await pile.write(connection, workspace)
        await files.refer(connection, workspace, held)
        await connection.fetchval(statement, worker_id, workspace, fence, *columns)
        if held:
            for row in batch.entries():
                if isinstance(row.change, Added):
                    await files.hold_for_rows(
                        connection, workspace, row.change.table, [(row.change.id, row.change.text)]
                    )
        batch.freed = await _settle(connection, workspace, batch.ends)
        if batch.rests:
            batch.freed |= await _rest(connection, workspace, worker_id, batch.rests)
        if batch.backs:
            await _give_back(connection, workspace, worker_id, batch.backs)


_WRITTEN = {"run_id": "uuid", "page": "int", "generation": "int"}
_LANDED = f"""
SELECT j.run_id, j.page, j.scope, j.worker_id, j.entries, NULL AS details
FROM {arrays.rows(_WRITTEN, 3)} CROSS JOIN LATERAL (
  SELECT * FROM journal WHERE workspace_id = $1 AND run_id = u.run_id AND page = u.page OFFSET 0) AS j
WHERE j.worker_id = $2 AND j.generation = u.generation
"""


async def landed(connection: asyncpg.Connection, workspace: int, worker_id: UUID, batch: Batch) -> bool:
    """Whether a batch whose commit was cut off is in the database; if so, results of effects are read back. A commit
    that is still under way is waited for: it shares the fence, which is locked here. A page of a number is written
    under one claim once, so its number and the claim's generation tell it from any other."""
    async with connection.transaction():
        await connection.execute("SELECT FROM fence WHERE worker_id = $1 FOR UPDATE", worker_id)
        if not batch.pages:
            return not await _still_here(connection, workspace, worker_id, batch)
        columns = [[getattr(page, name) for page in batch.pages] for name in ("run_id", "number", "generation")]
        rows = await connection.fetch(_LANDED, workspace, worker_id, *arrays.given(_WRITTEN, columns))
    found = {(row["run_id"], row["page"]): pages.entries_of(row) for row in rows}
    for page in batch.pages:
        if any(entry.change for entry in page.entries) and (page.run_id, page.number) in found:
            stored = found[page.run_id, page.number]
            await pages.fill(connection, workspace, stored)
            for entry, there in zip(page.entries, stored, strict=True):
                if entry.change:
                    entry.body = values.dumps(there.body)
    return bool(found)


async def _still_here(connection: asyncpg.Connection, workspace: int, worker_id: UUID, batch: Batch) -> bool:
    """Whether runs that a batch takes out of this worker's hands are still in them, under the same claim."""
    over: list[EndRow | RestRow | BackRow] = [*batch.ends, *batch.rests, *batch.backs]
    return bool(
        await connection.fetchval(
            "SELECT EXISTS (SELECT FROM queue q JOIN unnest($2::uuid[], $3::int[]) AS u(run_id, generation) "
            "USING (run_id, generation) WHERE q.workspace_id = $1 AND q.worker_id = $4)",
            workspace,
            [row.run_id for row in over],
            [row.generation for row in over],
            worker_id,
        )
    )


async def owned(connection: asyncpg.Connection, workspace: int, worker_id: UUID) -> tuple[int, dict[UUID, int]]:
    """The value of a writer's fence, and the runs that are its own under it with their generations. Raises `Fenced`
    when the worker is declared dead."""
    async with connection.transaction():
        value = await connection.fetchval("SELECT value FROM fence WHERE worker_id = $1 FOR SHARE", worker_id)
        if value is None:
            raise Fenced
        rows = await connection.fetch(
            "SELECT run_id, generation FROM queue WHERE workspace_id = $1 AND worker_id = $2", workspace, worker_id
        )
    return value, {row["run_id"]: row["generation"] for row in rows}


_LOAD = """
WITH closed AS MATERIALIZED (
  SELECT g.run_id, unnest(j.closes) AS scope FROM unnest($2::uuid[]) AS g(run_id) CROSS JOIN LATERAL (
    SELECT closes FROM journal WHERE workspace_id = $1 AND run_id = g.run_id AND closes IS NOT NULL OFFSET 0) AS j
)
SELECT j.run_id, j.page, j.scope, j.worker_id, j.entries, CASE WHEN j.entries LIKE '%,"began",%' THEN j.details END AS details
FROM unnest($2::uuid[]) AS g(run_id) CROSS JOIN LATERAL (
  SELECT * FROM journal WHERE workspace_id = $1 AND run_id = g.run_id OFFSET 0) AS j
LEFT JOIN closed c ON c.run_id = j.run_id AND c.scope = j.scope
WHERE c.scope IS NULL ORDER BY j.run_id, j.page
"""
_SUMS = """
SELECT g.run_id, s.* FROM unnest($2::uuid[]) AS g(run_id) CROSS JOIN LATERAL (
  SELECT max(page) + 1 AS pages, sum(steps) AS steps, sum(attempts) AS attempts, sum(tokens_in) AS tokens_in,
    sum(tokens_out) AS tokens_out, coalesce(sum(money), 0) AS money, sum(unpriced) AS unpriced
  FROM (SELECT * FROM journal WHERE workspace_id = $1 AND run_id = g.run_id OFFSET 0) AS mine) AS s
WHERE s.pages IS NOT NULL
"""


@dataclass(slots=True)
class Recorded:
    """What is recorded of a run: its entries in open scopes, sums over all of them and the number of its pages, and what
    has arrived."""

    entries: list[Stored] = field(default_factory=list)
    sums: asyncpg.Record | None = None
    signals: list[asyncpg.Record] = field(default_factory=list)


async def load(connection: asyncpg.Connection, workspace: int, run_ids: Sequence[UUID]) -> dict[UUID, Recorded]:
    """What is recorded of runs; entries in order. Those inside finished items and rounds are left out; details are there
    only of pages in which an attempt began, for it is needed what that was asked."""
    found = {run_id: Recorded() for run_id in run_ids}
    given = workspace, list(run_ids)
    for row in await connection.fetch(_LOAD, *given):
        found[row["run_id"]].entries += pages.entries_of(row)
    await pages.fill(connection, workspace, (entry for recorded in found.values() for entry in recorded.entries))
    for row in await connection.fetch(_SUMS, *given):
        found[row["run_id"]].sums = row
    for row in await signals.of(connection, workspace, run_ids):
        found[row["run_id"]].signals.append(row)
    return found


def _statement(batch: Batch, pile: artifacts.Pile) -> tuple[str, list[Any]]:
    """The statement that a batch needs, and its arguments behind worker, workspace and fence; what is large goes onto the
    pile."""
    given = arrays.given(pages.COLUMNS, pages.columns(batch.pages, pile))
    added: list[tuple[UUID, UUID, str, int]] = []
    for entry in batch.entries():
        change = entry.change
        if isinstance(change, Added):
            added.append((change.table, change.id, change.text, entry.depth))
    spent = [(page.run_id, page.place(n), e.used) for page in batch.pages for n, e in enumerate(page.entries) if e.used]
    used, with_used = usage.columns(spent) if spent else [], int(bool(spent))
    if not added and not batch.ends:
        return _WRITE[with_used], [*given, *used]
    given += arrays.given(_ADD, zip(*added, strict=True) if added else [()] * len(_ADD))
    if not batch.ends:
        return _WRITE_ROWS[with_used], [*given, *used]
    ends = {name: [getattr(e, name) for e in batch.ends] for name in _END}
    ends["result"] = [pile.place(e.run_id, e.result) for e in batch.ends]
    return _WRITE_ENDS[with_used], [*given, *arrays.given(_END, ends.values()), *used]


async def _lock(connection: asyncpg.Connection, workspace: int, batch: Batch) -> None:
    """The queue rows and lanes that a batch changes, in the order of their keys, so that batches cannot block
    each other."""
    ids = (
        {e.run_id for e in batch.ends}
        | {e.parent[0] for e in batch.ends if e.parent}
        | {r.run_id for r in batch.rests}
        | {b.run_id for b in batch.backs}
    )
    if ids:
        await connection.execute(
            "SELECT FROM queue WHERE workspace_id = $1 AND run_id = ANY($2::uuid[]) ORDER BY run_id FOR UPDATE",
            workspace,
            list(ids),
        )
    resting = {r.talks for r in batch.rests if r.talks}
    await lanes.lock(connection, workspace, {e.lane for e in batch.ends if e.lane} | resting)


async def _settle(connection: asyncpg.Connection, workspace: int, ends: list[EndRow]) -> bool:
    """What the ends of runs mean for others: what they asked for is taken back, parents are told, lanes move on. Whether one
    may go that waited in a lane."""
    opened = [e.run_id for e in ends if e.opened]
    if opened:
        await cancelling.take_back(connection, workspace, opened)
        await cancelling.unpin(connection, workspace, opened)
    outcomes = [(*e.parent, e.outcome) for e in ends if e.parent and e.outcome]
    if outcomes:
        await signals.bring(connection, workspace, outcomes)
    return await lanes.leave(connection, workspace, [e.lane for e in ends if e.lane])


async def _rest(connection: asyncpg.Connection, workspace: int, worker_id: UUID, rests: list[RestRow]) -> bool:
    wakes = [(r.run_id, path, at) for r in rests for path, at in dict(r.wakes).items() if at is not None]
    rested = zip(
        *(
            (
                r.run_id, min((at for _, at in r.wakes if at is not None), default=None), r.known_wakes, r.worked, r.tokens_in,
                r.tokens_out, r.money, r.steps, r.attempts, r.unpriced, r.generation,
            )
            for r in rests
        ), strict=True,
    )  # fmt: skip
    given = arrays.given(_RESTED, rested), arrays.given(_WAKE, zip(*wakes, strict=True) if wakes else [()] * len(_WAKE))
    await connection.execute(_REST, workspace, worker_id, *given[0], *given[1])
    talking = [(r.run_id, r.talks[1]) for r in rests if r.talks is not None]
    if not talking:
        return False
    rows = await connection.fetch(_YIELD, workspace, [run for run, _ in talking], [lane for _, lane in talking])
    return await lanes.leave(connection, workspace, [(row["workflow_id"], row["lane"]) for row in rows])


async def _give_back(connection: asyncpg.Connection, workspace: int, worker_id: UUID, backs: list[BackRow]) -> None:
    given = zip(*((b.run_id, b.delay, b.reason is not None, b.generation) for b in backs), strict=True)
    rows = await connection.fetch(_BACK, workspace, worker_id, *arrays.given(_GIVEN_BACK, given))
    reasons = {b.run_id: b.reason for b in backs if b.reason is not None}
    for row in rows:
        reason = reasons.get(row["run_id"])
        if reason is not None and row["deaths"] >= 3:
            await ending.finish(connection, workspace, row["run_id"], "set aside", reason)
