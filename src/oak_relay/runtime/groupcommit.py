"""Group commit: what many ask for while one commit is under way goes together into the next."""

import asyncio
from collections import deque
from collections.abc import Awaitable, Callable
from typing import Generic, TypeVar

import asyncpg

T = TypeVar("T")
R = TypeVar("R")
REFUSED = (asyncpg.DataError, asyncpg.IntegrityConstraintViolationError, asyncpg.ProgramLimitExceededError)
"""What the database says about one item rather than about the connection or the batch."""
RETRIED = (asyncpg.DeadlockDetectedError, asyncpg.SerializationError)
"""What the database undoes whole and asks to be tried again."""


class Over(Exception):
    """Raised by a flush, it ends the writer: nothing more can be written by it."""


class Ended(Exception):
    """The writer has ended; what was asked for was not written."""


class GroupCommit(Generic[T, R]):
    """Items go in by `put`, or by `leave` where nobody waits for them; `flush` writes a list of them in one commit and returns for each its result, or the error
    that is its own. An item that makes the flush fail fails alone; of one that nobody waits for `unheard` is told. `run` must be running; when it ends, what waits fails
    with `Ended`. `bound` items or `heaviest` bytes (as `weigh` says) may wait; `most` and an eighth of the bytes go together."""

    def __init__(
        self,
        flush: Callable[[list[T]], Awaitable[list[R | Exception]]],
        most: int = 1000,
        bound: int = 20_000,
        weigh: Callable[[T], int] = lambda _: 1,
        heaviest: int = 64_000_000,
        unheard: Callable[[T, BaseException], None] = lambda item, error: None,
    ) -> None:
        self._flush = flush
        self._most = most
        self._bound = bound
        self._weigh = weigh
        self._heaviest = heaviest
        self._unheard = unheard
        self._weight = 0
        self._waiting: deque[tuple[T, int, asyncio.Future[R] | None]] = deque()
        self._something = asyncio.Event()
        self._room = asyncio.Event()
        self._room.set()
        self._broken: BaseException | None = None

    @property
    def full(self) -> bool:
        """Whether more should not be taken in."""
        return len(self._waiting) >= self._bound or self._weight >= self._heaviest

    async def room(self) -> None:
        """Return when more may be taken in, or nothing ever will be."""
        while self.full and self._broken is None:
            self._room.clear()
            await self._room.wait()

    def put(self, item: T) -> "asyncio.Future[R]":
        """Ask for an item to be written; the future holds its result once that is durable."""
        future: asyncio.Future[R] = asyncio.get_running_loop().create_future()
        if self._broken is not None:
            _settle(future, self._broken)
        else:
            self._append(item, future)
        return future

    def leave(self, item: T) -> None:
        """Ask for an item to be written, without waiting for it."""
        if self._broken is None:
            self._append(item, None)

    def _append(self, item: T, future: "asyncio.Future[R] | None") -> None:
        weight = self._weigh(item)
        self._weight += weight
        self._waiting.append((item, weight, future))
        self._something.set()

    async def run(self) -> None:
        """Write until cancelled, or until a flush says that it is `Over`."""
        taken: list[tuple[T, asyncio.Future[R] | None]] = []
        try:
            while True:
                await self._something.wait()
                taken = self._take()
                await self._write(taken)
                taken = []
        except BaseException as error:
            self._broken = Ended(f"the writer has ended: {error or type(error).__name__}")
            for future in (*(f for _, f in taken), *(f for _, _, f in self._waiting)):
                _settle(future, self._broken)
            self._waiting.clear()
            self._room.set()
            raise

    def _take(self) -> list[tuple[T, "asyncio.Future[R] | None"]]:
        """What goes together into the next commit: so many, and not more than an eighth of what may wait in bytes."""
        taken: list[tuple[T, asyncio.Future[R] | None]] = []
        weight = 0
        while self._waiting and len(taken) < self._most and (not taken or weight < self._heaviest // 8):
            item, heavy, future = self._waiting.popleft()
            weight += heavy
            taken.append((item, future))
        self._weight -= weight
        if not self._waiting:
            self._something.clear()
        if not self.full:
            self._room.set()
        return taken

    async def _write(self, taken: list[tuple[T, "asyncio.Future[R] | None"]]) -> None:
        try:
            results = await self._flush([item for item, _ in taken])
        except Over:
            raise
        except Exception as error:  # of whatever kind: it is one item's, and the others are not to suffer for it
            if len(taken) == 1:
                self._tell(*taken[0], error)
                return
            middle = len(taken) // 2
            await self._write(taken[:middle])
            await self._write(taken[middle:])
            return
        for (item, future), result in zip(taken, results, strict=True):
            self._tell(item, future, result)

    def _tell(self, item: T, future: "asyncio.Future[R] | None", result: R | BaseException) -> None:
        if future is not None:
            _settle(future, result)
        elif isinstance(result, BaseException):
            self._unheard(item, result)


def _settle(future: "asyncio.Future[R] | None", result: R | BaseException) -> None:
    if future is None or future.done():
        return
    if isinstance(result, BaseException):
        future.set_exception(result)
        future.exception()
    else:
        future.set_result(result)
