"""What may be called: decided where the socket is made, whatever an address is called and however it is written."""

import ast
import asyncio
import ipaddress
import json
import os
import shutil
import socket
import subprocess
import sys
import textwrap
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.document.errors import StepFailed
from oak_relay.runtime import door as doors
from oak_relay.runtime.door import ASKED, Asked, Closed, Door
from oak_relay.runtime.listed import Listed
from oak_relay.runtime.outbound import outbound
from oak_relay.runtime.settings import Settings
from oak_relay.vault.keys import Basic, Bearer
from tests.conftest import Processes, until

SOURCE = Path(__file__).parent.parent / "src" / "oak_relay"
NEVER = [
    "169.254.169.254", "169.254.1.1", "fe80::1", "fd00:ec2::254", "100.100.100.200", "0.0.0.0", "0.1.2.3", "::", "224.0.0.1", "ff02::1", "255.255.255.255", "240.0.0.1",
    "::ffff:169.254.169.254", "64:ff9b::a9fe:a9fe", "2002:a9fe:a9fe::1", "::169.254.169.254", "64:ff9b:1::a9fe:a9fe",
]  # fmt: skip
PRIVATE = [
    "127.0.0.1", "127.9.9.9", "::1", "10.0.0.1", "172.16.0.1", "172.31.255.255", "192.168.1.1", "100.64.0.1", "fc00::1", "fd12:3456::1", "198.18.0.1", "192.0.2.1",
    "::ffff:127.0.0.1", "::ffff:10.0.0.1", "64:ff9b::7f00:1", "64:ff9b::a00:1", "2002:7f00:1::", "::127.0.0.1", "2001:0:4136:e378:8000:63bf:f5ff:fffe", "fec0::1",
]  # fmt: skip
OPEN = [
    "93.184.215.14",
    "8.8.4.4",
    "2606:2800:21f:cb07:6820:80da:af6b:8b2c",
    "::ffff:93.184.215.14",
    "64:ff9b::5db8:d70e",
]
SIX = socket.has_ipv6 and Path("/proc/net/if_inet6").exists()
SPELLINGS = ["127.0.0.1", "127.1", "2130706433", "0x7f000001", "0177.0.0.1", "0x7f.1", "localhost", "LOCALHOST", "localhost.", "[::1]", "[::ffff:127.0.0.1]", "[0:0:0:0:0:0:0:1]", "[::ffff:7f00:1]", "127.0.0.1."]  # fmt: skip


def settings(**given: Any) -> Settings:
    return Settings(**{"public_url": "https://relay.example", "port": 1, **given})


def fault(address: str, to: int = 443, at: str = "a.example", **given: Any) -> str:
    return Door(settings(**given)).fault(at, ipaddress.ip_address(address), to)


@pytest.mark.parametrize("address", NEVER)
def test_some_addresses_are_closed_to_everybody(address):
    assert fault(address)
    assert fault(address, public_url="")
    assert fault(address, private=["0.0.0.0/0", "::/0", "a.example"])


@pytest.mark.parametrize("address", PRIVATE)
def test_private_addresses_are_open_to_a_service_of_this_machine_alone(address):
    assert fault(address)
    assert fault(address, public_url="", host="0.0.0.0")
    assert fault(address, public_url="https://relay.example:8443")
    assert not fault(address, public_url="")
    assert not fault(address, public_url="http://localhost:8470")


@pytest.mark.parametrize("address", OPEN)
def test_other_addresses_are_open(address):
    assert not fault(address)


def test_what_is_listed_is_open_and_nothing_beside_it():
    assert not fault("10.0.0.5", 5432, private=["10.0.0.5:5432"])
    assert fault("10.0.0.5", 5433, private=["10.0.0.5:5432"])
    assert fault("10.0.0.6", 5432, private=["10.0.0.5:5432"])
    assert not fault("10.0.9.6", private=["10.0.0.0/16"])
    assert not fault("10.0.0.1", at="ledger.internal", private=["ledger.internal"])
    assert fault("10.0.0.1", at="other.internal", private=["ledger.internal"])
    assert not fault("fd00::1", 8080, private=["[fd00::1]:8080"])
    assert not fault("127.0.0.1", 4318, otlp_endpoint="http://127.0.0.1:4318/v1/traces")
    for wrong in ("", "http://", "10.0.0.0/99", ":80"):
        with pytest.raises(ValueError, match=r"."):
            Listed.read(wrong)


def test_settings_that_list_what_is_no_place_say_so():
    with pytest.raises(ValueError, match=r"10\.0\.0\.0/99"):
        settings(private=["10.0.0.0/99"])
    assert settings(database_url="postgresql://a:b@[::1]:5433,db.example/oak").own_ports == {1, 5433, 5432}


def test_the_services_own_ports_are_closed_on_every_address_of_this_machine():
    own = {"public_url": "", "port": 8470, "database_url": "postgresql://a:b@127.0.0.1:5433,127.0.0.1:5434/oak"}
    for port in (8470, 5433, 5434):
        assert fault("127.0.0.1", port, **own)
        assert fault("::1", port, **own)
        assert fault("::ffff:127.0.0.1", port, **own)
        assert fault("127.0.0.1", port, private=["127.0.0.1"], **own)
    assert not fault("127.0.0.1", 8471, **own)
    assert not fault("8.8.4.4", 8470, **own)


@given(st.ip_addresses())
def test_an_address_within_another_is_as_closed_as_it_is_by_itself(address):
    door = Door(settings())
    if address.version == 4 and door.fault("a", address, 443):
        for text in (f"::ffff:{address}", f"64:ff9b::{address}", f"::{address}"):
            assert door.fault("a", ipaddress.ip_address(text), 443), text


# Sockets


@pytest.fixture
async def listening():
    """Somebody on this machine who counts who connects."""
    came: list[int] = []

    async def answer(_reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        came.append(1)
        writer.write(
            b"HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\nconnection: close\r\n\r\n"
        )
        writer.close()

    servers = [await asyncio.start_server(answer, "127.0.0.1", 0)]
    port = servers[0].sockets[0].getsockname()[1]
    if SIX:
        servers.append(await asyncio.start_server(answer, "::1", port))
    yield port, came
    for server in servers:
        server.close()


@pytest.mark.parametrize("host", SPELLINGS)
async def test_no_spelling_of_this_machine_gets_through(listening, host):
    port, came = listening
    async with outbound(Door(settings())) as http:
        with pytest.raises((StepFailed, httpx.TransportError)) as failed:  # closed, no address, or none that is known
            await http.send(http.build_request("GET", f"http://{host}:{port}/"))
    assert not came
    if host in ("127.0.0.1", "localhost", "[::1]", "[::ffff:127.0.0.1]"):
        assert isinstance(failed.value, StepFailed)
        assert failed.value.kind == "denied"


async def test_a_name_that_resolves_to_another_address_each_time_is_judged_by_the_one_that_is_connected_to(
    listening, monkeypatch
):
    """What was looked at before is of no use: the socket's own address decides."""
    port, came = listening
    answers = iter(["93.184.215.14", "127.0.0.1", "127.0.0.1"])

    async def resolve(_self: object, host: str, at: int = 0, family: int = socket.AF_INET) -> list[dict[str, Any]]:
        found = next(answers)
        return [{"hostname": host, "host": found, "port": at, "family": socket.AF_INET, "proto": 0, "flags": 0}]

    monkeypatch.setattr("aiohttp.resolver.ThreadedResolver.resolve", resolve)
    assert next(answers) == "93.184.215.14"  # what a check beforehand would have seen
    async with outbound(Door(settings())) as http:
        with pytest.raises(
            StepFailed, match=r"rebound\.example may not be called: 127\.0\.0\.1 is an address of this machine"
        ):
            await http.send(http.build_request("GET", f"http://rebound.example:{port}/"))
    assert not came


async def test_a_redirect_is_an_answer_and_is_not_followed(listening):
    port, came = listening
    async with outbound(Door(settings(public_url=""))) as http:
        answer = await http.send(http.build_request("GET", f"http://127.0.0.1:{port}/"))
    assert (answer.status_code, len(came)) == (302, 1)


def test_a_socket_is_only_made_for_an_address_that_is_open():
    door = Door(settings())
    token = ASKED.set(asked := Asked("a.example"))
    try:
        with pytest.raises(Closed):
            door.socket((socket.AF_INET, socket.SOCK_STREAM, 6, "", ("10.0.0.1", 80)))
        assert "10.0.0.1" in asked.closed
        door.socket((socket.AF_INET, socket.SOCK_STREAM, 6, "", ("8.8.4.4", 80))).close()
        with pytest.raises(Closed):
            door.socket((socket.AF_INET6, socket.SOCK_STREAM, 6, "", ("fe80::1%lo", 80, 0, 1)))
    finally:
        ASKED.reset(token)


async def test_a_host_is_called_so_many_times_a_second():
    door = Door(settings(host_rate=50))
    began = asyncio.get_running_loop().time()
    for _ in range(75):
        await door.pace("slow.example")
    await door.pace("other.example")
    assert 0.4 < asyncio.get_running_loop().time() - began < 3
    for n in range(doors._HOSTS + 50):
        await door.pace(f"{n}.example")
    assert len(door._paces) == doors._HOSTS


# Credentials


@pytest.mark.parametrize(
    ("place", "right", "wrong"),
    [
        ("office.example", ["https://office.example/a", "https://office.example:8443/", "https://OFFICE.example/"], ["http://office.example/", "https://a.office.example/", "https://office.example.evil.example/", "https://evil.example/office.example", "https://office.example@evil.example/"]),
        ("office.example:8443", ["https://office.example:8443/"], ["https://office.example/", "https://office.example:443/"]),
        ("http://ledger.internal", ["http://ledger.internal/", "http://ledger.internal:80/x"], ["https://ledger.internal/", "http://ledger.internal:8080/"]),
        ("https://office.example", ["https://office.example/", "https://office.example:443/"], ["https://office.example:8443/", "http://office.example/"]),
        ("127.0.0.1", ["http://127.0.0.1:8471/", "https://127.0.0.1/"], ["http://127.0.0.2:8471/", "http://localhost:8471/"]),
        ("[::1]:80", ["http://[::1]/", "http://[::1]:80/"], ["http://[::1]:81/"]),
    ],
)  # fmt: skip
def test_a_credential_is_sent_to_its_places_alone(place, right, wrong):
    credential = Bearer(secret="12345678", hosts=[place])
    assert all(credential.may_reach(url) for url in right), right
    assert not any(credential.may_reach(url) for url in wrong), wrong


def test_a_credential_says_where_it_may_be_sent():
    with pytest.raises(ValueError, match="say where it may be sent"):
        Bearer(secret="12345678")
    assert Bearer(secret="12345678", test_url="https://Office.example/me").hosts == ["https://office.example"]
    assert not Basic(secret="12345678", user="a").may_reach("https://office.example/")
    for wrong in (
        "office.example/path",
        "ftp://office.example",
        "a b",
        "user@office.example",
        "",
        "office.example:99999999",
        "office.example:65536",
    ):
        with pytest.raises(ValueError, match="is no host"):
            Bearer(secret="12345678", hosts=[wrong])


async def test_everything_goes_through_a_proxy_that_is_set_and_nothing_private_is_asked_of_it():
    asked: list[str] = []

    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        asked.append((await reader.readline()).decode().strip())
        writer.write(b"HTTP/1.1 200 OK\r\ncontent-length: 2\r\nconnection: close\r\n\r\nhi")
        writer.close()

    server = await asyncio.start_server(answer, "127.0.0.1", 0)
    port = server.sockets[0].getsockname()[1]
    async with outbound(Door(settings(proxy=f"http://127.0.0.1:{port}"))) as http:
        answered = await http.send(http.build_request("GET", "http://office.example/huts"))
        assert answered.text == "hi"
        for host in (
            "127.0.0.1",
            "localhost",
            "a.localhost",
            "[::1]",
            "169.254.169.254",
            "10.0.0.1",
            "[::ffff:10.0.0.1]",
        ):
            with pytest.raises(StepFailed) as failed:
                await http.send(http.build_request("GET", f"http://{host}/"))
            assert failed.value.kind == "denied"
    server.close()
    assert asked == ["GET http://office.example/huts HTTP/1.1"]


# The service and a worker


def test_a_service_that_is_asked_through_a_proxy_closes_the_private_side(lone: Processes):
    """Actions, model servers, tool servers and tests alike."""
    client = lone.client()
    lone.start_worker()
    flow = "oak: 1\nworkflow: near\ninput: {type: object}\nsteps:\n  - step: a\n    do: http.request\n    with: {url: '${ input.url }'}\n    retry: {tries: 1}\nresult: fine\n"
    client.on(client.save(flow).workflow)
    client.put_server("near", url=f"{lone.standins}/weather")
    received = f"{lone.standins}/received.json"
    assert client.start("near", {"url": received}).result() == "fine"
    own = client.start("near", {"url": f"{lone.url}/health/live"}).wait()
    assert own.error and own.error.kind == "denied" and "the service's own" in own.error.message
    assert client.test_model("quick").ok and client.test_server("near").ok
    httpx.get(f"{lone.url}/health/live", headers={"X-Forwarded-For": "8.8.4.4"}).raise_for_status()
    ended = until(lambda: (run := client.start("near", {"url": received}).wait()).error and run)  # within two seconds
    assert ended.error and ended.error.kind == "denied" and "reached from elsewhere" in ended.error.message
    told = [client.test_model("quick"), client.test_server("near"), client.test_credential("office")]
    assert not any(one.ok for one in told)
    assert all("reached from elsewhere" in one.sentence for one in told), told


# The house


def test_there_is_no_other_way_out():
    """Only the door's own modules make connections; whatever else sends is given its client, or a socket that is connected."""
    ways = {"aiohttp", "requests", "urllib3", "smtplib", "imaplib", "ftplib", "poplib", "telnetlib", "xmlrpc", "websockets", "pycurl", "http.client", "urllib.request"}  # fmt: skip
    may = {
        "runtime/connections.py": {"aiohttp"},
        "runtime/outbound.py": {"AsyncClient"},
        "actions/mail.py": {"smtplib", "imaplib"},
    }
    calls = {
        "open_connection",
        "create_connection",
        "create_datagram_endpoint",
        "AsyncClient",
        "Client",
        "socket",
        "urlopen",
    }
    outsiders = ("client/", "cli/", "standins/", "store/", "runtime/door.py", "runtime/cluster.py")
    found = []
    for file in SOURCE.rglob("*.py"):
        where = file.relative_to(SOURCE).as_posix()
        tree = ast.parse(file.read_text())
        for node in ast.walk(tree):
            names: set[str] = set()
            if isinstance(node, ast.Import):
                names = {alias.name for alias in node.names} & ways
            elif isinstance(node, ast.ImportFrom) and node.module:
                names = {node.module, node.module.partition(".")[0]} & ways
            elif (
                isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and not where.startswith(outsiders)
            ):
                if isinstance(node.func.value, ast.Name) and node.func.value.id in (
                    "httpx",
                    "asyncio",
                    "socket",
                    "loop",
                ):
                    names = {node.func.attr} & calls
                if isinstance(node.func.value, ast.Name) and node.func.value.id == "httpx":
                    names |= {node.func.attr} & {"get", "post", "put", "request", "stream"}
            found += [(where, name) for name in names - may.get(where, set())]
    assert not found


OUTSIDE = """
import asyncio, json, sys
from oak_relay.document.errors import StepFailed
from oak_relay.runtime.door import Door
from oak_relay.runtime.outbound import outbound
from oak_relay.runtime.settings import Settings

async def main():
    told = {}
    async with outbound(Door(Settings(public_url="https://relay.example", port=1))) as http:
        for url in sys.argv[1:]:
            try:
                answer = await http.send(http.build_request("GET", url, timeout=5))
                told[url] = answer.status_code
            except StepFailed as failed:
                told[url] = failed.kind
            except Exception as error:
                told[url] = type(error).__name__
    print(json.dumps(told))

asyncio.run(main())
"""


def _apart() -> bool:
    """Whether a network of its own can be made here."""
    unshare, ip = shutil.which("unshare"), shutil.which("ip")
    return bool(unshare and ip) and subprocess.run(["unshare", "-nm", "true"], capture_output=True).returncode == 0  # type: ignore[list-item]


@pytest.mark.skipif(not _apart(), reason="no network of its own can be made here")
def test_in_a_network_of_its_own_with_its_own_names(tmp_path):
    """An address that is open, one of a private network and one of a cloud, each with a server that would answer, under names
    of that network alone."""
    (tmp_path / "hosts").write_text("127.0.0.1 localhost\n93.184.215.14 open.example\n10.7.0.1 inner.example\n169.254.169.254 told.example\n10.7.0.1 two.example\n93.184.215.14 two.example\n")  # fmt: skip
    (tmp_path / "outside.py").write_text(OUTSIDE)
    script = textwrap.dedent(f"""
        set -e
        mount --bind {tmp_path}/hosts /etc/hosts
        ip link set lo up
        for a in 93.184.215.14 10.7.0.1 169.254.169.254; do ip addr add $a/32 dev lo; done
        {sys.executable} -m http.server 8080 --bind 0.0.0.0 --directory {tmp_path} >/dev/null 2>&1 &
        server=$!
        for n in $(seq 100); do {sys.executable} -c "import socket; socket.create_connection(('127.0.0.1', 8080), 1)" 2>/dev/null && break; sleep 0.1; done
        {sys.executable} {tmp_path}/outside.py http://open.example:8080/hosts http://inner.example:8080/hosts http://told.example:8080/hosts http://10.7.0.1:8080/hosts http://localhost:8080/hosts
        kill $server
    """)
    done = subprocess.run(["unshare", "-nm", "sh", "-c", script], capture_output=True, text=True, timeout=60, env={**os.environ, "PYTHONPATH": str(SOURCE.parent)})  # fmt: skip
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told.pop("http://open.example:8080/hosts") == 200
    assert set(told.values()) == {"denied"}, told
