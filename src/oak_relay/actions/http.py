"""`http.request`: any HTTP service, with a stored credential, an idempotency key and trace context."""

from collections.abc import Awaitable, Callable, Mapping
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any, Literal
from urllib.parse import quote

import httpx
from pydantic import BaseModel, Field, model_validator

from oak_relay.actions import files
from oak_relay.actions.base import Action, Connector, Fields, Given, Repeat
from oak_relay.capabilities.given import HeldFile, Result
from oak_relay.capabilities.protocols import Outbound, Sends
from oak_relay.document import values, wire
from oak_relay.document.errors import ErrorKind, Reached, StepFailed
from oak_relay.document.values import in_brief
from oak_relay.document.wire import WebAddress
from oak_relay.triggers.webhook import WebhookTrigger
from oak_relay.vault.blanking import unseen
from oak_relay.vault.kinds import Basic, Bearer, HeaderKey, Signing

_LONGEST_DELAY = 86_400.0
"""Seconds after which something is asked again, whatever a server says."""
_SAFE = ("GET", "HEAD", "OPTIONS", "PUT", "DELETE")
_SHOWN = 20_000


class Look(Fields):
    """A GET that tells whether a request whose outcome is unknown did happen."""

    url: WebAddress = Field(
        description="Absolute address; {idempotency_key} in it stands for the request's key (RFC 6570)."
    )
    query: dict[str, object] = Field(default_factory=dict, description="Added to the address.")
    absent: list[int] = Field(default_factory=lambda: [404, 410], description="Statuses that say it did not happen.")


class RequestInput(Fields):
    method: Literal["GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE"] = "GET"
    url: WebAddress = Field(description="Absolute address.")
    query: dict[str, object] = Field(default_factory=dict, description="Added to the address.")
    headers: dict[str, str] = Field(default_factory=dict)
    json_body: object = Field(None, alias="json", description="Body as JSON.")
    form: dict[str, str] | None = Field(None, description="Body as form fields.")
    file: object = Field(None, description="Body as a file: what a webhook or another step gave.")
    multipart: dict[str, object] | None = Field(
        None, description="Body as a form with files (RFC 7578): name to text or file."
    )
    credential: str | None = Field(None, description="Name of a stored credential.")
    expect: list[int] = Field(default_factory=list, description="Statuses that are fine; empty for any 2xx.")
    response: Literal["auto", "json", "text", "file"] = Field(
        "auto", description="How the body is read; file: it is kept as one, of whatever size files may have."
    )
    size_limit: int = Field(1_000_000, ge=1, le=4_000_000, description="Largest response in bytes.")
    repeat: Literal["auto", "safe", "keyed", "unsafe"] = Field(
        "auto",
        description="What repeating means; auto: safe for GET, HEAD, OPTIONS, PUT, DELETE (RFC 9110), else unsafe.",
    )
    look: Look | None = Field(None, description="How to look whether it happened; makes an unsafe request checkable.")

    @model_validator(mode="after")
    def _one_body(self) -> "RequestInput":
        given = [self.json_body, self.form, self.file, self.multipart]
        if sum(one is not None for one in given) > 1:
            raise ValueError("give one of json, form, file and multipart")
        return self


class Response(BaseModel):
    status: int
    headers: dict[str, str]
    body: object


def repeat_of(given: Given) -> Repeat:
    """What repeating a request means."""
    said = given.get("repeat", "auto")
    if said in ("safe", "keyed") or (said == "auto" and given.get("method", "GET") in _SAFE):
        return "keyed" if said == "keyed" else "safe"
    return "checkable" if given.get("look") else "unsafe"


async def _perform(given: RequestInput, at: Outbound) -> Result:
    fault = wire.header_fault(given.headers.items())
    if fault:
        raise StepFailed("invalid", f"http.request: {fault}", fix="correct the headers")
    ours, theirs = {"traceparent": at.trace_parent}, {"User-Agent": "oak-relay"}
    if given.method not in ("GET", "HEAD", "OPTIONS"):
        ours["Idempotency-Key"] = at.key
    content: dict[str, Any] = {}
    if given.json_body is not None:
        content["content"] = values.dumps(given.json_body).encode()
        theirs["Content-Type"] = "application/json"
    elif given.form is not None:
        content["data"] = given.form
    elif given.file is not None:
        sent = await files.whole(given.file, at)
        content["content"] = sent.pieces()
        theirs |= sent.headers
    elif given.multipart is not None:
        sent = await files.form(given.multipart, at)
        content["content"] = sent.pieces()
        theirs |= sent.headers
    headers = wire.overlaid(theirs, given.headers, ours, await authorised(at, given.url, given.credential))
    query = {k: values.text_of(v) for k, v in given.query.items()}
    request = at.http.build_request(
        given.method, given.url, params=query or None, headers=headers, timeout=at.timeout, **content
    )
    if repeat_of(given.model_dump()) in ("unsafe", "checkable"):
        at.send_check()
    keep = (lambda response: files.kept(response, request.url, at)) if given.response == "file" else None
    exchange = await send(at, request, given.size_limit, given.credential, keep=keep)
    fine = exchange.status in given.expect if given.expect else 200 <= exchange.status < 300
    if not fine:
        raise exchange.failure()
    body = exchange.kept.value if exchange.kept else exchange.read(given.response)
    return Result({"status": exchange.status, "headers": exchange.headers, "body": body}, exchange.detail)


async def _happened(given: RequestInput, at: Outbound) -> Result | None:
    """What a look finds: the reply to it, or None when it says that nothing is there."""
    assert given.look is not None
    url = given.look.url.replace("{idempotency_key}", quote(at.key, safe=""))
    query = {name: values.text_of(value) for name, value in given.look.query.items()}
    ours = {"traceparent": at.trace_parent}
    headers = wire.overlaid(given.headers, ours, await authorised(at, url, given.credential))
    request = at.http.build_request("GET", url, params=query or None, headers=headers, timeout=at.timeout)
    exchange = await send(at, request, given.size_limit, given.credential)
    if exchange.status in given.look.absent:
        return None
    if not 200 <= exchange.status < 300:
        raise exchange.failure()
    found = {"status": exchange.status, "headers": exchange.headers, "body": exchange.read(given.response)}
    return Result(found, exchange.detail)


async def authorised(at: Outbound, url: str, credential: str | None) -> dict[str, str]:
    """The headers of a stored credential for an address. Raises `StepFailed` (`denied`) for one it may not go to."""
    at.may_reach(url)
    if not credential:
        return {}
    stored = await at.credential(credential)
    if not stored.may_reach(url):
        raise StepFailed(
            "denied",
            f"the credential {credential} may only be sent to {', '.join(stored.hosts) or 'nobody'}",
            fix="use another credential, or add this place to its hosts (by http, http:// is written before the host)",
        )
    return stored.headers()


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
        self.body = body
        self.credential = credential
        self.kept = kept
        self.what = what
        self._at = at
        read: object = kept.value if kept is not None else at.shown(self._text(), _SHOWN)
        answered = {"status": self.status, "headers": unseen(self.headers), "body": read}
        self.detail = {"exchange": {"request": shown, "response": answered}}

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

    def failure(self) -> StepFailed:
        """The error that an unwanted status means."""
        kind, fix = _kind_of(self.status)
        used = f" with the credential {self.credential}" if self.credential else ""
        words = self._at.said(" ".join(self._text().split()), 300)
        message = f"{self.what}{used} answered {self.status}" + (f": {words}" if words else "")
        delay = retry_after(self.headers)
        return StepFailed(kind, message, fix=fix, reached=_reached(self.status, delay), delay=delay, detail=self.detail)


async def send(
    at: Sends,
    request: httpx.Request,
    size_limit: int,
    credential: str | None,
    take: Callable[[str], None] | None = None,
    show: bool = True,
    keep: Callable[[httpx.Response], Awaitable[HeldFile]] | None = None,
) -> Exchange:
    """Send and read, up to a size; `take` is given the lines of an event stream as they come; without `show` a trace
    leaves out the request's body. Where `keep` is given, an answer that went well is given to it, to be kept as a file. Raises `StepFailed` for what went wrong on the way."""
    url = str(request.url)
    what = f"{request.method} {url.partition('?')[0].partition('#')[0]}"
    shown = request_shown(request, url, credential, show, at)
    detail = {"exchange": {"request": shown}}
    try:
        response = await at.http.send(request, stream=True)
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


def request_shown(request: httpx.Request, url: str, credential: str | None, show: bool, at: Sends) -> dict[str, Any]:
    """A request as a trace shows it: secrets blanked, the credential named."""
    streamed = not isinstance(request.stream, httpx.ByteStream)
    content = request.read() if show and not streamed else b""
    if streamed or request.headers.get("content-type", "").startswith("multipart/"):
        body = f"({int(request.headers.get('content-length', len(content))):,} bytes)"
    else:
        body = at.shown(content.decode("utf-8", "replace"), _SHOWN)
    return {
        "method": request.method,
        "url": url,
        "headers": unseen(request.headers),
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


CONNECTOR = Connector(
    "HTTP",
    [
        Action(
            "http.request",
            "Call an HTTP service",
            RequestInput,
            Response,
            repeat="unsafe",
            timeout=30,
            perform=_perform,
            repeat_of=repeat_of,
            happened=_happened,
            sentence=lambda step, given: f"Send {in_brief(given.get('method', 'GET'))} {in_brief(given.get('url'))}",
            example={"method": "GET", "url": "http://office.example/bookings/${ input.booking }"},
            first=("method", "url", "json", "credential"),
            tell="$.body",
        )
    ],
    credentials=[Bearer, HeaderKey, Basic, Signing],
    triggers=[WebhookTrigger()],
)
