"""The console in headless Chromium, for the tests that look at it."""

from collections.abc import Iterator
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.conftest import ROOT, Processes

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    # Pages of the browser's own (what it suggests below its address) are not loaded beside each of ours.
    "--disable-features=WebUIOmniboxPopup,WebUIOmniboxAimPopup,WebUIOmniboxFullPopup,PreloadTopChromeWebUI",
]


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield chromium
        chromium.close()


_SESSIONS: dict[str, list[Any]] = {}
"""The cookies of who has signed in, by service: a password takes a processor for a while."""


def sign_in(page: Page, oak: Processes) -> None:
    """Be the owner, by the session of before where there is one."""
    page.context.add_cookies(_SESSIONS.get(oak.url, []))
    page.goto(oak.url)
    inside, password = page.get_by_role("navigation"), page.get_by_label("Password")
    expect(inside.or_(password).first).to_be_visible()
    if password.is_visible():
        password.fill(oak.password)
        page.get_by_role("button", name="Sign in").click()
        expect(inside).to_be_visible()
        _SESSIONS[oak.url] = list(page.context.cookies())


@pytest.fixture
def page(browser: Browser, oak: Processes) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    made = context.new_page()
    broken: list[str] = []
    made.on("pageerror", lambda error: broken.append(str(error)))
    sign_in(made, oak)
    yield made
    context.close()
    assert not broken


expect.set_options(timeout=20_000)  # a busy machine draws late; what never comes fails all the same
AXE = ROOT / "console" / "node_modules" / "axe-core" / "axe.min.js"


def faults(page: Page, colours_alone: bool = False) -> list[str]:
    """What keeps somebody out of a page, as axe finds it; `colours_alone` where the rest was looked at in other colours."""
    page.emulate_media(reduced_motion="reduce")  # colours are at once what they will be
    page.evaluate(AXE.read_text())
    rules = ", runOnly: ['color-contrast']" if colours_alone else ""
    found = page.evaluate(f"axe.run(document, {{resultTypes: ['violations']{rules}}})")
    return [
        f"{one['id']}: {one['nodes'][0]['html'][:200]} {one['nodes'][0]['failureSummary'][:200]}"
        for one in found["violations"]
    ]
