"""What a model is writing just now for somebody who talks, as it is told before it is said."""

import asyncio
import re
from collections.abc import AsyncIterator
from contextlib import AsyncExitStack
from uuid import UUID

import asyncpg
from pydantic import BaseModel, Field

from oak_relay.engine.plan import spoken_steps
from oak_relay.runtime.pieces import Piece
from oak_relay.service.parts import Parts, pieces_until, wait_for
from oak_relay.store.utterances import Answering

_SPEAKS = re.compile(r"(?:[^/]*\.)?(\w+)(?:/turn\[\d+\])?(?:~\d+)?")
"""The path of what a step itself says, or a turn of an agent: never what its tools ask of models."""


class Words(BaseModel):
    """A piece of an answer that is being written."""

    text: str
    anew: bool = Field(description="Whether it is the first of an answer; what was told of another one is void.")


class Overhearing:
    """Follows one run at a time; nothing of a run that judges its words before it says them."""

    def __init__(self, parts: Parts) -> None:
        self._parts = parts
        self._run: UUID | None = None
        self._steps: frozenset[str] = frozenset()
        self._stack = AsyncExitStack()
        self._pieces: asyncio.Queue[Piece] | None = None
        self._at: tuple[str, int, int] | None = None

    async def __aenter__(self) -> "Overhearing":
        return self

    async def __aexit__(self, *_: object) -> None:
        await self._stack.aclose()

    async def turn_to(self, connection: asyncpg.Connection, answering: Answering | None) -> None:
        """Follow another run, or none."""
        run = None if answering is None else answering.run_id
        if run == self._run:
            return
        await self._stack.aclose()
        self._run, self._pieces, self._at, self._steps = run, None, None, frozenset()
        if answering is None:
            return
        plan, _document = await self._parts.registry.plan(connection, answering.version_id)
        self._steps = spoken_steps(plan, self._parts.registry.catalogue.streams)
        if self._steps:
            self._pieces = await self._stack.enter_async_context(self._parts.watch.pieces(answering.run_id))

    async def until(self, event: asyncio.Event, seconds: float) -> AsyncIterator[Words]:
        """Words as they come, until the event is set or so many seconds have passed."""
        if self._pieces is None:
            await wait_for(event, seconds)
            return
        async for piece in pieces_until(event, self._pieces, seconds):
            spoken = _SPEAKS.fullmatch(piece.path)
            if spoken is not None and spoken[1] in self._steps and (words := self._words(piece)) is not None:
                yield words

    def _words(self, piece: Piece) -> Words | None:
        """What is new of a piece; None of one whose beginning was not heard."""
        anew = piece.at == 0
        if not anew and self._at != (piece.path, piece.attempt, piece.at):
            return None
        self._at = piece.path, piece.attempt, piece.at + len(piece.text)
        return Words(text=piece.text, anew=anew)
