"""What a run begins with that another has done already; and samples, kept for trying steps."""

from collections.abc import Sequence
from uuid import UUID

import asyncpg
import uuid_utils.compat as uuids

from oak_relay.store import artifacts, journal, pages
from oak_relay.store.pages import EntryRow


async def write(connection: asyncpg.Connection, workspace: int, run_id: UUID, entries: Sequence[EntryRow]) -> None:
    """Entries that a new run's journal begins with. They count as nobody's steps and cost nothing."""
    pile = artifacts.Pile()
    columns = pages.columns(pages.divide(run_id, 0, 0, entries), pile)
    if pile:
        await pile.write(connection, workspace)
    await connection.execute(journal.SEED, workspace, *columns)


async def keep_sample(
    connection: asyncpg.Connection, workspace: int, workflow_id: UUID, step: str, name: str, value: str
) -> None:
    """Keep a sample, in the place of one of that name."""
    await connection.execute(
        "INSERT INTO sample (workspace_id, id, workflow_id, step, name, value) VALUES ($1, $2, $3, $4, $5, $6) "
        "ON CONFLICT (workspace_id, workflow_id, step, name) DO UPDATE SET value = excluded.value, created_at = now()",
        workspace,
        uuids.uuid7(),
        workflow_id,
        step,
        name,
        value,
    )


async def samples(connection: asyncpg.Connection, workspace: int, workflow_id: UUID) -> list[asyncpg.Record]:
    """The samples of a workflow, the newest first."""
    return await connection.fetch(
        "SELECT * FROM sample WHERE workspace_id = $1 AND workflow_id = $2 ORDER BY created_at DESC, id DESC",
        workspace,
        workflow_id,
    )


async def remove_sample(connection: asyncpg.Connection, workspace: int, workflow_id: UUID, sample_id: UUID) -> bool:
    """Remove a sample; False when there is none."""
    done = await connection.execute(
        "DELETE FROM sample WHERE workspace_id = $1 AND workflow_id = $2 AND id = $3", workspace, workflow_id, sample_id
    )
    return str(done).endswith("1")
