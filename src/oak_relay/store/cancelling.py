"""What runs asked of others and want no longer: children are cancelled, questions withdrawn, events not waited for."""

from uuid import UUID

import asyncpg

from oak_relay.engine.paths import is_below

_FAMILY = """
WITH RECURSIVE family AS (
  SELECT unnest($2::uuid[]) AS id
  UNION SELECT r.id FROM family f CROSS JOIN LATERAL (
    SELECT id FROM run WHERE workspace_id = $1 AND parent_id = f.id AND kind IN ('child', 'part') AND ended_at IS NULL OFFSET 0) AS r
) SELECT id FROM family
"""
_MARK = """
UPDATE run r SET cancel_at = coalesce(cancel_at, clock_timestamp())
FROM (SELECT $1::int AS workspace_id, id FROM unnest($2::uuid[]) AS u(id) LIMIT cardinality($2::uuid[])) AS f
WHERE r.workspace_id = f.workspace_id AND r.id = f.id AND r.ended_at IS NULL RETURNING r.id
"""


async def take_back(connection: asyncpg.Connection, workspace: int, run_ids: list[UUID], prefix: str = "") -> None:
    """What runs asked of others below a path is wanted no longer: children are cancelled, questions withdrawn,
    events not waited for."""
    given = workspace, run_ids
    questions = [
        r["id"]
        for r in await connection.fetch(
            "SELECT q.* FROM unnest($2::uuid[]) AS g(id) CROSS JOIN LATERAL (SELECT id, path FROM question "
            "WHERE workspace_id = $1 AND run_id = g.id AND state = 'open' OFFSET 0) AS q",
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
        "SELECT r.* FROM unnest($2::uuid[]) AS g(id) CROSS JOIN LATERAL (SELECT id, parent_path FROM run "
        "WHERE workspace_id = $1 AND parent_id = g.id AND kind IN ('child', 'part') AND ended_at IS NULL OFFSET 0) AS r",
        *given,
    )
    await mark_cancelled(connection, workspace, [r["id"] for r in children if is_below(r["parent_path"], prefix)])


async def mark_cancelled(connection: asyncpg.Connection, workspace: int, run_ids: list[UUID]) -> None:
    """Ask runs and their children to end; those that rest are woken for it."""
    if not run_ids:
        return
    family = [row["id"] for row in await connection.fetch(_FAMILY, workspace, run_ids)]
    rows = await connection.fetch(_MARK, workspace, family)
    await connection.execute(
        "UPDATE queue SET wakes = wakes + 1, held = NULL, "
        "ready_at = CASE WHEN worker_id IS NULL THEN clock_timestamp() ELSE ready_at END "
        "WHERE workspace_id = $1 AND run_id = ANY($2::uuid[])",
        workspace,
        [r["id"] for r in rows],
    )


async def unpin(connection: asyncpg.Connection, workspace: int, run_ids: list[UUID]) -> None:
    """These runs are over: what they settled is not needed any more."""
    await connection.execute("DELETE FROM pin WHERE workspace_id = $1 AND run_id = ANY($2::uuid[])", workspace, run_ids)
