"""What is dear to find out and may be a few seconds old: found out once for all who ask meanwhile."""

import asyncio
import time
from collections.abc import Awaitable, Callable, Hashable
from typing import Generic, TypeVar

T = TypeVar("T")
_MOST = 64


class Lately(Generic[T]):
    """Answers that hold for some seconds, by what was asked; one is made at a time."""

    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        self._making = asyncio.Lock()
        self._known: dict[Hashable, tuple[float, T]] = {}

    async def of(self, asked: Hashable, make: Callable[[], Awaitable[T]]) -> T:
        """The answer, made if it is not there or too old. What `make` raises is raised."""
        known = self._fresh(asked)
        if known is not None:
            return known
        async with self._making:
            known = self._fresh(asked)
            if known is None:
                known = await make()
                if len(self._known) >= _MOST:
                    self._known.clear()
                self._known[asked] = time.monotonic() + self._seconds, known
            return known

    def _fresh(self, asked: Hashable) -> T | None:
        until, known = self._known.get(asked, (0.0, None))
        return known if time.monotonic() < until else None
