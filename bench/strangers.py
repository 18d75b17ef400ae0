"""Strangers at the door: what somebody else waits while many connect slowly, send too much, or wait and go away.

`python -m bench.strangers [--seconds 20]` asks all the time, first with nobody else there, then with each kind of stranger, and
prints the 95th percentile of the waits of both; nothing may wait more than a fifth longer.
"""

import argparse
import asyncio
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Coroutine
from pathlib import Path
from statistics import quantiles
from typing import Any

import httpx

from bench.run import Bench, until_open
from oak_relay.client import Client

SLOW, LARGE, LEAVING = 60, 200, 50
WAITS = """
oak: 1
workflow: bench-waits
triggers:
  - trigger: asked
    webhook: {path: bench-waits, answer: result}
steps:
  - step: long
    wait: 1h
result: done
"""


async def slow(port: int, over: asyncio.Event) -> None:
    """Sends a byte of a request's head each second, and comes again when it is sent away."""
    while not over.is_set():
        try:
            _reader, writer = await asyncio.open_connection("127.0.0.1", port)
            for byte in b"POST /api/v1/session HTTP/1.1\r\nHost: a\r\nContent-Length: 9000\r\n\r\n" + b"x" * 9_000:
                if over.is_set():
                    break
                writer.write(bytes([byte]))
                await writer.drain()
                await asyncio.sleep(1)
            writer.close()
        except OSError:
            await asyncio.sleep(0.1)


async def large(port: int, over: asyncio.Event) -> None:
    """Sends bodies of 10 MB, one a minute or so as each of many."""
    while not over.is_set():
        try:
            _reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(b"POST /hooks/bench-waits HTTP/1.1\r\nHost: a\r\nContent-Length: 10000000\r\n\r\n")
            for _ in range(100):
                writer.write(b"x" * 100_000)
                await writer.drain()
            writer.close()
        except OSError:
            pass
        await asyncio.sleep(10)


async def leaving(port: int, over: asyncio.Event) -> None:
    """Waits for a run that takes an hour, and goes away after a second."""
    while not over.is_set():
        try:
            _reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(b"POST /hooks/bench-waits HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\n{}")
            await writer.drain()
            await asyncio.sleep(1)
            writer.close()
        except OSError:
            pass
        await asyncio.sleep(2)


async def asked(url: str, token: str, seconds: float) -> list[float]:
    """The waits of who asks for the list of workflows, twenty times a second."""
    waits = []
    async with httpx.AsyncClient(base_url=url, headers={"Authorization": f"Bearer {token}"}, trust_env=False) as http:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            began = time.perf_counter()
            (await http.get("/api/v1/workflows", timeout=60)).raise_for_status()
            waits.append(time.perf_counter() - began)
            await asyncio.sleep(0.05)
    return waits


def p95(waits: list[float]) -> float:
    return quantiles(waits, n=20)[-1]


async def beside(strangers: Callable[[int, asyncio.Event], Coroutine[Any, Any, None]] | None, many: int, bench: Bench, url: str, token: str, seconds: float) -> list[float]:  # fmt: skip
    over = asyncio.Event()
    tasks = [asyncio.create_task(strangers(bench.port, over)) for _ in range(many)] if strangers else []
    await asyncio.sleep(2)
    waits = await asked(url, token, seconds)
    over.set()
    for task in tasks:
        task.cancel()
    await asyncio.gather(*tasks, return_exceptions=True)
    await asyncio.sleep(1)
    return waits


def main() -> int:
    """0 when nobody waited more than a fifth longer for the strangers."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seconds", type=float, default=20)
    seconds = parser.parse_args().seconds
    home = Path(tempfile.mkdtemp(prefix="oak-strangers-"))
    home.chmod(0o711)
    bench, fine = Bench(home, False), True
    try:
        with bench.process("service", "-m", "oak_relay.cli", "serve"), bench.process("worker", "-m", "oak_relay.cli", "work"):  # fmt: skip
            asyncio.run(until_open(bench.port))
            url, token = f"http://127.0.0.1:{bench.port}", (home / "cli.token").read_text().strip()
            client = Client(url, token)
            client.live(client.save(WAITS).workflow)
            kinds = ((f"{SLOW} slow connections", slow, SLOW), (f"{LARGE} who send 10 MB each", large, LARGE), (f"{LEAVING} who wait and go away", leaving, LEAVING))  # fmt: skip
            for what, kind, many in kinds:
                alone = asyncio.run(beside(None, 0, bench, url, token, seconds))
                met = asyncio.run(beside(kind, many, bench, url, token, seconds))
                ratio = p95(met) / p95(alone)
                fine &= ratio <= 1.2
                bench.say(f"{what}: p95 of others", f"{p95(alone) * 1e3:.1f} -> {p95(met) * 1e3:.1f} ms", f"{ratio:.2f} (longest {max(met) * 1e3:.0f} ms)")  # fmt: skip
    finally:
        bench.cluster.stop("immediate")
        shutil.rmtree(home, ignore_errors=True)
    return 0 if fine else 1


if __name__ == "__main__":
    sys.exit(main())
