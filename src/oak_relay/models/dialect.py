"""How a model server is asked: by all it can do, or in plain words where it cannot.

Servers of the chat-completions protocol differ in whether they take a JSON Schema for the answer, tools, and streaming. What
one can do is found out at connecting and at first use, kept with its alias (`Can`), and fallen back from: a schema becomes a
JSON object with the schema told, and that becomes a text that is parsed; tools are told in words and their calls are read
from JSON.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from oak_relay.capabilities.alias import Can
from oak_relay.document import values
from oak_relay.messages import Content, Message, Offered, ToolCall, Wanted

_ORDER = ("schema", "object", "text")
_CALLS = (
    'You can call tools. To call some, answer with JSON alone: {"calls": [{"name": "…", "arguments": {…}}]}. '
    "What they gave is told you then; when you need none, answer as you were asked."
)


@dataclass(frozen=True, slots=True)
class Dialect:
    """How one request is made: the answer's form asked for by `schema`, as `object`, or in words alone (`text`); whether tools
    are handed over or told in words; whether the answer is streamed."""

    answers: str
    tools: bool
    stream: bool

    def plain(self, schema: bool, tools: bool) -> str:
        """What of it is not as one would wish, for a trace; empty when nothing is."""
        told = ["the schema was told in words, and JSON asked for"] if schema and self.answers == "object" else []
        told += ["the schema was told in words"] if schema and self.answers == "text" else []
        told += ["tools were told in words"] if tools and not self.tools else []
        return "; ".join(told)


def dialects(can: Can, schema: bool, tools: bool, stream: bool) -> Iterator[Dialect]:
    """The ways in which something may be asked, the best first; only what is not known yet is given up."""
    best = Dialect(can.answers or "schema", can.tools is not False, stream and can.stream is not False)
    yield best
    less: list[Dialect] = []
    if best.stream and can.stream is None:
        less.append(replace(best, stream=False))
    if schema and can.answers is None:
        less += [replace(best, answers=one) for one in _ORDER[1:]]
    if tools and best.tools and can.tools is None:
        less.append(replace(best, tools=False))
    yield from less
    if len(less) > 1:
        yield Dialect(
            "text" if schema and can.answers is None else best.answers,
            best.tools and not (tools and can.tools is None),
            best.stream and can.stream is not None,
        )


def learned(can: Can, dialect: Dialect, schema: bool, tools: bool, stream: bool, calls: bool) -> Can:
    """What is known of a server after it answered something that was asked in a dialect."""
    return can.model_copy(
        update={
            "answers": can.answers or (dialect.answers if schema else None),
            "tools": can.tools
            if can.tools is not None or not tools
            else True
            if dialect.tools and calls
            else None
            if dialect.tools
            else False,
            "stream": can.stream if can.stream is not None or not stream else dialect.stream,
        }
    )


def told(
    messages: Sequence[Message], dialect: Dialect, schema: Mapping[str, object] | None, tools: Sequence[Offered]
) -> list[Message]:
    """Messages with what cannot be handed over told in words."""
    hints = []
    given = list(messages)
    if tools and not dialect.tools:
        lines = [
            f"- {tool['name']}: {tool['description']} Arguments: {values.dumps(tool['parameters'])}" for tool in tools
        ]
        hints.append("\n".join([_CALLS, *lines]))
    if not dialect.tools:
        given = [_in_words(one, _names(given)) for one in given]
    if schema is not None and dialect.answers != "schema":
        hints.append(
            f"Answer with JSON alone, without any other words, valid against this JSON Schema: {values.dumps(schema)}"
        )
    if not hints:
        return _alternating(given) if not dialect.tools else given
    hint = "\n\n".join(hints)
    if given and given[0]["role"] == "system" and isinstance(given[0]["content"], str):
        first: Message = {"role": "system", "content": f"{given[0]['content']}\n\n{hint}"}
        given = [first, *given[1:]]
    else:
        given = [{"role": "system", "content": hint}, *given]
    return _alternating(given) if not dialect.tools else given


def calls_in(text: str, tools: Sequence[Offered]) -> list[Wanted]:
    """Calls of tools that a text asks for, as it was told to; none where it does not."""
    try:
        data = values.json_in(text)
    except values.NotJson:
        return []
    names = {tool["name"] for tool in tools}
    listed = data.get("calls") if isinstance(data, dict) and "calls" in data else [data]
    found: list[Wanted] = []
    for number, one in enumerate(listed if isinstance(listed, list) else []):
        if isinstance(one, dict) and one.get("name") in names:
            arguments = one.get("arguments", {})
            said = arguments if isinstance(arguments, str) else values.dumps(arguments)
            found.append({"id": f"call_{number}", "name": str(one["name"]), "text": said})
    return found


def _names(messages: Sequence[Message]) -> dict[str, str]:
    """Names of tools by the ids of their calls."""
    return {call["id"]: call["function"]["name"] for one in messages for call in one.get("tool_calls", ())}


def _in_words(message: Message, names: Mapping[str, str]) -> Message:
    if message["role"] == "tool":
        name = names.get(message.get("tool_call_id", ""), "the tool")
        return {"role": "user", "content": f"{name} gave: {_text(message['content'])}"}
    calls: Sequence[ToolCall] = message.get("tool_calls", ())
    if calls:
        said = [{"name": c["function"]["name"], "arguments": _arguments(c["function"]["arguments"])} for c in calls]
        return {"role": "assistant", "content": values.dumps({"calls": said})}
    return message


def _alternating(messages: Sequence[Message]) -> list[Message]:
    """Messages of which no two of a person follow each other; some servers refuse that."""
    found: list[Message] = []
    for one in messages:
        before = found[-1] if found else None
        if before is not None and before["role"] == one["role"] == "user":
            joined: str | list[Content]
            if isinstance(before["content"], str) and isinstance(one["content"], str):
                joined = f"{before['content']}\n\n{one['content']}"
            else:
                joined = [*_parts(before["content"]), *_parts(one["content"])]
            found[-1] = {"role": "user", "content": joined}
        else:
            found.append(one)
    return found


def _parts(content: str | list[Content] | None) -> list[Content]:
    if isinstance(content, list):
        return content
    return [{"type": "text", "text": content or ""}]


def _text(content: Any) -> str:
    return content if isinstance(content, str) else values.dumps(content)


def _arguments(text: str) -> object:
    try:
        return values.loads(text)
    except values.NotJson:
        return text
