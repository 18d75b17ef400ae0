"""Files in requests and replies: sent as a body or in a form (RFC 7578), and what a reply that is kept is called."""

import mimetypes
import re
import secrets
from collections.abc import AsyncIterator, Callable, Mapping
from dataclasses import dataclass
from urllib.parse import unquote

import httpx

from oak_relay.capabilities.given import HeldFile, file_name
from oak_relay.capabilities.protocols import Files
from oak_relay.document import values

_NAME = re.compile(r"filename\*=(?:UTF-8|utf-8)''([^;\s]+)|filename=\"([^\"]*)\"|filename=([^;\s\"]+)")


@dataclass(frozen=True, slots=True)
class Sent:
    """A body that is sent piece by piece, with the headers that tell of it."""

    headers: Mapping[str, str]
    pieces: Callable[[], AsyncIterator[bytes]]

    def __aiter__(self) -> AsyncIterator[bytes]:
        """Its pieces, from the first one, as often as it is asked for them."""
        return self.pieces()


async def whole(value: object, at: Files) -> Sent:
    """A file as the whole body. Raises `StepFailed`."""
    file = await at.file(value)
    return Sent({"Content-Type": file.type, "Content-Length": str(file.size)}, lambda: at.pieces(file))


async def form(fields: Mapping[str, object], at: Files) -> Sent:
    """A form with files and texts; a list stands for several fields of one name. Raises `StepFailed`."""
    boundary = f"oak{secrets.token_hex(16)}"
    parts: list[bytes | HeldFile] = []
    for name, given in fields.items():
        for one in given if isinstance(given, list) else [given]:
            if isinstance(one, dict) and "file" in one:
                file = await at.file(one)
                head = f'; filename="{_quoted(file.name)}"\r\nContent-Type: {_quoted(file.type)}'
                parts += [_head(boundary, name, head), file, b"\r\n"]
            else:
                parts += [_head(boundary, name), values.text_of(one).encode("utf-8", "replace"), b"\r\n"]
    parts.append(f"--{boundary}--\r\n".encode())
    size = sum(len(part) if isinstance(part, bytes) else part.size for part in parts)

    async def pieces() -> AsyncIterator[bytes]:
        for part in parts:
            if isinstance(part, bytes):
                yield part
            else:
                async for piece in at.pieces(part):
                    yield piece

    kind = f"multipart/form-data; boundary={boundary}"
    return Sent({"Content-Type": kind, "Content-Length": str(size)}, pieces)


async def kept(response: httpx.Response, url: httpx.URL, at: Files) -> HeldFile:
    """What a reply brings, kept as a file. Raises `StepFailed`, and what reading the reply raises."""
    return await at.keep(*called(response, url), response.aiter_bytes())


def called(response: httpx.Response, url: httpx.URL) -> tuple[str, str]:
    """Name and media type of a reply's body, by its headers (RFC 6266) or its address."""
    kind = response.headers.get("content-type", "").split(";")[0].strip().lower()[:120]
    found = _NAME.search(response.headers.get("content-disposition", ""))
    said = (unquote(found[1]) if found[1] else found[2] or found[3] or "") if found else ""
    name = file_name(said or unquote(url.path))
    return name, kind or mimetypes.guess_type(name)[0] or "application/octet-stream"


def _head(boundary: str, name: str, more: str = "") -> bytes:
    return f'--{boundary}\r\nContent-Disposition: form-data; name="{_quoted(name)}"{more}\r\n\r\n'.encode(
        "utf-8", "replace"
    )


def _quoted(text: str) -> str:
    """A text within quotes of a header of a form, as browsers write it."""
    return text.replace('"', "%22").replace("\r", "%0D").replace("\n", "%0A")
