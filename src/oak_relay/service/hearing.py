"""What somebody says in a conversation, taken in once, whichever channel it came by."""

import asyncio
import time
from typing import Any

import asyncpg

from oak_relay.runtime.groupcommit import RETRIED
from oak_relay.runtime.intake import Incoming, RunTemplate, Target, new_run
from oak_relay.service.parts import Parts
from oak_relay.service.problems import Problem
from oak_relay.store import utterances, workflows
from oak_relay.store.database import raw
from oak_relay.store.intake import NewRun
from oak_relay.store.utterances import Begun, Heard, Taken, Talk
from oak_relay.triggers.conversation import MESSAGE, Conversation, place

_SOON = 3.0
"""Seconds that a message waits while the question is just being sent which it may be the answer to."""


def nobody(where: str) -> Problem:
    """There is nobody to talk with at an address."""
    return Problem(404, "nobody talks here", where, "switch a workflow with this page on")


async def talked(parts: Parts, path: str) -> tuple[Any, Conversation]:
    """The trigger of conversations at a path, as it is on, and what it says. Raises `Problem`."""
    async with parts.database.connect() as connection:
        row = await workflows.talked(connection, parts.workspace, place(path))
    if row is None:
        raise nobody(f"/talk/{path}")
    given = parts.registry.catalogue.triggers.known(row.kind).parsed(row.config)
    assert isinstance(given, Conversation)
    return row, given


async def hear(
    parts: Parts, path: str, source: str, talk: Talk, heard: Heard, draft: tuple[Target, Conversation] | None = None
) -> Taken:
    """Take in what somebody said, and tell who waits for it; of a `draft` it goes there, in the place of what is on. Raises `Problem`
    and `Busy`."""
    parts.intake.room()
    if talk.address:
        await _sent(parts, talk.key)
    for _ in range(4):
        target, given = draft or await _on(parts, path)

        def begin(begun: Begun, whole: Heard, target: Target = target) -> NewRun:
            meta = {"conversation": begun.data()}
            return new_run(target, Incoming(source, MESSAGE, whole.data(), None, meta=meta))

        try:
            async with parts.database.begin() as connection:
                driver = await raw(connection)
                taken = await utterances.take(driver, parts.workspace, talk, heard, given.waits, begin)
        except (*RETRIED, asyncpg.UniqueViolationError):
            continue
        if taken.status != "stale":
            for topic in (
                "queue",
                "tray" if taken.status in ("answered", "told") else "",
                f"talk:{utterances.mark(talk.key)}",
            ):
                if topic:
                    parts.hints.send(topic)
            if taken.run_id is not None:
                parts.hints.changed(taken.run_id)
            return taken
    raise Problem(503, "it could not be taken", fix="send it again")


async def _on(parts: Parts, path: str) -> tuple[Target, Conversation]:
    row, given = await talked(parts, path)
    return Target(row.workflow_id, row.version_id, RunTemplate.read(row.start), row.id, row.name), given


async def _sent(parts: Parts, key: str) -> None:
    """Wait while a question is on its way to where an answer comes from: it is answered only once it is known to be there."""
    until = time.monotonic() + _SOON
    while time.monotonic() < until:
        async with parts.database.connect() as connection:
            if not await utterances.being_asked(await raw(connection), parts.workspace, key):
                return
        await asyncio.sleep(0.03)
