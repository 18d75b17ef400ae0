"""`/talk/<path>`: a page on which anybody talks with a workflow that is on. Who talks there is known by a key that the page keeps and
sends with each request (`X-Visitor`); there is no cookie. Nothing that is said is markup for anybody."""

import time
from collections import Counter
from collections.abc import AsyncIterator, Mapping
from pathlib import Path as Path_
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel, Field, StrictBool
from sse_starlette import ServerSentEvent

from oak_relay.document import values
from oak_relay.service import built, exact
from oak_relay.service.borders import FRAMED, EventStream
from oak_relay.service.headers import framed
from oak_relay.service.hearing import hear
from oak_relay.service.lists import Asks, Page, page
from oak_relay.service.overhearing import Overhearing
from oak_relay.service.page_files import MOST_FILES, GivenFile, ShownFile, as_part, shown
from oak_relay.service.page_opening import PageKey, Visitor, Where, given_of, network, opened, paced, person_of
from oak_relay.service.parts import ExactRoute, Parts, PartsDep
from oak_relay.service.problems import Problem
from oak_relay.service.receiving import finished
from oak_relay.service.shapes import In
from oak_relay.store import utterances
from oak_relay.store.database import DatabaseLost, raw
from oak_relay.store.utterances import Heard, Person, Talk
from oak_relay.triggers.conversation import PAGE


class _TalkRoute(ExactRoute):
    """Of who only talks, little is read."""

    most = 30_000


router = APIRouter(route_class=_TalkRoute, tags=["talking"])
LONGEST = 4_000
"""Letters of a message."""
_LOOK = 5.0
"""Seconds after which who listens looks by itself."""
_STAYS = 600.0
"""Seconds after which a stream ends; who listens comes again."""
_OVERLAY = Path_(__file__).parent / "overlay.js"
_SOME, _BEFORE = 200, 300
"""Lines that are told at once, and of what was said before one came."""
_EARS = 50
"""Streams of one address at once, of a process."""
_LISTENING: Counter[str] = Counter()


class CommandOut(BaseModel):
    """A word behind a slash, and what it is for."""

    word: str
    about: str


class TalkPage(BaseModel):
    """What a page looks like before anything is said."""

    title: str
    greeting: str
    suggestions: list[str]
    commands: list[CommandOut]
    colour: str | None
    picture: str | None
    accepts: list[str] = Field(description="What may come besides words: picture, voice, file.")
    draft: int = Field(description="The version that is tried on it; 0 where it is on.")


class SaidIn(In):
    id: str = Field(pattern=r"^[A-Za-z0-9_-]{1,80}$", description="The page's own id of it: the same counts once.")
    text: str = Field("", max_length=LONGEST)
    choice: str | None = Field(None, max_length=60, description="The button that was pressed.")
    files: list[GivenFile] = Field(default_factory=list, max_length=MOST_FILES, description="Files that go with it.")


class SaidOut(BaseModel):
    seq: int = Field(description="Its place in the conversation.")
    duplicate: bool


class Line(BaseModel):
    """Something that was said, by `them` (who visits) or `us`."""

    seq: int
    side: str
    text: str
    buttons: list[str]
    files: list[ShownFile]
    id: str | None = Field(description="The page's own id of what was said by who visits.")
    good: bool | None = Field(description="Whether who visits found it good, as far as they said.")
    at: str


@router.get("/talk/{path}", response_class=Response)
async def talk_page(path: Where, request: Request, parts: PartsDep) -> Response:
    """The page itself; sites that it names may hold it in a frame."""
    answer = built.page("talk/index.html", request.headers.get("accept-encoding", ""))
    try:
        _row, given = await given_of(parts, path)
    except (Problem, DatabaseLost):
        return answer  # it says itself that nobody is there
    if given.sites:
        setattr(request.state, FRAMED, framed(given.sites))
    return answer


@router.get("/talk/{path}/overlay.js", response_class=Response)
async def overlay(path: Where, parts: PartsDep) -> Response:
    """A script that opens the page over another one, of a site that the page names."""
    _row, given = await given_of(parts, path)
    if not given.sites:
        raise Problem(404, "this page is for no other site", f"/talk/{path}", "name the site under sites:")
    return Response(
        _OVERLAY.read_text(),
        media_type="text/javascript",
        headers={"Cache-Control": "max-age=300", "Cross-Origin-Resource-Policy": "cross-origin"},
    )


@router.get("/talk/{path}/about")
async def about_page(path: Where, request: Request, parts: PartsDep, key: PageKey = "") -> TalkPage:
    """What the page looks like."""
    page = await opened(parts, path, request, key)
    given = page.given
    return TalkPage(
        title=page.title,
        greeting=given.greeting,
        suggestions=given.suggestions,
        commands=[CommandOut(word=word, about=about) for word, about in given.commands.items()],
        colour=given.colour,
        picture=given.picture,
        accepts=[what for what in ("picture", "voice", "file") if given.takes(what)],
        draft=page.draft,
    )


@router.post("/talk/{path}/messages", status_code=202)
async def say_something(
    path: Where, given: SaidIn, visitor: Visitor, request: Request, parts: PartsDep, page_key: PageKey = ""
) -> SaidOut:
    """Say something. The same `id` again counts once."""
    if not given.text.strip() and not given.choice and not given.files:
        raise Problem(422, "nothing was said", fix="write something")
    page_ = await opened(parts, path, request, page_key)
    paced(request, page_)
    if page_.plan is not None:
        finished(page_.plan)
    key, person = page_.key(visitor), person_of(visitor)
    text = values.storable_text(given.text) or given.choice or ""
    heard = Heard(given.id, text, given.choice, [as_part(parts, page_.given, key, one) for one in given.files])
    draft = None if page_.target is None else (page_.target, page_.given)
    taken = await hear(parts, path, f"/talk/{path}", Talk(key, Person(person), PAGE), heard, draft)
    return SaidOut(seq=taken.seq, duplicate=taken.status == "duplicate")


class VerdictIn(In):
    seq: int = Field(ge=0, le=2**31 - 1, description="The place of the answer.")
    good: StrictBool | None = Field(description="Whether it was good; null takes that back.")


@router.post("/talk/{path}/verdicts", status_code=204)
async def judge_answer(
    path: Where, given: VerdictIn, visitor: Visitor, request: Request, parts: PartsDep, page_key: PageKey = ""
) -> None:
    """Say whether an answer was good."""
    page_ = await opened(parts, path, request, page_key)
    paced(request, page_)
    async with parts.database.begin() as connection:
        key = page_.key(visitor)
        if not await utterances.judge(await raw(connection), parts.workspace, key, given.seq, given.good):
            raise Problem(404, "there is no such answer", fix="name the seq of something that was said by us")


@router.get("/talk/{path}/messages", response_model=Page[Line])
async def what_was_said(
    path: Where, visitor: Visitor, request: Request, parts: PartsDep, asked: Asks, key: PageKey = ""
) -> Response:
    """What was said so far, both sides, in order."""
    said = (await opened(parts, path, request, key)).key(visitor)
    async with parts.database.connect() as connection:
        found = await utterances.said(await raw(connection), parts.workspace, said, asked.number(), asked.limit + 1)
    return exact.answer(page(found, asked, lambda one: one["seq"], lambda one: _line(parts, one)))


@router.get("/talk/{path}/stream", response_class=Response)
async def listen(
    path: Where,
    visitor: Visitor,
    request: Request,
    parts: PartsDep,
    after: Annotated[int, Query(ge=-1, le=2**31 - 1, description="The `seq` that was told last.")] = -1,
    key: PageKey = "",
) -> Response:
    """What is said, as server-sent events: `said` for each, of what was said before the last 300 at most; `answering` while
    something is made of it, and `writing` for pieces of an answer that is being written: it is said again as a whole, or never. It ends after a while; whoever listens comes again, behind the last `seq`."""
    said = (await opened(parts, path, request, key)).key(visitor)
    who = network(request.client.host if request.client else "")
    if _LISTENING[who] >= _EARS:
        raise Problem(429, "so many listen from there already", fix="close a page", headers={"Retry-After": "30"})
    return EventStream(parts.listening, _heard(who, _stream(parts, said, after)))


async def _heard(who: str, events: AsyncIterator[ServerSentEvent]) -> AsyncIterator[ServerSentEvent]:
    """The same, counted for an address while it lasts."""
    _LISTENING[who] += 1
    try:
        async for event in events:
            yield event
    finally:
        _LISTENING[who] -= 1
        if not _LISTENING[who]:
            del _LISTENING[who]


async def _stream(parts: Parts, key: str, after: int) -> AsyncIterator[ServerSentEvent]:
    deadline, told = time.monotonic() + _STAYS, False
    async with parts.database.connect() as connection:
        after = max(after, await utterances.last(await raw(connection), parts.workspace, key) - _BEFORE)
    async with parts.watch.talk(utterances.mark(key)) as event, Overhearing(parts) as written:
        while time.monotonic() < deadline:
            event.clear()
            async with parts.database.connect() as connection:
                driver = await raw(connection)
                found = await utterances.said(driver, parts.workspace, key, after, _SOME)
                busy = await utterances.answering(driver, parts.workspace, key)
                await written.turn_to(driver, busy)
            blanker = parts.registry.now.blanker
            for row in found:
                after = row["seq"]
                yield ServerSentEvent(event="said", data=blanker.json(_line(parts, row).model_dump_json()))
            if (busy is not None) != told:
                told = busy is not None
                yield ServerSentEvent(event="answering", data="true" if told else "false")
            if len(found) < _SOME:
                async for words in written.until(event, (0.3 if found else 1.0) if told else _LOOK):
                    yield ServerSentEvent(event="writing", data=words.model_dump_json())


def _line(parts: Parts, row: Mapping[str, Any]) -> Line:
    more = values.loads(row["more"])
    files = [shown(parts, part) for part in more.get("parts", ()) if "file" in part]
    return Line(
        seq=row["seq"], side=row["side"], text=row["text"], buttons=more.get("buttons", []), files=files, id=row["key"], good=row["good"], at=row["at"].isoformat()
    )  # fmt: skip
