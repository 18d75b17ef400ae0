"""The transport of outgoing requests against servers that misbehave: what may have been reached is told from what was not."""

import asyncio
import gzip
import ssl
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from oak_relay.actions.exchange import send
from oak_relay.document.errors import StepFailed
from oak_relay.runtime.door import Door
from oak_relay.runtime.outbound import outbound
from oak_relay.runtime.settings import Settings
from tests.conftest import free_port

Answer = Callable[[bytes, asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]
FINE = b"HTTP/1.1 200 OK\r\ncontent-length: 2\r\ncontent-type: text/plain\r\n\r\nhi"


def at(http: httpx.AsyncClient) -> Any:
    """The surroundings of a call that has no secrets."""
    plain: Callable[[str, int], str] = lambda text, most: text[:most]  # noqa: E731
    return SimpleNamespace(http=http, shown=plain, said=plain)


@asynccontextmanager
async def server(
    answer: Answer, tls: ssl.SSLContext | None = None
) -> AsyncIterator[tuple[str, list[bytes], list[int]]]:
    """A server whose every request is answered by a function of its head; its address, the requests (heads and bodies),
    and at how many connections each came."""
    seen: list[bytes] = []
    connections: list[int] = []
    count = 0

    async def connected(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        nonlocal count
        count += 1
        number = count
        try:
            while True:
                head = await reader.readuntil(b"\r\n\r\n")
                length = next((int(v) for k, _, v in (x.partition(b":") for x in head.split(b"\r\n")) if k.lower() == b"content-length"), 0)  # fmt: skip
                seen.append(head + await reader.readexactly(length))
                connections.append(number)
                await answer(head, reader, writer)
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError):
            pass
        finally:
            writer.close()

    listening = await asyncio.start_server(connected, "127.0.0.1", 0, ssl=tls)
    try:
        yield f"http://127.0.0.1:{listening.sockets[0].getsockname()[1]}", seen, connections
    finally:
        listening.close()


def self_signed(folder: Path) -> ssl.SSLContext:
    """TLS with a certificate that nobody vouches for."""
    key, now = ec.generate_private_key(ec.SECP256R1()), datetime.now(UTC)
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "office.example")])
    made = x509.CertificateBuilder(name, name, key.public_key(), 1, now - timedelta(days=1), now + timedelta(days=1))
    (folder / "cert.pem").write_bytes(made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM))
    form = serialization.PrivateFormat.PKCS8
    plain = serialization.NoEncryption()
    (folder / "key.pem").write_bytes(key.private_bytes(serialization.Encoding.PEM, form, plain))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / "cert.pem", folder / "key.pem")
    return context


def always(text: bytes, close: bool = False) -> Answer:
    async def answer(head: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write(text)
        if close:
            await writer.drain()
            writer.close()

    return answer


async def failure(url: str, timeout: float = 5.0, method: str = "POST") -> StepFailed:
    async with outbound(Door(Settings())) as http:
        with pytest.raises(StepFailed) as failed:
            await send(at(http), http.build_request(method, url, content=b"x", timeout=timeout), 1000, None)
    return failed.value


async def test_a_request_goes_as_it_was_made_and_its_answer_comes_as_it_is():
    told = b"HTTP/1.1 201 Made\r\nset-cookie: a=1\r\nset-cookie: b=2\r\ncontent-length: 2\r\nx-odd: \xe9\r\n\r\nhi"
    async with server(always(told)) as (url, seen, connections), outbound(Door(Settings())) as http:
        for _ in range(3):
            headers = {"X-Key": "k", "Host": "office.example", "Accept": "text/plain"}
            found = await http.post(f"{url}/a%2Fb/%C3%A9?q=a%20b&q=c", content=b'{"n":1}', headers=headers)
        assert (found.status_code, found.text) == (201, "hi")
        assert found.headers.get_list("set-cookie") == ["a=1", "b=2"]
        assert seen[0].startswith(b"POST /a%2Fb/%C3%A9?q=a%20b&q=c HTTP/1.1\r\n")
        lines = {line.partition(b":")[0].lower(): line.partition(b": ")[2] for line in seen[0].split(b"\r\n")}
        assert (lines[b"host"], lines[b"x-key"], lines[b"accept"]) == (b"office.example", b"k", b"text/plain")
        assert b"cookie" not in b"".join(seen[1:]).lower()  # what one run is given is not told by another
        assert seen[0].endswith(b'{"n":1}')
        assert connections == [1, 1, 1]


async def test_bodies_packed_chunked_and_empty():
    packed = gzip.compress(b"packed " * 100)
    texts = {
        b"/packed": b"HTTP/1.1 200 OK\r\ncontent-encoding: gzip\r\ncontent-length: %d\r\n\r\n" % len(packed) + packed,
        b"/chunked": b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n3\r\nabc\r\n2\r\nde\r\n0\r\n\r\n",
        b"/empty": b"HTTP/1.1 204 No Content\r\n\r\n",
        b"/moved": b"HTTP/1.1 302 Found\r\nlocation: /chunked\r\ncontent-length: 0\r\n\r\n",
    }

    async def answer(head: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write(texts[head.split(b" ")[1]])

    async with server(answer) as (url, _, _), outbound(Door(Settings())) as http:
        assert (await http.get(f"{url}/packed")).text == "packed " * 100
        assert (await http.get(f"{url}/chunked")).text == "abcde"
        assert (await http.get(f"{url}/empty")).content == b""
        assert (await http.get(f"{url}/moved")).status_code == 302  # nobody follows it unasked


async def test_many_at_once_each_on_a_connection_of_its_own():
    gate = asyncio.Event()
    here = 0

    async def answer(head: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        nonlocal here
        here += 1
        if here == 300:
            gate.set()
        await gate.wait()
        writer.write(FINE)

    async with server(answer) as (url, _, connections), outbound(Door(Settings())) as http:
        async with asyncio.timeout(30):
            found = await asyncio.gather(*(http.get(url, timeout=30) for _ in range(300)))
        assert {one.text for one in found} == {"hi"}
        assert len(set(connections)) == 300


async def test_nobody_there_means_nothing_was_reached():
    failed = await failure(f"http://127.0.0.1:{free_port()}/")
    assert (failed.kind, failed.reached) == ("unavailable", "no")
    failed = await failure("http://no-such-host.invalid/")
    assert (failed.kind, failed.reached) == ("unavailable", "no")


@pytest.mark.parametrize(
    "text",
    [b"", b"HTTP/1.1 200 OK\r\ncontent-length: 10\r\n\r\nabc", b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n5\r\nab", b"nonsense\r\n\r\n"],
)  # fmt: skip
async def test_a_connection_that_breaks_behind_a_request_may_have_reached_it(text: bytes):
    async with server(always(text, close=True)) as (url, seen, _):
        failed = await failure(url)
        assert (failed.kind, failed.reached) == ("unavailable", "maybe")
        assert len(seen) == 1  # and what cannot be repeated was not


@pytest.mark.parametrize("text", [b"", b"HTTP/1.1 200 OK\r\ncontent-length: 10\r\n\r\nabc"])
async def test_an_answer_that_does_not_come_in_time(text: bytes):
    async with server(always(text)) as (url, _, _):
        failed = await failure(url, timeout=0.3)
        assert (failed.kind, failed.reached) == ("timeout", "maybe")


async def test_a_connection_closed_while_it_rested_is_not_used_again():
    closed = asyncio.Event()

    async def answer(head: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write(FINE)
        await writer.drain()
        writer.close()
        closed.set()

    async with server(answer) as (url, seen, connections), outbound(Door(Settings())) as http:
        for _ in range(3):
            closed.clear()
            request = http.build_request("POST", url, content=b"x")
            assert (await send(at(http), request, 1000, None)).status == 200
            await closed.wait()
            await asyncio.sleep(0)  # the end of the connection is read before the next begins
        assert len(seen) == 3
        assert connections == [1, 2, 3]


@pytest.mark.parametrize("method", ["GET", "PUT", "DELETE", "POST"])
async def test_nothing_is_sent_again_by_itself_on_a_connection_that_was_kept(method: str):
    """A step may say of any method that repeating it does harm."""
    count = 0

    async def answer(head: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        nonlocal count
        count += 1
        if count == 1:
            writer.write(FINE)
        else:
            writer.close()

    async with server(answer) as (url, seen, connections), outbound(Door(Settings())) as http:
        assert (await send(at(http), http.build_request("GET", url), 1000, None)).status == 200
        with pytest.raises(StepFailed) as failed:
            await send(at(http), http.build_request(method, url, content=b"x"), 1000, None)
        assert failed.value.reached == "maybe"
        assert (len(seen), connections) == (2, [1, 1])


async def test_an_answer_too_long_is_not_read_to_its_end():
    async def answer(head: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write(b"HTTP/1.1 200 OK\r\ncontent-length: 100000000\r\n\r\n")
        while True:
            writer.write(b"x" * 65_536)
            await writer.drain()

    async with server(answer) as (url, _, _):
        assert (await failure(url)).kind == "too_long"


async def test_a_server_that_is_not_trusted_is_told_nothing(tmp_path: Path):
    async with server(always(FINE), self_signed(tmp_path)) as (url, seen, _):
        failed = await failure(url.replace("http:", "https:"))
        assert (failed.kind, failed.reached) == ("unavailable", "no")
        assert seen == []
