"""A journal in memory, with a clock of its own: for trying steps and for tests of the engine."""

import asyncio
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from oak_relay.changes import Change
from oak_relay.document import values
from oak_relay.engine.protocols import Entry


class MemoryJournal:
    """Keeps entries in a list. Sleeping moves its clock on. `apply` carries out local effects."""

    def __init__(self, apply: Callable[[Change], Any] | None = None, entries: Sequence[Entry] = ()) -> None:
        self.log: list[Entry] = []
        self.clock = datetime(2031, 4, 5, 6, 0, tzinfo=UTC)
        self._apply = apply or (lambda change: {})
        self._sleepers: list[datetime] = []
        self.signals: dict[str, Any] = {}
        self._by_path: dict[str, list[Entry]] = defaultdict(list)
        self._open = Open()
        for entry in entries:
            self._keep(entry)

    def entries(self, path: str) -> Sequence[Entry]:
        return tuple(self._by_path.get(path, ()))

    def add(self, entry: Entry) -> Any:
        entry = entry._replace(body=values.stored(entry.body))
        self._keep(entry)
        return entry.body

    async def commit(self, entry: Entry, change: Change | None = None) -> Any:
        await asyncio.sleep(0)
        if change is not None:
            entry = entry._replace(body={**(entry.body or {}), "output": self._apply(change)})
        return self.add(entry)

    def signal(self, path: str) -> Any:
        return self.signals.get(path)

    async def arrival(self, path: str) -> None:
        """Nothing arrives while a walk is under way: whoever brings something does so between walks."""
        await asyncio.Event().wait()

    @property
    def full(self) -> bool:
        return False

    async def room(self) -> None:
        """There always is."""

    def open_under(self, prefix: str) -> bool:
        return any(is_below(path, prefix) for path in self._open.entries)

    def opened(self) -> Mapping[str, Entry]:
        return self._open.entries

    def allotted(self) -> Mapping[str, float]:
        return self._open.allotted

    def ended(self, path: str) -> bool:
        """Whether what was opened at a path has ended."""
        return path not in self._open.entries

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
        self._open.take(entry)


class Open:
    """What is open behind the entries of a journal: opened, and neither ended nor taken back since; and the money that was
    allotted to child runs that have not told yet what they spent."""

    def __init__(self) -> None:
        self.entries: dict[str, Entry] = {}
        self.allotted: dict[str, float] = {}

    def take(self, entry: Entry) -> None:
        place, _, mark = entry.path.rpartition("#")
        if entry.kind == "opened":
            self.entries[entry.path] = entry
            money = (entry.body or {}).get("money")
            if money is not None and "fault" not in ((entry.body or {}).get("output") or {}):
                self.allotted[entry.path] = money
        elif mark in ("end", "woke", "spent"):
            self.entries.pop(place, None)
            self.allotted.pop(place, None)
        elif mark == "withdrawn":
            for path in [path for path in self.entries if is_below(path, place)]:
                del self.entries[path]


def is_below(path: str, prefix: str) -> bool:
    """Whether a path is `prefix` or lies inside it; all paths lie inside the empty one."""
    if not prefix:
        return True
    return path.startswith(prefix) and path[len(prefix) : len(prefix) + 1] in ("", ".", "[", "!", "#", "~", "/")
