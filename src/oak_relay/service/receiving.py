"""Occasions that come as requests: at the webhooks of workflows that are on, and at the addresses of drafts. Verified,
checked, written, and only then answered; or kept as a sample, where one is awaited."""

import asyncio
import re
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from itertools import islice
from typing import Any
from uuid import UUID

from fastapi import Request
from fastapi.responses import JSONResponse, Response
from sqlalchemy.ext.asyncio import AsyncConnection
from sse_starlette import ServerSentEvent

from oak_relay.document import schemas, values, wire
from oak_relay.document.errors import StepFailed
from oak_relay.document.models import Workflow
from oak_relay.document.schemas import Validator
from oak_relay.engine.plan import Plan, complete, streamed_step
from oak_relay.runtime import intake
from oak_relay.runtime.documents import Busy
from oak_relay.runtime.intake import Incoming, RunTemplate, Target
from oak_relay.runtime.registry import Registry
from oak_relay.service import uploads
from oak_relay.service.borders import EventStream, body_of, listened
from oak_relay.service.parts import Parts, pieces_until, wait_for
from oak_relay.service.problems import Problem
from oak_relay.store import artifacts, runs, samples
from oak_relay.store.database import raw
from oak_relay.store.samples import Awaited, NewSample
from oak_relay.triggers import base as triggers
from oak_relay.triggers.base import Occasion, Reply, RequestTrigger, TriggerKind
from oak_relay.vault.blanking import BLANK, unseen
from oak_relay.vault.kinds import Credential

METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE")
_TRACE_PARENT = re.compile(r"^00-[0-9a-f]{32}-[0-9a-f]{16}-[0-9a-f]{2}$")
_STREAM = "text/event-stream"
_NOTED = frozenset((400, 401, 403, 405, 408, 409, 411, 413, 415, 422, 429, 503))
"""Refusals that are listed for those who build the workflow."""
_WAIT = 120.0
_HEADERS_KEPT = 60
_LARGE = 50_000
"""Bytes of a body that takes milliseconds to read."""


@dataclass(frozen=True)
class Way:
    """A trigger at an address: what it says, the version that it starts, and `place`, as the address is told of."""

    kind: TriggerKind[Any]
    given: object
    target: Target
    validator: Validator | None
    place: str
    draft: bool = False
    """Whether the same event may come again and again, and runs beside all others of its subject."""

    @property
    def waits(self) -> bool:
        """Whether who sends waits for a reply or the result."""
        return isinstance(self.kind, RequestTrigger) and self.kind.waits(self.given)


def request_kind(parts: Parts, name: str) -> RequestTrigger[Any]:
    """A kind of trigger that takes requests. Raises `Problem` when it is not installed."""
    kind = parts.registry.catalogue.triggers.get(name)
    if not isinstance(kind, RequestTrigger):
        raise Problem(
            503,
            "this webhook cannot be taken",
            f"the kind of trigger {name} is not installed",
            "install its connector",
            kind="missing",
        )
    return kind


def validator_of(document: Workflow) -> Validator | None:
    """What the input of a document's runs is checked with, None where anything fits."""
    return schemas.validator(document.input) if document.input else None


async def draft_way(parts: Parts, connection: AsyncConnection, version: Any, trigger: str, place: str) -> Way | None:
    """A trigger of a version as a way in that disturbs no run that was not made by it; None when it has no such trigger."""
    plan, document = await parts.registry.plan(await raw(connection), version.id)
    meant = next((one for one in document.triggers if one.trigger == trigger), None)
    kind = parts.registry.catalogue.triggers.get(meant.kind) if meant is not None else None
    if meant is None or kind is None:
        return None
    made = None if meant.input is None else intake.Template(meant.input)
    template = replace(RunTemplate.of(plan), policy="free", input=made)
    target = Target(version.workflow_id, version.id, template, None, trigger)
    return Way(kind, kind.read(meant.given), target, validator_of(document), place, draft=True)


def finished(plan: Plan) -> None:
    """Raises `Problem` for a plan with sketches, which are not the sender's."""
    try:
        complete(plan)
    except StepFailed as failed:
        problem = Problem(409, "this workflow is not done yet", fix="ask those whose service this is")
        problem.inside = failed.message
        raise problem from None


@contextmanager
def noting(parts: Parts, way: Way, request: Request) -> Iterator[None]:
    """What is refused within it is listed for those who build the workflow."""

    def note(status: int, reason: str) -> None:
        parts.refusals.note(way.target.workflow_id, way.place, request, status, reason)

    try:
        yield
    except Problem as problem:
        if problem.status in _NOTED:
            note(problem.status, problem.inside or f"{problem.content['title']}: {problem.content['detail']}")
        raise
    except values.NotJson as error:
        note(400, f"the body is not JSON: {error}")
        raise
    except Busy:
        note(429, "too much is waiting; the sender was told to come again")
        raise


async def taken(
    request: Request,
    way: Way,
    parts: Parts,
    afresh: Callable[[], Awaitable[Way]] | None,
    awaited: Awaited | None = None,
) -> Response:
    """The answer to a request at a way in: a receipt, what the run says, or the echo of a handshake. What is awaited is
    kept; without `afresh`, which finds the way as it is now, nothing else is done with it. Raises `Problem`, `NotJson`
    and `Busy`."""
    headers = dict(request.headers)
    query = dict(request.query_params) if request.scope["query_string"] else {}
    asked = triggers.Request(request.method, way.place.removeprefix("/hooks/"), headers, query)
    arrived = await _received(request, asked, way, parts)
    if isinstance(arrived, Reply):
        return Response(arrived.text, arrived.status, media_type="text/plain")
    incoming = _incoming(asked, way, arrived)
    if awaited is not None and await _kept(parts, way, incoming, awaited) and (way.draft or afresh is None):
        return JSONResponse({"kept": True}, 202)
    if afresh is None:
        raise Problem(404, "nothing is awaited here", way.place, "switch a workflow with this webhook path on")
    incoming = _fitting(way, incoming)
    if way.validator is not None:
        if len(asked.body) > _LARGE:
            await asyncio.sleep(0.005)  # reading it took a while, and checking it will: others come in between
        fault = way.validator.fault(incoming.data)
        if fault:
            raise Problem(422, "the body does not fit the workflow's input", fault, "send what input: asks for")
    receipt = await parts.intake.accept(way.target, incoming)
    if receipt.status == "stale":
        way = await afresh()
        receipt = await parts.intake.accept(way.target, incoming)
        if receipt.status == "stale":
            raise Problem(404, "no workflow that is on listens here", way.place, "switch a workflow on")
    if way.waits:
        return await _awaited_answer(request, way, parts, receipt.run_id)
    told = {"run": str(receipt.run_id), "duplicate": receipt.status == "duplicate"}
    if receipt.status == "dropped":
        told["dropped"] = True
    return Response(values.dumps(told), 202, media_type="application/json")


async def _awaited_answer(request: Request, way: Way, parts: Parts, run_id: UUID) -> Response:
    if _STREAM in request.headers.get("accept", ""):
        async with parts.database.connect() as connection:
            plan, _document = await parts.registry.plan(await raw(connection), way.target.version_id)
        step = streamed_step(plan, parts.registry.catalogue.streams)
        return EventStream(parts.waiting, _streamed(parts, run_id, step))
    async with parts.waiting.held():
        return await _result(parts, run_id, request)


def _incoming(asked: triggers.Request, way: Way, arrived: Occasion) -> Incoming:
    """What came in, without what proves who sent it."""
    proofs = way.kind.proofs(way.given) if isinstance(way.kind, RequestTrigger) else triggers.Proofs()
    shown = {name: BLANK if name in proofs.query else said for name, said in asked.query.items()}
    return Incoming(
        source=way.place,
        type=arrived.type,
        data=arrived.data,
        key=arrived.key,
        again=way.draft,
        query=shown,
        headers=unseen(dict(islice(asked.headers.items(), _HEADERS_KEPT)), proofs.headers),
        trace_parent=_trace_parent(asked.headers.get("traceparent", "")),
    )


def _fitting(way: Way, incoming: Incoming) -> Incoming:
    """The same with the input that its trigger makes of it. Raises `Problem`."""
    try:
        return intake.arrived(way.target.template, incoming)
    except StepFailed as failed:
        problem = Problem(422, "the input cannot be made of this request", fix="send what this workflow asks for")
        problem.inside = (
            f"the input cannot be made of it: {failed.message}"  # the document's own words are not the sender's
        )
        raise problem from None


async def _kept(parts: Parts, way: Way, incoming: Incoming, awaited: Awaited) -> bool:
    """Whether it was awaited still, and is a sample now, whether or not it fits."""
    event = values.dumps(intake.event_as_seen(incoming))
    try:
        value = intake.arrived(way.target.template, incoming).data
    except StepFailed:
        value = incoming.data
    new = NewSample(awaited.sample, values.dumps(value), "", awaited.trigger, event)
    async with parts.database.begin() as connection:
        return await samples.came(await raw(connection), parts.workspace, awaited, new)


async def _received(request: Request, asked: triggers.Request, way: Way, parts: Parts) -> Occasion | Reply:
    """What a request is to its trigger. Raises `Problem`."""
    kind, given = way.kind, way.given
    if not isinstance(kind, RequestTrigger):
        if asked.method != "POST":
            raise Problem(405, f"{asked.method} is not taken here", fix="send POST", headers={"Allow": "POST"})
        asked.body = await body_of(request, parts.settings.body_limit)
        return kind.sent(given, values.loads(asked.body) if asked.body else None, datetime.now(UTC))
    if not kind.early(given, asked):
        methods = kind.methods(given)
        if asked.method not in methods:
            allowed = ", ".join(methods)
            raise Problem(405, f"{asked.method} is not taken here", fix=f"send {allowed}", headers={"Allow": allowed})
    try:
        if not kind.early(given, asked):
            if kind.files(given) and uploads.holds_files(request.headers.get("content-type", "")):
                await _files(request, asked, kind, given, parts)
            else:
                asked.body = await body_of(request, parts.settings.body_limit)
        return await kind.received(given, asked, Known(parts.registry))
    except triggers.Refused as refused:
        told, fix = (refused.detail, refused.fix) if refused.status < 500 else ("", "ask those whose service this is")
        problem = Problem(refused.status, refused.title, told, fix, kind=refused.kind, headers=refused.headers or None)
        problem.inside = f"{refused.title}: {refused.detail}" if refused.detail else refused.title
        raise problem from None


async def _files(
    request: Request, asked: triggers.Request, kind: RequestTrigger[Any], given: object, parts: Parts
) -> None:
    """Take the files that a request brings; none is kept of one whose sender is not proved. Raises `Refused` and `Problem`."""
    async with parts.arriving.held():
        proof = await kind.proving(given, asked, Known(parts.registry))
        body = await uploads.taken(request, parts, proof)
        try:
            proof.proved()
        except triggers.Refused:
            await asyncio.shield(body.leave())
            raise
        asked.data, asked.proved = body.data(await uploads.kept(body)), True


@dataclass(frozen=True, slots=True)
class Known:
    """The credentials that requests are proved with."""

    registry: Registry

    async def credential(self, name: str) -> Credential:
        stored = (await self.registry.fresh()).credentials.get(name)
        if stored is None:
            raise StepFailed("missing", f"there is no credential {name}", fix="store the credential")
        return stored


def _trace_parent(given: str) -> str | None:
    """The caller's trace (W3C Trace Context), when it gives one."""
    return given if _TRACE_PARENT.match(given) and given[3:35] != "0" * 32 else None


async def _streamed(parts: Parts, run_id: UUID, step: str) -> AsyncIterator[ServerSentEvent]:
    """`piece` with `text` while the last step's answer is written, `again` when it begins anew, then `result` or `error`."""
    shown, deadline = (-1, ""), time.monotonic() + _WAIT
    yield ServerSentEvent(event="run", data=values.dumps({"run": str(run_id)}))
    async with parts.watch.run(run_id) as event, parts.watch.pieces(run_id) as pieces:
        while time.monotonic() < deadline:
            outcome = await parts.outcomes.of(run_id)
            if outcome.state == "succeeded":
                yield ServerSentEvent(event="result", data=await _whole(parts, outcome.result))
                return
            if outcome.state in runs.OVER:
                error = values.loads(outcome.error or "{}")
                told = {"kind": error.get("kind"), "message": "the run did not succeed", "run": str(run_id)}
                yield ServerSentEvent(event="error", data=values.dumps(told))
                return
            async for piece in pieces_until(event, pieces, 1.0):
                if not step or piece.path.partition("/")[0] != step:
                    continue
                if shown != (piece.attempt, piece.path) or piece.at == 0:
                    if shown[1]:
                        yield ServerSentEvent(event="again", data="{}")
                    shown = piece.attempt, piece.path
                yield ServerSentEvent(event="piece", data=values.dumps({"text": piece.text}))
    yield ServerSentEvent(event="error", data=values.dumps({"kind": "timeout", "message": "the run goes on"}))


async def _whole(parts: Parts, result: str | None) -> str:
    """A result as JSON text, also one that is kept apart."""
    if result is None or artifacts.reference(result) is None:
        return result or "null"
    async with parts.database.connect() as connection:
        return await runs.whole(connection, parts.workspace, result) or "null"


async def _result(parts: Parts, run_id: UUID, request: Request) -> Response:
    """Wait for the run's answer or its end."""
    deadline = time.monotonic() + _WAIT
    async with parts.watch.run(run_id) as event, listened(request, event) as gone:
        while time.monotonic() < deadline and not gone.is_set():
            outcome = await parts.outcomes.of(run_id)
            if outcome.answer is not None:
                return _answer(values.loads(outcome.answer))
            if outcome.state == "succeeded":
                return Response(await _whole(parts, outcome.result), 200, media_type="application/json")
            if outcome.state in runs.OVER:
                error = values.loads(outcome.error or "{}")
                raise Problem(  # what went wrong inside is not the caller's
                    502,
                    "the run did not succeed",
                    fix="ask those whose service this is, with the run's id",
                    kind=error.get("kind"),
                    run=str(run_id),
                )
            await wait_for(event, 1.0)
    return JSONResponse({"run": str(run_id), "state": "running"}, 202)


_NOT_A_WORKFLOWS = frozenset(
    ("set-cookie", "set-cookie2", "clear-site-data", "service-worker-allowed", "strict-transport-security", "content-length", "content-encoding", "date", "server")
)  # fmt: skip
"""Headers of an answer that would act for the whole site, or are the connection's."""


def _answer(given: dict[str, Any]) -> Response:
    status = given.get("status") or 200
    said = {str(k).lower(): values.text_of(v) for k, v in (given.get("headers") or {}).items()}
    headers = {k: v for k, v in said.items() if k not in _NOT_A_WORKFLOWS and not wire.header_fault([(k, v)])}
    body = given.get("body")
    if isinstance(body, str):
        return Response(body, status, headers, headers.get("content-type", "text/plain; charset=utf-8"))
    return Response(values.dumps(body), status, headers, "application/json")
