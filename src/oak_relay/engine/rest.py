"""Strands of a walk side by side, and rest: a run rests when every open strand does."""

import asyncio
from collections.abc import Coroutine, Sequence
from datetime import datetime
from typing import Any

Wake = tuple[str, datetime | None]


class Resting(Exception):
    """The walk has nothing to do until one of its wakes, each a path and a moment (None: another brings it)."""

    def __init__(self, wakes: tuple[Wake, ...]) -> None:
        self.wakes = wakes


class Strands:
    """Counts strands that are at work; when the last one comes to rest, all resting ones raise `Resting`."""

    def __init__(self) -> None:
        self._active = 1
        self._resting: dict[asyncio.Future[bool], Wake | None] = {}

    @property
    def active(self) -> int:
        """Strands that are at work."""
        return max(1, self._active)

    async def together(self, strands: Sequence[Coroutine[Any, Any, None]]) -> None:
        """Run strands side by side. The first real failure ends the others and is raised; otherwise, if any
        came to rest, `Resting` with all their wakes."""
        if not strands:
            return
        self._active += len(strands) - 1
        left = len(strands)

        def ended(_: "asyncio.Future[None]") -> None:
            nonlocal left
            left -= 1
            if left:  # the last strand hands its place back to the one that waits for them all
                self._active -= 1
                self._settle()

        tasks = [asyncio.ensure_future(strand) for strand in strands]
        for task in tasks:
            task.add_done_callback(ended)
        failures: list[BaseException] = []
        real: BaseException | None = None
        try:
            while real is None and not all(t.done() for t in tasks):
                await asyncio.wait([t for t in tasks if not t.done()], return_when=asyncio.FIRST_COMPLETED)
                failures = [e for t in tasks if t.done() and not t.cancelled() and (e := t.exception())]
                real = next((e for e in failures if not isinstance(e, Resting)), None)
        finally:
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)
        if real is not None:
            raise real
        wakes = tuple(w for e in failures if isinstance(e, Resting) for w in e.wakes)
        if wakes:
            raise Resting(wakes)

    async def sleep(self, sleeping: Coroutine[Any, Any, None]) -> None:
        """A short sleep counts as work; a cancelled walk wakes early."""
        waiter: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self._resting[waiter] = None
        await self._until(waiter, [sleeping])

    async def rest(self, path: str, until: datetime | None, alarms: Sequence[Coroutine[Any, Any, None]]) -> None:
        """Return when one of the alarms does while other strands work; raise `Resting` when none does."""
        waiter: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self._resting[waiter] = (path, until)
        self._active -= 1
        self._settle()
        try:
            await self._until(waiter, alarms)
        finally:
            self._active += 1
        if waiter.done() and waiter.result():
            raise Resting(((path, until),))

    def wake_all(self) -> None:
        """Wake every strand, as a cancelled walk does."""
        for waiter in list(self._resting):
            if not waiter.done():
                waiter.set_result(False)

    async def _until(self, waiter: "asyncio.Future[bool]", alarms: Sequence[Coroutine[Any, Any, None]]) -> None:
        ringing = [asyncio.ensure_future(alarm) for alarm in alarms]
        both: list[asyncio.Future[Any]] = [waiter, *ringing]
        try:
            await asyncio.wait(both, return_when=asyncio.FIRST_COMPLETED)
        finally:
            self._resting.pop(waiter, None)
            for alarm in ringing:
                alarm.cancel()
            await asyncio.gather(*ringing, return_exceptions=True)

    def _settle(self) -> None:
        if self._active == 0:
            for waiter, wake in list(self._resting.items()):
                if wake is not None and not waiter.done():
                    waiter.set_result(True)


async def end_task(task: "asyncio.Future[Any]") -> None:
    """End a task and see it end."""
    if not task.done():
        task.cancel()
        await asyncio.wait({task})
    if not task.cancelled():
        task.exception()
