"""Large numbers: schedules in one minute, runs at rest, long lists, a long history. Real processes, durable commits.

`python -m bench.scale [--part schedules|resting|list|history] [--share 0.1]` prints a figure a line; `--share` does less.
"""

import argparse
import asyncio
import json
import secrets
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import httpx
import psutil

from bench.run import Bench, until_open
from oak_relay.client import Client

REST = """
oak: 1
workflow: bench-rest
input: {type: object}
steps:
  - {step: nap, wait: "${ input.until }"}
  - {step: after, set: {n: "${ input.n }"}}
result: ${ after.n }
"""
LIST = """
oak: 1
workflow: bench-list
input: {type: object}
steps:
  - step: items
    each: ${ input.items }
    as: n
    width: 64
    steps:
      - {step: kept, do: table.add, with: {table: bench_rows, row: {guest: "guest-${ n }", total: "${ n }"}}}
      - {step: told, set: {text: "row of ${ n }"}}
    gives: ${ told.text }
result: ${ items | length }
"""


def resident(*processes: subprocess.Popen[bytes]) -> list[float]:
    """Resident memory now, in megabytes."""
    return [psutil.Process(p.pid).memory_info().rss / 2**20 for p in processes]


def schedules(bench: Bench, client: Client, share: float) -> None:
    """Schedules that all fire at the beginning of the same minute, on two clocks."""
    count, workflows = int(10_000 * share), 20
    moment = time.time() // 60 * 60 + 60
    if moment - time.time() < 45 * share + 10:
        moment += 60
    minute = time.gmtime(moment).tm_min
    for number in range(workflows):
        triggers = "\n".join(
            f'  - {{trigger: t{n}, schedule: {{cron: "{minute} * * * *"}}}}' for n in range(count // workflows)
        )
        text = f"oak: 1\nworkflow: bench-clock-{number}\ntriggers:\n{triggers}\nsteps:\n  - {{step: a, set: {{v: 1}}}}\nresult: ${{ a.v }}\n"
        client.on(client.save(text).workflow)
    late = time.time() > moment
    with (
        bench.process("clock 1", "-m", "oak_relay.cli", "tick"),
        bench.process("clock 2", "-m", "oak_relay.cli", "tick"),
    ):
        while bench.sql("SELECT count(*) FROM event WHERE type = 'oak.time'") < count:
            time.sleep(0.5)
    twice = bench.sql("SELECT count(*) - count(DISTINCT (trigger_id, event_key)) FROM event WHERE type = 'oak.time'")
    found = bench.sql(
        "SELECT array_agg(l) FROM (SELECT unnest(percentile_cont(ARRAY[0.5, 0.99, 1.0]) WITHIN GROUP (ORDER BY "
        "extract(epoch FROM at - event_key::timestamptz)::float8)) AS l FROM event WHERE type = 'oak.time') AS p"
    )
    note = "made late by this benchmark itself" if late else f"{twice} twice"
    bench.say(
        f"{count:,} schedules in one minute on two clocks, lateness p50 / p99 / last",
        " / ".join(f"{v:.2f}" for v in found) + " s",
        note,
    )
    for number in range(workflows):
        client.off(f"bench-clock-{number}")
    bench.sql("DELETE FROM queue")


def resting(bench: Bench, client: Client, share: float, service: subprocess.Popen[bytes]) -> None:
    """Runs at rest cost rows, not memory; and how fast those that fall due together finish."""
    client.on(client.save(REST).workflow)
    count, due = int(100_000 * share), int(10_000 * share)
    with bench.process("worker of resting runs", "-m", "oak_relay.cli", "work") as worker:
        run = client.start("bench-rest", {"n": 0, "until": "1ms"})
        run.wait()
        before = resident(service, worker)
        version, workflow = bench.sql("SELECT ROW(version_id::text, workflow_id::text) FROM run WHERE id = $1", run.id)
        moment = int(time.time() + 30 + 150 * share)
        until = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(moment))
        fill(
            bench, workflow, version, [json.dumps({"n": n, "until": until if n < due else "30d"}) for n in range(count)]
        )
        while bench.sql("SELECT count(*) FROM queue WHERE worker_id IS NOT NULL OR ready_at <= now()"):
            time.sleep(0.5)
        after = resident(service, worker)
        bench.say(
            f"{count:,} runs at rest: service and worker before, after",
            f"{before[0]:.0f}, {before[1]:.0f} → {after[0]:.0f}, {after[1]:.0f} MB",
        )
        note = "" if time.time() < moment else "filling took until after the moment"
        time.sleep(max(0.0, moment - time.time()))
        began = time.time()
        while (
            bench.sql("SELECT count(*) FROM run WHERE state = 'succeeded' AND version_id::text = $1", version) < due + 1
        ):
            time.sleep(0.2)
        bench.say(
            f"{due:,} of them due in the same second: until all have finished", f"{time.time() - began:.1f} s", note
        )
    bench.sql("DELETE FROM queue")


def fill(bench: Bench, workflow: str, version: str, bodies: list[str]) -> None:
    """Runs in the queue without going through the API."""
    step = 5000
    for first in range(0, len(bodies), step):
        bench.sql(
            "WITH given AS (SELECT b, row_number() OVER () AS n FROM unnest($3::text[]) AS b), ids AS (SELECT b, "
            "(lpad(to_hex((extract(epoch FROM clock_timestamp()) * 1000)::bigint), 12, '0') || '7' || substr(md5(random()::text), 1, 3) || '8' || "
            "substr(md5(random()::text), 1, 15))::uuid AS id FROM given), e AS (INSERT INTO event (workspace_id, id, event_key, source, type, body, meta) "
            "SELECT 1, id, id::text, '/bench', 'oak.start', b, '{\"headers\":{},\"query\":{}}' FROM ids), "
            "r AS (INSERT INTO run (workspace_id, id, workflow_id, version_id, event_id, trigger_name) SELECT 1, id, $1::uuid, $2::uuid, id, 'bench' FROM ids) "
            "INSERT INTO queue (workspace_id, run_id, workflow_id, revision) SELECT 1, id, $1::uuid, 1 FROM ids",
            workflow, version, bodies[first : first + step],
        )  # fmt: skip


def long_list(bench: Bench, client: Client, share: float) -> None:
    """One run over a long list, on two workers."""
    client.on(client.save(LIST).workflow)
    count = int(20_000 * share)
    with (
        bench.process("worker 1 of the list", "-m", "oak_relay.cli", "work") as one,
        bench.process("worker 2 of the list", "-m", "oak_relay.cli", "work") as two,
    ):
        while bench.sql("SELECT count(*) FROM worker WHERE dead_at IS NULL AND lease_until > now()") < 2:
            time.sleep(0.1)
        run = client.start("bench-list", {"items": list(range(count))})
        done = run.wait(600)
        assert done.state == "succeeded", done.error
        peaks = resident(one, two)
    bench.say(
        f"each over {count:,} items on two workers",
        f"{count / done.seconds:,.0f} items/s",
        f"{2 * count / done.seconds:,.0f} steps/s; {max(peaks):.0f} MB",
    )


def history(bench: Bench, client: Client, share: float) -> None:
    """A long history: pages at the API, each asked for 60 times."""
    count = int(1_000_000 * share)
    client.save(REST.replace("bench-rest", "bench-history"))
    workflow, version = bench.sql("SELECT ROW(workflow_id::text, id::text) FROM version ORDER BY id DESC LIMIT 1")
    step = 50_000
    for first in range(0, count, step):
        bench.sql(
            "WITH ids AS (SELECT n, (lpad(to_hex((extract(epoch FROM now()) * 1000)::bigint - 86400000 + n), 12, '0') || '7000' || '8000' || "
            "lpad(to_hex(n), 12, '0'))::uuid AS id, now() - interval '1 day' + n * interval '1 ms' AS at FROM generate_series($3::int, $3::int + $4::int - 1) AS n), "
            "e AS (INSERT INTO event (workspace_id, id, event_key, source, type, body, meta, at) SELECT 1, id, n::text, '/bench', 'bench', '{}', '{\"headers\":{},\"query\":{}}', at FROM ids), "
            "j AS (INSERT INTO journal (workspace_id, run_id, page, generation, at, count, outcomes, entries) "
            "SELECT 1, id, 0, 1, at, 1, 1, '[[\"a\",\"value\",0,\"\",null,null,1]]' FROM ids), "
            "f AS (INSERT INTO failure (workspace_id, run_id, state, error_kind) SELECT 1, id, 'failed', 'timeout' FROM ids WHERE n % 50 = 0) "
            "INSERT INTO run (workspace_id, id, workflow_id, version_id, event_id, trigger_name, state, subject, error, created_at, started_at, ended_at, result, steps) "
            "SELECT 1, id, $1::uuid, $2::uuid, id, 'bench', CASE WHEN n % 50 = 0 THEN 'failed' ELSE 'succeeded' END, 'guest ' || n % 1000, "
            "CASE WHEN n % 50 = 0 THEN '{\"kind\":\"timeout\",\"message\":\"late\"}' END, at, at, at + interval '1 s', '1', 1 FROM ids",
            workflow, version, first, min(step, count - first),
        )  # fmt: skip
    bench.sql("VACUUM ANALYZE")  # as it stands after a while: the server is not just tidying up
    http = httpx.Client(base_url=client.url, headers=dict(client._http.headers), trust_env=False, timeout=60)
    page = http.get("/api/v1/runs", params={"limit": 50}).json()
    some = page["items"][20]["id"]
    asked = {
        "latest": ("/api/v1/runs", {}),
        "by workflow": ("/api/v1/runs", {"workflow": "bench-history"}),
        "by state": ("/api/v1/runs", {"state": "failed"}),
        "by subject": ("/api/v1/runs", {"subject": "guest 17"}),
        "by error": ("/api/v1/runs", {"error_kind": "timeout"}),
        "by words that are nowhere": ("/api/v1/runs", {"text": "no such words"}),
        "by a part of the id": ("/api/v1/runs", {"id": some[9:]}),
        "by time": ("/api/v1/runs", {"since": page["items"][-1]["created_at"]}),
        "a page far back": (
            "/api/v1/runs",
            {"after": bench.sql("SELECT id::text FROM run ORDER BY id LIMIT 1 OFFSET $1", count // 3)},
        ),
        "one run": (f"/api/v1/runs/{some}", {}),
        "its trace": (f"/api/v1/runs/{some}/trace", {}),
        "workflows with their counts": ("/api/v1/workflows", {}),
    }
    for name, (path, query) in asked.items():
        times = []
        for _ in range(60):
            began = time.perf_counter()
            http.get(path, params=query).raise_for_status()
            times.append((time.perf_counter() - began) * 1000)
        bench.say(
            f"{count:,} runs in history: {name}, p50 / p95",
            f"{statistics.median(times):.1f} / {sorted(times)[56]:.1f} ms",
        )


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--part", choices=["schedules", "resting", "list", "history"], action="append")
    parser.add_argument("--share", type=float, default=1.0)
    given = parser.parse_args()
    parts: list[str] = given.part or ["list", "schedules", "history", "resting"]
    home = Path(tempfile.mkdtemp(prefix="oak-scale-"))
    home.chmod(0o711)
    bench = Bench(home, False)
    try:
        with bench.process(
            "service", "-m", "oak_relay.cli", "serve", OAK_RELAY_FIRST_PASSWORD=secrets.token_urlsafe(9)
        ) as service:
            asyncio.run(until_open(bench.port))
            client = Client(f"http://127.0.0.1:{bench.port}", (home / "cli.token").read_text().strip(), timeout=300)
            client.create_table("bench_rows", {"guest": "text", "total": "number"})
            does: dict[str, Any] = {
                "list": lambda: long_list(bench, client, given.share),
                "schedules": lambda: schedules(bench, client, given.share),
                "history": lambda: history(bench, client, given.share),
                "resting": lambda: resting(bench, client, given.share, service),
            }
            for part in parts:
                does[part]()
    finally:
        bench.cluster.stop("immediate")
        shutil.rmtree(home, ignore_errors=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
