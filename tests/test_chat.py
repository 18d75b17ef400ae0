"""The chat-completions adapter against recorded replies in the dialects servers are known for; streaming; fallbacks."""

import asyncio
import base64
import json
from types import SimpleNamespace
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.capabilities.alias import Alias, Can
from oak_relay.document.errors import StepFailed
from oak_relay.models.chat import Ask, Gathered, complete
from oak_relay.models.files import File, content, letters, shown
from oak_relay.models.steps import ACTIONS, AnswerInput, JudgeInput, LabelInput, judge_messages, label_messages
from oak_relay.standins.media import picture, pictured
from oak_relay.standins.model import Rules, pieces, reply

ALIAS = Alias(url="https://models.example/v1", model="larch", prices={"input": 1, "cached": 0.1, "output": 2})
HELLO = Ask([{"role": "user", "content": "hello"}])


def at(answer: Any, aliases: dict[str, Alias] | None = None, **more: Any) -> Any:
    """Surroundings whose network is a function of the request."""

    def answered(request: httpx.Request) -> httpx.Response:
        given = answer(request) if callable(answer) else answer
        return given if isinstance(given, httpx.Response) else httpx.Response(200, json=given)

    async def model(name: str) -> Alias:
        return (aliases or {})[name]

    fixed = {"draw": None, "timeout": 5, "key": "k", "trace_parent": "t", "piece": None, "may_reach": lambda url: None}
    learnt: list[Can] = []

    async def learn(alias: Alias, can: Can) -> None:
        learnt.append(can)

    fixed |= {"can": lambda alias: learnt[-1] if learnt else alias.can, "learn": learn, "learnt": learnt}
    fixed |= dict.fromkeys(("shown", "said"), lambda text, most: text[:most])
    return SimpleNamespace(
        http=httpx.AsyncClient(transport=httpx.MockTransport(answered)), model=model, **{**fixed, **more}
    )


def replied(message: dict[str, Any], finish: str | None = "stop", **more: Any) -> dict[str, Any]:
    return {"choices": [{"message": {"role": "assistant", **message}, "finish_reason": finish}], **more}


CALL = {"id": "c1", "type": "function", "function": {"name": "look_up", "arguments": '{"q":"x"}'}}
DIALECTS = {
    "plain": (replied({"content": "hi"}, usage={"prompt_tokens": 7, "completion_tokens": 2}), "hi", "", []),
    "missing usage": (replied({"content": "hi"}), "hi", "", []),
    "usage null": (replied({"content": "hi"}, usage=None), "hi", "", []),
    "no finish": (replied({"content": "hi"}, None), "hi", "", []),
    "content as parts": (replied({"content": [{"type": "text", "text": "h"}, {"type": "text", "text": "i"}]}), "hi", "", []),
    "reasoning in a field": (replied({"content": "hi", "reasoning_content": "why"}), "hi", "why", []),
    "reasoning in another": (replied({"content": "hi", "reasoning": "why"}), "hi", "why", []),
    "reasoning in tags": (replied({"content": "<think>\nwhy\n</think>\n\nhi"}), "hi", "why", []),
    "call, content null": (replied({"content": None, "tool_calls": [CALL]}, "tool_calls"), "", "", ['{"q":"x"}']),
    "call, arguments as object": (
        replied({"content": "", "tool_calls": [{"id": "c1", "function": {"name": "look_up", "arguments": {"q": "x"}}}]}), "", "", ['{"q":"x"}'],
    ),
    "call without id": (replied({"content": None, "tool_calls": [{"function": {"name": "look_up", "arguments": '{"q":"x"}'}}]}), "", "", ['{"q":"x"}']),
    "call without arguments": (replied({"content": None, "tool_calls": [{"id": "c", "function": {"name": "look_up"}}]}), "", "", ["{}"]),
    "call in the older field": (replied({"content": None, "function_call": {"name": "look_up", "arguments": '{"q":"x"}'}}), "", "", ['{"q":"x"}']),
}  # fmt: skip


@pytest.mark.parametrize("name", DIALECTS)
async def test_dialects_are_understood(name: str):
    given, text, reasoning, arguments = DIALECTS[name]
    found = await complete("a", ALIAS, HELLO, at(given))
    assert (found.text, found.reasoning) == (text, reasoning)
    assert [call["text"] for call in found.calls] == arguments
    assert all(call["name"] == "look_up" and call["id"] for call in found.calls)
    assert found.usage.input > 0
    assert found.usage.money > 0
    assert found.usage.estimated == (name != "plain")


async def test_cached_tokens_cost_less():
    usage = {"prompt_tokens": 100, "completion_tokens": 10, "prompt_tokens_details": {"cached_tokens": 60}}
    found = await complete("a", ALIAS, HELLO, at(replied({"content": "hi"}, usage=usage)))
    assert found.usage.money == pytest.approx((40 * 1 + 60 * 0.1 + 10 * 2) / 1e6)


ERRORS = {
    "refused": (200, replied({"content": None, "refusal": "I will not"}), "refused"),
    "filtered": (200, replied({"content": "x"}, "content_filter"), "refused"),
    "cut off": (200, replied({"content": "half a"}, "length"), "cut_off"),
    "empty": (200, replied({"content": ""}), "wrong_shape"),
    "no choices": (200, {"choices": []}, "wrong_shape"),
    "not JSON": (200, httpx.Response(200, text="<html>"), "wrong_shape"),
    "unknown model": (404, {"error": {"message": "the model larch does not exist"}}, "missing"),
    "context overflow": (400, {"error": {"message": "maximum context length is 8192 tokens"}}, "too_long"),
    "credit used up": (429, {"error": {"message": "you exceeded your current quota"}}, "out_of_credit"),
    "payment required": (402, {"error": {"message": "insufficient balance"}}, "out_of_credit"),
    "too many": (429, {"error": {"message": "slow down"}}, "busy"),
    "wrong key": (401, {"error": {"message": "bad key"}}, "denied"),
    "down": (503, {"error": {"message": "overloaded"}}, "unavailable"),
}


@pytest.mark.parametrize("name", ERRORS)
async def test_each_failure_has_its_kind_and_says_what_to_do(name: str):
    status, body, kind = ERRORS[name]
    answer = body if isinstance(body, httpx.Response) else httpx.Response(status, json=body)
    with pytest.raises(StepFailed) as failed:
        await complete("a", ALIAS, HELLO, at(answer))
    assert failed.value.kind == kind
    assert failed.value.fix


async def test_fallbacks_are_asked_in_order_and_shown():
    aliases = {name: Alias(url=f"https://{name}.example/v1", model=name) for name in ("second", "third")}
    first = ALIAS.model_copy(update={"fallbacks": ("second", "third")})
    asked = []

    def answer(request: httpx.Request) -> httpx.Response:
        asked.append(request.url.host)
        if request.url.host == "third.example":
            return httpx.Response(200, json=replied({"content": "hi"}))
        return httpx.Response(503 if request.url.host == "models.example" else 429, json={})

    found = await complete("first", first, HELLO, at(answer, aliases))
    assert asked == ["models.example", "second.example", "third.example"]
    assert found.text == "hi"
    assert [one["alias"] for one in found.detail["tried"]] == ["first", "second"]
    with pytest.raises(StepFailed) as failed:  # what is wrong with the request itself is not asked of others
        await complete("first", first, HELLO, at(httpx.Response(400, json={}), aliases))
    assert failed.value.kind == "invalid"


async def test_extra_fields_are_sent_and_sources_found():
    alias = ALIAS.model_copy(
        update={"extra": {"search": True}, "sources": ("$.citations", "$.choices[0].message.notes[*]")}
    )
    bodies = []

    def answer(request: httpx.Request) -> httpx.Response:
        bodies.append(json.loads(request.content))
        notes = [{"url": "https://b.example", "title": "B"}]
        return httpx.Response(200, json=replied({"content": "hi", "notes": notes}, citations=["https://a.example"]))

    found = await complete("a", alias, HELLO, at(answer))
    assert bodies[0]["search"] is True
    assert found.sources == [{"url": "https://a.example"}, {"url": "https://b.example", "title": "B"}]


def stream(*lines: Any) -> httpx.Response:
    text = "".join(f"data: {line if isinstance(line, str) else json.dumps(line)}\n\n" for line in lines)
    return httpx.Response(200, text=text, headers={"content-type": "text/event-stream"})


def delta(finish: str | None = None, **given: Any) -> dict[str, Any]:
    return {"id": "x", "choices": [{"index": 0, "delta": given, "finish_reason": finish}]}


async def test_a_streamed_answer_is_the_same_and_its_pieces_are_told():
    """Pieces of arguments, with and without their place; usage at the end; time to the first token."""
    answer = stream(
        delta(role="assistant", content=""), delta(reasoning_content="why"), delta(content="h"), delta(content="i"),
        delta(tool_calls=[{"index": 0, "id": "c1", "function": {"name": "look_up", "arguments": '{"q":'}}]),
        delta(tool_calls=[{"index": 1, "id": "c2", "function": {"name": "forecast", "arguments": ""}}]),
        delta(tool_calls=[{"index": 0, "function": {"arguments": '"x"}'}}]),
        delta("tool_calls"), {"choices": [], "usage": {"prompt_tokens": 3, "completion_tokens": 4}}, "[DONE]",
    )  # fmt: skip
    told: list[str] = []
    found = await complete("a", ALIAS, HELLO, at(answer, piece=told.append))
    assert (found.text, found.reasoning, told) == ("hi", "why", ["h", "i"])
    assert [(c["name"], c["text"]) for c in found.calls] == [("look_up", '{"q":"x"}'), ("forecast", "{}")]
    assert found.usage.output == 4
    assert found.detail["first_token"] >= 0


async def test_a_server_that_does_not_stream_and_a_stream_that_breaks_off():
    told: list[str] = []
    assert (await complete("a", ALIAS, HELLO, at(replied({"content": "hi"}), piece=told.append))).text == "hi"
    with pytest.raises(StepFailed) as failed:
        await complete("a", ALIAS, HELLO, at(stream(delta(content="h")), piece=told.append))
    assert (failed.value.kind, failed.value.reached) == ("unavailable", "maybe")


@given(st.text(max_size=80), st.dictionaries(st.text(min_size=1, max_size=8), st.text(max_size=20), max_size=3))
def test_what_the_stand_in_streams_is_what_it_says(text: str, arguments: dict[str, str]):
    call = {"id": "c", "type": "function", "function": {"name": "t", "arguments": json.dumps(arguments)}}
    message = {"role": "assistant", "content": text, "tool_calls": [call]}
    whole = {
        "id": "x",
        "model": "m",
        "choices": [{"index": 0, "finish_reason": "stop", "message": message}],
        "usage": {"prompt_tokens": 1},
    }
    gathered = Gathered()
    for piece in pieces(whole):
        gathered.take(f"data: {json.dumps(piece)}")
    found = gathered.whole()["choices"][0]["message"]
    assert "".join(found["content"].split()) == "".join(text.split())
    assert found["tool_calls"][0]["function"]["arguments"] == json.dumps(arguments)
    assert gathered.usage == {"prompt_tokens": 1}


def test_the_stand_in_plays_by_its_rules(tmp_path):
    (tmp_path / "r.yaml").write_text(
        "- {when: {message: [path], tool: look_up, turn: 0}, reasoning: think, call: [{look_up: {q: '<message>'}}, {look_up: {q: two}}]}\n"
        "- {when: {message: [cut]}, say: half, finish: length}\n"
    )
    rules = Rules(str(tmp_path))
    tools = [{"type": "function", "function": {"name": "look_up", "parameters": {}}}]
    asked = {"model": "m", "messages": [{"role": "user", "content": "the path"}], "tools": tools}
    message = reply(asked, rules)["choices"][0]["message"]
    assert message["reasoning_content"] == "think"
    assert [json.loads(c["function"]["arguments"])["q"] for c in message["tool_calls"]] == ["the path", "two"]
    cut = reply({"model": "m", "messages": [{"role": "user", "content": "cut"}]}, rules)["choices"][0]
    assert (cut["finish_reason"], cut["message"]["content"]) == ("length", "half")


def test_prompts_of_label_and_judge_say_what_is_wanted():
    label = label_messages(LabelInput(model="m", text="t", labels={"a": "first", "b": "second"}))
    assert "- a: first" in label[0]["content"]
    judged = judge_messages(JudgeInput(model="m", question="Is it kind?", answer="yes", context="before"))
    assert judged[0]["content"].startswith("You judge an answer. Is it kind?")
    assert judged[1]["content"] == "before\n\nThe answer: yes"


SEEING = Alias(url="https://models.example/v1", model="larch", takes=("images", "files"))


def encoded(body: bytes) -> str:
    return base64.b64encode(body).decode()


async def test_pictures_and_files_become_parts_of_the_message():
    path, plan = picture("a fallen tree"), b"%PDF-1.7 the plan"
    given = [
        File(data=encoded(path), name="path.png"),
        File(data=encoded(plan), type="application/pdf"),
        File(data=encoded(b"hut,bunks\nGlasswater,24\n"), name="huts.csv"),
        File(url="https://files.example/photos/bridge"),
    ]

    def answer(request: httpx.Request) -> httpx.Response:
        return httpx.Response(200, content=b"jpeg", headers={"content-type": "image/jpeg; charset=binary"})

    prompt, *parts = await content("What is this?", given, "careful", SEEING, at(answer))
    assert prompt == {"type": "text", "text": "What is this?"}
    assert parts == [
        {"type": "image_url", "image_url": {"url": f"data:image/png;base64,{encoded(path)}"}},
        {"type": "file", "file": {"filename": "file", "file_data": f"data:application/pdf;base64,{encoded(plan)}"}},
        {"type": "text", "text": "huts.csv:\nhut,bunks\nGlasswater,24\n"},
        {"type": "image_url", "image_url": {"url": f"data:image/jpeg;base64,{encoded(b'jpeg')}"}},
    ]
    assert await content("alone", [], "careful", SEEING, at({})) == "alone"
    told = shown([{"role": "user", "content": [prompt, *parts]}])[0]["content"]
    assert told[1]["image_url"]["url"] == f"data:image/png;base64,… ({len(path):,} bytes)"
    assert told[2]["file"]["file_data"] == f"data:application/pdf;base64,… ({len(plan)} bytes)"
    assert (told[0], told[3]) == (prompt, parts[2])
    # A picture is weighed as a picture, not by the letters of its encoding.
    big = {"type": "image_url", "image_url": {"url": "data:image/png;base64," + "A" * 1_000_000}}
    assert letters([prompt, big]) < 10_000


@pytest.mark.parametrize(
    ("file", "takes", "kind", "said"),
    [
        (File(data="iVBORw0KGgo=", name="path.png"), ("files",), "invalid", "takes no images"),
        (File(data="AAAA", name="plan.pdf"), ("images",), "invalid", "takes no files"),
        (File(data="AAAA"), ("images",), "invalid", "application/octet-stream"),
        (File(data="no base64!", name="a.txt"), (), "invalid", "not base64"),
        (File(url="https://files.example/gone.png"), ("images",), "missing", "answered 404"),
    ],
)
async def test_files_that_cannot_be_shown_say_why(file: File, takes: Any, kind: str, said: str):
    with pytest.raises(StepFailed, match=said) as failed:
        blind = SEEING.model_copy(update={"takes": takes})
        await content("?", [file], "careful", blind, at(lambda request: httpx.Response(404)))
    assert failed.value.kind == kind
    assert failed.value.fix


def test_a_file_has_one_source():
    for wrong in ({}, {"url": "https://files.example/a", "data": "AAAA"}):
        with pytest.raises(ValueError, match="one of url, file and data"):
            File.model_validate(wrong)


async def test_the_trace_of_an_answer_shows_the_messages_once_and_no_picture():
    def answer(request: httpx.Request) -> dict[str, Any]:
        asked = json.loads(request.content)["messages"][-1]["content"]
        body = base64.b64decode(asked[1]["image_url"]["url"].partition(",")[2])
        return replied({"content": f"I see {pictured(body)}"})

    perform = next(action for action in ACTIONS if action.name == "model.answer").perform
    given = AnswerInput(model="careful", prompt="?", files=[File(data=encoded(picture("snow")), name="a.png")])
    found = await perform(given, at(answer, {"careful": SEEING}))
    assert found.output["text"] == "I see snow"
    turn = found.detail["turns"][0]
    assert encoded(picture("snow")) not in json.dumps(turn)
    assert json.loads(turn["exchange"]["request"]["body"]) == {"model": "larch", "max_tokens": 1024}


# Servers may send anything

ODD = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(max_size=10),
    lambda inner: st.lists(inner, max_size=4)
    | st.dictionaries(
        st.sampled_from(["choices", "message", "delta", "content", "tool_calls", "function", "name", "arguments", "usage", "prompt_tokens", "completion_tokens", "prompt_tokens_details", "cached_tokens", "finish_reason", "refusal", "index", "id", "reasoning_content", "function_call", "error"]),
        inner, max_size=5,
    ),
    max_leaves=25,
)  # fmt: skip


@given(st.lists(ODD, max_size=5))
def test_pieces_of_any_shape_make_an_answer_or_none(given_pieces):
    gathered = Gathered()
    for piece in given_pieces:
        assert isinstance(gathered.take(f"data: {json.dumps({'choices': [{'delta': piece}]})}"), str)
        assert isinstance(gathered.take(f"data: {json.dumps(piece)}"), str)
    assert json.dumps(gathered.whole())


@given(ODD)
def test_a_reply_of_any_shape_is_an_answer_or_told_to_be_none(odd):
    for answer in (odd, {"choices": [odd]}, {"choices": [{"message": odd}], "usage": odd}):
        try:
            found = asyncio.run(complete("quick", ALIAS, HELLO, at(answer)))
        except StepFailed as failed:
            assert failed.kind in ("wrong_shape", "refused", "cut_off")
        else:
            assert found.text or found.calls
            assert 0 <= found.usage.input <= 10**9
