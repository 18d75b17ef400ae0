"""A watchdog: ends this process when its event loop, or its interpreter, stands still.

The timer is `faulthandler`'s own thread, which needs no interpreter: it fires while a library holds the interpreter in a
call that does not return, writes where every thread stands, and ends the process. A thread of ours winds it up again as
long as the event loop answers.
"""

import asyncio
import faulthandler
import sys
import threading
import time

LEAST = 3.0
"""Seconds: a machine that is merely busy is not to be taken for one that stands still."""


class Watchdog:
    """One per process. `seconds` is how long the loop may be silent; the process ends within twice that."""

    def __init__(self, loop: asyncio.AbstractEventLoop, seconds: float) -> None:
        self._loop = loop
        self._seconds = max(LEAST, seconds)
        self._answered = time.monotonic()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._watch, name="watchdog", daemon=True)

    def start(self) -> None:
        """Begin to watch."""
        faulthandler.dump_traceback_later(self._seconds, exit=True, file=sys.stderr)
        self._thread.start()

    def stop(self) -> None:
        """Watch no longer."""
        self._stop.set()
        faulthandler.cancel_dump_traceback_later()

    @property
    def silent(self) -> bool:
        """Whether the loop has not answered for half of what it may take."""
        return time.monotonic() - self._answered > self._seconds / 2

    def _answer(self) -> None:
        self._answered = time.monotonic()

    def _watch(self) -> None:
        while not self._stop.wait(self._seconds / 8):
            if self._loop.is_closed():
                return
            self._loop.call_soon_threadsafe(self._answer)
            if not self.silent and not self._stop.is_set():
                faulthandler.dump_traceback_later(self._seconds, exit=True, file=sys.stderr)
