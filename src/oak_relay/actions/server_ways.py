"""The two ways to a tool server, as the protocol's SDK takes them: streamable HTTP through the one door, and a program."""

import asyncio
import contextlib
import os
from collections.abc import AsyncIterator
from contextlib import AbstractAsyncContextManager, asynccontextmanager
from typing import Any

import anyio
import httpx
import httpx2
from mcp.client.streamable_http import streamable_http_client
from mcp.shared.message import SessionMessage
from mcp.types import jsonrpc_message_adapter
from pydantic import ValidationError

from oak_relay.actions.exchange import Exchange, authorised, broken, request_shown, sent, what_of
from oak_relay.actions.server_calls import LARGEST, Calls, ServerCall
from oak_relay.document.errors import StepFailed

_OF_THE_PROTOCOL = ("accept", "content-type", "last-event-id", "mcp-protocol-version", "mcp-session-id")
_END = 2.0
"""Seconds that a program is given to end by itself."""


def by_http(url: str, credential: str | None, calls: Calls) -> AbstractAsyncContextManager[Any]:
    """Streams to a server at an address. What a server would say without being asked is not listened to."""
    client = httpx2.AsyncClient(transport=_Door(credential, calls), timeout=None, trust_env=False)
    return streamable_http_client(url, http_client=client, max_sse_event_size=LARGEST)


class _Door(httpx2.AsyncBaseTransport):
    """Requests of the SDK go out as all others do: judged by the door, with the credential and the trace of their call."""

    def __init__(self, credential: str | None, calls: Calls) -> None:
        self._credential, self._calls = credential, calls

    async def handle_async_request(self, request: httpx2.Request) -> httpx2.Response:
        if request.method == "GET" and "last-event-id" not in request.headers:
            return httpx2.Response(405)
        content, call = await request.aread(), self._calls.opening
        if content:
            content, call, _ = self._calls.leaving(content)
        try:
            return await self._sent(request, content, call)
        except StepFailed as failed:
            call.failure = failed
            return httpx2.Response(502)

    async def _sent(self, request: httpx2.Request, content: bytes, call: ServerCall) -> httpx2.Response:
        at, url = call.at, str(request.url)
        headers = {
            "User-Agent": "oak-relay",
            "traceparent": at.trace_parent,
            "Idempotency-Key": at.key,
            **{name: request.headers[name] for name in _OF_THE_PROTOCOL if name in request.headers},
        }
        plain = at.http.build_request(request.method, url, content=content or None, headers=headers, timeout=at.timeout)
        asked = await authorised(at, plain, self._credential)
        what, shown = what_of(asked), request_shown(asked, self._credential, True, at)
        try:
            response = await sent(at, asked, self._credential)
        except httpx.HTTPError as error:
            raise broken(error, what, {"exchange": {"request": shown}}) from None
        body = _Body(response, what, call, self._calls)
        kept = {name: response.headers[name] for name in ("content-type", "mcp-session-id") if name in response.headers}
        if 200 <= response.status_code < 300 and "text/event-stream" in kept.get("content-type", ""):
            return httpx2.Response(response.status_code, headers=kept, stream=body)
        whole = b"".join([piece async for piece in body])
        await body.aclose()
        if not 200 <= response.status_code < 300:
            call.gone = response.status_code == 404 and "mcp-session-id" in request.headers
            call.failure = Exchange(what, shown, response, whole, self._credential, at).failure()
        else:
            call.failure = None
            self._calls.came(whole)
        return httpx2.Response(response.status_code, headers=kept, content=whole)


class _Body(httpx2.AsyncByteStream):
    """A reply while it comes, up to a size; of a stream of events (WHATWG) each is looked at before it is handed on."""

    def __init__(self, response: httpx.Response, what: str, call: ServerCall, calls: Calls) -> None:
        self._response, self._what, self._call, self._calls = response, what, call, calls
        self._events = "text/event-stream" in response.headers.get("content-type", "")
        self._rest, self._data = b"", list[bytes]()

    async def __aiter__(self) -> AsyncIterator[bytes]:
        size = 0
        try:
            async for piece in self._response.aiter_bytes():
                size += len(piece)
                if size > LARGEST:
                    raise StepFailed(
                        "too_long",
                        f"{self._what} answered more than {LARGEST} bytes",
                        fix="ask for less",
                        reached="yes",
                    )
                if self._events:
                    self._look(piece)
                yield piece
            if self._events:
                self._look(b"\n\n")
        except httpx.HTTPError as error:
            self._call.failure = broken(error, self._what, {})
            raise httpx2.ReadError(str(error)) from None
        except StepFailed as failed:
            self._call.failure = failed
            raise httpx2.ReadError(failed.message) from None

    def _look(self, piece: bytes) -> None:
        *lines, self._rest = (self._rest + piece).split(b"\n")
        for line in (line.rstrip(b"\r") for line in lines):
            if line.startswith(b"data:"):
                self._data.append(line[5:].removeprefix(b" "))
            elif not line and self._data:
                self._calls.came(b"\n".join(self._data))
                self._data = []

    async def aclose(self) -> None:
        await self._response.aclose()


@asynccontextmanager
async def by_program(command: list[str], environment: dict[str, str], calls: Calls) -> AsyncIterator[Any]:
    """Streams to a program that is started, a message a line. Raises `StepFailed` when it cannot be."""
    name = calls.opening.name
    try:
        process = await asyncio.create_subprocess_exec(
            *command,
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.DEVNULL,
            env={"PATH": os.environ.get("PATH", ""), "HOME": os.environ.get("HOME", "/"), **environment},
            limit=LARGEST,
        )
    except (OSError, ValueError) as error:
        raise StepFailed("unavailable", f"{name} cannot be started: {error}", fix="correct its command") from None
    inward, read = anyio.create_memory_object_stream[SessionMessage | Exception](0)
    write, outward = anyio.create_memory_object_stream[SessionMessage](0)
    assert process.stdin is not None and process.stdout is not None
    stdin, stdout = process.stdin, process.stdout

    async def listen() -> None:
        async with inward:
            with contextlib.suppress(ValueError, anyio.BrokenResourceError, anyio.ClosedResourceError):
                while line := await stdout.readline():  # a longer one is a ValueError, and the end
                    calls.came(line)
                    with contextlib.suppress(ValidationError):
                        await inward.send(SessionMessage(jsonrpc_message_adapter.validate_json(line, by_name=False)))

    async def speak() -> None:
        try:
            async with outward:
                async for message in outward:
                    given = message.message.model_dump_json(by_alias=True, exclude_unset=True).encode()
                    stdin.write(calls.leaving(given)[0] + b"\n")
                    await stdin.drain()
        except (ConnectionError, anyio.BrokenResourceError):
            await inward.aclose()

    try:
        async with anyio.create_task_group() as both:
            both.start_soon(listen)
            both.start_soon(speak)
            try:
                yield read, write
            finally:
                both.cancel_scope.cancel()
    finally:
        with anyio.CancelScope(shield=True):
            await _ended(process)
            for stream in (inward, read, write, outward):
                await stream.aclose()


async def _ended(process: asyncio.subprocess.Process) -> None:
    """End a program: by closing what it reads from, then by force."""
    assert process.stdin is not None and process.stdout is not None
    process.stdin.close()
    try:
        async with asyncio.timeout(_END):
            await _silent(process.stdout)
    except TimeoutError:
        with contextlib.suppress(ProcessLookupError):
            process.kill()
        with contextlib.suppress(TimeoutError):  # what it has started may hold its output open
            async with asyncio.timeout(_END):
                await _silent(process.stdout)
    process._transport.close()  # type: ignore[attr-defined]  # nothing public closes what a grandchild holds open


async def _silent(stdout: asyncio.StreamReader) -> None:
    """Return when nothing can be said any more."""
    while await stdout.read(65_536):
        pass
