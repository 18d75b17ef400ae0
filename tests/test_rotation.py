"""Another master key while everything runs; and what a backup without the key is good for."""

import base64
import os
import secrets
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from oak_relay.store.database import Database
from oak_relay.store.keyring import Keyring
from oak_relay.vault.sealing import KeyProblem, master_key
from tests.conftest import Processes, apart, seed, until
from tests.office import app, behave, connect

FLOW = """oak: 1
workflow: steady
steps:
  - step: me
    do: http.request
    with: {{url: "{office}/me", credential: "${{ input.credential }}"}}
result: ${{ me.status }}
"""


def rotate(oak: Processes, *more: str, wait: bool = True, **environment: str) -> subprocess.Popen[str]:
    """The command, in a process of its own."""
    started = subprocess.Popen(
        [sys.executable, "-m", "oak_relay.cli", "key", *(more or ("rotate",))],
        env={**oak.environment, **environment},
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    if wait:
        started.wait(120)
    return started


def opened(url: str, master: bytes) -> str:
    """Why a key does not open what a database holds; empty when it does."""
    said = [""]

    async def look() -> None:
        database = Database(url)
        try:
            await Keyring.open(database, 1, lambda: master)
        except KeyProblem as problem:
            said[0] = str(problem)
        finally:
            await database.close()

    apart(look)
    return said[0]


class Load:
    """Runs that use credentials without end, and what failed of them."""

    def __init__(self, oak: Processes, names: list[str]) -> None:
        self.oak, self.names, self.took, self.failed = oak, names, list[float](), list[str]()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run)

    def _run(self) -> None:
        client, n = self.oak.client(), 0
        while not self._stop.is_set():
            began = time.monotonic()
            ended = client.start("steady", {"credential": self.names[n % len(self.names)]}).wait(60)
            self.took.append(time.monotonic() - began)
            if ended.state != "succeeded":
                self.failed.append(str(ended.error))
            n += 1

    def __enter__(self) -> "Load":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join()


@pytest.fixture
def steady(new_database, tmp_path: Path) -> Iterator[Processes]:
    """A service under which everything that is sealed is there: keys, a consent, a tool server, replaced secrets."""
    lone = Processes(tmp_path, new_database())
    lone.environment["OAK_RELAY_PROGRAMS"] = "true"
    lone.start_all()
    seed(lone)
    lone.start_worker()
    client = lone.client()
    client.put_credential("desk", **app(lone))
    connect(client, "desk")
    behave(lone, expire=True)
    client.put_server("hills", command=["true"], environment={"HILLS_KEY": "a-key-of-the-hills"})
    for _ in range(3):
        client.put_credential("changed", kind="bearer", secret=secrets.token_hex(12), hosts=["127.0.0.1"])
    client.save(FLOW.format(office=f"{lone.standins}/office"))
    client.on("steady")
    yield lone
    lone.stop()


def test_the_master_key_is_replaced_while_everything_runs(steady: Processes):
    client = steady.client()
    before = master_key(steady.home / "master.key")
    with Load(steady, ["office", "desk"]) as load:
        until(lambda: load.took)
        done = rotate(steady)
        assert done.returncode == 0, done.stdout and done.stdout.read()
        count = len(load.took)
        until(lambda: len(load.took) > count + 5)
    assert not load.failed, load.failed[:3]
    after = master_key(steady.home / "master.key")
    assert after != before and not (steady.home / "master.key.next").exists()
    assert opened(steady.environment["OAK_RELAY_DATABASE_URL"], after) == ""
    assert "another key" in opened(steady.environment["OAK_RELAY_DATABASE_URL"], before)
    for table in ("credential", "consent", "past_secret", "tool_server"):
        assert steady.sql(f"SELECT count(*) FROM {table} WHERE key_id < 2") == 0
        assert steady.sql(f"SELECT count(*) FROM {table}") > 0
    assert steady.sql("SELECT count(*) FROM vault_key WHERE link IS NOT NULL OR next IS NOT NULL") == 0
    client.put_credential("newer", kind="bearer", secret="sealed-by-the-new-one", hosts=["127.0.0.1"])
    assert client.test_credential("office").ok and client.test_credential("desk").ok
    assert max(load.took) < 5


@pytest.mark.long
def test_whenever_it_is_stopped_it_goes_on(steady: Processes):
    url = steady.environment["OAK_RELAY_DATABASE_URL"]
    with Load(steady, ["office", "desk"]) as load:
        for pause in (0.8, 1.6, 3.0):
            started = rotate(steady, wait=False)
            time.sleep(pause)
            started.send_signal(signal.SIGKILL)
            started.wait()
            files = [file for file in (steady.home / "master.key", steady.home / "master.key.next") if file.exists()]
            assert opened(url, master_key(files[0])) == "", "whatever was done, the key that is there opens all"
        done = rotate(steady)
        assert done.returncode == 0, done.stdout and done.stdout.read()
    assert not load.failed, load.failed[:3]
    assert opened(url, master_key(steady.home / "master.key")) == ""
    assert not (steady.home / "master.key.next").exists()
    steady.start_worker()  # who begins now has the new one alone
    assert steady.client().start("steady", {"credential": "desk"}).result() == 200


@pytest.mark.long
def test_a_key_that_processes_are_given_is_replaced_in_two_steps(new_database, tmp_path: Path):
    def key() -> str:
        return base64.b64encode(secrets.token_bytes(32)).decode()

    one, two = key(), key()
    url = new_database()
    apart(lambda: _seeded(url, base64.b64decode(one)))
    environment = {
        **os.environ,
        "OAK_RELAY_DATA_DIR": str(tmp_path),
        "OAK_RELAY_DATABASE_URL": url,
        "OAK_RELAY_KEY": one,
        "NEW": two,
    }

    def run(*command: str, **more: str) -> subprocess.CompletedProcess[str]:
        given = [sys.executable, "-m", "oak_relay.cli", "key", *command]
        return subprocess.run(given, env={**environment, **more}, capture_output=True, text=True, check=False)

    assert "give the next one too" in run("rotate").stderr
    assert run("rotate", "--new-key-from", "NOT_THERE").returncode == 2
    assert "oak-relay key finish" in run("rotate", "--new-key-from", "NEW").stdout
    assert opened(url, base64.b64decode(one)) == "" and opened(url, base64.b64decode(two)) == ""
    assert run("rotate", "--new-key-from", "NEW").returncode == 0  # once more does no harm
    assert run("finish").returncode != 0, "who still has the former key does not finish"
    assert run("finish", OAK_RELAY_KEY=two).returncode == 0
    assert opened(url, base64.b64decode(one)) and opened(url, base64.b64decode(two)) == ""


async def _seeded(url: str, master: bytes) -> None:
    database = Database(url)
    await Keyring.open(database, 1, lambda: master)
    await database.close()


def test_other_machines_with_copies_of_the_file_are_waited_for(steady: Processes):
    url, file = steady.environment["OAK_RELAY_DATABASE_URL"], steady.home / "master.key"
    before = master_key(file)
    assert rotate(steady, "rotate", "--later").returncode == 0
    assert opened(url, before) == "" and opened(url, master_key(file)) == ""
    steady.start("work", OAK_RELAY_KEY=base64.b64encode(before).decode())  # another machine, with the former file
    assert steady.client().start("steady", {"credential": "desk"}).result() == 200
    assert rotate(steady, "finish").returncode == 0
    assert "another key" in opened(url, before) and opened(url, master_key(file)) == ""


def test_a_backup_without_the_key_opens_nothing(steady: Processes, tmp_path: Path):
    held = [steady.office_key, "a-key-of-the-hills"]
    dumped = "\n".join(
        str(row)
        for table in steady.rows("SELECT table_name FROM information_schema.tables WHERE table_schema = 'public'")
        for row in steady.rows(f'SELECT t::text FROM "{table[0]}" t')
    )
    assert not [
        secret
        for secret in held
        if secret in dumped or base64.b64encode(secret.encode()).decode() in dumped or secret.encode().hex() in dumped
    ]
    url = steady.environment["OAK_RELAY_DATABASE_URL"]
    assert "another key" in opened(url, b"k" * 32)
    lost = subprocess.run(
        [sys.executable, "-m", "oak_relay.cli", "work"],
        env={**steady.environment, "OAK_RELAY_DATA_DIR": str(tmp_path / "elsewhere")},
        capture_output=True,
        text=True,
        check=False,
        timeout=60,
    )
    assert lost.returncode != 0 and "another key" in lost.stderr


def test_links_that_were_signed_before_hold_until_their_key_is_forgotten(new_database):
    url, said = new_database(), {}

    async def work() -> None:
        database = Database(url)
        one, two = b"1" * 32, b"2" * 32
        keyring = await Keyring.open(database, 1, lambda: one)
        before = keyring.sign("a question")
        await keyring.begin(database, two)
        said["follows"] = keyring.signed("a question", before) and keyring.signed(
            "a question", keyring.sign("a question")
        )
        await keyring.finish(database, two)
        later = await Keyring.open(database, 1, lambda: two)
        said["still"] = later.signed("a question", before)
        async with database.begin() as connection:
            said["kept"] = await later.forget(connection, 30)
        async with database.begin() as connection:
            said["gone"] = await later.forget(connection, 0)
        said["not"] = (await Keyring.open(database, 1, lambda: two)).signed("a question", before)
        await database.close()

    apart(work)
    assert said == {"follows": True, "still": True, "kept": 0, "gone": 1, "not": False}
