"""`http.request`: any HTTP service, with a stored credential, an idempotency key and trace context."""

from typing import Any, Literal
from urllib.parse import quote

from pydantic import BaseModel, Field, model_validator

from oak_relay.actions import files, trying
from oak_relay.actions.base import Action, Connector, Fields, Given, Repeat
from oak_relay.actions.exchange import authorised, send
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import values, wire
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
        content["content"] = sent
        theirs |= sent.headers
    elif given.multipart is not None:
        sent = await files.form(given.multipart, at)
        content["content"] = sent
        theirs |= sent.headers
    query = {k: values.text_of(v) for k, v in given.query.items()}
    headers = wire.overlaid(theirs, given.headers, ours)
    plain = at.http.build_request(
        given.method, given.url, params=query or None, headers=headers, timeout=at.timeout, **content
    )
    request = await authorised(at, plain, given.credential)
    if repeat_of(given.model_dump()) in ("unsafe", "checkable"):
        at.send_check()
    keep = (lambda response: files.kept(response, plain.url, at)) if given.response == "file" else None
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
            perform=_perform,
            repeat_of=repeat_of,
            happened=_happened,
            sentence=lambda step, given: f"Send {in_brief(given.get('method', 'GET'))} {in_brief(given.get('url'))}",
            example={"method": "GET", "url": "http://office.example/bookings/${ input.booking }"},
            first=("method", "url", "json", "credential"),
            tell="$.body",
        )
    ],
    credentials=[Bearer, HeaderKey, QueryKey, Basic, FieldsKey, Signing, OAuth, Certificate],
    triggers=[WebhookTrigger()],
    trying={"signing": trying.by_signing, "certificate": trying.by_certificate, "oauth": trying.by_token},
)
