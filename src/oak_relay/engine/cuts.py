"""Cuts: parts of a walk that are told to end, such as a strand beside one that failed, a step past its time-out, the run.

Nothing new is begun in such a part. Calls that may be repeated are ended at once. One that must not be cut unseen comes to
its end first, or it is found out what became of it: then a question may be waited for even here.
"""

import asyncio
from contextvars import ContextVar


class Cut:
    """A part of a walk, and the parts inside it. `cancelled` once it is to end; `why` says what for."""

    __slots__ = ("_calls", "_inner", "_waiters", "cancelled", "why")

    def __init__(self) -> None:
        self.cancelled = False
        self.why = ""
        self._inner: list[Cut] = []
        self._calls: set[asyncio.Task[object]] = set()
        self._waiters: set[asyncio.Future[bool]] = set()

    def inner(self) -> "Cut":
        """A part inside this one."""
        part = Cut()
        part.cancelled, part.why = self.cancelled, self.why
        self._inner.append(part)
        return part

    def leave(self, part: "Cut") -> None:
        """A part inside has come to its end."""
        self._inner.remove(part)

    def cancel(self, why: str = "") -> None:
        """Tell this part, and all inside it, to end."""
        if self.cancelled:
            return
        self.cancelled, self.why = True, why
        for task in self._calls:
            task.cancel()
        for waiter in self._waiters:
            if not waiter.done():
                waiter.set_result(False)
        for part in self._inner:
            part.cancel(why)

    def calls(self, task: "asyncio.Task[object]") -> None:
        """A call that may be ended at any time; it is forgotten when it is over."""
        if self.cancelled:
            task.cancel()
        self._calls.add(task)
        task.add_done_callback(self._calls.discard)

    def waits(self, waiter: "asyncio.Future[bool]") -> None:
        """Something that is waited for, and woken with False when this part is told to end."""
        if self.cancelled and not waiter.done():
            waiter.set_result(False)
        self._waiters.add(waiter)
        waiter.add_done_callback(self._waiters.discard)


HERE: ContextVar[Cut] = ContextVar("cut")
"""The part of the walk in which a task is at work."""
