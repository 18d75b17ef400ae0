"""Sessions with tool servers that are kept between calls, by the SDK of the Model Context Protocol."""

import asyncio
import contextlib
import importlib
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any
from uuid import uuid4

from pydantic import BaseModel, ValidationError

from oak_relay.actions.server_calls import MARK, Calls, ServerCall
from oak_relay.actions.tool_server import ToolServer
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document.errors import Reached, StepFailed

if TYPE_CHECKING:
    from mcp import ClientSession

_IDLE = 300.0
"""Seconds after which a session that nobody uses is ended."""
_WAYS = "oak_relay.actions.server_ways"
_MOST = 100
"""Sessions of a process, at most."""
_SAID = 2_000
"""Letters of what a server says of an error."""


@dataclass(eq=False)
class _Session:
    """A session that is being opened, is open, or has ended; `task` owns it."""

    calls: Calls
    over: asyncio.Event = field(default_factory=asyncio.Event)
    ready: "asyncio.Future[ClientSession]" = field(default_factory=lambda: asyncio.get_running_loop().create_future())
    used: float = field(default_factory=time.monotonic)
    busy: int = 0


class _Anything(BaseModel):
    """An answer of which the SDK has judged the form; what is in it is read elsewhere."""


class Sessions:
    """One for each server and process; a program is started once, and a server's own state lasts from call to call."""

    def __init__(self) -> None:
        self._open: dict[str, _Session] = {}
        self._tasks: dict[_Session, asyncio.Task[None]] = {}

    async def ask(
        self,
        name: str,
        server: ToolServer,
        at: Outbound,
        method: str,
        params: Mapping[str, object],
        reached: Reached = "no",
    ) -> dict[str, Any]:
        """The result of a request, as it came. A session that the server has forgotten, or that has ended meanwhile, is opened
        anew. Raises `StepFailed`; `reached` is what is known of one that broke."""
        given = params.get("arguments")
        for attempt in (1, 2):
            call = ServerCall(name, at, reached, given if isinstance(given, dict) else None)
            session = await self._session(name, server, at)
            kept = await self._opened(session, at, reached)
            mark = uuid4().hex
            session.calls.marked[mark] = call
            session.busy += 1
            try:
                if await _sent(kept, method, params, mark, at.timeout, call):
                    return call.result or {}
            finally:
                session.busy -= 1
                session.used = time.monotonic()
                del session.calls.marked[mark]
                session.calls.forget(call)
            self._leave(session)
            if not (call.unsent or call.gone) or attempt == 2:
                break
        if call.failure is not None:
            raise call.failure
        fix = "run it by hand" if server.command else "is it a tool server?"
        raise StepFailed("unavailable", f"{name} ended without an answer", fix=fix, reached=reached)

    async def _session(self, name: str, server: ToolServer, at: Outbound) -> _Session:
        key = f"{name} {server.model_dump_json()}"
        found = self._open.get(key)
        if found is None:
            self._room()
            found = _Session(Calls(ServerCall(name, at, "no")))
            self._open[key] = found
            self._tasks[found] = asyncio.create_task(self._hold(key, found, server))
        found.busy += 1  # not ended while it is waited for
        try:
            with contextlib.suppress(StepFailed):
                await asyncio.shield(found.ready)
        finally:
            found.busy -= 1
        return found

    async def _opened(self, session: _Session, at: Outbound, reached: Reached) -> "ClientSession":
        try:
            return await asyncio.shield(session.ready)
        except StepFailed as failed:  # of who opened it: told to each who waited for it
            raise StepFailed(failed.kind, failed.message, fix=failed.fix, reached="no", detail=failed.detail) from None

    def _room(self) -> None:
        idle = [one for one in self._open.values() if not one.busy]
        if len(self._open) >= _MOST:
            if not idle:
                raise StepFailed("busy", f"{_MOST} sessions with tool servers are in use", fix="try again later")
            self._leave(min(idle, key=lambda one: one.used))

    def _leave(self, session: _Session) -> None:
        """Nobody is given this session any more; it ends when nobody uses it."""
        for key, one in list(self._open.items()):
            if one is session:
                del self._open[key]
        session.over.set()

    async def _hold(self, key: str, session: _Session, server: ToolServer) -> None:
        """Open a session, keep it until it is over, and end it."""
        try:
            await _held(session, server)
        except BaseException as error:
            if not session.ready.done():
                session.ready.set_exception(_why(session.calls.opening, server, error))
                session.ready.exception()  # it is told to who waits, if anybody still does
            if isinstance(error, asyncio.CancelledError):
                raise
        finally:
            if self._open.get(key) is session:
                del self._open[key]
            self._tasks.pop(session, None)

    async def close(self) -> None:
        """End all of them."""
        self._open.clear()
        tasks = list(self._tasks.values())
        for session in list(self._tasks):
            session.over.set()
        if tasks:
            _, late = await asyncio.wait(tasks, timeout=5)
            for task in late:
                task.cancel()
            await asyncio.gather(*late, return_exceptions=True)


async def _held(session: _Session, server: ToolServer) -> None:
    # The SDK takes a second to import, seconds on a busy machine: who uses no tool server does not wait for it, and whoever
    # else is on the event loop (a lease that must be kept) not either.
    await asyncio.to_thread(importlib.import_module, _WAYS)
    from mcp import ClientSession
    from mcp.types import Implementation

    from oak_relay.actions.server_ways import by_http, by_program

    opening, calls = session.calls.opening, session.calls
    if server.url is not None:
        way = by_http(server.url, server.credential, calls)
    else:
        way = by_program(server.command or [], server.environment, calls)
    async with way as (read, write):
        async with ClientSession(read, write, client_info=Implementation(name="oak-relay", version="1")) as kept:
            async with asyncio.timeout(opening.at.timeout):
                await kept.initialize()
            session.ready.set_result(kept)
            while not session.over.is_set():
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(_IDLE):
                        await session.over.wait()
                if not session.busy and time.monotonic() - session.used >= _IDLE:
                    return


def _why(opening: ServerCall, server: ToolServer, error: BaseException) -> StepFailed:
    """Why a session could not be opened."""
    found: BaseException | None = error
    while isinstance(found, BaseExceptionGroup):
        found = found.exceptions[0]
    if isinstance(found, StepFailed):
        return found
    if opening.failure is not None:
        return opening.failure
    if isinstance(found, TimeoutError):
        return StepFailed("timeout", f"{opening.name} gave no answer in time", fix="is it a tool server?")
    if opening.refusal is not None:
        return refused(opening)
    said = "did not answer initialize" if opening.result is None else "greets otherwise than the protocol says"
    return StepFailed(
        "wrong_shape", f"{opening.name} {said}", fix="run it by hand" if server.command else "is it a tool server?"
    )


async def _sent(
    kept: "ClientSession", method: str, params: Mapping[str, object], mark: str, timeout: float, call: ServerCall
) -> bool:
    """Send a request, and wait for its answer; False when none came. Raises `StepFailed`."""
    import anyio
    from mcp.shared.exceptions import MCPError
    from mcp.types import (
        REQUEST_TIMEOUT,
        CallToolRequest,
        CallToolRequestParams,
        ListToolsRequest,
        PaginatedRequestParams,
    )

    meta: Any = {MARK: mark}
    request: Any
    if method == "tools/list":
        cursor = params.get("cursor")
        given = PaginatedRequestParams(cursor=cursor if isinstance(cursor, str) else None, _meta=meta)
        request = ListToolsRequest(params=given)
    else:
        request = CallToolRequest(params=CallToolRequestParams(name=str(params["name"]), arguments={}, _meta=meta))
    # An answer that the SDK does not take is read as far as it can be: one bad tool of a list fails alone.
    with contextlib.suppress(ValidationError, anyio.ClosedResourceError, anyio.BrokenResourceError):
        try:
            await kept.send_request(request, _Anything, request_read_timeout_seconds=timeout)
        except MCPError as error:
            if call.refusal is not None:
                raise refused(call) from None
            if error.code == REQUEST_TIMEOUT and call.failure is None and call.result is None:
                raise StepFailed(
                    "timeout",
                    f"{call.name} gave no answer in time",
                    fix="raise the step's timeout",
                    reached=call.reached,
                ) from None
    if call.result is None and call.failure is not None and not call.gone:
        raise call.failure
    return call.result is not None


def refused(call: ServerCall) -> StepFailed:
    """The error that a server told (JSON-RPC 2.0)."""
    fault = call.refusal or {}
    said = call.at.said(str(fault.get("message", "it refuses")), _SAID)
    kind: Any = "invalid" if fault.get("code") == -32602 else "failed"
    return StepFailed(kind, f"{call.name}: {said}", fix="see what the server offers", reached="yes")
