"""Lanes: runs of one subject in the order their events came. A lane's row is locked by whoever changes it."""

from collections import Counter
from collections.abc import Iterable
from uuid import UUID

import asyncpg

from oak_relay.store import arrays

Lane = tuple[UUID, str]

_NEXT = """
UPDATE queue SET ready_at = clock_timestamp(), held = NULL WHERE workspace_id = $1 AND run_id = ANY (ARRAY (
  SELECT waits.run_id FROM unnest($2::uuid[], $3::text[]) AS l(workflow_id, lane) CROSS JOIN LATERAL (
    SELECT q.run_id FROM queue q WHERE q.workspace_id = $1 AND q.workflow_id = l.workflow_id AND q.lane = l.lane
      AND q.held = 'lane' ORDER BY q.place LIMIT 1) AS waits
  WHERE NOT EXISTS (
    SELECT FROM queue f WHERE f.workspace_id = $1 AND f.workflow_id = l.workflow_id AND f.lane = l.lane
      AND f.held IS DISTINCT FROM 'lane' OFFSET 0)))
"""


_LANE = {"workflow_id": "uuid", "subject": "text"}
_LEAVING = {**_LANE, "count": "int"}
_MINE = "lane.workspace_id = $1 AND lane.workflow_id = u.workflow_id AND lane.subject = u.subject"
_LOCK = f"""
SELECT FROM {arrays.rows(_LANE, 2)} JOIN lane ON {_MINE} ORDER BY lane.workflow_id, lane.subject FOR UPDATE OF lane
"""
_LEAVE = f"""
DELETE FROM lane USING {arrays.rows(_LEAVING, 2)} WHERE {_MINE} AND lane.open <= u.count
RETURNING lane.workflow_id, lane.subject, EXISTS (SELECT FROM queue q
  WHERE q.workspace_id = $1 AND q.workflow_id = u.workflow_id AND q.lane = u.subject AND q.held = 'lane') AS waits
"""
"""Lanes that are empty now; in one that was counted short somebody waits still."""
_FEWER = f"UPDATE lane SET open = open - u.count FROM {arrays.rows(_LEAVING, 2)} WHERE {_MINE}"


async def lock(connection: asyncpg.Connection, workspace: int, lanes: Iterable[Lane]) -> None:
    """Lock lanes until the end of the transaction, in the order of their keys."""
    ordered = sorted(lanes)
    if ordered:
        await connection.execute(_LOCK, workspace, *arrays.given(_LANE, zip(*ordered, strict=True)))


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
    given = arrays.given(_LEAVING, zip(*((*lane, count) for lane, count in counted), strict=True))
    over = await connection.fetch(_LEAVE, workspace, *given)
    if len(over) < len(counted):
        await connection.execute(_FEWER, workspace, *given)
    empty = {(row["workflow_id"], row["subject"]) for row in over if not row["waits"]}
    return await go_on(connection, workspace, [lane for lane, _ in counted if lane not in empty])


async def go_on(connection: asyncpg.Connection, workspace: int, lanes: list[Lane]) -> bool:
    """Let the first of each lane go, where none is under way. Whether one of them may."""
    return bool(lanes) and await connection.execute(_NEXT, workspace, *_columns(lanes)) != "UPDATE 0"


def _columns(lanes: list[Lane]) -> tuple[list[UUID], list[str]]:
    return [lane[0] for lane in lanes], [lane[1] for lane in lanes]
