"""Workflows are written in the console by hand, without the document being opened; nothing that is typed is lost."""

import re
from collections.abc import Callable, Iterator
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect
from ruamel.yaml import YAML

from tests.bench import Hands, Keys
from tests.browsing import browser, faults, sign_in
from tests.conftest import ROOT, Processes, seed, seed_agents

__all__ = ["browser"]
REBUILT = [
    "bunk-availability",
    "reply-screen",
    "booking-triage",
    "hut-rounds",
    "guest-chat",
    "morning-conditions",
    "route-briefing",
]
BY_KEYS = {"booking-triage"}
"""Written with the keyboard alone."""
LONG_TO_WRITE = {
    "booking-triage",
    "hut-rounds",
    "morning-conditions",
    "reply-screen",
    "route-briefing",
    "bunk-availability",
}


@pytest.fixture(scope="module")
def house(new_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Processes]:
    made = Processes(tmp_path_factory.mktemp("bench"), new_database())
    made.start_all()
    made.start_worker()
    seed(made)
    seed_agents(made)
    yield made
    made.stop()


@pytest.fixture
def page(browser: Browser, house: Processes) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 900})
    context.grant_permissions(["clipboard-read", "clipboard-write"])
    made = context.new_page()
    sign_in(made, house)
    yield made
    context.close()


def hands(page: Page, house: Processes, kind: type[Hands] = Hands) -> Hands:
    client = house.client()
    return kind(page, {one.name: one for one in client.every(client.actions)})


def meant(name: str) -> dict[str, Any]:
    text = (ROOT / "demo" / "workflows" / f"{name}.yaml").read_text()
    return YAML(typ="safe", pure=True).load(text)


def rebuild(oak: Hands, page: Page, url: str, data: dict[str, Any], name: str) -> None:
    page.goto(f"{url}/workflows/new")
    oak.shown("steps.0")
    oak.choose("steps.0")
    oak.press("Delete")
    oak.put(page.get_by_label("Name of the workflow"), name)
    oak.put(page.get_by_label("Title", exact=True).first, data.get("title", ""))
    oak.choose("title")
    for key, title in (("note", "Note"), ("labels", "Labels")):
        if key in data:
            oak.write(title, data[key])
    for key, value in data.get("limits", {}).items():
        oak.write(f"Limit: {key.replace('_', ' ')}", value)
    oak.choose("input")
    oak.click(oak.bench.get_by_role("button", name="Remove name", exact=True))
    boxes = oak.bench.locator(".shape")
    if "input" in data:
        oak.shape(data["input"], boxes.nth(0))
    if "subject" in data:
        oak.write("What a run is about", data["subject"])
    if "settings" in data:
        oak.shape(data["settings"], boxes.last)
    for n, trigger in enumerate(data.get("triggers", [])):
        start(oak, page, n, trigger)
    steps(oak, page, data["steps"], "steps", "input")
    oak.choose("result")
    if "result" in data:
        oak.write("It gives", data["result"])
    if data.get("always"):
        oak.click(oak.bench.get_by_role("button", name="Add lines that are done at the end"))
        oak.shown("always.0")
        within(oak, page, data["always"], "always")


def start(oak: Hands, page: Page, n: int, trigger: dict[str, Any]) -> None:
    kind = next(key for key in trigger if key not in ("trigger", "input"))
    if n:
        oak.choose(f"triggers.{n - 1}")
        oak.click(oak.bench.get_by_role("button", name="Another way to start it"))
    else:
        oak.choose("triggers")
    expect(oak.bench.get_by_label("What starts it")).to_have_value("")
    oak.pick(oak.bench.get_by_label("What starts it"), kind)
    oak.shown(f"triggers.{n}")
    oak.choose(f"triggers.{n}")
    oak.write("Name", trigger["trigger"])
    for key, value in trigger[kind].items():
        oak.write(key.replace("_", " ").capitalize(), value)
    for key, value in (trigger.get("input") or {}).items():
        oak.write(key, value)


def steps(oak: Hands, page: Page, given: list[dict[str, Any]], at: str, behind: str) -> None:
    """The steps of a list that is empty."""
    for n, step in enumerate(given):
        path = f"{at}.{n}"
        oak.add(behind, step, path)
        fill(oak, page, step, path)
        behind = path


def fill(oak: Hands, page: Page, step: dict[str, Any], path: str) -> None:
    oak.choose(path)
    kind = next(
        one
        for one in (
            "do",
            "run",
            "set",
            "branch",
            "each",
            "together",
            "repeat",
            "wait",
            "ask",
            "reply",
            "emit",
            "stop",
            "fail",
            "todo",
        )
        if one in step
    )
    oak.more()
    if kind == "do":
        does(oak, step, path)
    elif kind == "run":
        if "with" in step:
            oak.write("With", step["with"])
    elif kind in ("set", "wait", "stop", "fail"):
        oak.write(kind.capitalize(), step[kind])
    elif kind in ("ask", "reply", "emit", "repeat"):
        for key, value in step[kind].items():
            if key == "form":
                oak.shape(value, oak.bench.locator(".shape").first)
            elif key != "tell":
                oak.write(key.capitalize(), value)
        if kind == "ask" and "choices" not in step["ask"]:
            oak.click(oak.bench.get_by_role("button", name="Leave out Choices"))
    elif kind == "each":
        for key in ("each", "as", "width", "failed"):
            if key in step:
                oak.write(key.capitalize(), step[key])
    if "gives" in step and kind in ("each", "repeat"):
        oak.write("Gives", step["gives"])
    if step.keys() & {"retry", "timeout", "on_error", "unknown", "when", "once"}:
        oak.part("If it fails")
        fails(oak, step)
    if "note" in step:
        oak.part("Note and name")
        oak.write("Note", step["note"])
    inside(oak, page, step, path, kind)


def does(oak: Hands, step: dict[str, Any], path: str, tools: str = "") -> None:
    tools = tools or f"{path}.with.tools"
    for key, value in step.get("with", {}).items():
        title = "URL" if key == "url" else "JSON" if key == "json" else key.replace("_", " ").capitalize()
        if key == "tools":
            continue
        if key == "gives":
            oak.shape(value, oak.bench.locator(".shape").first)
        elif key in ("memory", "limits", "retry") and isinstance(value, dict):
            for inner, one in value.items():
                oak.write(f"{title}: {inner.replace('_', ' ')}", one)
        else:
            oak.write(title, value)
    for n, tool in enumerate(step.get("with", {}).get("tools", [])):
        oak.choose(path)
        kind = next(one for one in ("do", "run", "agent", "server", "table") if one in tool)
        oak.pick(oak.bench.get_by_label("Add a tool"), f"{kind} {tool[kind]}")
        oak.shown(f"{tools}.{n}")
        oak.choose(f"{tools}.{n}")
        for key, value in tool.items():
            titles = {
                "name": "Name",
                "use_when": "When it is used",
                "columns": "Columns",
                "may": "It may",
                "only": "Only these of its tools",
                "approve": "A person approves each call",
            }
            if key == "with" and kind == "do":
                for field, one in value.items():
                    opened = oak.bench.get_by_label(
                        f"{field.replace('_', ' ').capitalize()} is left open for the model"
                    )
                    if isinstance(one, dict) and "open" in one:
                        oak.check(opened, True)
                        box = oak.bench.get_by_label(f"What belongs into {field.replace('_', ' ').capitalize()}")
                        oak.put(box, one["open"])
                    else:
                        oak.check(opened, False)
                        oak.write(
                            "URL"
                            if field == "url"
                            else "JSON"
                            if field == "json"
                            else field.replace("_", " ").capitalize(),
                            one,
                        )
            elif key == "with":
                oak.write("What it is given", value)
            elif key in titles:
                oak.write(titles[key], value)


def fails(oak: Hands, step: dict[str, Any]) -> None:
    if "retry" in step:
        oak.write("Tries", step["retry"]["tries"])
        if "wait" in step["retry"]:
            oak.write("Wait between tries", step["retry"]["wait"])
    titles = {
        "timeout": "Time-out",
        "unknown": "When nobody knows whether it happened",
        "when": "Only when",
        "once": "Only once ever for",
    }
    for key, title in titles.items():
        if key in step:
            oak.write(title, step[key])
    if isinstance(step.get("on_error"), str):
        oak.write("When it fails in the end", step["on_error"])


def inside(oak: Hands, page: Page, step: dict[str, Any], path: str, kind: str) -> None:
    if kind in ("each", "repeat"):
        within(oak, page, step["steps"], f"{path}.steps")
    elif kind == "branch":
        arms = step["branch"]
        otherwise = "else" in arms[-1]
        for _ in range(len(arms) - (2 if otherwise else 1)):
            oak.choose(path)
            oak.click(oak.bench.get_by_role("button", name="Add a way"))
        for n, arm in enumerate(arms):
            oak.shown(f"{path}.branch.{n}")
            oak.choose(f"{path}.branch.{n}")
            if "if" in arm:
                oak.write("If", arm["if"])
            if "gives" in arm:
                oak.write("Gives", arm["gives"])
            within(
                oak,
                page,
                arm.get("else", arm.get("steps")),
                f"{path}.branch.{n}.{'else' if 'else' in arm else 'steps'}",
            )
    elif kind == "together":
        for n, (name, strand) in enumerate(step["together"].items()):
            oak.choose(f"{path}.together.{('one', 'other')[n]}")
            oak.write("Name", name)
            oak.shown(f"{path}.together.{name}")
            oak.choose(f"{path}.together.{name}")
            if "gives" in strand:
                oak.write("Gives", strand["gives"])
            within(oak, page, strand["steps"], f"{path}.together.{name}.steps")
    if isinstance(step.get("on_error"), list):
        oak.choose(path)
        oak.part("If it fails")
        oak.click(oak.bench.get_by_role("button", name="Do something else when it fails"))
        oak.shown(f"{path}.on_error.0")
        within(oak, page, step["on_error"], f"{path}.on_error")


def within(oak: Hands, page: Page, given: list[dict[str, Any]], at: str) -> None:
    """The steps of a list that begins with a sketch, in whose place the first one is written."""
    oak.shown(f"{at}.0")
    for n, step in enumerate(given):
        oak.add(f"{at}.{max(n - 1, 0)}", step, f"{at}.{n}")
        fill(oak, page, step, f"{at}.{n}")
    if not given:
        oak.choose(f"{at}.0")
        oak.press("Delete")
        expect(oak.script.locator(f'[data-path="{at}.0"]')).to_have_count(0)


@pytest.mark.parametrize(
    "name", [pytest.param(name, marks=[pytest.mark.long] * (name in LONG_TO_WRITE)) for name in REBUILT]
)
def test_a_workflow_of_the_demo_is_written_without_its_document(page: Page, house: Processes, name: str):
    oak = hands(page, house, Keys if name in BY_KEYS else Hands)
    data, own = meant(name), f"{name}-anew"
    rebuild(oak, page, house.url, data, own)
    expect(page.get_by_role("button", name="Save", exact=True)).to_be_enabled()
    oak.click(page.get_by_role("button", name="Save", exact=True))
    expect(page).to_have_url(re.compile(rf"/workflows/{own}(\?|$)"))
    made = YAML(typ="safe", pure=True).load(house.client().workflow(own).text)
    if "settings" in data:
        data["settings"].setdefault("type", "object")
    for key in {*made, *data} - {"workflow"}:
        assert made.get(key) == data.get(key), (key, made.get(key), data.get(key))


def test_an_agent_of_the_demo_is_written_without_its_document(page: Page, house: Processes):
    oak, data, own = hands(page, house), meant("path-scout"), "path-scout-anew"
    page.goto(f"{house.url}/workflows/new?kind=agent")
    oak.shown("agent")
    oak.put(page.get_by_label("Name of the workflow"), own)
    oak.put(page.get_by_label("Title", exact=True).first, data["title"])
    oak.choose("title")
    oak.write("Note", data["note"])
    oak.write("Labels", data["labels"])
    oak.choose("input")
    oak.click(oak.bench.get_by_role("button", name="Remove question", exact=True))
    boxes = oak.bench.locator(".shape")
    oak.shape(data["input"], boxes.nth(0))
    oak.shape(data["settings"], boxes.last)
    oak.choose("agent")
    oak.more()
    fields = {key: data[key] for key in ("model", "brief", "prompt", "limits", "tools")}
    does(oak, {"with": fields}, "agent", "tools")
    oak.click(page.get_by_role("button", name="Save", exact=True))
    expect(page).to_have_url(re.compile(rf"/workflows/{own}(\?|$)"))
    made = YAML(typ="safe", pure=True).load(house.client().workflow(own).text)
    data["settings"].setdefault("type", "object")
    for key in {*made, *data} - {"agent"}:
        assert made.get(key) == data.get(key), (key, made.get(key), data.get(key))


# Nothing that is typed is lost


def wrote(oak: Hands, page: Page, words: str) -> None:
    """Something is written on the bench, and kept by the browser."""
    oak.choose("title")
    oak.write("Note", words)
    page.wait_for_function(f"Object.values(localStorage).some(one => one.includes({words!r}))")


@pytest.fixture
def larder(house: Processes, request: pytest.FixtureRequest) -> str:
    name = "larder-" + re.sub(r"[^a-z0-9]+", "-", request.node.name.lower()).strip("-")[-40:]
    house.client().save(
        f"oak: 1\nworkflow: {name}\nsteps: [{{step: a, set: {{x: 1}}}}, {{step: b, set: {{y: '${{ a.x }}'}}}}]\nresult: ${{ b.y }}\n"
    )
    return name


def test_a_reload_shows_what_was_not_saved(page: Page, house: Processes, larder: str):
    oak = hands(page, house)
    page.goto(f"{house.url}/workflows/{larder}")
    wrote(oak, page, "bread on Mondays")
    page.on("dialog", lambda dialog: dialog.accept())
    page.reload()
    expect(page.get_by_role("status").filter(has_text="did not save is shown again")).to_be_visible()
    expect(oak.script.locator('[data-path="title"]')).to_contain_text("bread on Mondays")
    oak.click(page.get_by_role("button", name="Throw it away"))
    expect(oak.script.locator('[data-path="title"]')).not_to_contain_text("bread")


def test_signing_out_and_in_again_and_leaving_a_new_one_lose_nothing(page: Page, house: Processes):
    oak = hands(page, house)
    page.goto(f"{house.url}/workflows/new")
    wrote(oak, page, "a workflow that nobody saved")
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_label("Password")).to_be_visible()
    sign_in(page, house)
    page.goto(f"{house.url}/workflows/new")
    expect(oak.script.locator('[data-path="title"]')).to_contain_text("a workflow that nobody saved")
    page.get_by_role("link", name="Runs").click()
    page.goto(f"{house.url}/workflows/new")
    expect(oak.script.locator('[data-path="title"]')).to_contain_text("a workflow that nobody saved")


def test_a_session_that_is_over_asks_and_goes_on(page: Page, house: Processes, larder: str):
    oak = hands(page, house)
    page.goto(f"{house.url}/workflows/{larder}")
    wrote(oak, page, "written after midnight")
    house.sql("UPDATE token SET revoked = true WHERE kind = 'session' RETURNING 1")
    page.get_by_role("button", name="Save", exact=True).click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Your session is over")
    dialog.get_by_label("Password").fill(house.password)
    dialog.get_by_role("button", name="Sign in").click()
    expect(dialog).to_have_count(0)
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved as version 2")).to_be_visible()
    assert "written after midnight" in house.client().workflow(larder).text


def test_of_two_tabs_neither_loses_its_text(page: Page, house: Processes, larder: str):
    oak = hands(page, house)
    page.goto(f"{house.url}/workflows/{larder}")
    oak.shown("steps.0")
    client = house.client()
    client.save(client.workflow(larder).text.replace("result: ${ b.y }", "result: ${ a.x }"), expected=1)
    wrote(oak, page, "meanwhile here")
    page.get_by_role("button", name="Save", exact=True).click()
    conflict = page.get_by_role("alert").filter(has_text="Somebody else has saved meanwhile")
    expect(conflict).to_contain_text("meanwhile here")
    expect(conflict.get_by_role("listitem").filter(has_text="result: ${ b.y } → ${ a.x }").last).to_be_visible()
    theirs = conflict.locator(".cm-merge-revert button").last
    oak.click(theirs)
    oak.click(conflict.get_by_role("button", name="Save yours behind it"))
    expect(page.get_by_text("Saved as version 3")).to_be_visible()
    text = client.workflow(larder).text
    assert "meanwhile here" in text
    assert "result: ${ a.x }" in text


# Hands


def test_lines_are_moved_named_copied_and_taken_back_by_keys(page: Page, house: Processes, larder: str):
    oak = hands(page, house)
    page.goto(f"{house.url}/workflows/{larder}")
    line = oak.script.locator('[data-path="steps.1"]')
    oak.choose("steps.1")
    expect(line.locator(".step")).to_have_text("b")
    oak.press("Alt+ArrowUp")
    expect(oak.script.locator('[data-path="steps.0"] .step')).to_have_text("b")
    expect(page.get_by_role("status").filter(has_text="a is used where nothing gives it any more")).to_be_visible()
    oak.press("Control+z")
    expect(oak.script.locator('[data-path="steps.0"] .step')).to_have_text("a")
    oak.choose("steps.0")
    oak.named("steps.0", "first_of_all")
    expect(oak.script.locator('[data-path="steps.0"] .step')).to_have_text("first_of_all")
    oak.press("Control+c")
    oak.press("ArrowDown")
    page.evaluate("""async () => {
      const text = (await navigator.clipboard.readText()).replace('first_of_all', 'another')
      const given = new DataTransfer()
      given.setData('text/plain', text)
      document.activeElement.dispatchEvent(new ClipboardEvent('paste', {clipboardData: given, bubbles: true, cancelable: true}))
    }""")
    expect(oak.script.locator('[data-path="steps.2"] .step')).to_have_text("another")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved as version 2")).to_be_visible()
    made = YAML(typ="safe", pure=True).load(house.client().workflow(larder).text)
    assert [one["step"] for one in made["steps"]] == ["first_of_all", "b", "another"]
    assert made["steps"][1] == {"step": "b", "set": {"y": "${ first_of_all.x }"}}


def test_a_pasted_command_becomes_a_request_and_its_secret_a_credential(page: Page, house: Processes, larder: str):
    oak = hands(page, house)
    page.goto(f"{house.url}/workflows/{larder}")
    oak.choose("steps.0")
    page.evaluate("""() => {
      const given = new DataTransfer()
      given.setData('text/plain', "curl https://larder.example/crates -H 'Authorization: Bearer a-very-secret-crate' --json '{\\"n\\": 2}'")
      document.activeElement.dispatchEvent(new ClipboardEvent('paste', {clipboardData: given, bubbles: true, cancelable: true}))
    }""")
    expect(page.get_by_role("status").filter(has_text="Its secret is kept as the credential")).to_be_visible()
    oak.shown("steps.1")
    assert not page.evaluate("Object.values(localStorage).some(one => one.includes('a-very-secret-crate'))")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved as version 2")).to_be_visible()
    client = house.client()
    step = YAML(typ="safe", pure=True).load(client.workflow(larder).text)["steps"][1]
    assert step["with"]["credential"] in {one.name for one in client.credentials()}
    assert "a-very-secret-crate" not in client.workflow(larder).text


def test_a_line_is_tried_with_data_of_the_one_before_it(page: Page, house: Processes, larder: str):
    oak = hands(page, house)
    page.goto(f"{house.url}/workflows/{larder}")
    oak.choose("steps.0")
    oak.click(page.get_by_role("button", name="Try", exact=True))
    expect(oak.script.locator('[data-path="steps.0"]')).to_contain_text("succeeded")
    oak.choose("result")
    oak.click(oak.field("It gives").get_by_role("button", name="Data for It gives"))
    page.keyboard.type("a x")
    expect(page.get_by_role("option").first).to_contain_text("1")
    oak.press("Enter")
    expect(oak.field("It gives")).to_contain_text("x, from a")
    oak.choose("steps.1")
    oak.click(page.get_by_role("button", name="Try from here"))
    expect(oak.script.locator('[data-path="steps.1"]')).to_contain_text("succeeded")


# For everybody


PLACES = ["title", "input", "triggers.0", "steps.0", "steps.1.branch.1", "steps.1.branch.1.steps.0", "result", ""]


@pytest.mark.parametrize("theme", ["light", pytest.param("dark", marks=pytest.mark.long)])
def test_nothing_is_found_that_keeps_anybody_out(page: Page, house: Processes, theme: str):
    page.goto(f"{house.url}/workflows/booking-triage")
    if theme == "dark":
        page.get_by_role("button", name="Dark").click()
    oak = hands(page, house)
    for place in PLACES:
        page.goto(f"{house.url}/workflows/booking-triage" + (f"?line={place}" if place else ""))
        oak.shown("steps.0")
        page.locator("section[aria-label=Bench]").evaluate(
            "one => one.querySelectorAll('details').forEach(d => (d.open = true))"
        )
        assert faults(page, theme == "dark") == [], place
    page.goto(f"{house.url}/workflows/booking-triage?line=steps.0")
    oak.shown("steps.0")
    page.get_by_role("button", name="Add a line", exact=True).click()
    page.keyboard.type("ask")
    assert faults(page, theme == "dark") == []
    page.keyboard.press("Escape")
    page.get_by_role("button", name=re.compile("^Data for")).first.click()
    assert faults(page, theme == "dark") == []
    page.goto(f"{house.url}/workflows/booking-triage?side=document")
    expect(page.get_by_label("The workflow document")).to_be_visible()
    assert faults(page, theme == "dark") == []


@pytest.mark.parametrize("width", [400, pytest.param(640, marks=pytest.mark.long)])
def test_it_fits_a_narrow_screen_and_twice_the_size(page: Page, house: Processes, width: int):
    page.set_viewport_size({"width": width, "height": 800})
    for place in PLACES:
        page.goto(f"{house.url}/workflows/booking-triage?line={place}")
        expect(page.locator("h1")).to_be_visible()
        assert page.evaluate("document.documentElement.scrollWidth") <= width, place


def test_another_start_takes_four_actions(page: Page, house: Processes, larder: str):
    oak = hands(page, house)
    page.goto(f"{house.url}/workflows/{larder}")
    oak.choose("triggers")
    oak.actions += 1
    oak.bench.get_by_label("What starts it").select_option("schedule")
    oak.shown("triggers.0")
    oak.click(page.get_by_role("button", name="Save", exact=True))
    expect(page.get_by_text("Saved as version 2")).to_be_visible()
    oak.click(page.get_by_role("button", name="Switch on"))
    expect(page.get_by_role("status").filter(has_text="On, with version 2")).to_be_visible()
    print("another start:", oak.actions, "actions")
    assert oak.actions <= 4
    assert [one.trigger for one in house.client().schedules(workflow=larder)] == ["schedule"]
