"""Reading, checking and compiling documents: beside the event loop, one at a time, so that nobody waits for a large one."""

import asyncio
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from oak_relay.document.errors import Fault

T = TypeVar("T")
_WAITING = 32
"""How many may wait for their turn; who comes then is told to come again."""


class Busy(Fault):
    """There is more to do than can wait; nothing was taken in."""

    kind = "busy"


class Documents:
    """One per process. `now` is for those who can come again, `surely` for work that was taken in already."""

    def __init__(self) -> None:
        self._thread = ThreadPoolExecutor(1, "documents")
        self._waiting = 0

    async def now(self, work: Callable[[], T]) -> T:
        """Do it in turn. Raises `Busy` when too many wait."""
        if self._waiting >= _WAITING:
            raise Busy("too many documents are waiting to be read")
        return await self.surely(work)

    async def surely(self, work: Callable[[], T]) -> T:
        """Do it in turn, however many wait."""
        self._waiting += 1
        try:
            return await asyncio.get_running_loop().run_in_executor(self._thread, work)
        finally:
            self._waiting -= 1
