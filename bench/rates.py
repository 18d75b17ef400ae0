"""A credential's limit of 10,000 calls a minute, shared by four workers, of which one is killed with permits in its hand.

`python -m bench.rates [--calls 10000] [--per 60] [--spans 2.5]` counts at the service that is called: in no sliding span may there be
more than the limit, and nine tenths of it are to be used.
"""

import argparse
import asyncio
import math
import os
import shutil
import signal
import tempfile
import threading
import time
from contextlib import ExitStack
from pathlib import Path

from aiohttp import web

from bench.run import Bench, until_open
from oak_relay.client import Client

USED = 0.9
FLOW = """oak: 1
workflow: limited
input: {{type: object}}
steps:
  - step: calls
    each: ${{ input.numbers }}
    as: number
    width: 40
    steps:
      - {{step: call, do: http.request, with: {{url: "{place}/?n=${{ number }}", credential: limited}}, retry: {{tries: 5}}}}
"""


class Place:
    """A service that notes when it was called."""

    def __init__(self) -> None:
        self.moments: list[float] = []
        self.port = 0
        self._open = threading.Event()
        threading.Thread(target=lambda: asyncio.run(self._serve()), daemon=True).start()
        self._open.wait()

    async def _serve(self) -> None:
        async def called(_: web.Request) -> web.Response:
            self.moments.append(time.monotonic())
            return web.json_response({})

        app = web.Application()
        app.router.add_get("/", called)
        runner = web.AppRunner(app, access_log=None)
        await runner.setup()
        site = web.TCPSite(runner, "127.0.0.1", 0)
        await site.start()
        self.port = runner.addresses[0][1]
        self._open.set()
        await asyncio.Event().wait()


def most_within(moments: list[float], per: float) -> int:
    """The most calls in any sliding span."""
    first = most = 0
    for last, at in enumerate(moments):
        while moments[first] <= at - per:
            first += 1
        most = max(most, last - first + 1)
    return most


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--calls", type=int, default=10_000)
    parser.add_argument("--per", type=int, default=60)
    parser.add_argument("--spans", type=float, default=2.5)
    given = parser.parse_args()
    home = Path(tempfile.mkdtemp(prefix="oak-rates-"))
    os.chmod(home, 0o711)
    place = Place()
    try:
        bench = Bench(home, False)
        url = f"http://127.0.0.1:{bench.port}"
        with ExitStack() as stack:
            stack.enter_context(
                bench.process("service", "-m", "oak_relay.cli", "serve", OAK_RELAY_FIRST_PASSWORD="seven larches")
            )
            asyncio.run(until_open(bench.port))
            client = Client(url, (home / "cli.token").read_text().strip())
            rate = {"calls": given.calls, "per": f"{given.per}s"}
            client.put_credential("limited", kind="bearer", secret="larch-larch-larch", hosts=["127.0.0.1"], rate=rate)
            client.save(FLOW.format(place=f"http://127.0.0.1:{place.port}"))
            wanted = int(given.calls * (given.spans + 1) / 12)
            for run in range(12):
                client.start("limited", {"numbers": list(range(run * wanted, (run + 1) * wanted))})
            workers = [
                stack.enter_context(bench.process(f"worker {n}", "-m", "oak_relay.cli", "work")) for n in range(4)
            ]
            while not place.moments:
                time.sleep(0.05)
            began = place.moments[0]
            while len(place.moments) < given.calls / 4:  # in the middle of what may be used at once
                time.sleep(0.01)
            workers[0].send_signal(signal.SIGKILL)
            killed = len(place.moments)
            time.sleep(max(0.0, began + given.per * given.spans - time.monotonic()))
            moments = [at for at in list(place.moments) if at <= began + given.per * given.spans]
        bench.cluster.stop("immediate")
    finally:
        shutil.rmtree(home, ignore_errors=True)
    most = most_within(moments, given.per)
    # All of a span may be used at its beginning.
    used = len(moments) / (given.calls * math.ceil(given.spans))
    bench.say(f"calls in the fullest {given.per} s", f"{most:,}", f"at most {given.calls:,}")
    bench.say("of the limit used", f"{used:.1%}", f"at least {USED:.0%}; a worker was killed after {killed:,} calls")
    return int(most > given.calls or used < USED)


if __name__ == "__main__":
    raise SystemExit(main())
