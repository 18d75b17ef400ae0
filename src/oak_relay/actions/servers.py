"""Tool servers: the Model Context Protocol (revision 2025-06-18) over streamable HTTP and over standard input/output."""

import asyncio
import contextlib
import json
import os
from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import Field, model_validator

from oak_relay.actions.base import Fields
from oak_relay.actions.http import authorised, send
from oak_relay.capabilities.given import ServerTool
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.wire import WebAddress
from oak_relay.vault.kinds import LONGEST

REVISION = "2025-06-18"
_LARGEST = 4_000_000
_MOST_TOOLS, _SAID, _SHOWN = 500, 2_000, 20_000
"""Tools of one server that are taken, and letters of what it says of an error, and of what a trace shows of a reply."""
_HELLO = {"protocolVersion": REVISION, "capabilities": {}, "clientInfo": {"name": "oak-relay", "version": "1"}}


class ToolServer(Fields):
    """Where a tool server is: an address (`url`), or a program to start (`command`)."""

    url: WebAddress | None = Field(None, description="Its endpoint, for streamable HTTP.")
    credential: str | None = Field(None, description="Name of a stored credential.")
    command: list[str] | None = Field(
        None, min_length=1, description="A program and its arguments, spoken to by stdio."
    )
    environment: dict[
        Annotated[str, Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,100}$")],
        Annotated[str, Field(max_length=LONGEST, pattern=r"^[^\x00]*$")],
    ] = Field(
        default_factory=dict,
        max_length=100,
        description="Further variables for the program; their values are kept sealed and never shown.",
    )

    @model_validator(mode="after")
    def _one_way(self) -> "ToolServer":
        if (self.url is None) == (self.command is None):
            raise ValueError("a tool server has either url or command")
        return self


async def tools(name: str, server: ToolServer, at: Outbound) -> list[ServerTool]:
    """What a server offers. Raises `StepFailed`."""
    found: list[ServerTool] = []
    names: set[str] = set()
    async with _session(name, server, at) as session:
        cursor: str | None = None
        for _ in range(50):
            page = await session.ask("tools/list", {"cursor": cursor} if cursor else {})
            listed = page.get("tools")
            named = [one for one in listed if isinstance(one, dict)] if isinstance(listed, list) else []
            for one in named[: _MOST_TOOLS - len(found)]:
                if isinstance(one.get("name"), str) and one["name"] not in names:
                    names.add(one["name"])  # one that is listed twice is taken once
                    found.append(ServerTool.listed(one))
            after = page.get("nextCursor")
            if not isinstance(after, str) or not after or len(found) >= _MOST_TOOLS:
                break
            cursor = after
    return found


async def call(
    name: str, server: ToolServer, tool: str, arguments: Mapping[str, object], at: Outbound
) -> tuple[object, dict[str, Any]]:
    """What a tool gives (its structured content, or its text), and what a trace shows. Raises `StepFailed`."""
    async with _session(name, server, at) as session:
        at.send_check()
        given = await session.ask("tools/call", {"name": tool, "arguments": dict(arguments)}, reached="maybe")
    content = given.get("content")
    parts = [part for part in content if isinstance(part, dict)] if isinstance(content, list) else []
    said = "\n".join(str(part.get("text", "")) for part in parts if part.get("type") == "text")
    shown = {"server": name, "tool": tool, "reply": at.shown(said, _SHOWN)}
    if given.get("isError"):
        raise StepFailed(
            "failed", f"{name}.{tool}: {said or 'it failed'}", fix="correct the arguments", reached="yes", detail=shown
        )
    output = given.get("structuredContent")
    if output is None:
        try:
            output = values.loads(said)
        except values.NotJson:
            output = said
    return output, shown


class _Session:
    """A conversation with one server: requests are numbered, answers matched by number."""

    def __init__(self, name: str, at: Outbound) -> None:
        self.name = name
        self._at = at
        self._number = 0

    async def ask(self, method: str, params: dict[str, Any], reached: Any = "no") -> dict[str, Any]:
        """The result of a request. Raises `StepFailed`."""
        self._number += 1
        request = {"jsonrpc": "2.0", "id": self._number, "method": method, "params": params}
        answer = await self.exchange(request, reached)
        if answer is None or answer.get("id") != self._number:
            raise StepFailed(
                "wrong_shape", f"{self.name} did not answer {method}", fix="is it a tool server?", reached=reached
            )
        if "error" in answer:
            fault = answer["error"] if isinstance(answer["error"], dict) else {}
            said = self._at.said(str(fault.get("message", "it refuses")), _SAID)
            kind: Any = "invalid" if fault.get("code") == -32602 else "failed"
            raise StepFailed(kind, f"{self.name}: {said}", fix="see what the server offers", reached="yes")
        result = answer.get("result")
        return result if isinstance(result, dict) else {}

    async def begin(self) -> None:
        await self.ask("initialize", _HELLO)
        await self.exchange({"jsonrpc": "2.0", "method": "notifications/initialized"}, "no")

    async def exchange(self, request: dict[str, Any], reached: object) -> dict[str, Any] | None:
        """Send a message; the answer to it, None for one that has none."""
        raise AssertionError(request)

    async def end(self) -> None:
        """Nothing more will be asked."""


class _Http(_Session):
    def __init__(self, name: str, server: ToolServer, at: Outbound) -> None:
        super().__init__(name, at)
        self._server = server
        self._headers: dict[str, str] = {}

    async def exchange(self, request: dict[str, object], reached: object) -> dict[str, object] | None:
        assert self._server.url is not None
        at = self._at
        headers = {
            "Accept": "application/json, text/event-stream",
            "Content-Type": "application/json",
            "User-Agent": "oak-relay",
            "traceparent": at.trace_parent,
            "Idempotency-Key": at.key,
            **self._headers,
            **await authorised(at, self._server.url, self._server.credential),
        }
        content = values.dumps(request).encode()
        sent = at.http.build_request("POST", self._server.url, content=content, headers=headers, timeout=at.timeout)
        exchange = await send(at, sent, _LARGEST, self._server.credential)
        if not 200 <= exchange.status < 300:
            raise exchange.failure()
        if request.get("method") == "initialize":
            self._headers = {"MCP-Protocol-Version": REVISION}
            if "mcp-session-id" in exchange.headers:
                self._headers["Mcp-Session-Id"] = exchange.headers["mcp-session-id"]
        if "id" not in request:
            return None
        if "text/event-stream" not in exchange.headers.get("content-type", ""):
            found = exchange.read("json")
            return found if isinstance(found, dict) else None
        for block in exchange.body.decode("utf-8", "replace").replace("\r\n", "\n").split("\n\n"):
            data = "\n".join(line[5:].lstrip() for line in block.split("\n") if line.startswith("data:"))
            with contextlib.suppress(values.NotJson):
                message = values.loads(data) if data else None
                if isinstance(message, dict) and message.get("id") == request["id"]:
                    return message
        return None

    async def end(self) -> None:
        if "Mcp-Session-Id" in self._headers and self._server.url is not None:
            request = self._at.http.build_request("DELETE", self._server.url, headers=self._headers, timeout=5)
            with contextlib.suppress(StepFailed):
                await send(self._at, request, _LARGEST, None)


class _Program(_Session):
    def __init__(self, name: str, server: ToolServer, at: Outbound) -> None:
        super().__init__(name, at)
        self._server, self._timeout = server, at.timeout
        self._process: asyncio.subprocess.Process | None = None

    async def begin(self) -> None:
        assert self._server.command is not None
        try:
            self._process = await asyncio.create_subprocess_exec(
                *self._server.command,
                stdin=asyncio.subprocess.PIPE,
                stdout=asyncio.subprocess.PIPE,
                stderr=asyncio.subprocess.DEVNULL,
                env={
                    "PATH": os.environ.get("PATH", ""),
                    "HOME": os.environ.get("HOME", "/"),
                    **self._server.environment,
                },
                limit=_LARGEST,
            )
        except OSError as error:
            raise StepFailed(
                "unavailable", f"{self.name} cannot be started: {error}", fix="correct its command"
            ) from None
        await super().begin()

    async def exchange(self, request: dict[str, object], reached: Any) -> dict[str, object] | None:
        process = self._process
        assert process is not None
        assert process.stdin is not None
        assert process.stdout is not None
        try:
            async with asyncio.timeout(self._timeout):
                process.stdin.write(json.dumps(request).encode() + b"\n")
                await process.stdin.drain()
                while "id" in request:
                    line = await process.stdout.readline()
                    if not line:
                        raise StepFailed(
                            "unavailable", f"{self.name} ended without an answer", fix="run it by hand", reached=reached
                        )
                    with contextlib.suppress(values.NotJson):
                        message = values.loads(line)
                        if isinstance(message, dict) and message.get("id") == request["id"] and "method" not in message:
                            return message
        except TimeoutError:
            raise StepFailed(
                "timeout", f"{self.name} gave no answer in time", fix="raise the step's timeout", reached=reached
            ) from None
        except (ConnectionError, ValueError) as error:
            raise StepFailed("unavailable", f"{self.name}: {error}", fix="run it by hand", reached=reached) from None
        return None

    async def end(self) -> None:
        if self._process is not None and self._process.returncode is None:
            with contextlib.suppress(ProcessLookupError):
                self._process.kill()
            await self._process.wait()


@contextlib.asynccontextmanager
async def _session(name: str, server: ToolServer, at: Outbound) -> Any:
    session = _Http(name, server, at) if server.url is not None else _Program(name, server, at)
    try:
        await session.begin()
        yield session
    finally:
        await session.end()
