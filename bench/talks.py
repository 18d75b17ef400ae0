"""Conversations at once: agents of several turns on one worker, a model that takes a second for each reply.

`python -m bench.talks [--count 1000]` prints what Oak Relay adds to a turn: the time from the model's reply to its next
request of the same conversation (the reply recorded, the tool called and recorded), seen from the model's side.
"""

import argparse
import asyncio
import json
import secrets
import shutil
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import httpx
import psutil

from bench.run import Bench, drained, free_port, taken_in, until_open
from oak_relay.client import Client

SECOND = 1.0
TURNS = 4
_EVENLY, _SHARE = 20.0, 0.7
"""Seconds over which conversations begin evenly, and which share of what a worker carried at once in the last of these."""
_WARM = 20
"""Conversations before those that are measured."""
TALK = f"""
oak: 1
workflow: bench-talk
input: {{type: object}}
subject: "${{ input.n }}"
steps:
  - step: reply
    do: agent
    with:
      model: slow
      brief: You answer guests of Larkspur Huts.
      prompt: "talk ${{ input.n }}: is there room?"
      tools: [{{table: bench_rows, name: rows, columns: [guest]}}]
      memory: {{conversation: "talk ${{ input.n }}"}}
      limits: {{turns: {TURNS}, calls: {TURNS}}}
result: ${{ reply.text }}
"""


def model(port: int) -> None:
    """A model that calls its tool until the last turn, each reply after a second; it notes when it was asked."""
    import uvicorn
    from fastapi import FastAPI, Request

    app = FastAPI()
    replied: dict[str, float] = {}
    gaps: list[float] = []
    held = [0, 0]

    @app.post("/v1/chat/completions")
    async def chat(request: Request) -> Any:
        now = time.perf_counter()
        body = await request.json()
        talk = body["messages"][1]["content"].split(":")[0]
        if talk in replied:
            gaps.append(now - replied[talk])
        held[0] += 1
        held[1] = max(held)
        turn = sum(m["role"] == "assistant" for m in body["messages"])
        await asyncio.sleep(SECOND)
        held[0] -= 1
        message: dict[str, Any] = {"role": "assistant", "content": "There is room."}
        if turn < TURNS - 1:
            call = {"name": "rows_find", "arguments": json.dumps({"where": {"guest": f"nobody {turn}"}})}
            message = {
                "role": "assistant",
                "content": None,
                "tool_calls": [{"id": f"c{turn}", "type": "function", "function": call}],
            }
        replied[talk] = time.perf_counter()
        return {
            "choices": [{"message": message, "finish_reason": "stop"}],
            "usage": {"prompt_tokens": 100, "completion_tokens": 10},
        }

    @app.get("/gaps")
    async def told() -> dict[str, Any]:
        return {"gaps": gaps, "held": held[1]}

    @app.post("/gaps")
    async def anew() -> None:
        gaps.clear()
        replied.clear()
        held[1] = 0

    @app.get("/v1/models")
    async def models() -> dict[str, Any]:
        return {"data": [{"id": "slow"}]}

    uvicorn.run(app, host="127.0.0.1", port=port, log_level="error", loop="uvloop", http="httptools", access_log=False)


def talks(bench: Bench, client: Client, count: int, outside: int, seconds: float) -> float:
    """So many conversations, all of them begun in the same moment, or evenly over a time in seconds; how long they took."""
    client.put_model("slow", url=f"http://127.0.0.1:{outside}/v1", model="slow", prices={"input": 0, "output": 0})
    client.on(client.save(TALK).workflow)
    with bench.process(
        "worker of the conversations", "-m", "oak_relay.cli", "work", OAK_RELAY_WALKS=str(count)
    ) as worker:
        process, peaks = psutil.Process(worker.pid), []
        while bench.sql("SELECT count(*) FROM worker WHERE dead_at IS NULL AND lease_until > now()") < 1:
            time.sleep(0.1)
        asyncio.run(
            taken_in(bench, "bench-talk", _WARM, subject="warm")
        )  # what is loaded with the first is not measured
        drained(bench)
        if not seconds:
            asyncio.run(taken_in(bench, "bench-talk", count, held=True, subject="talk"))
        httpx.post(f"http://127.0.0.1:{outside}/gaps", trust_env=False)
        before = process.memory_info().rss
        began, idle = time.monotonic(), sum(process.cpu_times()[:2])
        if seconds:
            asyncio.run(taken_in(bench, "bench-talk", count, subject="talk", seconds=seconds))
        else:
            client.hold(False)
        while bench.sql("SELECT count(*) FROM queue"):
            peaks.append(process.memory_info().rss)
            time.sleep(0.2)
        took = time.monotonic() - began
        work = sum(process.cpu_times()[:2]) - idle
    bad = bench.sql("SELECT count(*) FROM run WHERE state IS DISTINCT FROM 'succeeded' AND kind = 'run'")
    assert not bad, bench.sql("SELECT min(error) FROM run WHERE state IS DISTINCT FROM 'succeeded'")
    seen = httpx.get(f"http://127.0.0.1:{outside}/gaps", trust_env=False).json()
    found = sorted(seen["gaps"])
    if seconds:
        bench.say(
            f"{count / seconds:.0f} conversations of {TURNS} turns begun a second, one worker", f"{count:,} answered"
        )
    else:
        bench.say(
            f"{count:,} conversations of {TURNS} turns at once on one worker, all answered",
            f"{took:.1f} s",
            f"{took / (TURNS * SECOND):.2f} of the model's own time",
        )
    bench.say(
        "added to a turn, p50 / p95 / p99",
        " / ".join(f"{found[int(len(found) * part)] * 1000:.0f}" for part in (0.5, 0.95, 0.99)) + " ms",
        f"{seen['held']:,} requests at the model at once",
    )
    bench.say("CPU of the worker for a turn with its tool", f"{work / count / TURNS * 1000:.2f} ms")
    if not seconds:
        bench.say("memory for each conversation in flight", f"{(max(peaks) - before) / count / 1024:.0f} KB")
    return took


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, action="append")
    parser.add_argument("--outside", type=int, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.outside:
        model(given.outside)
        return 0
    if given.count:
        for count in given.count:
            measured(count, 0.0)
        return 0
    for count, seconds in ((200, _EVENLY), (500, _EVENLY), (100, 0.0)):
        measured(count, seconds)
    carried = 1000 / measured(1000, 0.0)
    measured(int(_SHARE * carried * _EVENLY), _EVENLY)
    return 0


def measured(count: int, seconds: float) -> float:
    """A database and processes of their own, and conversations in them."""
    home = Path(tempfile.mkdtemp(prefix="oak-talks-"))
    home.chmod(0o711)
    bench, outside = Bench(home, False), free_port()
    try:
        with (
            bench.process("model", "-m", "bench.talks", "--outside", str(outside)),
            bench.process("service", "-m", "oak_relay.cli", "serve", OAK_RELAY_FIRST_PASSWORD=secrets.token_urlsafe(9)),
        ):
            asyncio.run(until_open(bench.port))
            asyncio.run(until_open(outside))
            client = Client(f"http://127.0.0.1:{bench.port}", (home / "cli.token").read_text().strip(), timeout=300)
            client.create_table("bench_rows", {"guest": "text", "total": "number"})
            return talks(bench, client, count, outside, seconds)
    finally:
        bench.cluster.stop("immediate")
        shutil.rmtree(home, ignore_errors=True)


if __name__ == "__main__":
    sys.exit(main())
