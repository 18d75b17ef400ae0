"""Strangers at the door: what somebody else waits while many connect slowly, send too much, or wait and go away.

`python -m bench.strangers [--seconds 40]` asks all the time, first with nobody else there, then with each kind of stranger, and
prints the 95th percentile of the waits of both; nothing may wait more than a fifth longer.
"""

import argparse
import asyncio
import contextlib
import multiprocessing
import random
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Coroutine, Sequence
from pathlib import Path
from statistics import quantiles
from typing import Any

import httpx

from bench.run import Bench, until_open
from oak_relay.client import Client

SLOW, LARGE, LEAVING = 60, 200, 50
ROUNDS = 4  # alone and beside in turn, so that a mood of the machine meets both
Stranger = Callable[[int], Coroutine[Any, Any, None]]
WAITS = """
oak: 1
workflow: bench-waits
triggers:
  - trigger: asked
    webhook: {path: bench-waits, waits: true}
steps:
  - step: long
    wait: 1h
result: done
"""


async def slow(port: int) -> None:
    """Sends a byte of a request's head each second, and comes again when it is sent away."""
    while True:
        try:
            _reader, writer = await asyncio.open_connection("127.0.0.1", port)
            for byte in b"POST /api/v1/session HTTP/1.1\r\nHost: a\r\nContent-Length: 9000\r\n\r\n" + b"x" * 9_000:
                writer.write(bytes([byte]))
                await writer.drain()
                await asyncio.sleep(1)
            writer.close()
        except OSError:
            await asyncio.sleep(0.1)


async def visits(port: int, head: bytes, pieces: Sequence[bytes], stays: float, pause: float) -> None:
    """Comes, sends a head and pieces, stays for some seconds, goes away, and comes again."""
    while True:
        with contextlib.suppress(OSError):  # it was sent away
            _reader, writer = await asyncio.open_connection("127.0.0.1", port)
            for piece in (head, *pieces):
                writer.write(piece)
                await writer.drain()
            await asyncio.sleep(stays)
            writer.close()
        await asyncio.sleep(pause)


async def large(port: int) -> None:
    """Sends bodies of 10 MB, six a minute as each of many."""
    head = b"POST /hooks/bench-waits HTTP/1.1\r\nHost: a\r\nContent-Length: 10000000\r\n\r\n"
    await visits(port, head, [b"x" * 100_000] * 100, 0, 10)


async def leaving(port: int) -> None:
    """Waits for a run that takes an hour, and goes away after a second."""
    await visits(port, b"POST /hooks/bench-waits HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\n", [b"{}"], 1, 2)


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


async def crowd(strangers: Stranger, many: int, port: int) -> None:
    """Strangers, until their process is ended."""

    async def sometime() -> None:
        await asyncio.sleep(random.uniform(0, 2))  # people do not come in step
        await strangers(port)

    await asyncio.gather(*(sometime() for _ in range(many)))


def come(strangers: Stranger, many: int, port: int) -> None:
    asyncio.run(crowd(strangers, many, port))


def beside(strangers: Stranger, many: int, bench: Bench, url: str, token: str, seconds: float) -> list[float]:
    """The waits of others while strangers come from a process of their own, so that only what they cost the service counts."""
    crowded = multiprocessing.get_context("fork").Process(target=come, args=(strangers, many, bench.port), daemon=True)
    crowded.start()
    try:
        time.sleep(2)
        return asyncio.run(asked(url, token, seconds))
    finally:
        crowded.kill()
        crowded.join()
        time.sleep(2)


def main() -> int:
    """0 when nobody waited more than a fifth longer for the strangers."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seconds", type=float, default=40)
    parser.add_argument("--only", default="", help="a word of the kind to measure")
    args = parser.parse_args()
    seconds = args.seconds
    home = Path(tempfile.mkdtemp(prefix="oak-strangers-"))
    home.chmod(0o711)
    bench, fine = Bench(home, False), True
    try:
        with bench.process("service", "-m", "oak_relay.cli", "serve"), bench.process("worker", "-m", "oak_relay.cli", "work"):  # fmt: skip
            asyncio.run(until_open(bench.port))
            url, token = f"http://127.0.0.1:{bench.port}", (home / "cli.token").read_text().strip()
            client = Client(url, token)
            client.on(client.save(WAITS).workflow)
            kinds = ((f"{SLOW} slow connections", slow, SLOW), (f"{LARGE} who send 10 MB each", large, LARGE), (f"{LEAVING} who wait and go away", leaving, LEAVING))  # fmt: skip
            for what, kind, many in (k for k in kinds if args.only in k[0]):
                alone, met = [], []
                for _ in range(ROUNDS):
                    alone += asyncio.run(asked(url, token, seconds / ROUNDS))
                    met += beside(kind, many, bench, url, token, seconds / ROUNDS)
                ratio = p95(met) / p95(alone)
                fine &= ratio <= 1.2
                bench.say(f"{what}: p95 of others", f"{p95(alone) * 1e3:.1f} -> {p95(met) * 1e3:.1f} ms", f"{ratio:.2f} (longest {max(met) * 1e3:.0f} ms)")  # fmt: skip
    finally:
        bench.cluster.stop("immediate")
        shutil.rmtree(home, ignore_errors=True)
    return 0 if fine else 1


if __name__ == "__main__":
    sys.exit(main())
