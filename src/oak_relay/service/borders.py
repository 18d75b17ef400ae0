"""What every request meets before anything is done for it: a limit of its body's size and time, and of who may wait."""

import asyncio
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, field

from sse_starlette import EventSourceResponse, ServerSentEvent
from starlette.requests import ClientDisconnect, Request
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from oak_relay.document.numbers import whole
from oak_relay.runtime.documents import Busy
from oak_relay.service.headers import DOCUMENTS, GUARD, HOOKS
from oak_relay.service.problems import Problem
from oak_relay.store import epoch
from oak_relay.store.database import DatabaseLost

BODY_SECONDS = 30.0
"""Seconds that a body may take to arrive."""
SIGN_IN_BYTES = 10_000
"""Bytes of a body from who has not signed in."""
_FILES = "/api/v1/files/"
_STRANGERS = ("/hooks/", "/drafts/", _FILES)
"""Paths whose answers hold what strangers wrote: they act for nobody."""
_CONTAINERS = 50_000
"""Lists and mappings in one body."""


async def body_of(request: Request, most: int, seconds: float = BODY_SECONDS) -> bytes:
    """The body, refused as soon as it is known to be too long, and not waited for longer than so many seconds. Raises
    `Problem`: 413, 408, and 400 when the sender goes away."""
    length = request.headers.get("content-length", "")
    if length and ((announced := whole(length)) is None or announced > most):
        raise _too_long(most)
    pieces: list[bytes] = []
    size = 0
    try:
        async with asyncio.timeout(seconds):
            async for piece in request.stream():
                size += len(piece)
                if size > most:
                    raise _too_long(most)
                pieces.append(piece)
    except TimeoutError:
        raise Problem(408, "the body did not arrive in time", fix="send it faster", kind="timeout") from None
    except ClientDisconnect:
        raise Problem(400, "the body broke off", fix="send it whole") from None
    body = b"".join(pieces)
    if body.count(b"[") + body.count(b"{") > _CONTAINERS:
        raise Problem(
            413, "the body holds too many lists and mappings", f"at most {_CONTAINERS:,}", "send less at once"
        )
    return body


def _too_long(most: int) -> Problem:
    return Problem(413, "the body is too long", f"at most {most} bytes are taken", "send less")


@dataclass
class Room:
    """So many may be in it at once; who comes then is told to come again."""

    most: int
    what: str
    inside: int = field(default=0)

    def enter(self) -> None:
        """Raises `Busy` when it is full."""
        if self.inside >= self.most:
            raise Busy(f"{self.what}: {self.most} at once are as many as are served")
        self.inside += 1

    def leave(self) -> None:
        """Somebody else may come in."""
        self.inside -= 1

    @asynccontextmanager
    async def held(self) -> AsyncIterator[None]:
        """Be in it. Raises `Busy`."""
        self.enter()
        try:
            yield
        finally:
            self.leave()


class EventStream(EventSourceResponse):
    """Server-sent events that take a place in a room for as long as they are sent. Raises `Busy` when it is full."""

    media_type = "text/event-stream"

    def __init__(self, room: Room, events: AsyncIterator[ServerSentEvent]) -> None:
        room.enter()
        self._room = room
        super().__init__(events, ping=15)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        try:
            await super().__call__(scope, receive, send)
        finally:
            self._room.leave()


@asynccontextmanager
async def listened(request: Request, changed: asyncio.Event) -> AsyncIterator[asyncio.Event]:
    """An event that is set when the caller has gone away, `changed` with it. Only for requests whose body is read."""
    gone = asyncio.Event()

    async def listen() -> None:
        while (await request.receive())["type"] != "http.disconnect":
            pass
        gone.set()
        changed.set()

    listening = asyncio.create_task(listen())
    try:
        yield gone
    finally:
        listening.cancel()


_FORWARDED = frozenset((b"forwarded", b"x-forwarded-for", b"x-forwarded-host", b"x-forwarded-proto", b"x-real-ip"))
"""Headers that a proxy in front sets (RFC 7239 and before it)."""
_AN_HOUR = 3600.0
_STRICT = (b"strict-transport-security", b"max-age=31536000")
"""From then on by TLS alone (RFC 6797)."""


_POLICY = b"content-security-policy"
FRAMED = "framed"
"""Where a request keeps the policy (CSP) of its answer, when some sites may hold that in a frame."""


class Guard:
    """Sets the headers of every answer, notes when somebody comes through a proxy, and refuses addresses that hold what nothing here can be called."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        self._headers = [(k.lower().encode(), v.encode()) for k, v in GUARD.items()]
        self._of_hooks = [(k.lower().encode(), v.encode()) for k, v in HOOKS.items()]
        self._of_documents = [(k.lower().encode(), v.encode()) for k, v in DOCUMENTS.items()]
        self._names = {name for name, _ in self._headers}
        self._noted = 0.0

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        if any(name in _FORWARDED for name, _ in scope["headers"]) and time.monotonic() > self._noted:
            parts = scope["app"].state.parts
            with suppress(DatabaseLost):  # the next one notes it
                async with parts.database.reading() as connection:
                    await epoch.expose(connection)
                self._noted = time.monotonic() + _AN_HOUR
                parts.registry.forget()

        async def guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                others = [pair for pair in message["headers"] if pair[0].lower() not in self._names]
                message["headers"] = others + self._of(scope["path"], others)
                if (policy := scope.get("state", {}).get(FRAMED)) is not None:
                    message["headers"] = [pair for pair in message["headers"] if pair[0] != _POLICY]
                    message["headers"].append((_POLICY, policy.encode()))
                if scope.get("scheme") == "https":
                    message["headers"].append(_STRICT)
            await send(message)

        if _unusable(scope):
            refusal = Problem(
                400, "the address holds characters that nothing here has", fix="leave out NUL and half characters"
            )
            await refusal.response()(scope, receive, guarded)
            return
        await self._app(scope, receive, guarded)

    def _of(self, path: str, others: list[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
        """The headers of an answer."""
        if not path.startswith(_STRANGERS):
            return self._headers
        document = path.startswith(_FILES) and (b"content-type", b"application/pdf") in others
        return self._of_documents if document else self._of_hooks


def _unusable(scope: Scope) -> bool:
    """Whether path or query hold U+0000, or are no UTF-8."""
    if "\x00" in scope["path"] or b"%00" in scope["query_string"] or b"\x00" in scope["query_string"]:
        return True
    return "\ufffd" in scope["path"] and b"%EF%BF%BD" not in scope["raw_path"].upper()
