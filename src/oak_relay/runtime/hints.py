"""Hints between processes: sent after the commit, coalesced, never relied upon (every listener also polls)."""

import asyncio
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from uuid import UUID

import asyncpg
import structlog

from oak_relay.store.database import LOST, Database

_CHANNEL = "oak_relay"
AGAIN = 5.0
"""Seconds after which who watches says so again; three times as long it counts."""
_MANY = 150
_LONGEST = 7000
"""Bytes of a notification; the server takes less than 8000."""
log = structlog.get_logger()


def go_on() -> None:
    """After a lost connection: raise `CancelledError` if this task was cancelled meanwhile. A driver that cleans up
    a broken connection can put its own error in the place of the cancellation."""
    task = asyncio.current_task()
    if task is not None and task.cancelling():
        raise asyncio.CancelledError


def payloads(topics: list[str]) -> Iterator[str]:
    """Topics in texts that a notification can carry."""
    text = ""
    for topic in topics:
        if text and len(text) + len(topic) >= _LONGEST:
            yield text
            text = ""
        text = f"{text},{topic}" if text else topic
    if text:
        yield text


class Hints:
    """Topics: `queue` (something is ready), `run:<id>` (a run changed), `runs` (many did), `config`, `cancel:<id>`,
    `watching` (somebody wants to know of runs that change; said again every `AGAIN` seconds).

    `on` registers a callback for a topic's first word; it gets what stands behind the colon."""

    def __init__(self, database: Database, pause: float = 0.02) -> None:
        self._database = database
        self._pause = pause
        self._topics: dict[str, None] = {}
        self._something = asyncio.Event()
        self._heard: dict[str, list[Callable[[str], None]]] = defaultdict(list)
        self._watched = 0.0
        self.on("watching", self._somebody)

    def on(self, word: str, callback: Callable[[str], None]) -> None:
        """Call back when a hint about a topic comes, with what stands behind the colon."""
        self._heard[word].append(callback)

    def send(self, topic: str) -> None:
        """Ask for a hint to be sent soon."""
        self._topics[topic] = None
        self._something.set()

    def here(self, topic: str) -> None:
        """Tell this process of a topic, at once."""
        word, _, rest = topic.partition(":")
        for callback in self._heard.get(word, ()):
            callback(rest)

    @property
    def watched(self) -> bool:
        """Whether somebody has lately said that they want to know of runs that change."""
        return time.monotonic() < self._watched

    def changed(self, run_id: UUID) -> None:
        """Tell that a run changed, if somebody wants to know."""
        if self.watched:
            self.send(f"run:{run_id}")

    def watch(self) -> None:
        """Say that somebody wants to know of runs that change."""
        self.send("watching")
        self._somebody()

    def _somebody(self, _: str = "") -> None:
        self._watched = time.monotonic() + 3 * AGAIN

    async def run(self) -> None:
        """Listen and send until cancelled; a lost connection is made anew. Where none can be had, everybody polls."""
        while not self._database.listens:
            self._receive(None, 0, _CHANNEL, ",".join(["queue", "runs", "config", *self._topics]))
            self._topics = {}
            await asyncio.sleep(1.0)
        while True:
            connection: asyncpg.Connection | None = None
            try:
                connection = await self._database.connect_to_listen()
                await connection.add_listener(_CHANNEL, self._receive)
                self._receive(None, 0, _CHANNEL, "queue,runs,config")  # whatever was missed meanwhile
                await self._send_all(connection)
            except (*LOST, asyncpg.PostgresError) as error:
                go_on()
                log.info("hints lost", reason=str(error) or type(error).__name__)
                await asyncio.sleep(0.3)
            finally:
                if connection is not None:
                    connection.terminate()

    async def _send_all(self, connection: asyncpg.Connection) -> None:
        while True:
            try:
                async with asyncio.timeout(5):
                    await self._something.wait()
            except TimeoutError:
                await connection.execute("SELECT 1")  # notice a dead connection
                continue
            self._something.clear()
            topics, self._topics = list(self._topics), {}
            runs = [t for t in topics if t.startswith("run:")]
            if len(runs) > _MANY:
                topics = [t for t in topics if not t.startswith("run:")] + ["runs"]
            for payload in payloads(topics):
                await connection.execute("SELECT pg_notify($1, $2)", _CHANNEL, payload)
            await asyncio.sleep(self._pause)

    def _receive(self, _connection: object, _pid: int, _channel: str, payload: object) -> None:
        for topic in str(payload).split(","):
            self.here(topic)
