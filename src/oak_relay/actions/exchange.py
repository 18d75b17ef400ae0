"""One exchange over HTTP: a request with a stored credential, sent and read up to a size, and what came of it."""

import re
from collections.abc import AsyncIterable, Awaitable, Callable, Mapping
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import parse_qsl, urlencode

import httpx

from oak_relay.capabilities.given import HeldFile
from oak_relay.capabilities.protocols import Outbound, Sends
from oak_relay.document import values, wire
from oak_relay.document.errors import ErrorKind, Reached, StepFailed
from oak_relay.vault.blanking import BLANK, unseen
from oak_relay.vault.kinds import Authorization

_LONGEST_DELAY = 86_400.0
"""Seconds after which something is asked again, whatever a server says."""
_SHOWN = 20_000
_SCOPES = re.compile(r'\bscope="([\x20\x21\x23-\x5b\x5d-\x7e]{1,500})"')
_PLAIN, _HIDDEN, _ADDRESS = "oak_plain", "oak_hidden", "oak_address"
"""Of a request with a credential, among its extensions: the request without it, the headers not to show, the address to show."""


async def authorised(at: Outbound, request: httpx.Request, credential: str | None) -> httpx.Request:
    """A request with what a stored credential adds to it. Raises `StepFailed`: `denied` for one it may not go with."""
    url = str(request.url)
    at.may_reach(url)
    if not credential:
        return request
    stored = await at.credential(credential)
    if not stored.may_reach(url):
        raise StepFailed(
            "denied",
            f"the credential {credential} may only be sent to {', '.join(stored.places) or 'nobody'}",
            fix="use another credential, or add this place to its hosts (by http, http:// is written before the host)",
        )
    return await _with(request, await at.authorization(credential), at)


async def _with(plain: httpx.Request, given: Authorization, at: Outbound) -> httpx.Request:
    """A request with all that a credential adds; what it adds counts, whatever the request itself says."""
    content: Any = await plain.aread() if isinstance(plain.stream, httpx.ByteStream) else plain.stream
    headers = httpx.Headers(plain.headers)
    if given.body:
        content = _filled(content, headers, given.body)
        headers["content-length"] = str(len(content))
    added = dict(given.headers)
    if given.sign is not None:
        signature = given.sign(at.key)
        if isinstance(content, bytes):
            signature.take(content)
        elif isinstance(content, AsyncIterable):
            async for piece in content:
                signature.take(piece)
        added |= signature.headers()
    fault = wire.header_fault(added.items())
    if fault:
        raise StepFailed("invalid", f"the credential cannot be sent: {fault}", fix="store it again")
    headers.update(added)
    url = str(plain.url)
    told = {_PLAIN: plain, _HIDDEN: frozenset(name.lower() for name in added)}
    if given.query:
        told[_ADDRESS] = Authorization(query=dict.fromkeys(given.query, BLANK)).address(url)
    if given.tls is not None:
        told["tls"] = given.tls
    body = {"content": content} if isinstance(content, bytes) else {"stream": content}
    extensions = {**plain.extensions, **told}
    return httpx.Request(plain.method, given.address(url), headers=headers, extensions=extensions, **body)


def _filled(content: object, headers: httpx.Headers, fields: Mapping[str, str]) -> bytes:
    """A body with some fields more. Raises `StepFailed` (`invalid`) for one that has no fields."""
    if not isinstance(content, bytes):
        raise StepFailed(
            "invalid", "the credential adds fields to the body, and a file has none", fix="send json or form"
        )
    if "x-www-form-urlencoded" in headers.get("content-type", ""):
        return urlencode([*parse_qsl(content.decode(), keep_blank_values=True), *fields.items()]).encode()
    try:
        given = values.loads(content) if content else {}
    except values.NotJson:
        given = None
    if not isinstance(given, dict):
        raise StepFailed("invalid", "the credential adds fields to the body, which has none", fix="send a JSON object")
    headers["content-type"] = "application/json"
    return values.dumps({**given, **fields}).encode()


async def sent(at: Outbound, request: httpx.Request, credential: str | None) -> httpx.Response:
    """The reply to a request, still to be read. A token that is refused (401) is renewed, and the request sent once more.
    Raises what the client raises, and `StepFailed`."""
    response = await at.http.send(request, stream=True)
    if response.status_code == 403 and credential is not None and (lacking := _lacking(response.headers)):
        await at.refused(credential, lacking)
    if response.status_code != 401 or credential is None or _PLAIN not in request.extensions:
        return response
    again = await at.renewed(credential)
    if again is None:
        return response
    await response.aclose()
    at.send_check()
    return await at.http.send(await _with(request.extensions[_PLAIN], again, at), stream=True)


class Exchange:
    """A request and its reply."""

    def __init__(
        self,
        what: str,
        shown: dict[str, Any],
        response: httpx.Response,
        body: bytes,
        credential: str | None,
        at: Sends,
        kept: HeldFile | None = None,
    ) -> None:
        self.status = response.status_code
        self.headers = {k.lower(): v for k, v in response.headers.items()}
        self.links = response.links
        self.redirected: list[str] = []
        """The addresses that it was led to, one after the other."""
        self.body = body
        self.credential = credential
        self.kept = kept
        self.what = what
        self._at = at
        read: object = kept.value if kept is not None else at.shown(self._text(), _SHOWN)
        answered = {"status": self.status, "headers": unseen(self.headers), "body": read}
        self.detail = {"exchange": {"request": shown, "response": answered}}

    @property
    def told(self) -> dict[str, Any]:
        """What a trace shows."""
        return {**self.detail, "redirects": self.redirected} if self.redirected else self.detail

    def _text(self) -> str:
        return self.body.decode("utf-8", "replace")

    def read(self, form: str) -> Any:
        """The body as JSON or text. Raises `StepFailed` (`wrong_shape`)."""
        is_json = "json" in self.headers.get("content-type", "")
        if form == "text" or (form == "auto" and not is_json):
            return self._text()
        if not self.body and form == "auto":
            return None
        try:
            return values.loads(self.body)
        except values.NotJson as error:
            raise StepFailed(
                "wrong_shape",
                f"{self.what} answered what is not JSON: {error}",
                fix="ask for response: text",
                reached="yes",
                detail=self.detail,
            ) from None

    def said(self, text: str) -> str:
        """What the other side says, in short, as it may be told."""
        return self._at.said(" ".join(text.split()), 300)

    def failure(self) -> StepFailed:
        """The error that an unwanted status means."""
        kind, fix = _kind_of(self.status)
        if kind == "denied" and not self.credential:
            fix = "give it a credential: the other side wants to know who asks"
        used = f" with the credential {self.credential}" if self.credential else ""
        words = self.said(self._text())
        lacking = _lacking(self.headers) if self.status == 403 else ()
        lacks = f"; it has not the scope {', '.join(lacking)}" if lacking else ""
        message = f"{self.what}{used} answered {self.status}" + (f": {words}" if words else "") + lacks
        delay = retry_after(self.headers)
        return StepFailed(kind, message, fix=fix, reached=_reached(self.status, delay), delay=delay, detail=self.detail)


async def send(
    at: Outbound,
    request: httpx.Request,
    size_limit: int,
    credential: str | None,
    take: Callable[[str], None] | None = None,
    show: bool = True,
    keep: Callable[[httpx.Response], Awaitable[HeldFile]] | None = None,
) -> Exchange:
    """Send and read, up to a size; `take` is given the lines of an event stream as they come; without `show` a trace
    leaves out the request's body. Where `keep` is given, an answer that went well is given to it, to be kept as a file. Raises `StepFailed` for what went wrong on the way."""
    what = what_of(request)
    shown = request_shown(request, credential, show, at)
    detail = {"exchange": {"request": shown}}
    try:
        response = await sent(at, request, credential)
        try:
            pieces, size, rest = [], 0, b""
            if keep is not None and response.is_success:
                return Exchange(what, shown, response, b"", credential, at, await keep(response))
            lines = take is not None and "text/event-stream" in response.headers.get("content-type", "")
            async for piece in response.aiter_bytes():
                pieces.append(piece)
                if take is not None and lines:
                    *whole, rest = (rest + piece).split(b"\n")
                    for line in whole:
                        take(line.decode("utf-8", "replace").rstrip("\r"))
                size += len(piece)
                if size > size_limit:
                    raise StepFailed(
                        "too_long",
                        f"{what} answered more than {size_limit} bytes",
                        fix="raise size_limit, or ask for less",
                        reached="yes",
                        detail=detail,
                    )
        finally:
            await response.aclose()
    except (httpx.TransportError, httpx.DecodingError) as error:
        raise broken(error, what, detail) from None
    return Exchange(what, shown, response, b"".join(pieces), credential, at)


def _lacking(headers: Mapping[str, str]) -> tuple[str, ...]:
    """Scopes without which a bearer token was refused (RFC 6750, section 3.1)."""
    challenge = headers.get("www-authenticate", "")[:2_000]
    found = _SCOPES.search(challenge) if "insufficient_scope" in challenge else None
    return tuple(found[1].split())[:20] if found else ()


def broken(error: httpx.HTTPError, what: str, detail: dict[str, Any]) -> StepFailed:
    """What an exchange that broke off means."""
    if isinstance(error, httpx.ConnectTimeout):
        return StepFailed("timeout", f"{what}: no connection in time", fix="is the host up?", detail=detail)
    if isinstance(error, httpx.TimeoutException):
        late = f"{what} gave no answer in time"
        return StepFailed("timeout", late, fix="raise the step's timeout", reached="maybe", detail=detail)
    if isinstance(error, httpx.ConnectError):
        fix = "is the address right, and the host up?"
        return StepFailed("unavailable", f"{what}: cannot connect ({error})", fix=fix, detail=detail)
    reason = f"{what}: the connection broke ({str(error) or type(error).__name__})"
    return StepFailed("unavailable", reason, fix="try again", reached="maybe", detail=detail)


def what_of(request: httpx.Request) -> str:
    """A request in short: its method, and its address without what follows the path."""
    return f"{request.method} {str(request.url).partition('?')[0].partition('#')[0]}"


def request_shown(request: httpx.Request, credential: str | None, show: bool, at: Sends) -> dict[str, Any]:
    """A request as a trace shows it: secrets blanked, the credential named."""
    streamed = not isinstance(request.stream, httpx.ByteStream)
    content = request.read() if show and not streamed else b""
    if streamed or request.headers.get("content-type", "").startswith("multipart/"):
        body = f"({int(request.headers.get('content-length', len(content))):,} bytes)"
    else:
        body = at.shown(content.decode("utf-8", "replace"), _SHOWN)
    return {
        "method": request.method,
        "url": request.extensions.get(_ADDRESS, str(request.url)),
        "headers": unseen(request.headers, request.extensions.get(_HIDDEN, ())),
        "body": body,
        "credential": credential,
    }


def retry_after(headers: Mapping[str, str]) -> float | None:
    """Seconds that a `Retry-After` header (RFC 9110) asks for."""
    text = headers.get("retry-after", "").strip()
    if not text:
        return None
    try:
        if text[0].isdigit():
            seconds = float(text)
        else:
            seconds = (parsedate_to_datetime(text) - datetime.now(UTC)).total_seconds()
    except (TypeError, ValueError, OverflowError):
        return None
    return min(max(0.0, seconds), _LONGEST_DELAY)


def _reached(status: int, delay: float | None) -> Reached:
    """Whether what was asked for was reached, as a status tells. Who answers for another (502, 504) does not know, nor is
    503 a refusal unless it says when to come again (RFC 9110)."""
    if status in (401, 402, 403, 404, 405, 429) or (status == 503 and delay is not None):
        return "no"
    return "maybe" if status in (502, 503, 504) else "yes"


def _kind_of(status: int) -> tuple[ErrorKind, str]:
    if status in (401, 403):
        return "denied", "test the credential; it may be wrong, expired, or of another project"
    if status == 402:
        return "out_of_credit", "top up the account behind this credential"
    if status in (404, 410):
        return "missing", "check the address and its ids"
    if status in (408, 504):
        return "timeout", "try again later"
    if status == 413:
        return "too_long", "send less"
    if status == 429:
        return "busy", "it asks to be called less often"
    if status in (500, 502, 503):
        return "unavailable", "try again later"
    if 400 <= status < 500:
        return "invalid", "read its answer; the request does not suit it"
    return "failed", "read its answer"
