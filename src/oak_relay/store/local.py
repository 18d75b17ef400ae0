"""Local effects: changes of our own records that commit together with the journal entry that tells of them."""

import hashlib
from collections.abc import Awaitable, Callable
from typing import Any
from uuid import UUID

import asyncpg
import uuid_utils.compat as uuids

from oak_relay.document import values
from oak_relay.engine.memory import is_below
from oak_relay.store import artifacts, talks
from oak_relay.store.pages import EntryRow

_SEARCHING = ("table.upsert", "table.delete")
DEEPEST = 16
"""How many events may cause one another."""


async def apply(connection: asyncpg.Connection, workspace: int, rows: list[EntryRow]) -> None:
    """Carry out effects; locks are taken in the order of their keys, so that batches cannot block each other."""
    keys = sorted({key for row in rows if (key := _lock_key(row))})
    if keys:
        await connection.execute(
            "SELECT pg_advisory_xact_lock(hashtextextended(k, 7226302)) "
            "FROM (SELECT k FROM unnest($1::text[]) AS k ORDER BY k) AS s",
            keys,
        )
    for table_id in sorted({row.effect[1]["table"] for row in rows if row.effect and row.effect[0] in _SEARCHING}):
        await _search(connection, workspace, table_id)
    for row in rows:
        assert row.effect is not None
        op, data = row.effect
        row.result = await _OPS[op](connection, workspace, row, data)
        assert row.finish_body is not None
        row.body = row.finish_body(row.result)


async def take_back(connection: asyncpg.Connection, workspace: int, run_ids: list[UUID], prefix: str = "") -> None:
    """What runs asked of others below a path is wanted no longer: children are cancelled, questions withdrawn,
    events not waited for."""
    given = workspace, run_ids
    questions = [
        r["id"]
        for r in await connection.fetch(
            "SELECT id, path FROM question WHERE workspace_id = $1 AND run_id = ANY($2::uuid[]) AND state = 'open'",
            *given,
        )
        if is_below(r["path"], prefix)
    ]
    if questions:
        await connection.execute(
            "UPDATE question SET state = 'withdrawn' WHERE workspace_id = $1 AND id = ANY($2::uuid[])",
            workspace,
            questions,
        )
    for table in ("listener", "signal") if not prefix else ("listener",):
        paths = await connection.fetch(
            f"SELECT run_id, path FROM {table} WHERE workspace_id = $1 AND run_id = ANY($2::uuid[])", *given
        )
        gone = [(r["run_id"], r["path"]) for r in paths if is_below(r["path"], prefix)]
        if gone:
            await connection.execute(
                f"DELETE FROM {table} t USING unnest($2::uuid[], $3::text[]) AS g(run_id, path) "
                "WHERE t.workspace_id = $1 AND t.run_id = g.run_id AND t.path = g.path",
                workspace,
                [g[0] for g in gone],
                [g[1] for g in gone],
            )
    children = await connection.fetch(
        "SELECT id, parent_path FROM run WHERE workspace_id = $1 AND parent_id = ANY($2::uuid[]) "
        "AND kind IN ('child', 'part') AND ended_at IS NULL",
        *given,
    )
    await mark_cancelled(connection, workspace, [r["id"] for r in children if is_below(r["parent_path"], prefix)])


async def mark_cancelled(connection: asyncpg.Connection, workspace: int, run_ids: list[UUID]) -> None:
    """Ask runs and their children to end; those that rest are woken for it."""
    if not run_ids:
        return
    rows = await connection.fetch(
        "WITH RECURSIVE family AS (SELECT unnest($2::uuid[]) AS id UNION SELECT r.id FROM run r JOIN family f ON "
        "r.parent_id = f.id WHERE r.workspace_id = $1 AND r.kind IN ('child', 'part') AND r.ended_at IS NULL) "
        "UPDATE run r SET cancel_at = coalesce(cancel_at, clock_timestamp()) FROM family f "
        "WHERE r.workspace_id = $1 AND r.id = f.id AND r.ended_at IS NULL RETURNING r.id",
        workspace,
        run_ids,
    )
    await connection.execute(
        "UPDATE queue SET wakes = wakes + 1, held = NULL, "
        "ready_at = CASE WHEN worker_id IS NULL THEN clock_timestamp() ELSE ready_at END "
        "WHERE workspace_id = $1 AND run_id = ANY($2::uuid[])",
        workspace,
        [r["id"] for r in rows],
    )


def _lock_key(row: EntryRow) -> str:
    """What an effect must have for itself; empty when nothing."""
    assert row.effect is not None
    op, data = row.effect
    if op == "table.upsert":
        return f"{data['table']}|{values.dumps([data['row'][c] for c in data['match']])}"
    if op == "table.delete":
        return f"{data['table']}|delete"
    if op in ("once", "once.done"):
        return f"{row.workflow_id}|{data['step']}|{data['key']}"
    return f"event|{data['type']}" if op == "listen" else ""


# One function for each kind of effect; each returns what the entry's body holds as `output`.


async def _answer(connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]) -> Any:
    await connection.execute(
        "UPDATE run SET answer = coalesce(answer, $3) WHERE workspace_id = $1 AND id = $2",
        workspace,
        row.run_id,
        data["text"],
    )


_ONCE = """
INSERT INTO once AS o (workspace_id, workflow_id, step, key, run_id) VALUES ($1, $2, $3, $4, $5)
ON CONFLICT (workspace_id, workflow_id, step, key) DO UPDATE SET run_id = CASE WHEN NOT o.done AND o.run_id IN (
  WITH RECURSIVE before AS (
    SELECT r.origin_id FROM run r WHERE r.workspace_id = $1 AND r.id = $5
    UNION SELECT r.origin_id FROM run r JOIN before b ON r.workspace_id = $1 AND r.id = b.origin_id)
  SELECT r.id FROM before b JOIN run r ON r.workspace_id = $1 AND r.id = b.origin_id AND r.ended_at IS NOT NULL
) THEN $5 ELSE o.run_id END RETURNING run_id
"""
# A run that does another again takes over what that one did not do well.


async def _once(connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]) -> dict[str, Any]:
    given = workspace, row.workflow_id, data["step"], _once_key(data["key"]), row.run_id
    holder = await connection.fetchval(_ONCE, *given)
    return {"first": holder == row.run_id, "run": str(holder)}


async def _once_done(
    connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]
) -> dict[str, Any]:
    await connection.execute(
        "UPDATE once SET done = true WHERE workspace_id = $1 AND workflow_id = $2 AND step = $3 AND key = $4",
        workspace,
        row.workflow_id,
        data["step"],
        _once_key(data["key"]),
    )
    return {}


def _once_key(key: str) -> str:
    """The whole key, or where it is long or cannot be stored, its SHA-256."""
    if len(key) <= 400 and values.storable_text(key) == key:
        return key
    return f"sha256:{hashlib.sha256(key.encode('utf-8', 'surrogatepass')).hexdigest()}"


_UPSERT = """
WITH target AS (
  SELECT id FROM table_row WHERE workspace_id = $1 AND table_id = $2::uuid AND searched AND data @> $3::text::jsonb ORDER BY id LIMIT 1
), changed AS (
  UPDATE table_row t SET data = t.data || $4::text::jsonb, updated_at = now() FROM target
  WHERE t.workspace_id = $1 AND t.table_id = $2::uuid AND t.id = target.id RETURNING t.id, t.data
), added AS (
  INSERT INTO table_row (workspace_id, table_id, id, data, searched)
  SELECT $1, $2::uuid, $5, $4::text::jsonb, true WHERE NOT EXISTS (SELECT FROM target) RETURNING id, data
), written AS (
  SELECT id, data, false AS created FROM changed UNION ALL SELECT id, data, true FROM added
), told AS (
  INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth)
  SELECT $1, $6::uuid, 'table', $2::uuid::text, '/tables/' || d.name, $6::uuid::text, jsonb_build_object('change',
    CASE WHEN w.created THEN 'insert' ELSE 'update' END, 'table', d.name, 'id', w.id, 'row', w.data)::text, $7
  FROM written w, table_def d WHERE d.workspace_id = $1 AND d.id = $2::uuid AND EXISTS (
    SELECT FROM trigger t WHERE t.workspace_id = $1 AND t.kind = 'table' AND t.topic = $2::uuid::text)
)
SELECT id, data::text AS data, created FROM written
"""


async def _search(connection: asyncpg.Connection, workspace: int, table_id: UUID) -> None:
    """See that a table's rows are indexed by their values. The lock waits for rows that are just being added,
    and those that come later see the mark."""
    given = workspace, table_id
    if (
        await connection.fetchval("SELECT searched FROM table_def WHERE workspace_id = $1 AND id = $2", *given)
        is not False
    ):
        return
    await connection.execute("SELECT FROM table_def WHERE workspace_id = $1 AND id = $2 FOR UPDATE", *given)
    await connection.execute("UPDATE table_def SET searched = true WHERE workspace_id = $1 AND id = $2", *given)
    await connection.execute(
        "UPDATE table_row SET searched = true WHERE workspace_id = $1 AND table_id = $2 AND NOT searched", *given
    )


async def _upsert(
    connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]
) -> dict[str, Any]:
    match = values.dumps({column: data["row"][column] for column in data["match"]})
    found = await connection.fetchrow(
        _UPSERT, workspace, data["table"], match, values.dumps(data["row"]), uuids.uuid7(), uuids.uuid7(), row.depth
    )
    return {"id": str(found["id"]), "row": values.loads(found["data"]), "created": found["created"]}


_DELETE = """
WITH gone AS (
  DELETE FROM table_row WHERE workspace_id = $1 AND table_id = $2::uuid AND searched AND data @> $3::text::jsonb
  RETURNING id, data
)
SELECT id, data::text AS data FROM gone ORDER BY id
"""


async def _delete(
    connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]
) -> dict[str, Any]:
    found = await connection.fetch(_DELETE, workspace, data["table"], values.dumps(data["match"]))
    gone = [(r["id"], r["data"]) for r in found]
    await tell_rows(connection, workspace, data["table"], "delete", gone, row.depth)
    return {"count": len(found), "rows": [values.loads(r["data"]) for r in found]}


async def tell_rows(
    connection: asyncpg.Connection,
    workspace: int,
    table_id: UUID,
    change: str,
    given: list[tuple[UUID, str]],
    depth: int = 0,
) -> None:
    """Tell workflows that listen to a table what was done to rows of it: `insert`, `update` or `delete`; each row
    with its id and its JSON text."""
    await connection.execute(
        "INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth) "
        "SELECT $1, u.id, 'table', d.id::text, '/tables/' || d.name, u.id::text, jsonb_build_object('change', $4::text, "
        "'table', d.name, 'id', u.row, 'row', u.data::jsonb)::text, $6 "
        "FROM unnest($3::uuid[], $5::uuid[], $7::text[]) AS u(id, row, data) JOIN table_def d ON d.workspace_id = $1 AND d.id = $2 "
        "WHERE EXISTS (SELECT FROM trigger t WHERE t.workspace_id = $1 AND t.kind = 'table' AND t.topic = d.id::text)",
        workspace,
        table_id,
        [uuids.uuid7() for _ in given],
        change,
        [key for key, _ in given],
        depth,
        [text for _, text in given],
    )


async def _emit(connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]) -> dict[str, Any]:
    if row.depth > DEEPEST:
        return {"fault": too_deep()}
    await publish(connection, workspace, data["id"], data["type"], data["source"], data["text"], row.depth, row.run_id)
    return {"id": str(data["id"])}


async def publish(
    connection: asyncpg.Connection,
    workspace: int,
    event_id: UUID,
    kind: str,
    source: str,
    text: str,
    depth: int,
    run_id: UUID | None,
    key: str | None = None,
) -> bool:
    """Put an event where those who wait for its type are looked for; False when its id and source came before."""
    done = await connection.execute(
        "INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth, run_id) "
        "SELECT $1, $2, 'event', $3, $4, $5, $6, $7, $8 WHERE NOT EXISTS (SELECT FROM published "
        "WHERE workspace_id = $1 AND kind = 'event' AND topic = $3 AND source = $4 AND event_key = $5)",
        workspace,
        event_id,
        kind,
        source,
        key or str(event_id),
        text,
        depth,
        run_id,
    )
    return str(done).endswith("1")


def too_deep() -> dict[str, Any]:
    """The error of what would cause more than may be caused."""
    return {
        "kind": "over_limit",
        "message": f"more than {DEEPEST} events have caused one another",
        "fix": "does this workflow start itself?",
        "reached": "no",
    }


_CHILD = """
WITH child AS (
  SELECT w.id AS workflow_id, v.id AS version_id, v.revision, w.settings
  FROM workflow w JOIN version v ON v.workspace_id = w.workspace_id AND v.workflow_id = w.id
  WHERE v.workspace_id = $1 AND v.id = $2
), event AS (
  INSERT INTO event (workspace_id, id, event_key, source, type, body, meta)
  SELECT $1, $3, $4, $5, $6, $7, '{"headers":{},"query":{}}' FROM child
), run AS (
  INSERT INTO run (workspace_id, id, workflow_id, version_id, event_id, trigger_name, kind, parent_id, parent_path,
    depth, money_limit, subject, settings, trace_parent)
  SELECT $1, $8, c.workflow_id, c.version_id, $3, $9, $10, $11, $12, $13, $14::text::numeric,
    p.subject, CASE WHEN $10 <> 'part' THEN nullif(c.settings, '{}') ELSE p.settings END, p.trace_parent
  FROM child c, run p WHERE p.workspace_id = $1 AND p.id = $11
), queued AS (
  INSERT INTO queue (workspace_id, run_id, workflow_id, revision) SELECT $1, $8, workflow_id, revision FROM child
)
SELECT workflow_id FROM child
"""
# Which version of a workflow a run starts is settled when it first starts one; the parts of its lists are itself.
_PIN = """
WITH RECURSIVE up AS (
  SELECT id, parent_id, kind FROM run WHERE workspace_id = $1 AND id = $2
  UNION ALL SELECT r.id, r.parent_id, r.kind FROM run r JOIN up ON r.workspace_id = $1 AND r.id = up.parent_id AND up.kind = 'part'
)
INSERT INTO pin (workspace_id, run_id, kind, name, version_id)
SELECT $1, up.id, 'workflow', $3, v.id
FROM up, workflow w JOIN version v ON v.workspace_id = w.workspace_id AND v.workflow_id = w.id
WHERE up.kind <> 'part' AND w.workspace_id = $1 AND w.name = $3 AND v.number =
  coalesce(w.live_version, (SELECT max(number) FROM version l WHERE l.workspace_id = $1 AND l.workflow_id = w.id))
ON CONFLICT (workspace_id, run_id, kind, name) DO UPDATE SET version_id = pin.version_id RETURNING version_id
"""


async def unpin(connection: asyncpg.Connection, workspace: int, run_ids: list[UUID]) -> None:
    """These runs are over: what they settled is not needed any more."""
    await connection.execute("DELETE FROM pin WHERE workspace_id = $1 AND run_id = ANY($2::uuid[])", workspace, run_ids)


async def _child(connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]) -> dict[str, Any]:
    part = data["version_id"] is not None
    depth = row.depth - 1 if part else row.depth
    if depth > DEEPEST:
        return {"fault": too_deep()}
    version = data["version_id"]
    if version is None:
        version = await connection.fetchval(_PIN, workspace, row.run_id, data["workflow"])
    pile = artifacts.Pile()
    text = pile.place(data["event_id"], data["text"])
    if pile:
        await pile.write(connection, workspace)
    found = await connection.fetchval(
        _CHILD,
        workspace,
        version,
        data["event_id"],
        f"{row.run_id}:{row.path}",
        f"/runs/{row.run_id}",
        "oak.part" if part else "oak.child",
        text,
        data["run_id"],
        data["step"],
        "part" if part else ("child" if data["waited"] else "run"),
        row.run_id,
        data["path"],
        depth,
        data["money"],
    )
    if found is None:
        message = f"there is no workflow {data['workflow']}"
        return {"fault": {"kind": "missing", "message": message, "fix": "save it first", "reached": "no"}}
    return {"run": str(data["run_id"])}


async def _ask(connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]) -> dict[str, Any]:
    await connection.execute(
        "INSERT INTO question (workspace_id, id, run_id, path, text, config, alike, expires_at) "
        "VALUES ($1, $2, $3, $4, $5, $6, $7, $8)",
        workspace,
        data["id"],
        row.run_id,
        data["path"],
        values.storable_text(data["text"]),
        data["config"],
        data["alike"],
        data["until"],
    )
    return {"question": str(data["id"])}


async def _expire(
    connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]
) -> dict[str, Any]:
    """Close an unanswered question; an answer that was quicker counts."""
    await connection.execute(
        "UPDATE question SET state = 'expired' WHERE workspace_id = $1 AND run_id = $2 AND path = $3 AND state = 'open'",
        workspace,
        row.run_id,
        data["path"],
    )
    answer = await connection.fetchval(
        "SELECT answer FROM question WHERE workspace_id = $1 AND run_id = $2 AND path = $3 AND state = 'answered'",
        workspace,
        row.run_id,
        data["path"],
    )
    return {"answer": None if answer is None else values.loads(answer)}


async def _listen(
    connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]
) -> dict[str, Any]:
    """Wait for an event; the first that fits of those handled since the run began is given along."""
    await connection.execute(
        "INSERT INTO listener (workspace_id, run_id, path, type, clause, scope) VALUES ($1, $2, $3, $4, $5, $6)",
        workspace,
        row.run_id,
        data["path"],
        data["type"],
        data["where"],
        data["text"],
    )
    early = connection.cursor(
        "SELECT p.id, p.topic, p.source, p.event_key, p.body, p.at FROM published p, run r "
        "WHERE p.workspace_id = $1 AND p.kind = 'event' AND p.topic = $2 AND p.handled_at IS NOT NULL AND r.workspace_id = $1 "
        "AND r.id = $3 AND p.at >= r.created_at ORDER BY p.at",
        workspace,
        data["type"],
        row.run_id,
        prefetch=500,
    )
    async for event in early:
        told = data["told"](event)
        if data["wanted"](told):
            return {"events": [told]}
    return {"events": []}


async def _remember(
    connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]
) -> dict[str, Any]:
    first = await talks.remember(connection, workspace, data["key"], data["messages"], row.run_id)
    if data["summary"]:
        await talks.sum_up(connection, workspace, data["key"], *data["summary"])
    return {"first": first, "count": len(data["messages"])}


async def _fact(connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]) -> dict[str, Any]:
    await talks.keep(connection, workspace, data["key"], data["name"], data["value"])
    return {"kept": data["name"]} if data["value"] else {"forgotten": data["name"]}


async def _withdraw(
    connection: asyncpg.Connection, workspace: int, row: EntryRow, data: dict[str, Any]
) -> dict[str, Any]:
    await take_back(connection, workspace, [row.run_id], data["prefix"])
    return {}


_OPS: dict[str, Callable[[asyncpg.Connection, int, EntryRow, dict[str, Any]], Awaitable[Any]]] = {
    "table.upsert": _upsert,
    "table.delete": _delete,
    "once": _once,
    "once.done": _once_done,
    "answer": _answer,
    "emit": _emit,
    "child": _child,
    "ask": _ask,
    "expire": _expire,
    "listen": _listen,
    "withdraw": _withdraw,
    "remember": _remember,
    "fact": _fact,
}
