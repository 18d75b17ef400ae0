"""The lease of a worker: renewed from a thread of its own, so that a slow expression does not lose it."""

import asyncio
import threading
import time
from datetime import UTC, datetime, timedelta
from uuid import UUID

import structlog

from oak_relay.runtime.watchdog import Watchdog
from oak_relay.store import workers
from oak_relay.store.database import LOST, Database

log = structlog.get_logger()


class Lease:
    """Keeps one incarnation alive while its event loop answers. `left` is how long it surely holds, in seconds; `lost` is
    set when somebody has declared the worker dead; `now` is the time by the database's clock."""

    def __init__(self, database: Database, worker_id: UUID, seconds: float, watchdog: Watchdog) -> None:
        self._database = database
        self._worker_id = worker_id
        self._seconds = seconds
        self._watchdog = watchdog
        self._until = time.monotonic() + seconds
        self._ahead = timedelta()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._renew, name="lease", daemon=True)
        self.lost = False

    def left(self) -> float:
        """Seconds until it ends, as far as this process knows."""
        return 0.0 if self.lost else self._until - time.monotonic()

    def now(self) -> datetime:
        """The time by the database's clock, as far as it is known here."""
        return datetime.now(UTC) + self._ahead

    def start(self) -> None:
        """Renew it from a thread of its own."""
        self._thread.start()

    def stop(self) -> None:
        """Renew it no more."""
        self._stop.set()
        self._thread.join(timeout=5)

    def _renew(self) -> None:
        asyncio.run(self._keep())

    async def _keep(self) -> None:
        connection = None
        while not self._stop.is_set():
            try:
                if connection is None:
                    connection = await self._database.connect_directly()
                began, asked = time.monotonic(), datetime.now(UTC)
                if not self._watchdog.silent:
                    renewed = await workers.renew(connection, self._worker_id, self._seconds)
                    if renewed is None:
                        self.lost = True
                        break
                    self._until = began + self._seconds
                    self._ahead = renewed.now - (asked + (datetime.now(UTC) - asked) / 2)
                    self._database.mark = max(self._database.mark, renewed.mark)
            except LOST as error:
                log.warning("lease connection lost", reason=str(error) or type(error).__name__)
                if connection is not None:
                    connection.terminate()
                    connection = None
            pause = self._seconds / 4 if connection is not None else 0.2
            await asyncio.to_thread(self._stop.wait, pause)
        if connection is not None:
            connection.terminate()
