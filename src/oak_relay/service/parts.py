"""What all resources share: settings, database, registry, intake, hints; and who is asking."""

import asyncio
import re
from collections import defaultdict
from collections.abc import AsyncIterator, Callable, Coroutine, Iterator
from contextlib import asynccontextmanager, contextmanager, suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from json import JSONDecodeError
from typing import Annotated
from urllib.parse import urlsplit
from uuid import UUID

from fastapi import Depends, Request, Response
from fastapi.dependencies.models import Dependant
from fastapi.routing import APIRoute

from oak_relay.actions.openapi.apart import Readers
from oak_relay.document import values
from oak_relay.document.check_base import World
from oak_relay.runtime.context import CallContext, Tools
from oak_relay.runtime.hints import AGAIN, Hints
from oak_relay.runtime.intake import Intake
from oak_relay.runtime.pieces import Piece, read
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.settings import Settings
from oak_relay.service import rights
from oak_relay.service.blanked import blank, let_in
from oak_relay.service.borders import Room, body_of
from oak_relay.service.lately import Lately
from oak_relay.service.once import HEADER, Once
from oak_relay.service.outcomes import Outcomes
from oak_relay.service.passwords import Passwords
from oak_relay.service.problems import Problem
from oak_relay.service.refusals import Refusals
from oak_relay.service.shapes import OverviewOut
from oak_relay.store import people
from oak_relay.store.database import Database
from oak_relay.vault.oauth import OAuth

COOKIE, SECURE_COOKIE = "oak_session", "__Host-oak_session"
"""Of the session: the second over TLS, where no other site of the domain can set it (RFC 6265bis)."""
COOKIES = (SECURE_COOKIE, COOKIE)
_BODILESS = ("GET", "HEAD", "OPTIONS", "TRACE")
_LARGE = 100_000
"""Bytes of an answer from which on it is blanked beside the event loop."""
_COUNTED = 5.0
"""Seconds for which what was counted is told again."""
_PIECES = 1_000
"""Pieces that may wait for who watches a run; who is slower than that misses some."""


class _ExactRequest(Request):
    """A request whose JSON keeps every digit."""

    async def json(self) -> object:
        if not hasattr(self, "_exact"):
            body = await self.body()
            try:
                self._exact = values.loads(body)
            except values.NotJson as error:
                raise JSONDecodeError(str(error), "", 0) from None
        return self._exact


class ExactRoute(APIRoute):
    """A route that reads bodies exactly: numbers keep their digits by every way in. `most` bytes of one are taken, as many
    as the settings say where it is None. What it answers to somebody who is known is blanked of all that is secret. Of those,
    parameters of the query that it does not have are refused, and a POST with an `Idempotency-Key` is done once."""

    most: int | None = None
    streams = False
    """Whether bodies are left to be read as they come."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[object, object, Response]]:
        handle = super().get_route_handler()
        needs = list(_every(self.dependant))
        named = frozenset(field.alias for one in needs for field in one.query_params)
        known = any(one.call is caller for one in needs)
        own = any(field.alias == HEADER for one in needs for field in one.header_params)

        async def exactly(request: Request) -> Response:
            given = _ExactRequest(request.scope, request.receive)
            if known:
                _only(request, named)
            if self.streams:
                return blank(request, await handle(request))
            if request.method not in _BODILESS:
                given._body = await body_of(request, self.most or request.app.state.parts.settings.body_limit)
            if known and not own and request.method == "POST" and HEADER in request.headers:
                who = await caller(given, parts_of(request))
                about = f"{who.member_id} {who.name}"
                answer = await parts_of(request).once.answer(given, given._body, about, lambda: handle(given))
            else:
                answer = await handle(given)
            if len(getattr(answer, "body", b"")) > _LARGE:
                return await asyncio.to_thread(blank, request, answer)
            return blank(request, answer)

        return exactly


def _every(dependant: Dependant) -> Iterator[Dependant]:
    """What a route needs, and what that needs."""
    yield dependant
    for one in dependant.dependencies:
        yield from _every(one)


def _only(request: Request, named: frozenset[str]) -> None:
    """Refuse parameters that a route does not have: one that is spelt wrongly would leave out what it asks for."""
    odd = next((name for name in request.query_params if name not in named), None)
    if odd is not None:
        there = ", ".join(sorted(named)) or "none"
        raise Problem(422, f"there is no parameter {odd[:100]}", fix=f"there is {there}")


_SOON = (0.05, 0.15, 0.4, 0.8)
"""Seconds after which who begins to watch looks again, while workers may not have heard of it."""


class Watch:
    """Tells who waits for a run that it changed. Hints may be missed, so waiting always has an end."""

    def __init__(self, hints: Hints) -> None:
        self._waiting: dict[str, set[asyncio.Event]] = defaultdict(set)
        self.changed: dict[asyncio.Event, set[str]] = {}
        self._hints = hints
        self._pieces: dict[str, list[asyncio.Queue[Piece]]] = defaultdict(list)
        hints.on("piece", self._piece)
        hints.on("run", self._one)
        hints.on("talk", self._talk)
        hints.on("runs", lambda _: self._all())
        self._watchers = 0
        self._saying: asyncio.Task[None] | None = None

    @asynccontextmanager
    async def run(self, run_id: UUID) -> AsyncIterator[asyncio.Event]:
        """An event that is set whenever the run may have changed."""
        event = asyncio.Event()
        self._waiting[str(run_id)].add(event)
        try:
            with self._said(event):
                yield event
        finally:
            self._waiting[str(run_id)].discard(event)
            if not self._waiting[str(run_id)]:
                del self._waiting[str(run_id)]

    @asynccontextmanager
    async def talk(self, mark: str) -> AsyncIterator[asyncio.Event]:
        """An event that is set whenever something may have been said in a conversation."""
        event, topic = asyncio.Event(), f"talk:{mark}"
        self._waiting[topic].add(event)
        try:
            yield event
        finally:
            self._waiting[topic].discard(event)
            if not self._waiting[topic]:
                del self._waiting[topic]

    def _talk(self, mark: str) -> None:
        for event in self._waiting.get(f"talk:{mark}", ()):
            event.set()

    @contextmanager
    def _said(self, event: asyncio.Event) -> Iterator[None]:
        """Workers are told that somebody wants to know of changes. As long as they may not have heard it, the event is set
        now and then."""
        soon: list[asyncio.TimerHandle] = []
        if not self._hints.watched:
            loop = asyncio.get_running_loop()
            soon = [loop.call_later(pause, event.set) for pause in _SOON]
            self._hints.watch()
        self._watchers += 1
        if self._saying is None:
            self._saying = asyncio.create_task(self._say())
        try:
            yield
        finally:
            self._watchers -= 1
            if not self._watchers and self._saying is not None:
                self._saying.cancel()
                self._saying = None
            for timer in soon:
                timer.cancel()

    async def _say(self) -> None:
        while True:
            self._hints.watch()
            await asyncio.sleep(AGAIN)

    @asynccontextmanager
    async def pieces(self, *run_ids: UUID) -> AsyncIterator["asyncio.Queue[Piece]"]:
        """What the models of some runs are just writing; workers are told that somebody watches."""
        queue: asyncio.Queue[Piece] = asyncio.Queue(_PIECES)
        watched = {str(run_id) for run_id in run_ids}
        for run_id in watched:
            self._pieces[run_id].append(queue)

        async def say() -> None:
            while True:
                for run_id in watched:
                    self._hints.send(f"watch:{run_id}")
                await asyncio.sleep(AGAIN)

        saying = asyncio.create_task(say())
        try:
            yield queue
        finally:
            saying.cancel()
            for run_id in watched:
                self._pieces[run_id].remove(queue)
                if not self._pieces[run_id]:
                    del self._pieces[run_id]

    def _piece(self, hint: str) -> None:
        piece = read(hint)
        for queue in self._pieces.get(piece.run, ()):
            if not queue.full():
                queue.put_nowait(piece)

    @asynccontextmanager
    async def every(self) -> AsyncIterator[tuple[asyncio.Event, set[str]]]:
        """An event and the ids of runs that changed; an empty id stands for many."""
        event, ids = asyncio.Event(), set[str]()
        self.changed[event] = ids
        try:
            with self._said(event):
                yield event, ids
        finally:
            del self.changed[event]

    def _one(self, run_id: str) -> None:
        for event in self._waiting.get(run_id, ()):
            event.set()
        for event, ids in self.changed.items():
            ids.add(run_id)
            event.set()

    def _all(self) -> None:
        for events in self._waiting.values():
            for event in events:
                event.set()
        for event, ids in self.changed.items():
            ids.add("")
            event.set()


async def wait_for(event: asyncio.Event, seconds: float) -> None:
    """Return when the event is set, or after so many seconds."""
    with suppress(TimeoutError):
        async with asyncio.timeout(seconds):
            await event.wait()
    event.clear()


async def pieces_until(event: asyncio.Event, pieces: "asyncio.Queue[Piece]", seconds: float) -> AsyncIterator[Piece]:
    """Pieces as they come, until the event is set or so many seconds have passed."""
    deadline = asyncio.get_running_loop().time() + seconds
    waiting = asyncio.ensure_future(event.wait())
    try:
        while not waiting.done() and (left := deadline - asyncio.get_running_loop().time()) > 0:
            getting = asyncio.ensure_future(pieces.get())
            done, _ = await asyncio.wait({waiting, getting}, timeout=left, return_when=asyncio.FIRST_COMPLETED)
            if getting in done:
                yield getting.result()
            else:
                getting.cancel()
    finally:
        waiting.cancel()
        event.clear()


@dataclass
class Parts:
    """One per service process."""

    settings: Settings
    database: Database
    registry: Registry
    hints: Hints
    intake: Intake
    watch: Watch
    outcomes: Outcomes
    tools: Tools
    passwords: Passwords
    refusals: Refusals
    once: Once
    counted: Lately[OverviewOut] = field(default_factory=lambda: Lately(_COUNTED))
    waiting: Room = field(default_factory=lambda: Room(200, "callers who wait for a run"))
    listening: Room = field(default_factory=lambda: Room(2000, "people who listen on pages"))
    streams: Room = field(default_factory=lambda: Room(300, "open streams"))
    readers: Readers = field(default_factory=Readers)
    giving: Room = field(default_factory=lambda: Room(20, "files that visitors give"))
    arriving: Room = field(default_factory=lambda: Room(60, "files that are coming in"))

    @property
    def workspace(self) -> int:
        """The workspace that is served."""
        return self.registry.workspace

    async def world(self) -> World:
        """What documents may name, as it stands now."""
        known = await self.registry.fresh()
        return self.registry.catalogue.world(
            frozenset(known.aliases),
            {name: stored.kind for name, stored in known.credentials.items()},
            {name: [column.name for column in table.columns] for name, table in known.tables.items()},
            known.workflows,
            frozenset(known.servers),
            frozenset(
                name
                for name in known.aliases
                if any(
                    a is None or a.prices is None
                    for a in (
                        known.aliases[name],
                        *(known.aliases.get(other) for other in known.aliases[name].fallbacks),
                    )
                )
            ),
            {
                name: sorted(consent.scopes) if (consent := known.consents.get(name)) else None
                for name, stored in known.credentials.items()
                if isinstance(stored, OAuth) and stored.grant == "code"
            },
            {name: stored.workflows for name, stored in known.credentials.items() if stored.workflows},
        )

    def at(self, timeout: float = 30.0) -> CallContext:
        """Surroundings for trying an action by hand."""
        return self.tools.call(timeout)

    def config_changed(self) -> None:
        """Tell all processes that credentials, aliases, tables, or versions that are on, are others now."""
        self.registry.forget()
        self.hints.here("config")
        self.hints.send("config")


@dataclass(frozen=True)
class Caller:
    """Who is asking: a member in the console, or the holder of a token."""

    name: str
    by: str
    member_id: UUID | None = None
    session_id: UUID | None = None
    workflows: frozenset[str] | None = None
    """The only workflows that its token is for; None for all."""
    rights: frozenset[str] = frozenset()
    """What it may."""

    @property
    def member(self) -> str:
        """Whose session or token it is."""
        return str(self.member_id or self.name)

    def may(self, right: str) -> bool:
        """Whether it has a right."""
        return right in self.rights


def parts_of(request: Request) -> Parts:
    """What this process shares, of a request."""
    return request.app.state.parts


PartsDep = Annotated[Parts, Depends(parts_of)]


async def caller(request: Request, parts: PartsDep) -> Caller:
    """The caller, by bearer token or session cookie, if it may use this route. Cookies work only for requests from our own
    pages."""
    row = await _holder(request, parts)
    if row.kind == "session" and request.method not in _BODILESS:
        same_site(request)
    route = route_of(request)
    if not rights.may(row.role or "", row.rights, route):
        raise Problem(403, "this token may not do that", f"it may {', '.join(row.rights or [])}", "use another token")
    if row.workflows is not None:
        await _within(request, parts, route, frozenset(row.workflows))
    if row.stale:
        async with parts.database.begin() as connection:
            await people.used(connection, parts.workspace, row.id)
    await _let_in(request, parts)
    by = "session" if row.kind == "session" else "token"
    limited = None if row.workflows is None else frozenset(row.workflows)
    return Caller(
        row.name, by, row.member_id, row.id if by == "session" else None, limited, rights.of(row.role or "", row.rights)
    )


async def _holder(request: Request, parts: Parts) -> people.Holder:
    """Whose bearer token or session cookie a request has. Raises `Problem` when it has none that holds."""
    header = request.headers.get("authorization", "")
    if header.lower().startswith("bearer "):
        secret, kind = header[7:].strip(), "api"
        fault, fix = "this token is not known", "make one: oak-relay token add NAME"
    else:
        secret, kind = next((c for name in COOKIES if (c := request.cookies.get(name))), ""), "session"
        fault, fix = "sign in first", "sign in at /, or send a bearer token"
    found = None
    if secret:
        async with parts.database.reading() as connection:
            found = await people.holder(connection, secret, kind)
    if found is None:
        raise Problem(401, fault, fix=fix, headers={"WWW-Authenticate": "Bearer"})
    return found


def route_of(request: Request) -> str:
    """A route as the table of rights has it: `GET /runs/{run_id}`."""
    path = re.sub(r":\w+}", "}", request.scope["route"].path).removeprefix("/api/v1")
    return f"{'GET' if request.method == 'HEAD' else request.method} {path}"


async def _within(request: Request, parts: Parts, route: str, workflows: frozenset[str]) -> None:
    """Whether a request is about the workflows that a token is limited to. Raises `Problem`."""
    asked: object = None
    if route in rights.OF_A_WORKFLOW:
        given = request.path_params
        if "run_id" in given:
            async with parts.database.connect() as connection:
                asked = await people.workflow_of(connection, parts.workspace, given["run_id"])
        elif route == "POST /runs":
            body = await request.json()
            asked = body.get("workflow") if isinstance(body, dict) else None
        else:
            asked = given.get("name") or given.get("workflow") or request.query_params.get("workflow")
    if not isinstance(asked, str) or asked not in workflows:
        only = ", ".join(sorted(workflows))
        raise Problem(
            403, "this token is for other workflows", f"it is for {only}", "name one of them, or use another token"
        )


async def _let_in(request: Request, parts: Parts) -> None:
    """Who asks is known; what is secret is known as it stands now."""
    await parts.registry.fresh()
    let_in(request)


def same_site(request: Request) -> None:
    """Refuse changes that another site's page asks for."""
    site = request.headers.get("sec-fetch-site")
    origin = request.headers.get("origin")
    own = request.headers.get("host", "")
    if site not in (None, "same-origin", "none") or (origin is not None and urlsplit(origin).netloc != own):
        raise Problem(403, "this request comes from another site", fix="use the console itself, or a bearer token")


CallerDep = Annotated[Caller, Depends(caller)]


def is_secure(request: Request, settings: Settings) -> bool:
    """Whether the caller came over TLS, by what is known here."""
    return request.url.scheme == "https" or settings.public_url.startswith("https://")


def session_end(settings: Settings) -> datetime:
    """When a session that begins now ends."""
    return datetime.now(UTC) + timedelta(hours=settings.sign_in_hours)
