"""Many people at once: on a messaging service that sends twice, late and out of order, and loses what it is told, and on a page; while
service, clock and workers are killed.

`python -m bench.people --people 200` lets so many write on each of both, then says of each message that nobody knows of whether it
arrived, as a person would who looks at the service, and compares both sides. It exits 0 only if every message is answered once, in
the order in which it was taken in, nobody was told what is another's, and both sides hold the same.
"""

import argparse
import asyncio
import os
import random
import secrets
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from datetime import datetime
from pathlib import Path
from typing import Any

import httpx

from bench.run import free_port
from oak_relay.client import Client
from oak_relay.client.errors import NotFound, OakRelayError
from oak_relay.runtime.cluster import Cluster

SIGNING = "whsec_" + "dGhpcyBpcyBhIHNpZ25pbmcgc2VjcmV0"
LINE = """
oak: 1
workflow: {name}
triggers:
  - trigger: said
    conversation: {{channel: {channel}, path: {name}, gather: 100ms{more}}}
steps:
  - {{step: nap, wait: 20ms}}
  - {{step: say, send: "You said: ${{ input.text }}"}}
"""
_EACH = 6
"""Messages of each person."""


class House:
    """The processes, and how many of them were killed."""

    def __init__(self, home: Path, workers: int) -> None:
        self.home, self.cluster = home, Cluster(home)
        self.database = self.cluster.start()
        self.port, self.outside = free_port(), free_port()
        self.url, self.messenger = f"http://127.0.0.1:{self.port}", f"http://127.0.0.1:{self.outside}/messenger"
        self.environment = {
            **os.environ, "OAK_RELAY_DATABASE_URL": self.database, "OAK_RELAY_DATA_DIR": str(home), "OAK_RELAY_PORT": str(self.port), "OAK_RELAY_LEASE": "3",
            "OAK_RELAY_FIRST_PASSWORD": secrets.token_urlsafe(9), "STANDIN_MESSENGER_KEY": "key-of-the-line", "STANDIN_MESSENGER_SECRET": SIGNING,
        }  # fmt: skip
        self.log = (home / "people.log").open("ab")
        self.standins = self.start(
            "standins", "--port", str(self.outside), "--rules", str(Path(__file__).parent.parent / "demo" / "model")
        )
        self.running = {
            "serve": [self.start("serve")],
            "work": [self.start("work") for _ in range(workers)],
            "tick": [self.start("tick")],
        }
        self.killed: Counter[str] = Counter()

    def start(self, *role: str) -> "subprocess.Popen[bytes]":
        return subprocess.Popen(
            [sys.executable, "-m", "oak_relay.cli", *role], env=self.environment, stderr=self.log, stdout=self.log
        )

    def kill(self) -> None:
        """One of them, and another in its place: first one of each."""
        unhurt = [role for role in self.running if role not in self.killed]
        role = unhurt[0] if unhurt else random.choices(["work", "tick", "serve"], [6, 1, 2])[0]
        place = random.randrange(len(self.running[role]))
        self.running[role][place].kill()
        self.running[role][place].wait()
        self.running[role][place] = self.start(role)
        self.killed[role] += 1

    def ready(self) -> Client:
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            try:
                if (
                    httpx.get(f"{self.url}/health/ready").json()["workers"]
                    and httpx.get(f"{self.messenger}/chats.json").is_success
                ):
                    return Client(self.url, (self.home / "cli.token").read_text().strip())
            except (httpx.TransportError, KeyError, ValueError):
                pass
            time.sleep(0.2)
        raise SystemExit("nothing came up")

    def stop(self) -> None:
        for process in [self.standins, *(one for some in self.running.values() for one in some)]:
            process.kill()
            process.wait()
        self.cluster.stop("immediate")


def set_up(house: House, client: Client) -> None:
    client.put_credential("line", kind="bearer", secret="key-of-the-line", hosts=["127.0.0.1"])
    client.put_credential("line-signing", kind="signing", secret=SIGNING)
    more = f', with: {{url: "{house.messenger}", credential: line, signing: line-signing}}'
    client.save(LINE.format(name="line", channel="messenger", more=more))
    client.save(LINE.format(name="desk", channel="page", more=", pace: {address: 10000, page: 100000}"))
    client.on("line")
    client.on("desk")
    assert httpx.post(f"{house.messenger}/webhook", json={"url": f"{house.url}/channels/line"}).json()["ok"]
    how = {"twice": 0.3, "seconds": 1.0, "refuse": 0.1, "lose": 0.02}
    httpx.post(f"{house.messenger}/behave", json=how).raise_for_status()


async def write(house: House, person: int, http: httpx.AsyncClient) -> None:
    """One person writes on the messaging service."""
    for n in range(_EACH):
        await asyncio.sleep(random.uniform(0.1, 1.5))
        (await http.post(f"{house.messenger}/chats/p{person}", json={"text": f"p{person} says {n}"})).raise_for_status()


async def visit(house: House, person: int, http: httpx.AsyncClient) -> str:
    """One person writes on the page, again and again until it is taken; their key."""
    key = secrets.token_urlsafe(24)
    for n in range(_EACH):
        await asyncio.sleep(random.uniform(0.1, 1.5))
        body = {"id": f"m{n}", "text": f"v{person} says {n}"}
        while True:
            try:
                answer = await http.post(f"{house.url}/talk/desk/messages", json=body, headers={"X-Visitor": key})
                if answer.status_code == 202:
                    break
            except httpx.TransportError:
                pass
            await asyncio.sleep(random.uniform(0.2, 1.0))
    return key


async def talk(house: House, people: int, pause: float) -> list[str]:
    """All of them write while processes are killed; the keys of those on the page."""
    patient = httpx.Timeout(30, pool=None)  # who waits for a connection here waits for nobody of ours
    async with httpx.AsyncClient(timeout=patient, limits=httpx.Limits(max_connections=100)) as http:
        writing = asyncio.gather(
            *(write(house, n, http) for n in range(people)), *(visit(house, n, http) for n in range(people))
        )
        while not writing.done():
            await asyncio.wait({writing}, timeout=random.uniform(0.5, 1.5) * pause)
            if not writing.done():
                await asyncio.to_thread(house.kill)
        return [key for key in await writing if key]


def settle(house: House, client: Client, chats: dict[str, Any]) -> int:
    """Say of all that is unknown whether it is there; how many there were."""
    found = 0
    for chat, lines in chats.items():
        there = Counter(one["text"] for one in lines if one["side"] == "hut")
        try:
            ours = list(client.every(client.conversation, f"line {chat}"))
        except NotFound:
            continue
        known = Counter(str(one.message["content"]) for one in ours if one.role == "assistant" and one.state == "sent")
        for one in ours:
            if one.state == "unknown":
                text = str(one.message["content"])
                client.settle(f"line {chat}", one.seq, there[text] > known[text])
                known[text] += there[text] > known[text]
                found += 1
    return found


def parts(texts: list[str]) -> list[str]:
    return [line for text in texts for line in text.removeprefix("You said: ").split("\n")]


def compare(heard: list[str], answered: list[str], wanted: list[str], who: str) -> list[str]:
    """What is wrong with one conversation: what was taken in, in order, what was answered, and what was said."""
    faults = []
    if sorted(heard) != sorted(wanted):
        faults.append(f"{who}: {len(heard)} of {len(wanted)} messages are there")
    if parts(answered) != heard:
        faults.append(f"{who}: answers are not in the order of what was heard: {parts(answered)} for {heard}")
    if any(not line.startswith(f"{who} ") for line in parts(answered)):
        faults.append(f"{who}: was told what is another's")
    return faults


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--people", type=int, default=200)
    parser.add_argument("--workers", type=int, default=3)
    parser.add_argument("--pause", type=float, default=5.0, help="seconds between two deaths")
    given = parser.parse_args()
    home = Path(tempfile.mkdtemp(prefix="oak-people-"))
    home.chmod(0o711)
    house = House(home, given.workers)
    try:
        client = house.ready()
        set_up(house, client)
        began = time.monotonic()
        keys = asyncio.run(talk(house, given.people, given.pause))
        wrote = time.monotonic() - began
        house.ready()
        unknown, wanted = 0, {f"p{n}": [f"p{n} says {i}" for i in range(_EACH)] for n in range(given.people)}
        httpx.post(f"{house.messenger}/behave", json={}).raise_for_status()
        deadline = time.monotonic() + 300
        faults = ["nothing was compared"]
        while faults and time.monotonic() < deadline:
            time.sleep(2)
            try:
                chats = httpx.get(f"{house.messenger}/chats.json", timeout=30).json()["chats"]
                unknown += settle(house, client, chats)
                faults = look(house, client, chats, wanted, keys)
            except OakRelayError as error:
                faults = [str(error)]
        waits = [seconds for lines in chats.values() for seconds in answered_in(lines)]
        print(
            f"{given.people} people on the messenger and {given.people} on a page, {_EACH} messages each, in {wrote:.0f} s; all over after {time.monotonic() - began:.0f} s"
        )
        print(f"killed meanwhile: {dict(house.killed)}; unknown, and settled by a person: {unknown}")
        print(
            f"from a message to its answer on the messenger: p50 {statistics.median(waits):.2f} s, p95 {statistics.quantiles(waits, n=20)[-1]:.2f} s"
        )
        for fault in faults[:20]:
            print(f"✗ {fault}")
        print(
            "✗ both sides differ"
            if faults
            else "✓ every message was answered once and in order, and both sides hold the same"
        )
        return 1 if faults else 0
    finally:
        house.stop()
        shutil.rmtree(home, ignore_errors=True)


def look(
    house: House, client: Client, chats: dict[str, Any], wanted: dict[str, list[str]], keys: list[str]
) -> list[str]:
    faults: list[str] = []
    for chat, texts in wanted.items():
        ours = list(client.every(client.conversation, f"line {chat}"))
        told = [one["text"] for one in chats[chat] if one["side"] == "hut"]
        said = [str(one.message["content"]) for one in ours if one.role == "assistant" and one.state != "refused"]
        faults += compare([str(one.message["content"]) for one in ours if one.role == "user"], said, texts, chat)
        if said != told:
            faults.append(f"{chat}: the service holds {len(told)} answers, we hold {len(said)}")
        faults += [f"{chat}: {one.state}" for one in ours if one.state in ("waiting", "unknown")]
    for key in keys:
        lines = (
            httpx.get(f"{house.url}/talk/desk/messages?limit=1000", headers={"X-Visitor": key})
            .raise_for_status()
            .json()["items"]
        )
        heard = [one["text"] for one in lines if one["side"] == "them"]
        who = heard[0].split()[0]
        faults += compare(
            heard, [one["text"] for one in lines if one["side"] == "us"], [f"{who} says {i}" for i in range(_EACH)], who
        )
    return faults


def answered_in(lines: list[dict[str, Any]]) -> list[float]:
    """Seconds from each message of a chat to its answer."""
    at = {one["text"]: datetime.fromisoformat(one["at"]) for one in lines if one["side"] == "guest"}
    found = []
    for one in lines:
        if one["side"] == "hut":
            found += [
                (datetime.fromisoformat(one["at"]) - at[text]).total_seconds()
                for text in parts([one["text"]])
                if text in at
            ]
    return found


if __name__ == "__main__":
    sys.exit(main())
