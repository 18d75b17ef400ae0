"""A journal in memory, with a clock of its own: for trying steps and for tests of the engine."""

import asyncio
from collections import defaultdict
from collections.abc import Callable, Sequence
from datetime import UTC, datetime

from oak_relay.changes import Change
from oak_relay.document import values
from oak_relay.engine.entries import Entry
from oak_relay.engine.opened import Opened


class MemoryJournal:
    """Keeps entries in a list. Sleeping moves its clock on. `apply` carries out local effects."""

    def __init__(self, apply: Callable[[Change], object] | None = None, entries: Sequence[Entry] = ()) -> None:
        self.log: list[Entry] = []
        self.clock = datetime(2031, 4, 5, 6, 0, tzinfo=UTC)
        self._apply = apply or (lambda change: {})
        self._sleepers: list[datetime] = []
        self.signals: dict[str, object] = {}
        self._by_path: dict[str, list[Entry]] = defaultdict(list)
        self.open = Opened()
        for entry in entries:
            self._keep(entry)

    def entries(self, path: str) -> Sequence[Entry]:
        return tuple(self._by_path.get(path, ()))

    def add(self, entry: Entry) -> object:
        entry = entry._replace(body=values.stored(entry.body))
        self._keep(entry)
        return entry.body

    async def commit(self, entry: Entry, change: Change | None = None) -> object:
        await asyncio.sleep(0)
        if change is not None:
            entry = entry._replace(body={**(entry.body or {}), "output": self._apply(change)})
        return self.add(entry)

    def signal(self, path: str) -> object:
        return self.signals.get(path)

    async def arrival(self, path: str) -> None:
        """Nothing arrives while a walk is under way: whoever brings something does so between walks."""
        await asyncio.Event().wait()

    @property
    def full(self) -> bool:
        return False

    async def room(self) -> None:
        """There always is."""

    def ended(self, path: str) -> bool:
        """Whether what was opened at a path has ended."""
        return path not in self.open.entries

    def now(self) -> datetime:
        return self.clock

    def random(self) -> float:
        return 0.5

    async def sleep_until(self, moment: datetime) -> None:
        """The clock moves to the earliest of those who sleep, once nobody else has anything to do."""
        self._sleepers.append(moment)
        try:
            while self.clock < moment:
                before = len(self.log), self.clock
                for _ in range(20):
                    await asyncio.sleep(0)
                if before == (len(self.log), self.clock) and moment <= min(self._sleepers):
                    self.clock = max(self.clock, moment)
        finally:
            self._sleepers.remove(moment)

    def _keep(self, entry: Entry) -> None:
        self.log.append(entry)
        self._by_path[entry.path].append(entry)
        self.open.take(entry)
