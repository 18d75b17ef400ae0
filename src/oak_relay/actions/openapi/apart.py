"""Reading a foreign document in a process of its own, with limits of time, memory and what comes back."""

import asyncio
from collections.abc import Collection

from oak_relay.actions import apart
from oak_relay.actions.openapi.shapes import Description
from oak_relay.actions.openapi.text import LARGEST, BadDescription
from oak_relay.jsontext import NotJson, dumps, loads

_MODULE = "oak_relay.actions.openapi"
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
        try:
            async with (
                self._turn,
                asyncio.timeout(_SECONDS),
                apart.process(_MODULE, apart.once(head, b"\n", raw)) as said,
            ):
                answer = await apart.whole(said, _ANSWER)
        except TimeoutError:
            raise BadDescription("the document takes too long to read", "leave out what is not needed") from None
        if answer is None:
            raise BadDescription("the document says more than can be kept", "choose fewer operations")
        try:
            told = loads(answer)
        except NotJson:
            raise BadDescription("the document takes too much to read", "leave out what is not needed") from None
        if "fault" in told:
            raise BadDescription(told["fault"], told["fix"])
        return Description.model_validate(told["description"])
