"""`by_example`: any messaging service over HTTP, without code. Where in what it sends a message stands is said by JSONPath (RFC 9535), and
how it is sent to by the fields of `http.request`."""

import hashlib
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Annotated, Any
from urllib.parse import quote

from pydantic import AfterValidator, Field, ValidationError

from oak_relay.actions import http
from oak_relay.actions.base import Connector
from oak_relay.capabilities.given import HeldFile, what_is
from oak_relay.capabilities.protocols import Credentials, Outbound
from oak_relay.document import model_faults, paths, values
from oak_relay.document.check_base import Checking
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.document.meter import METER, Meter
from oak_relay.document.text import Path
from oak_relay.document.words import Model, said
from oak_relay.triggers.base import Proof, Refused, Reply, Request
from oak_relay.triggers.channel import Came, Channel, Media, Piece, Shows, Took
from oak_relay.triggers.webhook import Handshake, Verify, echoed, proof_of

_MANY = 100
"""Messages of one body."""
_WORDS = 20_000
_FUEL = 500_000
_MILLIS = 10_000_000_000
"""Numbers from here on are milliseconds since 1970, below it seconds."""
_NAMES = {"send": frozenset({"chat", "text", "id", "buttons"}), "fetch": frozenset({"media"})}
"""What requests may use of a message."""


def _path(text: str) -> str:
    """A JSONPath that can be read. Raises `ValueError`."""
    try:
        paths.find(text, {})
    except StepFailed as failed:
        raise said(failed.message, "write it as $.message.text") from None
    return text


JsonPath = Annotated[str, Field(min_length=1, max_length=300), AfterValidator(_path)]


class Reads(Model):
    """Where things stand: `messages` in what is sent here, all else in one of these."""

    messages: JsonPath = Field("$", description="Each message of a body, as $.messages[*]; $ where the body is one.")
    text: JsonPath = Field("$.text", description="The words.")
    chat: JsonPath = Field("$.chat", description="Where an answer is sent to.")
    id: JsonPath | None = Field(
        None, description="The service's own id of it: the same counts once. Without it the message itself does."
    )
    person: JsonPath | None = Field(None, description="Who says it; without it the chat.")
    name: JsonPath | None = Field(None, description="What they are called.")
    language: JsonPath | None = Field(None, description="Their language, as en.")
    choice: JsonPath | None = Field(None, description="The button that was pressed.")
    at: JsonPath | None = Field(None, description="When, as ISO 8601 or seconds or milliseconds since 1970.")
    media: JsonPath | None = Field(None, description="The id or the address of a file that came with it.")
    media_type: JsonPath | None = Field(None, description="Its media type.")
    media_name: JsonPath | None = Field(None, description="What it is called.")


class ByExample(Model):
    """A messaging service as it was seen."""

    verify: Verify = Verify()
    id_header: Annotated[str, Field(pattern=r"^[A-Za-z0-9-]+$")] = Field(
        "webhook-id", description="Header with the id that is signed."
    )
    handshake: Handshake | None = Field(None, description="The echo that it asks for before it sends.")
    reads: Reads = Reads()
    send: dict[str, object] = Field(
        description="Fields of http.request that send a message; ${ chat }, ${ text }, ${ id } and ${ buttons } stand for what is sent."
    )
    sent_at: JsonPath | None = Field(None, description="In its answer: when it took the message, by its clock.")
    fetch: dict[str, object] | None = Field(
        None, description="Fields of http.request that fetch a file; ${ media } stands for what was found under media."
    )
    address: JsonPath | None = Field(
        None, description="In the answer of fetch: the address of the file, where it is told first."
    )
    letters: int = Field(4_000, ge=20, le=20_000, description="How long one message may be.")
    buttons: int = Field(
        0, ge=0, le=20, description="How many buttons one may have; of more, or without, they are told in lines."
    )
    label: int = Field(20, ge=1, le=60, description="How long a button may be.")
    harmless: bool = Field(
        False,
        description="Whether it shows once what is sent twice under the same id (the header Idempotency-Key is sent).",
    )


class ExampleChannel(Channel[ByExample]):
    name, model = "by_example", ByExample

    def shows(self, given: ByExample) -> Shows:
        return Shows(given.letters, given.buttons, given.label, given.harmless)

    def check(self, given: ByExample, path: Path, checker: Checking) -> None:
        if "verify" not in given.model_fields_set:
            fix = "add verify, or verify: {scheme: none} where that is meant"
            checker.add(
                path, "anybody may say something in anybody's name: nobody has to prove who sends", fix, "warning"
            )
        for part, named in (("verify", given.verify), ("handshake", given.handshake)):
            if named is not None and named.credential:
                checker.named((*path, part, "credential"), named.credential, checker.world.credentials, "credential")
        for part, fields in (("send", given.send), ("fetch", given.fetch)):
            if fields is not None:
                self._request((*path, part), part, fields, checker)

    def _request(self, path: Path, part: str, fields: dict[str, object], checker: Checking) -> None:
        try:
            template = Template(fields)
            odd = sorted(template.names - _NAMES[part])
            if odd:
                known = ", ".join(sorted(_NAMES[part]))
                checker.add(path, f"{odd[0]} is not known here", f"there is {known}")
                return
            _fields(template, {"chat": "chat", "text": "text", "id": "id", "buttons": ["one"], "media": "media"})
        except StepFailed as failed:
            checker.add(path, failed.message, failed.fix)
            return
        if isinstance(name := fields.get("credential"), str):
            checker.named((*path, "credential"), name, checker.world.credentials, "credential")

    async def early(self, given: ByExample, request: Request, at: Credentials) -> Reply | None:
        if given.handshake is None or given.handshake.echo not in request.query:
            return None
        return await echoed(given.handshake, request, at)

    async def proving(self, given: ByExample, request: Request, at: Credentials) -> Proof:
        return await proof_of(given.verify, request, request.headers.get(given.id_header.lower()) or "", at)

    def read(self, given: ByExample, body: object) -> list[Came]:
        meter = METER.set(Meter(_FUEL))  # one for all that is looked for in a body
        try:
            found = paths.find(given.reads.messages, body)
            if len(found) > _MANY:
                raise Refused(
                    413, f"one body holds at most {_MANY} messages", f"here are {len(found):,}", "send less at once"
                )
            came = [_came(given.reads, one) for one in found]
        except StepFailed as failed:
            raise Refused(422, "no message is found in this", failed.message, failed.fix) from None
        finally:
            METER.reset(meter)
        return [one for one in came if one is not None]

    async def fetch(self, given: ByExample, media: Media, at: Outbound) -> HeldFile:
        asked = Template(given.fetch or {"url": "${ media }", "credential": given.send.get("credential")})
        scope = {"media": media.id}
        fields = _fields(asked, scope)
        if given.address is not None:
            told = (await http.request(fields, at)).output
            where = paths.told(given.address, told["body"] if isinstance(told, Mapping) else None)
            if not isinstance(where, str):
                raise StepFailed(
                    "wrong_shape", "its answer did not say where the file is", fix="correct address:", reached="yes"
                )
            stored = await at.credential(fields.credential) if fields.credential else None
            may = fields.credential if stored is not None and stored.may_reach(where) else None
            fields = _fields(Template({"url": "${ media }", "credential": may}), {"media": where})
        result = (await http.request(fields.model_copy(update={"response": "file", "pick": None}), at)).output
        assert isinstance(result, Mapping)
        kept = await at.file(result["body"])
        return HeldFile(kept.id, media.name or kept.name, media.type or kept.type, kept.size)

    async def send(self, given: ByExample, chat: str, piece: Piece, id: str, at: Outbound) -> Took:
        scope = {"chat": chat, "text": piece.text, "id": id, "buttons": list(piece.buttons)}
        fields = _fields(Template(given.send), scope)
        result = (await http.request(fields, at)).output
        body = result.get("body") if isinstance(result, Mapping) else None
        try:
            told = None if given.sent_at is None else _moment(paths.told(given.sent_at, body))
        except StepFailed:
            told = None  # it was taken, whatever it tells
        return Took(at=told)


def _fields(template: Template, scope: Mapping[str, object]) -> http.RequestInput:
    """A request with what is known put in. Raises `StepFailed`."""
    given = template.render(scope)
    url = template.raw.get("url")
    if (
        isinstance(url, str) and url.strip() != "${ media }"
    ):  # what strangers send leads to no other place of the service
        given["url"] = Template(url).render(
            {name: quote(one, safe="") if isinstance(one, str) else one for name, one in scope.items()}
        )
    try:
        return http.RequestInput.model_validate(given)
    except ValidationError as error:
        where, message, fix = model_faults.first(error, http.RequestInput)
        raise StepFailed("invalid", f"{where or 'the request'}: {message}", fix=fix) from None


def _came(reads: Reads, message: object) -> Came | None:
    """What is said in a message; None of one that says nothing, as a receipt."""

    def word(path: str | None, most: int) -> str:
        found = None if path is None else _first(path, message)
        return (
            ""
            if found is None or isinstance(found, dict | list)
            else values.storable_text(values.text_of(found))[:most]
        )

    chat, text, choice, media = (
        word(reads.chat, 300),
        word(reads.text, _WORDS),
        word(reads.choice, 200),
        word(reads.media, 2_000),
    )
    if not chat or not (text or choice or media):
        return None
    id = word(reads.id, 300) or hashlib.sha256(values.dumps(message).encode("utf-8", "surrogatepass")).hexdigest()
    at = None if reads.at is None else _moment(_first(reads.at, message))
    type = word(reads.media_type, 120)
    files = [Media(media, what_is(type), type, word(reads.media_name, 255))] if media else []
    person = word(reads.person, 200) or chat
    return Came(
        id, chat, person, text or choice, word(reads.name, 200), word(reads.language, 35), choice or None, files, at
    )


def _first(path: str, message: object) -> Any:
    found = paths.find(path, message)
    return found[0] if found else None


def _moment(told: object) -> datetime | None:
    """A moment as services tell it; None of what is none."""
    try:
        if isinstance(told, str) and not told.strip().isdigit():
            moment = datetime.fromisoformat(told.strip())
            return moment if moment.tzinfo is not None else None
        number = float(told) if isinstance(told, str | int | float) and not isinstance(told, bool) else -1.0
        return datetime.fromtimestamp(number / 1000 if number >= _MILLIS else number, UTC) if number > 0 else None
    except (ValueError, OverflowError, OSError):
        return None


CONNECTOR = Connector("Messaging services by example", channels=[ExampleChannel()])
