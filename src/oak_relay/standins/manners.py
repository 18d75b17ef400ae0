"""Manners of model servers: what some refuse, and what others do not know. Several are joined by `+`: `no-schema+no-tools`."""

import json
import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from fastapi.responses import JSONResponse

_FIELDS = frozenset(
    (
        "model",
        "messages",
        "max_tokens",
        "temperature",
        "response_format",
        "tools",
        "tool_choice",
        "stream",
        "stream_options",
    )
)
_KEYS = {
    "system": {"role", "content"},
    "user": {"role", "content"},
    "assistant": {"role", "content", "tool_calls"},
    "tool": {"role", "content", "tool_call_id"},
}
_TOLD_TOOLS = re.compile(r"^- (\w+): (.*) Arguments: (\{.*\})$", re.MULTILINE)
_TOLD_SCHEMA = re.compile(r"valid against this JSON Schema: (\{.*\})\s*$", re.MULTILINE)


@dataclass(frozen=True)
class Manner:
    """`strict` refuses unknown fields, empty contents and calls without their results; `schemas` and `objects` whether an
    answer's form may be asked for (a server without schemas stumbles over one: 500); `tools`, `streams`, `counts` what it
    knows."""

    strict: bool = False
    schemas: bool = True
    objects: bool = True
    tools: bool = True
    streams: bool = True
    counts: bool = True

    def fault(self, body: dict[str, Any]) -> JSONResponse | None:
        """Why a request is refused; None when it is taken."""
        form = (body.get("response_format") or {}).get("type")
        if form == "json_schema" and not self.schemas:
            return _answer(500, "internal error")
        if form == "json_object" and not self.objects:
            return _answer(400, "response_format is not supported")
        if body.get("tools") and not self.tools:
            return _answer(400, "this model does not support tools")
        if body.get("stream") and not self.streams and self.strict:
            return _answer(400, "stream is not supported")
        return _strictly(body) if self.strict else None

    def heard(self, body: dict[str, Any]) -> dict[str, Any]:
        """A request as the model understands it: what it was told in words stands for what is handed to others."""
        system = "\n".join(str(m["content"]) for m in body["messages"] if m["role"] == "system")
        given = dict(body)
        schema = _TOLD_SCHEMA.search(system)
        if (schema and "response_format" not in body) or (schema and body["response_format"]["type"] == "json_object"):
            given["response_format"] = {"type": "json_schema", "json_schema": {"schema": json.loads(schema[1])}}
        if not self.tools:
            told = _TOLD_TOOLS.findall(system)
            given["tools"] = [
                {"type": "function", "function": {"name": name, "description": about, "parameters": json.loads(fields)}}
                for name, about, fields in told
            ]
            given["messages"] = _as_calls(body["messages"])
        return given

    def said(self, reply: dict[str, Any]) -> dict[str, Any]:
        """A reply as this server gives it."""
        message = reply["choices"][0]["message"]
        if not self.tools and message.get("tool_calls"):
            calls = [
                {"name": c["function"]["name"], "arguments": json.loads(c["function"]["arguments"])}
                for c in message.pop("tool_calls")
            ]
            message["content"] = f"I will look that up.\n```json\n{json.dumps({'calls': calls})}\n```"
            reply["choices"][0]["finish_reason"] = "stop"
        if not self.counts:
            reply.pop("usage", None)
        return reply


@lru_cache(maxsize=64)
def manner_of(name: str) -> Manner:
    """The manners of a name; of none the usual ones."""
    said = {"strict": {"strict": True}, "no-schema": {"schemas": False}, "no-object": {"objects": False},
            "no-tools": {"tools": False}, "no-stream": {"streams": False}, "no-usage": {"counts": False}}  # fmt: skip
    merged: dict[str, bool] = {}
    for one in filter(None, name.split("+")):
        merged |= said[one]
    return Manner(**merged)


def _strictly(body: dict[str, Any]) -> JSONResponse | None:
    odd = set(body) - _FIELDS
    if odd:
        return _answer(400, f"unknown field {sorted(odd)[0]}")
    open_: set[str] = set()
    for message in body["messages"]:
        odd = set(message) - _KEYS[message["role"]]
        if odd:
            return _answer(400, f"unknown field {sorted(odd)[0]} in a message")
        if message.get("content") == "" or (message.get("content") is None and not message.get("tool_calls")):
            return _answer(400, f"the content of a message of {message['role']} is empty")
        if message["role"] == "tool":
            if message["tool_call_id"] not in open_:
                return _answer(400, "a result of a tool that nobody called")
            open_.discard(message["tool_call_id"])
        elif open_:
            return _answer(400, f"the call {sorted(open_)[0]} has no result")
        open_ |= {call["id"] for call in message.get("tool_calls") or []}
    return _answer(400, f"the call {sorted(open_)[0]} has no result") if open_ else None


def _as_calls(messages: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Messages in which calls and their results were told in words, as the model's rules know them."""
    found: list[dict[str, Any]] = []
    for one in messages:
        text = one["content"] if isinstance(one["content"], str) else ""
        if one["role"] == "assistant" and text.startswith('{"calls":'):
            calls = json.loads(text)["calls"]
            found.append({"role": "assistant", "content": None, "tool_calls": [
                {"id": f"c{n}", "type": "function", "function": {"name": c["name"], "arguments": json.dumps(c["arguments"])}}
                for n, c in enumerate(calls)
            ]})  # fmt: skip
        elif one["role"] == "user" and found and found[-1].get("tool_calls"):
            names = [call["function"]["name"] for call in found[-1]["tool_calls"]]
            parts = re.split(rf"(?:^|\n\n)(?=(?:{'|'.join(map(re.escape, names))}) gave: )", text)
            for part in filter(None, parts):
                found.append({"role": "tool", "tool_call_id": "c0", "content": part.partition(" gave: ")[2]})
        else:
            found.append(one)
    return found


def _answer(status: int, message: str) -> JSONResponse:
    return JSONResponse({"error": {"message": message}}, status)
