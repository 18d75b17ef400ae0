"""Samples, kept for trying steps; and events that are kept as one when they come."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

import asyncpg

from oak_relay.store import files
from oak_relay.store.ids import new_id


@dataclass(frozen=True, slots=True)
class NewSample:
    """What is kept under a name: a step's result, or (`step` empty) the input of a run. `event` is what that was made of, as
    JSON text like `value`, and `trigger` the one that it came by."""

    name: str
    value: str
    step: str = ""
    trigger: str = ""
    event: str | None = None


@dataclass(frozen=True, slots=True)
class Awaited:
    """A trigger of a workflow whose next event is kept, as a sample of that name, if it comes before `until`."""

    workflow_id: UUID
    trigger: str
    sample: str
    until: datetime


async def keep(connection: asyncpg.Connection, workspace: int, workflow_id: UUID, new: NewSample) -> None:
    """Keep a sample, in the place of one of that name; in a transaction."""
    id = await connection.fetchval(
        "INSERT INTO sample (workspace_id, id, workflow_id, step, name, value, trigger, event) "
        "VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (workspace_id, workflow_id, step, name) DO UPDATE "
        "SET value = excluded.value, trigger = excluded.trigger, event = excluded.event, created_at = now() RETURNING id",
        workspace,
        new_id(),
        workflow_id,
        new.step,
        new.name,
        new.value,
        new.trigger,
        new.event,
    )
    await files.hold_for_sample(connection, workspace, id, f"{new.value} {new.event or ''}")


async def listed(
    connection: asyncpg.Connection, workspace: int, workflow_id: UUID, limit: int, after: UUID | None = None
) -> list[asyncpg.Record]:
    """The samples of a workflow, the newest first, behind the one `after`."""
    return await connection.fetch(
        "SELECT * FROM sample WHERE workspace_id = $1 AND workflow_id = $2 AND ($3::uuid IS NULL OR (created_at, id) < "
        "(SELECT created_at, id FROM sample WHERE workspace_id = $1 AND id = $3)) ORDER BY created_at DESC, id DESC LIMIT $4",
        workspace,
        workflow_id,
        after,
        limit,
    )


async def of_event(connection: asyncpg.Connection, workspace: int, workflow: str, name: str) -> asyncpg.Record | None:
    """The kept event of that name, of the workflow of that name."""
    return await connection.fetchrow(
        "SELECT s.* FROM sample s JOIN workflow w ON w.workspace_id = s.workspace_id AND w.id = s.workflow_id "
        "WHERE s.workspace_id = $1 AND w.name = $2 AND s.step = '' AND s.name = $3",
        workspace,
        workflow,
        name,
    )


async def remove(connection: asyncpg.Connection, workspace: int, workflow_id: UUID, sample_id: UUID) -> bool:
    """Remove a sample; False when there is none."""
    done = await connection.execute(
        "DELETE FROM sample WHERE workspace_id = $1 AND workflow_id = $2 AND id = $3", workspace, workflow_id, sample_id
    )
    return str(done).endswith("1")


async def keep_next(
    connection: asyncpg.Connection,
    workspace: int,
    workflow_id: UUID,
    trigger: str,
    path: str | None,
    name: str,
    seconds: int,
) -> datetime:
    """The next event of a trigger, and the next at a webhook's `path`, shall be kept; until when."""
    return await connection.fetchval(
        "INSERT INTO awaited (workspace_id, workflow_id, trigger, path, sample, until) "
        "VALUES ($1, $2, $3, $4, $5, now() + make_interval(secs => $6)) ON CONFLICT (workspace_id, workflow_id, trigger) "
        "DO UPDATE SET path = excluded.path, sample = excluded.sample, until = excluded.until RETURNING until",
        workspace,
        workflow_id,
        trigger,
        path,
        name,
        seconds,
    )


async def keep_no_longer(connection: asyncpg.Connection, workspace: int, workflow_id: UUID, trigger: str) -> bool:
    """Nothing is awaited of a trigger; False when nothing was."""
    done = await connection.execute(
        "DELETE FROM awaited WHERE workspace_id = $1 AND workflow_id = $2 AND trigger = $3",
        workspace,
        workflow_id,
        trigger,
    )
    return str(done).endswith("1")


async def awaited_by(connection: asyncpg.Connection, workspace: int, workflow_id: UUID) -> Sequence[Awaited]:
    """What is awaited of the triggers of a workflow."""
    return [
        Awaited(*row)
        for row in await connection.fetch(
            f"SELECT {_AWAITED} WHERE workspace_id = $1 AND workflow_id = $2 AND until > now()", workspace, workflow_id
        )
    ]


async def awaited_at(connection: asyncpg.Connection, workspace: int, path: str) -> Awaited | None:
    """What is awaited at a webhook's path; of several, what was asked for last."""
    row = await connection.fetchrow(
        f"SELECT {_AWAITED} WHERE workspace_id = $1 AND path = $2 AND until > now() ORDER BY until DESC LIMIT 1",
        workspace,
        path,
    )
    return None if row is None else Awaited(*row)


async def came(connection: asyncpg.Connection, workspace: int, awaited: Awaited, new: NewSample) -> bool:
    """What was awaited has come, and is kept; False when another came first, or it was withdrawn. In one transaction."""
    async with connection.transaction():
        if not await keep_no_longer(connection, workspace, awaited.workflow_id, awaited.trigger):
            return False
        await keep(connection, workspace, awaited.workflow_id, new)
    return True


_AWAITED = "workflow_id, trigger, sample, until FROM awaited"
