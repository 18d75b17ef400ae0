"""What is done once ever for a key."""

import hashlib
from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.changes import ClaimOnce, FinishOnce
from oak_relay.document import values
from oak_relay.store.changes.base import About, Prepared, makes
from oak_relay.store.pages import EntryRow

_ONCE = """
INSERT INTO once AS o (workspace_id, workflow_id, step, key, run_id) VALUES ($1, $2, $3, $4, $5)
ON CONFLICT (workspace_id, workflow_id, step, key) DO UPDATE SET run_id = CASE WHEN NOT o.done AND o.run_id IN (
  WITH RECURSIVE before AS (
    SELECT r.origin_id FROM run r WHERE r.workspace_id = $1 AND r.id = $5
    UNION SELECT r.origin_id FROM before b CROSS JOIN LATERAL (
      SELECT origin_id FROM run WHERE workspace_id = $1 AND id = b.origin_id OFFSET 0) AS r)
  SELECT r.id FROM before b CROSS JOIN LATERAL (
    SELECT id, ended_at FROM run WHERE workspace_id = $1 AND id = b.origin_id OFFSET 0) AS r WHERE r.ended_at IS NOT NULL
) THEN $5 ELSE o.run_id END RETURNING run_id
"""
# A run that does another again takes over what that one did not do well.


class _Once(Prepared[Any]):
    def __init__(self, wanted: ClaimOnce | FinishOnce, about: About) -> None:
        self.workflow_id: UUID = about.workflow_id
        self.step, self.key = wanted.step, wanted.key

    def lock(self) -> str:
        return f"{self.workflow_id}|{self.step}|{self.key}"


@makes(ClaimOnce)
class Claimed(_Once):
    @staticmethod
    def pretended(wanted: object) -> object:
        return {"first": True}

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        given = workspace, self.workflow_id, self.step, _once_key(self.key), row.run_id
        holder = await connection.fetchval(_ONCE, *given)
        return {"first": holder == row.run_id, "run": str(holder)}


@makes(FinishOnce)
class Finished(_Once):
    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        await connection.execute(
            "UPDATE once SET done = true WHERE workspace_id = $1 AND workflow_id = $2 AND step = $3 AND key = $4",
            workspace,
            self.workflow_id,
            self.step,
            _once_key(self.key),
        )
        return {}


def _once_key(key: str) -> str:
    """The whole key, or where it is long or cannot be stored, its SHA-256."""
    if len(key) <= 400 and values.storable_text(key) == key:
        return key
    return f"sha256:{hashlib.sha256(key.encode('utf-8', 'surrogatepass')).hexdigest()}"
