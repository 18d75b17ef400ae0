"""`messenger`: a messaging service over HTTP, both ways. It sends signed bodies here (Standard Webhooks), after it asked once for an
echo; and takes messages at `<url>/messages`, under an `Idempotency-Key`. Files stand behind their ids, at `<url>/media/<id>`, and are given to
`<url>/media` before they are sent."""

from collections.abc import Mapping
from datetime import datetime
from typing import Annotated, Literal
from urllib.parse import quote

import httpx
from pydantic import AwareDatetime, BaseModel, ConfigDict, Field, ValidationError

from oak_relay.actions import files
from oak_relay.actions.base import Connector
from oak_relay.actions.exchange import Exchange, authorised, send
from oak_relay.capabilities.given import HeldFile
from oak_relay.capabilities.protocols import Credentials, Outbound
from oak_relay.document import values
from oak_relay.document.check_base import Checking
from oak_relay.document.errors import StepFailed
from oak_relay.document.text import Path
from oak_relay.document.wire import WebAddress
from oak_relay.document.words import Model
from oak_relay.triggers.base import Proof, Refused, Reply, Request
from oak_relay.triggers.channel import Came, Channel, Media, Piece, Shows, Took
from oak_relay.triggers.webhook import Verify, proof_of, stored_secret
from oak_relay.vault.kinds import same_token

_ANSWER = 100_000
"""Bytes of an answer that are read."""
_MANY = 100
"""Messages of one body."""


class Messenger(Model):
    """What a messaging service needs."""

    url: WebAddress = Field(description="Where it is reached, as https://messages.example/v1.")
    credential: str = Field(description="The stored credential that it is called with.")
    signing: str = Field(
        description="The stored signing secret of what it sends here; its handshake's token is the same."
    )


class _Read(BaseModel):
    """What others send may hold more than is read of it."""

    model_config = ConfigDict(extra="ignore")


class _From(_Read):
    id: str = Field(min_length=1, max_length=200)
    name: str = Field("", max_length=200)
    language: str = Field("", max_length=35)


class _Media(_Read):
    id: str = Field(min_length=1, max_length=300)
    type: str = Field("", max_length=120)
    name: str = Field("", max_length=255)


class _Message(_Read):
    id: str = Field(min_length=1, max_length=300)
    chat: str = Field(min_length=1, max_length=300)
    sender: _From = Field(alias="from")
    at: AwareDatetime | None = None
    type: str = Field("text", max_length=60)
    text: str = Field("", max_length=20_000)
    answer: str | None = Field(None, max_length=200)
    media: _Media | None = None


class _Body(_Read):
    messages: Annotated[list[_Message], Field(max_length=_MANY)]


class _Told(_Read):
    """What it says of a message that it took."""

    id: str = ""
    at: datetime | None = None


class _Kept(_Read):
    """Where a file of it is."""

    address: WebAddress


_FILES: dict[str, Literal["voice", "picture", "file"]] = {"voice": "voice", "picture": "picture", "file": "file"}


class MessengerChannel(Channel[Messenger]):
    name, model = "messenger", Messenger

    def shows(self, given: Messenger) -> Shows:
        return Shows(files=True)

    def check(self, given: Messenger, path: Path, checker: Checking) -> None:
        for name in ("credential", "signing"):
            checker.named((*path, name), getattr(given, name), checker.world.credentials, "credential")

    async def early(self, given: Messenger, request: Request, at: Credentials) -> Reply | None:
        if request.method != "GET":
            return None
        stored = await stored_secret(given.signing, at)
        if not same_token(request.query.get("token", ""), stored.reveal()):
            raise Refused(
                403, "the handshake's token is wrong", fix="give the service the stored signing secret as its token"
            )
        return Reply(request.query.get("challenge", "")[:1_000])

    async def proving(self, given: Messenger, request: Request, at: Credentials) -> Proof:
        return await proof_of(Verify(scheme="signed", credential=given.signing), request, "", at)

    def read(self, given: Messenger, body: object) -> list[Came]:
        try:
            found = _Body.model_validate(body)
        except ValidationError as error:
            place = ".".join(str(part) for part in error.errors()[0]["loc"])
            raise Refused(
                422, "this is no list of messages", f"at {place[:200]}", "send messages: [{id, chat, from, type, text}]"
            ) from None
        return [self._came(one) for one in found.messages]

    def _came(self, one: _Message) -> Came:
        what = _FILES.get(one.type)
        media = [] if what is None or one.media is None else [Media(one.media.id, what, one.media.type, one.media.name)]
        known = one.type in ("text", "answer") or bool(media)
        return Came(
            one.id, one.chat, one.sender.id, values.storable_text(one.text or one.answer or ""), one.sender.name, one.sender.language,
            one.answer, media, one.at, "" if known else one.type,
        )  # fmt: skip

    async def fetch(self, given: Messenger, media: Media, at: Outbound) -> HeldFile:
        about = at.http.build_request(
            "GET", f"{given.url.rstrip('/')}/media/{quote(media.id, safe='')}", timeout=at.timeout
        )
        told = await send(at, await authorised(at, about, given.credential), _ANSWER, given.credential)
        if not 200 <= told.status < 300:
            raise told.failure()
        try:
            place = _Kept.model_validate(told.read("json"))
        except ValidationError:
            raise StepFailed(
                "wrong_shape", f"{told.what} did not say where the file is", fix="is the url right?"
            ) from None
        wanted = at.http.build_request("GET", place.address, timeout=at.timeout)
        stored = await at.credential(given.credential)
        name = given.credential if stored.may_reach(place.address) else None

        async def keep(response: httpx.Response) -> HeldFile:
            called, kind = files.called(response, wanted.url)
            return await at.keep(media.name or called, media.type or kind, response.aiter_bytes())

        got = await send(at, await authorised(at, wanted, name), _ANSWER, name, keep=keep)
        if got.kept is None:
            raise got.failure()
        return got.kept

    async def send(self, given: Messenger, chat: str, piece: Piece, id: str, at: Outbound) -> Took:
        body: dict[str, object] = {"to": chat, "text": piece.text}
        if piece.buttons:
            body["answers"] = list(piece.buttons)
        if piece.file is not None:
            body |= {"type": piece.what, "media": await self._given(given, piece.file, id, at)}
        headers = {"Idempotency-Key": id}
        plain = at.http.build_request(
            "POST", f"{given.url.rstrip('/')}/messages", json=body, headers=headers, timeout=at.timeout
        )
        request = await authorised(at, plain, given.credential)
        at.send_check()
        answer = await send(at, request, _ANSWER, given.credential)
        if not 200 <= answer.status < 300:
            raise answer.failure()
        return _took(answer)

    async def _given(self, given: Messenger, value: Mapping[str, str], id: str, at: Outbound) -> dict[str, str]:
        """A file given to the service, as a message names it. Nobody sees it yet, so it may be given twice. Raises `StepFailed`."""
        file = await at.file(dict(value))
        sent = await files.whole(dict(value), at)
        request = at.http.build_request(
            "POST",
            f"{given.url.rstrip('/')}/media",
            content=sent,
            params={"name": file.name},
            headers={**sent.headers, "Idempotency-Key": id},
            timeout=at.timeout,
        )
        answer = await send(at, await authorised(at, request, given.credential), _ANSWER, given.credential)
        try:
            if not 200 <= answer.status < 300:
                raise answer.failure()
            told = _Told.model_validate(answer.read("json"))
        except ValidationError:
            told = _Told()
        except StepFailed as failed:
            failed.reached = "no"  # nothing was said yet
            raise
        if not told.id:
            raise StepFailed(
                "wrong_shape", f"{answer.what} did not say what the file is called", fix="is the url right?"
            )
        return {"id": told.id[:300], "type": file.type, "name": file.name}


def _took(answer: Exchange) -> Took:
    """What is told of a message that was taken; it was, whatever is told."""
    try:
        told = _Told.model_validate(answer.read("json"))
    except (StepFailed, ValidationError):
        return Took()
    return Took(told.id[:300], told.at if told.at is not None and told.at.tzinfo is not None else None)


CONNECTOR = Connector("Messaging services", channels=[MessengerChannel()])
