"""Pictures and files as part of what a model is asked: fetched or given, and written as the protocol's content parts."""

import base64
import binascii
import mimetypes
from collections.abc import AsyncIterator, Sequence
from urllib.parse import urlsplit

from pydantic import Field, model_validator

from oak_relay.actions.base import Fields
from oak_relay.actions.exchange import authorised, send
from oak_relay.capabilities.alias import Alias
from oak_relay.capabilities.given import HeldFile
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.wire import WebAddress
from oak_relay.messages import Content, Message

LARGEST = 20_000_000
"""Bytes that one file may have."""
MOST = 20_000
"""Tokens that a picture may be at most."""
LETTERS = 6_000
"""Letters that a picture or a file is weighed as, before a server has counted its tokens."""
_APART = "oak-file:"
"""How the address of a file begins that is kept here: then its id, its size and its media type follow."""
_TEXTS = ("application/json", "application/xml", "application/yaml", "application/x-yaml")


class File(Fields):
    """Fetched from `url`, kept here as a `file`, or given as `data`."""

    url: WebAddress | None = Field(None, description="Where it is fetched.")
    credential: str | None = Field(None, description="Name of a stored credential for fetching it.")
    file: object = Field(None, description="Or a file that is kept here: what a webhook or another step gave.")
    data: str | None = Field(None, description="Or the file itself, in base64.")
    name: str = Field("", description="Its file name.")
    type: str = Field("", description="Its media type, when neither name nor server tell.", examples=["image/png"])

    @model_validator(mode="after")
    def _one_source(self) -> "File":
        if sum(one is not None for one in (self.url, self.file, self.data)) != 1:
            raise ValueError("give one of url, file and data")
        return self


async def content(
    prompt: str, files: Sequence[File], name: str, alias: Alias, at: Outbound, apart: bool = False
) -> str | list[Content]:
    """A message's content: the prompt alone, or followed by a part for each file. Texts are told as texts to any model.
    With `apart` pictures and files stay kept here, and `filled` puts their bytes in when they are sent. Raises `StepFailed` (`invalid`) for what the alias does not take, and what fetching raises."""
    if not files:
        return prompt
    return [{"type": "text", "text": prompt}, *[await _part(one, name, alias, at, apart) for one in files]]


async def _part(file: File, name: str, alias: Alias, at: Outbound, apart: bool) -> Content:
    held: HeldFile | None = None
    if file.file is not None:
        held = await at.file(file.file)
        body, media, known = await read(held, at), held.type, held.name
    else:
        body, media = await fetched(file.url, file.credential, file.data, at)
        known = urlsplit(file.url or "").path.rsplit("/", 1)[-1]
    called = file.name or known or "file"
    media = file.type or (media if media not in ("", "application/octet-stream") else "")
    media = (media or mimetypes.guess_type(called)[0] or "application/octet-stream").split(";")[0].strip().lower()
    if media.startswith("text/") or media in _TEXTS or media.endswith(("+json", "+xml")):
        return {"type": "text", "text": f"{called}:\n{body.decode('utf-8', 'replace')}"}
    kind = "images" if media.startswith("image/") else "files"
    if kind not in alias.takes:
        raise StepFailed(
            "invalid",
            f"{called} is {media}, and the alias {name} takes no {kind}",
            fix=f"choose another alias, or say that its model does: takes: [{kind}]",
        )
    if apart:
        held = held or await at.keep(called, media, _once(body))
        address = f"{_APART}{held.id};{len(body)};{media}"
    else:
        address = _data(media, body)
    if kind == "images":
        return {"type": "image_url", "image_url": {"url": address}}
    return {"type": "file", "file": {"filename": called, "file_data": address}}


async def _once(body: bytes) -> AsyncIterator[bytes]:
    yield body


def _data(media: str, body: bytes) -> str:
    """Bytes as an address of their own (RFC 2397)."""
    return f"data:{media};base64,{base64.b64encode(body).decode()}"


async def filled(messages: Sequence[Message], at: Outbound) -> list[Message]:
    """Messages with the bytes of the files in them that are kept apart. Raises `StepFailed` (`missing`)."""
    found = []
    for message in messages:
        parts = message.get("content")
        if isinstance(parts, list):
            message = Message(**{**message, "content": [await _filled(part, at) for part in parts]})
        found.append(message)
    return found


async def _filled(part: Content, at: Outbound) -> Content:
    if "image_url" in part and (address := part["image_url"].get("url", "")).startswith(_APART):
        return {**part, "image_url": {**part["image_url"], "url": await _whole(address, at)}}
    if "file" in part and (address := part["file"].get("file_data", "")).startswith(_APART):
        return {**part, "file": {**part["file"], "file_data": await _whole(address, at)}}
    return part


async def _whole(address: str, at: Outbound) -> str:
    id, _, media = address.removeprefix(_APART).split(";", 2)
    return _data(media, await read(await at.file(id), at))


async def read(file: HeldFile, at: Outbound) -> bytes:
    """A file that is kept here, whole, as a model is asked with it. Raises `StepFailed` (`too_long`)."""
    if file.size > LARGEST:
        raise StepFailed("too_long", f"{file.name} has more than {LARGEST:,} bytes", fix="give a smaller one")
    return b"".join([piece async for piece in at.pieces(file)])


async def fetched(url: str | None, credential: str | None, data: str | None, at: Outbound) -> tuple[bytes, str]:
    """A file's bytes and the media type its server names, else empty. Raises `StepFailed`."""
    if data is not None:
        try:
            return base64.b64decode(data, validate=True), ""
        except (binascii.Error, ValueError):
            raise StepFailed("invalid", "a file is not base64", fix="encode it") from None
    assert url is not None
    request = at.http.build_request("GET", url, headers={"traceparent": at.trace_parent}, timeout=at.timeout)
    request = await authorised(at, request, credential)
    exchange = await send(at, request, LARGEST, credential)
    if exchange.status != 200:
        raise exchange.failure()
    return exchange.body, exchange.headers.get("content-type", "")


def listed(files: Sequence[File]) -> list[Content]:
    """Files as they are announced before any is fetched."""
    return [{"type": "file", "file": {"filename": one.name or _told(one.file) or one.url or "file"}} for one in files]


def _told(value: object) -> str:
    return str(value.get("name", "")) if isinstance(value, dict) else ""


def shown(messages: Sequence[Message]) -> list[Message]:
    """Messages as a trace shows them: of pictures and files their type and size."""
    found = []
    for message in messages:
        parts = message.get("content")
        if isinstance(parts, list):
            message = Message(**{**message, "content": [_in_short(part) for part in parts]})
        found.append(message)
    return found


def _in_short(part: Content) -> Content:
    if "image_url" in part:
        address = part["image_url"]
        return {**part, "image_url": {**address, "url": _size(address.get("url", ""))}}
    if "file" in part:
        file = part["file"]
        if "file_data" in file:
            return {**part, "file": {**file, "file_data": _size(file["file_data"])}}
    return part


def _size(address: str) -> str:
    """A data URL (RFC 2397) without its data; other addresses as they are."""
    if address.startswith(_APART):
        _, size, media = address.removeprefix(_APART).split(";", 2)
        return f"{media},… ({int(size):,} bytes)"
    if not address.startswith("data:") or "," not in address:
        return address
    head, body = address.split(",", 1)
    return f"{head},… ({len(body) * 3 // 4 - body[-2:].count('='):,} bytes)"


def most(content: str | list[Content] | None) -> int:
    """The most tokens that a message's content may be: bytes of its texts, and for pictures and files what they hold."""
    if not isinstance(content, list):
        return len((content or "").encode("utf-8", "replace"))
    return sum(
        len(part["text"].encode("utf-8", "replace"))
        if part.get("type") == "text"
        else (MOST if part.get("type") == "image_url" else max(MOST, _weight(part)))
        for part in content
    )


def _weight(part: Content) -> int:
    """Letters that a file has as it is sent."""
    address = part.get("file", {}).get("file_data", "")
    if address.startswith(_APART):
        return int(address.split(";", 2)[1]) * 4 // 3
    return len(values.dumps(part))


def letters(content: str | list[Content] | None) -> int:
    """Letters of a message's content, from which tokens are estimated."""
    if not isinstance(content, list):
        return len(content or "")
    return sum(len(part["text"]) if part.get("type") == "text" else LETTERS for part in content)
