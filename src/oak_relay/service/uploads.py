"""Bodies that hold files, taken as they come: a file as the whole body, or forms with files (RFC 7578). What comes in one
request is kept together, once all of it is there and who sent it is proved; else nothing of it is."""

import asyncio
import time
from collections.abc import AsyncIterator, Callable, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from fastapi import Request
from python_multipart import MultipartParser
from python_multipart.exceptions import FormParserError
from python_multipart.multipart import parse_options_header
from starlette.requests import ClientDisconnect

from oak_relay.capabilities.given import file_name
from oak_relay.document.numbers import whole
from oak_relay.service.parts import Parts
from oak_relay.service.problems import Problem
from oak_relay.store.files import Arriving, Bounds, Gone, NoRoom, Stored, TooLarge

_SILENT, _LONGEST = 30.0, 900.0
"""Seconds in which nothing may come, and that all of it may take."""
_SLOWEST = 5_000
"""Bytes a second that come at least, once it takes longer than a silence: who sends less keeps others from sending."""
_PARTS, _FILES = 1_000, 100
"""Parts and files of one form; headers of a part are limited by the parser."""
_TEXTS = frozenset(("", "application/json", "application/x-www-form-urlencoded", "text/plain", "text/json"))


class Proving(Protocol):
    """A proof of who sends, that looks at all that comes."""

    def take(self, piece: bytes) -> None:
        """What follows of the body."""


class NoProof:
    """Who sends is proved, or need not be."""

    def take(self, piece: bytes) -> None:
        pass


@dataclass(frozen=True, slots=True)
class FileValue:
    """A file as workflows pass it on."""

    stored: Stored
    name: str
    type: str

    def plain(self) -> dict[str, object]:
        """As the value that it is."""
        return {"file": str(self.stored.id), "name": self.name, "type": self.type, "size": self.stored.size}


@dataclass(slots=True)
class _Coming:
    arriving: Arriving
    name: str
    type: str


def holds_files(content_type: str) -> bool:
    """Whether a body of this type is a file, or a form that may hold some; what is JSON, a plain form or text is not."""
    kind = media_of(content_type)
    return kind not in _TEXTS and not kind.endswith("+json")


def media_of(content_type: str) -> str:
    """The media type alone."""
    return content_type.split(";")[0].strip().lower()[:120]


@dataclass
class Body:
    """What a request brings, not kept yet."""

    parts: Parts
    bounds: Bounds
    coming: list[_Coming] = field(default_factory=list)
    fields: list[tuple[str, str | _Coming]] = field(default_factory=list)

    async def begin(self, name: str, type: str, announced: int | None = None) -> Arriving:
        """A file begins. Raises `TooLarge` and `NoRoom`."""
        arriving = Arriving(self.parts.database, self.parts.workspace, self.bounds)
        await arriving.begin(announced)
        self.coming.append(_Coming(arriving, file_name(name), type or "application/octet-stream"))
        return arriving

    def data(self, kept: Sequence[FileValue]) -> dict[str, object]:
        """The fields of the form with the files that were kept of it; what came more than once is a list. A file that is the
        whole body stands under `file`."""
        files = {id(one): value for one, value in zip(self.coming, kept, strict=True)}
        found: dict[str, list[object]] = {}
        for name, value in self.fields:
            found.setdefault(name, []).append(value if isinstance(value, str) else files[id(value)].plain())
        return {name: some[0] if len(some) == 1 else some for name, some in found.items()}

    async def leave(self) -> None:
        """Nothing of it is kept."""
        for one in self.coming:
            await one.arriving.leave()


async def kept(body: Body) -> list[FileValue]:
    """The files of a body, in their order, which are there from now on. Raises `Problem`; then nothing is left of it."""
    try:
        return [FileValue(await one.arriving.keep(one.name, one.type), one.name, one.type) for one in body.coming]
    except BaseException as error:
        await asyncio.shield(body.leave())
        told = refusal(error, body.bounds)
        if told is None:
            raise
        raise told from None


async def taken(
    request: Request, parts: Parts, proof: Proving, name: str = "file", form: bool = True, bounds: Bounds | None = None
) -> Body:
    """All that a request brings, its files not kept yet: who asks for it keeps or leaves it. `name`: of a file that is the
    whole body; with `form` it may be a form with files instead; `bounds` are those of the settings where there are no others. Raises `Problem`: 400 for what broke off or is no form, 408, 413; then nothing is left of it."""
    body = Body(parts, bounds or Bounds(parts.settings.file_limit, parts.settings.files_limit))
    try:
        kind = request.headers.get("content-type", "")
        if form and media_of(kind) == "multipart/form-data":
            await _form(request, body, proof, kind)
        else:
            await _file(request, body, proof, name)
        return body
    except BaseException as error:
        await asyncio.shield(body.leave())
        told = refusal(error, body.bounds)
        if told is None:
            raise
        raise told from None


def refusal(error: BaseException, bounds: Bounds) -> Problem | None:
    """What a failure means to who sent a file; None for what is none of theirs."""
    if isinstance(error, TooLarge):
        most = f"at most {bounds.one:,} bytes are taken"
        return Problem(413, "the file is too large", most, "send less")
    if isinstance(error, NoRoom):
        most = f"all files together may have {bounds.all:,} bytes"
        return Problem(413, "there is no room left for files", most, "ask those whose service this is")
    if isinstance(error, Gone | TimeoutError):
        return Problem(408, "the file did not arrive in time", fix="send it faster", kind="timeout")
    if isinstance(error, ClientDisconnect):
        return Problem(400, "the file broke off", fix="send it whole")
    if isinstance(error, FormParserError):
        return Problem(400, "the body is no form", str(error)[:200], "send multipart/form-data (RFC 7578)")
    return None


async def _pieces(request: Request, proof: Proving) -> AsyncIterator[bytes]:
    coming = request.stream().__aiter__()
    began, size = time.monotonic(), 0
    async with asyncio.timeout(_LONGEST):
        while True:
            async with asyncio.timeout(_SILENT):
                piece = await anext(coming, None)
            if piece is None:
                return
            size += len(piece)
            took = time.monotonic() - began
            if took > _SILENT and size < took * _SLOWEST:
                raise TimeoutError
            proof.take(piece)
            yield piece


async def _file(request: Request, body: Body, proof: Proving, name: str) -> None:
    length = request.headers.get("content-length", "")
    announced = whole(length) if length else None
    if length and announced is None:
        raise TooLarge
    arriving = await body.begin(name, media_of(request.headers.get("content-type", "")), announced)
    body.fields.append(("file", body.coming[-1]))
    async for piece in _pieces(request, proof):
        await arriving.take(piece)


@dataclass(slots=True)
class _Part:
    """A part of a form while it comes."""

    name: str = ""
    arriving: Arriving | None = None
    text: bytearray = field(default_factory=bytearray)


Event = tuple[str, bytes]


async def _form(request: Request, body: Body, proof: Proving, kind: str) -> None:
    boundary = parse_options_header(kind)[1].get(b"boundary", b"")
    if not 1 <= len(boundary) <= 200:
        raise Problem(400, "the body is no form", "its boundary is missing", "send multipart/form-data (RFC 7578)")
    seen: list[Event] = []
    names = ("part_begin", "header_field", "header_value", "headers_finished", "part_data", "part_end", "end")

    def noting(name: str) -> Callable[..., None]:
        if name in ("header_field", "header_value", "part_data"):
            return lambda data, start, end: seen.append((name, data[start:end]))
        return lambda: seen.append((name, b""))

    parser = MultipartParser(boundary, {f"on_{name}": noting(name) for name in names})  # type: ignore[arg-type]
    form = _Form(body, body.parts.settings.body_limit)
    async for piece in _pieces(request, proof):
        parser.write(piece)
        for event in seen:
            await form.take(*event)
        seen.clear()
    parser.finalize()
    if not form.over:
        raise Problem(400, "the body broke off", fix="send it whole")


class _Form:
    """What the parts of a form are, as they come."""

    def __init__(self, body: Body, room: int) -> None:
        self._body, self._room = body, room
        self._part = _Part()
        self._headers: dict[str, bytes] = {}
        self._last = ""
        self._count = 0
        self.over = False

    async def take(self, event: str, data: bytes) -> None:
        """What came next. Raises `Problem`, `TooLarge` and `NoRoom`."""
        if event == "part_begin":
            self._count += 1
            if self._count > _PARTS:
                raise Problem(413, "the form has too many parts", f"at most {_PARTS:,}", "send less at once")
            self._part, self._headers, self._last = _Part(), {}, ""
        elif event in ("header_field", "header_value"):
            self._header(event, data)
        elif event == "headers_finished":
            await self._begin()
        elif event == "part_data":
            await self._data(data)
        elif event == "part_end" and self._part.arriving is None:
            self._body.fields.append((self._part.name, self._part.text.decode("utf-8", "replace")))
        elif event == "end":
            self.over = True

    def _header(self, event: str, data: bytes) -> None:
        if event == "header_field":
            self._last = data.decode("latin-1").lower()
            self._headers[self._last] = b""
        else:
            self._headers[self._last] = self._headers.get(self._last, b"") + data

    async def _begin(self) -> None:
        said = parse_options_header(self._headers.get("content-disposition", b""))[1]
        self._part.name = said.get(b"name", b"").decode("utf-8", "replace")[:200] or "field"
        called = said.get(b"filename")
        if called is None:
            return
        if len(self._body.coming) >= _FILES:
            raise Problem(413, "the form has too many files", f"at most {_FILES}", "send less at once")
        kind = media_of(self._headers.get("content-type", b"").decode("latin-1"))
        self._part.arriving = await self._body.begin(called.decode("utf-8", "replace"), kind)
        self._body.fields.append((self._part.name, self._body.coming[-1]))

    async def _data(self, data: bytes) -> None:
        if self._part.arriving is not None:
            await self._part.arriving.take(data)
            return
        self._room -= len(data)
        if self._room < 0:
            raise Problem(413, "the fields of the form are too long", fix="send less")
        self._part.text += data
