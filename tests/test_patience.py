"""The client tries again what does no harm twice, and nothing else; certificates and proxies are what it is told."""

import asyncio
import ssl
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import httpx
import pytest

from oak_relay.client import AsyncClient, Client
from oak_relay.client.errors import Busy, OakRelayError, Unreachable
from oak_relay.client.patience import TRIES, pause


class Moody:
    """A service that answers as it is told: a status, or `cut` for a connection that breaks; then well."""

    def __init__(self) -> None:
        self.moods: list[int | str] = []
        self.seen: list[str] = []
        moody = self

        class Handler(BaseHTTPRequestHandler):
            def answer(self) -> None:
                self.rfile.read(int(self.headers.get("content-length", 0)))
                moody.seen.append(f"{self.command} {self.headers.get('idempotency-key', '')}".strip())
                mood = moody.moods.pop(0) if moody.moods else 200
                if mood == "cut":
                    self.connection.close()
                    return
                body = b'{"items": []}' if mood == 200 else b'{"title": "busy"}'
                self.send_response(int(mood))
                if mood == 429:
                    self.send_header("Retry-After", "0")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            do_GET = do_POST = do_DELETE = answer

            def log_message(self, *_: object) -> None:
                """Nothing is printed."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_port}"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()


@pytest.fixture
def moody() -> Iterator[Moody]:
    made = Moody()
    yield made
    made.server.shutdown()


@pytest.mark.parametrize("mood", [429, 503, "cut"])
def test_what_does_no_harm_twice_is_tried_again(moody: Moody, mood):
    moody.moods = [mood, mood]
    assert Client(moody.url, "t").workflows() == []
    assert moody.seen == ["GET"] * 3

    async def likewise() -> list[object]:
        async with AsyncClient(moody.url, "t") as client:
            return list(await client.workflows())

    moody.moods, moody.seen = [mood], []
    assert asyncio.run(likewise()) == []
    assert moody.seen == ["GET"] * 2


def test_what_could_be_done_twice_is_not(moody: Moody):
    moody.moods = [503]
    with pytest.raises(OakRelayError):
        Client(moody.url, "t").check("oak: 1")
    moody.moods = ["cut"]
    with pytest.raises(Unreachable):
        Client(moody.url, "t").check("oak: 1")
    assert moody.seen == ["POST", "POST"]
    moody.moods, moody.seen = [503, "cut", 422], []
    with pytest.raises(OakRelayError):
        Client(moody.url, "t").start("x", {}, key="once")  # with a key it is done once, however often it is sent
    assert moody.seen == ["POST once"] * 3


def test_it_gives_up(moody: Moody):
    moody.moods = [429] * 9
    with pytest.raises(Busy):
        Client(moody.url, "t").workflows()
    assert len(moody.seen) == TRIES
    moody.server.shutdown()
    moody.server.server_close()
    with pytest.raises(Unreachable):
        Client(moody.url, "t").workflows()  # one that is not there is not waited for


@pytest.mark.parametrize(
    ("given", "seconds"), [("3", 3.0), ("9999", 10.0), ("Wed, 21 Oct 2015 07:28:00 GMT", 0.2), ("-1", 0.2), ("", 0.2)]
)
def test_a_pause_has_an_end(given: str, seconds: float):
    assert pause(1, "GET", {}, httpx.Response(429, headers={"Retry-After": given})) == seconds


def test_certificates_and_proxies_are_what_it_is_told(monkeypatch: pytest.MonkeyPatch, tmp_path, moody: Moody):
    assert Client("http://127.0.0.1:1", "t", proxy=moody.url).workflows() == []  # the proxy answers for it
    Client(moody.url, "t", verify=ssl.create_default_context()).workflows()
    bad = tmp_path / "ca.pem"
    bad.write_text("nothing of the kind")
    for file in (bad, tmp_path / "none.pem"):
        monkeypatch.setenv("OAK_RELAY_CA_FILE", str(file))
        with pytest.raises(OakRelayError, match="holds no certificates"):
            Client(moody.url, "t")
