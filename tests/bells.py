"""A tool server by the protocol's own SDK: the bells of the huts. `python bells.py program`, or `python bells.py PORT [json] [stateless]`."""

import asyncio
import os
import sys

from mcp.server import MCPServer
from mcp.server.mcpserver import Context

server = MCPServer("bells")
RUNG: list[str] = []


@server.tool()
async def ring(hut: str, ctx: Context) -> dict[str, object]:
    """Ring the bell of a hut; says how often it was rung, and in which session."""
    RUNG.append(hut)
    session = (ctx.headers or {}).get("mcp-session-id", "")
    return {"hut": hut, "times": RUNG.count(hut), "session": session, "process": os.getpid()}


@server.tool()
async def slowly(seconds: float, ctx: Context) -> str:
    """Ring slowly, and tell how far it is."""
    for part in range(3):
        await ctx.report_progress(part, 3)
        await asyncio.sleep(seconds / 3)
    return "rung"


@server.tool()
async def asks(ctx: Context) -> str:
    """Ask a person, which nobody here can answer."""
    try:
        await ctx.elicit("which hut?", __import__("pydantic").create_model("Hut", hut=(str, ...)))
        return "somebody answered"
    except Exception as error:
        return f"nobody answered: {type(error).__name__}"


@server.tool()
async def much(letters: int) -> str:
    """So many letters."""
    return "x" * letters


@server.tool()
async def breaks() -> str:
    """Ends the process."""
    os._exit(1)


if __name__ == "__main__":
    if sys.argv[1] == "program":
        server.run("stdio")
    else:
        import uvicorn

        kinds = sys.argv[2:]
        app = server.streamable_http_app(json_response="json" in kinds, stateless_http="stateless" in kinds)
        uvicorn.run(app, port=int(sys.argv[1]), log_level="warning")
