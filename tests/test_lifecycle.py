"""Workflows come, change and go: nobody's text is saved over unseen, whoever edits by API, command line or console."""

import os
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Browser, expect

from oak_relay.client import Client, NotFound
from oak_relay.client.errors import Conflict, Denied
from tests.browsing import browser, faults, sign_in
from tests.conftest import Processes, until

__all__ = ["browser"]
TEXT = """oak: 1
workflow: {name}
title: {title}  # as it is on the door
triggers: [{{trigger: go, event: {{type: {name}.go}}}}]
input: {{type: object}}
steps: [{{step: told, set: {{text: "{title}"}}}}]
result: ${{ told.text }}
"""


def text(name: str, title: str = "First") -> str:
    return TEXT.format(name=name, title=title)


def of(client: Client, name: str) -> tuple[int, str]:
    found = client.workflow(name)
    return found.version, found.text


def test_a_new_one_is_never_saved_over_one_of_its_name(client: Client):
    assert client.save(text("ledger")).version == 1
    assert (client.save(text("ledger")).version, client.save(text("ledger")).new) == (1, False)
    with pytest.raises(Conflict, match="version 1, saved by"):
        client.save(text("ledger", "Second"))
    assert client.save(text("ledger", "Second"), 1).version == 2
    with pytest.raises(Conflict, match="version 2, saved by"):
        client.save(text("ledger", "Third"), 1)
    assert client.save(text("ledger", "Third"), over=True).version == 3
    with pytest.raises(Conflict, match="there is none"):
        client.save(text("ledger-not-there"), 4)


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({}, 428),
        ({"If-Match": '"1"'}, 201),
        ({"If-Match": '"7", "1"'}, 201),
        ({"If-Match": "*"}, 201),
        ({"If-Match": '"2"'}, 412),
        ({"If-Match": 'W/"1"'}, 400),
        ({"If-Match": "1"}, 400),
        ({"If-Match": ""}, 400),
        ({"If-None-Match": "*"}, 428),
        ({"If-None-Match": '"1"'}, 400),
        ({"If-Match": '"' + "9" * 900 + '"'}, 412),
    ],
)
def test_tags_are_those_of_the_standard(oak: Processes, client: Client, headers, status):
    """RFC 9110, 13.1.1, and RFC 6585 where none is given."""
    name = "tagged-" + str(abs(hash(str(headers))))[:9]
    client.save(text(name))
    known = {"Authorization": f"Bearer {oak.token}"}
    shown = httpx.get(f"{oak.url}/api/v1/workflows/{name}", headers=known)
    assert shown.headers["etag"] == '"1"'
    body = {"text": text(name, "Second")}
    saved = httpx.post(f"{oak.url}/api/v1/workflows", json=body, headers=known | headers)
    assert saved.status_code == status, saved.text
    if status == 201:
        assert saved.headers["etag"] == '"2"'
    else:
        assert of(client, name)[0] == 1


def test_of_many_who_save_at_once_one_is_first(client: Client):
    client.save(text("at-once"))

    def save(n: int) -> int:
        try:
            return client.save(text("at-once", f"Number {n}"), 1).version
        except Conflict:
            return 0

    with ThreadPoolExecutor(8) as many:
        found = sorted(many.map(save, range(8)))
    assert found == [0] * 7 + [2]


def test_one_that_is_removed_leaves_its_runs_and_its_name(client: Client, oak: Processes):
    client.save(text("short-lived"))
    client.on("short-lived")
    run = client.start("short-lived", {}).wait()
    client.keep_sample(run.id, "one")
    with pytest.raises(Conflict):
        client.remove_workflow("short-lived", 2)
    client.remove_workflow("short-lived", 1)
    for gone in (
        lambda: client.workflow("short-lived"),
        lambda: client.start("short-lived", {}),
        lambda: client.remove_workflow("short-lived"),
    ):
        with pytest.raises(NotFound):
            gone()
    assert "short-lived" not in {w.name for w in client.workflows()}
    kept = client.run(run.id)
    assert kept.result == "First"
    assert kept.run.workflow.startswith("short-lived (removed 2")
    assert [s.path for s in client.trace(run.id).spans] == ["told"]
    client.publish({"id": "x", "source": "/x", "type": "short-lived.go", "data": {}})
    assert client.save(text("short-lived", "Again")).version == 1
    assert client.samples("short-lived") == []
    assert client.runs(workflow="short-lived") == []


def test_a_run_goes_on_when_its_workflow_is_removed(client: Client):
    client.save(
        "oak: 1\nworkflow: let-go\nsteps: [{step: asked, ask: {text: Now?, choices: [yes]}}]\nresult: ${ asked.choice }\n"
    )
    run = client.start("let-go")
    question = until(lambda: client.tray(run=run.id))[0]
    client.remove_workflow("let-go")
    client.answer(question.id, choice="yes")
    assert run.result() == "yes"


def test_another_name_and_another_one_like_it(client: Client):
    client.save(text("old-name"))
    client.on("old-name")
    client.save(
        "oak: 1\nworkflow: names-it\nsteps: [{step: a, run: old-name, with: {}}, {step: b, set: {x: my-old-name-too}}]\nresult: 1\n"
    )
    client.save("oak: 1\nworkflow: names-it-not\nsteps: [{step: b, set: {x: my-old-name-too}}]\nresult: 1\n")
    run = client.start("old-name", {}).wait()
    done = client.rename("old-name", "new-name")
    assert (done.version, done.referring) == (2, ["names-it"])
    version, now = of(client, "new-name")
    assert now == text("old-name").replace("workflow: old-name", "workflow: new-name")
    assert client.workflow("new-name").workflow.on_version == version
    assert client.run(run.id).run.workflow == "new-name"
    assert client.start("new-name", {}).result() == "First"
    with pytest.raises(Conflict):
        client.rename("new-name", "names-it")
    with pytest.raises(Conflict):
        client.duplicate("new-name", "names-it")
    copy = client.duplicate("new-name", "newer-name")
    assert (copy.version, client.workflow("newer-name").workflow.on_version) == (1, None)
    assert "# as it is on the door" in of(client, "newer-name")[1]
    client.save(
        '{"oak": 1, "workflow": "as-json", "steps": [{"step": "a", "set": {"workflow": "as-json"}}], "result": 1}'
    )
    client.rename("as-json", "still-json")
    assert (
        '"workflow": "still-json", "steps": [{"step": "a", "set": {"workflow": "as-json"' in of(client, "still-json")[1]
    )


def test_a_token_for_some_workflows_makes_no_other(oak: Processes, client: Client):
    client.save(text("mine-alone"))
    limited = Client(oak.url, client.add_token("limited", workflows=["mine-alone", "mine-too"]).secret)
    with pytest.raises(Denied, match="other workflows"):
        limited.duplicate("mine-alone", "not-mine")
    with pytest.raises(Denied, match="other workflows"):
        limited.rename("mine-alone", "not-mine")
    assert limited.duplicate("mine-alone", "mine-too").version == 1


def command(oak: Processes, home: Path, *words: str) -> subprocess.CompletedProcess[str]:
    """The command line of somebody with a home of their own."""
    environment = {**oak.environment, "XDG_STATE_HOME": str(home), "COLUMNS": "200"}
    call = [sys.executable, "-m", "oak_relay.cli", "--url", oak.url, *words]
    return subprocess.run(call, env=environment, capture_output=True, text=True, timeout=120)


@pytest.mark.long
def test_by_command_line_nobody_elses_version_is_saved_over(oak: Processes, client: Client, tmp_path: Path):
    file = tmp_path / "shared.yaml"
    file.write_text(text("shared"))
    ours, theirs = tmp_path / "ours", tmp_path / "theirs"
    assert command(oak, ours, "save", str(file)).returncode == 0
    file.write_text(text("shared", "Second"))
    assert "version 2" in command(oak, ours, "save", str(file)).stdout
    refused = command(oak, theirs, "save", str(file.with_name("none.yaml")))
    assert refused.returncode == 1
    file.write_text(text("shared", "From elsewhere"))
    refused = command(oak, theirs, "save", str(file))  # from where it was never seen
    assert (refused.returncode, "--over 2" in refused.stderr) == (6, True), refused.stderr
    got = command(oak, theirs, "text", "shared")
    assert got.stdout == text("shared", "Second")
    assert command(oak, theirs, "save", str(file)).returncode == 0
    file.write_text(text("shared", "Ours"))
    refused = command(oak, ours, "save", str(file))
    assert (refused.returncode, "--over 3" in refused.stderr, "made from version 2" in refused.stderr) == (
        6,
        True,
        True,
    )
    assert of(client, "shared") == (3, text("shared", "From elsewhere"))
    assert command(oak, ours, "save", str(file), "--over", "3").returncode == 0
    assert of(client, "shared") == (4, text("shared", "Ours"))
    assert command(oak, ours, "rename", "shared", "shared-more").returncode == 0
    assert command(oak, ours, "duplicate", "shared-more", "shared-too").returncode == 0
    unsure = command(oak, ours, "remove", "shared-too")
    assert (unsure.returncode, "--yes" in unsure.stderr) == (2, True)
    assert command(oak, ours, "remove", "shared-too", "--yes").returncode == 0
    assert command(oak, ours, "remove", "shared-too", "--yes").returncode == 5
    file.write_text(text("shared-too"))
    assert "version 1" in command(oak, ours, "save", str(file)).stdout  # it is not what it was made from any more
    (ours / "oak-relay" / "bases.json").write_text("[}")
    assert command(oak, ours, "save", str(file)).returncode == 0


@pytest.mark.skipif(not os.path.exists("/usr/bin/chromium"), reason="looks at pages")
@pytest.mark.parametrize(("theme", "width"), [("light", 1280), ("dark", 400)])
def test_a_conflict_and_what_differs_keep_nobody_out(
    oak: Processes, client: Client, browser: Browser, theme: str, width: int
):
    name = f"seen-{theme}"
    client.save(text(name))
    client.save(text(name, "A title that is long enough to be wider than a telephone is held upright, by far"), 1)
    page = browser.new_context(viewport={"width": width, "height": 800}).new_page()
    sign_in(page, oak)
    if theme == "dark":
        page.get_by_role("button", name="Dark").click()
    page.goto(f"{oak.url}/workflows/{name}?line=title")
    title = page.get_by_role("region", name="Bench").get_by_label("Title", exact=True)
    title.fill("By hand")
    title.blur()
    client.save(text(name, "By command"), 2)
    page.get_by_role("button", name="Save", exact=True).click()
    conflict = page.get_by_role("alert").filter(has_text="Somebody else has saved meanwhile")
    expect(conflict.locator(".cm-content").first).to_be_visible()
    expect(conflict).to_contain_text("By command")
    assert faults(page) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    conflict.get_by_role("button", name="Save yours behind it").click()
    expect(page.get_by_text("Saved as version 4")).to_be_visible()
    page.get_by_role("button", name="What is different?").nth(2).click()
    expect(page.locator(".different")).to_contain_text("title")
    assert faults(page) == []
    page.locator(".different").get_by_label("as text").check()
    expect(page.locator(".different .cm-content").first).to_be_visible()
    assert faults(page) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    page.context.close()


def test_in_the_console_both_texts_stand_side_by_side(oak: Processes, client: Client, browser: Browser):
    client.save(text("both"))
    page = browser.new_context(viewport={"width": 1280, "height": 900}).new_page()
    sign_in(page, oak)
    page.goto(f"{oak.url}/workflows/both?side=document")
    content = page.locator(".cm-content")
    expect(content).to_contain_text("First")
    client.save(text("both", "By command"), 1)

    def write(title: str) -> None:
        content.click()
        page.keyboard.press("Control+A")
        page.keyboard.insert_text(text("both", title))
        page.get_by_role("button", name="Save", exact=True).click()

    write("By hand")
    conflict = page.get_by_role("alert").filter(has_text="Somebody else has saved meanwhile")
    expect(conflict).to_contain_text("By command")
    expect(conflict).to_contain_text("By hand")
    assert of(client, "both") == (2, text("both", "By command"))
    conflict.get_by_role("button", name="Save yours behind it").click()
    expect(page.get_by_text("Saved as version 3")).to_be_visible()
    assert of(client, "both") == (3, text("both", "By hand"))
    client.save(text("both", "Once more"), 3)
    write("Let go")
    page.get_by_role("button", name="Take theirs").click()
    expect(content).to_contain_text("Once more")
    page.get_by_role("button", name="Duplicate…").click()
    page.get_by_role("dialog").get_by_role("button", name="Duplicate").click()
    expect(page).to_have_url(f"{oak.url}/workflows/both-2")
    page.get_by_role("button", name="Rename…").click()
    page.get_by_role("textbox", name="Name").fill("both-other")
    page.get_by_role("dialog").get_by_role("button", name="Rename").click()
    expect(page).to_have_url(f"{oak.url}/workflows/both-other")
    page.get_by_role("button", name="Remove…").click()
    page.get_by_role("dialog").get_by_role("button", name="Remove").click()
    expect(page).to_have_url(f"{oak.url}/workflows")
    assert "both-other" not in {w.name for w in client.workflows()}
    page.context.close()
