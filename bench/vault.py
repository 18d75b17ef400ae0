"""Many credentials: another master key while they are in use.

`python -m bench.vault [--many 10000] [--seconds 20]` prints how long runs take that use credentials, before and while all of
them are sealed anew; none may fail, and the slowest may take two seconds.
"""

import argparse
import asyncio
import http.server
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import psutil

from bench.run import Bench, until_open
from oak_relay.client import Client
from oak_relay.runtime.boot import key_file
from oak_relay.runtime.settings import Settings
from oak_relay.store.database import Database
from oak_relay.store.keyring import Keyring
from oak_relay.store.vault import Vault
from oak_relay.vault.keys import Bearer
from oak_relay.vault.kinds import CredentialKinds
from oak_relay.vault.sealing import master_key

SLOWEST = 2.0
"""Seconds that a run may take while the key is replaced."""
USES = """
oak: 1
workflow: bench-uses
input: {{type: object}}
steps:
  - step: asked
    do: http.request
    with: {{url: "{place}", credential: "${{ input.credential }}"}}
result: "${{ asked.status }}"
"""


class Place(http.server.BaseHTTPRequestHandler):
    """Lets in who shows a key."""

    def do_GET(self) -> None:
        self.send_response(204 if self.headers.get("Authorization") else 401)
        self.end_headers()

    def log_message(self, *_: object) -> None:
        pass


async def seeded(settings: Settings, many: int) -> None:
    """So many credentials, as if each had been added."""
    assert settings.database_url is not None
    database = Database(settings.database_url.get_secret_value())
    keyring = await Keyring.open(database, 1, lambda: master_key(key_file(settings)))
    vault = Vault(keyring, CredentialKinds([Bearer]))
    for first in range(0, many, 500):
        async with database.begin() as connection:
            for n in range(first, min(first + 500, many)):
                secret = f"bench-secret-{n:06d}-{n * 7919:012x}"
                await vault.put(connection, f"many-{n}", Bearer(secret=secret, hosts=["127.0.0.1"]))
    await database.close()


class Uses:
    """Runs that use one credential after the other; seconds that each took, and what failed."""

    def __init__(self, url: str, token: str, many: int, beside: int = 4) -> None:
        self.took: list[float] = []
        self.failed: list[str] = []
        self._over = threading.Event()
        self._threads = [threading.Thread(target=self._use, args=(Client(url, token), many, n)) for n in range(beside)]

    def _use(self, client: Client, many: int, n: int) -> None:
        while not self._over.is_set():
            n = (n + 37) % many
            began = time.monotonic()
            ended = client.start("bench-uses", {"credential": f"many-{n}"}).wait(60)
            self.took.append(time.monotonic() - began)
            if ended.state != "succeeded":
                self.failed.append(str(ended.error))

    def __enter__(self) -> "Uses":
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        for thread in self._threads:
            thread.join()

    def told(self) -> str:
        took = sorted(self.took)
        return f"{statistics.median(took) * 1000:.0f} / {took[int(len(took) * 0.99)] * 1000:.0f} / {took[-1] * 1000:.0f} ms of {len(took):,}"


def main() -> int:
    """0 when nobody noticed."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--many", type=int, default=10_000)
    parser.add_argument("--seconds", type=float, default=20)
    args = parser.parse_args()
    home = Path(tempfile.mkdtemp(prefix="oak-vault-"))
    home.chmod(0o711)
    bench, fine = Bench(home, False), True
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Place)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        with bench.process("service", "-m", "oak_relay.cli", "serve") as service, bench.process("worker", "-m", "oak_relay.cli", "work") as worker, bench.process("worker 2", "-m", "oak_relay.cli", "work"):  # fmt: skip
            asyncio.run(until_open(bench.port))
            url, token = f"http://127.0.0.1:{bench.port}", (home / "cli.token").read_text().strip()
            client = Client(url, token)
            client.on(client.save(USES.format(place=f"http://127.0.0.1:{server.server_port}/")).workflow)
            settings = Settings(data_dir=home, database_url=bench.url)  # type: ignore[arg-type]
            began = time.monotonic()
            asyncio.run(seeded(settings, args.many))
            bench.say(f"{args.many:,} credentials stored", f"{time.monotonic() - began:.1f} s", "")
            client.start("bench-uses", {"credential": f"many-{args.many - 1}"}).wait(120)
            held = [psutil.Process(one.pid).memory_info().rss / 1e6 for one in (service, worker)]
            bench.say("what processes hold with them: service, worker", f"{held[0]:.0f}, {held[1]:.0f} MB", "")
            began = time.monotonic()
            client.put_credential("one-more", kind="bearer", secret="one-more-secret-of-many", hosts=["127.0.0.1"])
            bench.say("one more is stored in", f"{time.monotonic() - began:.2f} s", "")
            with Uses(url, token, args.many) as before:
                time.sleep(args.seconds)
            bench.say("a run that uses one: median / p99 / slowest", before.told(), "as they are")
            with Uses(url, token, args.many) as during:
                began = time.monotonic()
                done = subprocess.run([sys.executable, "-m", "oak_relay.cli", "key", "rotate"], env={**os.environ, "OAK_RELAY_DATABASE_URL": bench.url, "OAK_RELAY_DATA_DIR": str(home)}, capture_output=True, text=True, check=False)  # fmt: skip
                took = time.monotonic() - began
            said = done.stdout.strip() or done.stderr.strip()
            bench.say("the same while all are sealed anew", during.told(), f"{took:.1f} s; {said}")
            fine &= done.returncode == 0 and not before.failed and not during.failed and max(during.took) < SLOWEST
            for failed in (before.failed + during.failed)[:3]:
                bench.say("failed", failed, "")
    finally:
        server.shutdown()
        bench.cluster.stop("immediate")
        shutil.rmtree(home, ignore_errors=True)
    return 0 if fine else 1


if __name__ == "__main__":
    sys.exit(main())
