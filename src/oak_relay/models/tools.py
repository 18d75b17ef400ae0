"""Tools of an agent: what a document says of one, what its model is told, and what the engine needs of it."""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Annotated, Any, Literal, Protocol

from pydantic import Field, model_validator

from oak_relay.actions.base import Fields
from oak_relay.agents import AgentTool, Place
from oak_relay.capabilities.protocols import Actions, Servers, Tables, Workflows
from oak_relay.document import paths, shapes, values
from oak_relay.document.errors import StepFailed
from oak_relay.document.shapes import Schema

_NAME = re.compile(r"[^a-zA-Z0-9_]+")
KINDS = ("do", "run", "agent", "server", "table", "ask")
_MAY = {
    "total": "table.total",
    "find": "table.find",
    "add": "table.add",
    "upsert": "table.upsert",
    "delete": "table.delete",
}


class Instead(Fields):
    do: str
    with_: dict[str, object] = Field(default_factory=dict, alias="with")
    tell: str | None = Field(None, max_length=1000, description="JSONPath of what the model is told.")
    sources: str | None = Field(None, max_length=1000, description="JSONPath of its sources.")


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
    with_: dict[str, object] | None = Field(
        None,
        alias="with",
        description="Its input; {open: what belongs there} leaves a field to the model. Of a tool server: fixed arguments.",
    )
    or_: list[Instead] = Field(default_factory=list, alias="or", description="What to use when it fails.")
    tell: str | None = Field(
        None,
        max_length=1000,
        description="JSONPath (RFC 9535) of what of its output the model is told, as $.items[*].title; without it all, and "
        "of http.request the body.",
    )
    sources: str | None = Field(
        None,
        max_length=1000,
        description="JSONPath of its sources: addresses, or mappings with url and title; without it what it gives as sources.",
    )
    approve: bool | str = Field(
        False, description="Whether a person approves each call, or an expression over `arguments` that says so."
    )
    claims: list[Annotated[str, Field(min_length=1, max_length=200)]] = Field(
        default_factory=list,
        max_length=20,
        description="Phrases that say that it was done, as “I have booked it”: an answer that says so while no call of it succeeded "
        "is marked, or stopped (`unkept`).",
    )
    only: list[str] | None = Field(None, description="Of a tool server: only these of its tools.")
    columns: list[str] | None = Field(None, description="Of a table: only these columns.")
    may: list[Literal["find", "total", "add", "upsert", "delete"]] = Field(
        ["find"], description="Of a table: what may be done."
    )
    match: list[str] | None = Field(
        None, description="Of a table with upsert: the columns that tell which row is meant."
    )
    choices: list[str] | None = Field(None, description="Of a question: what may be answered.")

    @model_validator(mode="after")
    def _one_kind(self) -> "Tool":
        kinds = [kind for kind in KINDS if getattr(self, kind) is not None]
        if len(kinds) != 1:
            raise ValueError(f"a tool has exactly one of {', '.join(KINDS)}")
        return self

    @property
    def kind(self) -> str:
        """Which of the kinds it is."""
        return next(kind for kind in KINDS if getattr(self, kind) is not None)


class Sources(Actions, Workflows, Servers, Tables, Protocol):
    """What tools are made of."""


async def opened(tool: Tool, index: int, at: Sources) -> list[AgentTool]:
    """The tools that one of a document stands for: more than one for servers and tables. Each has all names under which
    the document may mean it; `index` is its place there. Raises `StepFailed`."""
    made = [replace(one, index=index, claims=tuple(tool.claims)) for one in await _made(tool, at)]
    if tool.kind != "do":
        made = [replace(one, tell=tool.tell or "", sources=tool.sources or "") for one in made]
    for path in {path for one in made for path in (one.tell, one.sources) if path}:
        paths.find(path, {})
    return made


async def _made(tool: Tool, at: Sources) -> list[AgentTool]:
    if tool.do is not None:
        instead = tuple(
            replace(_action(tool, one, one.do, one.with_, at), names=(one.do,), index=0) for one in tool.or_
        )
        return [replace(_action(tool, tool, tool.do, tool.with_, at), instead=instead)]
    if tool.run is not None or tool.agent is not None:
        name = str(tool.run or tool.agent)
        found = await at.workflow(name)
        made = _open(tool, name, found.called or name, found.input, tool.with_)
        return [
            replace(made, kind="run", workflow=name, agent=found.kind == "agent", names=_meant(made.name, tool, name))
        ]
    if tool.server is not None:
        return await _server(tool, tool.server, at)
    if tool.table is not None:
        return [_table(tool, tool.table, may, at) for may in tool.may]
    parameters = {"type": "object", "required": ["question"], "properties": {"question": {"type": "string"}}}
    return [
        AgentTool(
            tool.name or "ask",
            f"Ask {tool.ask}",
            "ask",
            _described(tool, f"Ask {tool.ask} a question and wait for the answer."),
            parameters,
            places={"question": ["question"]},
            names=_meant(tool.name or "ask", tool),
            whom=str(tool.ask),
            choices=None if tool.choices is None else tuple(tool.choices),
        )
    ]


def _meant(name: str, tool: Tool, *more: str) -> tuple[str, ...]:
    """The names under which a document may mean a tool that its model calls `name`."""
    return tuple(sorted({one for one in (name, tool.name, tool.server, tool.table, *more) if one}))


def _action(tool: Tool, said: Tool | Instead, name: str, given: dict[str, object] | None, at: Actions) -> AgentTool:
    action = at.action(name)
    made = _open(tool, action.name, action.title, action.schema, given)
    tell, sources = said.tell or action.tell, said.sources or ""
    return replace(made, action=action.name, names=_meant(made.name, tool, action.name), tell=tell, sources=sources)


async def _server(tool: Tool, server: str, at: Servers) -> list[AgentTool]:
    """The tools of a tool server, or those of them that are named."""
    listed = await at.server_tools(server)
    absent = set(tool.only or ()) - {one.name for one in listed}
    if absent:
        have = ", ".join(one.name for one in listed)
        raise StepFailed("missing", f"{server} has no tool {sorted(absent)[0]}; it has {have}", fix="correct only:")
    bad = next((one for one in listed if one.wrong and one.name in (tool.only or ())), None)
    if bad is not None:
        raise StepFailed("invalid", f"{server}.{bad.name} cannot be used: {bad.wrong}", fix="have its server corrected")
    fixed = tool.with_ or {}
    return [
        AgentTool(
            _named(one.name),
            one.title,
            "do",
            _described(tool, one.description),
            _without(one.schema, fixed),
            {"server": server, "tool": one.name, "arguments": fixed, "repeat": "safe" if one.safe else "unsafe"},
            into="arguments",
            action="server.call",
            names=_meant(_named(one.name), tool, "server.call", one.name, f"{server}.{one.name}"),
        )
        for one in listed
        if not one.wrong and (tool.only is None or one.name in tool.only)
    ]


def _without(schema: Schema, fixed: Mapping[str, object]) -> dict[str, object]:
    """A tool's JSON Schema without the arguments that are fixed."""
    properties = {name: one for name, one in shapes.properties(schema).items() if name not in fixed}
    required = [name for name in shapes.required(schema) if name not in fixed]
    return {**schema, "properties": properties, "required": required}


def _open(tool: Tool, called: str, title: str, schema: Schema, given: Mapping[str, object] | None) -> AgentTool:
    """A tool with its fixed input, the places open to the model, and the JSON Schema of those."""
    whole: dict[str, Any] = {"type": "object"}
    whole |= {k: v for k, v in schema.items() if k in ("properties", "required", "$defs")}
    made = AgentTool(tool.name or _named(called), title, "do", _described(tool, title or called), whole)
    if given is None:
        if tool.kind == "do":  # what is kept from the model is not taken from it either
            whole["additionalProperties"] = False
        whole["properties"] = {
            k: v for k, v in whole.get("properties", {}).items() if k not in ("credential", "timeout")
        }
        return made
    left = _Places(whole.get("properties", {}))
    fixed = left.taken_out(given, ())
    parameters: dict[str, object] = {
        "type": "object",
        "properties": left.properties,
        "required": left.required,
        "additionalProperties": False,
    }
    if "$defs" in whole and "#/$defs/" in values.dumps(left.properties):
        parameters["$defs"] = whole["$defs"]
    return replace(made, parameters=parameters, places=left.places, fixed=fixed)


@dataclass(slots=True)
class _Places:
    """What of an input is open to the model: where each argument belongs, and its JSON Schema. `known` are the properties
    of the input at its top."""

    known: Mapping[str, Schema]
    places: dict[str, Place] = field(default_factory=dict)
    properties: dict[str, Schema] = field(default_factory=dict)
    required: list[str] = field(default_factory=list)

    def taken_out(self, given: object, path: tuple[str | int, ...]) -> Any:
        """An input without what is open in it."""
        if isinstance(given, Mapping):
            kept = {}
            for key, inner in given.items():
                if isinstance(inner, dict) and "open" in inner and set(inner) <= {"open", "as", "optional"}:
                    self._left(str(key), inner, (*path, key))
                else:
                    kept[key] = self.taken_out(inner, (*path, key))
            return kept
        if isinstance(given, list):
            return [self.taken_out(inner, (*path, n)) for n, inner in enumerate(given)]
        return given

    def _left(self, key: str, said: Mapping[str, Any], path: tuple[str | int, ...]) -> None:
        name = _named(key) if _named(key) not in self.places else _named("_".join(map(str, path)))
        declared = self.known.get(key, shapes.ANY) if len(path) == 1 else shapes.ANY
        described = {k: v for k, v in declared.items() if k not in ("default", "title")} or {"type": "string"}
        self.properties[name] = {**described, **said.get("as", {}), "description": str(said["open"])}
        self.places[name] = list(path)
        if not said.get("optional"):
            self.required.append(name)


def _table(tool: Tool, table: str, may: str, at: Tables) -> AgentTool:
    """One thing that may be done with a table, with its allowed columns alone."""
    kinds = {"text": {"type": "string"}, "number": {"type": "number"}, "boolean": {"type": "boolean"}}
    known = {column.name: kinds.get(column.type, {}) for column in at.table(table).columns}
    absent = [column for column in tool.columns or () if column not in known]
    if absent:
        raise StepFailed("missing", f"the table {table} has no column {absent[0]}", fix=f"it has {', '.join(known)}")
    columns = tool.columns or list(known)
    row = {"type": "object", "properties": {c: known[c] for c in columns}, "additionalProperties": False}
    named = ", ".join(columns)
    words = {
        "find": f"Find rows of the table {table}, all or those whose columns have given values. Columns: {named}.",
        "total": f"Count rows of the table {table}, all or those whose columns have given values, by groups, and add up columns. Columns: {named}.",
        "add": f"Add a row to the table {table}. Columns: {named}.",
        "upsert": f"Add or update the row of the table {table} with the same {', '.join(tool.match or columns[:1])}.",
        "delete": f"Remove rows of the table {table} whose columns have given values.",
    }
    fixed: dict[str, object] = {"table": table}
    if may == "find":
        fixed["columns"] = columns
    if may == "upsert":
        fixed["match"] = tool.match or columns[:1]
    if may == "total":
        return _totals(tool, table, columns, row, words[may])
    field_ = "where" if may in ("find", "delete") else "row"
    name = f"{tool.name or _named(table)}_{may}"
    required = [] if may == "find" else [field_]
    return AgentTool(
        name,
        f"{may.capitalize()} rows of {table}",
        "do",
        _described(tool, words[may]),
        {"type": "object", "properties": {field_: row}, "required": required, "additionalProperties": False},
        fixed,
        {field_: [field_]},
        action=_MAY[may],
        names=_meant(name, tool, _MAY[may], f"{table}.{may}"),
    )


def _totals(tool: Tool, table: str, columns: list[str], row: dict[str, object], words: str) -> AgentTool:
    """Counting and adding up rows, over the allowed columns alone."""
    some = {"type": "array", "items": {"enum": columns}}
    open_ = {"where": row, "by": some, "sum": some, "average": some, "least": some, "most": some}
    name = f"{tool.name or _named(table)}_total"
    return AgentTool(
        name,
        f"Count and add up rows of {table}",
        "do",
        _described(tool, words),
        {"type": "object", "properties": open_, "additionalProperties": False},
        {"table": table},
        {field: [field] for field in open_},
        action="table.total",
        names=_meant(name, tool, "table.total", f"{table}.total"),
    )


def _named(text: str) -> str:
    return _NAME.sub("_", text).strip("_")[:64] or "tool"


def _described(tool: Tool, text: str) -> str:
    return f"{text.rstrip('. ')}. Use it when {tool.use_when.rstrip('. ')}." if tool.use_when else text


KEEP_FACT = AgentTool(
    "keep_fact",
    "Keep a fact",
    "fact",
    "Keep something worth knowing about this person for later: a short name and what it is. An empty value forgets it.",
    {
        "type": "object",
        "required": ["name", "value"],
        "additionalProperties": False,
        "properties": {
            "name": {"type": "string", "minLength": 1, "maxLength": 100},
            "value": {"type": "string", "maxLength": 2000},
        },
    },
    places={"name": ["name"], "value": ["value"]},
)
"""Of agents with a memory of facts."""
