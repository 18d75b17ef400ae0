"""`/hooks/<path>`: webhooks in. Verified, checked, written, and only then answered."""

import asyncio
import re
import time
from collections.abc import AsyncIterator
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, Response
from sse_starlette import ServerSentEvent

from oak_relay.document import schemas, values, wire
from oak_relay.document.errors import StepFailed
from oak_relay.document.schemas import Validator
from oak_relay.engine.plan import streamed_step
from oak_relay.runtime import intake
from oak_relay.runtime.documents import Busy
from oak_relay.runtime.intake import Incoming, RunTemplate, Target
from oak_relay.runtime.registry import Registry
from oak_relay.service.borders import EventStream, body_of, listened
from oak_relay.service.parts import ExactRoute, Parts, parts_of, pieces_until, wait_for
from oak_relay.service.problems import Problem
from oak_relay.store import artifacts, runs, workflows
from oak_relay.store.database import raw
from oak_relay.triggers import base as triggers
from oak_relay.triggers.base import Occasion, Reply, RequestTrigger
from oak_relay.vault.blanking import BLANK, unseen
from oak_relay.vault.kinds import Credential

router = APIRouter(route_class=ExactRoute, tags=["hooks"])
METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE")
_TRACE_PARENT = re.compile(r"^00-[0-9a-f]{32}-[0-9a-f]{16}-[0-9a-f]{2}$")
_STREAM = "text/event-stream"
_NOTED = frozenset((400, 401, 403, 405, 408, 411, 413, 415, 422, 429, 503))
"""Refusals that are listed for those who build the webhook."""
_AGE = 2.0
_WAIT = 120.0
_HEADERS_KEPT = 60
_LARGE = 50_000
"""Bytes of a body that takes milliseconds to read."""


@dataclass(frozen=True)
class _Hook:
    kind: RequestTrigger[Any]
    given: object
    target: Target
    validator: Validator | None
    made: float


class Hooks:
    """The webhooks of workflows that are on, as far as a process knows them; a stale one is noticed by the write itself."""

    def __init__(self, parts: Parts) -> None:
        self._parts = parts
        self._known: dict[str, _Hook] = {}
        self._asking: set[str] = set()
        parts.hints.on("config", lambda _: self._known.clear())

    async def find(self, path: str, afresh: bool = False) -> _Hook | None:
        """The webhook at a path, None when there is none; `afresh` when what is known has proved stale."""
        known = self._known.get(path)
        if known and not afresh and (time.monotonic() - known.made < _AGE or path in self._asking):
            return known
        self._asking.add(path)  # one asks, the others go on with what is known; the write itself notices a stale one
        try:
            return await self._ask(path)
        finally:
            self._asking.discard(path)

    async def _ask(self, path: str) -> _Hook | None:
        async with self._parts.database.connect() as connection:
            row = await workflows.hook(connection, self._parts.workspace, path)
            if row is None:
                self._known.pop(path, None)
                return None
            _plan, document = await self._parts.registry.plan(await raw(connection), row.version_id)
        target = Target(row.workflow_id, row.version_id, RunTemplate.read(row.start), row.id, row.name)
        checking = schemas.validator(document.input) if document.input else None
        kind = self._parts.registry.catalogue.triggers.get(row.kind)
        if not isinstance(kind, RequestTrigger):
            raise Problem(
                503,
                "this webhook cannot be taken",
                f"the kind of trigger {row.kind} is not installed",
                "install its connector",
                kind="missing",
            )
        found = _Hook(kind, kind.parsed(row.config), target, checking, time.monotonic())
        if len(self._known) > 5000:
            self._known.clear()
        self._known[path] = found
        return found


async def receive(request: Request) -> Response:
    """Take a webhook in. 202 with a receipt, or the run's own answer; 401, 405, 413, 400, 422, 429 as problem
    documents. A handshake is answered with its echo."""
    parts, path = parts_of(request), request.path_params["path"]
    hooks: Hooks = request.app.state.hooks
    hook = await hooks.find(path)
    if hook is None:
        raise Problem(
            404, "no workflow that is on listens here", f"/hooks/{path}", "switch a workflow with this webhook path on"
        )
    try:
        return await _taken(request, hook, hooks, parts, path)
    except Problem as problem:
        if problem.status in _NOTED:
            inside = problem.inside or f"{problem.content['title']}: {problem.content['detail']}"
            parts.refusals.note(hook.target.workflow_id, path, request, problem.status, inside)
        raise
    except values.NotJson as error:
        parts.refusals.note(hook.target.workflow_id, path, request, 400, f"the body is not JSON: {error}")
        raise
    except Busy:
        parts.refusals.note(
            hook.target.workflow_id, path, request, 429, "too much is waiting; the sender was told to come again"
        )
        raise


async def _taken(request: Request, hook: _Hook, hooks: Hooks, parts: Parts, path: str) -> Response:
    """The answer to a request at a webhook."""
    headers, query = dict(request.headers), dict(request.query_params)
    asked = triggers.Request(request.method, path, headers, query)
    arrived = await _received(request, asked, hook, parts)
    if isinstance(arrived, Reply):
        return Response(arrived.text, arrived.status, media_type="text/plain")
    proofs = hook.kind.proofs(hook.given)
    incoming = Incoming(
        source=f"/hooks/{path}",
        type=arrived.type,
        data=arrived.data,
        key=arrived.key,
        query={name: BLANK if name in proofs.query else said for name, said in query.items()},
        headers=unseen(dict(list(headers.items())[:_HEADERS_KEPT]), proofs.headers),
        trace_parent=_trace_parent(request),
    )
    try:
        incoming = intake.arrived(hook.target.template, incoming)
    except StepFailed as failed:
        raise Problem(
            422, "the input cannot be made of this request", failed.message, "see input: of the trigger"
        ) from None
    if hook.validator is not None:
        if len(asked.body) > _LARGE:
            await asyncio.sleep(0)  # reading it took a while, and checking it will: others come in between
        fault = hook.validator.fault(incoming.data)
        if fault:
            raise Problem(422, "the body does not fit the workflow's input", fault, "send what input: asks for")
    receipt = await parts.intake.accept(hook.target, incoming)
    if receipt.status == "stale":
        fresh = await hooks.find(path, afresh=True)
        receipt = await parts.intake.accept(fresh.target, incoming) if fresh else receipt
        if fresh is None or receipt.status == "stale":
            raise Problem(
                404,
                "no workflow that is on listens here",
                f"/hooks/{path}",
                "switch a workflow with this webhook path on",
            )
    if hook.kind.waits(hook.given) and _STREAM in headers.get("accept", ""):
        async with parts.database.connect() as connection:
            plan, _document = await parts.registry.plan(await raw(connection), hook.target.version_id)
        step = streamed_step(plan, parts.registry.catalogue.streams)
        return EventStream(parts.waiting, _streamed(parts, receipt.run_id, step))
    if hook.kind.waits(hook.given):
        async with parts.waiting.held():
            return await _result(parts, receipt.run_id, request)
    receipt_out = {"run": str(receipt.run_id), "duplicate": receipt.status == "duplicate"}
    return JSONResponse({**receipt_out, "dropped": True} if receipt.status == "dropped" else receipt_out, 202)


async def _received(request: Request, asked: triggers.Request, hook: _Hook, parts: Parts) -> Occasion | Reply:
    """What a request is to its trigger. Raises `Problem`."""
    kind, given = hook.kind, hook.given
    if not kind.early(given, asked):
        methods = kind.methods(given)
        if asked.method not in methods:
            allowed = ", ".join(methods)
            raise Problem(405, f"{asked.method} is not taken here", fix=f"send {allowed}", headers={"Allow": allowed})
        asked.body = await body_of(request, parts.settings.body_limit)
    try:
        return await kind.received(given, asked, _Credentials(parts.registry))
    except triggers.Refused as refused:
        told, fix = (refused.detail, refused.fix) if refused.status < 500 else ("", "ask those whose service this is")
        problem = Problem(refused.status, refused.title, told, fix, kind=refused.kind, headers=refused.headers or None)
        problem.inside = f"{refused.title}: {refused.detail}" if refused.detail else refused.title
        raise problem from None


@dataclass(frozen=True, slots=True)
class _Credentials:
    """What requests are proved with."""

    registry: Registry

    async def credential(self, name: str) -> Credential:
        stored = (await self.registry.fresh()).credentials.get(name)
        if stored is None:
            raise StepFailed("missing", f"there is no credential {name}", fix="store the credential")
        return stored


def _trace_parent(request: Request) -> str | None:
    """The caller's trace (W3C Trace Context), when it gives one."""
    given = request.headers.get("traceparent", "")
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


for _method in METHODS:
    router.add_api_route(
        "/hooks/{path:path}",
        receive,
        methods=[_method],
        operation_id=f"receive_{_method.lower()}",
        response_class=Response,
        status_code=202,
        responses={"default": {"description": "What the workflow answers.", "content": {"*/*": {}}}},
        openapi_extra={"parameters": [{"name": "path", "in": "path", "required": True, "schema": {"type": "string"}}]},
    )
