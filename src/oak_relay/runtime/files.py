"""Files as steps have them: found by their values, read and kept piece by piece."""

import asyncio
from collections.abc import AsyncIterator
from uuid import UUID

from oak_relay.capabilities.given import HeldFile
from oak_relay.document.errors import StepFailed
from oak_relay.store import files
from oak_relay.store.database import Database
from oak_relay.store.files import Arriving, Bounds, Gone, NoRoom, TooLarge


class Files:
    """The files of a workspace."""

    def __init__(self, database: Database, workspace: int, bounds: Bounds) -> None:
        self._database, self._workspace, self._bounds = database, workspace, bounds

    async def held(self, value: object) -> HeldFile:
        """The file that a value stands for: the value itself or its id. Raises `StepFailed`."""
        told = value if isinstance(value, dict) else {"file": value}
        try:
            id = UUID(str(told.get("file")))
        except ValueError:
            raise StepFailed(
                "invalid", "this is no file", fix="give a file, as a webhook or another step gave it"
            ) from None
        async with self._database.reading() as connection:
            found = await files.about(connection, self._workspace, id)
        if found is None:
            raise _gone(id)
        name, type = (told.get(key) for key in ("name", "type"))
        return HeldFile(
            id,
            name if isinstance(name, str) and name else found.name,
            type if isinstance(type, str) and type else found.type,
            found.size,
        )

    async def pieces(self, file: HeldFile) -> AsyncIterator[bytes]:
        """The bytes of a file. Raises `StepFailed`."""
        try:
            async for piece in files.pieces(self._database, self._workspace, file.id, file.size):
                yield piece
        except Gone:
            raise _gone(file.id) from None

    async def keep(self, name: str, type: str, pieces: AsyncIterator[bytes]) -> HeldFile:
        """Keep bytes as a file, or nothing of them. Raises `StepFailed`, and what `pieces` raises."""
        arriving = Arriving(self._database, self._workspace, self._bounds)
        try:
            await arriving.begin()
            try:
                async for piece in pieces:
                    await arriving.take(piece)
                kept = await arriving.keep(name, type)
            except BaseException:
                await asyncio.shield(arriving.leave())
                raise
        except TooLarge:
            raise StepFailed(
                "too_long", f"{name} is larger than {self._bounds.one:,} bytes", fix="raise file_limit", reached="yes"
            ) from None
        except NoRoom:
            raise StepFailed(
                "too_long",
                "there is no room left for files",
                fix="raise files_limit, or let old history go",
                reached="yes",
            ) from None
        except Gone:
            raise StepFailed("timeout", f"{name} did not come in time", fix="try again", reached="yes") from None
        return HeldFile(kept.id, name, type, kept.size)


def _gone(id: UUID) -> StepFailed:
    return StepFailed("missing", f"the file {id} is not there any more", fix="a file goes when nothing refers to it")
