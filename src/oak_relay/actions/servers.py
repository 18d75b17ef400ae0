"""Tool servers: the Model Context Protocol over streamable HTTP and over standard input/output, spoken by its own SDK.

Tools are listed and called. What else a server may offer or ask for (resources, prompts, a model's words, questions to people)
is not taken: who asks is told so by the SDK.
"""

from collections.abc import Mapping
from typing import Any

from oak_relay.actions.server_sessions import Sessions
from oak_relay.actions.tool_server import ToolServer
from oak_relay.capabilities.given import ServerTool
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import values
from oak_relay.document.errors import StepFailed

_MOST_TOOLS, _SHOWN = 500, 20_000
"""Tools of one server that are taken, and letters of what a trace shows of a reply."""


async def tools(name: str, server: ToolServer, at: Outbound, sessions: Sessions) -> list[ServerTool]:
    """What a server offers. Raises `StepFailed`."""
    found: list[ServerTool] = []
    names: set[str] = set()
    cursor: str | None = None
    for _ in range(50):
        page = await sessions.ask(name, server, at, "tools/list", {"cursor": cursor})
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
    name: str, server: ToolServer, tool: str, arguments: Mapping[str, object], at: Outbound, sessions: Sessions
) -> tuple[object, dict[str, Any]]:
    """What a tool gives (its structured content, or its text), and what a trace shows. Raises `StepFailed`."""
    at.send_check()
    wanted = {"name": tool, "arguments": dict(arguments)}
    given = await sessions.ask(name, server, at, "tools/call", wanted, reached="maybe")
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
