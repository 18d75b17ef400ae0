"""Conversations on a page: what is said counts once, in order, begins runs, and is answered in the same place."""

import contextlib
import hashlib
import json
import secrets
import threading
import time
import uuid
from collections.abc import Iterator

import httpx
import pytest

from oak_relay.client import Client
from oak_relay.client.errors import Invalid
from oak_relay.engine.asking import chosen
from oak_relay.standins.media import picture
from tests.conftest import Processes, until

FLOW = """
oak: 1
workflow: {name}
title: Ask about {name}
triggers:
  - trigger: chat
    conversation: {{path: {name}, greeting: Good day., suggestions: [Dogs?], gather: {gather}}}
steps:
{steps}
"""
ECHO = """
  - step: say
    send: "You said: ${ input.text }"
"""


class Visitor:
    """Somebody on a page."""

    def __init__(self, oak: Processes, path: str, key: str = "") -> None:
        self.url, self.key = f"{oak.url}/talk/{path}", key or secrets.token_urlsafe(24)
        self.http = httpx.Client(headers={"X-Visitor": self.key}, timeout=30)

    def say(self, text: str, id: str = "", **more: object) -> httpx.Response:
        return self.http.post(f"{self.url}/messages", json={"id": id or uuid.uuid4().hex, "text": text, **more})

    def lines(self) -> list[tuple[str, str]]:
        items = self.http.get(f"{self.url}/messages").raise_for_status().json()["items"]
        return [(one["side"], one["text"]) for one in items]

    def told(self, count: int = 1) -> list[str]:
        """What it was told, once there are so many."""
        found = until(lambda: len(some := [t for s, t in self.lines() if s == "us"]) >= count and some)
        return list(found)


def talking(client: Client, name: str, steps: str, gather: str = "0s") -> None:
    saved = client.save(FLOW.format(name=name, gather=gather, steps=steps.strip("\n")))
    assert [one for one in saved.findings if one.severity == "error"] == []
    client.on(name)


@pytest.fixture(scope="module")
def echo(oak: Processes) -> Iterator[str]:
    talking(oak.client(), "echoing", ECHO)
    yield "echoing"


def test_what_is_said_is_answered_in_the_same_conversation(echo: str, oak: Processes):
    ada, bo = Visitor(oak, echo), Visitor(oak, echo)
    assert ada.say("May a dog come along?").status_code == 202
    assert ada.told() == ["You said: May a dog come along?"]
    bo.say("Is soup served?")
    assert bo.told() == ["You said: Is soup served?"]
    assert ada.lines() == [("them", "May a dog come along?"), ("us", "You said: May a dog come along?")]
    about = httpx.get(f"{oak.url}/talk/{echo}/about").json()
    assert about == {
        "title": f"Ask about {echo}",
        "greeting": "Good day.",
        "suggestions": ["Dogs?"],
        "commands": [],
        "draft": 0,
        "colour": None,
        "picture": None,
        "accepts": [],
    }


def test_what_is_only_sent_to_is_no_page_to_look_at(echo: str, oak: Processes):
    for path in (
        f"talk/{echo}/verdicts",
        f"talk/{echo}/files",
        f"talk/{echo}/nothing",
        "talk/",
        "channels/",
        "channels/a/b",
    ):
        answer = httpx.get(f"{oak.url}/{path}")
        assert answer.status_code in (404, 405) and "<html" not in answer.text, path
    assert "<html" in httpx.get(f"{oak.url}/workflows/talk").text


def test_a_message_counts_once_however_often_it_is_sent(echo: str, oak: Processes):
    ada, answers = Visitor(oak, echo), []
    threads = [threading.Thread(target=lambda: answers.append(ada.say("once", id="m1").json())) for _ in range(12)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert {one["seq"] for one in answers} == {0} and [one["duplicate"] for one in answers].count(False) == 1
    ada.say("twice", id="m2")
    assert ada.told(2) == ["You said: once", "You said: twice"]


def test_runs_of_one_conversation_keep_their_order(echo: str, oak: Processes):
    ada = Visitor(oak, echo)
    for n in range(10):
        assert ada.say(f"{n}").status_code == 202
    told = until(lambda: (text := "\n".join(t for s, t in ada.lines() if s == "us")) and "9" in text and text)
    said = [line.removeprefix("You said: ") for line in told.splitlines()]
    assert said == [str(n) for n in range(10)]


def test_a_burst_is_taken_as_one_and_each_of_it_counts_by_itself(oak: Processes, client: Client):
    talking(client, "gathering", ECHO, gather="3s")
    ada = Visitor(oak, "gathering")
    for n, text in enumerate(["Hello", "two questions", "dogs?", "soup?", "dogs?"]):
        assert ada.say(text, id=f"b{n}").status_code == 202
        assert ada.say(text, id=f"b{n}").json()["duplicate"] is True
    assert ada.told() == ["You said: Hello\ntwo questions\ndogs?\nsoup?\ndogs?"]
    assert [one.state for one in client.runs(workflow="gathering")] == ["succeeded"]
    assert ada.say("/help me").status_code == 202  # a command begins a run of its own, at once
    assert ada.told(2)[1] == "You said: /help me"


def test_a_burst_is_what_the_trigger_makes_of_all_of_it(oak: Processes, client: Client):
    name = "mapping"
    flow = FLOW.format(
        name=name,
        gather="3s",
        steps='  - step: say\n    send: "${ input.asked } / ${ input.by } / ${ conversation.first }"',
    )
    mapped = '    input: {asked: "<${ event.data.text }>", by: "${ event.data.choice }"}\nsteps:'
    client.save(flow.replace("steps:", mapped, 1))
    client.on(name)
    ada = Visitor(oak, name)
    for text, more in (("Hello", {}), ("dogs?", {"choice": "dogs?"}), ("soup?", {})):
        assert ada.say(text, **more).status_code == 202
    assert ada.told() == ["<Hello\ndogs?\nsoup?> / dogs? / true"]


def test_a_run_that_failed_is_run_again_and_answers_where_it_was_asked(oak: Processes, client: Client):
    talking(client, "mending", "  - step: odd\n    fail: not yet")
    ada = Visitor(oak, "mending")
    ada.say("Is soup served?")
    run = until(lambda: next((one for one in client.runs(workflow="mending") if one.over), None))
    client.save(FLOW.format(name="mending", gather="0s", steps=ECHO.strip("\n")), expected=1)
    client.on("mending")
    client.again(run.id, "start")
    assert ada.told() == ["You said: Is soup served?"]


def test_what_would_be_said_is_tried_and_by_hand_it_is_said_to_nobody(oak: Processes, client: Client):
    steps = '  - step: say\n    send: "${ conversation.key | length > 0 }: ${ input.text }"'
    talking(client, "trying", steps)
    text = client.workflow("trying").text
    tried = client.try_step(text, "say", {"text": "Hello"})
    assert (tried.state, tried.error) == ("succeeded", None)
    ended = client.start("trying", {"text": "Hello"}).wait(30)
    assert ended.state == "failed" and ended.error.message.startswith("nobody is there to hear it")


def test_a_page_that_is_off_and_one_address_that_listens_too_much(oak: Processes, client: Client):
    talking(client, "closing", ECHO)
    ada = Visitor(oak, "closing")
    with contextlib.ExitStack() as stack:
        for _ in range(50):
            stream = stack.enter_context(
                httpx.stream("GET", f"{ada.url}/stream", headers={"X-Visitor": ada.key}, timeout=30)
            )
            assert stream.status_code == 200
        assert until(lambda: ada.http.get(f"{ada.url}/stream").status_code == 429)
    client.off("closing")
    for answer in (
        ada.say("Hello?"),
        ada.http.get(f"{ada.url}/messages"),
        ada.http.get(f"{ada.url}/stream"),
        ada.http.get(f"{ada.url}/about"),
    ):
        assert answer.status_code == 404 and answer.json()["title"] == "nobody talks here"


def test_of_a_long_conversation_the_end_is_told(echo: str, oak: Processes):
    ada = Visitor(oak, echo)
    ada.say("Hello")
    ada.told()
    oak.rows(
        "INSERT INTO utterance (workspace_id, conversation_id, seq, id, side, text) SELECT workspace_id, conversation_id, 2 + n, gen_random_uuid(), 'us', "
        f"'line ' || n FROM utterance, generate_series(0, 99999) n WHERE key IS NOT NULL AND text = 'Hello' AND seq = 0 AND conversation_id = (SELECT id FROM conversation WHERE key = '{echo} {person(ada)[:16]}')"
    )
    began, told = time.monotonic(), []
    with httpx.stream("GET", f"{ada.url}/stream", headers={"X-Visitor": ada.key}, timeout=30) as stream:
        for line in stream.iter_lines():
            if '"seq"' in line:
                told.append(json.loads(line.removeprefix("data: "))["seq"])
                if told[-1] == 100_001:
                    break
    assert told == list(range(99_702, 100_002))
    ada.say("And now?")
    found = until(lambda: [one["text"] for one in ada.http.get(f"{ada.url}/messages?after=100002").json()["items"]])
    assert found == ["You said: And now?"] and time.monotonic() - began < 30


def person(visitor: Visitor) -> str:
    return hashlib.sha256(f"visitor {visitor.key}".encode()).hexdigest()


def test_an_agent_needs_only_a_model_and_remembers_what_was_said_and_nothing_else(oak: Processes, client: Client):
    client.put_credential("talk-models", kind="bearer", secret=oak.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])  # fmt: skip
    client.put_model("talk-quick", url=f"{oak.standins}/v1", model="larch-small", credential="talk-models", prices={"input": 1, "output": 4})  # fmt: skip
    talking(client, "advising", """
  - step: reply
    do: agent
    with: {model: talk-quick, limits: {turns: 2, money: 0.1}}
  - step: say
    send: "${ conversation.first } ${ conversation.person.id | length } ${ reply.text | length > 0 }"
""")  # fmt: skip
    ada = Visitor(oak, "advising")
    ada.say("My name is Ada Fenn.")
    assert ada.told() == ["true 32 true"]
    ada.say("What is my name?")
    assert ada.told(2)[1] == "false 32 true"
    run = client.runs(workflow="advising", limit=1)[0]
    sent = client.messages(run.id, "reply/turn[1]")["messages"]
    assert [(one["role"], one["content"]) for one in sent if one["role"] != "system"][:3] == [
        ("user", "My name is Ada Fenn."), ("assistant", "true 32 true"), ("user", "What is my name?"),
    ]  # fmt: skip
    [talk] = [one for one in client.every(client.conversations) if one.key.startswith("advising ")]
    assert [(m.role, m.message["content"]) for m in client.conversation(talk.key)][:2] == [("user", "My name is Ada Fenn."), ("assistant", "true 32 true")]  # fmt: skip
    client.forget(talk.key)
    assert ada.lines() == []


def test_one_listens_and_is_told_at_once(echo: str, oak: Processes):
    ada, heard = Visitor(oak, echo), []
    with httpx.stream("GET", f"{ada.url}/stream?after=-1", headers={"X-Visitor": ada.key}, timeout=30) as stream:
        ada.say("Who is there?")
        event = ""
        for line in stream.iter_lines():
            if line.startswith("event: "):
                event = line.removeprefix("event: ")
            elif line.startswith("data: ") and event == "said":
                heard.append(json.loads(line.removeprefix("data: ")))
                if len(heard) == 2:
                    break
    assert [(one["side"], one["text"]) for one in heard] == [
        ("them", "Who is there?"),
        ("us", "You said: Who is there?"),
    ]


PICTURES = """
  - step: say
    send: {text: "You gave ${ input.parts | map(attribute='what') | join(', ') }.", files: "${ input.parts | map(attribute='file') }"}
"""


def test_pictures_and_files_go_both_ways_and_nobody_gives_anothers(oak: Processes, client: Client):
    talking(client, "giving-files", PICTURES, "0s, accepts: [picture, file]")
    ada, bo = Visitor(oak, "giving-files"), Visitor(oak, "giving-files")
    seen = picture("a hut in snow")

    def give(who: Visitor, content: bytes, type: str, name: str = "hut.png") -> httpx.Response:
        return who.http.post(f"{who.url}/files", params={"name": name}, content=content, headers={"Content-Type": type})

    given = give(ada, seen, "image/png", "../../hut.png").json()
    assert given["name"] == "hut.png"
    for wrong in (
        {**given, "name": "other"},
        {**given, "proof": "x"},
        {**given, "type": "text/html"},
        {**given, "file": str(uuid.uuid4())},
    ):
        assert ada.say("", files=[wrong]).status_code == 422
    assert bo.say("", files=[given]).status_code == 422  # it is Ada's
    assert ada.say("", files=[given] * 6).status_code == 422
    assert give(ada, b"x", "audio/wav").status_code == 422
    assert give(ada, b"", "image/png").status_code == 201
    assert give(ada, b"x" * 10_000_001, "image/png").status_code == 413
    assert ada.say("", files=[given]).status_code == 202
    assert ada.told() == ["You gave picture."]
    lines = ada.http.get(f"{ada.url}/messages").json()["items"]
    for line in lines:  # both sides show it, and its address needs no key
        [file] = line["files"]
        assert (file["what"], file["name"], file["type"]) == ("picture", "hut.png", "image/png")
        got = httpx.get(oak.url + file["address"])
        assert (got.content, got.headers["content-type"]) == (seen, "image/png")
    assert httpx.get(oak.url + lines[0]["files"][0]["address"].replace("image%2Fpng", "text%2Fhtml")).status_code == 404
    markup = give(ada, b"<script>document.title=1</script>", "text/html", "a.html").json()
    ada.say("look", files=[markup])
    ada.told(2)
    address = ada.http.get(f"{ada.url}/messages").json()["items"][2]["files"][0]["address"]
    shown = httpx.get(oak.url + address)
    assert shown.headers["content-type"] == "application/octet-stream"
    assert shown.headers["content-disposition"].startswith("attachment")
    [talk] = [one for one in client.every(client.conversations) if one.key.startswith("giving-files ")]
    assert [len(one.parts) for one in client.conversation(talk.key)] == [1, 1, 1, 1]


@pytest.mark.parametrize(
    "files", ["nothing", 7, ["x"], {"file": "x"}, [{"file": {}}], [{"a": 1}], [{"file": str(uuid.uuid4())}] * 11]
)
def test_what_is_no_file_is_not_sent(oak: Processes, client: Client, files: object):
    name = f"no-files-{hashlib.sha256(repr(files)[:40].encode()).hexdigest()[:8]}"
    talking(
        client,
        name,
        "  - step: made\n    set: {files: "
        + json.dumps(files)
        + "}\n  - step: say\n    send: {files: '${ made.files }'}",
    )
    Visitor(oak, name).say("hm")
    run = until(lambda: next((one for one in client.runs(workflow=name) if one.state == "failed"), None))
    assert run.error is not None and run.error.kind == "invalid"


def told_by(ada: Visitor, text: str, count: int) -> list[tuple[str, object]]:
    """What a page is told after something was said, until it is said so often."""
    found: list[tuple[str, object]] = []
    with httpx.stream("GET", f"{ada.url}/stream?after=-1", headers={"X-Visitor": ada.key}, timeout=30) as stream:
        ada.say(text)
        event = ""
        for line in stream.iter_lines():
            if line.startswith("event: "):
                event = line.removeprefix("event: ")
            elif line.startswith("data: ") and event:
                found.append((event, json.loads(line.removeprefix("data: "))))
                if [name for name, _ in found].count("said") == count:
                    return found
    raise AssertionError(found)


def test_an_answer_is_told_while_it_is_written_unless_something_stands_before_it_is_said(
    oak: Processes, client: Client
):
    client.put_credential("talk-models", kind="bearer", secret=oak.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])  # fmt: skip
    client.put_model("talk-quick", url=f"{oak.standins}/v1", model="larch-small", credential="talk-models", prices={"input": 1, "output": 4})  # fmt: skip
    steps = """
  - {step: nap, wait: 2s}
  - {step: reply, do: model.answer, with: {model: talk-quick, prompt: "${ input.text }"}, retry: {tries: 3, wait: 100ms}}
"""
    talking(client, "writing-down", steps + '  - {step: say, send: "${ reply.text }"}')
    for _ in range(5):  # what is told meanwhile is a hint, and on a busy machine it may be missed
        oak.fault(service="model", kind="cut_stream", times=1)  # begins anew: what was told is void
        told = told_by(Visitor(oak, "writing-down"), "hello there", 2)
        words = [given for name, given in told if name == "writing"]
        whole = next(given["text"] for name, given in told if name == "said" and given["side"] == "us")
        begins = [n for n, one in enumerate(words) if one["anew"]]
        if len(begins) == 2:
            break
    assert len(begins) == 2 and "".join(one["text"] for one in words[: begins[1]]) == "Hello "
    assert whole.startswith("".join(one["text"] for one in words[begins[1] :])) and words[-1]["text"]
    judged = '  - {step: kind, set: {letters: "${ reply.text | length }"}}\n  - {step: say, send: "${ reply.text }"}'
    talking(client, "writing-judged", steps + judged)
    inner = steps.replace("\n  -", "\n          -") + '          - {step: say, send: "${ reply.text }"}'
    talking(client, "writing-inside", "  - step: way\n    branch:\n      - else:" + inner)
    assert any("writing" in dict(told_by(Visitor(oak, "writing-inside"), "hello there", 2)) for _ in range(5))
    told = told_by(Visitor(oak, "writing-judged"), "hello there", 2)
    assert "writing" not in [name for name, _ in told]


@pytest.mark.parametrize(
    ("body", "status"),
    [
        ({"id": "a", "text": ""}, 422), ({"id": "a", "text": "  \n "}, 422), ({"id": "", "text": "x"}, 422), ({"text": "x"}, 422), ({"id": "a" * 81, "text": "x"}, 422),
        ({"id": "a b", "text": "x"}, 422), ({"id": "a", "text": "x" * 4_001}, 422), ({"id": "a", "text": "x" * 50_000}, 413), ({"id": "a", "text": ["x"]}, 422),
        ({"id": "a", "text": "x", "side": "us"}, 422), ({"id": "a", "text": "x", "choice": "y" * 61}, 422), ([], 422),
    ],
)  # fmt: skip
def test_what_is_no_message_is_refused(echo: str, oak: Processes, body: object, status: int):
    ada = Visitor(oak, echo)
    answer = ada.http.post(f"{ada.url}/messages", json=body)
    assert answer.status_code == status and "fix" in answer.json(), answer.text
    assert ada.lines() == []


def test_who_has_no_key_or_an_odd_one_is_nobody(echo: str, oak: Processes):
    for key in ("", "short", "x" * 101, "a" * 21, "../../../../../../../../etc", "a b" * 10):
        head = {"X-Visitor": key} if key else {}
        assert httpx.get(f"{oak.url}/talk/{echo}/messages", headers=head).status_code == 422
        assert httpx.post(f"{oak.url}/talk/{echo}/messages", json={"id": "a", "text": "x"}, headers=head).status_code == 422  # fmt: skip
    ada = Visitor(oak, echo, "k" * 22)
    assert ada.say("x").status_code == 202
    assert Visitor(oak, echo, "k" * 23).lines() == []
    assert Visitor(oak, "nobody-here").say("x").status_code == 404
    assert httpx.get(f"{oak.url}/hooks/talk:{echo}").status_code == 404


def test_who_says_too_much_is_told_to_wait(oak: Processes, client: Client):
    talking(client, "patient", ECHO, gather="9s")
    ada = Visitor(oak, "patient")
    found = [ada.say(f"{n}") for n in range(32)]
    assert [one.status_code for one in found] == [202] * 30 + [429] * 2
    assert int(found[-1].headers["Retry-After"]) > 0


@pytest.mark.parametrize(
    ("steps", "why"),
    [
        ("  - step: say\n    send: ''", "nothing to say"),
        ("  - step: say\n    send: \"${ 'x' * 21000 }\"", "20,000 are said at most"),
    ],
)
def test_what_cannot_be_said_fails_the_run_alone(oak: Processes, client: Client, steps: str, why: str):
    name = f"mute-{len(steps)}"
    talking(client, name, steps)
    ada = Visitor(oak, name)
    ada.say("Hello?")
    run = until(lambda: next((one for one in client.runs(workflow=name) if one.over), None))
    assert run.state == "failed" and why in client.run(run.id).run.error.message
    assert ada.lines() == [("them", "Hello?")]


def test_without_a_conversation_nothing_is_said(client: Client):
    with pytest.raises(Invalid, match="say has nobody to say it to: nothing here begins by what somebody says"):
        client.save("oak: 1\nworkflow: alone-in-the-hut\nsteps:\n  - step: say\n    send: Hello\n")


def test_nothing_is_lost_when_service_and_workers_die(lone: Processes):
    oak, client = lone, lone.client()
    talking(client, "mortal-talk", ECHO)
    oak.start_worker()
    guests = [Visitor(oak, "mortal-talk") for _ in range(6)]
    for n in range(4):
        for guest in guests:
            guest.say(f"{n}", id=f"m{n}")
        worker = oak.start_worker()
        until(lambda n=n: any(len(guest.lines()) > n for guest in guests))
        worker.kill()
        worker.wait()
    oak.start_worker()
    for guest in guests:
        told = until(
            lambda guest=guest: (some := [t for s, t in guest.lines() if s == "us"]) and "3" in some[-1] and some
        )
        said = [line.removeprefix("You said: ") for text in told for line in text.splitlines()]
        assert said == ["0", "1", "2", "3"]


ASKS = """
  - step: bunk
    ask: {at: conversation, text: Shall a bunk be kept?, choices: [Yes please, No], within: WITHIN}
  - step: when
    ask: {at: conversation, text: For which night?}
    when: ${ bunk.choice == 'Yes please' }
  - step: say
    send: "${ bunk.choice }|${ bunk.text }|${ bunk.expired }|${ when.text | default('') }"
"""


def test_what_is_said_next_answers_the_question_that_is_open(oak: Processes, client: Client):
    talking(client, "asking", ASKS.replace("WITHIN", "1d"))
    ada, bo = Visitor(oak, "asking"), Visitor(oak, "asking")
    ada.say("Hello")
    bo.say("Good evening")
    assert ada.told() == ["Shall a bunk be kept?"] == bo.told()
    asked = ada.http.get(f"{ada.url}/messages").json()["items"][1]
    assert asked["buttons"] == ["Yes please", "No"]
    assert client.tray("open")
    assert ada.say("yes, please!", id="a1").json()["duplicate"] is False
    assert ada.say("yes, please!", id="a1").json()["duplicate"] is True  # and is no answer to what is asked next
    bo.say("No", choice="No")
    assert ada.told(2)[1] == "For which night?"
    ada.say("the ninth")
    assert ada.told(3)[2] == "Yes please|yes, please!|false|the ninth"
    assert bo.told(2)[1] == "No|No|false|"
    assert [one.state for one in client.runs(workflow="asking")] == ["succeeded"] * 2
    ada.say("And again")  # nothing is open: it begins a run
    assert ada.told(4)[3] == "Shall a bunk be kept?"
    ada.say("/stop")  # a command is no answer; its run waits behind the one that asks
    ada.say("perhaps")
    assert ada.told(5)[4] == "|perhaps|false|"


def test_a_question_that_nobody_answers_ends_and_what_is_said_later_begins_a_run(oak: Processes, client: Client):
    talking(client, "asking-soon", ASKS.replace("WITHIN", "1s"))
    ada = Visitor(oak, "asking-soon")
    ada.say("Hello")
    assert ada.told(2) == ["Shall a bunk be kept?", "||true|"]
    ada.say("Yes please")
    assert ada.told(3)[2] == "Shall a bunk be kept?"


def test_one_thing_is_asked_at_a_time(oak: Processes, client: Client):
    talking(client, "asking-twice", """
  - step: both
    together:
      one: {steps: [{step: a, ask: {at: conversation, text: One?}}]}
      other: {steps: [{step: b, wait: 1s}, {step: c, ask: {at: conversation, text: Other?}}]}
    on_error: go_on
  - step: say
    send: "${ both.error.message }"
""")  # fmt: skip
    ada = Visitor(oak, "asking-twice")
    ada.say("Hello")
    assert ada.told(2) == ["One?", "another question is open in this conversation"]


@pytest.mark.parametrize(
    ("said", "choice"),
    [("Yes please", "Yes please"), ("yes please!", "Yes please"), ("  NO. ", "No"), ("1", "Yes please"), ("2.", "No"), ("3", None), ("0", None), ("", None), ("yes", None), ("\u0661", None), ("1" * 5000, None)],
)  # fmt: skip
def test_words_and_numbers_mean_a_choice(said: str, choice: str | None):
    assert chosen(["Yes please", "No"], None, said) == choice
    assert chosen(["Yes please", "No"], "No", said) == "No"


def test_a_form_without_pieces_is_refused_and_nobody_is_asked_outside_of_a_conversation(client: Client):
    head = "oak: 1\nworkflow: asks-nobody\n"
    step = "steps:\n  - step: a\n    ask: {at: conversation, text: Who?%s}\n"
    with pytest.raises(Invalid, match="nothing here begins by what somebody says"):
        client.save(head + step % "")
    with pytest.raises(Invalid, match="a form in a conversation has pieces"):
        client.save(head + step % ", form: {type: object}")


def test_who_forgets_to_answer_is_told(client: Client):
    saved = client.save(FLOW.format(name="silent", gather="0s", steps="  - step: a\n    set: {x: 1}"))
    assert "nothing here answers who talks" in [one.message for one in saved.findings]


@pytest.mark.parametrize(
    ("schema", "lacking"),
    [
        ("{required: [text, name], properties: {text: {}, name: {type: string}}}", "name"),
        ("{required: [name], properties: {name: {type: string, default: guest}}}", ""),
        ("{required: [text, parts]}", ""),
        ("{type: object, required: [[1], {a: 1}], properties: [name]}", ""),
    ],
)
def test_who_needs_what_nobody_says_is_told(client: Client, schema: str, lacking: str):
    steps = "  - step: a\n    send: hello"
    text = FLOW.format(name="needs-a-name", gather="0s", steps=f"{steps}\ninput: {schema}")
    told = [one for one in client.check(text).findings if "which the input needs" in one.message]
    assert [f"what is said has no {lacking}," in one.message for one in told] == [True] * bool(lacking)
    assert not lacking or (told[0].line == 7 and told[0].severity == "error")
    made = text.replace(", gather: 0s}", ", gather: 0s}\n    input: {text: a, name: b}")
    assert "which the input needs" not in "".join(one.message for one in client.check(made).findings)


def test_the_guest_goes_on_talking_while_an_approval_rests(oak: Processes, client: Client):
    talking(client, "resting-desk", """
  - step: way
    branch:
      - if: ${ 'refund' in input.text }
        steps:
          - {step: patience, send: "I ask the office."}
          - {step: sure, ask: {text: "A refund for ${ run.subject }?", choices: [approve, refuse]}}
          - {step: told, send: "The office says: ${ sure.choice }"}
      - else:
          - {step: said, send: "You said: ${ input.text }"}
""")  # fmt: skip
    ada = Visitor(oak, "resting-desk")
    ada.say("a refund, please")
    assert ada.told() == ["I ask the office."]
    [asked] = until(lambda: [one for one in client.tray() if one.workflow == "resting-desk"])
    for text in ("Is soup served?", "And tea?"):
        ada.say(text)
        assert until(lambda t=text: f"You said: {t}" in [said for _, said in ada.lines()])
    assert {one.state for one in client.runs(workflow="resting-desk")} == {"waiting", "succeeded"}
    client.answer(asked.id, "approve")
    assert ada.told(4)[3] == "The office says: approve"


def test_what_is_asked_in_the_conversation_lets_nobody_pass(oak: Processes, client: Client):
    talking(client, "holding-desk", '  - step: night\n    ask: {at: conversation, text: "Which night, ${ input.text }?"}\n  - step: said\n    send: "Noted: ${ night.text }"')  # fmt: skip
    ada = Visitor(oak, "holding-desk")
    ada.say("Ada")
    ada.told()
    assert ada.say("/again").status_code == 202  # a command begins a run of its own, and waits for its turn
    assert until(lambda: [one.state for one in client.runs(workflow="holding-desk")].count("queued") == 1)
    ada.say("the fourteenth")
    assert ada.told(3)[1:] == ["Noted: the fourteenth", "Which night, /again?"]


def test_answers_are_judged_and_counted_for_each_version(oak: Processes, client: Client):
    talking(client, "judging", ECHO)
    ada, bo = Visitor(oak, "judging"), Visitor(oak, "judging")
    ada.say("one")
    bo.say("two")
    ada.told()
    bo.told()

    def judge(who: Visitor, seq: object, good: object) -> int:
        return who.http.post(f"{who.url}/verdicts", json={"seq": seq, "good": good}).status_code

    assert [judge(ada, 1, True), judge(bo, 1, False), judge(ada, 1, False)] == [204, 204, 204]
    assert [judge(ada, 0, True), judge(ada, 7, True)] == [404, 404]  # what they said themselves, and what is not there
    assert [judge(ada, 1, "yes"), judge(ada, -1, True), judge(ada, 2**40, True), judge(ada, 1, 1)] == [422] * 4
    assert [(one.good, one.bad) for one in client.workflow("judging").versions] == [(0, 2)]
    assert judge(bo, 1, None) == 204
    client.save(
        FLOW.format(name="judging", gather="0s", steps=ECHO.replace("You said", "Heard").strip("\n")), expected=1
    )
    client.on("judging")
    bo.say("three")
    assert bo.told(2)[1] == "Heard: three" and judge(bo, 3, True) == 204
    assert [(one.number, one.good, one.bad) for one in client.workflow("judging").versions] == [(2, 1, 0), (1, 0, 1)]
    [talk] = [one for one in client.every(client.conversations) if one.key == f"judging {person(ada)[:16]}"]
    assert [one.good for one in client.conversation(talk.key)] == [None, False]


FORM = """
  - step: stay
    ask:
      at: conversation
      text: A bunk, gladly.
      {model}
      form:
        type: object
        required: [hut, nights, meals]
        properties:
          hut: {{description: "At which hut?", enum: [Glasswater, Thistle Col]}}
          nights: {{description: "How many nights?", type: integer, minimum: 1, maximum: 14}}
          meals: {{type: boolean}}
      within: 1d
  - step: say
    send: "${{ stay.data.hut }}, ${{ stay.data.nights }}, ${{ stay.data.meals }}"
"""


def test_a_form_is_asked_for_piece_by_piece_and_each_is_checked(oak: Processes, client: Client):
    talking(client, "booking-desk", FORM.format(model="then: go_on"))
    ada = Visitor(oak, "booking-desk")
    ada.say("Hello")
    assert ada.told() == ["A bunk, gladly.\nAt which hut?"]
    for n, (text, told) in enumerate([
        ("Long Shadow", "At which hut? "), ("thistle col", "How many nights?"), ("a few", "How many nights? "), ("40", "How many nights? "), ("3", "Meals?"), ("perhaps", "Meals? "),
        ("yes", "Thistle Col, 3, true"),
    ], 2):  # fmt: skip
        ada.say(text)
        assert ada.told(n)[n - 1].startswith(told), (text, ada.told(n))
    items = ada.http.get(f"{ada.url}/messages").json()["items"]
    assert [one["buttons"] for one in items if one["text"] == "A bunk, gladly.\nAt which hut?"] == [
        ["Glasswater", "Thistle Col"]
    ]
    [run] = client.runs(workflow="booking-desk")
    assert client.run(run.id).run.state == "succeeded" and len(client.tray("answered")) >= 7


def test_a_model_takes_several_pieces_from_one_sentence(oak: Processes, client: Client):
    client.put_credential("form-models", kind="bearer", secret=oak.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])  # fmt: skip
    client.put_model("form-quick", url=f"{oak.standins}/v1", model="larch-small", credential="form-models", prices={"input": 1, "output": 4})  # fmt: skip
    talking(client, "sentence-desk", FORM.format(model="model: form-quick"))
    ada = Visitor(oak, "sentence-desk")
    ada.say("Hello")
    ada.told()
    ada.say("Glasswater for 3 nights")
    assert ada.told(2)[1] == "Meals?"
    ada.say("Yes.")
    assert ada.told(3)[2] == "Glasswater, 3, true"
    [run] = client.runs(workflow="sentence-desk")
    assert [span.path for span in client.trace(run.id).spans if "/" in span.path] == ["stay/taken", "stay~2/taken"]


ASIDES = """
      aside:
        - step: answered
          set: {{words: "${{ aside.text | upper }}"}}
        - step: told
          send: "${{ answered.words }} Ask the warden."
      within: 1d"""


@pytest.mark.parametrize("model", ["then: go_on", "model: form-quick"])
def test_a_digression_is_dealt_with_and_it_is_asked_again(oak: Processes, client: Client, model: str):
    client.put_credential("form-models", kind="bearer", secret=oak.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])  # fmt: skip
    client.put_model("form-quick", url=f"{oak.standins}/v1", model="larch-small", credential="form-models", prices={"input": 1, "output": 4})  # fmt: skip
    name = f"digressing-{model[:4]}".strip().rstrip(":")
    talking(client, name, FORM.replace("\n      within: 1d", ASIDES).format(model=model))
    ada = Visitor(oak, name)
    ada.say("Hello")
    ada.told()
    talk = [
        ("May a dog sleep inside?", ["MAY A DOG SLEEP INSIDE? Ask the warden.", "At which hut?"]),
        ("Glasswater", ["How many nights?"]),
        ("Is there soup?", ["IS THERE SOUP? Ask the warden.", "How many nights?"]),
        ("And bread?", ["AND BREAD? Ask the warden.", "How many nights?"]),
        ("3", ["Meals?"]),
    ]
    count = 1
    for text, told in talk:
        ada.say(text)
        count += len(told)
        assert [one.removeprefix("A bunk, gladly.\n") for one in ada.told(count)[-len(told) :]] == told, text
    if "model" in model:
        ada.say("no, 2 nights")  # a correction
        assert ada.told(count + 1)[-1] == "Meals?"
        count += 1
    ada.say("yes")
    assert ada.told(count + 1)[-1] == f"Glasswater, {2 if 'model' in model else 3}, true"
    [run] = client.runs(workflow=name)
    trace = client.trace(run.id)
    assert [span.path for span in trace.spans if span.path.endswith("told")] == [
        "stay.told",
        "stay~3.told",
        "stay~4.told",
    ]
    assert {line.sentence for line in trace.script if line.kind == "arm"} == {"If something else is said"}


def test_a_choice_that_is_not_made_is_put_again_after_the_digression(oak: Processes, client: Client):
    talking(client, "digressing-choice", """
  - step: wish
    ask:
      at: conversation
      text: Soup or stew?
      choices: [soup, stew]
      within: 1d
      aside: [{step: told, send: "You said: ${ aside.text }"}]
  - step: say
    send: "${ wish.choice } it is."
""")  # fmt: skip
    ada = Visitor(oak, "digressing-choice")
    for n, (text, told) in enumerate(
        [
            ("Hello", ["Soup or stew?"]),
            ("What is in it?", ["You said: What is in it?", "Soup or stew?"]),
            ("Hm", ["You said: Hm", "Soup or stew?"]),
            ("stew", ["stew it is."]),
        ]
    ):
        ada.say(text)
        assert ada.told([1, 3, 5, 6][n])[-len(told) :] == told


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ("at: tray, choices: [a, b]", "only in a conversation"),
        ("at: conversation, choices: [a, b], otherwise: c", "either otherwise"),
    ],
)
def test_an_aside_where_it_means_nothing_is_refused(client: Client, given: str, said: str):
    text = FLOW.format(
        name="odd-aside",
        gather="0s",
        steps=f"  - step: a\n    ask: {{text: hm, {given}, aside: [{{step: b, set: {{c: 1}}}}]}}",
    )
    assert said in str([one.message for one in client.check(text).findings])


@pytest.mark.parametrize(
    ("kept", "warns"),
    [("{step: k, do: conversation.keep, with: {name: stage, value: x}}", False), ("{step: k, set: {a: 1}}", True), ("{step: k, do: conversation.keep, with: {name: other, value: x}}", True),
     ("{step: k, do: conversation.keep, with: {name: '${ input.text }', value: x}}", False), ("{step: k, do: agent, with: {model: m, memory: {conversation: a, facts: true}}}", False)],
)  # fmt: skip
def test_a_fact_that_nothing_keeps_is_told(client: Client, kept: str, warns: bool):
    steps = f"  - {kept}\n  - {{step: say, send: \"${{ conversation.facts.stage | default('new') }}\"}}"
    found = client.check(FLOW.format(name="facts-read", gather="0s", steps=steps)).findings
    assert any("nothing here keeps stage" in one.message for one in found) is warns


def test_a_form_of_any_schema_is_asked_and_a_piece_may_be_answered_at_the_tray(oak: Processes, client: Client):
    talking(client, "odd-form", """
  - step: stay
    ask:
      at: conversation
      text: A bunk?
      form:
        type: object
        required: [hut, nowhere, note, size]
        $defs: {hut: {type: string, minLength: 3}}
        properties:
          hut: {$ref: "#/$defs/hut"}
          note: true
          size: {enum: [small, LONG, large]}
  - step: say
    send: "${ stay.data.hut }, ${ stay.data.note }, ${ stay.data.size }"
""".replace("LONG", "l" * 61))  # fmt: skip
    ada = Visitor(oak, "odd-form")
    ada.say("Hello")
    assert ada.told() == ["A bunk?\nHut?"]
    ada.say("ab")
    assert ada.told(2)[1].startswith("Hut? ")
    [asked] = until(lambda: [one for one in client.tray() if one.workflow == "odd-form"])
    client.answer(asked.id, text="Upper Tarn")
    assert ada.told(3)[2] == "Note?"
    ada.say("[1, 2")
    assert ada.told(4)[3] == "Size?"
    assert (
        ada.http.get(f"{ada.url}/messages").json()["items"][-1]["buttons"] == []
    )  # one of them is longer than a button
    ada.say("large")
    assert ada.told(5)[4] == "Upper Tarn, [1, 2, large"
