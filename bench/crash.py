"""A crash test with real processes: workers and clocks killed and frozen at random, the database restarted at once or
refusing everybody, runs held and released and cancelled in the middle of their calls.

`python -m bench.crash --minutes 10` starts a database, a service, four workers, two clocks and a small outside world
that counts what it is asked, sends events of several workflows, breaks things meanwhile, waits until all is over, and
prints figures. It exits 0 only if every accepted event has exactly one run, all runs end as they should (cancelled only
those that were asked to), none is stranded or stuck, no recorded effect was made twice, and no unsafe call was repeated
unasked.
"""

import argparse
import asyncio
import contextlib
import json
import os
import random
import secrets
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import asyncpg
import httpx

from bench.run import free_port
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.runtime.cluster import Cluster

WORKFLOWS = {
    "calls": """
oak: 1
workflow: calls
input: {type: object}
triggers: [{trigger: t, webhook: {path: calls}}]
steps:
  - {step: kept, do: table.add, with: {table: crash_rows, row: {n: "${ input.n }", what: one}}}
  - {step: keyed, do: http.request, with: {method: POST, url: "OUTSIDE/keyed", repeat: keyed, json: {n: "${ input.n }"}}, retry: {tries: 20, wait: 100ms, most: 2s}}
  - {step: nap, wait: 200ms}
  - {step: unsafe, do: http.request, unknown: ask, timeout: 3s, with: {method: POST, url: "OUTSIDE/unsafe", json: {n: "${ input.n }"}}, retry: {tries: 20, wait: 100ms, most: 2s}}
  - {step: row, do: table.upsert, with: {table: crash_sums, match: [n], row: {n: "${ input.n }", got: "${ keyed.body.n }"}}}
result: ${ row.row.got }
""",
    "family": """
oak: 1
workflow: family
input: {type: object}
triggers: [{trigger: t, webhook: {path: family}}]
steps:
  - step: both
    together:
      one: {steps: [{step: c, run: child, with: {n: "${ input.n }"}}], gives: "${ c }"}
      two: {steps: [{step: e, emit: {type: crash.told, data: {n: "${ input.n }"}}}, {step: w, wait: {event: crash.told, where: "${ arrived.data.n == input.n }", within: 1h}}], gives: "${ w.data.n }"}
  - step: each
    each: ${ [1, 2, 3] }
    as: i
    width: 3
    steps: [{step: k, do: table.add, with: {table: crash_rows, row: {n: "${ input.n }", what: "item ${ i }"}}}]
    gives: ${ i }
result: ${ [both.one, both.two, each] }
""",
    "child": """
oak: 1
workflow: child
input: {type: object}
steps:
  - {step: called, do: http.request, with: {method: POST, url: "OUTSIDE/keyed", repeat: keyed, json: {n: "${ input.n }"}}, retry: {tries: 20, wait: 100ms, most: 2s}}
result: ${ called.body.n }
""",
    "timed": """
oak: 1
workflow: timed
input: {type: object}
triggers: [{trigger: t, webhook: {path: timed}}]
steps:
  - step: both
    timeout: 200ms
    on_error: go_on
    together:
      one: {steps: [{step: letter, do: http.request, timeout: 3s, with: {method: POST, url: "OUTSIDE/unsafe", json: {n: "${ input.n }"}}, retry: {tries: 20, wait: 100ms, most: 2s}}], gives: "${ letter.status }"}
      two: {steps: [{step: nap, wait: 20ms}, {step: odd, when: "${ input.n % 3 == 0 }", fail: "it does not work"}]}
  - {step: kept, do: table.add, with: {table: crash_rows, row: {n: "${ input.n }", what: timed}}}
result: ${ input.n }
""",
    "ordered": """
oak: 1
workflow: ordered
input: {type: object}
triggers: [{trigger: t, webhook: {path: ordered}}]
subject: "guest ${ input.n % 40 }"
steps:
  - {step: kept, do: table.add, with: {table: crash_order, row: {guest: "${ input.n % 40 }", n: "${ input.n }"}}}
result: ${ input.n }
""",
}  # fmt: skip


def outside(port: int) -> None:
    """Counts calls by their key, slow enough that kills meet them; replies before and after kills look alike."""
    import uvicorn
    from fastapi import FastAPI, Request
    from starlette.requests import ClientDisconnect

    app, counts = FastAPI(), {"keyed": Counter[str](), "unsafe": Counter[str]()}

    @app.get("/counts")
    async def shown() -> dict[str, dict[str, int]]:
        return {name: dict(count) for name, count in counts.items()}

    @app.post("/{kind}")
    async def called(kind: str, request: Request) -> Any:
        try:
            body = await request.json()
        except ClientDisconnect:
            return None  # who called was killed before it had said what it wanted
        counts[kind][request.headers["idempotency-key"]] += 1
        await asyncio.sleep(random.uniform(0.05, 0.4))
        return body

    uvicorn.run(app, host="127.0.0.1", port=port, log_level="error")


class Crash:
    """The processes, and what is done to them."""

    def __init__(self, home: Path, workers: int, clocks: int) -> None:
        self.home, self.cluster = home, Cluster(home)
        self.url = self.cluster.start()
        self.port, self.outside = free_port(), free_port()
        self.environment = {**os.environ, "OAK_RELAY_DATABASE_URL": self.url, "OAK_RELAY_DATA_DIR": str(home),
                            "OAK_RELAY_PORT": str(self.port), "OAK_RELAY_LEASE": "3", "OAK_RELAY_FIRST_PASSWORD": secrets.token_urlsafe(9)}  # fmt: skip
        self.log = (home / "crash.log").open("ab")
        self.world = subprocess.Popen([sys.executable, "-m", "bench.crash", "--outside", str(self.outside)])
        self.service = self.start("serve")
        self.running = [self.start("work") for _ in range(workers)] + [self.start("tick") for _ in range(clocks)]
        self.roles = ["work"] * workers + ["tick"] * clocks
        self.did: Counter[str] = Counter()
        self.cancelled: set[str] = set()
        self.client: Client | None = None

    def start(self, role: str) -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [sys.executable, "-m", "oak_relay.cli", role], env=self.environment, stderr=self.log, stdout=self.log
        )

    def break_something(self) -> None:
        """A random process is killed or frozen; the database restarts without a word or refuses everybody; runs are held
        and released, or some of them cancelled."""
        kinds = {"kill": 10, "freeze": 4, "database": 1, "refuse": 1, "hold": 3, "cancel": 4}
        kind = random.choices(list(kinds), list(kinds.values()))[0]
        self.replace_the_dead()
        place = random.randrange(len(self.running))
        self.did[f"{kind} {self.roles[place] if kind in ('kill', 'freeze') else ''}".strip()] += 1
        if kind in ("hold", "cancel", "refuse"):
            with contextlib.suppress(OakRelayError):
                getattr(self, f"_{kind}")()
            return
        if kind == "kill":
            self.running[place].kill()
            self.running[place].wait()
            self.running[place] = self.start(self.roles[place])
        elif kind == "freeze":
            self.running[place].send_signal(signal.SIGSTOP)
            time.sleep(random.uniform(0.5, 5.0))
            self.running[place].send_signal(signal.SIGCONT)
        else:
            data = self.cluster.data
            self.cluster._tool(
                "pg_ctl", "-D", str(data), "-m", "immediate", "-w", "-l", str(data / "server.log"), "restart"
            )

    def replace_the_dead(self) -> None:
        """A frozen process ends itself when it wakes and finds its lease over; somebody puts another in its place."""
        for place, process in enumerate(self.running):
            if process.poll() is not None:
                self.did[f"replaced {self.roles[place]}"] += 1
                self.running[place] = self.start(self.roles[place])

    def _hold(self) -> None:
        assert self.client is not None
        self.client.hold()
        time.sleep(random.uniform(0.0, 0.5))
        while True:
            with contextlib.suppress(OakRelayError):
                self.client.hold(False)
                return
            time.sleep(0.2)

    def _cancel(self) -> None:
        """Some of the runs that are just at work."""
        assert self.client is not None
        for run in self.client.runs(state="running", limit=50):
            if random.random() < 0.1 and run.kind == "run":
                self.cancelled.add(str(run.id))
                self.client.cancel(run.id)

    def _refuse(self) -> None:
        """For longer than a lease at times."""
        admin = self.url.rsplit("/", 1)[0] + "/postgres"
        name = self.url.rsplit("/", 1)[1]

        async def asked(*statements: str) -> None:
            connection = await asyncpg.connect(admin, timeout=10)
            try:
                for statement in statements:
                    await connection.execute(statement)
            finally:
                await connection.close()

        off = f"SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = '{name}'"
        try:
            asyncio.run(asked(f"ALTER DATABASE {name} ALLOW_CONNECTIONS false", off))
            time.sleep(random.uniform(0.5, 5.0))
        except (OSError, asyncpg.PostgresError):
            pass
        finally:
            self._until_it_can(lambda: asyncio.run(asked(f"ALTER DATABASE {name} ALLOW_CONNECTIONS true")))

    def _until_it_can(self, do: Callable[[], object]) -> None:
        """Do what the database may refuse for a while, as it does just after it was killed."""
        until = time.monotonic() + 60
        while True:
            try:
                do()
                return
            except (OSError, TimeoutError, asyncpg.PostgresError, asyncpg.InterfaceError):
                if time.monotonic() > until:
                    raise
                time.sleep(0.2)

    def sql(self, statement: str) -> list[Any]:
        async def ask() -> list[Any]:
            connection = await asyncpg.connect(self.url, timeout=10)
            try:
                return await connection.fetch(statement)
            finally:
                await connection.close()

        while True:
            with contextlib.suppress(OSError, asyncpg.PostgresError):
                return asyncio.run(ask())
            time.sleep(0.3)

    def stop(self) -> None:
        for process in (*self.running, self.service, self.world):
            with contextlib.suppress(OSError):
                process.send_signal(signal.SIGCONT)
                process.kill()
                process.wait(20)
        self.cluster.stop("immediate")


def send(crash: Crash, count: int, minutes: float) -> set[tuple[str, int]]:
    """Events, each until it is accepted; things are broken meanwhile. Returns what was accepted."""
    accepted: set[tuple[str, int]] = set()
    begun, next_break = time.monotonic(), time.monotonic() + 3
    with httpx.Client(base_url=f"http://127.0.0.1:{crash.port}", timeout=30, trust_env=False) as http:
        for n in range(count):
            path = ("calls", "family", "ordered", "timed")[n % 4]
            while (path, n) not in accepted:
                try:
                    reply = http.post(f"/hooks/{path}", json={"n": n}, headers={"webhook-id": f"{path}-{n}"})
                    if reply.status_code == 202:
                        accepted.add((path, n))
                    else:
                        time.sleep(0.2)
                except httpx.TransportError:
                    time.sleep(0.2)
                if time.monotonic() > next_break:
                    crash.break_something()
                    next_break = time.monotonic() + random.uniform(1, 6)
            pace = begun + minutes * 60 * (n + 1) / count - time.monotonic()
            if pace > 0:
                time.sleep(min(pace, 0.5))
    return accepted


def settle(crash: Crash, client: Client, seconds: float) -> None:
    """Let everything end; questions about unknown outcomes are answered as a careful person would."""
    deadline = time.monotonic() + seconds
    while crash.sql("SELECT 1 FROM queue LIMIT 1") and time.monotonic() < deadline:
        counts = httpx.get(f"http://127.0.0.1:{crash.outside}/counts").json()["unsafe"]
        crash.replace_the_dead()
        with contextlib.suppress(Exception):
            for question in client.tray():
                happened = counts.get(f"{question.run_id}:{question.path.partition('#')[0]}", 0)
                client.answer(question.id, "it happened" if happened else "try again")
                crash.did["asked a person"] += 1
        time.sleep(0.5)


def verdict(crash: Crash, accepted: set[tuple[str, int]]) -> list[tuple[str, bool, str]]:
    """What must hold, whether it does, and the figure."""
    counts = httpx.get(f"http://127.0.0.1:{crash.outside}/counts").json()
    runs = crash.sql(
        "SELECT r.id::text AS id, w.name, r.state, r.error FROM run r JOIN workflow w ON w.id = r.workflow_id WHERE r.kind = 'run'"
    )
    states = Counter(r["state"] for r in runs)
    asked = Counter(r["state"] for r in runs if r["id"] in crash.cancelled)
    unasked = [r for r in runs if r["state"] != "succeeded" and r["id"] not in crash.cancelled]
    left = crash.sql("SELECT count(*) AS c FROM queue")[0]["c"]
    keys = Counter(r["event_key"] for r in crash.sql("SELECT event_key FROM event WHERE type = 'webhook'"))
    twice = crash.sql(
        "SELECT run_id, path FROM entry WHERE kind = 'ended' AND body LIKE '{\"output\"%' GROUP BY 1, 2 HAVING count(*) > 1"
    )
    rows = crash.sql("SELECT data->>'n' AS n, data->>'what' AS what, count(*) AS c FROM table_row t JOIN table_def d ON d.id = t.table_id "
                     "WHERE d.name = 'crash_rows' GROUP BY 1, 2 HAVING count(*) > 1")  # fmt: skip
    order = crash.sql("SELECT data->>'guest' AS guest, (data->>'n')::int AS n FROM table_row t JOIN table_def d ON d.id = t.table_id "
                      "WHERE d.name = 'crash_order' ORDER BY t.id")  # fmt: skip
    wrong = sum(
        1
        for guest in {r["guest"] for r in order}
        if (ns := [r["n"] for r in order if r["guest"] == guest]) != sorted(ns)
    )
    lost = crash.sql("SELECT count(*) AS c FROM entry WHERE kind = 'lost'")[0]["c"]
    unsafe, keyed = counts["unsafe"], counts["keyed"]
    missing = {f"{path}-{n}" for path, n in accepted} - set(keys)
    return [
        ("events accepted, each with exactly one run", not missing and set(keys.values()) <= {1} and len(keys) == len(accepted), f"{len(accepted):,}"),
        ("all runs succeeded that were not cancelled", not unasked, str(dict(states))),
        ("runs that were cancelled, and how they ended", set(asked) <= {"succeeded", "cancelled"}, str(dict(asked))),
        ("runs stranded or stuck", left == 0, str(left)),
        ("recorded outcomes made twice", not twice, str(len(twice))),
        ("local rows made twice", not rows, str(len(rows))),
        ("subjects whose order was lost", wrong == 0, str(wrong)),
        ("unsafe calls made more than once", max(unsafe.values(), default=0) <= 1, str(sum(c > 1 for c in unsafe.values()))),
        ("keyed calls made again, each lost call shown", sum(c - 1 for c in keyed.values()) <= lost, f"{sum(c - 1 for c in keyed.values())} of {lost} lost calls"),
    ]  # fmt: skip


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=10)
    parser.add_argument("--events", type=int, default=20_000)
    parser.add_argument("--workers", type=int, default=4)
    parser.add_argument("--clocks", type=int, default=2)
    parser.add_argument("--seed", type=int)
    parser.add_argument("--outside", type=int, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.outside:
        outside(given.outside)
        return 0
    random.seed(given.seed)
    home = Path(tempfile.mkdtemp(prefix="oak-crash-"))
    home.chmod(0o711)
    crash = Crash(home, given.workers, given.clocks)
    try:
        client = Client(f"http://127.0.0.1:{crash.port}", "")
        while True:
            with contextlib.suppress(Exception):
                client = Client(f"http://127.0.0.1:{crash.port}", (home / "cli.token").read_text().strip())
                client.workflows()
                httpx.get(f"http://127.0.0.1:{crash.outside}/counts").raise_for_status()
                break
            time.sleep(0.1)
        for table, columns in (
            ("crash_rows", {"n": "number", "what": "text"}),
            ("crash_sums", {"n": "number", "got": "number"}),
            ("crash_order", {"guest": "any", "n": "number"}),
        ):
            client.create_table(table, columns)
        for text in WORKFLOWS.values():
            client.on(client.save(text.replace("OUTSIDE", f"http://127.0.0.1:{crash.outside}")).workflow)
        crash.client = client
        began = time.monotonic()
        accepted = send(crash, given.events, given.minutes)
        settle(crash, client, 300)
        found = verdict(crash, accepted)
        print(
            f"{time.monotonic() - began:.0f} s; {', '.join(f'{what} {n} times' for what, n in sorted(crash.did.items()))}"
        )
        for what, well, figure in found:
            print(f"  {'ok ' if well else 'BAD'}  {what:<48} {figure}", flush=True)
        if not all(well for _, well, _ in found):
            print(
                json.dumps(
                    [
                        dict(r)
                        for r in crash.sql(
                            "SELECT id::text, state, error FROM run WHERE state NOT IN ('succeeded', 'cancelled') LIMIT 5"
                        )
                    ],
                    indent=1,
                )
            )
            shutil.copy(home / "crash.log", "/tmp/crash.log")
        return 0 if all(well for _, well, _ in found) else 1
    finally:
        crash.stop()
        shutil.rmtree(home, ignore_errors=True)


if __name__ == "__main__":
    sys.exit(main())
