"""What others bring to runs that wait: results of children, answers, events. A run is woken in the same commit."""

from collections.abc import Sequence
from uuid import UUID

import asyncpg

from oak_relay.store import arrays

_BROUGHT = {"run_id": "uuid", "path": "text", "body": "text"}
_SIGNAL = f"""
WITH told AS (
  INSERT INTO signal (workspace_id, run_id, path, body) SELECT $1, u.* FROM {arrays.rows(_BROUGHT, 2)}
  WHERE (SELECT true FROM queue q WHERE q.workspace_id = $1 AND q.run_id = u.run_id) ON CONFLICT DO NOTHING RETURNING run_id
)
UPDATE queue q SET wakes = wakes + 1,
  ready_at = CASE WHEN worker_id IS NULL AND held IS NULL THEN clock_timestamp() ELSE ready_at END
WHERE q.workspace_id = $1 AND q.run_id = ANY (ARRAY (SELECT run_id FROM told))
"""


async def bring(connection: asyncpg.Connection, workspace: int, given: Sequence[tuple[UUID, str, str]]) -> None:
    """Bring something to runs that wait for it: run, path, body. The first for a path counts."""
    ordered = sorted(given, key=lambda g: (g[0], g[1]))
    await connection.execute(_SIGNAL, workspace, *arrays.given(_BROUGHT, zip(*ordered, strict=True)))


async def of(connection: asyncpg.Connection, workspace: int, run_ids: Sequence[UUID]) -> list[asyncpg.Record]:
    """What has arrived for runs: `run_id`, `path`, `body`."""
    return await connection.fetch(
        "SELECT run_id, path, body FROM signal WHERE workspace_id = $1 AND run_id = ANY($2::uuid[])",
        workspace,
        list(run_ids),
    )
