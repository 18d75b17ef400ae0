"""The console at any size: pages of large runs, seven tabs at once, a flood of runs, a slow machine.

`python -m bench.pages [--spans 300 20000 100000] [--seconds 20]` prints, for a run of each size, how long its page takes until it
can be used, what it fetches, how it scrolls and what memory it takes; then what a flood of new runs does to the page *Runs*
while seven tabs are open, and how long pages take on a processor four times slower. Fails when an aim is missed.
"""

import argparse
import asyncio
import os
import shutil
import statistics
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Browser, BrowserContext, CDPSession, Page, Response, sync_playwright
from tests.browsing import FLAGS

from bench.run import Bench, until_open
from oak_relay.client import Client, Run

PASSWORD = "seven larches by the hut"
NESTED = """oak: 1
workflow: wide
input: {type: object}
steps:
  - step: huts
    each: ${ input.huts }
    as: hut
    width: 4
    steps:
      - step: nights
        each: ${ input.nights }
        as: night
        steps:
          - {step: bunks, set: {free: "${ hut * night }"}}
          - {step: beds, set: {free: "${ bunks.free + 1 }"}}
"""
PLAIN = "oak: 1\nworkflow: passing\nsteps:\n  - {step: a, set: {x: 1}}\n"
USABLE, FETCHED, SPANS, FRAMES, MEMORY = 300, 150_000, 300, 50, 80
SHIFT, BUSY, ASKED = 0.1, 0.2, 2.0


class Aims:
    """What was measured beside what is wanted."""

    def __init__(self, bench: Bench) -> None:
        self.bench, self.missed = bench, 0

    def most(self, what: str, figure: float, limit: float, unit: str = "") -> None:
        """A figure that may not be larger."""
        self._say(what, figure, figure <= limit, f"at most {limit:g}", unit)

    def least(self, what: str, figure: float, limit: float, unit: str = "") -> None:
        """A figure that may not be smaller."""
        self._say(what, figure, figure >= limit, f"at least {limit:g}", unit)

    def _say(self, what: str, figure: float, met: bool, limit: str, unit: str) -> None:
        self.missed += not met
        self.bench.say(what, f"{figure:.3g} {unit}", f"{limit}{'' if met else '  MISSED'}")


def size_of(spans: int) -> tuple[int, int]:
    """Huts and nights that make about so many spans: three of each night of a hut, two of each hut."""
    if spans < 1000:
        return 9, max(1, round(spans / 9 - 2) // 3)
    nights = 200 if spans > 60_000 else 67
    return max(1, min(200, round(spans / (3 * nights + 2)))), nights


def signed_in(browser: Browser, url: str) -> BrowserContext:
    """A browser of somebody who is signed in."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    page.goto(url)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("navigation").first.wait_for()
    page.close()
    return context


OBSERVED = """
window.frames = []; window.shift = 0; window.long = 0;
new PerformanceObserver((list) => list.getEntries().forEach((one) => { if (!one.hadRecentInput) window.shift += one.value }))
  .observe({type: 'layout-shift', buffered: true});
"""


def loaded(context: BrowserContext, address: str) -> dict[str, float]:
    """How long it takes from the data of a run's page until its lines can be used (ms), and what was fetched."""
    page = context.new_page()
    fetched = {"bytes": 0, "spans": 0}

    def came(response: Response) -> None:
        if "/api/v1/runs/" in response.url and "stream" not in response.url:
            body = response.body()
            fetched["bytes"] += len(body)
            fetched["spans"] += body.count(b'"line":')

    page.on("response", came)
    page.goto(address)
    page.locator(".run-script button.sentence").last.wait_for()
    page.wait_for_timeout(1500)  # what it asks for behind its data is counted too
    drawn = page.evaluate("window.drawnAt")
    told = page.evaluate(
        "(() => { const [one] = performance.getEntriesByType('resource').filter((one) => one.name.includes('/view'));"
        " return {at: one.responseEnd, took: one.duration} })()"
    )
    cdp = page.context.new_cdp_session(page)
    cdp.send("HeapProfiler.collectGarbage")
    memory = page.evaluate("performance.memory ? performance.memory.usedJSHeapSize / 1e6 : 0")
    frames = scrolled(page)
    page.close()
    return {"usable": drawn - told["at"], "view": told["took"], **fetched, "memory": memory, "frames": frames}


DRAWN = """
new MutationObserver((_, own) => {
  if (document.querySelector('.run-script button.sentence')) {
    requestAnimationFrame(() => setTimeout(() => { window.drawnAt ??= performance.now() }));
    own.disconnect();
  }
}).observe(document, {childList: true, subtree: true});
"""


def scrolled(page: Page) -> float:
    """Frames a second while the page is scrolled."""
    return float(
        page.evaluate(
            "() => new Promise((resolve) => { let n = 0; const from = performance.now(); const step = (now) => { n += 1;"
            " window.scrollBy(0, n % 40 < 20 ? 30 : -30);"
            " if (now - from < 1500) requestAnimationFrame(step); else resolve(n / (now - from) * 1000) };"
            " requestAnimationFrame(step) })"
        )
    )


def large_runs(aims: Aims, context: BrowserContext, url: str, client: Client, sizes: list[int]) -> None:
    client.save(NESTED)
    for spans in sizes:
        huts, nights = size_of(spans)
        began = time.monotonic()
        run = client.start("wide", {"huts": list(range(huts)), "nights": list(range(nights))}).wait(1800)
        real = 1 + huts * (2 + 3 * nights)
        aims.bench.say(f"a run of {real:,} spans", f"{time.monotonic() - began:.0f} s")
        assert run.state == "succeeded", run.error
        for where in ("", f"?step=huts%5B{huts - 1}%5D.nights%5B{nights - 1}%5D.beds"):
            found = loaded(context, f"{url}/runs/{run.id}{where}")
            name = f"{real:,} spans, {'the last item' if where else 'as it opens'}:"
            aims.most(f"{name} usable behind its data", found["usable"], USABLE, "ms")
            aims.most(f"{name} the data itself", found["view"], 1000, "ms")
            aims.most(f"{name} fetched", found["bytes"], FETCHED, "bytes")
            aims.most(f"{name} spans fetched", found["spans"], SPANS)
            aims.least(f"{name} frames a second, scrolled", found["frames"], FRAMES)
            aims.most(f"{name} memory of the page", found["memory"], MEMORY, "MB")


@contextmanager
def flood(client: Client, rate: int) -> Iterator[list[Run]]:
    """So many new runs a second, by a few who ask at once."""
    begun: list[Run] = []
    over, callers = threading.Event(), 4

    def pour() -> None:
        due = time.monotonic()
        while not over.is_set():
            begun.append(client.start("passing"))
            due += callers / rate
            time.sleep(max(0.0, due - time.monotonic()))

    pouring = [threading.Thread(target=pour, daemon=True) for _ in range(callers)]
    for one in pouring:
        one.start()
    yield begun
    over.set()
    for one in pouring:
        one.join()


def busy(cdp: CDPSession) -> float:
    """Seconds that the main thread of a page has worked."""
    metrics = {one["name"]: one["value"] for one in cdp.send("Performance.getMetrics")["metrics"]}
    return float(metrics["TaskDuration"])


def seven_tabs(aims: Aims, context: BrowserContext, url: str, client: Client, seconds: float) -> None:
    client.save(PLAIN)
    client.start("passing").wait()
    pages = [context.new_page() for _ in range(7)]
    for page in pages:
        page.goto(f"{url}/runs")
        page.locator("tbody tr").first.wait_for()
    looked = pages[-1]
    asked: list[float] = []
    looked.on("request", lambda r: "/api/v1/runs?" in r.url and asked.append(time.monotonic()))
    cdp = looked.context.new_cdp_session(looked)
    cdp.send("Performance.enable")
    looked.bring_to_front()
    looked.wait_for_timeout(1000)
    looked.evaluate(OBSERVED)
    worked, began = busy(cdp), time.monotonic()
    asked.clear()
    with flood(client, 50) as begun:
        while time.monotonic() - began < seconds:
            looked.wait_for_timeout(500)
    took = time.monotonic() - began
    aims.bench.say("new runs a second, seven tabs open", f"{len(begun) / took:.0f} a second")
    aims.most("layout shift of the list", looked.evaluate("window.shift"), SHIFT)
    aims.most("main thread of the tab at work", (busy(cdp) - worked) / took, BUSY)
    aims.most("list requests a second", len(asked) / took, ASKED)
    last = client.start("passing", key="the-last-one").wait()
    behind = 0
    for page in pages:
        page.bring_to_front()
        try:
            page.locator(f'a[href="/runs/{last.id}"]').first.wait_for(timeout=5000)
        except Exception:
            behind += 1
    aims.most("tabs that do not show the newest run", behind, 0)
    for page in pages:
        page.close()


def slow(aims: Aims, context: BrowserContext, url: str) -> None:
    """Until pages can be used on a processor four times slower."""
    for name, path, mark, limit in (
        ("workflows", "/workflows", "tbody tr", 1000),
        ("a workflow", "/workflows/wide", ".script [data-path]", 2500),
    ):
        took = []
        for _ in range(5):
            page = context.new_page()
            page.context.new_cdp_session(page).send("Emulation.setCPUThrottlingRate", {"rate": 4})
            began = time.monotonic()
            page.goto(f"{url}{path}", wait_until="commit")
            page.locator(mark).first.wait_for()
            took.append((time.monotonic() - began) * 1000)
            page.close()
        aims.most(f"until {name} can be used, four times slower", statistics.median(took), limit, "ms")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--spans", type=int, nargs="+", default=[300, 20_200, 100_000])
    parser.add_argument("--seconds", type=float, default=20)
    given = parser.parse_args()
    home = Path(tempfile.mkdtemp(prefix="oak-pages-"))
    os.chmod(home, 0o711)
    try:
        bench = Bench(home, False)
        url = f"http://127.0.0.1:{bench.port}"
        with bench.process("service", "-m", "oak_relay.cli", "serve", OAK_RELAY_FIRST_PASSWORD=PASSWORD):
            asyncio.run(until_open(bench.port))
            client, aims = Client(url, (home / "cli.token").read_text().strip()), Aims(bench)
            with bench.process("worker", "-m", "oak_relay.cli", "work"), sync_playwright() as playwright:
                flags = [*FLAGS, "--enable-precise-memory-info"]
                chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=flags)
                context = signed_in(chromium, url)
                context.add_init_script(DRAWN)
                large_runs(aims, context, url, client, given.spans)
                seven_tabs(aims, context, url, client, given.seconds)
                slow(aims, context, url)
                chromium.close()
        bench.cluster.stop("immediate")
    finally:
        shutil.rmtree(home, ignore_errors=True)
    print("every aim is met" if not aims.missed else f"{aims.missed} aims are missed")
    return int(bool(aims.missed))


if __name__ == "__main__":
    raise SystemExit(main())
