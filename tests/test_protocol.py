"""The model stand-in as a client library of the chat-completions protocol sees it, that knows nothing of this product."""

import base64
import io
import json
from collections.abc import Iterator
from typing import Any

import openai
import pytest

from oak_relay.standins.senses import picture, recording
from tests.conftest import MODEL_KEY, Processes

FORECAST: dict[str, Any] = {
    "type": "function",
    "function": {
        "name": "forecast",
        "description": "The weather forecast of a hut",
        "parameters": {"type": "object", "required": ["hut"], "properties": {"hut": {"type": "string"}}},
    },
}
ASKED = [{"role": "user", "content": "What is the weather forecast for the hut?"}]


@pytest.fixture(scope="module")
def model(oak: Processes) -> Iterator[openai.OpenAI]:
    with openai.OpenAI(base_url=f"{oak.standins}/v1", api_key=MODEL_KEY, max_retries=0) as made:
        yield made


def test_models_and_a_plain_answer(model: openai.OpenAI):
    assert {one.id for one in model.models.list()} == {"larch-small", "larch-large"}
    found = model.chat.completions.create(model="larch-small", messages=[{"role": "user", "content": "hello"}])
    assert found.choices[0].message.content == "Hello from the model stand-in."
    assert found.choices[0].finish_reason == "stop"
    assert found.usage.total_tokens == found.usage.prompt_tokens + found.usage.completion_tokens > 0


def test_an_answer_in_pieces_is_the_same(model: openai.OpenAI):
    given = {"model": "larch-small", "messages": [{"role": "user", "content": "hello"}]}
    pieces = list(model.chat.completions.create(stream=True, stream_options={"include_usage": True}, **given))
    text = "".join(piece.choices[0].delta.content or "" for piece in pieces if piece.choices)
    assert text == model.chat.completions.create(**given).choices[0].message.content
    assert [p.choices[0].finish_reason for p in pieces if p.choices and p.choices[0].finish_reason] == ["stop"]
    assert pieces[-1].usage.completion_tokens > 0
    assert len(pieces) > 4


@pytest.mark.parametrize("stream", [False, True])
def test_tools_are_called_and_their_results_are_understood(model: openai.OpenAI, stream: bool):
    if stream:
        calls: dict[int, dict[str, str]] = {}
        for piece in model.chat.completions.create(model="larch-large", messages=ASKED, tools=[FORECAST], stream=True):
            for part in piece.choices[0].delta.tool_calls or [] if piece.choices else []:
                kept = calls.setdefault(part.index, {"id": "", "name": "", "arguments": ""})
                kept["id"] += part.id or ""
                kept["name"] += part.function.name or ""
                kept["arguments"] += part.function.arguments or ""
        call = calls[0]
    else:
        found = model.chat.completions.create(model="larch-large", messages=ASKED, tools=[FORECAST])
        assert found.choices[0].finish_reason == "tool_calls"
        one = found.choices[0].message.tool_calls[0]
        call = {"id": one.id, "name": one.function.name, "arguments": one.function.arguments}
    assert call["name"] == "forecast"
    assert isinstance(json.loads(call["arguments"])["hut"], str)
    function = {"name": call["name"], "arguments": call["arguments"]}
    told = [
        *ASKED,
        {"role": "assistant", "tool_calls": [{"id": call["id"], "type": "function", "function": function}]},
        {"role": "tool", "tool_call_id": call["id"], "content": json.dumps({"sky": "snow above the tree line"})},
    ]
    after = model.chat.completions.create(model="larch-large", messages=told, tools=[FORECAST])
    assert "snow above the tree line" in after.choices[0].message.content


def test_structured_output_fits_its_schema(model: openai.OpenAI):
    schema = {
        "type": "object",
        "required": ["label", "sure"],
        "properties": {"label": {"enum": ["lost", "thanks"]}, "sure": {"type": "boolean"}},
    }
    found = model.chat.completions.create(
        model="larch-small",
        messages=[
            {"role": "system", "content": "- lost: something was left behind\n- thanks: says thank you"},
            {"role": "user", "content": "I left my scarf behind"},
        ],
        response_format={"type": "json_schema", "json_schema": {"name": "kind", "schema": schema}},
    )
    assert json.loads(found.choices[0].message.content) == {"label": "lost", "sure": False}


def test_pictures_recordings_and_vectors(model: openai.OpenAI):
    address = "data:image/png;base64," + base64.b64encode(picture("A tree lies across the path")).decode()
    parts = [
        {"type": "text", "text": "Does anything lie across the path?"},
        {"type": "image_url", "image_url": {"url": address}},
    ]
    seen = model.chat.completions.create(model="larch-large", messages=[{"role": "user", "content": parts}])
    assert seen.choices[0].message.content
    said = model.audio.transcriptions.create(
        model="larch-small", file=("a.wav", io.BytesIO(recording("Two bunks, please")))
    )
    assert said.text == "Two bunks, please"
    near = model.embeddings.create(model="larch-small", input=["dogs", "trains"], encoding_format="float")
    assert [len(one.embedding) for one in near.data] == [64, 64]


def test_refusals_come_as_the_protocol_has_them(oak: Processes, model: openai.OpenAI):
    ask = {"messages": [{"role": "user", "content": "hello"}]}
    with pytest.raises(openai.NotFoundError, match="does not exist"):
        model.chat.completions.create(model="larch-huge", **ask)
    stranger = openai.OpenAI(base_url=f"{oak.standins}/v1", api_key="mk-nobody", max_retries=0)
    with pytest.raises(openai.AuthenticationError, match="belongs to nobody"):
        stranger.chat.completions.create(model="larch-small", **ask)
    oak.fault(service="model", status=429, times=1)
    with pytest.raises(openai.RateLimitError):
        model.chat.completions.create(model="larch-small", messages=[{"role": "user", "content": "is it busy"}])
