"""Guests in Chromium, on a page and at the messaging service: voice notes, what cannot be read, bursts, digressions, corrections,
commands, a gift once, a person who takes over, an approval that rests while they go on talking."""

from collections.abc import Callable, Iterator
from types import SimpleNamespace

import httpx
import pytest
from playwright.sync_api import Browser, Locator, expect

from oak_relay.client import Client
from oak_relay.client.results import Asked
from oak_relay.standins.media import recording
from tests.browsing import browser
from tests.conftest import MESSENGER_KEY, SIGNING, Processes, until

__all__ = ["browser"]
FLOW = """
oak: 1
workflow: {name}
title: {name}
triggers:
  - trigger: chat
    conversation: {{{channel}, path: {name}, gather: 2s}}
steps:
  - step: voice
    when: "${{ input.parts | selectattr('what', 'equalto', 'voice') | list | length > 0 }}"
    do: model.transcribe
    with: {{model: guests-quick, file: "${{ input.parts[0].file }}"}}
  - step: words
    set: {{text: "${{ (voice.text if voice else input.text) | trim }}"}}
  - step: done
    branch:
      - if: ${{ input.command == 'help' }}
        steps: [{{step: helps, send: "Ask for a card, a stay, a person or money."}}]
      - if: ${{ input.parts and not voice }}
        steps: [{{step: sorry, send: "${{ input.parts[0].fault }}"}}]
      - if: ${{ words.text == 'card' }}
        steps:
          - {{step: card, once: "${{ conversation.person.id }} card", send: "Your hut card is 4711."}}
          - {{step: had, when: "${{ not card }}", send: "You have your card."}}
      - if: ${{ words.text == 'stay' }}
        steps:
          - step: stay
            ask:
              at: conversation
              text: Gladly.
              form:
                type: object
                required: [hut, nights, meals]
                properties:
                  hut: {{description: "At which hut?", enum: [Glasswater, Thistle Col]}}
                  nights: {{description: "How many nights?", type: integer, minimum: 1, maximum: 14}}
                  meals: {{description: "Meals?", type: boolean}}
              model: guests-quick
              aside: [{{step: between, send: "Soup is served at six."}}]
          - {{step: noted, send: "Noted: ${{ stay.data.hut }}, ${{ stay.data.nights }}, ${{ stay.data.meals }}."}}
      - if: ${{ words.text == 'person' }}
        steps:
          - {{step: colleague, hand_over: "Somebody asks for a person"}}
          - {{step: back, send: "Handed back: ${{ colleague.text }}"}}
      - if: ${{ words.text == 'money' }}
        steps:
          - {{step: waits, send: The office looks at it.}}
          - {{step: refund, ask: {{text: "Money for {name}?", choices: [approve, refuse], within: 5d}}}}
          - {{step: decided, send: "The office says: ${{ refund.choice }}"}}
      - else:
          - {{step: echo, send: "You said: ${{ words.text }}"}}
"""


class Chat:
    """A guest in a browser: what stands there of each side, and how they write."""

    def __init__(self, url: str, open_: Browser, name: str, page: bool) -> None:
        self.context = open_.new_context(viewport={"width": 400, "height": 800})
        self.page, self.own = self.context.new_page(), page
        self.page.goto(url)
        self.log = self.page.get_by_role("log") if page else self.page.locator("ol")
        if not page:
            self.page.locator("input[name=chat]").fill(name)
            self.page.locator("input[name=chat]").press("Tab")

    @property
    def theirs(self) -> Locator:
        return self.log.locator("li.us .words" if self.own else "li.hut span")

    def say(self, text: str) -> None:
        field = self.page.get_by_label("Your message" if self.own else "Message", exact=True)
        field.fill(text)
        field.press("Enter")

    def give(self, name: str, type: str, content: bytes) -> None:
        self.page.locator("input[type=file]").set_input_files([{"name": name, "mimeType": type, "buffer": content}])
        if self.own:
            self.page.get_by_label("Your message").press("Enter")
        else:
            self.page.get_by_role("button", name="Send").click()

    def told(self, *texts: str) -> None:
        """What they were told last."""
        expect(self.theirs.nth(self.count + len(texts) - 1)).to_be_visible(timeout=20_000)
        expect(self.theirs).to_have_count(self.count + len(texts))
        found = self.theirs.all_inner_texts()
        assert [one.strip() for one in found[self.count :]] == list(texts)
        self.count += len(texts)

    count = 0


@pytest.fixture(scope="module")
def place(new_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[SimpleNamespace]:
    made = Processes(tmp_path_factory.mktemp("guests"), new_database())
    made.start_all()
    made.start_worker()
    client = made.client()
    client.put_credential("line", kind="bearer", secret=MESSENGER_KEY, hosts=["127.0.0.1"])
    client.put_credential("line-signing", kind="signing", secret=SIGNING)
    client.put_credential("guests-models", kind="bearer", secret=made.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])  # fmt: skip
    client.put_model("guests-quick", url=f"{made.standins}/v1", model="larch-small", credential="guests-models", prices={"input": 1, "output": 4})  # fmt: skip
    yield SimpleNamespace(oak=made, client=client)
    made.stop()


def ready(place: SimpleNamespace, browser: Browser, channel: str) -> Chat:
    """A guest where they talk."""
    oak, name = place.oak, f"guests-{channel}"
    given = "accepts: [voice]" if channel == "page" else f'channel: messenger, with: {{url: "{oak.standins}/messenger", credential: line, signing: line-signing}}'  # fmt: skip
    saved = place.client.save(FLOW.format(name=name, channel=given))
    assert [one for one in saved.findings if one.severity == "error"] == []
    place.client.on(name)
    if channel == "page":
        return Chat(f"{oak.url}/talk/{name}", browser, name, True)
    base = f"{oak.standins}/messenger"
    assert httpx.post(f"{base}/webhook", json={"url": f"{oak.url}/channels/{name}"}).json()["ok"]
    return Chat(base, browser, name, False)


def waiting(client: Client, workflow: str) -> Asked:
    """The question of a workflow that waits for the office."""
    return until(lambda: next((one for one in client.tray() if one.workflow == workflow), None))


@pytest.mark.parametrize("channel", ["page", pytest.param("messenger", marks=pytest.mark.long)])
def test_a_guest_does_all_that_guests_do(place: SimpleNamespace, browser: Browser, channel: str):
    guest, client, name = ready(place, browser, channel), place.client, f"guests-{channel}"
    for text in ("Hello", "two questions", "dogs?", "soup?", "and beds?"):
        guest.say(text)
    guest.told("You said: Hello\ntwo questions\ndogs?\nsoup?\nand beds?")
    guest.say("/help")
    guest.told("Ask for a card, a stay, a person or money.")
    guest.give("note.wav", "audio/wav", recording("Is there a stove?"))
    guest.told("You said: Is there a stove?")
    if channel == "messenger":
        chat = httpx.post(f"{place.oak.standins}/messenger/chats/{name}", json={"type": "sticker"})
        assert chat.status_code == 201
        guest.told("a message of the kind sticker cannot be read")
    for told in ("Your hut card is 4711.", "You have your card."):
        guest.say("card")
        guest.told(told)
    guest.say("stay")
    guest.told("Gladly.\nAt which hut?")
    for text, texts in (
        ("Glasswater for 3 nights", ["Meals?"]),
        ("When is dinner?", ["Soup is served at six.", "Meals?"]),
        ("no, 2 nights", ["Meals?"]),
        ("yes", ["Noted: Glasswater, 2, true."]),
    ):
        guest.say(text)
        guest.told(*texts)
    guest.say("money")
    guest.told("The office looks at it.")
    asked = waiting(client, name)
    guest.say("Is it raining?")  # the approval rests, and they go on talking
    guest.told("You said: Is it raining?")
    client.answer(asked.id, "approve")
    guest.told("The office says: approve")
    guest.say("person")
    asked = waiting(client, name)
    client.say(asked.id, "Good day, the office here.")
    guest.told("Good day, the office here.")
    guest.say("I lost my scarf")
    until(lambda: any("scarf" in str(one.message) for one in client.every(client.conversation, asked.conversation)))
    client.answer(asked.id, text="it was found")
    guest.told("Handed back: it was found")
    guest.say("Thank you")
    guest.told("You said: Thank you")
    guest.context.close()
