"""Agents: what a step or a document says of one, how it is opened, and one turn of its model.

How turns and calls follow each other stands in `engine.agent`; here is what of it needs the world.
"""

import re
from collections.abc import Mapping
from datetime import datetime
from typing import Any, Literal
from zoneinfo import ZoneInfo

from pydantic import BaseModel, Field, model_validator

from oak_relay.actions.base import Action, Fields, Given, Repeat
from oak_relay.capabilities.alias import Alias
from oak_relay.capabilities.given import Result, Window
from oak_relay.capabilities.protocols import Actions, Asking, Servers, Surroundings, Tables
from oak_relay.document import durations, values
from oak_relay.document.errors import StepFailed
from oak_relay.document.values import in_brief
from oak_relay.models.chat import Ask, Reply, complete, size_of
from oak_relay.models.files import File, content, shown

_NAME = re.compile(r"[^a-zA-Z0-9_]+")
_KINDS = ("do", "run", "agent", "server", "table", "ask")
_MAY = {"find": "table.find", "add": "table.add", "upsert": "table.upsert", "delete": "table.delete"}


class Instead(Fields):
    do: str
    with_: dict[str, Any] = Field(default_factory=dict, alias="with")


class Tool(Fields):
    """One of `do` (an action), `run` (a workflow), `agent` (an agent document), `server` (a tool server), `table`
    (rows kept here) or `ask` (a person)."""

    do: str | None = Field(None, description="An action of the catalogue.")
    run: str | None = Field(None, description="Another workflow.")
    agent: str | None = Field(None, description="An agent document of the workspace.")
    server: str | None = Field(None, description="A tool server (Model Context Protocol).")
    table: str | None = Field(None, description="A table kept here.")
    ask: str | None = Field(None, description="Whom to ask: a person, at the tray.")
    name: str | None = Field(None, description="What the model sees.", pattern=r"^[a-zA-Z_][a-zA-Z0-9_]{0,63}$")
    use_when: str = Field("", description="When the model should use it.")
    with_: dict[str, Any] | None = Field(
        None,
        alias="with",
        description="Its input; {open: what belongs there} leaves a field to the model. Of a tool server: fixed arguments.",
    )
    or_: list[Instead] = Field(default_factory=list, alias="or", description="What to use when it fails.")
    approve: bool | str = Field(
        False, description="Whether a person approves each call, or an expression over `arguments` that says so."
    )
    only: list[str] | None = Field(None, description="Of a tool server: only these of its tools.")
    columns: list[str] | None = Field(None, description="Of a table: only these columns.")
    may: list[Literal["find", "add", "upsert", "delete"]] = Field(["find"], description="Of a table: what may be done.")
    match: list[str] | None = Field(
        None, description="Of a table with upsert: the columns that tell which row is meant."
    )
    choices: list[str] | None = Field(None, description="Of a question: what may be answered.")

    @model_validator(mode="after")
    def _one_kind(self) -> "Tool":
        kinds = [kind for kind in _KINDS if getattr(self, kind) is not None]
        if len(kinds) != 1:
            raise ValueError(f"a tool has exactly one of {', '.join(_KINDS)}")
        return self

    @property
    def kind(self) -> str:
        return next(kind for kind in _KINDS if getattr(self, kind) is not None)


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
    gives: dict[str, Any] | None = Field(None, description="JSON Schema that the answer must be valid against.")
    limits: Limits = Field(default_factory=Limits)
    approve: bool | str | list[str] = Field(
        default_factory=list,
        description="Names of tools, actions, tools of a server, tables or their operations (`table.delete`) whose calls a "
        "person approves; or true, or an expression over `tool` and `arguments` that gives names, true or false.",
    )
    today: bool = Field(True, description="Whether it is told date, time and zone.")
    zone: str = Field("UTC", description="The zone of the time it is told.")


class AgentResult(BaseModel):
    """`ended`: done, or the limit that ended it (turns, calls, tokens, money, time), or no progress; `why` says so."""

    text: str = Field(json_schema_extra={"x-free-text": True})
    data: Any = None
    sources: list[dict[str, Any]]
    turns: int
    calls: int
    tokens: int
    money: float | None
    ended: str
    why: str = ""


class TurnInput(Fields):
    model: str
    settled: dict[str, Any]
    messages: list[dict[str, Any]]
    tools: list[dict[str, Any]] = Field(default_factory=list)
    gives: dict[str, Any] | None = None


class ServerInput(Fields):
    server: str
    tool: str
    arguments: dict[str, Any] = Field(default_factory=dict)
    repeat: Literal["safe", "unsafe"] = "unsafe"


_FACT: dict[str, Any] = {
    "name": "keep_fact", "title": "Keep a fact", "kind": "fact", "index": 0, "or": [], "agent": False, "with": {},
    "description": "Keep something worth knowing about this person for later: a short name and what it is. An empty value forgets it.",
    "parameters": {"type": "object", "required": ["name", "value"], "additionalProperties": False,
                   "properties": {"name": {"type": "string", "minLength": 1, "maxLength": 100}, "value": {"type": "string", "maxLength": 2000}}},
    "places": {"name": ["name"], "value": ["value"]},
}  # fmt: skip
_SUMMARY = "You keep the summary of a conversation. Fold what was said into it, in at most ten sentences; leave out nothing that may matter later."


async def _summed(given: AgentInput, alias: Alias, window: Window, at: Asking) -> Reply:
    """The summary of a conversation with what is older than its window folded in."""
    said = "\n".join(f"{m['role']}: {m.get('content') or '(uses a tool)'}" for m in window.older)
    before = f"The summary so far: {window.summary}\n\n" if window.summary else ""
    messages = [
        {"role": "system", "content": _SUMMARY},
        {"role": "user", "content": f"{before}What was said since:\n{said}"},
    ]
    return await complete(given.model, alias, Ask(messages), at)


def messages_of(
    given: AgentInput,
    now: datetime,
    before: list[dict[str, Any]],
    summary: str = "",
    facts: dict[str, str] | None = None,
    asked: Any = None,
) -> tuple[list[dict[str, Any]], int]:
    """The messages an agent begins with, and how many of them were there before this one."""
    told = [given.brief] if given.brief else []
    if given.today:
        here = now.astimezone(_zone(given.zone))
        told.append(f"It is {here:%A, %d %B %Y, %H:%M} ({given.zone}).")
    if facts:
        told.append(
            "What is known of this person:\n" + "\n".join(f"- {name}: {value}" for name, value in facts.items())
        )
    if summary:
        told.append(f"Earlier in this conversation: {summary}")
    system = [{"role": "system", "content": "\n\n".join(told)}] if told else []
    first = [*system, *before]
    return [*first, {"role": "user", "content": given.prompt if asked is None else asked}], len(first)


def _zone(name: str) -> ZoneInfo:
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        raise StepFailed("invalid", f"there is no zone {name}", fix="write one such as Europe/Zurich") from None


async def _open(given: AgentInput, at: Surroundings) -> Result:
    alias: Alias = await at.model(given.model)
    memory, usage = given.memory, None
    summary: dict[str, Any] | None = None
    window = Window()
    if memory:
        window = await at.conversation(memory.conversation, memory.turns, memory.summary, memory.facts)
    if window.older:
        reply = await _summed(given, alias, window, at)
        summary, usage = {"text": reply.text, "first": window.first}, reply.usage
    short = summary["text"] if summary else window.summary
    asked = await content(given.prompt, given.files, given.model, alias, at)
    messages, new = messages_of(given, at.now(), window.messages, short, window.facts, asked)
    tools = [tool for index, one in enumerate(given.tools) for tool in await _opened(one, index, at)]
    if memory and memory.facts:
        tools.append(_FACT)
    names = [tool["name"] for tool in tools]
    for twice in {name for name in names if names.count(name) > 1}:
        raise StepFailed("invalid", f"two tools are called {twice}", fix="give one of them another name:")
    limits = given.limits.model_dump()
    if given.limits.time:
        limits["time"] = durations.seconds(given.limits.time)
    setup = {
        "messages": messages,
        "new": new,
        "tools": tools,
        "model": {"name": given.model, **alias.model_dump(mode="json")},
        "limits": limits,
        "gives": given.gives,
        "memory": {"conversation": memory.conversation} if memory else None,
        "summary": summary,
    }
    return Result(setup, usage=usage)


async def _opened(tool: Tool, index: int, at: Surroundings) -> list[dict[str, Any]]:
    """What the engine needs of a tool, and what its model is told: more than one for servers and tables; each with all
    names under which a document may mean it."""
    found = await _made_of(tool, index, at)
    for one in found:
        given, called = one["with"], [one["name"], tool.name, one.get("do"), one.get("run"), tool.server, tool.table]
        if tool.kind == "server":
            called += [given["tool"], f"{tool.server}.{given['tool']}"]
        if tool.kind == "table":
            called.append(f"{tool.table}.{str(one['do']).partition('.')[2]}")
        one["names"] = sorted({name for name in called if name})
        for other in one["or"]:
            other["names"] = [other["do"]]
    return found


async def _made_of(tool: Tool, index: int, at: Surroundings) -> list[dict[str, Any]]:
    base: dict[str, Any] = {"index": index, "or": [], "agent": False}
    if tool.kind == "do":
        action = at.action(str(tool.do))
        made = _made(tool, action.name, action.title, action.schema, tool.with_)
        instead = [
            {**_made(tool, one.do, at.action(one.do).title, at.action(one.do).schema, one.with_),
             "kind": "do", "do": one.do, "agent": False, "index": index, "or": []}
            for one in tool.or_
        ]  # fmt: skip
        return [{**base, **made, "kind": "do", "do": action.name, "or": instead}]
    if tool.kind in ("run", "agent"):
        name = str(tool.run or tool.agent)
        found = await at.workflow(name)
        made = _made(tool, name, found.called or name, found.input, tool.with_)
        return [{**base, **made, "kind": "run", "run": name, "agent": found.kind == "agent"}]
    if tool.kind == "server":
        listed = await at.server_tools(str(tool.server))
        absent = set(tool.only or ()) - {one.name for one in listed}
        if absent:
            have = ", ".join(one.name for one in listed)
            raise StepFailed(
                "missing", f"{tool.server} has no tool {sorted(absent)[0]}; it has {have}", fix="correct only:"
            )
        return [
            {**base, "name": _named(one.name), "title": one.title,
             "description": _described(tool, one.description),
             "parameters": _without(one.schema, tool.with_ or {}), "places": None, "into": "arguments",
             "with": {"server": tool.server, "tool": one.name, "arguments": tool.with_ or {}, "repeat": "safe" if one.safe else "unsafe"}, "kind": "do", "do": "server.call"}
            for one in listed if tool.only is None or one.name in tool.only
        ]  # fmt: skip
    if tool.kind == "table":
        return [{**base, **_table(tool, may, at)} for may in tool.may]
    parameters = {"type": "object", "required": ["question"], "properties": {"question": {"type": "string"}}}
    return [
        {**base, "name": tool.name or "ask", "title": f"Ask {tool.ask}", "kind": "ask", "whom": tool.ask,
         "description": _described(tool, f"Ask {tool.ask} a question and wait for the answer."),
         "parameters": parameters, "places": {"question": ["question"]}, "with": {}, "choices": tool.choices}
    ]  # fmt: skip


def _without(schema: Mapping[str, Any], fixed: dict[str, Any]) -> dict[str, Any]:
    """A tool's JSON Schema without the arguments that are fixed."""
    properties = {k: v for k, v in (schema.get("properties") or {}).items() if k not in fixed}
    required = [name for name in schema.get("required") or [] if name not in fixed]
    return {**schema, "properties": properties, "required": required}


def _made(
    tool: Tool, called: str, title: str, schema: dict[str, Any] | Any, given: dict[str, Any] | None
) -> dict[str, Any]:
    """A tool with its fixed input, the places open to the model, and the JSON Schema of those."""
    whole = {"type": "object", **{k: v for k, v in dict(schema).items() if k in ("properties", "required", "$defs")}}
    about = {"name": tool.name or _named(called), "title": title, "description": _described(tool, title or called)}
    if given is None:
        if tool.kind == "do":  # what is kept from the model is not taken from it either
            whole["additionalProperties"] = False
        whole["properties"] = {
            k: v for k, v in whole.get("properties", {}).items() if k not in ("credential", "timeout")
        }
        return {**about, "parameters": whole, "places": None, "with": {}}
    places: dict[str, list[Any]] = {}
    properties: dict[str, Any] = {}
    required: list[str] = []
    fixed = _taken_out(given, [], places, properties, required, whole.get("properties", {}))
    parameters = {"type": "object", "properties": properties, "required": required, "additionalProperties": False}
    if "$defs" in whole and "#/$defs/" in values.dumps(properties):
        parameters["$defs"] = whole["$defs"]
    return {**about, "parameters": parameters, "places": places, "with": fixed}


def _taken_out(
    given: Any,
    path: list[Any],
    places: dict[str, list[Any]],
    properties: dict[str, Any],
    required: list[str],
    known: dict[str, Any],
) -> Any:
    """An input without what is open to the model; that goes into `places`, `properties` and `required`."""
    if isinstance(given, dict):
        kept = {}
        for key, inner in given.items():
            here = [*path, key]
            if isinstance(inner, dict) and "open" in inner and set(inner) <= {"open", "as", "optional"}:
                name = _named(str(key)) if _named(str(key)) not in places else _named("_".join(map(str, here)))
                declared = known.get(key, {}) if not path else {}
                described = {k: v for k, v in declared.items() if k not in ("default", "title")} or {"type": "string"}
                properties[name] = {**described, **inner.get("as", {}), "description": str(inner["open"])}
                places[name] = here
                if not inner.get("optional"):
                    required.append(name)
            else:
                kept[key] = _taken_out(inner, here, places, properties, required, {})
        return kept
    if isinstance(given, list):
        return [_taken_out(inner, [*path, n], places, properties, required, {}) for n, inner in enumerate(given)]
    return given


def _table(tool: Tool, may: str, at: Tables) -> dict[str, Any]:
    """One thing that may be done with a table, with its allowed columns alone."""
    kinds = {"text": {"type": "string"}, "number": {"type": "number"}, "boolean": {"type": "boolean"}}
    known = {column.name: kinds.get(column.type, {}) for column in at.table(str(tool.table)).columns}
    absent = [column for column in tool.columns or () if column not in known]
    if absent:
        raise StepFailed(
            "missing", f"the table {tool.table} has no column {absent[0]}", fix=f"it has {', '.join(known)}"
        )
    columns = tool.columns or list(known)
    row = {"type": "object", "properties": {c: known[c] for c in columns}, "additionalProperties": False}
    named = ", ".join(columns)
    words = {
        "find": f"Find rows of the table {tool.table}, all or those whose columns have given values. Columns: {named}.",
        "add": f"Add a row to the table {tool.table}. Columns: {named}.",
        "upsert": f"Add or update the row of the table {tool.table} with the same {', '.join(tool.match or columns[:1])}.",
        "delete": f"Remove rows of the table {tool.table} whose columns have given values.",
    }
    fixed: dict[str, Any] = {"table": tool.table}
    if may == "find":
        fixed["columns"] = columns
    if may == "upsert":
        fixed["match"] = tool.match or columns[:1]
    field = "where" if may in ("find", "delete") else "row"
    return {
        "name": f"{tool.name or _named(str(tool.table))}_{may}",
        "title": f"{may.capitalize()} rows of {tool.table}",
        "description": _described(tool, words[may]),
        "parameters": {"type": "object", "properties": {field: row}, "required": [] if may == "find" else [field],
                       "additionalProperties": False},
        "places": {field: [field]},
        "with": fixed,
        "kind": "do",
        "do": _MAY[may],
    }  # fmt: skip


def _named(text: str) -> str:
    return _NAME.sub("_", text).strip("_")[:64] or "tool"


def _described(tool: Tool, text: str) -> str:
    return f"{text.rstrip('. ')}. Use it when {tool.use_when.rstrip('. ')}." if tool.use_when else text


async def _turn(given: TurnInput, at: Asking) -> Result:
    alias = Alias.model_validate({k: v for k, v in given.settled.items() if k != "name"})
    ask = Ask(given.messages, given.gives, tools=given.tools)
    try:
        reply = await complete(given.model, alias, ask, at)
    except StepFailed as failed:
        failed.detail = {k: v for k, v in failed.detail.items() if k != "messages"}
        raise
    output = {"text": reply.text, "calls": reply.calls, "reasoning": reply.reasoning, "sources": reply.sources}
    return Result(output, {"turn": {k: v for k, v in reply.detail.items() if k != "messages"}}, reply.usage)


async def _turn_worst(given: TurnInput, at: Asking) -> float | None:
    alias = Alias.model_validate({k: v for k, v in given.settled.items() if k != "name"})
    return alias.worst(size_of(given.messages, given.tools, given.gives), alias.max_tokens)


async def _server_call(given: ServerInput, at: Servers) -> Result:
    return Result(*await at.server_call(given.server, given.tool, given.arguments))


async def _preview(given: AgentInput, at: Actions) -> Given:
    """What the model of an agent is told and offered at the beginning."""
    setup = await at.perform("agent.open", given.model_dump(mode="json", by_alias=True, exclude_unset=True))
    tools = [{name: tool[name] for name in ("name", "description", "parameters")} for tool in setup["tools"]]
    return {"messages": shown(setup["messages"]), "tools": tools}


def _sentence(step: str, given: Given) -> str:
    named = [
        str(tool.get("name") or next((tool[kind] for kind in _KINDS if kind in tool), "tool"))
        for tool in given.get("tools") or ()
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
        example={
            "model": "careful",
            "brief": "You answer guests of the huts.",
            "prompt": "${ input.message }",
            "tools": [{"table": "huts"}],
            "limits": {"turns": 8, "money": 0.2},
        },
        first=("model", "brief", "prompt", "tools", "limits"),
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
        example={"server": "weather-station", "tool": "forecast", "arguments": {"hut": "${ input.hut }"}},
        first=("server", "tool", "arguments"),
    ),
]
