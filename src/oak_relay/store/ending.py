"""The end of a run that no worker ends."""

from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.document import values
from oak_relay.store import cancelling, lanes, signals


async def finish(
    connection: asyncpg.Connection, workspace: int, run_id: UUID, state: str, error: dict[str, Any]
) -> bool:
    """End a run that no worker walks: it leaves the queue and its lane, and its parent is told. False when it has
    ended already, or a worker has it."""
    gone = await connection.fetchrow(
        "DELETE FROM queue WHERE workspace_id = $1 AND run_id = $2 AND worker_id IS NULL RETURNING workflow_id, lane, started_at",
        workspace,
        run_id,
    )
    if gone is None:
        return False
    row = await connection.fetchrow(
        "WITH failed AS (INSERT INTO failure (workspace_id, run_id, state, error_kind) VALUES ($1, $2, $3, $5)) "
        "UPDATE run SET state = $3, error = $4, started_at = $6, ended_at = clock_timestamp() "
        "WHERE workspace_id = $1 AND id = $2 RETURNING parent_id, parent_path, kind, depth",
        workspace,
        run_id,
        state,
        values.dumps(error),
        error["kind"],
        gone["started_at"],
    )
    await cancelling.take_back(connection, workspace, [run_id])
    if row["kind"] != "run" and row["parent_id"] is not None:
        outcome = values.dumps({"state": state, "result": None, "error": error, "run": str(run_id)})
        await signals.bring(connection, workspace, [(row["parent_id"], row["parent_path"], outcome)])
    if gone["lane"] is not None:
        await lanes.leave(connection, workspace, [(gone["workflow_id"], gone["lane"])])
    await connection.execute(
        "INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth, run_id) "
        "SELECT $1, $2::uuid, 'run', w.name, '/runs/' || $2::uuid::text, $2::uuid::text, json_build_object('run', $2::uuid, 'workflow', w.name, "
        "'state', $3::text, 'result', NULL, 'error', $4::text::json, 'child', $7::bool)::text, $5, $2::uuid FROM workflow w WHERE w.workspace_id = $1 "
        "AND w.id = $6 AND EXISTS (SELECT FROM trigger t WHERE t.workspace_id = $1 AND t.way = 'run' AND "
        "(t.topic = w.name OR (t.topic = '*' AND NOT $7::bool))) AND NOT $8::bool "
        "ON CONFLICT DO NOTHING",
        workspace,
        run_id,
        state,
        values.dumps(error),
        row["depth"] + 1,
        gone["workflow_id"],
        row["kind"] == "child",
        row["kind"] == "part",
    )
    return True
