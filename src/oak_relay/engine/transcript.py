"""What was said, as every model server takes it: replies, results of tools, and what a conversation keeps of them."""

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from typing_extensions import TypedDict

from oak_relay.agents import AgentSetup, Turn
from oak_relay.document.shapes import answer_in
from oak_relay.engine.paths import turn_at, turn_of
from oak_relay.messages import Message, Offered, Wanted

NOT_DONE = "this was not done: the agent was ended before"
NOT_ALLOWED = "this was not done: no more calls are allowed"


class Sent(TypedDict):
    """What a turn was sent."""

    messages: list[Message]
    tools: list[Offered]
    gives: dict[str, object] | None


def whole(messages: Iterable[Message]) -> list[Message]:
    """The same messages with a result behind every call, and no result without its call. Strict servers refuse a
    conversation for ever that holds one without the other."""
    given = list(messages)
    found: list[Message] = []
    place = 0
    while place < len(given):
        message = given[place]
        place += 1
        if message["role"] == "tool":
            continue
        found.append(message)
        calls = message.get("tool_calls") or []
        results: dict[str, Message] = {}
        while calls and place < len(given) and given[place]["role"] == "tool":
            results.setdefault(str(given[place].get("tool_call_id")), given[place])
            place += 1
        for call in calls:
            missing = Message(role="tool", tool_call_id=call["id"], content=NOT_DONE)
            found.append(results.get(str(call["id"]), missing))
    return found


def unfit(wrong: str) -> Message:
    """What a model is told whose answer does not fit."""
    return {"role": "user", "content": f"That does not fit: {wrong}. Answer with JSON alone that fits the schema."}


def as_message(turn: Turn) -> Message:
    """A reply as it is sent back with the next turn."""
    message: Message = {"role": "assistant", "content": turn.text}
    if turn.calls:
        message["content"] = turn.text or None  # there are servers that refuse an empty text
        message["tool_calls"] = [
            {"id": call["id"], "type": "function", "function": {"name": call["name"], "arguments": call["text"]}}
            for call in turn.calls
        ]
    return message


def results(calls: Sequence[Wanted], texts: Sequence[str]) -> list[Message]:
    """What calls gave, each as a message."""
    return [
        {"role": "tool", "tool_call_id": call["id"], "content": text or "(nothing)"}
        for call, text in zip(calls, texts, strict=True)
    ]


_FAILED = ('{"error":', '{"refused":', NOT_DONE, NOT_ALLOWED)


def done(messages: Iterable[Message]) -> set[str]:
    """The tools of which a call succeeded, as messages tell."""
    names: dict[str, str] = {}
    found: set[str] = set()
    for message in messages:
        for call in message.get("tool_calls") or ():
            names[call["id"]] = call["function"]["name"]
        if message["role"] == "tool":
            text = message["content"]
            if not (isinstance(text, str) and text.startswith(_FAILED)):
                found.add(names.pop(str(message.get("tool_call_id")), ""))
    return found


def kept(message: Message) -> Message:
    """A message as a conversation keeps it: of pictures and files, that there were some."""
    parts = message["content"]
    if not isinstance(parts, list):
        return message
    texts = [part["text"] for part in parts if part.get("type") == "text"]
    others = len(parts) - len(texts)
    noted = [f"({others} {'files were' if others > 1 else 'file was'} shown)"] if others else []
    return {**message, "content": "\n\n".join([*texts, *noted])}


def sent(bodies: Mapping[str, Any], agent: str, turn: str) -> Sent | None:
    """What a turn was sent, from the bodies of what is recorded by path; None when that is no turn of the agent. What each
    turn was sent is not recorded anew: it follows from what came before."""
    opened, place = bodies.get(f"{agent}/open"), turn_at(turn)
    if opened is None or "output" not in opened or place is None or place[0] != agent:
        return None
    setup, number = AgentSetup.read(opened["output"]), place[1]
    messages = list(setup.messages)
    for before in range(number):
        said = bodies.get(turn_of(agent, before), {}).get("output")
        if said is None:
            return None
        reply = Turn.read(said)
        messages.append(as_message(reply))
        given = bodies.get(f"{turn_of(agent, before)}#end")
        if given is not None:
            messages += results(reply.calls, given["results"])
        elif setup.gives is not None and not reply.calls:
            messages.append(unfit(answer_in(reply.text, setup.gives)[1]))
    return {"messages": messages, "tools": [tool.offered for tool in setup.tools], "gives": setup.gives}
