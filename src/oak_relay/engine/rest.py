"""Strands of a walk side by side, and rest: a run rests when every open strand does."""

import asyncio
from collections.abc import Awaitable, Sequence
from datetime import datetime
from typing import TypeVar

from oak_relay.engine.cuts import HERE
from oak_relay.engine.outcomes import Cancelled, Turned

T = TypeVar("T")
Wake = tuple[str, datetime | None]


class Resting(Turned):
    """The walk has nothing to do until one of its wakes, each a path and a moment (None: another brings it)."""

    def __init__(self, wakes: tuple[Wake, ...]) -> None:
        self.wakes = wakes


class Strands:
    """Counts strands that are at work; when the last one comes to rest, all resting ones raise `Resting`."""

    def __init__(self) -> None:
        self._active = 1
        self._resting: dict[asyncio.Future[bool], Wake | None] = {}

    @property
    def open(self) -> int:
        """Strands that are not over: those at work and those at rest."""
        return max(1, self._active + sum(wake is not None for wake in self._resting.values()))

    async def together(self, strands: Sequence[Awaitable[None]]) -> None:
        """Run strands side by side. The first real failure tells the others to end; when they have, it is raised. If any
        came to rest, `Resting` with all their wakes: also where one failed, for one that was told to end rests only on
        what must be known first."""
        if not strands:
            return
        self._active += len(strands) - 1
        left = len(strands)
        outer = HERE.get()
        part = outer.inner()
        real: BaseException | None = None

        def ended(_: "asyncio.Future[None]") -> None:
            nonlocal left
            left -= 1
            if left:  # the last strand hands its place back to the one that waits for them all
                self._active -= 1
                self._settle()

        async def one(strand: Awaitable[None]) -> None:
            nonlocal real
            HERE.set(part)
            try:
                await strand
            except (Resting, Cancelled, asyncio.CancelledError):
                raise
            except BaseException as error:
                real = real or error
                part.cancel()  # before this strand counts as over, so that those at rest are woken and do not rest on
                raise

        tasks = [asyncio.ensure_future(one(strand)) for strand in strands]
        for task in tasks:
            task.add_done_callback(ended)
        try:
            await asyncio.wait(tasks)
        finally:
            outer.leave(part)
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)
        failures = [e for t in tasks if not t.cancelled() and (e := t.exception())]
        wakes = tuple(w for e in failures if isinstance(e, Resting) for w in e.wakes)
        if wakes:
            raise Resting(wakes)
        if real is not None:
            raise real
        if failures:
            raise failures[0]

    async def sleep(self, sleeping: Awaitable[None], through: bool = False) -> None:
        """A short sleep counts as work; one that is told to end wakes early, unless it sleeps `through`."""
        waiter: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self._resting[waiter] = None
        if not through:
            HERE.get().waits(waiter)
        await self._until(waiter, [sleeping])

    async def rest(
        self, path: str, until: datetime | None, alarms: Sequence[Awaitable[None]], through: bool = False
    ) -> None:
        """Return when one of the alarms does while other strands work, or when told to end (not `through`); raise `Resting`
        when nothing does."""
        waiter: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self._resting[waiter] = (path, until)
        if not through:
            HERE.get().waits(waiter)
        self._active -= 1
        self._settle()
        try:
            await self._until(waiter, alarms)
        finally:
            self._active += 1
        if not waiter.cancelled() and waiter.result():
            raise Resting(((path, until),))

    async def _until(self, waiter: "asyncio.Future[bool]", alarms: Sequence[Awaitable[None]]) -> None:
        ringing = [asyncio.ensure_future(alarm) for alarm in alarms]
        both: list[asyncio.Future[bool] | asyncio.Future[None]] = [waiter, *ringing]
        try:
            await asyncio.wait(both, return_when=asyncio.FIRST_COMPLETED)
        finally:
            self._resting.pop(waiter, None)
            if not waiter.done():
                waiter.cancel()
            for alarm in ringing:
                alarm.cancel()
            await asyncio.gather(*ringing, return_exceptions=True)

    def _settle(self) -> None:
        if self._active == 0:
            for waiter, wake in list(self._resting.items()):
                if wake is not None and not waiter.done():
                    waiter.set_result(True)


async def end_task(task: "asyncio.Future[T]") -> None:
    """End a task and see it end."""
    if not task.done():
        task.cancel()
        await asyncio.wait({task})
    if not task.cancelled():
        task.exception()
