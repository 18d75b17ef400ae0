"""The client for what runs send to the outside."""

import asyncio
from http.cookiejar import CookieJar, DefaultCookiePolicy
from importlib import import_module

import httpx


def outbound() -> httpx.AsyncClient:
    """A client for what runs send: no redirects, no proxies of the environment, and no cookies, which would carry what
    one run was given into another."""
    forgetful = CookieJar(DefaultCookiePolicy(allowed_domains=[]))
    return httpx.AsyncClient(follow_redirects=False, trust_env=False, cookies=forgetful, transport=_Lazy())


class _Lazy(httpx.AsyncBaseTransport):
    """The transport, loaded with the first request: a process that sends nothing starts without it."""

    def __init__(self) -> None:
        self._inner: httpx.AsyncBaseTransport | None = None

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        if self._inner is None:
            loaded = await asyncio.to_thread(import_module, "oak_relay.runtime.connections")
            self._inner = self._inner or loaded.Connections()
        return await self._inner.handle_async_request(request)

    async def aclose(self) -> None:
        if self._inner is not None:
            await self._inner.aclose()
