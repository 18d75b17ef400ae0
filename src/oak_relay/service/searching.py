"""Words looked for in runs, as far back as one request may look."""

import asyncio
import time
from collections.abc import Awaitable, Callable
from typing import Any
from uuid import UUID

from oak_relay.document import values
from oak_relay.service.lists import Asked
from oak_relay.service.parts import Parts
from oak_relay.store import searching
from oak_relay.store.database import raw

_AT_ONCE, _SECONDS = 1000, 1.5
"""Runs that are looked at in one statement, and after how many seconds no further ones are."""


async def search(
    parts: Parts, words: str, asked: Asked, listed: Callable[[UUID | None, int], Awaitable[list[Any]]]
) -> tuple[list[Any], UUID | None]:
    """The runs of a list that have these words, and behind which one to look further; None when there is no further one.
    `listed` gives so many runs behind one. Words that stand only in what is blanked are not found: who searches learns
    nothing of secrets."""
    found: list[Any] = []
    after, ends = asked.id(), time.monotonic() + _SECONDS
    while True:
        some = await listed(after, _AT_ONCE)
        async with parts.database.connect() as connection:
            texts = await searching.having(await raw(connection), parts.workspace, [one.id for one in some], words)
        seen = await asyncio.to_thread(_seen, parts, texts, words)
        for one in some:
            if one.id in seen:
                found.append(one)
                if len(found) == asked.limit:
                    return found, one.id
        if len(some) < _AT_ONCE:
            return found, None
        after = some[-1].id
        if time.monotonic() > ends:
            return found, after


def _seen(parts: Parts, found: dict[UUID, tuple[list[str], list[str]]], words: str) -> set[UUID]:
    """Those of which the words may be shown."""
    blanker, plain = parts.registry.now.blanker, words.lower()
    inside = values.dumps(words)[1:-1].lower()
    return {
        run_id
        for run_id, (texts, jsons) in found.items()
        if any(plain in blanker.text(text).lower() for text in texts)
        or any(inside in blanker.json(text).lower() for text in jsons)
    }
