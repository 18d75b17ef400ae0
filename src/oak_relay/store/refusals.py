"""Deliveries that webhooks refused, kept for a week."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

import asyncpg

from oak_relay.store.ids import new_id

_KEPT, _MOST = "7 days", 500
"""How long they are kept, and how many of one workflow at most."""


@dataclass(frozen=True, slots=True)
class Refusal:
    """A delivery that was not taken: when, at which path, from where, and why."""

    workflow_id: UUID
    path: str
    status: int
    reason: str
    source: str
    agent: str
    at: datetime


async def keep(connection: asyncpg.Connection, workspace: int, refused: Sequence[Refusal]) -> None:
    """Keep them, and let go of those that are old or too many."""
    async with connection.transaction():
        await connection.executemany(
            "INSERT INTO refusal (workspace_id, id, workflow_id, path, status, reason, source, agent, at) "
            "SELECT $1, $2, $3::uuid, $4, $5, $6, $7, $8, $9 WHERE EXISTS (SELECT FROM workflow WHERE workspace_id = $1 AND id = $3)",
            [
                (workspace, new_id(), one.workflow_id, one.path, one.status, one.reason, one.source, one.agent, one.at)
                for one in refused
            ],
        )
        for workflow_id in {one.workflow_id for one in refused}:
            await connection.execute(
                f"DELETE FROM refusal WHERE workspace_id = $1 AND workflow_id = $2 AND (at < now() - interval '{_KEPT}' OR id < "
                f"(SELECT id FROM refusal WHERE workspace_id = $1 AND workflow_id = $2 ORDER BY id DESC OFFSET {_MOST} LIMIT 1))",
                workspace,
                workflow_id,
            )


async def listed(
    connection: asyncpg.Connection, workspace: int, workflow_id: UUID, limit: int, after: UUID | None = None
) -> list[asyncpg.Record]:
    """Those of a workflow, the newest first, behind the one `after`."""
    return await connection.fetch(
        "SELECT id, path, status, reason, source, agent, at FROM refusal WHERE workspace_id = $1 AND workflow_id = $2 "
        f"AND at > now() - interval '{_KEPT}' AND ($4::uuid IS NULL OR id < $4) ORDER BY id DESC LIMIT $3",
        workspace,
        workflow_id,
        limit,
        after,
    )
