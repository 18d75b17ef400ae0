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


class GroupCommit(Generic[T, R]):
    """Items go in by `put`; `flush` writes a list of them in one commit and returns their results in order.
    An item the database refuses fails alone. `run` must be running; when it fails, so does every item."""

    def __init__(self, flush: Callable[[list[T]], Awaitable[list[R]]], most: int = 1000, bound: int = 20_000) -> None:
        self._flush = flush
        self._most = most
        self._bound = bound
        self._waiting: deque[tuple[T, asyncio.Future[R]]] = deque()
        self._something = asyncio.Event()
        self._broken: BaseException | None = None

    @property
    def full(self) -> bool:
        """Whether more should not be taken in."""
        return len(self._waiting) >= self._bound

    def put(self, item: T) -> "asyncio.Future[R]":
        """Ask for an item to be written; the future holds its result once that is durable."""
        future: asyncio.Future[R] = asyncio.get_running_loop().create_future()
        if self._broken is not None:
            future.set_exception(self._broken)
            return future
        self._waiting.append((item, future))
        self._something.set()
        return future

    async def run(self) -> None:
        """Write until cancelled."""
        taken: list[tuple[T, asyncio.Future[R]]] = []
        try:
            while True:
                await self._something.wait()
                taken = [self._waiting.popleft() for _ in range(min(self._most, len(self._waiting)))]
                if not self._waiting:
                    self._something.clear()
                await self._write(taken)
                taken = []
        except BaseException as error:
            self._broken = ConnectionError(f"the writer has ended: {error or type(error).__name__}")
            for _, future in (*taken, *self._waiting):
                if not future.done():
                    future.set_exception(self._broken)
                    future.exception()
            self._waiting.clear()
            raise

    async def _write(self, taken: list[tuple[T, "asyncio.Future[R]"]]) -> None:
        try:
            results = await self._flush([item for item, _ in taken])
        except REFUSED as error:
            if len(taken) == 1:
                _settle(taken[0][1], error=error)
                return
            middle = len(taken) // 2
            await self._write(taken[:middle])
            await self._write(taken[middle:])
            return
        for (_, future), result in zip(taken, results, strict=True):
            _settle(future, result)


def _settle(future: "asyncio.Future[R]", result: R | None = None, error: BaseException | None = None) -> None:
    if future.done():
        return
    if error is not None:
        future.set_exception(error)
        future.exception()
    else:
        future.set_result(result)  # type: ignore[arg-type]
