"""Agents: what a step or a document says of one, how it is opened, and one turn of its model.

How turns and calls follow each other stands in `engine.agent`; here is what of it needs the world.
"""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from pydantic import BaseModel, Field, SkipValidation

from oak_relay.actions.base import Action, Fields, Given, Repeat
from oak_relay.agents import AgentLimits, AgentSetup, Summary, Turn, one_name_each
from oak_relay.capabilities.alias import Alias, read_alias
from oak_relay.capabilities.given import Result, Window
from oak_relay.capabilities.protocols import Actions, Asking, Servers, Surroundings
from oak_relay.document import durations, zones
from oak_relay.document.errors import StepFailed
from oak_relay.document.shapes import listed
from oak_relay.document.values import in_brief
from oak_relay.messages import Content, Message, Offered
from oak_relay.models.chat import Ask, Reply, complete, foreseen, size_of
from oak_relay.models.files import File, content, filled, shown
from oak_relay.models.tools import KEEP_FACT, KINDS, Tool, opened
from oak_relay.usage import NOTHING


class Memory(Fields):
    conversation: str = Field(min_length=1, max_length=400, description="The conversation's key.")
    turns: int = Field(10, ge=0, le=200, description="How many earlier messages of the person are given along.")
    summary: bool = Field(False, description="Whether what is older is kept in a running summary.")
    facts: bool = Field(False, description="Whether the agent may keep facts about the person, and is told them.")


class Limits(Fields):
    turns: int = Field(8, ge=1, le=200)
    calls: int = Field(24, ge=0, le=1000)
    tokens: int | None = Field(None, ge=1)
    money: float | None = Field(None, gt=0)
    time: str | None = Field(None, description="Time at work, waiting for people not counted.")


class AgentInput(Fields):
    model: str = Field(description="Name of a model alias.")
    brief: str = Field("", description="Who the agent is and what it must keep to.")
    prompt: str = Field(description="What it is asked.")
    files: list[File] = Field(default_factory=list, max_length=20, description="Pictures and files to look at.")
    tools: list[Tool] = Field(default_factory=list, max_length=64)
    memory: Memory | None = Field(None, description="Which conversation it belongs to.")
    gives: dict[str, object] | None = Field(None, description="JSON Schema that the answer must be valid against.")
    limits: Limits = Field(default_factory=Limits)
    ended: Literal["fail", "keep"] = Field(
        "fail",
        description="What happens when a limit, or want of progress, ends it without an answer: the step fails, or it keeps "
        "what there is, with why.",
    )
    approve: bool | str | list[str] = Field(
        default_factory=list,
        description="Names of tools, actions, tools of a server, tables or their operations (`table.delete`) whose calls a "
        "person approves; or true, or an expression over `tool` and `arguments` that gives names, true or false.",
    )
    unkept: Literal["mark", "stop"] = Field(
        "mark",
        description="What happens to an answer that says that something was done (`claims` of a tool) while no call of it "
        "succeeded: it is marked, or the step fails.",
    )
    today: bool = Field(True, description="Whether it is told date, time and zone.")
    zone: str = Field("UTC", description="The zone of the time it is told.")


class AgentResult(BaseModel):
    """`ended`: done, or the limit that ended it (turns, calls, tokens, money, time), or no progress; `why` says so."""

    text: str = Field(json_schema_extra={"x-free-text": True})
    data: object = None
    sources: list[dict[str, object]]
    turns: int
    calls: int
    tokens: int
    money: float | None
    ended: str
    why: str = ""
    unkept: list[dict[str, str]] = Field(
        [], description="What the answer claims and no call did: each a sentence and its tool."
    )


class TurnInput(Fields):
    model: str
    settled: dict[str, object]
    messages: Annotated[list[Message], SkipValidation]
    tools: Annotated[list[Offered], SkipValidation] = Field(default_factory=list)
    gives: dict[str, object] | None = None


class ServerInput(Fields):
    server: str
    tool: str
    arguments: dict[str, object] = Field(default_factory=dict)
    repeat: Literal["safe", "unsafe"] = "unsafe"


_SUMMARY = "You keep the summary of a conversation. Fold what was said into it, in at most ten sentences; leave out nothing that may matter later."


async def _summed(given: AgentInput, alias: Alias, window: Window, at: Asking) -> Reply:
    """The summary of a conversation with what is older than its window folded in."""
    said = "\n".join(f"{m['role']}: {m.get('content') or '(uses a tool)'}" for m in window.older)
    before = f"The summary so far: {window.summary}\n\n" if window.summary else ""
    messages: list[Message] = [
        {"role": "system", "content": _SUMMARY},
        {"role": "user", "content": f"{before}What was said since:\n{said}"},
    ]
    return await complete(given.model, alias, Ask(messages), at)


def messages_of(
    given: AgentInput,
    now: datetime,
    before: Sequence[Message],
    summary: str = "",
    facts: Mapping[str, str] | None = None,
    asked: str | list[Content] | None = None,
) -> tuple[list[Message], int]:
    """The messages an agent begins with, and how many of them were there before this one."""
    system_text = [given.brief] if given.brief else []
    if given.today:
        here = now.astimezone(_zone(given.zone))
        system_text.append(f"It is {here:%A, %d %B %Y, %H:%M} ({given.zone}).")
    if facts:
        system_text.append(
            "What is known of this person:\n" + "\n".join(f"- {name}: {value}" for name, value in facts.items())
        )
    if summary:
        system_text.append(f"Earlier in this conversation: {summary}")
    system: list[Message] = [{"role": "system", "content": "\n\n".join(system_text)}] if system_text else []
    first = [*system, *before]
    return [*first, {"role": "user", "content": given.prompt if asked is None else asked}], len(first)


def _zone(name: str) -> ZoneInfo:
    try:
        return zones.zone(name)
    except ValueError as error:
        raise StepFailed("invalid", str(error), fix="write one such as Europe/Zurich") from None


async def _open(given: AgentInput, at: Surroundings) -> Result:
    alias = await at.model(given.model)
    memory, usage = given.memory, NOTHING
    summary: Summary | None = None
    window = Window()
    if memory:
        window = await at.conversation(memory.conversation, memory.turns, memory.summary, memory.facts)
    if window.older:
        reply = await _summed(given, alias, window, at)
        summary, usage = Summary(reply.text, window.first), reply.usage
    short = summary.text if summary else window.summary
    asked = await content(given.prompt, given.files, given.model, alias, at, apart=True)
    messages, new = messages_of(given, at.now(), window.messages, short, window.facts, asked)
    tools = [tool for index, one in enumerate(given.tools) for tool in await opened(one, index, at)]
    if memory and memory.facts:
        tools.append(KEEP_FACT)
    one_name_each(tools)
    limits = given.limits
    setup = AgentSetup(
        messages,
        new,
        tuple(tools),
        {"name": given.model, **alias.model_dump(mode="json")},
        AgentLimits(
            limits.turns,
            limits.calls,
            limits.tokens,
            limits.money,
            durations.seconds(limits.time) if limits.time else None,
        ),
        given.gives,
        memory.conversation if memory else None,
        summary,
        given.ended == "keep",
        given.unkept == "stop",
    )
    return Result(setup.as_data(), usage=usage)


async def _turn(given: TurnInput, at: Asking) -> Result:
    alias = read_alias(given.settled)
    ask = Ask(await filled(given.messages, at), given.gives, tools=given.tools)
    try:
        reply = await complete(given.model, alias, ask, at)
    except StepFailed as failed:
        failed.detail = {k: v for k, v in failed.detail.items() if k != "messages"}
        raise
    output = Turn(reply.text, reply.calls, reply.reasoning, reply.sources).as_data()
    return Result(output, {"turn": {k: v for k, v in reply.detail.items() if k != "messages"}}, reply.usage)


async def _turn_worst(given: TurnInput, at: Asking) -> float | None:
    alias = read_alias(given.settled)
    if alias.prices is None:
        return None
    return alias.worst(size_of(given.messages, given.tools, given.gives), alias.max_tokens)


async def _server_call(given: ServerInput, at: Servers) -> Result:
    return Result(*await at.server_call(given.server, given.tool, given.arguments))


async def _preview(given: AgentInput, at: Actions) -> Given:
    """What the model of an agent is told and offered at the beginning."""
    asked = given.model_dump(mode="json", by_alias=True, exclude_unset=True)
    setup = AgentSetup.read(await at.perform("agent.open", asked))
    offered = [tool.offered for tool in setup.tools]
    alias = read_alias(setup.model)
    cost = foreseen(str(setup.model["name"]), alias, setup.messages, None, offered)
    return {"messages": shown(setup.messages), "tools": offered, "cost": cost}


def _sentence(step: str, given: Given) -> str:
    named = [
        str(tool.get("name") or next((tool[kind] for kind in KINDS if kind in tool), "tool"))
        for tool in listed(given.get("tools"))
        if isinstance(tool, dict)
    ]
    return f"Let an agent work out {step}" + (f" with {', '.join(named)}" if named else "")


def _server_repeat(given: Given) -> Repeat:
    return "safe" if given.get("repeat") == "safe" else "unsafe"


ACTIONS = [
    Action(
        "agent",
        "Let a model work with tools",
        AgentInput,
        AgentResult,
        timeout=600,
        streams=True,
        preview=_preview,
        sentence=_sentence,
        example_gives={
            "text": "…",
            "data": None,
            "sources": [],
            "turns": 1,
            "calls": 0,
            "tokens": "…",
            "money": "…",
            "ended": "done",
            "unkept": [],
        },
        example={
            "model": "careful",
            "brief": "You answer guests of the huts.",
            "prompt": "${ input.message }",
            "tools": [{"table": "huts"}],
            "limits": {"turns": 8, "money": 0.2},
        },
        first=("model", "brief", "prompt", "tools"),
    ),
    Action("agent.open", "", AgentInput, None, reach="read", timeout=60, perform=_open, hidden=True),
    Action("agent.turn", "", TurnInput, None, timeout=180, perform=_turn, worst=_turn_worst, streams=True, hidden=True),
    Action(
        "server.call",
        "Call a tool of a tool server",
        ServerInput,
        None,
        repeat="unsafe",
        perform=_server_call,
        repeat_of=_server_repeat,
        sentence=lambda step, given: f"Call {in_brief(given.get('tool'))} of {in_brief(given.get('server'))}",
        example_gives={"hut": "Glasswater", "days": [{"day": "…", "sky": "…", "degrees": "…", "wind": "…"}]},
        example={"server": "weather-station", "tool": "forecast", "arguments": {"hut": "${ input.hut }"}},
        first=("server", "tool", "arguments"),
    ),
]
