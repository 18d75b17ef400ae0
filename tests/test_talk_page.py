"""The page on which people talk, in Chromium."""

import base64
import re
import threading
from collections.abc import Iterator
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import quote

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect

from oak_relay.service.built import WEB
from oak_relay.standins.media import picture
from tests.browsing import browser, faults
from tests.conftest import Processes, until
from tests.test_talking import talking

__all__ = ["browser"]
STEPS = """
  - step: say
    send:
      text: "You said: ${ input.text }"
      buttons: [dogs, soup]
"""
HOSTILE = '<img src=x onerror="document.title=1"><script>document.title=2</script> [a](javascript:alert(1)) **bold**'


@pytest.fixture(scope="module")
def desk(oak: Processes) -> Iterator[str]:
    talking(oak.client(), "hut-desk", STEPS)
    yield f"{oak.url}/talk/hut-desk"


@pytest.fixture
def talk(browser: Browser, desk: str) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page, broken = context.new_page(), []
    page.on("pageerror", lambda error: broken.append(str(error)))
    page.goto(desk)
    expect(page.get_by_role("heading", name="Ask about hut-desk")).to_be_visible()
    yield page
    context.close()
    assert not broken


def test_somebody_talks_by_keyboard_presses_a_button_and_comes_back(talk: Page):
    log = talk.get_by_role("log")
    expect(log).to_contain_text("Good day.")
    talk.keyboard.type("May a dog come along?")  # the field has the focus
    talk.keyboard.press("Enter")
    expect(log).to_contain_text("You said: May a dog come along?")
    talk.get_by_role("group", name="Answers to choose from").get_by_role("button", name="soup").click()
    expect(log).to_contain_text("You said: soup")
    judged = log.get_by_role("group", name="Was this answer good?").last
    judged.get_by_role("button", name="good").click()
    expect(judged.get_by_role("button", name="good")).to_have_attribute("aria-pressed", "true")
    talk.reload()
    expect(log.locator("li.us")).to_have_count(3)
    expect(log.get_by_role("button", name="good", pressed=True)).to_have_count(1)
    talk.get_by_role("button", name="Begin anew").click()
    expect(log.locator("li")).to_have_count(1)
    talk.get_by_role("button", name="Dogs?").click()
    expect(log).to_contain_text("You said: Dogs?")
    assert "soup" not in log.inner_text()


def test_what_is_written_is_markup_for_nobody(talk: Page, oak: Processes):
    talk.get_by_label("Your message").fill(HOSTILE)
    talk.get_by_role("button", name="Send").click()
    log = talk.get_by_role("log")
    expect(log.locator("li.us strong")).to_have_text("bold")  # Markdown is, HTML is not
    expect(log.locator("li.them").last).to_contain_text("<img src=x")
    assert log.locator("img, script, a[href^=javascript]").count() == 0
    expect(talk).to_have_title("Ask about hut-desk")


def test_pictures_are_given_and_shown_and_an_answer_is_seen_while_it_is_written(browser: Browser, oak: Processes):
    client = oak.client()
    client.put_credential("talk-models", kind="bearer", secret=oak.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])  # fmt: skip
    client.put_model("talk-quick", url=f"{oak.standins}/v1", model="larch-small", credential="talk-models", prices={"input": 1, "output": 4})  # fmt: skip
    talking(client, "hut-album", """
  - {step: nap, wait: 3s}
  - {step: reply, do: model.answer, with: {model: talk-quick, prompt: "${ input.text }"}}
  - {step: say, send: "${ reply.text }"}
  - {step: back, send: {files: "${ input.parts | map(attribute='file') }"}}
""", f"0s, accepts: [picture], picture: \"data:image/png;base64,{base64.b64encode(picture('hut')).decode()}\"")  # fmt: skip
    context = browser.new_context(viewport={"width": 400, "height": 700})
    page = context.new_page()
    page.goto(f"{oak.url}/talk/hut-album")
    expect(page.get_by_role("log")).to_be_visible()
    page.evaluate("""() => { const seen = (window.seen = []); const draft = document.querySelector('ol[aria-hidden]');
      new MutationObserver(() => draft.innerText && seen.push(draft.innerText)).observe(draft, { childList: true, subtree: true }) }""")
    hut = {"name": "Upper Tarn.png", "mimeType": "image/png", "buffer": picture("a hut in snow")}
    page.locator("input[type=file]").set_input_files([hut, {**hut, "name": "notes.txt", "mimeType": "text/plain"}])
    chosen = page.get_by_role("list", name="Files to be sent")
    until(lambda: page.locator("header img").evaluate("one => one.naturalWidth") == 48)
    expect(chosen.locator("li")).to_have_count(1)  # of what is not taken nothing is chosen
    chosen.get_by_role("button", name="Leave out Upper Tarn.png").click()
    expect(chosen.locator("li")).to_have_count(0)
    page.locator("input[type=file]").set_input_files([hut])
    page.get_by_label("Your message").fill("hello there")
    page.keyboard.press("Enter")
    log = page.get_by_role("log")
    expect(log.locator("li.us img")).to_have_count(1)
    for side in ("them", "us"):
        shown = log.locator(f"li.{side} img")
        expect(shown).to_have_attribute("alt", "Upper Tarn.png")
        until(lambda s=shown: s.evaluate("one => one.naturalWidth") == 48)
    expect(log).to_contain_text("Hello from the model stand-in.")
    for again in range(4):  # it is a hint, which may be missed on a busy machine
        if page.evaluate("window.seen.length"):
            break
        page.get_by_label("Your message").fill("hello again")
        page.keyboard.press("Enter")
        expect(log.get_by_text("Hello from the model stand-in.")).to_have_count(again + 2)
    assert "Hello" in page.evaluate("window.seen[0]")
    expect(page.locator("ol[aria-hidden]")).to_be_hidden()
    assert faults(page) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= 400
    context.close()


def test_commands_are_offered_while_one_is_written_and_said_by_a_press(browser: Browser, oak: Processes):
    client = oak.client()
    talking(client, "hut-orders", "\n  - step: say\n    send: \"${ input.command or 'no command' }\"\n")
    text = client.workflow("hut-orders").text
    named = "commands: {menu: What the kitchen has, meals: When they are, bunks: Which are free}"
    saved = client.save(text.replace("path: hut-orders", f"path: hut-orders, {named}"), over=True)
    assert not saved.findings
    client.on("hut-orders")
    page = browser.new_context(viewport={"width": 400, "height": 700}).new_page()
    page.goto(f"{oak.url}/talk/hut-orders")
    field, offered = page.get_by_label("Your message"), page.get_by_role("group", name="Commands")
    field.fill("soup")
    expect(offered.get_by_role("button")).to_have_count(0)
    field.fill("/")
    expect(offered.get_by_role("button")).to_have_count(3)
    field.press_sequentially("ME")
    expect(offered.get_by_role("button")).to_have_text(["/menu What the kitchen has", "/meals When they are"])
    assert faults(page) == [] and page.evaluate("document.documentElement.scrollWidth") <= 400
    offered.get_by_role("button", name="/menu").press("Enter")
    expect(page.get_by_role("log").locator("li.us .words")).to_have_text(["Good day.", "menu"])
    expect(offered.get_by_role("button")).to_have_count(0)
    expect(field).to_be_focused()
    field.fill("/secret")  # that is not named is one too
    page.keyboard.press("Enter")
    expect(page.get_by_role("log").locator("li.us .words")).to_have_text(["Good day.", "menu", "secret"])
    for odd in ("Menu: x", "'a b': x", f"{'m' * 40}: x", "menu: ''", f"menu: {'x' * 101}"):
        assert client.check(text.replace("path: hut-orders", f"path: hut-orders, commands: {{{odd}}}")).findings, odd
    page.context.close()


def test_a_page_is_tried_before_it_is_on_and_apart_from_all_others(browser: Browser, oak: Processes):
    client = oak.client()
    talking(client, "hut-trial", STEPS)
    client.save(client.workflow("hut-trial").text.replace("You said", "The draft heard"), over=True)
    [trigger] = client.triggers("hut-trial")
    tried, really = browser.new_context().new_page(), browser.new_context().new_page()
    for page, address in ((tried, trigger.draft_page), (really, trigger.page)):
        page.goto(address)
        page.get_by_label("Your message").fill("Is there soup?")
        page.keyboard.press("Enter")
    expect(tried.get_by_role("log")).to_contain_text("The draft heard: Is there soup?")
    expect(tried.locator("body")).to_contain_text("Version 2 is tried here")
    expect(really.get_by_role("log")).to_contain_text("You said: Is there soup?")
    assert "tried" not in really.locator("body").inner_text()
    keys = [one.key for one in client.every(client.conversations) if "hut-trial" in one.key]
    assert sorted(key.startswith("draft ") for key in keys) == [False, True]
    later = tried.context.new_page()
    later.goto(trigger.page)
    expect(later.get_by_role("heading")).to_be_visible()
    assert "tried" not in later.locator("body").inner_text()
    client.off("hut-trial")
    tried.get_by_label("Your message").fill("Still there?")
    tried.keyboard.press("Enter")
    expect(tried.get_by_role("log")).to_contain_text("The draft heard: Still there?")
    name, _, proof = trigger.draft_page.rpartition("#")[2].removeprefix("draft:").partition(":")
    for key in (
        f"draft:{name}:{proof[:-1]}",
        f"draft:{name}:",
        "draft:",
        f"draft:hut-desk:{proof}",
        f"draft:{'x' * 300}:{proof}",
    ):
        assert httpx.get(f"{oak.url}/talk/hut-trial/about", headers={"X-Page-Key": key}).status_code == 404, key
    other = {"X-Page-Key": f"draft:{name}:{proof}", "X-Visitor": "a" * 30}
    assert httpx.get(f"{oak.url}/talk/hut-desk/about", headers=other).status_code == 404
    assert httpx.get(f"{oak.url}/talk/hut-trial/messages", headers=other).json()["items"] == []


def test_several_tabs_say_the_same(talk: Page, desk: str):
    other = talk.context.new_page()
    other.goto(desk)
    talk.get_by_label("Your message").fill("From one tab")
    talk.keyboard.press("Enter")
    for page in (talk, other):
        expect(page.get_by_role("log")).to_contain_text("You said: From one tab")
        expect(page.get_by_role("log").locator("li.them")).to_have_count(1)


def test_what_is_not_taken_is_said_and_sent_again(talk: Page):
    talk.context.set_offline(True)
    talk.get_by_label("Your message").fill("Is anybody there?")
    talk.keyboard.press("Enter")
    unsent = talk.get_by_role("list", name="What is being sent")
    expect(unsent).to_contain_text("Not sent: the other side is away.")
    talk.context.set_offline(False)
    unsent.get_by_role("button", name="Send again").click()
    expect(talk.get_by_role("log")).to_contain_text("You said: Is anybody there?")
    expect(unsent.locator("li")).to_have_count(0)


@pytest.mark.parametrize(("theme", "width"), [("light", 1280), ("dark", 400)])
def test_nobody_is_kept_out(browser: Browser, desk: str, theme: str, width: int):
    context = browser.new_context(viewport={"width": width, "height": 800}, color_scheme=theme)
    page = context.new_page()
    page.goto(desk)
    page.get_by_label("Your message").fill("a-very-long-word-" * 30)
    page.keyboard.press("Enter")
    expect(page.get_by_role("log")).to_contain_text("You said: a-very")
    assert faults(page) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    context.close()


def test_without_script_and_where_nobody_talks_it_explains_itself(browser: Browser, desk: str):
    context = browser.new_context(java_script_enabled=False)
    page = context.new_page()
    page.goto(desk)
    expect(page.locator("noscript")).to_be_visible()
    assert "It needs JavaScript" in page.locator("noscript").inner_text()
    context.close()
    page = browser.new_page()
    page.goto(desk.replace("hut-desk", "nobody"))
    expect(page.get_by_role("heading", name="Nobody talks here")).to_be_visible()
    page.close()


def test_it_is_small_and_loads_nothing_from_elsewhere(browser: Browser, desk: str):
    page, asked = browser.new_page(), []
    page.on("request", lambda request: asked.append(request.url))
    page.goto(desk)
    expect(page.get_by_role("log")).to_be_visible()
    base = re.match(r"http://[^/]+", desk)[0]  # type: ignore[index]
    until(lambda: any("/stream" in url for url in asked))
    assert all(url.startswith((base, "data:")) for url in asked), asked
    assert sum(file.stat().st_size for file in (WEB / "talk").rglob("*.br")) < 45_000
    assert not page.context.cookies()
    page.close()


@pytest.fixture
def barred(oak: Processes) -> dict[str, str]:
    """Pages that are not open to everybody."""
    client = oak.client()
    client.put_credential("page-word", kind="bearer", secret="grüne Jacke 7", hosts=["127.0.0.1"])
    flow = 'oak: 1\nworkflow: {name}\ntriggers: [{{trigger: t, conversation: {{path: {name}, gather: 0s, {more}}}}}]\nsteps: [{{step: say, send: "You said: ${{ input.text }}"}}]\n'
    for name, more in (("word-desk", "open_to: password, password: page-word"), ("link-desk", "open_to: link")):
        client.save(flow.format(name=name, more=more), over=True)
        client.on(name)
    return {name: next(iter(client.triggers(name))).page for name in ("word-desk", "link-desk")}


def test_a_page_opens_by_its_password(browser: Browser, oak: Processes, barred: dict[str, str]):
    context = browser.new_context(viewport={"width": 400, "height": 700})
    page = context.new_page()
    page.goto(barred["word-desk"])
    page.get_by_label("Password").fill("wrong")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_have_text("That is not the password.")
    assert faults(page) == []
    page.get_by_label("Password").fill("grüne Jacke 7")
    page.keyboard.press("Enter")
    page.get_by_label("Your message").fill("Hello")
    page.keyboard.press("Enter")
    expect(page.get_by_role("log")).to_contain_text("You said: Hello")
    page.reload()  # it is kept
    expect(page.get_by_role("log")).to_contain_text("You said: Hello")
    context.close()
    for call in (
        httpx.get(f"{oak.url}/talk/word-desk/about"),
        httpx.get(f"{oak.url}/talk/word-desk/messages", headers={"X-Visitor": "v" * 24}),
        httpx.get(f"{oak.url}/talk/word-desk/stream", headers={"X-Visitor": "v" * 24}),
        httpx.post(
            f"{oak.url}/talk/word-desk/messages", json={"id": "a", "text": "x"}, headers={"X-Visitor": "v" * 24}
        ),
    ):
        assert (call.status_code, call.json()["detail"]) == (401, "password")
    tried = [
        httpx.get(f"{oak.url}/talk/word-desk/about", headers={"X-Page-Key": f"guess {n}"}).status_code
        for n in range(12)
    ]
    assert tried[0] == 401 and tried[-1] == 429
    right = {"X-Page-Key": quote("grüne Jacke 7")}
    assert (
        httpx.get(f"{oak.url}/talk/word-desk/about", headers=right).status_code == 429
    )  # who guesses on learns nothing


def test_a_page_opens_by_its_whole_link_alone(browser: Browser, barred: dict[str, str]):
    page = browser.new_context().new_page()
    page.goto(barred["link-desk"].partition("#")[0])
    expect(page.get_by_role("heading")).to_have_text("This page opens by its whole link alone")
    page.goto("about:blank")
    page.goto(barred["link-desk"])
    page.get_by_label("Your message").fill("Hello")
    page.keyboard.press("Enter")
    expect(page.get_by_role("log")).to_contain_text("You said: Hello")
    page.context.close()


class Site(SimpleHTTPRequestHandler):
    """Another site, with a page that opens ours over itself."""

    script = ""

    def do_GET(self) -> None:
        body = f'<!doctype html><title>Huts</title><h1>Huts</h1><script src="{self.script}" data-open="Ask us" defer></script>'.encode()
        self.send_response(200)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        """It says nothing."""


def test_a_page_is_held_in_a_frame_by_the_sites_it_names_and_no_other(browser: Browser, oak: Processes):
    Site.script = f"{oak.url}/talk/framed-desk/overlay.js"
    server = ThreadingHTTPServer(("127.0.0.1", 0), Site)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    port = server.server_address[1]
    client = oak.client()
    client.save(f'oak: 1\nworkflow: framed-desk\ntriggers: [{{trigger: t, conversation: {{path: framed-desk, gather: 0s, sites: ["http://localhost:{port}"]}}}}]\nsteps: [{{step: say, send: "You said: ${{ input.text }}"}}]\n')  # fmt: skip
    client.on("framed-desk")
    page = browser.new_context().new_page()
    page.goto(f"http://localhost:{port}/")
    page.get_by_role("button", name="Ask us").click()
    inside = page.frame_locator("iframe")
    inside.get_by_label("Your message").fill("Hello")
    page.keyboard.press("Enter")
    expect(inside.get_by_role("log")).to_contain_text("You said: Hello")
    page.get_by_role("button", name="Close").click()
    expect(page.locator("iframe")).to_be_hidden()
    page.goto(f"http://127.0.0.1:{port}/")  # the same page at a place that is not named
    page.get_by_role("button", name="Ask us").click()
    until(lambda: page.wait_for_timeout(50) or any(frame.url.startswith("chrome-error://") for frame in page.frames))
    page.context.close()
    server.shutdown()
    assert httpx.get(f"{oak.url}/talk/hut-desk/overlay.js").status_code == 404
    assert "frame-ancestors 'none'" in httpx.get(f"{oak.url}/talk/hut-desk").headers["content-security-policy"]


def test_without_script_the_page_explains_itself(browser: Browser, desk: str):
    page = browser.new_context(java_script_enabled=False).new_page()
    page.goto(desk)
    told = page.locator("noscript")
    expect(told).to_be_visible()
    assert "It needs JavaScript" in told.inner_html()
    page.context.close()
