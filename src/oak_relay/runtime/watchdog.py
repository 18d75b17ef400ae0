"""A watchdog: ends this process when its event loop, or its interpreter, stands still.

The timer is the kernel's (`setitimer`, POSIX), so it needs no interpreter: it fires while a library holds the interpreter in
a call that does not return. Where the process stood is written to standard error, and the signal ends it. A thread of ours
winds the timer up again as long as the event loop answers.
"""

import asyncio
import faulthandler
import signal
import sys
import threading
import time

LEAST = 10.0
"""Seconds: a machine that is merely busy, or that its host lets wait for a while, is not to be taken for one that stands still."""


class Watchdog:
    """One per process. `seconds` is how long the loop may be silent; the process ends within twice that, by SIGALRM."""

    def __init__(self, loop: asyncio.AbstractEventLoop, seconds: float) -> None:
        self._loop = loop
        self._seconds = max(LEAST, seconds)
        self._answered = time.monotonic()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._watch, name="watchdog", daemon=True)

    def start(self) -> None:
        """Begin to watch. To be called in the main thread."""
        signal.signal(signal.SIGALRM, signal.SIG_DFL)
        faulthandler.register(signal.SIGALRM, file=sys.stderr, all_threads=False, chain=True)
        self._wind()
        self._thread.start()

    def stop(self) -> None:
        """Watch no longer."""
        self._stop.set()
        signal.setitimer(signal.ITIMER_REAL, 0)

    @property
    def silent(self) -> bool:
        """Whether the loop has not answered for half of what it may take."""
        return time.monotonic() - self._answered > self._seconds / 2

    def _wind(self) -> None:
        signal.setitimer(signal.ITIMER_REAL, self._seconds)

    def _answer(self) -> None:
        self._answered = time.monotonic()

    def _watch(self) -> None:
        while not self._stop.wait(self._seconds / 8):
            if self._loop.is_closed():
                return
            self._loop.call_soon_threadsafe(self._answer)
            if not self.silent and not self._stop.is_set():
                self._wind()
