"""Conversations on a messaging service: handshake, signatures, what comes in once whatever happens, what leaves in order, what is unknown,
files, hand-overs; against the stand-in that duplicates, delays and loses."""

import base64
import json
import time
import uuid
from collections.abc import Callable, Iterator
from datetime import UTC, datetime

import httpx
import pytest
from standardwebhooks import Webhook

from oak_relay.client import Client
from oak_relay.client.errors import Conflict, Invalid, NotFound
from oak_relay.client.results import Message
from oak_relay.standins.media import picture, recording
from tests.conftest import MESSENGER_KEY, SIGNING, Processes, until

FLOW = """
oak: 1
workflow: {name}
title: {name}
triggers:
  - trigger: chat
    conversation: {{channel: messenger, path: {name}, gather: {gather}, with: {{url: "{url}", credential: line, signing: line-signing}}}}
steps:
{steps}
"""
ECHO = '  - step: say\n    send: "You said: ${ input.text }"'


class Line:
    """The account of a workflow at the messaging service, as its guests and we see it."""

    def __init__(self, oak: Processes, name: str) -> None:
        self.oak, self.name, self.base = oak, name, f"{oak.standins}/messenger"

    def say(self, chat: str, text: str = "", **more: object) -> None:
        httpx.post(f"{self.base}/chats/{chat}.{self.name}", json={"text": text, **more}).raise_for_status()

    def behave(self, **how: float) -> None:
        httpx.post(f"{self.base}/behave", json=how).raise_for_status()

    def chat(self, chat: str) -> list[dict[str, object]]:
        return list(httpx.get(f"{self.base}/chats.json").json()["chats"].get(f"{chat}.{self.name}", []))

    def heard(self, chat: str) -> list[str]:
        """What a guest was told."""
        return [str(one["text"]) for one in self.chat(chat) if one["side"] == "hut"]

    def told(self, chat: str, count: int = 1) -> list[str]:
        return list(until(lambda: len(found := self.heard(chat)) >= count and found))

    def post(self, body: object, secret: str = SIGNING, **headers: str) -> httpx.Response:
        """A delivery of our own making."""
        content, now, id = json.dumps(body), datetime.now(UTC), uuid.uuid4().hex
        signed = {"webhook-id": id, "webhook-timestamp": str(int(now.timestamp())), "webhook-signature": Webhook(secret).sign(id, now, content)}  # fmt: skip
        return httpx.post(
            f"{self.oak.url}/channels/{self.name}", content=content, headers={**signed, **headers}, timeout=60
        )

    def key(self, chat: str) -> str:
        return f"{self.name} {chat}.{self.name}"

    def lines(self, client: Client, chat: str) -> list[Message]:
        """What was said, as we have it; nothing where nothing was yet."""
        try:
            return list(client.every(client.conversation, self.key(chat)))
        except NotFound:
            return []

    def states(self, client: Client, chat: str) -> list[tuple[str, str | None]]:
        return [(str(one.message["content"]), one.state) for one in self.lines(client, chat) if one.role == "assistant"]  # fmt: skip


@pytest.fixture(scope="module")
def line(new_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Callable[..., Line]]:
    """Makes talking workflows whose guests are at the messaging service; one at a time is told of what is said there."""
    made = Processes(tmp_path_factory.mktemp("oak"), new_database())
    made.start_all()
    made.start_worker()
    client = made.client()
    client.put_credential("line", kind="bearer", secret=MESSENGER_KEY, hosts=["127.0.0.1"])
    client.put_credential("line-signing", kind="signing", secret=SIGNING)

    def talking(name: str, steps: str = ECHO, gather: str = "0s") -> Line:
        saved = client.save(
            FLOW.format(name=name, gather=gather, steps=steps.strip("\n"), url=f"{made.standins}/messenger")
        )
        assert [one for one in saved.findings if one.severity == "error"] == []
        client.on(name)
        found = Line(made, name)
        found.behave()
        answer = httpx.post(f"{found.base}/webhook", json={"url": f"{made.url}/channels/{name}"}).json()
        assert answer == {"ok": True, "status": 200}
        return found

    yield talking
    made.stop()


def test_what_a_guest_says_is_answered_where_it_was_said(line: Callable[..., Line]):
    talk = line("answering-line")
    client = talk.oak.client()
    talk.say("ada", "May a dog come along?", name="Ada Fenn")
    talk.say("bo", "Is soup served?", name="Bo Lund")
    assert talk.told("ada") == ["You said: May a dog come along?"] and talk.told("bo") == ["You said: Is soup served?"]
    until(lambda: talk.states(client, "ada") == [("You said: May a dog come along?", "sent")])
    known = {one.key: one for one in client.every(client.conversations)}
    assert (known[talk.key("ada")].channel, known[talk.key("ada")].person) == ("messenger", "Ada Fenn")


def test_who_cannot_prove_it_is_nobody_and_what_is_no_message_is_refused(line: Callable[..., Line]):
    talk = line("careful-line")
    url, good = (
        f"{talk.oak.url}/channels/careful-line",
        {"id": "m", "chat": "ada", "from": {"id": "g"}, "text": "Hello"},
    )
    assert httpx.get(url, params={"challenge": "echo", "token": "wrong"}).status_code == 403
    assert (
        httpx.get(url, params={"challenge": "<b>echo</b>", "token": SIGNING})
        .headers["content-type"]
        .startswith("text/plain")
    )
    assert httpx.post(url, json={"messages": [good]}).status_code == 401
    assert (
        talk.post(
            {"messages": [good]}, secret="whsec_" + base64.b64encode(b"another secret of others").decode()
        ).status_code
        == 401
    )
    old = str(int(time.time()) - 3_600)
    assert talk.post({"messages": [good]}, **{"webhook-timestamp": old}).status_code == 401
    for body in ([], {}, {"messages": "x"}, {"messages": [good] * 101}, {"messages": [{**good, "id": ""}]}, {"messages": [{**good, "chat": "x" * 301}]},
                 {"messages": [{**good, "from": {"id": "g", "name": "x" * 201}}]}, {"messages": [{**good, "text": "x" * 20_001}]}, {"messages": [{**good, "at": "yesterday"}]}):  # fmt: skip
        assert talk.post(body).status_code == 422, body
    assert talk.post({"messages": [{**good, "text": "x" * 1_000_000}]}).status_code == 413
    assert httpx.get(f"{talk.oak.url}/talk/careful-line/about").status_code == 404
    assert httpx.post(f"{talk.oak.url}/channels/nobodys-line", json={}).status_code == 404
    odd = {**good, "chat": "a/../b\u202e", "id": "x" * 300}
    nul = {**good, "chat": "a\u0000b"}
    assert talk.post({"messages": [nul, odd]}).json() == {"taken": 1, "left_out": 1}
    assert any(
        one.key.startswith("careful-line sha256:") for one in talk.oak.client().every(talk.oak.client().conversations)
    )


def answered(heard: list[str]) -> list[str]:
    """What was answered, message by message; several may have been taken as one."""
    return [part for one in heard for part in one.removeprefix("You said: ").split("\n")]


def test_messages_come_twice_late_and_out_of_order_and_each_is_answered_once(line: Callable[..., Line]):
    talk = line("shaken-line")
    client = talk.oak.client()
    talk.behave(twice=0.5, seconds=0.3, refuse=0.2)
    said = {chat: [f"{chat} {n}" for n in range(5)] for chat in ("ada", "bo", "cleo", "dov")}
    for n in range(5):
        for chat in said:
            talk.say(chat, said[chat][n])
    for chat, texts in said.items():
        until(lambda c=chat, t=texts: sorted(answered(talk.heard(c))) == sorted(t), 60)
    until(lambda: httpx.get(f"{talk.base}/chats.json").json()["delivering"] == 0, 60)
    for chat, texts in said.items():
        lines = [(one.role, str(one.message["content"])) for one in talk.lines(client, chat)]
        assert sorted(text for role, text in lines if role == "user") == sorted(texts)
        assert [text for role, text in lines if role == "assistant"] == talk.heard(chat)


def test_what_is_refused_is_passed_over_and_what_nobody_knows_stops_what_follows(line: Callable[..., Line]):
    talk = line("losing-line")
    client = talk.oak.client()
    talk.oak.fault(service="messenger", kind="status", status=400, path="/messages")
    talk.say("ada", "one")
    until(lambda: talk.states(client, "ada") == [("You said: one", "refused")])
    talk.say("ada", "two")
    assert talk.told("ada") == ["You said: two"]
    talk.oak.fault(service="messenger", kind="drop_after", path="/messages")
    talk.say("ada", "three")
    until(lambda: ("You said: three", "unknown") in talk.states(client, "ada"))
    talk.say("ada", "four")
    talk.say("bo", "five")
    assert talk.told("bo") == ["You said: five"]  # another conversation goes on
    until(lambda: ("You said: four", "waiting") in talk.states(client, "ada"))
    assert talk.heard("ada") == ["You said: two", "You said: three"]
    unknown = next(one for one in talk.lines(client, "ada") if one.state == "unknown")
    assert "connection broke" in unknown.why
    with pytest.raises(Conflict):
        client.settle(talk.key("ada"), unknown.seq + 5, True)
    client.settle(talk.key("ada"), unknown.seq, True)
    assert talk.told("ada", 3)[2] == "You said: four"
    assert [state for _, state in talk.states(client, "ada")] == ["refused", "sent", "sent", "sent"]
    with pytest.raises(Conflict):
        client.settle(talk.key("ada"), unknown.seq, False)


def test_what_did_not_arrive_is_sent_again_when_a_person_says_so(line: Callable[..., Line]):
    talk = line("again-line")
    client = talk.oak.client()
    talk.oak.fault(service="messenger", kind="drop", path="/messages")
    talk.say("ada", "one")
    seq = until(lambda: next((one.seq for one in talk.lines(client, "ada") if one.state == "unknown"), None))
    client.settle(talk.key("ada"), seq, False)
    assert talk.told("ada") == ["You said: one"]


def test_what_is_not_taken_now_is_sent_later_and_waits_for_its_credential(line: Callable[..., Line]):
    talk = line("patient-line")
    client = talk.oak.client()
    talk.oak.fault(service="messenger", kind="status", status=429, retry_after=0.3, times=3, path="/messages")
    talk.say("ada", "one")
    assert talk.told("ada") == ["You said: one"]
    client.put_credential("line", kind="bearer", secret="another-key-of-nobody", hosts=["127.0.0.1"])
    try:
        talk.say("ada", "two")
        waiting = until(
            lambda: next((one for one in talk.lines(client, "ada") if one.state == "waiting" and one.why), None)
        )
        assert "401" in waiting.why and "another-key" not in waiting.why
    finally:
        client.put_credential("line", kind="bearer", secret=MESSENGER_KEY, hosts=["127.0.0.1"])
    assert talk.told("ada", 2)[1] == "You said: two"


def test_who_sends_is_killed_and_each_answer_is_there_once_or_unknown(line: Callable[..., Line]):
    talk = line("killed-line")
    client = talk.oak.client()
    talk.oak.fault(service="messenger", kind="slow_after", seconds=60, path="/messages")
    talk.say("ada", "one")
    assert talk.told("ada") == ["You said: one"]  # it is there, and nobody here knows it yet
    talk.oak.kill(talk.oak.running[-1])  # the worker
    talk.oak.start_worker()
    talk.oak.sql("UPDATE outbox SET leased_until = now() RETURNING 1")
    until(lambda: talk.states(client, "ada") == [("You said: one", "unknown")])
    time.sleep(1.5)  # nothing is to happen
    assert talk.heard("ada") == ["You said: one"]
    client.settle(talk.key("ada"), 1, True)
    talk.say("ada", "two")
    assert talk.told("ada", 2) == ["You said: one", "You said: two"]


ASK = """
  - step: bunk
    ask: {at: conversation, text: "Shall a bunk be kept?", choices: [yes, no, ask the warden], within: 1d}
  - step: say
    send: "Kept: ${ bunk.choice } (${ bunk.text })"
"""


def test_a_question_is_answered_by_a_button_or_its_words_and_never_by_what_was_said_before(line: Callable[..., Line]):
    talk = line("asking-line", ASK)
    talk.say("ada", "Hello")
    assert talk.told("ada") == ["Shall a bunk be kept?"]
    assert talk.chat("ada")[-1]["answers"] == ["yes", "no", "ask the warden"]
    # A message that was written before the question was there arrives late: it begins a run of its own, that waits.
    early = {
        "id": "late-1",
        "chat": "ada.asking-line",
        "from": {"id": "g-ada"},
        "text": "no",
        "at": "2031-01-01T00:00:00Z",
    }
    assert talk.post({"messages": [{**early, "at": "2020-01-01T00:00:00+00:00"}]}).json()["taken"] == 1
    talk.say("ada", answer="ask the warden")
    assert talk.told("ada", 2)[1] == "Kept: ask the warden (ask the warden)"
    assert talk.told("ada", 3)[2] == "Shall a bunk be kept?"  # of the run that the late one began


def test_a_voice_note_and_what_nobody_can_read_reach_the_run(line: Callable[..., Line]):
    steps = """
  - step: say
    send: "${ input.parts | map(attribute='what') | join(',') } ${ input.parts[0].file.type | default('') } ${ input.parts[0].file.size | default(0) } ${ input.parts[0].fault | default('') }"
"""
    talk = line("hearing-line", steps)
    talk.say(
        "ada",
        type="voice",
        file=base64.b64encode(b"RIFF....WAVE").decode(),
        file_type="audio/wav",
        file_name="note.wav",
    )
    assert talk.told("ada") == ["voice audio/wav 12"]
    talk.say("ada", type="sticker")
    assert talk.told("ada", 2)[1].split() == [
        "sticker",
        "0",
        "a",
        "message",
        "of",
        "the",
        "kind",
        "sticker",
        "cannot",
        "be",
        "read",
    ]
    odd = {
        "id": "odd",
        "chat": "ada.hearing-line",
        "from": {"id": "g-ada"},
        "type": "voice",
        "media": {"id": "nobody's", "type": "a/b\r\nX: y", "name": "../n\u0000.wav"},
    }
    assert (
        talk.post(
            {"messages": [odd, {**odd, "id": "press", "type": "answer", "answer": "no\u0000w", "media": None}]}
        ).json()["taken"]
        == 2
    )
    assert "404" in talk.told("ada", 3)[2]


NOTES = """
  - step: which
    ask: {text: "You said: ${ input.text }. Which day?", at: conversation, within: 1d}
  - step: say
    send: "${ input.text } on ${ which.text }"
"""


MADE = """input: {wish: "${ event.data.text }", notes: "${ event.data.parts | length }"}
input:
  type: object
  required: [wish, notes]
  properties: {wish: {type: string, maxLength: 40}, notes: {type: integer}, board: {type: string, default: half board}}
steps:
  - step: say
    send: "${ input.notes } note: ${ input.wish }, ${ input.board }"
"""


def test_what_a_trigger_makes_of_a_voice_note_is_made_of_its_words(line: Callable[..., Line]):
    talk = line("making-line", "\n  - step: say\n    send: hello\n")
    client = talk.oak.client()
    client.put_credential("keen", kind="bearer", secret=talk.oak.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])
    client.put_model("keen", url=f"{talk.oak.standins}/v1", model="larch-small", credential="keen", prices={"input": 1, "output": 4})  # fmt: skip
    head = client.workflow("making-line").text.replace("path: making-line,", "path: making-line, voice: keen,")
    saved = client.save(head[: head.index("steps:")] + "    " + MADE, over=True)
    assert not saved.findings, saved.findings
    client.on("making-line")
    for count, words in enumerate(("A bunk by the window", "A bunk by the window, away from all who snore"), 1):
        talk.say("ada", type="voice", file=base64.b64encode(recording(words)).decode(), file_type="audio/wav", file_name="note.wav")  # fmt: skip
        assert talk.told("ada")[0] == "1 note: A bunk by the window, half board"
        found = until(
            lambda c=count: (
                len(runs := client.runs(workflow="making-line")) == c and all(run.over for run in runs) and runs
            )
        )
    last = found[0]
    assert (last.state, client.run(last.id).run.error.kind) == ("failed", "invalid")


def test_voice_notes_are_written_down_before_anything_is_made_of_them(line: Callable[..., Line]):
    talk = line("writing-line", NOTES)
    client = talk.oak.client()
    client.put_credential("ears", kind="bearer", secret=talk.oak.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])
    client.put_model("ears", url=f"{talk.oak.standins}/v1", model="larch-small", credential="ears", prices={"input": 1, "output": 4})  # fmt: skip
    text = client.workflow("writing-line").text.replace("path: writing-line,", "path: writing-line, voice: ears,")
    saved = client.save(text, over=True)
    assert not saved.findings
    client.on("writing-line")

    def note(words: str) -> None:
        talk.say("ada", type="voice", file=base64.b64encode(recording(words)).decode(), file_type="audio/wav", file_name="note.wav")  # fmt: skip

    note("Two bunks, please")
    assert talk.told("ada") == ["You said: Two bunks, please. Which day?"]
    note("On Friday")
    assert talk.told("ada", 2)[1] == "Two bunks, please on On Friday"
    said = [one for one in talk.lines(client, "ada") if one.role == "user"]
    assert [one.message["content"] for one in said] == ["Two bunks, please", "On Friday"]
    assert [one.parts[0]["heard"] for one in said] == ["Two bunks, please", "On Friday"]
    assert said[0].parts[0]["file"]["file"]
    httpx.post(
        f"{talk.oak.standins}/faults", json={"service": "model", "kind": "status", "status": 400}
    ).raise_for_status()
    talk.say("bo", "Hello", type="voice", file=base64.b64encode(b"hiss").decode(), file_type="audio/wav", file_name="x.wav")  # fmt: skip
    assert talk.told("bo") == ["You said: Hello. Which day?"]  # what is not written down stays a file


def test_who_is_forgotten_waits_for_nothing(line: Callable[..., Line]):
    talk = line("forgetting-line", """
  - step: which
    ask: {text: "Which day?", at: conversation, within: 1d}
  - step: noted
    set: {expired: "${ which.expired }"}
""")  # fmt: skip
    client = talk.oak.client()
    talk.say("ada", "A bunk, please")
    assert talk.told("ada") == ["Which day?"]
    until(lambda: next(one.question for one in client.every(client.conversations) if one.key == talk.key("ada")))
    [run] = client.runs(workflow="forgetting-line")
    client.forget(talk.key("ada"))
    over = until(lambda: (found := client.run(run.id)).run.over and found)
    assert (over.run.state, over.result) == ("succeeded", None)
    assert not [one for one in client.tray() if one.workflow == "forgetting-line"]
    talk.say("ada", "Are you there?")
    assert talk.told("ada", 2)[1] == "Which day?"


def test_a_person_takes_over_and_hands_back(line: Callable[..., Line]):
    steps = """
  - step: person
    hand_over: {text: "Ada asks for ${ input.text }", within: 1d}
  - step: say
    send: "The office says: ${ person.text } (${ person.by })"
"""
    talk = line("handing-line", steps)
    client = talk.oak.client()
    talk.say("ada", "a refund")
    [asked] = until(lambda: [one for one in client.tray() if one.workflow == "handing-line"])
    assert (asked.text, asked.handed_over, asked.conversation) == ("Ada asks for a refund", True, talk.key("ada"))
    about = next(one for one in client.every(client.conversations) if one.key == talk.key("ada"))
    assert (about.question, about.handed_over) == (asked.id, True)
    client.say(asked.id, "Good day, this is the office.")
    assert talk.told("ada") == ["Good day, this is the office."]
    talk.say("ada", "I was there in June.")
    said = until(lambda: len(found := client.handed_over(asked.id)) == 3 and found)
    assert [(one.message["content"], bool(one.by)) for one in said] == [("a refund", False), ("Good day, this is the office.", True), ("I was there in June.", False)]  # fmt: skip
    assert [one.state for one in client.runs(workflow="handing-line")] == ["waiting"]  # nothing new was begun
    with pytest.raises(Invalid):
        client.say(asked.id, "  ")
    client.answer(asked.id, text="refunded")
    assert talk.told("ada", 2)[1].startswith("The office says: refunded (")
    with pytest.raises(Conflict):
        client.say(asked.id, "one more thing")


TABLE = "| hut | bunks |\n|---|---|\n" + "\n".join(f"| Hut {n} | {n} |" for n in range(60))


CONTACT = """
oak: 1
workflow: reminding
input: {type: object, required: [path, chat], properties: {path: {type: string}, chat: {type: string}}}
steps:
  - step: told
    send: {text: "Your bunk is free **tonight**.", buttons: ["good"], to: {path: contact-line, chat: "${ input.chat }"}}
result: ${ told.id }
"""


def test_somebody_is_written_to_who_never_wrote(line: Callable[..., Line]):
    talk = line("contact-line")
    client = talk.oak.client()
    line("other-line")  # the service tells of what is said there from now on
    chat = "new.contact-line"
    httpx.post(f"{talk.base}/chats/{chat}", json={"text": "to somebody else"}).raise_for_status()
    assert [one for one in client.save(CONTACT).findings if one.severity == "error"] == []
    client.on("reminding")
    run = client.start("reminding", {"path": "contact-line", "chat": chat})
    assert talk.told("new", 2)[1] == "Your bunk is free tonight."
    assert talk.chat("new")[-1]["answers"] == ["good"]
    until(lambda: client.run(run.id).run.state == "succeeded")
    assert httpx.post(f"{talk.base}/webhook", json={"url": f"{talk.oak.url}/channels/contact-line"}).json()["ok"]
    talk.say("new", answer="good")  # the answer is of the same conversation
    assert talk.told("new", 3)[2] == "You said: good"
    assert [one.role for one in talk.lines(client, "new")] == ["assistant", "user", "assistant"]
    client.start("reminding", {"path": "contact-line", "chat": chat})
    talk.told("new", 4)
    nowhere = client.start("reminding", {"path": "contact-line", "chat": " "})
    assert until(lambda: (found := client.run(nowhere.id)).run.over and found).run.error.kind == "invalid"
    client.off("contact-line")
    off = client.start("reminding", {"path": "contact-line", "chat": chat})
    error = until(lambda: (found := client.run(off.id)).run.over and found).run.error
    assert error.kind == "missing" and "no channel listens at contact-line" in error.message


def test_a_picture_goes_back_to_where_it_came_from(line: Callable[..., Line]):
    talk = line(
        "picture-line",
        '  - step: say\n    send: {text: "Like this?", buttons: ["yes"], files: ["${ input.parts[0].file }"]}',
    )
    seen = base64.b64encode(picture("a hut in snow")).decode()
    talk.oak.fault(service="messenger", kind="status", status=503, path="/media")  # giving it is tried again
    talk.say("ada", type="picture", file=seen, file_type="image/png", file_name="hut.png")
    talk.told("ada", 2)
    [shown, asked] = [one for one in talk.chat("ada") if one["side"] == "hut"]
    assert (shown["type"], shown["file"]["name"], asked["answers"]) == ("picture", "hut.png", ["yes"])
    got = httpx.get(f"{talk.base}/shown/{shown['file']['id']}")
    assert (got.content, got.headers["content-type"]) == (picture("a hut in snow"), "image/png")
    assert [one.parts[0]["name"] for one in talk.lines(talk.oak.client(), "ada")] == ["hut.png", "hut.png"]


def test_a_long_text_with_a_table_arrives_whole(line: Callable[..., Line]):
    words = " ".join(f"word{n}" for n in range(900))
    text = f"# Huts\n\n{words}\n\n{TABLE}\n\n**The end** is [here](https://huts.example/end)."
    assert len(text) > 8_000
    steps = f"  - step: say\n    send:\n      text: {json.dumps(text)}\n      buttons: [yes, no, perhaps, something else that is long]"
    talk = line("long-line", steps)
    talk.say("ada", "Hello")
    heard = "\n".join(until(lambda: len(found := talk.heard("ada")) >= 2 and "4. something" in found[-1] and found))
    assert all(f"word{n}" in heard.split() for n in range(900))
    assert all(f"hut: Hut {n}; bunks: {n}" in heard for n in range(60))
    assert "The end is here (https://huts.example/end)." in heard and all(
        len(one) <= 4_000 for one in talk.heard("ada")
    )
