"""The transport of outgoing requests: over aiohttp's connections, whose parser is compiled.

What went wrong is told in the client's own terms, and exactly enough to say whether the other side may have been
reached: only what fails before anything was sent is a `ConnectError` or `ConnectTimeout`.
"""

import asyncio
from collections.abc import AsyncIterable, AsyncIterator
from functools import lru_cache

import aiohttp
import httpx
from yarl import URL

from oak_relay.runtime.door import ASKED, Asked, Door, denied

_UNDER_WAY = 3600.0
"""Seconds that a request may take."""


class Connections(httpx.AsyncBaseTransport):
    """The transport; as many connections as are asked for, each kept a while."""

    def __init__(self, door: Door) -> None:
        self._door = door
        self._session: aiohttp.ClientSession | None = None
        self._exposed = door.exposed
        self._former: set[asyncio.Task[None]] = set()

    def _opened(self) -> aiohttp.ClientSession:
        if self._exposed != self._door.exposed:
            self._exposed = self._door.exposed
            if self._session is not None:  # what was open before may be closed now: nobody takes a kept connection
                self._former.add(asyncio.create_task(_ended(self._session)))
                self._session = None
        if self._session is None:
            connector = aiohttp.TCPConnector(
                limit=0, limit_per_host=self._door.settings.host_connections, keepalive_timeout=5, ttl_dns_cache=5,
                socket_factory=self._door.socket,
            )  # fmt: skip
            self._session = aiohttp.ClientSession(
                connector=connector, cookie_jar=aiohttp.DummyCookieJar(), auto_decompress=False, trust_env=False,
                max_line_size=65_536, max_field_size=65_536,
            )  # fmt: skip
            self._session._retry_connection = False  # whether anything is sent twice is the engine's to decide
        return self._session

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        limits = request.extensions.get("timeout", {})
        timeout = aiohttp.ClientTimeout(total=None, sock_connect=limits.get("connect"), sock_read=limits.get("read"))
        headers = [(name, value) for name, value in request.headers.multi_items() if name not in _ITS_OWN]
        data: bytes | AsyncIterable[bytes] | None
        if isinstance(request.stream, httpx.ByteStream):
            data = await request.aread() or None
        else:  # piece by piece, never whole in memory; its size is told where it is known
            data = request.stream if isinstance(request.stream, AsyncIterable) else await request.aread()
            headers += [(name, value) for name, value in request.headers.multi_items() if name == "content-length"]
        asked = Asked(request.url.host.rstrip("."))
        if self._door.settings.proxy:
            self._door.proxied(asked.host, request.url.port or (443 if request.url.scheme == "https" else 80))
        await self._door.pace(asked.host)
        token = ASKED.set(asked)
        try:
            response = await self._opened().request(
                request.method, _address(str(request.url)), headers=headers, data=data,
                allow_redirects=False, timeout=timeout, skip_auto_headers=_UNASKED, proxy=self._door.settings.proxy or None,
                ssl=request.extensions.get("tls", True),
            )  # fmt: skip
        except (aiohttp.ClientError, TimeoutError) as error:
            if asked.closed:
                raise denied(f"{asked.host} may not be called: {asked.closed}") from error
            raise _told(error, request) from error
        finally:
            ASKED.reset(token)
        return httpx.Response(
            response.status, headers=response.raw_headers, stream=_Stream(response, request), request=request
        )

    async def aclose(self) -> None:
        for task in self._former:
            task.cancel()
        await asyncio.gather(*self._former, return_exceptions=True)
        if self._session is not None:
            await self._session.close()


async def _ended(session: aiohttp.ClientSession) -> None:
    """Close a session once what is under way on it is over."""
    try:
        await asyncio.sleep(_UNDER_WAY)
    finally:
        await session.close()


@lru_cache(maxsize=1024)
def _address(url: str) -> URL:
    return URL(url, encoded=True)


class _Stream(httpx.AsyncByteStream):
    """A response's body, as it comes."""

    def __init__(self, response: aiohttp.ClientResponse, request: httpx.Request) -> None:
        self._response, self._request = response, request

    async def __aiter__(self) -> AsyncIterator[bytes]:
        try:
            async for piece in self._response.content.iter_any():
                yield piece
        except (aiohttp.ClientError, TimeoutError) as error:
            raise _told(error, self._request) from error

    async def aclose(self) -> None:
        if self._response.content.at_eof():
            self._response.release()
        else:
            self._response.close()


_ITS_OWN = frozenset({"content-length", "transfer-encoding", "connection"})
"""Headers that belong to the connection."""
_UNASKED = frozenset({"User-Agent", "Accept", "Accept-Encoding", "Content-Type"})
"""Headers that are sent only when they are given."""


def _told(error: Exception, request: httpx.Request) -> httpx.TransportError:
    """The client's own error for one of the connection."""
    said = str(error) or type(error).__name__
    if isinstance(error, aiohttp.ConnectionTimeoutError):
        return httpx.ConnectTimeout(said, request=request)
    if isinstance(error, aiohttp.ClientConnectorError):  # no address, nobody listens, or no trust
        return httpx.ConnectError(said, request=request)
    if isinstance(error, aiohttp.InvalidURL | aiohttp.NonHttpUrlClientError):
        return httpx.UnsupportedProtocol(said, request=request)
    if isinstance(error, TimeoutError):
        return httpx.ReadTimeout(said, request=request)
    if isinstance(error, aiohttp.ClientPayloadError | aiohttp.ClientResponseError):
        return httpx.RemoteProtocolError(said, request=request)
    return httpx.ReadError(said, request=request)
