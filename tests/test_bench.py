"""Workflows are written in the console by hand, without the document being opened; nothing that is typed is lost."""

import re
from collections.abc import Callable, Iterator
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect
from ruamel.yaml import YAML

from tests.bench import Hands
from tests.browsing import browser, sign_in
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
COMMON = {"step", "note", "when", "once", "timeout", "retry", "on_error", "unknown", "gives"}


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
    made.set_default_timeout(8000)
    sign_in(made, house)
    yield made
    context.close()


def hands(page: Page, house: Processes) -> Hands:
    client = house.client()
    return Hands(page, {one.name: one for one in client.every(client.actions)})


def meant(name: str) -> dict[str, Any]:
    text = (ROOT / "demo" / "workflows" / f"{name}.yaml").read_text()
    return YAML(typ="safe", pure=True).load(text)


def rebuild(oak: Hands, page: Page, url: str, data: dict[str, Any], name: str) -> None:
    page.goto(f"{url}/workflows/new")
    oak.shown("steps.0")
    oak.choose("steps.0")
    oak.press("Delete")
    page.get_by_label("Name of the workflow").fill(name)
    page.get_by_label("Title").first.fill(data.get("title", ""))
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
    oak.bench.get_by_label("What starts it").select_option(kind)
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


def does(oak: Hands, step: dict[str, Any], path: str) -> None:
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
        oak.bench.get_by_label("Add a tool").select_option(f"{kind} {tool[kind]}")
        oak.shown(f"{path}.with.tools.{n}")
        oak.choose(f"{path}.with.tools.{n}")
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
                        opened.check()
                        box = oak.bench.get_by_label(f"What belongs into {field.replace('_', ' ').capitalize()}")
                        box.fill(one["open"])
                        box.blur()
                    else:
                        if opened.is_checked():
                            opened.uncheck()
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
    """The steps of a list that begins with a sketch, which is taken away when they stand."""
    oak.shown(f"{at}.0")
    behind = f"{at}.0"
    for n, step in enumerate(given):
        oak.add(behind, step, f"{at}.{n + 1}")
        fill(oak, page, step, f"{at}.{n + 1}")
        behind = f"{at}.{n + 1}"
    oak.choose(f"{at}.0")
    oak.press("Delete")
    expect(oak.script.locator(f'[data-path="{at}.{len(given)}"]')).to_have_count(0)


@pytest.mark.parametrize("name", REBUILT)
def test_a_workflow_of_the_demo_is_written_without_its_document(page: Page, house: Processes, name: str):
    oak, data, own = hands(page, house), meant(name), f"{name}-anew"
    rebuild(oak, page, house.url, data, own)
    expect(page.get_by_role("button", name="Save", exact=True)).to_be_enabled()
    oak.click(page.get_by_role("button", name="Save", exact=True))
    expect(page).to_have_url(re.compile(f"/workflows/{own}$"))
    made = YAML(typ="safe", pure=True).load(house.client().workflow(own).text)
    if "settings" in data:
        data["settings"].setdefault("type", "object")
    for key in {*made, *data} - {"workflow"}:
        assert made.get(key) == data.get(key), (key, made.get(key), data.get(key))
