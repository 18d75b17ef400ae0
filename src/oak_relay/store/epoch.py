"""Restores: a mark that only grows stands in the database, and everybody remembers the highest one seen. A database whose
mark is lower than that was set back: unfinished runs are held until a person lets them go (rule 19)."""

import contextlib
from pathlib import Path

import asyncpg

from oak_relay.store import lanes, workers

_JUMP = 1_000
"""By how much the mark grows when a restore is noticed: more than any other process can have seen beyond the one that
noticed, so that each restore is noticed once."""
_LOCK = 7226306
_GROW = """
INSERT INTO epoch (name, value) VALUES ('mark', 1) ON CONFLICT (name) DO UPDATE SET value = epoch.value + 1 RETURNING value
"""
_EXPOSE = """
INSERT INTO epoch (name, value) VALUES ('exposed', extract(epoch FROM now())::bigint)
ON CONFLICT (name) DO UPDATE SET value = excluded.value
"""
_EXPOSED = "SELECT value > extract(epoch FROM now()) - 86400 FROM epoch WHERE name = 'exposed'"
_HOLD = """
WITH held AS (
  UPDATE queue SET held = 'restore', ready_at = 'infinity', worker_id = NULL, generation = generation + 1
  WHERE workspace_id = $1 AND held IS DISTINCT FROM 'restore' RETURNING run_id
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


async def grow(connection: asyncpg.Connection) -> int:
    """Let the mark grow; its new value."""
    return int(await connection.fetchval(_GROW))


async def mark(connection: asyncpg.Connection) -> int | None:
    """How far the database has come; None when it has no tables yet."""
    try:
        return int(await connection.fetchval("SELECT value FROM epoch WHERE name = 'mark'") or 0)
    except asyncpg.UndefinedTableError:
        return None


async def expose(connection: asyncpg.Connection) -> None:
    """Note that somebody asked through a proxy."""
    await connection.execute(_EXPOSE)


async def exposed(connection: asyncpg.Connection) -> bool:
    """Whether somebody asked through a proxy within a day."""
    return bool(await connection.fetchval(_EXPOSED))


async def noticed(connection: asyncpg.Connection) -> int:
    """The mark that was set when a restore was last noticed; 0 when none ever was."""
    return int(await connection.fetchval("SELECT value FROM epoch WHERE name = 'set back'") or 0)


async def set_back(connection: asyncpg.Connection, known: int) -> int | None:
    """Note that the database knows less than the mark `known`, and hold all unfinished runs; how many. None when another
    process was quicker."""
    async with connection.transaction():
        await connection.execute("SELECT pg_advisory_xact_lock($1)", _LOCK)
        if (await mark(connection) or 0) >= known:
            return None
        for name in ("mark", "set back"):
            await connection.execute(
                "INSERT INTO epoch (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
                name,
                known + _JUMP,
            )
        spaces = await connection.fetch("SELECT id FROM workspace ORDER BY id")
        return sum([await _held(connection, row["id"]) for row in spaces])


async def hold(connection: asyncpg.Connection, workspace: int) -> int:
    """Hold all runs that are not over, those that are just walked too; how many."""
    async with connection.transaction():
        return await _held(connection, workspace)


async def _held(connection: asyncpg.Connection, workspace: int) -> int:
    await workers.raise_all(connection)
    return int(await connection.fetchval(_HOLD, workspace))


async def release(connection: asyncpg.Connection, workspace: int) -> int:
    """Let held runs go, those of one subject in their order; how many. No worker has them, so no fence is raised."""
    async with connection.transaction():
        rows = await connection.fetch(_RELEASE, workspace)
        waiting = sorted((row["workflow_id"], row["lane"]) for row in rows if row["lane"] is not None)
        await lanes.lock(connection, workspace, waiting)
        await lanes.go_on(connection, workspace, waiting)
    return sum(row["count"] for row in rows)


def read(file: Path) -> int:
    """The highest mark that a file beside the database tells of; 0 for none."""
    try:
        return int(file.read_text())
    except (OSError, ValueError):
        return 0


def write(file: Path, value: int) -> None:
    """Keep the highest mark that was seen in a file beside the database; it never goes back."""
    with contextlib.suppress(OSError):
        if value > read(file):
            file.parent.mkdir(parents=True, exist_ok=True)
            fresh = file.with_name(f"{file.name}.new")
            fresh.write_text(f"{value}\n")
            fresh.replace(file)
