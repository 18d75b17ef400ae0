"""The client for what runs send to the outside."""

import asyncio
from functools import lru_cache
from importlib import import_module
from typing import Any

import httpx

from oak_relay.document import wire
from oak_relay.document.errors import StepFailed
from oak_relay.runtime.door import Door

_ASKED = {"Accept": "*/*", "Accept-Encoding": "gzip, deflate"}
"""What is sent where a request does not say it (RFC 9110)."""
_OF_THE_CLIENT = ("host", "content-length", "transfer-encoding")
"""What the client sets by itself, of the address and the body."""
_SHORT = 2000
"""Letters of an address that is kept in its parts."""


def outbound(door: Door) -> httpx.AsyncClient:
    """A client for what runs send: no redirects, no proxies of the environment, and no cookies, which would carry what
    one run was given into another."""
    return _Outbound(follow_redirects=False, trust_env=False, transport=_Lazy(door))


class _Outbound(httpx.AsyncClient):
    """Requests go to the transport as they are: there is nothing to follow, to sign or to remember."""

    def build_request(
        self,
        method: str,
        url: httpx.URL | str,
        *,
        timeout: Any = httpx.USE_CLIENT_DEFAULT,
        extensions: Any = None,
        cookies: object = None,
        **given: Any,
    ) -> httpx.Request:
        limits = self.timeout if timeout is httpx.USE_CLIENT_DEFAULT else httpx.Timeout(timeout)
        if isinstance(url, str):
            url = _read(url) if len(url) <= _SHORT else _read.__wrapped__(url)
        try:
            request = httpx.Request(
                method, url, extensions={**(extensions or {}), "timeout": limits.as_dict()}, **given
            )
        except (httpx.InvalidURL, UnicodeError) as error:
            raise _unsendable("address" if isinstance(error, httpx.InvalidURL) else "headers", str(error)) from None
        fault = wire.header_fault(
            (name, text) for name, text in request.headers.multi_items() if name not in _OF_THE_CLIENT
        )
        if fault:
            raise _unsendable("headers", fault)
        for name, value in _ASKED.items():
            if name not in request.headers:
                request.headers[name] = value
        return request

    async def send(self, request: httpx.Request, *, stream: bool = False, **_: object) -> httpx.Response:
        response = await self._transport.handle_async_request(request)
        if not stream:
            await response.aread()
        return response


def _unsendable(what: str, why: str) -> StepFailed:
    return StepFailed("invalid", f"the request cannot be sent: {why}", fix=f"correct the {what}")


@lru_cache(maxsize=1024)
def _read(url: str) -> httpx.URL:
    """An address as its parts; most are asked again and again. Raises `StepFailed`."""
    fault = wire.address_fault(url)
    if fault:
        raise _unsendable("address", fault)
    try:
        return httpx.URL(url)
    except httpx.InvalidURL as error:
        raise _unsendable("address", str(error)) from None


class _Lazy(httpx.AsyncBaseTransport):
    """The transport, loaded with the first request: a process that sends nothing starts without it."""

    def __init__(self, door: Door) -> None:
        self._door = door
        self._inner: httpx.AsyncBaseTransport | None = None
        self._loading = asyncio.Lock()

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        if self._inner is None:
            async with self._loading:
                if self._inner is None:
                    loaded = await asyncio.to_thread(import_module, "oak_relay.runtime.connections")
                    self._inner = loaded.Connections(self._door)
        return await self._inner.handle_async_request(request)

    async def aclose(self) -> None:
        if self._inner is not None:
            await self._inner.aclose()
