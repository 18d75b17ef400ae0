"""Lanes: runs of one subject in the order their events came. A lane's row is locked by whoever changes it."""

from collections import Counter
from collections.abc import Iterable
from uuid import UUID

import asyncpg

Lane = tuple[UUID, str]

_NEXT = """
UPDATE queue SET ready_at = clock_timestamp(), held = NULL WHERE workspace_id = $1 AND run_id IN (
  SELECT DISTINCT ON (q.workflow_id, q.lane) q.run_id FROM queue q
  JOIN unnest($2::uuid[], $3::text[]) AS l(workflow_id, lane) ON l.workflow_id = q.workflow_id AND l.lane = q.lane
  WHERE q.workspace_id = $1 AND q.held = 'lane' AND NOT EXISTS (
    SELECT FROM queue f WHERE f.workspace_id = $1 AND f.workflow_id = q.workflow_id AND f.lane = q.lane
    AND f.held IS DISTINCT FROM 'lane')
  ORDER BY q.workflow_id, q.lane, q.place)
"""


async def lock(connection: asyncpg.Connection, workspace: int, lanes: Iterable[Lane]) -> None:
    """Lock lanes until the end of the transaction, in the order of their keys."""
    ordered = sorted(lanes)
    if ordered:
        await connection.execute(
            "SELECT FROM lane JOIN unnest($2::uuid[], $3::text[]) AS l(workflow_id, subject) USING (workflow_id, subject) "
            "WHERE workspace_id = $1 ORDER BY workflow_id, subject FOR UPDATE OF lane",
            workspace,
            *_columns(ordered),
        )


async def enter(connection: asyncpg.Connection, workspace: int, lanes: Iterable[Lane]) -> dict[Lane, tuple[int, int]]:
    """Take places in lanes, a lane once for each place; the number of runs open in each and its last place."""
    counted = sorted(Counter(lanes).items())
    rows = await connection.fetch(
        "INSERT INTO lane (workspace_id, workflow_id, subject, open, tail) "
        "SELECT $1, l.* FROM unnest($2::uuid[], $3::text[], $4::int[], $4::bigint[]) AS l "
        "ON CONFLICT (workspace_id, workflow_id, subject) DO UPDATE SET open = lane.open + excluded.open, "
        "tail = lane.tail + excluded.tail RETURNING workflow_id, subject, open, tail",
        workspace,
        *_columns([lane for lane, _ in counted]),
        [count for _, count in counted],
    )
    return {(row["workflow_id"], row["subject"]): (row["open"], row["tail"]) for row in rows}


async def leave(connection: asyncpg.Connection, workspace: int, lanes: Iterable[Lane]) -> bool:
    """Runs of these lanes are over, a lane once for each; the next of each lane may go. Whether there is one."""
    counted = sorted(Counter(lanes).items())
    if not counted:
        return False
    counts = [count for _, count in counted]
    over = await connection.fetch(
        "DELETE FROM lane USING unnest($2::uuid[], $3::text[], $4::int[]) AS l(workflow_id, subject, count) "
        "WHERE lane.workspace_id = $1 AND lane.workflow_id = l.workflow_id AND lane.subject = l.subject "
        "AND lane.open <= l.count RETURNING lane.workflow_id, lane.subject",
        workspace,
        *_columns([lane for lane, _ in counted]),
        counts,
    )
    if len(over) < len(counted):
        await connection.execute(
            "UPDATE lane SET open = open - l.count FROM unnest($2::uuid[], $3::text[], $4::int[]) AS l(workflow_id, subject, count) "
            "WHERE lane.workspace_id = $1 AND lane.workflow_id = l.workflow_id AND lane.subject = l.subject",
            workspace,
            *_columns([lane for lane, _ in counted]),
            counts,
        )
    empty = {(row["workflow_id"], row["subject"]) for row in over}
    return await go_on(connection, workspace, [lane for lane, _ in counted if lane not in empty])


async def go_on(connection: asyncpg.Connection, workspace: int, lanes: list[Lane]) -> bool:
    """Let the first of each lane go, where none is under way. Whether one of them may."""
    return bool(lanes) and await connection.execute(_NEXT, workspace, *_columns(lanes)) != "UPDATE 0"


def _columns(lanes: list[Lane]) -> tuple[list[UUID], list[str]]:
    return [lane[0] for lane in lanes], [lane[1] for lane in lanes]
