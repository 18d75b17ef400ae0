"""Receipts: which events were answered of late, kept in a file beside the database. After a restore they tell which of
them the database does not hold any more.

They are written behind the commit and not forced onto the disk: a promise is what the database holds, and this only says
afterwards what a restore has taken back.
"""

import asyncio
import contextlib
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from uuid import UUID

import structlog

from oak_relay.document import values
from oak_relay.store import epoch, missing
from oak_relay.store.database import Database, DatabaseLost
from oak_relay.store.intake import NewRun, Receipt
from oak_relay.store.missing import Answered

log = structlog.get_logger()
_LARGEST = 16_000_000
"""Bytes of one file; there are two of them, so that about 150,000 events are known."""
_BATCH = 5_000
_PAUSE = 2.0


class Receipts:
    """One per process that takes events in; `folder` is the data directory."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / "receipts.log"
        self._seen = folder / "receipts.seen"

    def keep(self, answered: Sequence[tuple[NewRun, Receipt]]) -> None:
        """Keep what was just answered."""
        now = datetime.now(UTC).isoformat()
        lines = [
            values.dumps([str(run.run_id), str(run.workflow_id), run.source, run.event_key, now])
            for run, receipt in answered
            if receipt.status in ("accepted", "dropped")
        ]
        if not lines:
            return
        with contextlib.suppress(OSError):  # a full disk keeps nobody from being answered
            with self._file.open("a") as out:
                out.write("\n".join(lines) + "\n")
                large = out.tell() > _LARGEST
            if large:
                self._file.replace(self._file.with_suffix(".old"))

    async def watch(self, database: Database, workspace: int) -> None:
        """Whenever a restore is noticed, by whomever, see what is missing since. Until cancelled."""
        while True:
            with contextlib.suppress(DatabaseLost):
                async with database.reading() as connection:
                    noticed = await epoch.noticed(connection)
                    if noticed > await asyncio.to_thread(epoch.read, self._seen):
                        known = await asyncio.to_thread(self._read)
                        count = 0
                        for first in range(0, len(known), _BATCH):
                            count += await missing.note(connection, workspace, known[first : first + _BATCH])
                        await asyncio.to_thread(epoch.write, self._seen, noticed)
                        log.warning(
                            "events were answered that the database does not hold: oak-relay missing", events=count
                        )
            await asyncio.sleep(_PAUSE)

    def _read(self) -> list[Answered]:
        found: list[Answered] = []
        for file in (self._file.with_suffix(".old"), self._file):
            with contextlib.suppress(OSError):
                for line in file.read_text().splitlines():
                    with contextlib.suppress(ValueError, TypeError):
                        run_id, workflow_id, source, key, at = values.loads(line)
                        moment = datetime.fromisoformat(at)
                        found.append(Answered(UUID(run_id), UUID(workflow_id), source, key, moment))
        return found
