"""Benchmarks, each beside something measured in the same run: steps, webhooks, latency, memory.

`python -m bench.run` starts a database and real processes with the service's default settings and
durable commits, and prints a table. `--short` does a tenth of the work, to see that it runs.
"""

import argparse
import asyncio
import contextlib
import json
import os
import re
import secrets
import shutil
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import asyncpg
import psutil
import uuid_utils.compat as uuids

from bench.load import Load
from oak_relay.client import Client
from oak_relay.document import values
from oak_relay.runtime.cluster import Cluster, _bin
from oak_relay.store import epoch, intake
from oak_relay.store.database import Database
from oak_relay.store.intake import NewRun
from oak_relay.vault.blanking import Blanker

STEPS = """
oak: 1
workflow: bench-steps
input: {type: object}
steps:
  - step: guest
    set: {email: "guest-${ input.n }@guests.example", nights: "${ input.n % 7 + 1 }"}
  - step: price
    set: {total: "${ guest.nights * 34 }", words: "${ guest.nights } nights"}
  - step: kept
    do: table.add
    with: {table: bench_rows, row: {guest: "${ guest.email }", total: "${ price.total }"}}
  - step: told
    set: {text: "Row ${ kept.id } for ${ guest.email }: ${ price.words }"}
  - step: logged
    do: table.add
    with: {table: bench_rows, row: {guest: "${ told.text }", total: 0}}
result: ${ told.text }
"""
HOOK = """
oak: 1
workflow: bench-hook
input: {type: object}
triggers:
  - trigger: site
    webhook: {path: bench}
steps:
  - step: seen
    set: {n: "${ input.n }"}
result: ${ seen.n }
"""
OUTSIDE = """
oak: 1
workflow: bench-outside
input: {type: object}
steps:
  - {step: asked, do: http.request, with: {url: "URL", query: {n: "${ input.n }"}}}
  - {step: told, do: http.request, with: {method: POST, url: "URL", json: {n: "${ input.n }", before: "${ asked.status }"}}}
  - {step: again, do: http.request, with: {url: "URL", query: {n: "${ told.status }"}}}
result: ${ again.status }
"""
REPEAT = """
oak: 1
workflow: bench-rounds
input: {type: object}
steps:
  - step: rounds
    repeat: {most: 6000, until: "${ n.n >= ROUNDS }"}
    steps:
      - {step: n, set: {n: "${ (last | default(0)) + 1 }"}}
      - {step: rest, when: "${ n.n >= ROUNDS }", wait: {event: bench.go}}
    gives: ${ n.n }
result: ${ rounds }
"""
PER_RUN, PER_OUTSIDE = 5, 3
_WARM = 250
"""Runs for each worker before those that are measured."""
_WAL = "SELECT (pg_current_wal_lsn() - '0/0'::pg_lsn)::bigint"
_READY = "SELECT count(*) FROM worker WHERE role = 'work'"


class Bench:
    """One database, and processes on it."""

    def __init__(self, home: Path, short: bool) -> None:
        self.home = home
        self.scale = 10 if short else 1
        self.cluster = Cluster(home)
        self.url = self.cluster.start()
        self.port = free_port()
        self.rows: list[tuple[str, str, str]] = []
        self.peaks: dict[str, float] = {}

    @contextlib.contextmanager
    def process(self, name: str, *command: str, **more: str) -> Iterator[subprocess.Popen[bytes]]:
        """A process, its peak memory noted (megabytes of resident set)."""
        environment = {**os.environ, "OAK_RELAY_DATABASE_URL": self.url, "OAK_RELAY_DATA_DIR": str(self.home),
                       "OAK_RELAY_PORT": str(self.port), "OAK_RELAY_HOST_RATE": "1000000", **more}  # fmt: skip
        started = subprocess.Popen([sys.executable, *command], env=environment, stderr=subprocess.DEVNULL)
        try:
            yield started
        finally:
            with contextlib.suppress(OSError, psutil.Error):
                peak = re.search(r"VmHWM:\s+(\d+)", Path(f"/proc/{started.pid}/status").read_text())
                if peak:
                    self.peaks[name] = max(self.peaks.get(name, 0), int(peak[1]) / 1024)
            started.send_signal(signal.SIGTERM)
            started.wait(30)

    def say(self, what: str, figure: str, ratio: str = "") -> None:
        self.rows.append((what, figure, ratio))
        print(f"  {what:<66}{figure:>22}  {ratio}", flush=True)

    def sql(self, statement: str, *given: Any) -> Any:
        async def ask() -> Any:
            connection = await asyncpg.connect(self.url)
            try:
                return await connection.fetchval(statement, *given)
            finally:
                await connection.close()

        return asyncio.run(ask())

    def server_cpu(self) -> dict[int, float]:
        """Seconds of CPU that each process of the database server has used."""
        found, pid = {}, int((self.cluster.data / "postmaster.pid").read_text().splitlines()[0])
        for child in psutil.Process(pid).children():
            with contextlib.suppress(psutil.Error):
                found[child.pid] = sum(child.cpu_times()[:2])
        return found

    def pgbench(self) -> float:
        """Durable single-row inserts a second with 8 clients."""
        self.sql("CREATE TABLE IF NOT EXISTS bench_insert (id bigserial PRIMARY KEY, body text)")
        script = self.home / "insert.sql"
        script.write_text("INSERT INTO bench_insert (body) VALUES (repeat('x', 200));\n")
        script.chmod(0o644)
        done = subprocess.run(
            [str(_bin() / "pgbench"), "-n", "-M", "prepared", "-c", "8", "-j", "2", "-T", str(max(1, 5 // self.scale)), "-f", str(script), self.url],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        found = re.search(r"tps = ([\d.]+)", done.stdout)
        assert found
        return float(found[1])


@dataclass(frozen=True)
class Pace:
    """How quickly steps were finished: their rate a second, pgbench's inserts before it, and what each cost: microseconds of
    CPU in workers and in the server, bytes of WAL."""

    rate: float
    inserts: float
    worker: float
    server: float
    wal: float

    @property
    def cost(self) -> str:
        return f"{self.worker:.0f} + {self.server:.0f} us CPU, {self.wal:.0f} B WAL a step"


def released(bench: Bench, client: Client, workflow: str, count: int, per_run: int, workers: int) -> Pace:
    """Runs that are let go at once to workers that wait for them and have walked some before: what is loaded with the first
    request of a process is not what is measured. pgbench is measured before, so that both meet the same mood of the machine."""
    inserts = bench.pgbench()
    before = bench.sql(_READY)
    with contextlib.ExitStack() as stack:
        working = [
            stack.enter_context(bench.process(f"worker {number + 1} of {workers}", "-m", "oak_relay.cli", "work"))
            for number in range(workers)
        ]
        while bench.sql(_READY) < before + workers:
            time.sleep(0.1)
        asyncio.run(taken_in(bench, workflow, _WARM * workers))
        drained(bench)
        asyncio.run(taken_in(bench, workflow, count, held=True))
        time.sleep(1)
        wal, cpu, server = bench.sql(_WAL), [spent(p.pid) for p in working], bench.server_cpu()
        client.hold(False)
        drained(bench)
        wal, now = bench.sql(_WAL) - wal, bench.server_cpu()
        used = sum(spent(p.pid) for p in working) - sum(cpu)
        # By the server's clock, from the first run's beginning to the last one's end: looking on costs nothing.
        took = bench.sql(
            "SELECT extract(epoch FROM max(ended_at) - min(started_at)) FROM "
            "(SELECT started_at, ended_at FROM run ORDER BY id DESC LIMIT $1) AS latest", count,
        )  # fmt: skip
    done = count * per_run
    served = sum(seconds - server.get(pid, 0.0) for pid, seconds in now.items())
    return Pace(done / float(took), inserts, used / done * 1e6, served / done * 1e6, wal / done)


def spent(pid: int) -> float:
    """Seconds of CPU of a process."""
    return sum(psutil.Process(pid).cpu_times()[:2])


def middle(paces: list[Pace]) -> Pace:
    return sorted(paces, key=lambda pace: pace.rate / pace.inserts)[len(paces) // 2]


def steps(bench: Bench, client: Client, workers: int) -> None:
    """Runs of five `set`/`table.add` steps, the median of three times."""
    count = 2000 // bench.scale
    pace = middle([released(bench, client, "bench-steps", count, PER_RUN, workers) for _ in range(3)])
    name = f"steps finished a second, {workers} worker{'s' if workers > 1 else ''} (3 times {count} runs)"
    bench.say(
        name, f"{pace.rate:,.0f}/s", f"{pace.rate / pace.inserts:.2f} of pgbench ({pace.inserts:,.0f}/s); {pace.cost}"
    )
    bad = bench.sql("SELECT count(*) FROM run WHERE state IS DISTINCT FROM 'succeeded'")
    assert not bad, f"{bad} runs did not succeed"


def outside(bench: Bench, client: Client) -> None:
    """Runs of three HTTP requests to an endpoint that answers at once."""
    port, count = free_port(), 1000 // bench.scale
    command = ("-m", "uvicorn", "bench.bare:echo", "--port", str(port), "--loop", "uvloop", "--http", "httptools", "--no-access-log",
               "--log-level", "warning")  # fmt: skip
    with bench.process("endpoint outside", *command):
        asyncio.run(until_open(port))
        client.on(client.save(OUTSIDE.replace("URL", f"http://127.0.0.1:{port}/")).workflow)
        pace = middle([released(bench, client, "bench-outside", count, PER_OUTSIDE, 2) for _ in range(3)])
    bench.say(
        f"HTTP steps finished a second, 2 workers (3 times {count} runs of {PER_OUTSIDE})",
        f"{pace.rate:,.0f}/s",
        f"{pace.rate / pace.inserts:.2f} of pgbench; {pace.cost}",
    )
    blanking(bench, client, pace)


def blanking(bench: Bench, client: Client, pace: Pace) -> None:
    """What looking for 200 stored secrets costs an HTTP step, of what all of it costs its worker."""
    found = [f"{number:04d}-{secrets.token_urlsafe(24)}" for number in range(200)]
    blanker = Blanker(found)
    [run] = client.runs(workflow="bench-outside", limit=1)
    texts = [values.dumps(entry.detail) for entry in client.journal(run.id) if entry.detail]
    times = []
    for _ in range(200):
        began = time.perf_counter()
        for text in texts:
            blanker.json(text)
        times.append(time.perf_counter() - began)
    each = statistics.median(times) / len(texts) * 1e6
    per_step = each * len(texts) / PER_OUTSIDE
    size = sum(map(len, texts)) / len(texts)
    bench.say(
        f"blanking of 200 secrets, an entry of {size:,.0f} letters", f"{each:.0f} us",
        f"{per_step / pace.worker:.3f} of the {pace.worker:.0f} us that an HTTP step costs a worker",
    )  # fmt: skip


def filling(bench: Bench, client: Client) -> None:
    """The same short runs out of a queue of 20,000 and of 90,000, two workers, in turn."""
    few, many = 20_000 // bench.scale, 90_000 // bench.scale
    rates = {count: released(bench, client, "bench-hook", count, 1, 2).rate for count in (few, many)}
    bench.say(
        f"runs out of a queue of {many:,} and of {few:,}, 2 workers",
        f"{rates[many]:,.0f}/s",
        f"{rates[many] / rates[few]:.2f} of {rates[few]:,.0f}/s",
    )


def rounds(bench: Bench, client: Client) -> None:
    """A `repeat` that rests after thousands of rounds: from the event it waits for to the run's end."""
    count = 5000 // bench.scale
    client.on(client.save(REPEAT.replace("ROUNDS", str(count))).workflow)
    with (
        bench.process("worker of rounds", "-m", "oak_relay.cli", "work"),
        bench.process("clock", "-m", "oak_relay.cli", "tick"),
    ):
        run = client.start("bench-rounds", {})
        while client.run(run.id).run.state != "waiting":
            time.sleep(0.1)
        began = time.monotonic()
        client.publish({"id": "go", "source": "/bench", "type": "bench.go", "data": {}})
        done = run.wait(60)
        took = time.monotonic() - began
    assert done.state == "succeeded", done.error
    bench.say(f"a repeat at rest after {count:,} rounds, from its event to its end", f"{took * 1000:,.0f} ms")


async def taken_in(
    bench: Bench, workflow: str, count: int, held: bool = False, subject: str | None = None, seconds: float = 0.0
) -> None:
    """Runs in the queue, by the intake's own statement; `held` until they are let go, or evenly over a time in seconds. Each is about
    a subject of its own, where that is given a name."""
    database = Database(bench.url)
    connection = await database.connect_directly()
    row = await connection.fetchrow(
        "SELECT v.id, v.workflow_id, v.revision FROM workflow w JOIN version v ON v.workflow_id = w.id "
        "AND v.number = w.on_version WHERE w.name = $1", workflow,
    )  # fmt: skip

    def run(n: int) -> NewRun:
        return NewRun(
            uuids.uuid7(), uuids.uuid7(), None, row["workflow_id"], row["id"], row["revision"], "bench", "/bench", "oak.start",
            f"bench {n}", False, f'{{"n":{n}}}', '{"headers":{},"query":{}}',
            subject and f"{subject} {n}", "queue" if subject else "free",
        )  # fmt: skip

    began = time.monotonic()
    for n in range(count if seconds else 0):
        await asyncio.sleep(max(0.0, began + n * seconds / count - time.monotonic()))
        await intake.accept(connection, 1, [run(n)])
        await connection.execute("SELECT pg_notify('oak_relay', 'queue')")  # as the service tells workers
    async with connection.transaction():  # seen all at once, and held by then
        for first in range(0, 0 if seconds else count, 1000):
            await intake.accept(connection, 1, [run(n) for n in range(first, min(count, first + 1000))])
        if held:
            await epoch.hold(connection, 1)
    await connection.close()
    await database.close()


async def webhooks(bench: Bench) -> None:
    """Webhooks accepted a second, beside a bare endpoint that inserts one row and commits; several times in turn."""
    count = 6000 // bench.scale
    bodies = [json.dumps({"n": n, "message": "x" * 150}).encode() for n in range(count)]
    ours, bare = [], []
    port = free_port()
    with bench.process(
        "bare endpoint",
        "-m",
        "uvicorn",
        "bench.bare:app",
        "--port",
        str(port),
        "--loop",
        "uvloop",
        "--http",
        "httptools",
        "--log-level",
        "warning",
        "--no-access-log",
    ):
        await until_open(port)
        for _ in range(3):
            bare.append(await Load("127.0.0.1", port, 32).post("/bare", bodies, {}))
            ours.append(await Load("127.0.0.1", bench.port, 32).post("/hooks/bench", bodies, {}))
    one, other = statistics.median(r.rate for r in ours), statistics.median(r.rate for r in bare)
    bench.say("bare endpoint, insert and commit, 32 connections", f"{other:,.0f}/s")
    bench.say(
        "webhooks accepted, 32 connections (median of 3 in turn)",
        f"{one:,.0f}/s",
        f"{one / other:.2f} of the bare endpoint",
    )
    middle = sorted(ours, key=lambda r: r.rate)[1]
    bench.say("webhook latency p50 / p99", f"{middle.p(50):.1f} / {middle.p(99):.1f} ms")
    bare_middle = sorted(bare, key=lambda r: r.rate)[1]
    bench.say("bare endpoint latency p50 / p99", f"{bare_middle.p(50):.1f} / {bare_middle.p(99):.1f} ms")


def requests(bench: Bench, client: Client, service: int) -> None:
    """CPU of the service for a request by the API, one after the other: a run begun, one shown, and the latest listed."""
    bench.sql("ANALYZE")  # as the server does by itself within a minute
    begun = client.start("bench-hook", {"n": 0})
    for what, ask in (
        ("begins a run", lambda: client.start("bench-hook", {"n": 1})),
        ("shows a run", lambda: client.run(begun.id)),
        ("lists runs", lambda: client.runs(limit=20)),
    ):
        count, before, began = 400 // bench.scale, spent(service), time.monotonic()
        for _ in range(count):
            ask()
        took = (time.monotonic() - began) / count * 1000
        cost = (spent(service) - before) / count * 1000
        bench.say(f"a request that {what}", f"{took:.1f} ms", f"{cost:.1f} ms of the service's CPU")


async def idle_latency(bench: Bench) -> None:
    """From an event's commit to its first step's record, one at a time."""
    count = 200 // bench.scale
    load = Load("127.0.0.1", bench.port, 1)
    for n in range(count):
        await load.post("/hooks/bench", [json.dumps({"n": n}).encode()], {})
        await asyncio.sleep(0.03)
    connection = await asyncpg.connect(bench.url)
    rows = await connection.fetch(
        "SELECT extract(epoch FROM j.at - e.at) * 1000 AS ms FROM event e JOIN run r ON r.event_id = e.id "
        "JOIN entry j ON j.run_id = r.id AND j.seq = 0 ORDER BY e.id DESC LIMIT $1", count,
    )  # fmt: skip
    await connection.close()
    found = sorted(float(row["ms"]) for row in rows)
    bench.say(
        "idle, event to first step p50 / p99", f"{found[len(found) // 2]:.1f} / {found[int(len(found) * 0.99)]:.1f} ms"
    )


async def until_open(port: int) -> None:
    for _ in range(300):
        try:
            _, writer = await asyncio.open_connection("127.0.0.1", port)
        except OSError:
            await asyncio.sleep(0.05)
            continue
        writer.close()
        return
    raise RuntimeError(f"nothing listens on {port}")


def drained(bench: Bench) -> None:
    while bench.sql("SELECT count(*) FROM queue"):
        time.sleep(0.3)


def postgres_peak(bench: Bench, stop: threading.Event) -> None:
    """Watch the server's memory: proportional set, so that shared buffers count once."""
    while not stop.wait(1.0):
        total = 0.0
        pid = int((bench.cluster.data / "postmaster.pid").read_text().splitlines()[0])
        with contextlib.suppress(psutil.Error, OSError):
            for process in [psutil.Process(pid), *psutil.Process(pid).children()]:
                with contextlib.suppress(psutil.Error, OSError):
                    total += process.memory_full_info().pss / 2**20
        bench.peaks["PostgreSQL, all processes"] = max(bench.peaks.get("PostgreSQL, all processes", 0), total)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--short", action="store_true")
    given = parser.parse_args()
    home = Path(tempfile.mkdtemp(prefix="oak-bench-"))
    home.chmod(0o711)
    bench = Bench(home, given.short)
    stop = threading.Event()
    watcher = threading.Thread(target=postgres_peak, args=(bench, stop), daemon=True)
    watcher.start()
    try:
        with bench.process(
            "service", "-m", "oak_relay.cli", "serve", OAK_RELAY_FIRST_PASSWORD=secrets.token_urlsafe(9)
        ) as service:
            asyncio.run(until_open(bench.port))
            client = Client(f"http://127.0.0.1:{bench.port}", (home / "cli.token").read_text().strip())
            client.create_table("bench_rows", {"guest": "text", "total": "number"})
            for text in (STEPS, HOOK):
                client.on(client.save(text).workflow)
            for workers in (1, 2):
                steps(bench, client, workers)
            outside(bench, client)
            filling(bench, client)
            rounds(bench, client)
            asyncio.run(webhooks(bench))
            requests(bench, client, service.pid)
            with bench.process("worker 1 of 1", "-m", "oak_relay.cli", "work"):
                drained(bench)
                asyncio.run(idle_latency(bench))
        for name, peak in sorted(bench.peaks.items()):
            bench.say(f"peak memory, {name}", f"{peak:,.0f} MB")
    finally:
        stop.set()
        watcher.join()
        bench.cluster.stop("immediate")
        shutil.rmtree(home, ignore_errors=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
