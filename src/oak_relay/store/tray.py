"""Questions to people, and their answers: a question is closed once, and its run woken in the same commit."""

from datetime import datetime
from uuid import UUID

import asyncpg

from oak_relay.document import values
from oak_relay.store import signals

_LIST = """
SELECT q.*, w.name AS workflow, r.subject, (SELECT c.key FROM conversation c WHERE c.workspace_id = q.workspace_id
  AND c.id = q.conversation_id) AS talk, (SELECT count(*) FROM question a WHERE a.workspace_id = q.workspace_id
  AND a.alike = q.alike AND a.state = 'open') AS alike_open
FROM question q JOIN run r ON r.workspace_id = q.workspace_id AND r.id = q.run_id
JOIN workflow w ON w.workspace_id = r.workspace_id AND w.id = r.workflow_id
WHERE q.workspace_id = $1 AND ($2::text IS NULL OR q.state = $2) AND ($3::uuid IS NULL OR q.run_id = $3)
  AND ($4::uuid IS NULL OR q.id > $4) AND ($5::uuid IS NULL OR q.id = $5) ORDER BY q.id LIMIT $6
"""


async def listed(
    connection: asyncpg.Connection,
    workspace: int,
    state: str | None = "open",
    run_id: UUID | None = None,
    after: UUID | None = None,
    limit: int = 100,
) -> list[asyncpg.Record]:
    """Questions, the oldest first."""
    return await connection.fetch(_LIST, workspace, state, run_id, after, None, limit)


async def one(connection: asyncpg.Connection, workspace: int, question_id: UUID) -> asyncpg.Record | None:
    """A question with its workflow."""
    rows = await connection.fetch(_LIST, workspace, None, None, None, question_id, 1)
    return rows[0] if rows else None


async def alike(connection: asyncpg.Connection, workspace: int, key: str) -> list[UUID]:
    """The open questions that are asked together."""
    rows = await connection.fetch(
        "SELECT id FROM question WHERE workspace_id = $1 AND alike = $2 AND state = 'open' ORDER BY id", workspace, key
    )
    return [row["id"] for row in rows]


async def answer(
    connection: asyncpg.Connection,
    workspace: int,
    question_ids: list[UUID],
    given: dict[str, object],
    by: str,
    at: datetime,
) -> list[UUID]:
    """Close those of the questions that are open with an answer, and wake their runs; the runs."""
    said = {**given, "by": by, "at": at.isoformat(), "expired": False}
    rows = await connection.fetch(
        "UPDATE question SET state = 'answered', answered_at = clock_timestamp(), answered_by = $3, answer = $4 "
        "WHERE workspace_id = $1 AND id = ANY($2::uuid[]) AND state = 'open' RETURNING run_id, path",
        workspace,
        question_ids,
        by,
        values.dumps(said),
    )
    if rows:
        await signals.bring(connection, workspace, [(row["run_id"], row["path"], values.dumps(said)) for row in rows])
    return [row["run_id"] for row in rows]
