"""The sender: what is said on channels leaves here, in order within a conversation, each piece once as far as the other side lets it."""

import asyncio
import contextlib
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime
from typing import Any, TypeVar

import asyncpg
import structlog
from pydantic import ValidationError

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.runtime.context import Tools
from oak_relay.runtime.groupcommit import RETRIED
from oak_relay.runtime.hints import Hints, go_on
from oak_relay.store import outbox, utterances
from oak_relay.store.database import LOST, raw
from oak_relay.store.ids import new_id
from oak_relay.store.outbox import Leaving
from oak_relay.triggers import rendering
from oak_relay.triggers.channel import Channel, Piece, Took

log = structlog.get_logger()
V = TypeVar("V")
_AT_ONCE = 40
"""Conversations that are sent to at the same time."""
_TIME, _LEASE = 20.0, 45.0
"""Seconds that one piece may take, and for which nobody else sends it."""
_LOOK = 1.0
_LONGEST_PAUSE = 300.0
_GIVEN_UP = 86_400.0
"""Seconds after which what cannot be sent is passed over."""
_NEVER = ("missing", "invalid", "too_long")
"""Kinds of failures that another try does not mend."""


class Sender:
    """Sends what waits in the outbox until it is stopped; then what is under way is brought to its end."""

    def __init__(self, tools: Tools, hints: Hints) -> None:
        self._tools = tools
        self._hints = hints
        self._awake = asyncio.Event()
        self._stopping = False
        self._tasks: set[asyncio.Task[None]] = set()
        hints.on("outbox", lambda _: self._awake.set())

    async def run(self) -> None:
        """Send until stopped; a lost database is waited for."""
        while not self._stopping:
            self._awake.clear()
            try:
                pause = await self._claim()
            except LOST as error:
                go_on()
                log.info("sending held up", reason=str(error) or type(error).__name__)
                pause = 0.5
            except Exception:  # of whatever kind: nobody else sends
                log.exception("sending broke")
                pause = 2.0
            if pause:
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(pause):
                        await self._awake.wait()

    async def stop(self) -> None:
        """Take nothing new, and see what is being sent to its end."""
        self._stopping = True
        self._awake.set()
        if self._tasks:
            await asyncio.wait(self._tasks, timeout=_TIME + 5)

    async def _claim(self) -> float:
        """Begin to send what waits; seconds until it is worth looking again."""
        free = _AT_ONCE - len(self._tasks)
        if free <= 0:
            return _LOOK
        workspace, lease = self._tools.registry.workspace, new_id()
        async with self._tools.database.begin() as connection:
            driver = await raw(connection)
            await outbox.bury(driver, workspace)
            let_go = await utterances.let_go(driver, workspace)
            claimed = await outbox.claim(driver, workspace, lease, _LEASE, free)
            due = None if claimed else await outbox.next_ready(driver, workspace)
        for key in let_go:
            self._hints.send(f"talk:{utterances.mark(key)}")
        for one in claimed:
            task = asyncio.create_task(self._send(one))
            self._tasks.add(task)
            task.add_done_callback(self._sent)
        if claimed:
            return 0.0
        return _LOOK if due is None else min(_LOOK, max(0.02, due))

    def _sent(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        self._awake.set()
        if not task.cancelled() and (error := task.exception()) is not None:
            log.error("sending broke", exc_info=error)  # its lease ends, and then it is looked at again

    async def _send(self, one: Leaving) -> None:
        """Send all pieces of one message that are left, and note how it went."""
        try:
            channel, given, pieces = await self._ready(one)
        except StepFailed as failed:
            await self._not_taken(one, failed)
            return
        harmless = channel.shows(given).harmless
        for part in range(one.part, len(pieces)):
            id = f"{one.id}-{part}"
            try:
                async with asyncio.timeout(_TIME):
                    took = await channel.send(given, one.address, pieces[part], id, self._tools.call(_TIME, id))
            except StepFailed as failed:
                await self._not_taken(one, failed, harmless)
                return
            except TimeoutError:
                late = StepFailed("timeout", "the channel gave no answer in time", fix="is it slow?", reached="maybe")
                await self._not_taken(one, late, harmless)
                return
            if not await self._left(one, part, part + 1 == len(pieces), took):
                return  # somebody settled it otherwise meanwhile

    async def _left(self, one: Leaving, part: int, whole: bool, took: Took) -> bool:
        return await self._note(one, lambda c, w: outbox.left(c, w, one, part, whole, _LEASE, took.at))

    async def _ready(self, one: Leaving) -> tuple[Channel[Any], Any, list[Piece]]:
        """The channel, how it is set up, and the pieces of a message, noted before the first is sent. Raises `StepFailed`."""
        await self._tools.registry.fresh()
        channel = self._tools.registry.catalogue.channels.get(one.channel)
        if channel is None:
            message = f"there is no channel {one.channel} here"
            raise StepFailed("unavailable", message, fix="is its connector installed?")
        try:
            given = channel.model.model_validate_json(one.via)
        except ValidationError as error:
            raise StepFailed(
                "invalid", f"the channel is not set up: {error.errors()[0]['msg']}", fix="correct with:"
            ) from None
        if one.pieces is not None:
            pieces = [Piece(text, tuple(said), file, what) for text, said, file, what in values.loads(one.pieces)]
        else:
            buttons, files = one.more.get("buttons", ()), one.more.get("parts", ())
            pieces = await asyncio.to_thread(rendering.pieces, channel.shows(given), one.text, buttons, files)
        noted = values.dumps([[piece.text, list(piece.buttons), piece.file, piece.what] for piece in pieces])
        if not await self._note(
            one, lambda c, w: outbox.begun(c, w, one, noted, channel.shows(given).harmless, _LEASE)
        ):
            return channel, given, []  # it is somebody else's by now
        return channel, given, pieces

    async def _not_taken(self, one: Leaving, failed: StepFailed, harmless: bool = False) -> None:
        """Note why a piece was not taken: it is tried again, passed over, or nobody knows."""
        why = self._tools.registry.now.blanker.text(failed.message)[:500]
        age = (datetime.now(UTC) - one.since).total_seconds()
        taken_perhaps = failed.reached == "maybe" or (failed.reached == "yes" and failed.kind not in _NEVER)
        if taken_perhaps and not harmless:
            await self._note(one, lambda c, w: outbox.unknown(c, w, one, why))
        elif (failed.kind in _NEVER and not failed.waits_for) or age > _GIVEN_UP:
            await self._note(one, lambda c, w: outbox.refused(c, w, one, why))
        else:
            delay = failed.delay if failed.delay is not None else min(0.5 * 2 ** min(one.tries, 20), _LONGEST_PAUSE)
            await self._note(one, lambda c, w: outbox.later(c, w, one, delay, why))
        log.warning("not sent", conversation=one.key, reason=why)

    async def _note(self, one: Leaving, write: Callable[[asyncpg.Connection, int], Awaitable[V]]) -> V:
        """Write how something went, and tell who looks on. What cannot be written in time is unknown when its lease ends."""
        async with asyncio.timeout(_LEASE):
            while True:
                try:
                    async with self._tools.database.begin() as connection:
                        return await write(await raw(connection), self._tools.registry.workspace)
                except (*LOST, *RETRIED):
                    go_on()
                    await asyncio.sleep(0.3)
                finally:
                    self._hints.send(f"talk:{utterances.mark(one.key)}")
        raise AssertionError
