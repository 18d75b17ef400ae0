"""Restores: a mark that only grows is kept in the database and beside it; a database that knows less than the file was
set back. Then unfinished runs are held until a person lets them go."""

import asyncio
import contextlib
from pathlib import Path

import asyncpg

from oak_relay.store import lanes

_MARK = (
    "INSERT INTO epoch (name, value) VALUES ('mark', '1') "
    "ON CONFLICT (name) DO UPDATE SET value = (epoch.value::bigint + 1)::text RETURNING value::bigint"
)
_HOLD = """
WITH held AS (
  UPDATE queue SET held = 'restore', ready_at = 'infinity', worker_id = NULL WHERE workspace_id = $1
  AND held IS DISTINCT FROM 'restore' RETURNING run_id
)
SELECT count(*) FROM held
"""
_RELEASE = """
WITH freed AS (
  UPDATE queue SET held = CASE WHEN lane IS NOT NULL THEN 'lane' END,
    ready_at = CASE WHEN lane IS NOT NULL THEN 'infinity'::timestamptz ELSE clock_timestamp() END
  WHERE workspace_id = $1 AND held = 'restore' RETURNING workflow_id, lane
)
SELECT workflow_id, lane, count(*) AS count FROM freed GROUP BY 1, 2
"""


async def advance(connection: asyncpg.Connection, file: Path) -> None:
    """Let the mark grow, in the database first."""
    mark = await connection.fetchval(_MARK)
    await asyncio.to_thread(_write, file, mark)


def _write(file: Path, mark: int) -> None:
    with contextlib.suppress(OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        fresh = file.with_name(f"{file.name}.new")
        fresh.write_text(f"{mark}\n")
        fresh.replace(file)


async def set_back(connection: asyncpg.Connection, file: Path) -> bool:
    """Whether the database knows less than it did when the file was written."""
    try:
        known = int(await asyncio.to_thread(file.read_text))
    except (OSError, ValueError):
        return False
    mark = await connection.fetchval("SELECT value::bigint FROM epoch WHERE name = 'mark'")
    return known > (mark or 0)


async def hold(connection: asyncpg.Connection, workspace: int) -> int:
    """Hold all runs that are not over; how many."""
    return int(await connection.fetchval(_HOLD, workspace))


async def release(connection: asyncpg.Connection, workspace: int) -> int:
    """Let held runs go, those of one subject in their order; how many."""
    async with connection.transaction():
        rows = await connection.fetch(_RELEASE, workspace)
        waiting = sorted((row["workflow_id"], row["lane"]) for row in rows if row["lane"] is not None)
        await lanes.lock(connection, workspace, waiting)
        await lanes.go_on(connection, workspace, waiting)
    return sum(row["count"] for row in rows)
