"""`/api/v1/runs`: start, list, one, trace, journal, why, cancel, live streams."""

import asyncio
import re
import time
from collections.abc import AsyncIterator, Mapping
from dataclasses import asdict
from datetime import UTC, datetime
from typing import Annotated, Any, Literal
from uuid import UUID

from fastapi import APIRouter, Header, Query, Request, Response
from pydantic import Field
from sse_starlette import ServerSentEvent

from oak_relay.document import values
from oak_relay.document.errors import ErrorKind
from oak_relay.document.numbers import Whole
from oak_relay.document.schemas import validator
from oak_relay.document.script import script
from oak_relay.engine.effects import READY
from oak_relay.engine.entries import Entry
from oak_relay.engine.paths import EntryPath
from oak_relay.engine.plan import complete
from oak_relay.engine.trace import Within, spans
from oak_relay.runtime.intake import Incoming, RunTemplate, Target
from oak_relay.runtime.pieces import Piece
from oak_relay.service import exact
from oak_relay.service.borders import EventStream, listened
from oak_relay.service.events import event_out, large_out
from oak_relay.service.lists import Asks, Page, page
from oak_relay.service.parts import Caller, CallerDep, ExactRoute, Parts, PartsDep, pieces_until, wait_for
from oak_relay.service.problems import Problem, missing
from oak_relay.service.receipts import Cancelled, Why
from oak_relay.service.searching import search
from oak_relay.service.shapes import EntryOut, In, LineOut, Moment, RunDetail, RunOut, SpanOut, StartedOut, TraceOut
from oak_relay.store import artifacts, people, runs, traces, tray, workflows
from oak_relay.store.database import raw
from oak_relay.store.intake import Receipt
from oak_relay.store.pages import Stored

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["runs"])
_POLL, _TICK, _PAUSE = 2.0, 5.0, 0.5
_FOLLOWED = 20_000


class StartIn(In):
    workflow: str
    input: object = Field(default_factory=dict)
    version: Whole | None = Field(
        None, ge=1, description="A version; the one that is on when left out, or the newest while it is off."
    )


_WAIT = re.compile(r"(?:^|[,;\s])wait\s*=\s*\"?(\d{1,6})\"?", re.IGNORECASE)
_LONGEST_WAIT = 120


@router.post("/runs", status_code=201, response_model=StartedOut)
async def start_run(
    given: StartIn,
    request: Request,
    parts: PartsDep,
    who: CallerDep,
    idempotency_key: Annotated[str | None, Header(max_length=200)] = None,
    prefer: Annotated[
        str | None, Header(max_length=1000, description="`wait=SECONDS` (RFC 7240): until it has ended, 120 at most.")
    ] = None,
) -> Response:
    """Start a run. The same `Idempotency-Key` again gives the same run. With `Prefer: wait=…` the answer comes when the run has
    ended, and holds its result; or after so many seconds, with the run as it is then."""
    receipt = await begin_run(given, parts, who, idempotency_key)
    if receipt.status == "duplicate":
        await _same(parts, receipt.run_id, given)
    asked = _WAIT.search(prefer or "")
    if asked is not None:
        async with parts.waiting.held():
            await _ended(parts, receipt.run_id, min(int(asked[1]), _LONGEST_WAIT), request)
    headers = {"Preference-Applied": f"wait={asked[1]}"} if asked is not None else None
    told = StartedOut(**(await run_of(parts, receipt.run_id)).model_dump())
    if asked is not None and told.state == "succeeded":
        told.result = (await _detail(parts, receipt.run_id)).result
    return exact.answer(told, 200 if receipt.status == "duplicate" else 201, headers)


async def _same(parts: Parts, run_id: UUID, given: StartIn) -> None:
    """Raises `Problem` when a run was begun by another body under the same key."""
    async with parts.database.connect() as connection:
        row = await runs.one(connection, parts.workspace, run_id)
        body = await runs.whole(connection, parts.workspace, row.body) if row is not None else None
    if row is not None and (row.workflow != given.workflow or values.dumps(given.input) != body):
        raise Problem(422, "this Idempotency-Key came with another body", fix="take a new key for another request")


async def _ended(parts: Parts, run_id: UUID, seconds: int, request: Request) -> None:
    """Return when a run has ended, after so many seconds, or when who asked has gone away."""
    deadline = time.monotonic() + seconds
    async with parts.watch.run(run_id) as event, listened(request, event) as gone:
        while time.monotonic() < deadline and not gone.is_set():
            if (await parts.outcomes.of(run_id)).state in runs.OVER:
                return
            await wait_for(event, min(1.0, max(0.0, deadline - time.monotonic())))


async def begin_run(given: StartIn, parts: Parts, who: Caller, key: str | None = None) -> Receipt:
    """Begin a run. Raises `Problem`, and `Busy`."""
    async with parts.database.reading() as connection:
        found = await workflows.beginning(connection, parts.workspace, given.workflow, given.version)
    if found is None:
        raise missing("workflow", given.workflow, "see oak-relay workflows")
    if found.version_id is None:
        raise missing("version", str(given.version))
    known = parts.registry.known_plan(found.version_id)
    if known is None:
        async with parts.database.connect() as slower:
            known = await parts.registry.plan(await raw(slower), found.version_id)
    plan, document = known
    complete(plan)
    wrong = validator(document.input).fault(given.input)
    if wrong:
        raise Problem(422, "the input does not fit the workflow", wrong, "see input: in the document")
    target = Target(found.workflow_id, found.version_id, RunTemplate.of(plan), None, "hand")
    incoming = Incoming(f"/members/{who.name}", "oak.start", given.input, key)
    return await parts.intake.accept(target, incoming)


RunState = Literal["queued", "running", "waiting", "succeeded", "failed", "cancelled", "set aside"]


@router.get("/runs", response_model=Page[RunOut])
async def list_runs(
    parts: PartsDep,
    _: CallerDep,
    asked: Asks,
    workflow: str | None = None,
    state: Annotated[list[RunState] | None, Query()] = None,
    subject: str | None = None,
    text: Annotated[
        str | None, Query(min_length=1, max_length=200, description="Words of its input, result, error, subject or id.")
    ] = None,
    id: Annotated[
        str | None, Query(pattern="^[0-9a-fA-F-]{1,36}$", description="A part of its id, in any case.")
    ] = None,
    error_kind: ErrorKind | None = None,
    since: Moment | None = None,
    until: Moment | None = None,
    parent: UUID | None = None,
    origin: UUID | None = None,
    held: bool = False,
    mended: bool | None = None,
) -> Response:
    """Runs, newest first; stable while new ones arrive. With `held` those alone that are held after a restore; with `mended`
    those alone that another run mended, or (false) all but those. With `text` a page may hold fewer runs than there are, or
    none, and still have a `next`: so far it was looked."""
    async with parts.database.connect() as connection:
        row = await workflows.by_name(connection, parts.workspace, workflow) if workflow else None
    if workflow and row is None:
        return exact.answer(Page[RunOut](items=[]))

    async def listed(behind: UUID | None, limit: int) -> list[Any]:
        async with parts.database.connect() as connection:
            return await runs.find(
                connection,
                parts.workspace,
                workflow_id=row.id if row else None,
                states=None if state is None else [*state],
                subject=subject,
                part_of_id=id,
                error_kind=error_kind,
                since=since,
                until=until,
                after=behind,
                limit=limit,
                parent=parent,
                origin=origin,
                held=held,
                mended=mended,
            )

    if text is not None:
        seen, further = await search(parts, text, asked, listed)
        return exact.answer(Page[RunOut](items=[run_out(one) for one in seen], next=further and str(further)))
    return exact.answer(page(await listed(asked.id(), asked.limit + 1), asked, lambda one: one.id, run_out))


def _stream(events: str) -> dict[int | str, dict[str, Any]]:
    """How a stream of events (WHATWG HTML, server-sent events) is described."""
    schema = {"type": "string", "contentMediaType": "text/event-stream", "description": events}
    return {
        200: {"description": "Events, until one side leaves.", "content": {"text/event-stream": {"schema": schema}}}
    }


_EVERY = (
    "`ready` (`{}`) first; `run` with a RunOut for each run that changed, at most twice a second; `many` (`{}`) when it was more "
    "than can be told; `tick` (`{}`) when nothing changed for some seconds; of the runs that are watched `piece` while a model "
    "writes: `run`, `path`, `attempt`, `at` (where in its text) and `text`."
)
_ONE = (
    "`span` with a SpanOut for each that is new or changed; `run` with a RunOut when the run changed; `piece` while a model writes: "
    "`path`, `attempt`, `at` (where in its text) and `text`. Ends with the run."
)


@router.get("/runs/stream", response_class=EventStream, status_code=200, responses=_stream(_EVERY))
async def stream_runs(
    parts: PartsDep,
    _: CallerDep,
    watch: Annotated[
        list[UUID] | None, Query(max_length=32, description="Runs of which is told what their models just write.")
    ] = None,
) -> EventStream:
    """Server-sent events: `run` with each run that changed, `many` when it was more than can be told; `piece` with what the models
    of the runs that are watched just write."""
    return EventStream(parts.streams, _changes(parts, watch or []))


@router.get("/runs/{run_id:uuid}", response_model=RunDetail)
async def show_run(run_id: UUID, parts: PartsDep, _: CallerDep) -> Response:
    """One run with its result, its event, why it is not moving, its children, and runs that do it again."""
    return exact.answer(await _detail(parts, run_id))


async def _detail(parts: Parts, run_id: UUID) -> RunDetail:
    async with parts.database.connect() as connection:
        row = await runs.one(connection, parts.workspace, run_id)
        if row is None:
            raise missing("run", str(run_id))
        place = await runs.place(connection, parts.workspace, run_id)
        questions = await tray.listed(await raw(connection), parts.workspace, "open", run_id)
        children = [
            r for r in await runs.find(connection, parts.workspace, parent=run_id, limit=50) if r.kind != "part"
        ]
        again = await runs.find(connection, parts.workspace, origin=run_id, limit=50)
        result = await runs.whole(connection, parts.workspace, row.result)
        workers = await runs.workers(connection, parts.workspace, run_id)
    return RunDetail(
        run=run_out(row),
        result=_json(result),
        answer=_json(row.answer),
        event=event_out(row),
        why=_why(row, place, questions),
        children=[run_out(r) for r in children],
        again=[run_out(r) for r in again],
        questions=len(questions),
        workers=workers,
    )


@router.get("/runs/{run_id:uuid}/trace", response_model=TraceOut)
async def show_trace(
    run_id: UUID,
    parts: PartsDep,
    _who: CallerDep,
    under: Annotated[str | None, Query(description="Only what lies below this path, such as per_hut[137].")] = None,
    after: int = -1,
    limit: Annotated[int, Query(ge=1, le=10_000, description="Lines of the journal told at once.")] = 3000,
) -> Response:
    """The script of the run's version and a span for each thing that happened; items of long lists by `under`."""
    async with parts.database.connect() as connection:
        row = await runs.one(connection, parts.workspace, run_id)
        if row is None:
            raise missing("run", str(run_id))
        _, document = await parts.registry.plan(await raw(connection), row.version_id)
        home = await traces.home(connection, parts.workspace, run_id, under or "")
        entries = []
        if home is not None:
            entries = await runs.entries(connection, parts.workspace, home, after, limit + 1, under)
    lines = script(document, (await parts.world()).actions)
    return exact.answer(
        TraceOut(
            run=run_out(row),
            script=[LineOut(**line.as_data()) for line in lines],
            spans=spans_out(_entries(entries[:limit]), row.state in runs.OVER),
            next=entries[limit - 1].seq if len(entries) > limit else None,
        )
    )


@router.get("/runs/{run_id:uuid}/journal", response_model=Page[EntryOut])
async def show_journal(run_id: UUID, parts: PartsDep, _: CallerDep, asked: Asks) -> Response:
    """The journal, entry by entry, as it may be shown."""
    async with parts.database.connect() as connection:
        if await runs.one(connection, parts.workspace, run_id) is None:
            raise missing("run", str(run_id))
        found = await runs.entries(connection, parts.workspace, run_id, asked.number(), asked.limit + 1)
    return exact.answer(page(found, asked, lambda entry: entry.seq, _entry_out))


def _entry_out(entry: Stored) -> EntryOut:
    return EntryOut(
        seq=entry.seq,
        path=entry.path,
        kind=entry.kind,
        attempt=entry.attempt,
        hash=entry.hash,
        body=entry.body,
        detail=entry.detail,
        started=entry.started,
        at=entry.at,
        worker=entry.worker_id,
        large=large_out(**entry.large),
    )


@router.get("/artifacts/{artifact_id}", response_class=Response)
async def show_artifact(artifact_id: str, parts: PartsDep, _: CallerDep) -> Response:
    """The whole of a payload of which only a preview is told: an entry's body or detail, or an event's data (JSON)."""
    async with parts.database.connect() as connection:
        text = await artifacts.one(await raw(connection), parts.workspace, artifact_id)
    if text is None:
        raise missing("payload", artifact_id, "the month of its run may have been dropped")
    return Response(text, media_type="application/json")


@router.get("/runs/{run_id:uuid}/why")
async def why(run_id: UUID, parts: PartsDep, _: CallerDep) -> Why:
    """Why a run is not moving."""
    return Why(why=(await _detail(parts, run_id)).why)


@router.post("/runs/{run_id:uuid}/cancel")
async def cancel_run(run_id: UUID, parts: PartsDep, who: CallerDep) -> Cancelled:
    """Cancel: `cancelled` at once, or `asked` when a worker is just at it, or `over`."""
    async with parts.database.begin() as connection:
        if await runs.one(connection, parts.workspace, run_id) is None:
            raise missing("run", str(run_id))
        outcome = await runs.cancel(connection, parts.workspace, run_id)
        if outcome != "over":
            await people.note(connection, parts.workspace, who.name, "cancel", str(run_id))
    parts.hints.send(f"cancel:{run_id}")
    parts.hints.changed(run_id)
    return Cancelled(outcome=outcome)


@router.get("/runs/{run_id:uuid}/stream", response_class=EventStream, status_code=200, responses=_stream(_ONE))
async def stream_run(run_id: UUID, parts: PartsDep, _: CallerDep) -> EventStream:
    """Server-sent events: `span` for each span that is new or changed, `run` when the run changed, `piece` while a model
    writes (`path`, `attempt`, `at` where in its text, `text`; another attempt begins anew); ends with the run."""
    async with parts.database.connect() as connection:
        if await runs.one(connection, parts.workspace, run_id) is None:
            raise missing("run", str(run_id))
    return EventStream(parts.streams, _follow(parts, run_id))


async def _changes(parts: Parts, watched: list[UUID]) -> AsyncIterator[ServerSentEvent]:
    async with parts.watch.every() as (event, ids), parts.watch.pieces(*watched) as pieces:
        yield ServerSentEvent(event="ready", data="{}")
        while True:
            async for piece in pieces_until(event, pieces, _TICK):
                yield _piece(piece)
            changed = {*ids}
            ids.clear()
            if not changed:
                yield ServerSentEvent(event="tick", data="{}")
                continue
            if "" in changed or len(changed) > 100:
                yield ServerSentEvent(event="many", data="{}")
            else:
                async with parts.database.connect() as connection:
                    rows = await runs.some(connection, parts.workspace, [UUID(i) for i in changed])
                for row in rows:
                    yield ServerSentEvent(event="run", data=exact.text(parts, run_out(row)))
            async for piece in pieces_until(asyncio.Event(), pieces, _PAUSE):
                yield _piece(piece)


def _piece(piece: Piece) -> ServerSentEvent:
    return ServerSentEvent(event="piece", data=values.dumps(asdict(piece)))


async def _follow(parts: Parts, run_id: UUID) -> AsyncIterator[ServerSentEvent]:
    sent: dict[str, int] = {}
    entries: list[Stored] = []
    async with parts.watch.run(run_id) as event, parts.watch.pieces(run_id) as pieces:
        while True:
            async with parts.database.connect() as connection:
                row = await runs.one(connection, parts.workspace, run_id)
                entries += await runs.entries(
                    connection, parts.workspace, run_id, entries[-1].seq if entries else -1, _FOLLOWED
                )
            over = row is None or row.state in runs.OVER
            if len(entries) > _FOLLOWED:
                entries = _still_open(entries)
            for span in spans_out(_entries(entries), over):
                text = exact.text(parts, span)
                if sent.get(span.path) != hash(text):
                    sent[span.path] = hash(text)
                    yield ServerSentEvent(event="span", data=text)
            if row is not None:
                shown = run_out(row)
                text = exact.text(parts, shown if over else shown.model_copy(update={"seconds": None}))
                if sent.get("") != hash(text):
                    sent[""] = hash(text)
                    yield ServerSentEvent(event="run", data=exact.text(parts, shown))
            if over:
                return
            async for piece in pieces_until(event, pieces, _POLL):
                yield _piece(piece)


def _still_open(entries: list[Stored]) -> list[Stored]:
    """Entries without those in items and rounds that are over; the last one is kept, to go on from."""
    over = {e.path.removesuffix("#end") for e in entries if e.kind == "closed"}
    return [e for e in entries[:-1] if e.scope not in over] + entries[-1:]


async def run_of(parts: Parts, run_id: UUID) -> RunOut:
    async with parts.database.connect() as connection:
        row = await runs.one(connection, parts.workspace, run_id)
    if row is None:
        raise missing("run", str(run_id))
    return run_out(row)


def _entries(rows: list[Stored]) -> list[Entry]:
    return [entry_shown(e) for e in rows]


def entry_shown(row: Stored) -> Entry:
    """An entry as it may be shown: what is large as a preview, with the place of the whole among its detail."""
    detail = row.detail
    if row.large:
        detail = {**(detail or {}), "large": [one.model_dump() for one in large_out(**row.large)]}
    return row.as_entry(detail)


def spans_out(entries: list[Entry], over: bool, within: Mapping[str, Within] | None = None) -> list[SpanOut]:
    """Entries as spans; `within` as for `spans`."""
    return [SpanOut(**asdict(span)) for span in spans(entries, over, within)]


def run_out(row: Any) -> RunOut:
    """A run."""
    seconds = None
    if row.started_at:
        seconds = ((row.ended_at or datetime.now(UTC)) - row.started_at).total_seconds()
    return RunOut(
        id=row.id,
        workflow=row.workflow,
        version=row.version,
        state=row.state,
        subject=row.subject,
        trigger=row.trigger_name,
        depth=row.depth,
        error=_json(row.error),
        created_at=row.created_at,
        started_at=row.started_at,
        ended_at=row.ended_at,
        seconds=seconds,
        steps=row.steps,
        attempts=row.attempts,
        tokens_in=row.tokens_in,
        tokens_out=row.tokens_out,
        money=float(row.money),
        unpriced=row.unpriced,
        note=row.note or "",
        mended_by=row.mended_by,
        kind=row.kind,
        parent_id=row.parent_id,
        origin_id=row.origin_id,
        origin_how=row.origin_how,
    )


def _why(row: Any, place: Any, questions: list[Any]) -> str:
    """Why a run is not moving: waiting for what, behind whom, until when."""
    if row.state in runs.OVER:
        return ""
    if place is None:
        return "It is just ending."
    if place.worker_id is not None:
        return f"It is not waiting: the worker {place.worker} is at it."
    if place.held == "lane":
        return f"It waits behind {place.ahead} earlier run{'s' if place.ahead != 1 else ''} of {row.subject}."
    if place.held == "restore":
        return "It is held after a restore of the database: let it go with oak-relay release."
    if questions:
        return f"It waits for a person at {EntryPath.parse(questions[0]['path']).spot}: {questions[0]['text']}"
    if place.children:
        return f"It waits for {place.children} child run{'s' if place.children != 1 else ''}."
    if place.listening and place.listening.startswith(f"{READY}."):
        name = place.listening.removeprefix(f"{READY}.")
        return (
            f"It waits for the credential {name}, which is missing or whose account is out of credit. "
            f"Store it again, or top up and say go: oak-relay credential ready {name}."
        )
    if place.listening:
        return f"It waits for the event {place.listening}."
    if place.workers == 0:
        return "No worker is running: start one with oak-relay work."
    if place.later:
        return f"It rests at {place.path or 'a pause'} until {place.ready_at.isoformat(timespec='seconds')}."
    if place.at_once is not None and place.walked >= place.at_once:
        return f"{place.walked} runs of {row.workflow} are at work, as many as its at_once allows."
    if place.deaths >= 2:
        return f"Workers died under it {place.deaths} times: it is carried out apart from the others."
    return f"It is ready, behind {place.before} others." if place.before else "It is ready and next."


def _json(text: str | None) -> Any:
    return None if text is None else values.loads(text)
