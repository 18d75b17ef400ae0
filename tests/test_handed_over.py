"""A conversation that a person takes over, in Chromium: the page of the guest on one side, the tray of the office on the other."""

import io

import pytest
from playwright.sync_api import Browser, Page, expect

from oak_relay.cli.main import main
from oak_relay.client import Client
from oak_relay.client.results import Question
from tests.browsing import browser, faults, page
from tests.conftest import Processes, until
from tests.test_talking import Visitor, talking

__all__ = ["browser", "page"]
STEPS = """
  - step: wait
    send: I bring somebody.
  - step: colleague
    hand_over: {text: "Somebody asks: ${ input.text }"}
  - step: say
    send: "The office says: ${ colleague.text }"
"""


def test_the_office_writes_in_a_conversation_and_hands_it_back(
    page: Page, browser: Browser, oak: Processes, client: Client
):
    talking(client, "office-desk", STEPS)
    guest = browser.new_context(viewport={"width": 400, "height": 800}).new_page()
    guest.goto(f"{oak.url}/talk/office-desk")
    guest.get_by_label("Your message").fill("May I speak to a person?")
    guest.keyboard.press("Enter")
    page.goto(f"{oak.url}/tray")
    card = page.get_by_role("article", name="Somebody asks: May I speak to a person?")
    expect(card.get_by_role("list", name="What was said")).to_contain_text("May I speak to a person?")
    card.get_by_label("What is said to them").fill("<b>Good day</b>, what is it about?")
    page.keyboard.press("Enter")
    expect(guest.get_by_role("log")).to_contain_text("<b>Good day</b>, what is it about?")
    expect(card.get_by_role("list", name="What was said")).to_contain_text("what is it about?")
    guest.get_by_label("Your message").fill("A refund.")
    guest.keyboard.press("Enter")
    expect(card.get_by_role("list", name="What was said")).to_contain_text("A refund.")
    assert faults(page) == []
    page.set_viewport_size({"width": 400, "height": 800})
    box = card.bounding_box()
    assert box is not None and box["width"] <= 400  # other questions stand there too, each in a card of its own
    assert card.evaluate("(one) => one.scrollWidth <= one.clientWidth")
    judged = card.get_by_role("group", name="Was this answer good?")
    judged.get_by_role("button", name="bad").click()
    expect(judged.get_by_role("button", name="bad")).to_have_attribute("aria-pressed", "true")
    expect(card).to_contain_text("found bad")
    [talk] = [one for one in client.every(client.conversations) if one.key.startswith("office-desk ")]
    assert [one.good for one in client.conversation(talk.key)][1] is False
    card.get_by_label("A word for the workflow").fill("it is paid back")
    card.get_by_role("button", name="Hand back").click()
    expect(guest.get_by_role("log")).to_contain_text("The office says: it is paid back")
    expect(card).to_have_count(0)
    assert [one.state for one in client.runs(workflow="office-desk")] == ["succeeded"]


HELD = """
  - step: way
    branch:
      - if: ${ input.text == 'a person' }
        steps:
          - {step: colleague, hand_over: {text: Somebody asks for a person}}
      - else:
          - {step: allowed, ask: {text: May a bunk be kept?, choices: ["yes"]}}
          - {step: say, send: It is kept.}
          - {step: bye, send: Good night.}
"""


def test_while_a_person_has_taken_over_what_other_runs_say_waits(oak: Processes, client: Client):
    talking(client, "held-desk", HELD)
    ada = Visitor(oak, "held-desk")

    def asked(text: str) -> Question | None:
        return next((one for one in client.tray() if one.workflow == "held-desk" and one.text == text), None)

    ada.say("a bunk")
    bunk = until(lambda: asked("May a bunk be kept?"))
    ada.say("a person")
    person = until(lambda: asked("Somebody asks for a person"))
    client.answer(bunk.id, choice="yes")
    until(lambda: client.run(bunk.run_id).run.over)
    client.say(person.id, "Good day.")
    assert ada.told(1) == ["Good day."]
    ada.say("At last")
    client.answer(person.id, text="")
    assert ada.told(3) == ["Good day.", "It is kept.", "Good night."]
    [talk] = [one for one in client.every(client.conversations) if one.key.startswith("held-desk ")]
    said = client.conversation(talk.key)
    assert [one.seq for one in said] == list(range(6)) and not talk.handed_over


def test_one_talks_on_a_page_by_the_command_line(oak: Processes, client: Client, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]):  # fmt: skip
    talking(client, "line-desk", '  - step: night\n    ask: {at: conversation, text: "For which night?", choices: [today, tomorrow]}\n  - step: say\n    send: "Noted: ${ night.choice }"')  # fmt: skip
    monkeypatch.setenv("OAK_RELAY_URL", oak.url)
    monkeypatch.setenv("OAK_RELAY_TOKEN", oak.token)
    monkeypatch.setattr("sys.stdin", io.StringIO("Hello\n2\n"))
    assert main(["talk", "line-desk"]) == 0
    told = capsys.readouterr().out
    assert "Ask about line-desk" in told and "Good day." in told
    assert told.index("For which night?") < told.index("1. today") < told.index("Noted: tomorrow")


def test_a_question_in_a_conversation_may_be_answered_for_them_at_the_tray(page: Page, oak: Processes, client: Client):
    talking(client, "asking-desk", '  - step: night\n    ask: {at: conversation, text: "For which night?"}\n  - step: say\n    send: "Noted: ${ night.text }"')  # fmt: skip
    ada = Visitor(oak, "asking-desk")
    ada.say("Hello")
    page.goto(f"{oak.url}/tray")
    card = page.get_by_role("article", name="For which night?")
    card.get_by_label("The answer").fill("the fourteenth")
    card.get_by_role("button", name="Answer for them").click()
    assert ada.told(2)[1] == "Noted: the fourteenth"
