"""`/hooks/<path>`: webhooks in. Verified, checked, written, and only then answered."""

import re
import time
from collections.abc import AsyncIterator
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qs
from uuid import UUID

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, Response
from jsonschema import Draft202012Validator
from sse_starlette import EventSourceResponse, ServerSentEvent

from oak_relay.document import values
from oak_relay.document.triggers import Handshake, Webhook
from oak_relay.engine.plan import streamed_step
from oak_relay.runtime.intake import Incoming, RunTemplate, Target
from oak_relay.service.parts import ExactRoute, Parts, parts_of, pieces_until, wait_for
from oak_relay.service.problems import Problem
from oak_relay.store import runs, workflows
from oak_relay.store.database import raw
from oak_relay.vault.blanking import unseen
from oak_relay.vault.kinds import Refused, Signing, same_token

router = APIRouter(route_class=ExactRoute, tags=["hooks"])
METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE")
_TRACE_PARENT = re.compile(r"^00-[0-9a-f]{32}-[0-9a-f]{16}-[0-9a-f]{2}$")
_AGE = 2.0
_WAIT = 120.0
_HEADERS_KEPT = 60


@dataclass(frozen=True)
class _Hook:
    webhook: Webhook
    target: Target
    validator: Draft202012Validator | None
    made: float


class Hooks:
    """The live webhooks a process knows; a stale one is noticed by the write itself."""

    def __init__(self, parts: Parts) -> None:
        self._parts = parts
        self._known: dict[str, _Hook] = {}
        self._asking: set[str] = set()
        parts.hints.on("config", lambda _: self._known.clear())

    async def find(self, path: str, afresh: bool = False) -> _Hook | None:
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
            plan, document = await self._parts.registry.plan(await raw(connection), row.version_id)
        target = Target(row.workflow_id, row.version_id, RunTemplate.of(plan), row.id, row.name)
        validator = Draft202012Validator(document.input) if document.input else None
        found = _Hook(Webhook.model_validate(values.loads(row.config)), target, validator, time.monotonic())
        if len(self._known) > 5000:
            self._known.clear()
        self._known[path] = found
        return found


@router.post("/hooks/{path:path}")
async def receive(request: Request) -> Response:
    """Take a webhook in. 202 with a receipt, or the run's own answer; 401, 405, 413, 400, 422, 429 as problem
    documents. A handshake is answered with its echo."""
    parts, path = parts_of(request), request.path_params["path"]
    hooks: Hooks = request.app.state.hooks
    hook = await hooks.find(path)
    if hook is None:
        raise Problem(
            404, "no live workflow listens here", f"/hooks/{path}", "make a workflow with this webhook path live"
        )
    webhook = hook.webhook
    if webhook.handshake and request.method == "GET" and webhook.handshake.echo in request.query_params:
        return await _echo(parts, webhook.handshake, request)
    if request.method not in webhook.methods:
        allowed = ", ".join(webhook.methods)
        raise Problem(405, f"{request.method} is not taken here", fix=f"send {allowed}", headers={"Allow": allowed})
    body = await _body(request, parts.settings.body_limit)
    await _verify(parts, webhook, request, body)
    data = _data(request, body)
    if hook.validator is not None:
        fault = next(hook.validator.iter_errors(data), None)
        if fault:
            raise Problem(
                422,
                "the body does not fit the workflow's input",
                f"{fault.json_path}: {fault.message}",
                "send what input: asks for",
            )
    incoming = Incoming(
        source=f"/hooks/{path}",
        type="webhook",
        data=data,
        key=request.headers.get(webhook.id),
        query=dict(request.query_params),
        headers=unseen(dict(list(request.headers.items())[:_HEADERS_KEPT])),
        trace_parent=_trace_parent(request),
    )
    receipt = await parts.intake.accept(hook.target, incoming)
    if receipt.status == "stale":
        hook = await hooks.find(path, afresh=True)
        receipt = await parts.intake.accept(hook.target, incoming) if hook else receipt
        if hook is None or receipt.status == "stale":
            raise Problem(
                404, "no live workflow listens here", f"/hooks/{path}", "make a workflow with this webhook path live"
            )
    if hook.webhook.answer == "stream":
        async with parts.database.connect() as connection:
            plan, _document = await parts.registry.plan(await raw(connection), hook.target.version_id)
        return EventSourceResponse(_streamed(parts, receipt.run_id, streamed_step(plan)), ping=15)
    if hook.webhook.answer == "result":
        return await _result(parts, receipt.run_id)
    told = {"run": str(receipt.run_id), "duplicate": receipt.status == "duplicate"}
    return JSONResponse({**told, "dropped": True} if receipt.status == "dropped" else told, 202)


async def _body(request: Request, limit: int) -> bytes:
    """The body, refused as soon as it is too long."""
    said = request.headers.get("content-length", "")
    too_long = Problem(413, "the body is too long", f"at most {limit} bytes are taken", "send less")
    if said.isdigit() and int(said) > limit:
        raise too_long
    pieces, size = [], 0
    async for piece in request.stream():
        size += len(piece)
        if size > limit:
            raise too_long
        pieces.append(piece)
    return b"".join(pieces)


def _data(request: Request, body: bytes) -> Any:
    """The body as a value: JSON, or the fields of a form; without a body the query."""
    if not body:
        return dict(request.query_params) or None
    if request.headers.get("content-type", "").startswith("application/x-www-form-urlencoded"):
        fields = parse_qs(body.decode("utf-8", "replace"), keep_blank_values=True)
        return {name: found[0] if len(found) == 1 else found for name, found in fields.items()}
    return values.loads(body)


def _trace_parent(request: Request) -> str | None:
    """The caller's trace (W3C Trace Context), when it gives one."""
    given = request.headers.get("traceparent", "")
    return given if _TRACE_PARENT.match(given) and given[3:35] != "0" * 32 else None


async def _stored(parts: Parts, name: str | None) -> Any:
    stored = (await parts.registry.fresh()).credentials.get(name or "")
    if stored is None:
        raise Problem(
            503,
            "this webhook cannot be checked",
            f"there is no credential {name}",
            "store the credential",
            kind="missing",
        )
    return stored


async def _echo(parts: Parts, handshake: Handshake, request: Request) -> Response:
    """The echo that a sender asks for before it sends."""
    if handshake.token:
        stored = await _stored(parts, handshake.credential)
        if not same_token(request.query_params.get(handshake.token, ""), stored.plain()):
            raise Problem(403, "the handshake's token is wrong", fix="give the sender the stored secret")
    return Response(request.query_params[handshake.echo], media_type="text/plain")


async def _verify(parts: Parts, webhook: Webhook, request: Request, body: bytes) -> None:
    verify = webhook.verify
    if verify.scheme == "none":
        return
    stored = await _stored(parts, verify.credential)
    if verify.scheme in ("bearer", "basic"):
        expected = stored.headers().get("Authorization", "") if verify.scheme == "basic" else f"Bearer {stored.plain()}"
        if not expected or not same_token(request.headers.get("authorization", ""), expected):
            challenge = {"WWW-Authenticate": verify.scheme.capitalize()}
            raise Problem(
                401, f"the {verify.scheme} authorization is wrong", fix="send Authorization", headers=challenge
            )
        return
    if not isinstance(stored, Signing):
        raise Problem(
            503,
            "this webhook cannot be checked",
            f"{verify.credential} is no signing secret",
            "store one of kind signing",
            kind="invalid",
        )
    try:
        if verify.scheme == "signed":
            stored.verify(body, request.headers)
        else:
            given = request.headers.get(verify.header, "")
            stored.verify_plain(body, given, verify.prefix, verify.encoding, verify.digest)
    except Refused as refused:
        raise Problem(401, "the signature is wrong", str(refused), "sign with the shared secret") from None


async def _streamed(parts: Parts, run_id: UUID, step: str) -> AsyncIterator[ServerSentEvent]:
    """`piece` with `text` while the last step's answer is written, `again` when it begins anew, then `result` or `error`."""
    told, deadline = (-1, ""), time.monotonic() + _WAIT
    yield ServerSentEvent(event="run", data=values.dumps({"run": str(run_id)}))
    async with parts.watch.run(run_id) as event, parts.watch.pieces(run_id) as pieces:
        while time.monotonic() < deadline:
            async with parts.database.connect() as connection:
                row = await runs.one(connection, parts.workspace, run_id)
                assert row is not None
                if row.state == "succeeded":
                    result = await runs.whole(connection, parts.workspace, row.result)
                    yield ServerSentEvent(event="result", data=result or "null")
                    return
            if row.state in runs.OVER:
                error = values.loads(row.error or "{}")
                yield ServerSentEvent(event="error", data=values.dumps({k: error.get(k) for k in ("kind", "message")}))
                return
            async for piece in pieces_until(event, pieces, 1.0):
                if not step or piece.path.partition("/")[0] != step:
                    continue
                if told != (piece.attempt, piece.path) or piece.at == 0:
                    if told[1]:
                        yield ServerSentEvent(event="again", data="{}")
                    told = piece.attempt, piece.path
                yield ServerSentEvent(event="piece", data=values.dumps({"text": piece.text}))
    yield ServerSentEvent(event="error", data=values.dumps({"kind": "timeout", "message": "the run goes on"}))


async def _result(parts: Parts, run_id: UUID) -> Response:
    """Wait for the run's answer or its end."""
    deadline = time.monotonic() + _WAIT
    async with parts.watch.run(run_id) as event:
        while time.monotonic() < deadline:
            async with parts.database.connect() as connection:
                row = await runs.one(connection, parts.workspace, run_id)
            assert row is not None
            if row.answer is not None:
                return _answer(values.loads(row.answer))
            if row.state == "succeeded":
                async with parts.database.connect() as connection:
                    result = await runs.whole(connection, parts.workspace, row.result)
                return Response(result or "null", 200, media_type="application/json")
            if row.state in runs.OVER:
                error = values.loads(row.error or "{}")
                raise Problem(
                    502,
                    "the run did not succeed",
                    error.get("message", ""),
                    "see the run",
                    kind=error.get("kind"),
                    run=str(run_id),
                )
            await wait_for(event, 1.0)
    return JSONResponse({"run": str(run_id), "state": "running"}, 202)


def _answer(given: dict[str, Any]) -> Response:
    status = given.get("status") or 200
    headers = {k: values.text_of(v) for k, v in (given.get("headers") or {}).items()}
    body = given.get("body")
    if isinstance(body, str):
        return Response(body, status, headers, headers.get("content-type", "text/plain; charset=utf-8"))
    return Response(values.dumps(body), status, headers, "application/json")
