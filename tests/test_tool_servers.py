"""Tool servers as their protocol's own SDK serves them: sessions are kept, and whatever a server does, a call ends with an answer or
with a sentence."""

import asyncio
import json
import socket
import subprocess
import sys
import time
from collections.abc import AsyncIterator, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread
from types import SimpleNamespace
from typing import Any

import httpx
import pytest

from oak_relay.actions import server_sessions
from oak_relay.actions.server_sessions import Sessions
from oak_relay.actions.servers import call, tools
from oak_relay.actions.tool_server import ToolServer
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from tests.conftest import free_port, until

BELLS = Path(__file__).parent / "bells.py"


def surroundings(timeout: float = 20.0) -> Any:
    return SimpleNamespace(
        http=httpx.AsyncClient(trust_env=False, timeout=timeout),
        key="a-key",
        timeout=timeout,
        trace_parent=f"00-{'1' * 32}-{'1' * 16}-00",
        may_reach=lambda url: None,
        shown=lambda text, most: text[:most],
        said=lambda text, most: text[:most],
        send_check=lambda: None,
    )


@pytest.fixture
async def sessions() -> AsyncIterator[Sessions]:
    kept = Sessions()
    yield kept
    await kept.close()
    assert not kept._tasks


def serve(port: int, *kinds: str) -> "subprocess.Popen[bytes]":
    started = subprocess.Popen([sys.executable, str(BELLS), str(port), *kinds])

    def answers() -> bool:
        with socket.socket() as there:
            return there.connect_ex(("127.0.0.1", port)) == 0

    until(answers, 60)
    return started


@pytest.fixture(scope="module", params=["", "json", "stateless", "program"])
def bells(request: pytest.FixtureRequest) -> Iterator[ToolServer]:
    if request.param == "program":
        yield ToolServer(command=[sys.executable, str(BELLS), "program"])
        return
    port = free_port()
    started = serve(port, *filter(None, [request.param]))
    yield ToolServer(url=f"http://127.0.0.1:{port}/mcp")
    started.kill()
    started.wait()


def exists(process: int) -> bool:
    return Path(f"/proc/{process}").exists()


async def ring(server: ToolServer, sessions: Sessions, hut: str, at: Any = None) -> dict[str, Any]:
    found, _ = await call("bells", server, "ring", {"hut": hut}, at or surroundings(), sessions)
    assert isinstance(found, dict)
    return found


async def test_a_server_is_listed_called_and_its_session_kept(bells: ToolServer, sessions: Sessions):
    at = surroundings()
    assert [one.name for one in await tools("bells", bells, at, sessions)] == [
        "ring",
        "slowly",
        "asks",
        "much",
        "breaks",
    ]
    first = await ring(bells, sessions, "Glasswater")
    later = [await ring(bells, sessions, "Glasswater") for _ in range(3)]
    assert [one["times"] - first["times"] for one in later] == [1, 2, 3]
    assert {one["process"] for one in later} == {first["process"]}
    assert {one["session"] for one in later} == {first["session"]}
    assert len(sessions._open) == 1
    many = await asyncio.gather(*(ring(bells, sessions, "Thistle Col") for _ in range(20)))
    assert sorted(one["times"] for one in many) == [*range(1, 21)]
    assert len(sessions._open) == 1


async def test_what_a_server_asks_for_is_refused_and_the_call_goes_on(bells: ToolServer, sessions: Sessions):
    found, _ = await call("bells", bells, "asks", {}, surroundings(), sessions)
    assert str(found).startswith("nobody answered") or "nobody answered" in json.dumps(found)
    slow, _ = await call("bells", bells, "slowly", {"seconds": 0.3}, surroundings(), sessions)
    assert "rung" in json.dumps(slow)


async def test_wrong_arguments_unknown_tools_and_too_much_fail_alone(bells: ToolServer, sessions: Sessions):
    for tool, given, kinds in (
        ("ring", {"hat": "x"}, {"failed", "invalid"}),
        ("nothing", {}, {"failed", "invalid"}),
        ("much", {"letters": 5_000_000}, {"too_long", "unavailable"}),
    ):
        with pytest.raises(StepFailed) as failed:
            await call("bells", bells, tool, given, surroundings(), sessions)
        assert failed.value.kind in kinds, failed.value.message
    assert (await ring(bells, sessions, "Marmot Saddle"))["times"] >= 1


async def test_what_takes_too_long_ends_and_the_session_stays(bells: ToolServer, sessions: Sessions):
    await ring(bells, sessions, "Long Shadow")
    began = time.monotonic()
    with pytest.raises(StepFailed) as failed:
        await call("bells", bells, "slowly", {"seconds": 30}, surroundings(1.0), sessions)
    assert (failed.value.kind, failed.value.reached) == ("timeout", "maybe")
    assert time.monotonic() - began < 20
    assert (await ring(bells, sessions, "Long Shadow"))["hut"] == "Long Shadow"


async def test_a_session_that_a_server_forgot_is_opened_anew(sessions: Sessions):
    port = free_port()
    server = ToolServer(url=f"http://127.0.0.1:{port}/mcp")
    started = serve(port)
    first = await ring(server, sessions, "Upper Tarn")
    started.kill()
    started.wait()
    with pytest.raises(StepFailed, match="cannot connect"):
        await ring(server, sessions, "Upper Tarn")
    started = serve(port)
    second = await ring(server, sessions, "Upper Tarn")
    assert (second["times"], second["process"] == first["process"]) == (1, False)
    started.kill()
    started.wait()


async def test_a_program_that_died_is_started_anew(sessions: Sessions):
    server = ToolServer(command=[sys.executable, str(BELLS), "program"])
    first = await ring(server, sessions, "Glasswater")
    with pytest.raises(StepFailed, match="ended without an answer") as failed:
        await call("bells", server, "breaks", {}, surroundings(), sessions)
    assert failed.value.reached == "maybe"
    second = await ring(server, sessions, "Glasswater")
    assert (second["times"], second["process"] == first["process"]) == (1, False)


async def test_a_session_that_nobody_uses_ends(sessions: Sessions, monkeypatch: pytest.MonkeyPatch):
    monkeypatch.setattr(server_sessions, "_IDLE", 0.2)
    server = ToolServer(command=[sys.executable, str(BELLS), "program"])
    first = await ring(server, sessions, "Glasswater")
    for _ in range(100):
        if not sessions._tasks:
            break
        await asyncio.sleep(0.1)
    assert not sessions._open
    assert not exists(first["process"])


async def test_sessions_have_an_end_of_their_number(sessions: Sessions, monkeypatch: pytest.MonkeyPatch):
    monkeypatch.setattr(server_sessions, "_MOST", 2)
    started = [ToolServer(command=[sys.executable, str(BELLS), "program"], environment={"N": str(n)}) for n in range(3)]
    for server in started:
        await ring(server, sessions, "Glasswater")
    assert len(sessions._open) == 2


@contextmanager
def raw(answer: Any) -> Iterator[str]:
    """A server whose answers are made by hand: `answer(message, headers)` gives status, headers and body."""

    class Answers(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            asked = json.loads(self.rfile.read(int(self.headers["content-length"])))
            status, headers, body = answer(asked, dict(self.headers))
            self.send_response(status)
            for name, value in {**headers, "Content-Length": str(len(body))}.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Answers)
    Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


JSON = {"Content-Type": "application/json"}
HELLO = {"protocolVersion": "2025-06-18", "capabilities": {}, "serverInfo": {"name": "raw", "version": "1"}}


def replied(asked: dict[str, Any], text: bytes) -> tuple[int, dict[str, str], bytes]:
    return 200, JSON, b'{"jsonrpc": "2.0", "id": %s, "result": %s}' % (json.dumps(asked["id"]).encode(), text)


async def test_values_keep_every_digit_both_ways_and_nothing_of_ours_is_sent_along(sessions: Sessions):
    seen: list[tuple[dict[str, Any], dict[str, str]]] = []

    def answer(asked: dict[str, Any], headers: dict[str, str]) -> tuple[int, dict[str, str], bytes]:
        seen.append((asked, headers))
        if "id" not in asked:
            return 202, {}, b""
        if asked["method"] == "initialize":
            return replied(asked, json.dumps(HELLO).encode())
        return replied(asked, b'{"content": [], "structuredContent": {"n": 12345678901234567890.123456789}}')

    with raw(answer) as url:
        exact = values.loads("98765432109876543210.000000001")
        found, _ = await call("raw", ToolServer(url=url), "t", {"n": exact}, surroundings(), sessions)
    assert values.dumps(found) == '{"n":12345678901234567890.123456789}'
    asked, headers = seen[-1]
    assert "_meta" not in asked["params"]
    assert headers["Idempotency-Key"] == "a-key" and headers["traceparent"].startswith("00-1")
    assert headers["MCP-Protocol-Version".lower()] == "2025-06-18" if "mcp-protocol-version" in headers else True


@pytest.mark.parametrize(
    ("body", "kind"),
    [
        (b"", "unavailable"),
        (b"not json", "unavailable"),
        (b"[1, 2]", "unavailable"),
        (b'{"jsonrpc": "2.0", "id": 77777, "result": {}}', "timeout"),
        (b"[" * 100_000, "unavailable"),
        (b'{"jsonrpc": "2.0", "id": %d, "error": {"code": -32602, "message": "no such hut"}}', "invalid"),
        (b'{"jsonrpc": "2.0", "id": %d, "error": 5}', "failed"),
        (b'{"jsonrpc": "2.0", "id": %d, "error": {"code": "x", "message": ["y"]}}', "failed"),
    ],
)
async def test_answers_that_are_none_end_in_a_sentence(body: bytes, kind: str, sessions: Sessions):
    def answer(asked: dict[str, Any], _: dict[str, str]) -> tuple[int, dict[str, str], bytes]:
        if "id" not in asked:
            return 202, {}, b""
        if asked["method"] == "initialize":
            return replied(asked, json.dumps(HELLO).encode())
        return 200, JSON, body % asked["id"] if b"%d" in body else body

    with raw(answer) as url, pytest.raises(StepFailed) as failed:
        await call("raw", ToolServer(url=url), "t", {}, surroundings(3.0), sessions)
    assert failed.value.kind == kind, failed.value.message


@pytest.mark.parametrize(
    "greeting", [b"{}", b"null", b"5", b'{"protocolVersion": "1999-01-01"}', b'{"protocolVersion": 7}']
)
async def test_a_server_that_does_not_greet_is_none(greeting: bytes, sessions: Sessions):
    with raw(lambda asked, _: replied(asked, greeting) if "id" in asked else (202, {}, b"")) as url:
        with pytest.raises(StepFailed, match=r"initialize|greets otherwise"):
            await tools("raw", ToolServer(url=url), surroundings(3.0), sessions)
    assert not sessions._open


async def test_a_stream_that_breaks_off_is_said(sessions: Sessions):
    def answer(asked: dict[str, Any], _: dict[str, str]) -> tuple[int, dict[str, str], bytes]:
        if "id" not in asked:
            return 202, {}, b""
        if asked["method"] == "initialize":
            return replied(asked, json.dumps(HELLO).encode())
        return (
            200,
            {"Content-Type": "text/event-stream"},
            b'data: {"jsonrpc": "2.0", "method": "notifications/message"}\n\n',
        )

    with raw(answer) as url, pytest.raises(StepFailed, match="ended without an answer"):
        await call("raw", ToolServer(url=url), "t", {}, surroundings(5.0), sessions)


async def test_a_program_that_says_an_endless_line_is_ended(sessions: Sessions):
    endless = "import sys\nsys.stdin.readline()\nwhile True: sys.stdout.write('x' * 100000)"
    with pytest.raises(StepFailed):
        await tools("endless", ToolServer(command=[sys.executable, "-c", endless]), surroundings(20.0), sessions)
    assert not sessions._open
