"""Files: what a large one costs in memory on its way from a webhook to an upload, and many at once.

`python -m bench.files [--megabytes 200] [--many 1000]` prints what each process holds more than before; no process may hold
60 MB more, and nothing may be lost.
"""

import argparse
import asyncio
import hashlib
import http.server
import shutil
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import ClassVar

import httpx
import psutil

from bench.run import Bench, until_open
from oak_relay.client import Client

MOST = 60.0
"""Megabytes that a process may hold more."""
CARRIES = """
oak: 1
workflow: bench-carries
input: {{type: object}}
triggers:
  - trigger: sent
    webhook: {{path: bench-carries, files: true, verify: {{scheme: none}}}}
    input: {{got: "${{ event.data.file }}"}}
steps:
  - step: sent
    do: http.request
    timeout: 10m
    with: {{method: POST, url: "{place}/taken", file: "${{ input.got }}", repeat: safe}}
result: "${{ sent.body }}"
"""


class Place(http.server.BaseHTTPRequestHandler):
    """Takes files, and remembers what they were."""

    taken: ClassVar[list[str]] = []

    def do_POST(self) -> None:
        left, digest = int(self.headers["Content-Length"]), hashlib.sha256()
        while left:
            piece = self.rfile.read(min(left, 1 << 18))
            left -= len(piece)
            digest.update(piece)
        self.taken.append(digest.hexdigest())
        self.send_response(200)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_: object) -> None:
        pass


class Watched:
    """What processes hold while something is done: the most above what they held before."""

    def __init__(self, processes: dict[str, int]) -> None:
        self._processes = {name: psutil.Process(pid) for name, pid in processes.items()}
        self._before = {name: one.memory_info().rss for name, one in self._processes.items()}
        self.more = dict.fromkeys(processes, 0.0)
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look)

    def _look(self) -> None:
        while not self._over.wait(0.02):
            for name, one in self._processes.items():
                self.more[name] = max(self.more[name], (one.memory_info().rss - self._before[name]) / 1e6)

    def __enter__(self) -> "Watched":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()


def noise(size: int, seed: int, piece: int = 1 << 20) -> Iterator[bytes]:
    random = Random(seed)
    while size > 0:
        yield random.randbytes(min(size, piece))
        size -= piece


def sent(url: str, size: int, seed: int) -> tuple[str, str]:
    """Send a file to the webhook; its SHA-256 and its run."""
    digest = hashlib.sha256()

    def pieces() -> Iterator[bytes]:
        for piece in noise(size, seed):
            digest.update(piece)
            yield piece

    headers = {"Content-Type": "application/octet-stream", "Content-Length": str(size)}
    answer = httpx.post(f"{url}/hooks/bench-carries", content=pieces(), headers=headers, timeout=600, trust_env=False)
    answer.raise_for_status()
    return digest.hexdigest(), answer.json()["run"]


async def many_sent(url: str, many: int) -> list[str]:
    """Send small files, all at once; who is told to come again does."""
    found: list[str] = []
    async with httpx.AsyncClient(
        timeout=120, trust_env=False, limits=httpx.Limits(max_connections=200, keepalive_expiry=1)
    ) as client:

        async def one(seed: int) -> None:
            body = b"".join(noise(100_000, 1_000 + seed))
            while True:
                answer = await client.post(
                    f"{url}/hooks/bench-carries", content=body, headers={"Content-Type": "image/png"}
                )
                if answer.status_code == 429:
                    await asyncio.sleep(0.2)
                    continue
                answer.raise_for_status()
                found.append(hashlib.sha256(body).hexdigest())
                return

        await asyncio.gather(*(one(n) for n in range(many)))
    return found


def main() -> int:
    """0 when no process held too much and everything arrived as it was."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--megabytes", type=int, default=200)
    parser.add_argument("--many", type=int, default=1000)
    args = parser.parse_args()
    home = Path(tempfile.mkdtemp(prefix="oak-files-"))
    home.chmod(0o711)
    bench, fine = Bench(home, False), True
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Place)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    limits = {"OAK_RELAY_FILE_LIMIT": "1000000000"}
    try:
        with bench.process("service", "-m", "oak_relay.cli", "serve", **limits) as service, bench.process("worker", "-m", "oak_relay.cli", "work", **limits) as worker:  # fmt: skip
            asyncio.run(until_open(bench.port))
            url, token = f"http://127.0.0.1:{bench.port}", (home / "cli.token").read_text().strip()
            client = Client(url, token)
            client.on(client.save(CARRIES.format(place=f"http://127.0.0.1:{server.server_port}")).workflow)
            client.start("bench-carries", {"got": client.add_file(b"warm", "warm").value}).wait(60)
            Place.taken.clear()
            began = time.monotonic()
            with Watched({"service": service.pid, "worker": worker.pid}) as watched:
                digest, run = sent(url, args.megabytes * 1_000_000, 1)
                arrived = time.monotonic() - began
                ended = _ended(client, run)
            fine &= ended == "succeeded" and Place.taken == [digest] and max(watched.more.values()) < MOST
            bench.say(f"{args.megabytes} MB from a webhook to an upload: in, in all", f"{arrived:.1f}, {time.monotonic() - began:.1f} s", f"service {watched.more['service']:+.0f} MB, worker {watched.more['worker']:+.0f} MB")  # fmt: skip
            Place.taken.clear()
            began = time.monotonic()
            with Watched({"service": service.pid, "worker": worker.pid}) as watched:
                digests = asyncio.run(many_sent(url, args.many))
                deadline = time.monotonic() + 300
                while len(Place.taken) < args.many and time.monotonic() < deadline:
                    time.sleep(0.1)
            fine &= sorted(Place.taken) == sorted(digests) and max(watched.more.values()) < MOST
            bench.say(f"{args.many:,} files of 100 kB at once, each sent on", f"{time.monotonic() - began:.1f} s", f"service {watched.more['service']:+.0f} MB, worker {watched.more['worker']:+.0f} MB")  # fmt: skip
    finally:
        server.shutdown()
        bench.cluster.stop("immediate")
        shutil.rmtree(home, ignore_errors=True)
    return 0 if fine else 1


def _ended(client: Client, run: str) -> str:
    for _ in range(3000):
        found = client.run(run).run
        if found.over:
            return found.state
        time.sleep(0.1)
    return "late"


if __name__ == "__main__":
    sys.exit(main())
