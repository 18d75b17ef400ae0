"""Connections to the outside, many at once: one pool looks through all of its connections for every request, which costs
with their square; so there are several small ones, and the first that has room takes a request."""

import ssl

import httpx

ROOM = 12
"""Requests that one pool takes at once while another has room."""
MOST = 200


class Pools(httpx.AsyncBaseTransport):
    """A transport over small pools; they are made when they are first needed."""

    def __init__(self) -> None:
        self._trust = ssl.create_default_context()
        self._pools: list[httpx.AsyncHTTPTransport] = []
        self._busy: list[int] = []

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        place = next((n for n, busy in enumerate(self._busy) if busy < ROOM), len(self._busy))
        if place == MOST:
            place = self._busy.index(min(self._busy))
        elif place == len(self._busy):
            limits = httpx.Limits(max_connections=None, max_keepalive_connections=ROOM)
            self._pools.append(httpx.AsyncHTTPTransport(verify=self._trust, trust_env=False, limits=limits))
            self._busy.append(0)
        self._busy[place] += 1
        try:
            return await self._pools[place].handle_async_request(request)
        finally:
            self._busy[place] -= 1

    async def aclose(self) -> None:
        for pool in self._pools:
            await pool.aclose()
