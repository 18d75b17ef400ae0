"""Work on foreign bytes in a process of its own, which its own module limits in memory and time."""

import asyncio
import sys
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager, suppress

_LINE = 32_000_000


@asynccontextmanager
async def process(
    module: str, given: AsyncIterator[bytes], words: Sequence[str] = ()
) -> AsyncIterator[asyncio.StreamReader]:
    """What a module of ours says when it is carried out with `given` on its standard input; whoever leaves ends it."""
    child = await asyncio.create_subprocess_exec(
        sys.executable, "-I", "-m", module, *words,
        stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.DEVNULL, env={}, limit=_LINE,
    )  # fmt: skip
    assert child.stdin is not None and child.stdout is not None
    giving = asyncio.create_task(_give(child.stdin, given))
    try:
        yield child.stdout
        if giving.done() and not giving.cancelled() and (broke := giving.exception()) is not None:
            raise broke
    finally:
        giving.cancel()
        with suppress(ProcessLookupError):
            child.kill()
        await asyncio.gather(giving, return_exceptions=True)
        await child.communicate()


async def whole(told: asyncio.StreamReader, most: int) -> bytes | None:
    """All that is said; None when it is more than so many bytes."""
    pieces, size = [], 0
    while piece := await told.read(1 << 16):
        pieces.append(piece)
        size += len(piece)
        if size > most:
            return None
    return b"".join(pieces)


async def once(*pieces: bytes) -> AsyncIterator[bytes]:
    """Bytes that are there already, piece by piece."""
    for piece in pieces:
        yield piece


async def _give(stdin: asyncio.StreamWriter, given: AsyncIterator[bytes]) -> None:
    try:
        async for piece in given:
            stdin.write(piece)
            await stdin.drain()
    except (BrokenPipeError, ConnectionResetError):
        pass  # it has ended, which is seen by what it says
    finally:
        stdin.close()
