"""`event.send`: an event to another service (CloudEvents 1.0, HTTP protocol binding)."""

from datetime import UTC, datetime
from typing import Literal
from urllib.parse import quote

from pydantic import BaseModel, Field

from oak_relay.actions.base import Action, Connector, Fields
from oak_relay.actions.exchange import authorised, send
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import values
from oak_relay.document.values import in_brief
from oak_relay.document.wire import WebAddress
from oak_relay.triggers.event import EventTrigger


class SendInput(Fields):
    url: WebAddress = Field(description="Where the event is sent.")
    type: str = Field(min_length=1)
    source: str = Field("/oak-relay", min_length=1)
    data: object = None
    subject: str | None = None
    id: str | None = Field(None, description="The step's idempotency key when left out: the same across attempts.")
    mode: Literal["structured", "binary"] = "structured"
    credential: str | None = Field(None, description="Name of a stored credential.")


class Sent(BaseModel):
    id: str
    status: int


async def _send(given: SendInput, at: Outbound) -> Result:
    attributes = {"specversion": "1.0", "id": given.id or at.key, "type": given.type, "source": given.source}
    attributes["time"] = datetime.now(UTC).isoformat()
    if given.subject is not None:
        attributes["subject"] = given.subject
    headers = {"User-Agent": "oak-relay", "traceparent": at.trace_parent, "Idempotency-Key": at.key}
    if given.mode == "structured":
        headers["Content-Type"] = "application/cloudevents+json"
        body = values.dumps({**attributes, "data": given.data})
    else:
        headers["Content-Type"] = "application/json"
        headers |= {f"ce-{name}": quote(value, safe=" !#$&'()*+,/:;=?@[]-._~") for name, value in attributes.items()}
        body = values.dumps(given.data)
    request = at.http.build_request("POST", given.url, content=body.encode(), headers=headers, timeout=at.timeout)
    request = await authorised(at, request, given.credential)
    exchange = await send(at, request, 100_000, given.credential)
    if not 200 <= exchange.status < 300:
        raise exchange.failure()
    return Result({"id": attributes["id"], "status": exchange.status}, exchange.detail)


CONNECTOR = Connector(
    "Events",
    [
        Action(
            "event.send",
            "Send an event to a service",
            SendInput,
            Sent,
            repeat="keyed",
            timeout=30,
            perform=_send,
            sentence=lambda step, given: (
                f"Send the event {in_brief(given.get('type'))} to {in_brief(given.get('url'))}"
            ),
            example_gives={"id": "…", "status": 202},
            example={"url": "http://office.example/events", "type": "booking.made", "data": {"id": "${ input.id }"}},
            first=("url", "type", "data", "credential"),
        )
    ],
    triggers=[EventTrigger()],
)
