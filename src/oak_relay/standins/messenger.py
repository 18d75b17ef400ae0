"""A messaging service: people chat with it by a page or by calls, and it tells a webhook, signed, of what they say.

`/messenger/messages` takes what is said to them, `/messenger/media/<id>` tells where a file is. It delivers each message at least once
and again until it is told that it was taken; on request (`/messenger/behave`) twice, late and out of order. What is sent to it under
one `Idempotency-Key` is shown each time: it does not look at it. `/messenger` is a page on which one plays the guest.
"""

import asyncio
import base64
import binascii
import contextlib
import json
import os
import random
import secrets
from collections import defaultdict
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

import httpx
from fastapi import FastAPI, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response
from pydantic import BaseModel, Field
from standardwebhooks import Webhook

from oak_relay.standins.ledger import Ledger

_LETTERS, _ANSWERS, _LABEL = 4_000, 3, 20
_PAGE = Path(__file__).parent / "messenger.html"


class Behaviour(BaseModel):
    """How often a delivery comes twice, and how long one may be kept back, so that a later one comes before it. `refuse` and `lose`
    are how often what is sent is refused (503 with Retry-After), and taken without an answer."""

    twice: float = Field(0, ge=0, le=1)
    seconds: float = Field(0, ge=0, le=60)
    refuse: float = Field(0, ge=0, le=1)
    lose: float = Field(0, ge=0, le=1)


class Guest(BaseModel):
    """Something that somebody says in a chat: a text, an answer by a button, or a file (base64)."""

    text: str = Field("", max_length=20_000)
    answer: str | None = None
    name: str = "Ada Fenn"
    language: str = "en"
    type: str = "text"
    file: str | None = None
    file_type: str = "application/octet-stream"
    file_name: str = ""


class Address(BaseModel):
    url: str


class Service:
    """Chats with what was said in them by both sides, files by id, and what is still to be delivered."""

    def __init__(self) -> None:
        self.chats: dict[str, list[dict[str, Any]]] = defaultdict(list)
        self.files: dict[str, tuple[bytes, str, str]] = {}
        self.behaviour = Behaviour()
        self.delivering: set[asyncio.Task[None]] = set()
        self.webhook = os.environ.get("STANDIN_MESSENGER_URL", "")
        self.client = httpx.AsyncClient(trust_env=False, timeout=30, verify=False)
        self._count = 0

    def add(self, chat: str, side: Literal["guest", "hut"], **said: Any) -> dict[str, Any]:
        """Something that was said; its id, and when by this service's clock."""
        self._count += 1
        one = {"id": f"m-{self._count}", "side": side, "at": datetime.now(UTC).isoformat(), **said}
        self.chats[chat].append(one)
        return one

    def deliver(self, message: dict[str, Any]) -> None:
        """Tell the webhook, until it takes it."""
        for _ in range(2 if random.random() < self.behaviour.twice else 1):
            task = asyncio.create_task(self._deliver(message, random.random() * self.behaviour.seconds))
            self.delivering.add(task)
            task.add_done_callback(self.delivering.discard)

    async def _deliver(self, message: dict[str, Any], pause: float) -> None:
        await asyncio.sleep(pause)
        body = json.dumps({"messages": [message]}, ensure_ascii=False)
        secret = os.environ.get("STANDIN_MESSENGER_SECRET", "")
        for wait in (0.2, 0.4, 0.8, *[1.5] * 200):
            now, id = datetime.now(UTC), f"d-{secrets.token_hex(8)}"
            headers = {
                "content-type": "application/json", "webhook-id": id, "webhook-timestamp": str(int(now.timestamp())),
                "webhook-signature": Webhook(secret).sign(id, now, body),
            }  # fmt: skip
            with contextlib.suppress(httpx.TransportError):
                told = await self.client.post(self.webhook, content=body.encode(), headers=headers)
                if told.is_success or 400 <= told.status_code < 429:
                    return
            await asyncio.sleep(wait)


def add(app: FastAPI, ledger: Ledger) -> None:
    """The messenger's calls and its page."""
    key, service = os.environ.get("STANDIN_MESSENGER_KEY", ""), Service()

    def refused(request: Request) -> Response | None:
        if key and request.headers.get("authorization") != f"Bearer {key}":
            return JSONResponse({"message": "this key belongs to nobody here"}, 401)
        return None

    _of_accounts(app, ledger, service, refused)
    _of_guests(app, service)


def _of_accounts(app: FastAPI, ledger: Ledger, service: Service, refused: Any) -> None:
    @app.post("/messenger/messages", status_code=201)
    async def say(request: Request) -> Response:
        """Say something in a chat: `{to, text, answers}`."""
        body = await request.json()
        answer = refused(request) or await ledger.fault("messenger", request, body)
        if answer is not None:
            return answer
        if random.random() < service.behaviour.refuse:
            return JSONResponse({"message": "too many at once"}, 503, {"Retry-After": "0.2"})
        answers = body.get("answers", [])
        media = body.get("media")
        if media is not None and media.get("id") not in service.files:
            return JSONResponse({"message": "there is no such file"}, 400)
        if (not body.get("text") and media is None) or len(body["text"]) > _LETTERS:
            return JSONResponse({"message": f"a text has 1 to {_LETTERS} letters"}, 400)
        if len(answers) > _ANSWERS or any(len(one) > _LABEL for one in answers):
            return JSONResponse({"message": f"there are at most {_ANSWERS} answers of {_LABEL} letters"}, 400)
        if body.get("to") not in service.chats:
            return JSONResponse({"message": "there is no such chat"}, 404)
        ledger.worked[request.headers.get("idempotency-key", "")] += 1
        made = service.add(
            body["to"], "hut", text=body["text"], type=body.get("type", "text"), file=media, answers=answers
        )
        ledger.note("messenger", request, body, 201)
        await ledger.after("messenger", request)
        if random.random() < service.behaviour.lose:
            return JSONResponse({"message": "the answer was lost"}, 504)
        return JSONResponse({"id": made["id"], "at": made["at"]}, 201)

    @app.post("/messenger/media", status_code=201)
    async def upload(request: Request, name: str = "") -> Response:
        """Keep a file that is to be sent; a message names it."""
        answer = refused(request) or await ledger.fault("messenger", request, {})
        if answer is not None:
            return answer
        id = f"f-{secrets.token_hex(6)}"
        service.files[id] = await request.body(), request.headers.get("content-type", ""), name
        return JSONResponse({"id": id}, 201)

    @app.get("/messenger/media/{id}")
    async def media(id: str, request: Request) -> Response:
        """Where a file is that somebody sent."""
        if (answer := refused(request)) is not None:
            return answer
        if id not in service.files:
            return JSONResponse({"message": "there is no such file"}, 404)
        address = f"{request.base_url}messenger/files/{id}"
        return JSONResponse({"address": address, "type": service.files[id][1], "size": len(service.files[id][0])})

    @app.get("/messenger/files/{id}")
    async def file(id: str, request: Request) -> Response:
        """A file that somebody sent."""
        if (answer := refused(request)) is not None:
            return answer
        content, kind, _ = service.files[id]
        return Response(content, media_type=kind)


def _of_guests(app: FastAPI, service: Service) -> None:
    @app.post("/messenger/chats/{chat}", status_code=201)
    async def guest_says(chat: str, given: Guest) -> Response:
        """Say something as a guest."""
        message: dict[str, Any] = {
            "chat": chat,
            "from": {"id": f"g-{chat}", "name": given.name, "language": given.language},
            "type": given.type,
        }
        if given.file is not None:
            try:
                content = base64.b64decode(given.file, validate=True)
            except binascii.Error:
                return JSONResponse({"message": "the file is not base64"}, 422)
            id = f"f-{secrets.token_hex(6)}"
            service.files[id] = content, given.file_type, given.file_name
            message["media"] = {"id": id, "type": given.file_type, "name": given.file_name}
        text = given.text or given.answer or ""
        made = service.add(chat, "guest", text=text, type=given.type, file=message.get("media"))
        message |= {"id": made["id"], "at": made["at"], "text": given.text}
        if given.answer is not None:
            message |= {"type": "answer", "answer": given.answer}
        service.deliver(message)
        return JSONResponse(made, 201)

    @app.get("/messenger/chats.json")
    async def chats() -> dict[str, Any]:
        """All chats, and how many deliveries are still under way."""
        return {"chats": service.chats, "delivering": len(service.delivering)}

    @app.get("/messenger/shown/{id}")
    async def shown(id: str) -> Response:
        """A file of a chat, as its guest sees it."""
        content, kind, _ = service.files[id]
        return Response(content, media_type=kind)

    @app.post("/messenger/behave")
    async def behave(given: Behaviour) -> Behaviour:
        """How it behaves from now on."""
        service.behaviour = given
        return given

    @app.post("/messenger/webhook")
    async def register(given: Address) -> Response:
        """Where it sends from now on; the webhook is asked for an echo first."""
        service.webhook = given.url
        challenge = secrets.token_hex(8)
        query = {"challenge": challenge, "token": os.environ.get("STANDIN_MESSENGER_SECRET", "")}
        async with httpx.AsyncClient(trust_env=False, timeout=30) as client:
            told = await client.get(given.url, params=query)
        return JSONResponse({"ok": told.is_success and told.text == challenge, "status": told.status_code})

    @app.get("/messenger", response_class=HTMLResponse)
    async def page() -> str:
        """A page on which one plays the guest."""
        return _PAGE.read_text()
