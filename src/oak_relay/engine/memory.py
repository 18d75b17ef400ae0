"""A journal in memory, with a clock of its own: for trying steps and for tests of the engine."""

import asyncio
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

from oak_relay.document import values
from oak_relay.engine.protocols import Entry, LocalEffect


class MemoryJournal:
    """Keeps entries in a list. Sleeping moves its clock on. `apply` carries out local effects."""

    def __init__(self, apply: Callable[[LocalEffect], Any] | None = None, entries: Sequence[Entry] = ()) -> None:
        self.log: list[Entry] = []
        self.clock = datetime(2031, 4, 5, 6, 0, tzinfo=UTC)
        self._apply = apply or (lambda effect: effect.data)
        self._sleepers: list[datetime] = []
        self.signals: dict[str, Any] = {}
        self._by_path: dict[str, list[Entry]] = defaultdict(list)
        self._open: dict[str, Entry] = {}
        for entry in entries:
            self._keep(entry)

    def entries(self, path: str) -> Sequence[Entry]:
        return tuple(self._by_path.get(path, ()))

    def add(self, entry: Entry) -> Any:
        entry = replace(entry, body=values.stored(entry.body))
        self._keep(entry)
        return entry.body

    async def commit(self, entry: Entry, effect: LocalEffect | None = None) -> Any:
        await asyncio.sleep(0)
        if effect is not None:
            entry = replace(entry, body={**(entry.body or {}), "output": self._apply(effect)})
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
        return any(is_below(path, prefix) for path in self._open)

    def opened(self) -> Mapping[str, Entry]:
        return self._open

    def ended(self, path: str) -> bool:
        """Whether what was opened at a path has ended."""
        return path not in self._open

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
        keep_open(self._open, entry)


def keep_open(known: dict[str, Entry], entry: Entry) -> None:
    """What is open behind an entry: opened, and neither ended nor taken back since."""
    place, _, mark = entry.path.rpartition("#")
    if entry.kind == "opened":
        known[entry.path] = entry
    elif mark in ("end", "woke"):
        known.pop(place, None)
    elif mark == "withdrawn":
        for path in [path for path in known if is_below(path, place)]:
            del known[path]


def is_below(path: str, prefix: str) -> bool:
    """Whether a path is `prefix` or lies inside it; all paths lie inside the empty one."""
    if not prefix:
        return True
    return path.startswith(prefix) and path[len(prefix) : len(prefix) + 1] in ("", ".", "[", "!", "#", "~", "/")
