"""Passwords (Argon2id, RFC 9106): counted before they are tried, and tried beside the event loop, one at a time."""

import asyncio
import math
import secrets
from base64 import b64encode

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error

from oak_relay.service.borders import Room
from oak_relay.service.problems import Problem
from oak_relay.store import tries
from oak_relay.store.database import Database

SHORTEST = 8
"""Characters of a password that a person chooses."""


def _nobodys(hasher: PasswordHasher) -> str:
    """What nobody's password would be kept as, which takes as long to try as any (the PHC string format)."""
    salt, tag = (b64encode(secrets.token_bytes(n)).decode().rstrip("=") for n in (hasher.salt_len, hasher.hash_len))
    return f"$argon2id$v=19$m={hasher.memory_cost},t={hasher.time_cost},p={hasher.parallelism}${salt}${tag}"


class Passwords:
    """Hashes passwords and tries them. One try takes a processor for 100 ms and 64 MiB, so one is made at a time."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._hasher = PasswordHasher(parallelism=1)
        self._nobody = _nobodys(self._hasher)
        self._waiting = Room(30, "sign-ins")
        self._turn = asyncio.Semaphore(1)

    def hash(self, password: str) -> str:
        """What is kept of a password; takes a processor for 100 ms."""
        return self._hasher.hash(password)

    async def hashed(self, password: str) -> str:
        """What is kept of a password, made beside the event loop. Raises `Busy`."""
        async with self._waiting.held(), self._turn:
            return await asyncio.to_thread(self._hasher.hash, password)

    async def check(self, name: str, address: str, kept: str | None, password: str) -> None:
        """Whether a password is the one that is kept; None where nobody has the name, which takes as long to say. Each try
        counts before it is made. Raises `Problem`: 401 when it is not, 429 after too many; and `Busy`."""
        async with self._waiting.held():
            made = tries.Try.of(name, address)
            async with self._database.reading() as connection:
                left = await tries.begin(connection, made)
            if left > 0:
                seconds = math.ceil(left)
                raise Problem(
                    429,
                    "too many wrong passwords",
                    fix=f"try again in {seconds} s, or from where you signed in before",
                    headers={"Retry-After": str(seconds)},
                )
            async with self._turn:
                right = await asyncio.to_thread(self._right, kept or self._nobody, password)
            if right and kept is not None:
                async with self._database.reading() as connection:
                    await tries.right(connection, made)
                return
        raise Problem(401, "the name or the password is wrong", fix="on its own machine: oak-relay password reset NAME")

    def _right(self, kept: str, password: str) -> bool:
        try:
            return self._hasher.verify(kept, password)
        except Argon2Error:
            return False
