"""Reading a foreign document in a process of its own, with limits of time, memory and what comes back."""

import asyncio
import sys
from collections.abc import Collection
from contextlib import suppress

from oak_relay.actions.openapi.shapes import Description
from oak_relay.actions.openapi.text import LARGEST, BadDescription
from oak_relay.jsontext import NotJson, dumps, loads

_SECONDS = 40.0
_ANSWER = 64_000_000
_AT_ONCE = 2


class Readers:
    """Reads foreign documents, a few at a time. One per process."""

    def __init__(self) -> None:
        self._turn = asyncio.Semaphore(_AT_ONCE)

    async def read(self, raw: bytes, keys: Collection[str] | None = None, place: str = "") -> Description:
        """What a document says, see `reading.described`. Raises `BadDescription`, also for one that takes too long."""
        if len(raw) > LARGEST:
            raise BadDescription(f"the document has more than {LARGEST:,} bytes", "leave out what is not needed")
        head = dumps({"keys": None if keys is None else sorted(keys), "place": place}).encode()
        async with self._turn:
            process = await asyncio.create_subprocess_exec(
                sys.executable,
                "-I",
                "-m",
                "oak_relay.actions.openapi",
                stdin=asyncio.subprocess.PIPE,
                stdout=asyncio.subprocess.PIPE,
                stderr=asyncio.subprocess.DEVNULL,
                env={},
            )
            try:
                async with asyncio.timeout(_SECONDS):
                    answer = await _answer(process, head + b"\n" + raw)
            except BaseException as error:
                with suppress(ProcessLookupError):
                    process.kill()
                if isinstance(error, TimeoutError):
                    raise BadDescription(
                        "the document takes too long to read", "leave out what is not needed"
                    ) from None
                raise
            finally:
                await process.wait()
        try:
            told = loads(answer)
        except NotJson:
            raise BadDescription("the document takes too much to read", "leave out what is not needed") from None
        if "fault" in told:
            raise BadDescription(told["fault"], told["fix"])
        return Description.model_validate(told["description"])


async def _answer(process: asyncio.subprocess.Process, given: bytes) -> bytes:
    """What a process says to what it is given. Raises `BadDescription` when that is too much."""
    assert process.stdin is not None and process.stdout is not None
    giving = asyncio.create_task(_give(process.stdin, given))
    pieces, size = [], 0
    try:
        while piece := await process.stdout.read(1 << 16):
            pieces.append(piece)
            size += len(piece)
            if size > _ANSWER:
                raise BadDescription("the document says more than can be kept", "choose fewer operations")
    finally:
        giving.cancel()
        await asyncio.gather(giving, return_exceptions=True)
    return b"".join(pieces)


async def _give(stdin: asyncio.StreamWriter, given: bytes) -> None:
    with suppress(BrokenPipeError, ConnectionResetError):
        stdin.write(given)
        await stdin.drain()
        stdin.close()
