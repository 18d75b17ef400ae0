"""What strangers wrote is text: in every page, on every command's output, in a command to copy."""

import json
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Browser, Page

from oak_relay.client import Client
from tests.browsing import browser, sign_in
from tests.conftest import Processes, until

__all__ = ["browser"]

MARKUP = "<img src=x onerror=window.owned=1><script>window.owned=1</script><svg/onload=window.owned=1>"
TERMINAL = "\x1b]0;owned\x07\x1b[31m\x9b31m\x1b[2J\u202eabc[/x][link=http://evil.example]here[/link]"
HOSTILE = f"{MARKUP}{TERMINAL}{{{{7*7}}}} 'quoted' \"twice\" \\"
CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202e]")
FLOW = """
oak: 1
workflow: strange
note: "%s"
triggers:
  - trigger: told
    webhook: {path: strange, verify: {scheme: none}}
subject: ${ input.subject }
steps:
  - step: kept
    do: table.add
    with: {table: strange_rows, row: {text: "${ input.text }"}}
  - step: called
    do: http.request
    with: {url: "${ input.url }", method: POST, headers: "${ input.headers }", json: "${ input.text }"}
    retry: {tries: 1}
    on_error: go_on
  - step: asked
    ask: {text: "${ input.text }", choices: ["<i>yes</i>", "no"], at: link}
result: ${ input.text }
"""


@pytest.fixture(scope="module")
def strange(oak: Processes) -> str:
    """A run in which everything that strangers can write is hostile; it waits for an answer."""
    client = oak.client()
    client.create_table("strange_rows", {"text": "text"})
    note = json.dumps(HOSTILE)[1:-1]
    client.on(client.save(FLOW.replace("%s", note)).workflow)
    headers = {"`touch /tmp/owned`": "a", "x-$(touch /tmp/owned)": "b"}
    given = {"text": HOSTILE, "subject": HOSTILE[:200], "url": f"{oak.standins}/office/[1-9]{{a,b}}?@/etc/passwd", "headers": {k.replace("(", "").replace(")", "").replace(" ", "").replace("/", ""): v for k, v in headers.items()}}  # fmt: skip
    sent = httpx.post(f"{oak.url}/hooks/strange", json=given, headers={"webhook-id": MARKUP, "X-Odd": MARKUP})
    assert sent.status_code == 202, sent.text
    run = str(sent.json()["run"])
    until(lambda: [q for q in client.tray() if str(q.run_id) == run])
    return run


@pytest.fixture(scope="module")
def page(browser: Browser, oak: Processes, strange: str) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    sign_in(page, oak)
    yield page
    context.close()


def unharmed(page: Page) -> None:
    page.wait_for_load_state("networkidle")
    assert page.evaluate("window.owned") is None
    assert page.locator("img[src='x'], main script, svg[onload], a[href^='javascript']").count() == 0


@pytest.mark.parametrize("place", ["workflows", "workflows/strange", "runs", "runs/{run}", "runs/{run}?step=called", "runs/{run}?step=kept", "tray", "schedules", "credentials", "models", "usage", "access", MARKUP])  # fmt: skip
def test_nothing_of_strangers_runs_in_a_page(page: Page, oak: Processes, strange: str, place: str):
    page.goto(
        f"{oak.url}/{place.format(run=strange) if place != MARKUP else MARKUP.replace('/', '')}",
        wait_until="domcontentloaded",
    )
    unharmed(page)
    if place == "tray":
        assert page.get_by_text("onerror=window.owned").count() >= 1  # shown, as text


def test_a_question_by_link_is_text_too(page: Page, oak: Processes, client: Client, strange: str):
    [link] = [q.link for q in client.tray() if str(q.run_id) == strange]
    assert link
    page.goto(link)
    unharmed(page)
    assert page.get_by_text("onerror=window.owned").count() == 1


def test_a_command_to_copy_holds_nothing_for_a_shell_or_curl(page: Page, oak: Processes, strange: str, tmp_path: Path):
    page.goto(f"{oak.url}/runs/{strange}?step=called")
    page.get_by_text("As a curl command").click()
    command = page.locator("pre", has_text="curl --globoff").inner_text()
    # A curl that only tells what it was given.
    told = tmp_path / "curl"
    told.write_text(f"#!{sys.executable}\nimport json, sys\nprint(json.dumps(sys.argv[1:]))\n")
    told.chmod(0o755)
    done = subprocess.run(["sh", "-c", command], env={"PATH": f"{tmp_path}:/usr/bin:/bin"}, cwd=tmp_path, capture_output=True, text=True)  # fmt: skip
    words = json.loads(done.stdout)
    assert words[:3] == ["--globoff", "-X", "POST"]
    assert "/office/[1-9]" in words[3]
    assert words[-2] == "--data-raw"
    assert "owned" in words[-1]
    assert [file.name for file in tmp_path.iterdir()] == ["curl"]


COMMANDS = [
    ["runs"], ["show", "{run}"], ["tray"], ["schedules"], ["usage"], ["table", "rows", "strange_rows"], ["table", "list"], ["credential", "list"], ["model", "list"],
    ["server", "list"], ["token", "list"], ["session", "list"], ["workflows"], ["conversation", "list"], ["start", "strange", "--input", '{"text": "x\\u001b[31m"}'],
    ["show", "\x1b[31m"], ["start", "[/x]\x1b]0;a\x07"], ["check", "{file}"], ["--json", "runs"], ["--json", "tray"], ["--json", "show", "{run}"],
]  # fmt: skip


@pytest.mark.parametrize("words", COMMANDS, ids=lambda words: " ".join(words)[:40].encode("ascii", "replace").decode())
def test_no_control_sequence_gets_to_a_terminal(oak: Processes, strange: str, tmp_path: Path, words: list[str]):
    file = tmp_path / "strange.yaml"
    file.write_text('oak: 1\nworkflow: "a\\e[31m"\nsteps: [{step: "<b>", set: {x: "${ nothing_\\u202e }"}}]\n')
    given = [
        word.format(run=strange[-12:], file=file) if "{" in word and "text" not in word else word for word in words
    ]
    done = subprocess.run([sys.executable, "-m", "oak_relay.cli", "--url", oak.url, *given], env={**oak.environment, "COLUMNS": "160"}, capture_output=True, text=True, timeout=60)  # fmt: skip
    said = done.stdout + done.stderr
    assert "Traceback" not in said, said
    assert not CONTROL.search(said), repr(CONTROL.search(said))
    if "--json" in words:
        json.loads(done.stdout)


def test_the_log_holds_no_control_sequence(oak: Processes, strange: str):
    httpx.get(f"{oak.url}/api/v1/workflows/%1b%5B31m", headers={"Authorization": f"Bearer {oak.token}"})
    assert not re.search(r"[\x00-\x08\x0b-\x1f\x9b]", oak.log.read_text(errors="replace"))
