"""Strangers on a page: a thousand addresses that write at once, beside others' webhooks; and the page itself over a slow network.

`python -m bench.visitors [--addresses 1000]` counts what is taken of them and what their runs spend, against the page's pace and the
workflow's budget, and measures how long webhooks of another workflow take before and meanwhile. In Chromium, over 400 kbit/s with 400
ms there and back, it prints how long the page takes to be there and to show the first word of an answer. It exits 0 only if no more
was taken and spent than is allowed, and the webhooks' p95 is within a fifth of what it was.
"""

import argparse
import asyncio
import multiprocessing
import os
import secrets
import shutil
import statistics
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import httpx
from playwright.sync_api import sync_playwright
from tests.browsing import FLAGS

from bench.people import House
from oak_relay.client import Client

PACE, BUDGET, EACH = 300, 0.008, 4
PAGE = f"""
oak: 1
workflow: desk
triggers:
  - trigger: said
    conversation: {{path: desk, title: Ask about the huts, gather: 0s, pace: {{address: 30, page: {PACE}}}}}
limits: {{money: 0.01}}
steps:
  - {{step: reply, do: model.answer, with: {{model: quick, prompt: "${{ input.text }}", max_tokens: 100}}}}
  - {{step: say, send: "${{ reply.text }}"}}
"""
HOOK = """
oak: 1
workflow: counter
triggers: [{trigger: came, webhook: {path: counter, verify: {scheme: none}}}]
steps: [{step: kept, set: {n: "${ input.n }"}}]
"""


async def webhooks(url: str, seconds: float, each: float) -> list[float]:
    """How long webhooks of somebody else take (ms), one every so many seconds, however long the one before takes."""
    took: list[float] = []

    async def one(http: httpx.AsyncClient, n: int) -> None:
        began = time.perf_counter()
        answer = await http.post(f"{url}/hooks/counter", json={"n": n})
        assert answer.status_code == 202, answer.text
        took.append((time.perf_counter() - began) * 1000)

    async with httpx.AsyncClient(timeout=30) as http, asyncio.TaskGroup() as group:
        began = time.monotonic()
        for n in range(int(seconds / each)):
            await asyncio.sleep(max(0.0, began + n * each - time.monotonic()))
            group.create_task(one(http, n))
    return took


def strangers(url: str, addresses: int, seconds: float, told: "multiprocessing.Queue[Counter[int]]") -> None:
    """A process of so many addresses, each of which writes a few times within a span."""
    os.nice(10)  # they are elsewhere: their own work is not to be measured

    async def one(n: int, counted: Counter[int]) -> None:
        way = httpx.AsyncHTTPTransport(local_address=f"127.{1 + n // 62_500}.{n // 250 % 250}.{1 + n % 250}")
        headers = {"X-Visitor": secrets.token_urlsafe(24)}
        async with httpx.AsyncClient(transport=way, headers=headers, timeout=30) as http:
            for m in range(EACH):
                await asyncio.sleep(seconds / EACH)
                try:
                    body = {"id": f"m{m}", "text": "hello there"}
                    counted[(await http.post(f"{url}/talk/desk/messages", json=body)).status_code] += 1
                except httpx.TransportError:
                    counted[0] += 1

    async def all_() -> Counter[int]:
        counted: Counter[int] = Counter()
        async with asyncio.TaskGroup() as group:
            for n in range(addresses):
                group.create_task(one(n, counted))
        return counted

    told.put(asyncio.run(all_()))


def slow(url: str) -> tuple[float, float, int]:
    """Seconds until the page is there, and from sending to the first word of an answer; bytes that came. Over a slow network."""
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page()
        wire = page.context.new_cdp_session(page)
        wire.send("Network.enable")
        rate = 400_000 / 8
        wire.send("Network.emulateNetworkConditions", {"offline": False, "latency": 400, "downloadThroughput": rate, "uploadThroughput": rate})  # fmt: skip
        came: list[int] = []
        wire.on("Network.loadingFinished", lambda event: came.append(int(event["encodedDataLength"])))
        began = time.perf_counter()
        page.goto(f"{url}/talk/desk")
        page.get_by_label("Your message").wait_for()
        there = time.perf_counter() - began
        size = sum(came)
        page.get_by_label("Your message").fill("hello there")
        began = time.perf_counter()
        page.keyboard.press("Enter")
        page.locator("li.us .words").first.wait_for()
        word = time.perf_counter() - began
        browser.close()
    return there, word, size


def set_up(house: House, client: Client) -> None:
    client.put_credential("models", kind="bearer", secret=house.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])
    outside = house.messenger.removesuffix("/messenger")
    client.put_model("quick", url=f"{outside}/v1", model="larch-small", credential="models", prices={"input": 1, "output": 4})  # fmt: skip
    for text, name in ((PAGE, "desk"), (HOOK, "counter")):
        client.save(text)
        client.on(name)
    client.put_budget("desk", BUDGET, workflow="desk")


def p95(took: list[float]) -> float:
    return statistics.quantiles(took, n=20)[18]


def measured(house: House, client: Client, addresses: int, seconds: float) -> bool:
    there, word, size = slow(house.url)
    print(
        f"over 400 kbit/s and 400 ms: the page is there after {there:.2f} s ({size:,} bytes), the first word {word:.2f} s after sending"
    )
    asyncio.run(webhooks(house.url, 3, 0.02))
    before = p95(asyncio.run(webhooks(house.url, seconds, 0.02)))
    told: multiprocessing.Queue[Counter[int]] = multiprocessing.Queue()
    process = multiprocessing.Process(target=strangers, args=(house.url, addresses, seconds, told))
    began = time.monotonic()
    process.start()
    while_ = asyncio.run(webhooks(house.url, seconds, 0.02))
    counted, took = told.get(), time.monotonic() - began
    process.join()
    meanwhile = p95(while_)
    after = p95(asyncio.run(webhooks(house.url, seconds, 0.02)))
    deadline = time.monotonic() + 120
    while any(not run.over for run in client.runs(workflow="desk", limit=1000)) and time.monotonic() < deadline:
        time.sleep(0.5)
    spent = sum(one.money for one in client.usage(["workflow"], workflow="desk"))
    allowed = PACE * (1 + took // 60)
    print(
        f"{addresses:,} addresses wrote {sum(counted.values()):,} messages in {took:.0f} s: {counted[202]:,} taken (at most {allowed:,.0f}), {counted[429]:,} told to wait, {counted[0]} broke, others {sum(n for code, n in counted.items() if code not in (0, 202, 429))}"
    )
    print(
        f"spent {spent:.4f} of {BUDGET}; webhooks' p95 {before:.1f} ms before, {meanwhile:.1f} ms meanwhile, {after:.1f} ms after"
    )
    within = counted[202] <= allowed and spent <= BUDGET and counted[202] + counted[429] == sum(counted.values())
    return within and meanwhile <= 1.2 * max(before, after)


def main() -> int:
    """0 when all of it holds."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--addresses", type=int, default=1000)
    parser.add_argument("--seconds", type=float, default=30.0)
    args = parser.parse_args()
    home = Path(tempfile.mkdtemp(prefix="oak-visitors-"))
    home.chmod(0o711)
    os.environ["STANDIN_MODEL_KEY"] = "key-of-the-models"
    house = House(home, 1)
    try:
        client = house.ready()
        set_up(house, client)
        return 0 if measured(house, client, args.addresses, args.seconds) else 1
    finally:
        house.stop()
        shutil.rmtree(home, ignore_errors=True)


if __name__ == "__main__":
    sys.exit(main())
