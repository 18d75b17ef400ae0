"""`http.request`: any HTTP service, with a stored credential, an idempotency key and trace context."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal
from urllib.parse import quote

from pydantic import BaseModel, Field, model_validator

from oak_relay.actions import files, redirects, trying
from oak_relay.actions.base import Action, Connector, Fields, Given, Repeat
from oak_relay.actions.exchange import Exchange, authorised, send
from oak_relay.actions.redirects import Hop
from oak_relay.actions.turning import MOST, How, Turning
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import paths, values, wire
from oak_relay.document.errors import StepFailed
from oak_relay.document.values import in_brief
from oak_relay.document.wire import WebAddress
from oak_relay.triggers.webhook import WebhookTrigger
from oak_relay.vault.certificate import Certificate
from oak_relay.vault.keys import Basic, Bearer, HeaderKey, QueryKey
from oak_relay.vault.keys import Fields as FieldsKey
from oak_relay.vault.oauth import OAuth
from oak_relay.vault.signing import Signing

_SAFE = ("GET", "HEAD", "OPTIONS", "PUT", "DELETE")


class Look(Fields):
    """A GET that tells whether a request whose outcome is unknown did happen."""

    url: WebAddress = Field(
        description="Absolute address; {idempotency_key} in it stands for the request's key (RFC 6570)."
    )
    query: dict[str, object] = Field(default_factory=dict, description="Added to the address.")
    absent: list[int] = Field(default_factory=lambda: [404, 410], description="Statuses that say it did not happen.")


class Pages(Fields):
    """How further pages are asked for, and put together. Without `mark`, `offset` and `number` by the `Link` header (RFC 8288)."""

    items: str = Field("$", max_length=1000, description="JSONPath (RFC 9535) of the list in each page, as $.items.")
    mark: str | None = Field(
        None,
        max_length=1000,
        description="JSONPath of the next page's mark, or of its address where there is no `parameter`.",
    )
    parameter: str | None = Field(None, max_length=200, description="The parameter of the address that takes the mark.")
    offset: str | None = Field(None, max_length=200, description="The parameter that says how many items are left out.")
    number: str | None = Field(None, max_length=200, description="The parameter that says the number of the page.")
    most: int = Field(10, ge=1, le=MOST, description="Pages that are asked for at most.")

    @model_validator(mode="after")
    def _one_way(self) -> "Pages":
        if sum(one is not None for one in (self.mark, self.offset, self.number)) > 1:
            raise ValueError("pages follow each other by one of mark, offset and number")
        if self.parameter is not None and self.mark is None:
            raise ValueError("parameter takes a mark: say where it stands")
        return self

    @property
    def how(self) -> How:
        """By what they follow each other."""
        return "cursor" if self.parameter else "offset" if self.offset else "page" if self.number else "link"

    @property
    def changing(self) -> str:
        """The parameter that is another with each page."""
        return self.parameter or self.offset or self.number or ""


class RequestInput(Fields):
    method: Literal["GET", "HEAD", "OPTIONS", "POST", "PUT", "PATCH", "DELETE"] = "GET"
    url: WebAddress = Field(description="Absolute address.")
    query: dict[str, object] = Field(default_factory=dict, description="Added to the address; a list several times.")
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
    pick: str | None = Field(
        None, max_length=1000, description="JSONPath (RFC 9535) of what is taken of the body, as $.items[*].id."
    )
    pages: Pages | None = Field(
        None, description="Further pages are asked for; the body is then the list of all items."
    )
    redirects: int = Field(
        0,
        ge=0,
        le=10,
        description="How many redirects are followed; elsewhere without the credential, never from https to http.",
    )
    if_none_match: str | None = Field(
        None,
        max_length=1000,
        description="ETag that is known: when it is still so, the status is 304 and the body null.",
    )
    if_modified_since: str | None = Field(
        None, max_length=100, description="Last-Modified that is known: when it is still so, the status is 304."
    )
    if_match: str | None = Field(
        None,
        max_length=1000,
        description="ETag of what is changed: when it is another by now, the status is 412, and nothing is done.",
    )
    size_limit: int = Field(1_000_000, ge=1, le=4_000_000, description="Largest response in bytes.")
    repeat: Literal["auto", "safe", "keyed", "unsafe"] = Field(
        "auto",
        description="What repeating means; auto: safe for GET, HEAD, OPTIONS, PUT, DELETE (RFC 9110), else unsafe.",
    )
    look: Look | None = Field(None, description="How to look whether it happened; makes an unsafe request checkable.")

    @model_validator(mode="after")
    def _fits_together(self) -> "RequestInput":
        given = [self.json_body, self.form, self.file, self.multipart]
        if sum(one is not None for one in given) > 1:
            raise ValueError("give one of json, form, file and multipart")
        if self.pages is not None and self.method not in ("GET", "POST"):
            raise ValueError("pages are asked for by GET or POST")
        if self.response in ("text", "file") and (self.pick is not None or self.pages is not None):
            raise ValueError(f"{'pick' if self.pick is not None else 'pages'} wants JSON: leave out response")
        return self

    @property
    def conditions(self) -> dict[str, str]:
        """The headers of a conditional request (RFC 9110, section 13)."""
        told = {
            "If-None-Match": self.if_none_match,
            "If-Modified-Since": self.if_modified_since,
            "If-Match": self.if_match,
        }
        return {name: value for name, value in told.items() if value is not None}


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


async def request(given: RequestInput, at: Outbound) -> Result:
    """Send a request; its answer. Raises `StepFailed`."""
    fault = wire.header_fault((*given.headers.items(), *given.conditions.items()))
    if fault:
        raise StepFailed("invalid", f"http.request: {fault}", fix="correct the headers")
    asked = await _asked(given, at)
    exchange = await asked.answered(given.url, given.query)
    if given.pages is not None:
        return await _turned(given, given.pages, asked, exchange)
    return Result(_output(exchange, _body(given, exchange)), exchange.told)


@dataclass(frozen=True, slots=True)
class _Asking:
    """A request that may be sent to several addresses, one after the other."""

    given: RequestInput
    at: Outbound
    headers: dict[str, str]
    content: Mapping[str, Any]

    async def answered(self, url: str, query: Mapping[str, object] | None = None) -> Exchange:
        """The answer, redirects followed. Raises `StepFailed` for one that is not fine."""
        given, at = self.given, self.at
        pairs: dict[str, str | list[str]] = {
            name: [values.text_of(one) for one in some] if isinstance(some, list) else values.text_of(some)
            for name, some in (query or {}).items()
        }
        hop = Hop(given.method, given.credential, self.headers, self.content)
        request = self.at.http.build_request(given.method, url, params=pairs or None, headers=hop.headers, timeout=at.timeout, **hop.content)  # fmt: skip
        gone: list[str] = []
        while True:
            if repeat_of(given.model_dump()) in ("unsafe", "checkable"):
                at.send_check()
            plain = request
            keep = (lambda response, url=plain.url: files.kept(response, url, at)) if given.response == "file" else None
            exchange = await send(
                at, await authorised(at, plain, hop.credential), given.size_limit, hop.credential, keep=keep
            )
            where = redirects.leads_to(exchange, str(plain.url)) if len(gone) < given.redirects else None
            if where is None:
                break
            gone.append(where)
            hop = await redirects.hop(hop, exchange.status, str(plain.url), where, at)
            request = at.http.build_request(hop.method, where, headers=hop.headers, timeout=at.timeout, **hop.content)
        if gone:
            exchange.redirected = gone
        if not self._is_fine(exchange.status):
            raise exchange.failure()
        return exchange

    def _is_fine(self, status: int) -> bool:
        if status == 304 and (self.given.if_none_match or self.given.if_modified_since):
            return True
        return status in self.given.expect if self.given.expect else 200 <= status < 300


async def _asked(given: RequestInput, at: Outbound) -> _Asking:
    """A request with its headers and its body."""
    ours, theirs = {"traceparent": at.trace_parent}, {"User-Agent": "oak-relay"}
    if given.method not in ("GET", "HEAD", "OPTIONS"):
        ours["Idempotency-Key"] = at.key
    content: dict[str, Any] = {}
    if given.json_body is not None:
        content["content"] = values.dumps(given.json_body).encode()
        theirs["Content-Type"] = "application/json"
    elif given.form is not None:
        content["data"] = given.form
    elif given.file is not None or given.multipart is not None:
        sent = await (files.whole(given.file, at) if given.multipart is None else files.form(given.multipart, at))
        content["content"] = sent
        theirs |= sent.headers
    return _Asking(given, at, wire.overlaid(theirs, given.headers, given.conditions, ours), content)


def _output(exchange: Exchange, body: object) -> dict[str, object]:
    return {"status": exchange.status, "headers": exchange.headers, "body": body}


def _body(given: RequestInput, exchange: Exchange) -> Any:
    """The body as it is given on. Raises `StepFailed`."""
    if exchange.kept is not None:
        return exchange.kept.value
    if exchange.status == 304:
        return None
    body = exchange.read("json" if given.pick is not None and exchange.body else given.response)
    return paths.told(given.pick, body) if given.pick is not None else body


async def _turned(given: RequestInput, pages: Pages, asked: _Asking, exchange: Exchange) -> Result:
    """All pages, put together. Raises `StepFailed`."""
    mark = pages.mark
    turning = Turning(
        pages.how,
        lambda page: paths.told(pages.items, page),
        (lambda page: paths.told(mark, page)) if mark is not None else None,
    )
    url, query, first = given.url, given.query, exchange
    turning.add(exchange.read("json"), len(exchange.body))
    while turning.pages < pages.most:
        if pages.how == "link":
            after = turning.address(exchange, url)
            if after is None:
                break
            url, query = after, {}
        else:
            value = turning.value(query.get(pages.changing))
            if value is None:
                break
            query = {**query, pages.changing: value}
        exchange = await asked.answered(url, query)
        turning.add(exchange.read("json"), len(exchange.body))
    items = turning.items if given.pick is None else paths.told(given.pick, turning.items)
    return Result(_output(first, items), {**first.told, "pages": turning.pages})


async def _happened(given: RequestInput, at: Outbound) -> Result | None:
    """What a look finds: the reply to it, or None when it says that nothing is there."""
    assert given.look is not None
    url = given.look.url.replace("{idempotency_key}", quote(at.key, safe=""))
    query = {name: values.text_of(value) for name, value in given.look.query.items()}
    ours = {"traceparent": at.trace_parent}
    headers = wire.overlaid(given.headers, ours)
    plain = at.http.build_request("GET", url, params=query or None, headers=headers, timeout=at.timeout)
    exchange = await send(at, await authorised(at, plain, given.credential), given.size_limit, given.credential)
    if exchange.status in given.look.absent:
        return None
    if not 200 <= exchange.status < 300:
        raise exchange.failure()
    found = {"status": exchange.status, "headers": exchange.headers, "body": exchange.read(given.response)}
    return Result(found, exchange.detail)


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
            perform=request,
            repeat_of=repeat_of,
            happened=_happened,
            sentence=lambda step, given: f"Send {in_brief(given.get('method', 'GET'))} {in_brief(given.get('url'))}",
            example_gives={"status": 200, "headers": "…", "body": {"id": "b-7"}},
            example={"method": "GET", "url": "http://office.example/bookings/${ input.booking }"},
            first=("method", "url", "json", "credential", "pick"),
            tell="$.body",
        )
    ],
    credentials=[Bearer, HeaderKey, QueryKey, Basic, FieldsKey, Signing, OAuth, Certificate],
    triggers=[WebhookTrigger()],
    trying={"signing": trying.by_signing, "certificate": trying.by_certificate, "oauth": trying.by_token},
)
