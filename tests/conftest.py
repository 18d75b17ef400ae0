"""One database server for all tests; a service with workers and stand-ins as real processes."""

import asyncio
import atexit
import contextlib
import json
import os
import secrets
import shutil
import signal
import socket
import ssl
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Coroutine, Iterator
from functools import cache, partial
from pathlib import Path
from typing import Any

import asyncpg
import httpx
import pytest
from hypothesis import settings

from oak_relay.client import Client
from oak_relay.runtime.cluster import Cluster
from oak_relay.store.database import Database
from tests.forked import Forked, Nursery

ROOT = Path(__file__).parent.parent
settings.register_profile("oak", deadline=None)  # how long an example takes is the machine's; who bounds it says so
settings.load_profile("oak")
SIGNING = "whsec_" + "dGhpcyBpcyBhIHNpZ25pbmcgc2VjcmV0"
MODEL_KEY = "mk-" + secrets.token_hex(12)
MESSENGER_KEY = "sk-" + secrets.token_hex(12)
OFFICE_SECRET = "os/" + secrets.token_hex(12) + "+="
OFFICE_KEY = "ok/" + secrets.token_hex(12) + "+é"[:1]


_TLS = ssl.create_default_context()
for _call in ("get", "post", "put", "patch", "delete", "head", "options", "request", "stream"):
    # Each of them reads all certificates anew otherwise, which takes longer than what most of them ask for.
    setattr(httpx, _call, partial(getattr(httpx, _call), verify=_TLS))

LONG = [
    "console_source", "borders", "bench", "access", "console", "console_pages", "description", "openapi", "supervision", "tool_servers", "every_command", "lifecycle",
    "linked", "hostile_pages", "oauth", "words", "durability", "bench_help", "wheel", "time_and_people", "mortal", "crash", "scale_out", "house",
]  # fmt: skip
"""Files that take longest: they are begun first, so that what runs beside them ends with them."""


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--every-write", action="store_true", help="die at every write of a run, not at every other one")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    places = {f"test_{name}": place for place, name in enumerate(LONG)}
    items.sort(key=lambda item: places.get(item.path.stem, len(places)))


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def until(what: Callable[[], Any], seconds: float = 90.0) -> Any:
    """Wait for a condition; its value."""
    deadline, pause = time.monotonic() + seconds, 0.01
    while True:
        with contextlib.suppress(httpx.TransportError, OSError):
            if found := what():
                return found
        if time.monotonic() > deadline:
            raise AssertionError(f"not within {seconds} s")
        time.sleep(pause)
        pause = min(0.1, pause * 1.3)  # who asks too often takes the time of what is waited for


Process = subprocess.Popen[bytes] | Forked


@cache
def nursery() -> Nursery:
    """Where processes begin, one for each process of the tests."""
    made = Nursery()
    atexit.register(made.close)
    return made


class Questions:
    """A connection that is kept for asking a database now and then, on a loop of its own."""

    def __init__(self, url: str) -> None:
        self.url = url
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._connection: asyncpg.Connection | None = None
        self._turn = asyncio.Lock()
        self._thread.start()

    def ask(self, statement: str, *given: Any) -> list[Any]:
        return asyncio.run_coroutine_threadsafe(self._ask(statement, given), self._loop).result()

    async def _ask(self, statement: str, given: tuple[Any, ...]) -> list[Any]:
        try:
            async with self._turn:
                if self._connection is None or self._connection.is_closed():
                    self._connection = await asyncpg.connect(self.url)
                return await self._connection.fetch(statement, *given)
        except (asyncpg.PostgresConnectionError, asyncpg.AdminShutdownError, asyncpg.CannotConnectNowError) as error:
            self._connection = None
            raise ConnectionError(str(error)) from error

    def close(self) -> None:
        if self._loop.is_closed():
            return
        if self._connection is not None:
            self._loop.call_soon_threadsafe(self._connection.terminate)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join()
        self._loop.close()


class Processes:
    """Real processes on one database of their own."""

    def __init__(self, home: Path, url: str) -> None:
        self.home = home
        self.port, self.outside = free_port(), free_port()
        self.url, self.standins = f"http://127.0.0.1:{self.port}", f"http://127.0.0.1:{self.outside}"
        self.password = "correct horse 7"
        self.office_key = OFFICE_KEY
        self.environment = {
            **os.environ,
            "OAK_RELAY_DATA_DIR": str(home),
            "XDG_STATE_HOME": str(home),
            "OAK_RELAY_DATABASE_URL": url,
            "OAK_RELAY_PORT": str(self.port),
            "OAK_RELAY_FIRST_PASSWORD": self.password,
            "OAK_RELAY_LEASE": "4",
            "OAK_RELAY_LOG_FORMAT": "json",
            "STANDIN_MODEL_KEY": MODEL_KEY,
            "STANDIN_OFFICE_KEY": OFFICE_KEY,
            "STANDIN_OFFICE_SECRET": OFFICE_SECRET,
            "STANDIN_REDIRECTS": f"{self.url}/connect/back",
            "STANDIN_SIGNING_SECRET": SIGNING,
            "STANDIN_MESSENGER_KEY": MESSENGER_KEY,
            "STANDIN_MESSENGER_SECRET": SIGNING,
            "STANDIN_HOOK_URL": f"{self.url}/hooks/bookings",
        }
        self.running: list[Process] = []
        self.questions = Questions(url)
        self.log = Path(os.environ.get("OAK_TEST_LOGS", str(home))) / "processes.log"

    def start(self, *command: str, **more: str) -> Process:
        environment = {**self.environment, **more}
        process: Process
        if nursery().takes(environment):
            process = nursery().start(command, environment, self.log)
        else:
            with self.log.open("ab") as log:
                process = subprocess.Popen(
                    [sys.executable, "-m", "oak_relay.cli", *command], env=environment, stderr=log, stdout=log
                )
        self.running.append(process)
        return process

    def start_worker(self, **more: str) -> Process:
        """A worker that has registered."""
        before = self.sql("SELECT count(*) FROM worker WHERE role = 'work'")
        process = self.start("work", **more)
        until(lambda: self.sql("SELECT count(*) FROM worker WHERE role = 'work'") > before)
        return process

    def kill(self, process: Process, number: int = signal.SIGKILL) -> None:
        process.send_signal(number)
        process.wait(30)
        self.running.remove(process)

    def start_all(self, rules: Path = ROOT / "demo" / "model") -> None:
        self.start("standins", "--port", str(self.outside), "--rules", str(rules))
        self.start("serve")
        until(lambda: httpx.get(f"{self.url}/health/ready").is_success, 60)
        until(lambda: httpx.get(f"{self.standins}/received.json").is_success, 60)

    @property
    def token(self) -> str:
        return (self.home / "cli.token").read_text().strip()

    def client(self) -> Client:
        return Client(self.url, self.token)

    def sql(self, statement: str, *given: Any) -> Any:
        rows = self.rows(statement, *given)
        return rows[0][0] if rows else None

    def rows(self, statement: str, *given: Any) -> list[Any]:
        return self.questions.ask(statement, *given)

    def fault(self, **fault: Any) -> None:
        httpx.post(f"{self.standins}/faults", json=fault).raise_for_status()

    def worked(self) -> dict[str, int]:
        """How often the stand-ins worked on each idempotency key."""
        return self.received()["worked"]

    def received(self) -> Any:
        """What the stand-ins received and worked on, and how many faults are still pending."""
        return httpx.get(f"{self.standins}/received.json").json()

    def stop(self) -> None:
        for process in self.running:
            process.kill()
        for process in self.running:
            process.wait(30)
        self.running.clear()
        self.questions.close()


@pytest.fixture(scope="session")
def server() -> Iterator[str]:
    """The URL of a PostgreSQL of the tests' own."""
    home = Path(tempfile.mkdtemp(prefix="oak-test-"))
    home.chmod(0o711)
    cluster = Cluster(home)
    yield cluster.start()
    cluster.stop("immediate")
    shutil.rmtree(home, ignore_errors=True)


@pytest.fixture(scope="session")
def empty_database(server: str) -> Callable[[], str]:
    """Makes databases without tables."""
    return lambda: _created(server, f"t_{secrets.token_hex(6)}", "template1")


@pytest.fixture(scope="session")
def new_database(server: str) -> Callable[[], str]:
    """Makes databases whose tables are there already: copies of one that was migrated."""
    template = f"t_{secrets.token_hex(6)}"
    url = _created(server, template, "template1")

    async def migrate() -> None:
        database = Database(url)
        await database.migrate()
        await database.close()

    apart(migrate)
    return lambda: _created(server, f"t_{secrets.token_hex(6)}", template)


def _created(server: str, name: str, template: str) -> str:
    """The URL of a new database."""

    async def create() -> None:
        connection = await asyncpg.connect(server)
        await connection.execute(f"CREATE DATABASE {name} TEMPLATE {template}")
        await connection.close()

    apart(create)
    return server.rsplit("/", 1)[0] + f"/{name}"


def open_up(folder: Path) -> None:
    """Let the role that the database runs under pass to a folder of a test."""
    folder.chmod(0o755)
    for above in folder.parents:
        if above.stat().st_uid == os.getuid() and str(above).startswith("/tmp/"):
            above.chmod(above.stat().st_mode | 0o011)


def apart(work: Callable[[], Coroutine[Any, Any, None]]) -> None:
    """Do something asynchronous in a thread of its own: a test may have a loop already."""
    failed: list[BaseException] = []

    def run() -> None:
        try:
            asyncio.run(work())
        except BaseException as error:
            failed.append(error)

    thread = threading.Thread(target=run)
    thread.start()
    thread.join()
    if failed:
        raise failed[0]


@pytest.fixture(scope="session")
def oak(new_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Processes]:
    """A service, a worker and the stand-ins, with the demo's credentials, models, tables and workflow."""
    processes = Processes(tmp_path_factory.mktemp("oak"), new_database())
    processes.start_all()
    processes.start_worker()
    processes.start("tick")
    seed(processes)
    yield processes
    processes.stop()


@pytest.fixture
def lone(new_database: Callable[[], str], tmp_path: Path) -> Iterator[Processes]:
    """A service and the stand-ins, seeded; workers are the test's own to start and kill."""
    processes = Processes(tmp_path, new_database())
    processes.start_all()
    seed(processes)
    yield processes
    processes.stop()


@pytest.fixture(scope="session")
def client(oak: Processes) -> Client:
    return oak.client()


def seed(processes: Processes) -> None:
    client = processes.client()
    client.put_credential("booking-site", kind="signing", secret=SIGNING)
    client.put_credential(
        "office",
        kind="header",
        header="X-API-Key",
        secret=OFFICE_KEY,
        hosts=["127.0.0.1"],
        test_url=f"{processes.standins}/office/me",
    )
    client.put_credential("models", kind="bearer", secret=MODEL_KEY, test_url=f"{processes.standins}/v1/models")
    for name, model in (("quick", "larch-small"), ("careful", "larch-large")):
        client.put_model(
            name, url=f"{processes.standins}/v1", model=model, credential="models", prices={"input": 1, "output": 4}
        )
    data = json.loads((ROOT / "demo" / "data.json").read_text())
    for name, columns in data["tables"].items():
        client.create_table(name, columns)
        if name in data["rows"]:
            client.add_rows(name, data["rows"][name])
    client.save((ROOT / "demo" / "workflows" / "booking-triage.yaml").read_text())
    client.on("booking-triage")
    client.settings("booking-triage", {"office": f"{processes.standins}/office"})


def seed_agents(processes: Processes) -> None:
    """The demo's agents: tool server, tables, workflows and where their stand-ins are."""
    client = processes.client()
    client.put_server("weather-station", url=f"{processes.standins}/weather")
    for name in (
        "bunk-availability",
        "path-scout",
        "morning-conditions",
        "guest-chat",
        "route-briefing",
        "reply-screen",
    ):
        client.save((ROOT / "demo" / "workflows" / f"{name}.yaml").read_text(), over=True)
        client.on(name)
    for name in ("morning-conditions", "path-scout"):
        client.settings(name, {"search": f"{processes.standins}/search"})
    for name in ("route-briefing", "reply-screen"):
        client.settings(name, {"office": f"{processes.standins}/office"})
