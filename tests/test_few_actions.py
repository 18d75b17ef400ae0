"""How much a newcomer has to do: clicks, keys that are commands, and fields that are written, counted."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.bench import Hands
from tests.browsing import browser, sign_in
from tests.conftest import MODEL_KEY, Processes

__all__ = ["browser"]


@pytest.fixture(scope="module")
def empty(new_database, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Processes]:
    made = Processes(Path(tmp_path_factory.mktemp("few")), new_database())
    made.start_all()
    made.start_worker()
    yield made
    made.stop()


@pytest.fixture
def page(browser: Browser, empty: Processes) -> Iterator[Page]:
    made = browser.new_page(viewport={"width": 1280, "height": 900})
    sign_in(made, empty)
    yield made
    made.close()


def connect(oak: Hands, page: Page, empty: Processes) -> None:
    oak.click(page.get_by_role("link", name="Connect a model"))
    dialog = page.get_by_role("dialog")
    oak.write_in(dialog.get_by_label("Address of its server"), f"{empty.standins}/v1")
    oak.write_in(dialog.get_by_label("Key, if it asks for one"), MODEL_KEY)
    oak.click(dialog.get_by_role("button", name="See what it offers"))
    oak.click(dialog.get_by_role("button", name="Connect", exact=True))
    expect(dialog).to_contain_text("is connected. It said:")


def test_of_an_empty_instance_a_model_answers_after_six_actions(page: Page, empty: Processes):
    oak = Hands(page, {})
    connect(oak, page, empty)
    oak.click(page.get_by_role("button", name="with it"))
    expect(page.get_by_role("heading", name="succeeded")).to_be_visible()
    print("a model and its first answer:", oak.actions, "actions")
    assert oak.actions <= 6


def test_an_agent_answers_for_each_row_of_a_table_after_sixteen_actions(page: Page, empty: Processes):
    client = empty.client()
    if not client.models():
        connect(Hands(page, {}), page, empty)
    client.create_table("questions", {"guest": "text", "question": "text", "answer": "text"})
    asked = ["May I bring a dog?", "Is there a stove?"]
    client.add_rows("questions", [{"guest": f"{n}@larkspur.example", "question": one} for n, one in enumerate(asked)])
    oak = Hands(page, {})
    page.goto(f"{empty.url}/workflows")
    oak.click(page.get_by_role("link", name="New workflow"))
    oak.shown("steps.0")
    oak.new_line("steps.0", "table.find")
    oak.shown("steps.1")
    if oak.field("Table").locator("select").input_value() != "questions":
        oak.set("Table", "questions")
    oak.new_line("steps.1", "agent")
    oak.shown("steps.2")
    expect(oak.field("Model").locator("select")).to_have_value(client.models()[0].name)  # the only one
    oak.click(oak.field("Prompt").locator("textarea"))
    oak.click(oak.script.get_by_role("button", name="question of each"))
    oak.shown("steps.2.steps.0")
    oak.actions += 1
    oak.bench.get_by_label("Write what it gives into the row’s").select_option("answer")
    oak.shown("steps.2.steps.1")
    oak.write_in(page.get_by_label("Name of the workflow"), "answers")
    oak.click(page.get_by_role("button", name="Save", exact=True))
    expect(page).to_have_url(re.compile(r"/workflows/answers\b"))
    print("an agent for each row, its answer in the row:", oak.actions, "actions")
    assert oak.actions <= 16
    saved = client.workflow("answers")
    assert not [one for one in saved.checked.findings if one.severity == "error"]
    client.on("answers")
    assert client.start("answers", {"name": "Ada Fenn"}).wait(60).state == "succeeded"
    rows = {row.row["guest"]: row.row["answer"] for row in client.every(client.rows, "questions")}
    assert len(rows) == len(asked)
    assert all(rows.values())


def test_an_agent_with_a_tool_talks_after_twelve_actions(page: Page, empty: Processes):
    client = empty.client()
    if not client.models():
        connect(Hands(page, {}), page, empty)
    client.create_table("house-rules", {"rule": "text"})
    client.add_rows("house-rules", [{"rule": "Dogs sleep in the shed."}])
    oak = Hands(page, {})
    page.goto(f"{empty.url}/workflows")
    oak.click(page.get_by_role("link", name="New agent"))
    oak.shown("agent")
    oak.choose("agent")
    oak.actions += 1
    oak.bench.get_by_label("Add a tool").select_option("table house-rules")
    oak.shown("tools.0")
    oak.write_in(page.get_by_label("Say something"), "May I bring a dog?")
    oak.press("Enter")
    talk = page.get_by_role("region", name="Talk")
    expect(talk.locator(".answer").first).to_be_visible()
    print("an agent that talks, with a tool:", oak.actions, "actions")
    assert oak.actions <= 12
    oak.write_in(page.get_by_label("Name of the workflow"), "rule-keeper")
    oak.click(page.get_by_role("button", name="Save", exact=True))
    expect(page).to_have_url(re.compile(r"/workflows/rule-keeper\b"))
    saved = client.workflow("rule-keeper")
    assert saved.text.startswith("oak: 1\nagent: rule-keeper\n")
    assert "table: house-rules" in saved.text
    assert not [one for one in saved.checked.findings if one.severity == "error"]
