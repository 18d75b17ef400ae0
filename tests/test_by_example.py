"""A messaging service that no module knows: where a message stands is said by paths, how it is sent to by a request."""

import base64
import contextlib
import json
import threading
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st
from playwright.sync_api import Browser, expect

from oak_relay.channels.by_example import ByExample, ExampleChannel, _fields, _moment
from oak_relay.client import Client
from oak_relay.client.errors import Problem
from oak_relay.document.expressions import Template
from oak_relay.document.words import Model
from oak_relay.service.overhearing import _SPEAKS
from oak_relay.standins.media import picture
from oak_relay.triggers.base import Refused
from tests.bench import Hands
from tests.browsing import browser, faults, sign_in
from tests.conftest import MESSENGER_KEY, SIGNING, Processes, until
from tests.test_messenger import Line

__all__ = ["browser"]
FLOW = """
oak: 1
workflow: {name}
triggers:
  - trigger: chat
    conversation:
      channel: by_example
      path: {name}
      gather: 0s
      with:
        verify: {{scheme: signed, credential: line-signing}}
        handshake: {{echo: challenge, token: token, credential: line-signing}}
        reads:
          messages: $.messages[*]
          id: $.id
          text: $.text
          chat: $.chat
          person: $.from.id
          name: $.from.name
          choice: $.answer
          at: $.at
          media: $.media.id
          media_type: $.media.type
          media_name: $.media.name
        send: {{method: POST, url: "{url}/messages", credential: line, json: {{to: "${{ chat }}", text: "${{ text }}", answers: "${{ buttons }}"}}}}
        sent_at: $.at
        fetch: {{url: "{url}/media/${{ media }}", credential: line}}
        address: $.address
        buttons: 3
steps:
{steps}
"""


@pytest.fixture(scope="module")
def example(
    new_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Callable[[str, str], Line]]:
    made = Processes(tmp_path_factory.mktemp("oak"), new_database())
    made.start_all()
    made.start_worker()
    client = made.client()
    client.put_credential("line", kind="bearer", secret=MESSENGER_KEY, hosts=["127.0.0.1"])
    client.put_credential("line-signing", kind="signing", secret=SIGNING)

    def talking(name: str, steps: str) -> Line:
        saved = client.save(FLOW.format(name=name, steps=steps.strip("\n"), url=f"{made.standins}/messenger"))
        assert [one for one in saved.findings if one.severity == "error"] == []
        client.on(name)
        found = Line(made, name)
        assert httpx.post(f"{found.base}/webhook", json={"url": f"{made.url}/channels/{name}"}).json()["ok"]
        return found

    yield talking
    made.stop()


STEPS = """
  - step: night
    when: ${ input.text == 'stay' }
    ask: {at: conversation, text: "For **which** night?", choices: [today, tomorrow]}
  - step: say
    send: "${ conversation.person.name }: ${ night.choice if night else input.text } ${ input.parts | map(attribute='what') | join(' ') } ${ input.parts[0].file.size if input.parts else '' }"
"""


def test_a_service_is_talked_with_as_it_was_seen(example: Callable[[str, str], Line]):
    talk = example("seen-line", STEPS)
    talk.say("ada", "hello")
    assert talk.told("ada") == ["Ada Fenn: hello"]
    talk.oak.fault(service="messenger", kind="status", status=503, retry_after=0.2, path="/messages")
    talk.say("ada", "stay")
    assert talk.told("ada", 2)[1] == "For which night?"
    assert talk.chat("ada")[-1]["answers"] == ["today", "tomorrow"]
    talk.say("ada", answer="tomorrow")
    assert talk.told("ada", 3)[2] == "Ada Fenn: tomorrow"
    seen = picture("a hut in snow")
    talk.say("ada", type="picture", file=base64.b64encode(seen).decode(), file_type="image/png", file_name="hut.png")
    assert talk.told("ada", 4)[3] == f"Ada Fenn:  picture {len(seen)}"
    talk.oak.fault(service="messenger", kind="drop_after", path="/messages")
    talk.say("ada", "lost")
    until(lambda: talk.states(talk.oak.client(), "ada")[-1][1] == "unknown")  # the service does not tell two from one
    assert talk.post({"messages": []}, secret="whsec_" + base64.b64encode(b"x" * 24).decode()).status_code == 401
    assert talk.post({"receipts": [{"id": "m-1"}]}).json() == {"taken": 0, "left_out": 0}
    assert (
        talk.post({"messages": [{"id": "x" * 5_000, "chat": "ada.seen-line", "text": "long id"}] * 101}).status_code
        == 413
    )


def test_a_channel_is_set_up_in_the_console_by_what_was_seen(example: Callable[[str, str], Line], browser: Browser):
    talk = example("shown-line", '  - {step: say, send: "got ${ input.text }"}')
    client = talk.oak.client()
    client.save("oak: 1\nworkflow: shown-desk\ntriggers: [{trigger: chat, conversation: {path: shown-desk, gather: 0s}}]\nsteps: [{step: say, send: 'Seen: ${ input.text }'}]")  # fmt: skip
    talk.say("ada", "Is soup served?")
    talk.told("ada")
    seen = {"messages": [{"id": "m-1", "chat": "ada.shown-line", "from": {"id": "g-1", "name": "Ada Fenn"}, "at": "2031-07-14T08:00:00Z", "text": "Is soup served?"}]}  # fmt: skip
    curl = f"""curl -X POST {talk.base}/messages -H 'Authorization: Bearer {MESSENGER_KEY}' --json '{{"to": "ada.shown-line", "text": "Is soup served?"}}'"""
    page = browser.new_context(viewport={"width": 1280, "height": 900}).new_page()
    sign_in(page, talk.oak)
    page.goto(f"{talk.oak.url}/workflows/shown-desk")
    hands = Hands(page, {one.name: one for one in client.every(client.actions)})
    hands.choose("triggers.0")
    hands.write("Channel", "by_example")
    page.get_by_text("Set it up by example").click()
    page.get_by_label("Something that the service sent here (JSON)").fill("{")
    expect(page.get_by_text("This is no JSON yet.")).to_be_visible()
    page.get_by_label("Something that the service sent here (JSON)").fill(json.dumps(seen))
    expect(page.get_by_label("The words", exact=True)).to_have_value("$.messages[0].text")
    for said, path in (("Where an answer is sent to", "$.chat"), ("Its id", "$.id"), ("Who says it", "$.from.id"), ("What they are called", "$.from.name"), ("When it was said", "$.at")):  # fmt: skip
        page.get_by_label(said, exact=True).select_option(path)
    page.get_by_label("The request that sends a message to it, as a curl command").fill(curl)
    page.get_by_role("button", name="Read it").click()
    expect(page.get_by_label("Where an answer is sent to, in the request")).to_have_value("$.json.to")
    expect(page.get_by_label("The words, in the request")).to_have_value("$.json.text")
    assert faults(page) == []
    page.get_by_role("button", name="Use this").click()
    page.get_by_text("Try it", exact=True).click()
    page.get_by_label("Something that the service sent, as it came").fill("{}")
    page.get_by_role("button", name="See what is read").click()
    expect(page.get_by_text("No message is in it: nothing would begin.")).to_be_visible()
    page.get_by_label("Something that the service sent, as it came").fill(json.dumps(seen))
    page.get_by_role("button", name="See what is read").click()
    expect(page.get_by_role("list", name="What is read")).to_contain_text(
        "Ada Fenn in ada.shown-line: Is soup served? id m-1"
    )
    expect(page.get_by_label("To which chat")).to_have_value("ada.shown-line")
    page.get_by_label("What is sent", exact=True).fill("Soup is at six.")
    page.get_by_role("button", name="Send it really").click()
    expect(page.get_by_text("It was taken.")).to_be_visible()
    assert talk.told("ada", 2)[1] == "Soup is at six."
    assert faults(page) == []
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved as version 2")).to_be_visible()
    kept = client.workflow("shown-desk").text
    assert MESSENGER_KEY not in kept and "$.messages[*]" in kept and "${ chat }" in kept
    page.context.close()
    client.on("shown-desk")
    assert httpx.post(f"{talk.oak.url}/channels/shown-desk", json=seen).json()["taken"] == 1
    assert talk.told("ada", 3)[2] == "Seen: Is soup served?"


def test_what_is_tried_of_a_channel_begins_nothing_and_harms_nobody(example: Callable[[str, str], Line]):
    talk = example("tried-line", '  - {step: say, send: "got ${ input.text }"}')
    client = talk.oak.client()
    by = {"reads": {"chat": "$.room", "text": "$.words"}, "send": {"url": "http://127.0.0.1:9/", "json": {}}}
    for channel, given_, body in (
        ("smoke", by, "{}"), ("by_example", {}, "{}"), ("by_example", {**by, "reads": {"text": "$["}}, "{}"), ("messenger", by, "{}"),
        ("by_example", by, "{"), ("by_example", by, "[" * 100_000), ("by_example", by, "x" * 950_000), ("page", {}, "{}"),
    ):  # fmt: skip
        with pytest.raises(Problem) as refused:
            client.read_channel(channel, given_, body)
        assert refused.value.status in (400, 413, 422), (channel, body[:20])
    before = len(client.runs(limit=1000))
    [read] = client.read_channel(
        "by_example", by, "room=larder&words=%3Cb%3E", "application/x-www-form-urlencoded"
    ).messages
    assert (read.chat, read.text) == ("larder", "<b>")
    [read] = client.read_channel(
        "by_example", by, '{"room": "\\ud800 larder", "words": "\\u0000half \\ud800"}'
    ).messages
    assert "larder" in read.chat and "half" in read.text
    told = client.send_by_channel("by_example", by, "larder", "Soup?")
    assert not told.ok and told.sentence
    secret = {**by, "send": {"url": "http://192.0.2.1/", "credential": "line", "json": {}}}
    told = client.send_by_channel("by_example", secret, "larder", "Soup?")
    assert not told.ok and MESSENGER_KEY not in told.model_dump_json()
    for odd in ("\\u0000", "\\ud800", "\\u202e", "x" * 100_000):  # half a character, and what no request can hold
        send = '{"url": "http://127.0.0.1:9/", "headers": {"X": "ODD"}, "json": {"to": "ODD"}}'.replace("ODD", odd)
        asked = '{"channel": "by_example", "chat": "larder", "text": "Soup?", "with": {"reads": {}, "send": SEND}}'.replace("SEND", send)  # fmt: skip
        answer = httpx.post(f"{talk.oak.url}/api/v1/channels/send", content=asked, headers={"Authorization": f"Bearer {talk.oak.token}", "Content-Type": "application/json"})  # fmt: skip
        assert answer.status_code in (200, 400, 422) and not answer.json().get("ok"), answer.text[:300]
    assert len(client.runs(limit=1000)) == before


class _Dripping(BaseHTTPRequestHandler):
    """A file that comes a letter at a time, and never whole."""

    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("Content-Type", "text/plain")
        self.send_header("Content-Length", "100000")
        self.end_headers()
        with contextlib.suppress(OSError):
            for _ in range(1_000):
                self.wfile.write(b"x")
                time.sleep(0.1)

    def log_message(self, *args: object) -> None: ...


@pytest.mark.long
def test_a_file_that_comes_drop_by_drop_is_not_waited_for(example: Callable[[str, str], Line]):
    talk = example(
        "drip-line", '  - {step: say, send: "${ input.text } ${ input.parts[0].fault if input.parts else 0 }"}'
    )
    client, server = talk.oak.client(), ThreadingHTTPServer(("127.0.0.1", 0), _Dripping)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    text = client.workflow("drip-line").text
    text = "\n".join(line for line in text.split("\n") if not line.strip().startswith(("fetch:", "address:")))
    client.save(text, over=True)
    client.on("drip-line")
    talk.say("bo", "hello")
    assert talk.told("bo") == ["hello 0"]
    said = {"chat": "bo.drip-line", "from": {"id": "bo", "name": "Bo"}}
    slow = {
        **said,
        "id": "m1",
        "text": "slow",
        "media": {"id": f"http://127.0.0.1:{server.server_address[1]}/x", "type": "text/plain"},
    }
    answers: list[httpx.Response] = []
    began = time.monotonic()
    thread = threading.Thread(target=lambda: answers.append(talk.post({"messages": [slow]})))
    thread.start()
    talk.say("ada", "meanwhile")
    assert talk.told("ada") == ["meanwhile 0"] and not answers  # others are not held up
    thread.join()
    assert answers[0].json() == {"taken": 1, "left_out": 0} and 15 < time.monotonic() - began < 40
    assert talk.told("bo", 2)[1:] == ["slow it did not come within 20 seconds"]
    server.shutdown()


def test_forms_are_read_as_services_send_them(example: Callable[[str, str], Line], new_database: Callable[[], str]):
    talk = example("form-line", '  - {step: say, send: "got ${ input.text }"}')
    client = talk.oak.client()
    text = FLOW.format(name="form-desk", steps='  - {step: say, send: "got ${ input.text }"}', url=talk.base)
    text = text[: text.index("        verify")] + f"""        verify: {{scheme: none}}
        reads: {{text: $.Body, chat: $.From}}
        send: {{method: POST, url: "{talk.base}/messages", credential: line, json: {{to: ada.form-line, text: "${{ chat }} ${{ text }}"}}}}
steps:
""" + text[text.index("  - {step: say") :]  # fmt: skip
    client.save(text)
    client.on("form-desk")
    talk.say("ada", "here I am")
    talk.told("ada")
    for _ in range(2):  # without an id the message itself counts once
        answer = httpx.post(f"{talk.oak.url}/channels/form-desk", data={"From": "+00 4711", "Body": "is soup served?"})
        assert answer.status_code == 200, answer.text
    assert talk.told("ada", 2) == ["got here I am", "+00 4711 got is soup served?"]


def reading(**more: object) -> tuple[ExampleChannel, Model]:
    return ExampleChannel(), ByExample.model_validate({"send": {"url": "https://messages.example"}, **more})


@pytest.mark.parametrize(
    "body",
    [None, 7, "x", [], {}, {"text": "no chat"}, {"chat": "no text"}, {"chat": {"a": 1}, "text": "x"}, {"chat": "c", "text": ["x"]}, {"chat": None, "text": "x"}, {"chat": "", "text": "x"}],
)  # fmt: skip
def test_what_says_nothing_is_no_message(body: object):
    channel, given_ = reading()
    assert channel.read(given_, body) == []


@given(st.recursive(st.none() | st.booleans() | st.floats() | st.text() | st.integers(), lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.sampled_from(["chat", "text", "id", "at", "media", "answer", "x"]), inner, max_size=5), max_leaves=12))  # fmt: skip
def test_any_body_is_read_or_refused(body: object):
    channel, given_ = reading(
        reads={"messages": "$..*", "id": "$.id", "at": "$.at", "media": "$.media", "choice": "$.answer"}
    )
    try:
        found = channel.read(given_, body)
    except Refused:
        return
    assert all(one.chat and (one.text or one.media or one.choice) for one in found)


def test_a_body_that_takes_for_ever_is_refused():
    channel, given_ = reading(reads={"messages": "$..[?@..a]"})
    deep: object = {"a": 1}
    for _ in range(200):
        deep = {"a": deep, "b": [deep] if not isinstance(deep, dict) else 1}
    with pytest.raises(Refused):
        channel.read(given_, [deep] * 200)


def test_what_strangers_send_leads_to_no_other_place():
    request = _fields(
        Template({"url": "https://m.example/media/${ media }", "json": "${ media }"}), {"media": "../admin?a=1"}
    )
    assert (request.url, request.json_body) == ("https://m.example/media/..%2Fadmin%3Fa%3D1", "../admin?a=1")
    assert _fields(Template({"url": "${ media }"}), {"media": "https://m.example/a/b"}).url == "https://m.example/a/b"


@pytest.mark.parametrize(
    ("path", "step"),
    [("reply", "reply"), ("reply/turn[3]", "reply"), ("way.stay~2.between/turn[0]", "between"), ("each[3].reply", "reply"), ("reply/turn[1]/ask[0]", None), ("reply/turn[1]/ask[0].answer", None)],
)  # fmt: skip
def test_only_what_a_step_says_itself_is_overheard(path: str, step: str | None):
    found = _SPEAKS.fullmatch(path)
    assert (found[1] if found else None) == step


@pytest.mark.parametrize(
    ("told", "moment"),
    [
        ("2031-07-14T08:00:00+00:00", datetime(2031, 7, 14, 8, tzinfo=UTC)), ("2031-07-14T08:00:00Z", datetime(2031, 7, 14, 8, tzinfo=UTC)), (1941926400, datetime(2031, 7, 16, tzinfo=UTC)),
        ("1941926400", datetime(2031, 7, 16, tzinfo=UTC)), (1941926400000, datetime(2031, 7, 16, tzinfo=UTC)),
        ("soon", None), (None, None), (True, None), (-1, None), (1e308, None), (float("inf"), None), (float("nan"), None), ("9" * 400, None), ("2031-07-14T08:00:00", None), ({}, None),
    ],
)  # fmt: skip
def test_moments_are_read_as_they_are_told(told: object, moment: datetime | None):
    assert _moment(told) == moment


@pytest.mark.parametrize(
    ("given_", "said"),
    [
        ({}, "send is missing"), ({"send": {}}, "url"), ({"send": {"url": "https://a.example", "json": "${ guest }"}}, "guest is not known here"), ({"send": {"url": "https://a.example", "nowhere": 1}}, "nowhere"),
        ({"send": {"url": "https://a.example"}, "reads": {"text": "text"}}, "no JSONPath"), ({"send": {"url": "https://a.example"}, "reads": {"text": "$[?("}}, "no JSONPath"),
        ({"send": {"url": "https://a.example", "credential": "nobody-s"}}, "nobody-s"), ({"send": {"url": "https://a.example"}, "fetch": {"url": "https://a.example/${ chat }"}}, "chat is not known here"),
        ({"send": {"url": "https://a.example"}}, "nobody has to prove who sends"),
    ],
)  # fmt: skip
def test_what_is_set_up_wrongly_is_said_beforehand(client: Client, given_: object, said: str):
    text = f"""
oak: 1
workflow: odd-example
triggers:
  - trigger: chat
    conversation: {{channel: by_example, path: odd-example, with: {json.dumps(given_)}}}
steps: [{{step: say, send: hm}}]
"""
    assert said in str([one.message for one in client.check(text).findings])
