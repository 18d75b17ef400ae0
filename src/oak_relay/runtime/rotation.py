"""Another master key in the place of the one there is, while everything runs.

All that is sealed is sealed anew, by a data key that the new master key wraps. At every moment either key file opens everything,
so whoever is stopped in between begins again and goes on.
"""

import asyncio
import contextlib
import os
from dataclasses import dataclass
from pathlib import Path

from oak_relay.runtime.boot import base, key_file
from oak_relay.runtime.settings import Settings
from oak_relay.store.database import Database
from oak_relay.store.keyring import Keyring
from oak_relay.vault.sealing import KeyProblem, master_key, new_key

_SETTLE = 3.0
"""Seconds after which every process has heard of a new data key."""
_TRIES = 20


@dataclass(frozen=True, slots=True)
class Rotated:
    """How many texts were sealed anew, and whether the former master key is of no use any more."""

    sealed: int
    finished: bool


async def rotate(settings: Settings, given: str | None = None, later: bool = False) -> Rotated:
    """Replace the master key. One that is kept in a file is made anew there; of one that processes are given, the next one is
    given too, and `finish` is for when all of them have it, as for a file of which other machines have copies (`later`). Raises
    `KeyProblem`."""
    async with base(settings, migrate=False) as ground:
        keyring, database = ground.registry.vault.keyring, ground.database
        if settings.key is not None:
            if given is None:
                raise KeyProblem("the master key is given by OAK_RELAY_KEY; give the next one too (--new-key-from)")
            await keyring.begin(database, master_key(key_file(settings), given))
            return Rotated(await _sealed(keyring, database), False)
        file = key_file(settings)
        if not await keyring.begun(database, master_key(file)):
            following = file.with_name(f"{file.name}.next")
            if not following.exists():
                new_key(following)
            await keyring.begin(database, master_key(following))
            _replaced(following, file)
        sealed = await _sealed(keyring, database)
        if later:
            return Rotated(sealed, False)
        await _finished(keyring, database, master_key(file))
        return Rotated(sealed, True)


async def finish(settings: Settings) -> int:
    """Only the master key that processes are given now opens anything from now on; how many texts were still sealed anew.
    Raises `KeyProblem`."""
    async with base(settings, migrate=False) as ground:
        keyring, database = ground.registry.vault.keyring, ground.database
        master = master_key(key_file(settings), settings.key.get_secret_value() if settings.key else None)
        sealed = await keyring.sealed_anew(database)
        await _finished(keyring, database, master)
        return sealed


async def _sealed(keyring: Keyring, database: Database) -> int:
    """Seal all anew, and once more what processes sealed that had not heard of the new key."""
    sealed = await keyring.sealed_anew(database)
    await asyncio.sleep(_SETTLE)
    return sealed + await keyring.sealed_anew(database)


async def _finished(keyring: Keyring, database: Database, master: bytes) -> None:
    for left in range(_TRIES, 0, -1):
        try:
            return await keyring.finish(database, master)
        except KeyProblem:
            if left == 1:
                raise
            await keyring.sealed_anew(database)


def _replaced(following: Path, file: Path) -> None:
    """Put a file into the place of another one, for good."""
    with contextlib.suppress(FileNotFoundError):  # somebody who does the same was quicker
        os.replace(following, file)
    folder = os.open(file.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)
