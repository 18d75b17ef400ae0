"""Passwords (Argon2id, RFC 9106): tried beside the event loop, one at a time, and more slowly after wrong ones."""

import asyncio
import time
from collections import OrderedDict

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error

from oak_relay.service.borders import Room
from oak_relay.service.problems import Problem

_FREE_TRIES = 5
_LONGEST_PAUSE = 300.0
_NAMES = 10_000
"""Names whose wrong tries are remembered; the longest untried are forgotten first."""


class Passwords:
    """Hashes passwords and tries them. One try takes a processor for 100 ms and 64 MiB, so one is made at a time."""

    def __init__(self) -> None:
        self._hasher = PasswordHasher(parallelism=1)
        self._nobody = self._hasher.hash("nobody's")
        self._waiting = Room(30, "sign-ins")
        self._turn = asyncio.Semaphore(1)
        self._wrong: OrderedDict[str, tuple[int, float]] = OrderedDict()

    def hash(self, password: str) -> str:
        """What is kept of a password."""
        return self._hasher.hash(password)

    async def check(self, name: str, kept: str | None, password: str) -> None:
        """Whether a password is the one that is kept; None where nobody has the name, which takes as long to say. Raises
        `Problem`: 401 when it is not, 429 after too many wrong ones; and `Busy`."""
        count, until = self._wrong.get(name, (0, 0.0))
        left = until - time.monotonic()
        if left > 0:
            seconds = int(left) + 1
            raise Problem(
                429, "too many wrong passwords", fix=f"try again in {seconds} s", headers={"Retry-After": str(seconds)}
            )
        async with self._waiting.held(), self._turn:
            right = await asyncio.to_thread(self._right, kept or self._nobody, password)
        if right and kept is not None:
            self._wrong.pop(name, None)
            return
        count = self._wrong.get(name, (0, 0.0))[0]
        pause = min(2.0 ** max(0, count - _FREE_TRIES), _LONGEST_PAUSE) if count >= _FREE_TRIES else 0.0
        self._wrong[name] = (count + 1, time.monotonic() + pause)
        self._wrong.move_to_end(name)
        if len(self._wrong) > _NAMES:
            self._wrong.popitem(last=False)
        raise Problem(401, "the name or the password is wrong", fix="the password was printed at the first start")

    def _right(self, kept: str, password: str) -> bool:
        try:
            return self._hasher.verify(kept, password)
        except Argon2Error:
            return False
