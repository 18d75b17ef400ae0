"""Connections from outside: who sends slowly, or sends more head than any request needs, is ended."""

import asyncio

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

HEAD_SECONDS = 15.0
"""Seconds that the head of a request may take to arrive."""
HEAD_BYTES = 64 * 1024
"""Bytes that the head of a request may have."""
_TOO_LARGE = (
    b"HTTP/1.1 431 Request Header Fields Too Large\r\ncontent-type: text/plain; charset=utf-8\r\n"
    b"content-length: 0\r\nconnection: close\r\n\r\n"
)


class GuardedProtocol(HttpToolsProtocol):
    """HTTP/1.1 with limits to the head of each request."""

    _head: asyncio.TimerHandle | None = None
    _size = 0

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._expect()

    def connection_lost(self, exc: Exception | None) -> None:
        self._expected()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        if self._head is None and (self.cycle is None or self.cycle.response_complete):
            self._expect()  # the next request on a connection that was kept
        if self._head is not None:
            self._size += len(data)
            # What comes along with a head may be its body already.
            if self._size > HEAD_BYTES and b"\r\n\r\n" not in data:
                self.transport.write(_TOO_LARGE)
                self.transport.close()
                return
        super().data_received(data)

    def on_headers_complete(self) -> None:
        self._expected()
        super().on_headers_complete()

    def _expect(self) -> None:
        self._size = 0
        self._head = self.loop.call_later(HEAD_SECONDS, self._late)

    def _expected(self) -> None:
        if self._head is not None:
            self._head.cancel()
            self._head = None

    def _late(self) -> None:
        self._head = None
        if not self.transport.is_closing():
            self.transport.close()
