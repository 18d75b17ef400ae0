"""The stand-ins on one port: `/v1` the model (`/MANNERS/v1` with other manners, see `standins.manners`), `/office` the booking office (`/office/api` by its OpenAPI document), `/search` the search desk, `/weather` the
weather station; `/messenger` the messaging service; `/office/oauth` the office's consents; `/received` and `/faults` for all.

Secrets come from the environment: `STANDIN_MODEL_KEY`, `STANDIN_OFFICE_KEY`, `STANDIN_SIGNING_SECRET`, `STANDIN_OFFICE_SECRET`,
`STANDIN_MESSENGER_KEY`, `STANDIN_MESSENGER_SECRET` and `STANDIN_MESSENGER_URL` (the key that the messenger takes, what it signs with, and where it
sends), `STANDIN_REDIRECTS` (addresses of apps that consents are sent back to), and `STANDIN_HOOK_URL`, where the office sends its webhooks."""

import asyncio
import json
import os
import uuid
from collections.abc import AsyncIterator, Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
from fastapi import FastAPI, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response, StreamingResponse
from standardwebhooks import Webhook

from oak_relay.standins import accounts, bookings, consent, desk, messenger, weather
from oak_relay.standins.ledger import Dropped, Fault, Ledger
from oak_relay.standins.manners import manner_of
from oak_relay.standins.media import spoken, vector
from oak_relay.standins.model import MODELS, Rules, pieces, reply


def create_app(rules_folder: str) -> FastAPI:
    """All stand-ins."""
    app = FastAPI(title="Stand-ins of Larkspur Huts", docs_url=None, redoc_url=None)
    ledger, rules = Ledger(), Rules(rules_folder)
    app.state.ledger = ledger

    @app.exception_handler(Dropped)
    async def cut(request: Request, _: Dropped) -> Response:
        return _Cut()

    _model(app, ledger, rules)
    _office(app, ledger)
    desk.add(app, ledger, Path(rules_folder).parent)
    weather.add(app, ledger)
    messenger.add(app, ledger)

    @app.post("/faults", status_code=201)
    async def ask_for_fault(fault: Fault) -> dict[str, int]:
        """Ask a service to misbehave."""
        ledger.faults.append(fault)
        return {"pending": len(ledger.faults)}

    @app.get("/received.json")
    async def received_data() -> dict[str, object]:
        return {"received": list(ledger.received), "worked": dict(ledger.worked), "faults": len(ledger.faults)}

    @app.get("/received", response_class=HTMLResponse)
    async def received() -> str:
        """A page of what was received, newest first."""
        rows = "".join(
            f"<tr><td>{datetime.fromtimestamp(r['at'], UTC):%H:%M:%S}<td>{r['service']}<td>{r['method']} {r['path']}<td>{r['status']}"
            f"<td><pre>{_escape(json.dumps(r['body'], indent=1, ensure_ascii=False)[:900])}</pre>"
            for r in reversed(ledger.received)
        )
        head = "<tr><th>time (UTC)<th>service<th>request<th>answered<th>body"
        style = "body{font:15px sans-serif;margin:2em}td,th{text-align:left;vertical-align:top;padding:.3em 1em .3em 0}pre{margin:0;white-space:pre-wrap}"
        return f"<!doctype html><title>What the stand-ins received</title><style>{style}</style><h1>What the stand-ins received</h1><table>{head}{rows}</table>"

    return app


def _model(app: FastAPI, ledger: Ledger, rules: Rules) -> None:
    key = os.environ.get("STANDIN_MODEL_KEY", "")

    def refused(request: Request) -> Response | None:
        if key and request.headers.get("authorization") != f"Bearer {key}":
            return JSONResponse({"error": {"message": "this key belongs to nobody here"}}, 401)
        return None

    @app.get("/v1/models")
    @app.get("/{manners}/v1/models")
    async def models(request: Request, manners: str = "") -> Response:
        return refused(request) or JSONResponse(
            {"object": "list", "data": [{"id": m, "object": "model"} for m in MODELS]}
        )

    _senses(app, ledger, refused)

    @app.post("/v1/chat/completions")
    @app.post("/{manners}/v1/chat/completions")
    async def chat(request: Request, manners: str = "") -> Response:
        body = await request.json()
        if wrong := manner_of(manners).fault(body):
            return wrong
        answer = refused(request) or await ledger.fault("model", request, body)
        if answer is not None:
            return answer
        if body["model"] not in MODELS:
            return JSONResponse({"error": {"message": f"the model {body['model']} does not exist"}}, 404)
        given = manner_of(manners).said(reply(manner_of(manners).heard(body), rules))
        ledger.worked[request.headers.get("idempotency-key", "")] += 1
        ledger.note("model", request, body, 200)
        await ledger.after("model", request)
        if body.get("stream") and manner_of(manners).streams:
            return StreamingResponse(_lines(given, ledger.cut_stream("model", request)), media_type="text/event-stream")
        return JSONResponse(given)


async def _lines(given: dict[str, object], cut: Fault | None) -> AsyncIterator[str]:
    """A streamed answer; one that is cut ends behind its first word."""
    for piece in pieces(given):
        yield f"data: {json.dumps(piece)}\n\n"
        if cut is not None and piece["choices"] and piece["choices"][0]["delta"].get("content"):
            await asyncio.sleep(cut.seconds)
            return
    yield "data: [DONE]\n\n"


def _senses(app: FastAPI, ledger: Ledger, refused: Callable[[Request], Response | None]) -> None:
    """Texts as vectors, recordings as text."""

    @app.post("/v1/embeddings")
    async def embed(request: Request) -> Response:
        body = await request.json()
        answer = refused(request) or await ledger.fault("model", request, body)
        texts = body["input"] if isinstance(body["input"], list) else [body["input"]]
        data = [{"object": "embedding", "index": n, "embedding": vector(text)} for n, text in enumerate(texts)]
        usage = {"prompt_tokens": sum(len(text) // 4 + 1 for text in texts)}
        return answer or JSONResponse({"object": "list", "model": body["model"], "data": data, "usage": usage})

    @app.post("/v1/audio/transcriptions")
    async def transcribe(request: Request) -> Response:
        """The demo's recordings carry what is said in them as their comment (RIFF, `ICMT`)."""
        form = await request.form()
        answer = refused(request) or await ledger.fault("model", request, {"model": form["model"]})
        recording = form["file"]
        audio = b"" if isinstance(recording, str) else await recording.read()
        return answer or JSONResponse({"text": spoken(audio)})


def _office(app: FastAPI, ledger: Ledger) -> None:
    key = os.environ.get("STANDIN_OFFICE_KEY", "")
    replies: dict[str, dict[str, object]] = {}

    provider = consent.add(app, ledger)

    def refused(request: Request, scope: str = "") -> Response | None:
        if request.headers.get("authorization", "").startswith("Bearer "):
            return provider.allows(request, scope)
        if key and request.headers.get("x-api-key") != key:
            return JSONResponse({"message": "unknown API key"}, 401)
        return None

    bookings.add(app, ledger, refused)
    accounts.add(app, ledger, refused)

    @app.get("/office/me")
    async def me(request: Request) -> Response:
        """Whose key this is."""
        return refused(request) or JSONResponse(
            {"office": "Larkspur Huts", "may": ["read bookings", "reply to guests"]}
        )

    @app.post("/office/replies")
    async def answer_guest(request: Request) -> Response:
        """Reply to a guest. The same Idempotency-Key again gives the first answer."""
        body = await request.json()
        answer = refused(request, "replies.write") or await ledger.fault("office", request, body)
        if answer is not None:
            return answer
        given = request.headers.get("idempotency-key", str(uuid.uuid4()))
        ledger.worked[given] += 1
        known = given in replies
        made = replies.setdefault(given, {"id": f"reply-{len(replies) + 1}", "to": body.get("to")})
        ledger.note("office", request, body, 200 if known else 201)
        await ledger.after("office", request)
        return JSONResponse(made, 200 if known else 201)

    @app.get("/office/replies/by-key/{key:path}")
    async def known_reply(key: str, request: Request) -> Response:
        """The reply that was made under an Idempotency-Key; 404 when there is none."""
        known = replies.get(key)
        answer = refused(request)
        if answer is None and known is None:
            answer = JSONResponse({"message": "no reply under this key"}, 404)
        return answer or JSONResponse(known)

    @app.post("/office/requests", status_code=202)
    async def guest_writes(request: Request) -> Response:
        """A guest has written: the office tells its webhook, signed. `?id=` sends under a given event id."""
        body = await request.body()
        message_id = request.query_params.get("id") or f"msg_{uuid.uuid4().hex}"
        return await _send_signed(message_id, body)


async def _send_signed(message_id: str, body: bytes) -> Response:
    target, secret = os.environ.get("STANDIN_HOOK_URL", ""), os.environ.get("STANDIN_SIGNING_SECRET", "")
    if not target or not secret:
        return JSONResponse({"message": "no webhook is set up"}, 409)
    now = datetime.now(UTC)
    headers = {
        "content-type": "application/json", "webhook-id": message_id, "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": Webhook(secret).sign(message_id, now, body.decode()),
    }  # fmt: skip
    async with httpx.AsyncClient(trust_env=False, timeout=30) as client:
        for pause in (0.5, 1.0, 2.0, None):
            try:
                told = await client.post(target, content=body, headers=headers)
                return Response(told.content, told.status_code, media_type=told.headers.get("content-type"))
            except httpx.TransportError as error:
                if pause is None:
                    return JSONResponse({"message": f"the webhook does not answer: {error}"}, 502)
                await asyncio.sleep(pause)
    raise AssertionError


class _Cut(Response):
    """Ends the connection in the middle of an answer, as a cut cable would."""

    async def __call__(self, scope: object, receive: object, send: Any) -> None:
        await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"1000")]})
        await send({"type": "http.response.body", "body": b"{", "more_body": False})


def _escape(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;")
