"""Redirects (RFC 9110, section 15.4) under rules: what goes along to another place, and what does not."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin, urlsplit

from oak_relay.actions.exchange import Exchange
from oak_relay.capabilities.protocols import Authorizes
from oak_relay.document import wire
from oak_relay.document.errors import StepFailed

_REDIRECTS = (301, 302, 303, 307, 308)
_SAME = (307, 308)
"""Those that keep method and body."""
_PROVES = frozenset(("authorization", "cookie", "proxy-authorization"))
_OF_THE_BODY = frozenset(("content-type", "content-length", "content-encoding", "idempotency-key"))


@dataclass(frozen=True, slots=True)
class Hop:
    """One request on a way of several: what is sent, and with which credential."""

    method: str
    credential: str | None
    headers: dict[str, str]
    content: Mapping[str, Any]


def leads_to(exchange: Exchange, url: str) -> str | None:
    """The address that an answer leads to; None when it leads nowhere. Raises `StepFailed` (`invalid`) for what is none."""
    where = exchange.headers.get("location", "")
    if exchange.status not in _REDIRECTS or not where:
        return None
    try:
        return urljoin(url, where)
    except ValueError as error:
        raise StepFailed("invalid", f"it is redirected to what is no address: {error}", reached="yes") from None


async def hop(last: Hop, status: int, url: str, where: str, at: Authorizes) -> Hop:
    """What is sent to the next address: where it is elsewhere without what proves who asks, and a credential only where it may go.
    Raises `StepFailed`: `denied` for a way from https to http, `invalid` for an address that none can be sent to."""
    if fault := wire.address_fault(where):
        raise StepFailed("invalid", f"it is redirected to what is no address: {fault}", reached="yes")
    before, after = urlsplit(url), urlsplit(where)
    if before.scheme == "https" and after.scheme != "https":
        raise StepFailed(
            "denied", f"it is redirected from https to {where[:200]}", fix="give that address", reached="yes"
        )
    credential, headers, content, method = last.credential, dict(last.headers), last.content, last.method
    if (before.scheme, before.netloc) != (after.scheme, after.netloc):
        headers = {name: value for name, value in headers.items() if name.lower() not in _PROVES}
        if credential is not None and not (await at.credential(credential)).may_reach(where):
            credential = None
    if status not in _SAME and (status == 303 or method == "POST") and method != "HEAD":
        method, content = "GET", {}
        headers = {name: value for name, value in headers.items() if name.lower() not in _OF_THE_BODY}
    return Hop(method, credential, headers, content)
