"""What a run begins with that another has done already."""

from collections.abc import Sequence
from uuid import UUID

import asyncpg

from oak_relay.store import arrays, artifacts, journal, pages
from oak_relay.store.pages import EntryRow


async def write(connection: asyncpg.Connection, workspace: int, run_id: UUID, entries: Sequence[EntryRow]) -> None:
    """Entries that a new run's journal begins with. They count as nobody's steps and cost nothing."""
    pile = artifacts.Pile()
    columns = pages.columns(pages.divide(run_id, 0, 0, entries), pile)
    if pile:
        await pile.write(connection, workspace)
    await connection.execute(journal.SEED, workspace, *arrays.given(pages.COLUMNS, columns))
