"""The model stand-in as a client sees it that is written from the protocol alone: nothing of this product's adapter is in it,
and whatever the protocol does not know is refused."""

import base64
import json
from collections.abc import Iterator
from typing import Any, Literal

import httpx
import pytest
from httpx_sse import connect_sse
from pydantic import BaseModel, ConfigDict

from oak_relay.standins.media import picture, recording
from tests.conftest import MODEL_KEY, Processes


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Function(Strict):
    name: str
    arguments: str


class ToolCall(Strict):
    id: str
    type: Literal["function"]
    function: Function


class Message(Strict):
    role: Literal["assistant"]
    content: str | None
    tool_calls: list[ToolCall] | None = None
    reasoning_content: str | None = None


class Choice(Strict):
    index: int
    finish_reason: Literal["stop", "length", "tool_calls", "content_filter"]
    message: Message


class Usage(Strict):
    prompt_tokens: int
    completion_tokens: int
    total_tokens: int


class Completion(Strict):
    id: str
    object: Literal["chat.completion"]
    model: str
    choices: list[Choice]
    usage: Usage


class FunctionPart(Strict):
    name: str | None = None
    arguments: str | None = None


class ToolCallPart(Strict):
    index: int
    id: str | None = None
    type: Literal["function"] | None = None
    function: FunctionPart


class Delta(Strict):
    role: Literal["assistant"] | None = None
    content: str | None = None
    reasoning_content: str | None = None
    tool_calls: list[ToolCallPart] | None = None


class ChoicePart(Strict):
    index: int
    delta: Delta
    finish_reason: str | None


class Chunk(Strict):
    id: str
    object: Literal["chat.completion.chunk"]
    model: str
    choices: list[ChoicePart]
    usage: Usage | None = None


class Stranger:
    """A client of the protocol."""

    def __init__(self, http: httpx.Client) -> None:
        self.http = http

    def complete(self, model: str, messages: list[dict[str, Any]], **more: Any) -> Completion:
        reply = self.http.post("/chat/completions", json={"model": model, "messages": messages, **more})
        return Completion.model_validate(reply.raise_for_status().json())

    def stream(self, model: str, messages: list[dict[str, Any]], **more: Any) -> list[Chunk]:
        body = {"model": model, "messages": messages, "stream": True, **more}
        with connect_sse(self.http, "POST", "/chat/completions", json=body) as source:
            events = [event.data for event in source.iter_sse()]
        assert events.pop() == "[DONE]"
        return [Chunk.model_validate_json(data) for data in events]


FORECAST: dict[str, Any] = {
    "type": "function",
    "function": {
        "name": "forecast",
        "description": "The weather forecast of a hut",
        "parameters": {"type": "object", "required": ["hut"], "properties": {"hut": {"type": "string"}}},
    },
}
HELLO = [{"role": "user", "content": "hello"}]
ASKED = [{"role": "user", "content": "What is the weather forecast for the hut?"}]


@pytest.fixture(scope="module")
def model(oak: Processes) -> Iterator[Stranger]:
    headers = {"Authorization": f"Bearer {MODEL_KEY}"}
    with httpx.Client(base_url=f"{oak.standins}/v1", headers=headers, trust_env=False, timeout=30) as http:
        yield Stranger(http)


def test_models_and_a_plain_answer(model: Stranger):
    listed = model.http.get("/models").json()
    assert listed["object"] == "list"
    assert {one["id"] for one in listed["data"]} == {"larch-small", "larch-large"}
    found = model.complete("larch-small", HELLO)
    assert found.choices[0].message.content == "Hello from the model stand-in."
    assert found.choices[0].finish_reason == "stop"
    assert found.usage.total_tokens == found.usage.prompt_tokens + found.usage.completion_tokens > 0


def test_an_answer_in_pieces_is_the_same(model: Stranger):
    chunks = model.stream("larch-small", HELLO, stream_options={"include_usage": True})
    deltas = [chunk.choices[0] for chunk in chunks if chunk.choices]
    text = "".join(one.delta.content or "" for one in deltas)
    assert text == model.complete("larch-small", HELLO).choices[0].message.content
    assert deltas[0].delta.role == "assistant"
    assert [one.finish_reason for one in deltas if one.finish_reason] == ["stop"]
    assert chunks[-1].usage is not None
    assert chunks[-1].choices == []
    assert len(chunks) > 4


@pytest.mark.parametrize("stream", [False, True])
def test_tools_are_called_and_their_results_are_understood(model: Stranger, stream: bool):
    if stream:
        kept = {"id": "", "name": "", "arguments": ""}
        parts = [p for c in model.stream("larch-large", ASKED, tools=[FORECAST]) for one in c.choices for p in one.delta.tool_calls or []]  # fmt: skip
        assert len(parts) > 1  # the arguments come in pieces
        for part in parts:
            assert part.index == 0
            kept["id"] += part.id or ""
            kept["name"] += part.function.name or ""
            kept["arguments"] += part.function.arguments or ""
        call = ToolCall(
            id=kept["id"], type="function", function=Function(name=kept["name"], arguments=kept["arguments"])
        )
    else:
        choice = model.complete("larch-large", ASKED, tools=[FORECAST]).choices[0]
        assert choice.finish_reason == "tool_calls"
        assert choice.message.tool_calls is not None
        [call] = choice.message.tool_calls
    assert call.function.name == "forecast"
    assert isinstance(json.loads(call.function.arguments)["hut"], str)
    told = [
        *ASKED,
        {"role": "assistant", "content": None, "tool_calls": [call.model_dump()]},
        {"role": "tool", "tool_call_id": call.id, "content": json.dumps({"sky": "snow above the tree line"})},
    ]
    after = model.complete("larch-large", told, tools=[FORECAST]).choices[0].message
    assert "snow above the tree line" in str(after.content)


def test_structured_output_fits_its_schema(model: Stranger):
    schema = {
        "type": "object",
        "required": ["label", "sure"],
        "properties": {"label": {"enum": ["lost", "thanks"]}, "sure": {"type": "boolean"}},
    }
    messages = [
        {"role": "system", "content": "- lost: something was left behind\n- thanks: says thank you"},
        {"role": "user", "content": "I left my scarf behind"},
    ]
    shape = {"type": "json_schema", "json_schema": {"name": "kind", "schema": schema}}
    found = model.complete("larch-small", messages, response_format=shape).choices[0].message
    assert json.loads(str(found.content)) == {"label": "lost", "sure": False}


def test_pictures_recordings_and_vectors(model: Stranger):
    address = "data:image/png;base64," + base64.b64encode(picture("- A larch lies across the path")).decode()
    parts = [
        {"type": "text", "text": "Does anything lie across the path?"},
        {"type": "image_url", "image_url": {"url": address}},
    ]
    seen = model.complete("larch-large", [{"role": "user", "content": parts}]).choices[0].message
    assert "A larch lies across the path" in str(seen.content)
    recorded = {"file": ("a.wav", recording("Two bunks, please"))}
    said = model.http.post("/audio/transcriptions", data={"model": "larch-small"}, files=recorded)
    assert said.json() == {"text": "Two bunks, please"}
    near = model.http.post("/embeddings", json={"model": "larch-small", "input": ["dogs", "trains"]}).json()
    assert [(one["object"], one["index"], len(one["embedding"])) for one in near["data"]] == [("embedding", 0, 64), ("embedding", 1, 64)]  # fmt: skip


def test_refusals_come_as_the_protocol_has_them(oak: Processes, model: Stranger):
    def refused(**headers: str) -> tuple[int, str]:
        reply = model.http.post("/chat/completions", json={"model": "larch-huge", "messages": HELLO}, headers=headers)
        return reply.status_code, reply.json()["error"]["message"]

    assert refused() == (404, "the model larch-huge does not exist")
    assert refused(Authorization="Bearer mk-nobody")[0] == 401
    oak.fault(service="model", status=429, retry_after=3, times=1)
    busy = model.http.post("/chat/completions", json={"model": "larch-small", "messages": HELLO})
    assert (busy.status_code, busy.headers["retry-after"]) == (429, "3")
