"""An agent as it was set up in a run: what its model is told and offered, what its tools stand for, what limits it.

Made when the agent is opened, kept in the record as JSON, and read from there by the engine.
"""

import copy
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal, cast

from oak_relay.document import paths
from oak_relay.document.errors import StepFailed
from oak_relay.document.schemas import Validator, validator
from oak_relay.messages import Message, Offered, Source, Wanted

ToolKind = Literal["do", "run", "ask", "fact"]
Arguments = Mapping[str, object]
Place = Sequence[str | int]


@dataclass(frozen=True)
class AgentTool:
    """A tool of an agent.

    `kind`: an action (`action`), a child run of a `workflow` (of an agent document: `agent`), a question to a person
    (`whom`, `choices`), or a fact to keep. `fixed` is what of its input the model does not say; `places` says where each of
    its arguments belongs, None when all stand beside what is fixed, there or under `into`. `instead` are used when it fails;
    `names` are those under which a document may mean it; `index` is its place among the document's tools.
    """

    name: str
    title: str
    kind: ToolKind
    description: str
    parameters: dict[str, Any]
    fixed: Arguments = field(default_factory=dict)
    places: Mapping[str, Place] | None = None
    into: str = ""
    index: int = 0
    instead: "tuple[AgentTool, ...]" = ()
    names: tuple[str, ...] = ()
    action: str = ""
    workflow: str = ""
    agent: bool = False
    whom: str = ""
    choices: tuple[str, ...] | None = None
    tell: str = ""
    """JSONPath of what of its output the model is told; empty for all of it."""
    claims: tuple[str, ...] = ()
    """Phrases that say that it was used."""
    sources: str = ""
    """JSONPath of the sources in its output: addresses, or mappings with `url` and `title`; empty for its `sources`."""

    @cached_property
    def offered(self) -> Offered:
        """The tool as the model sees it."""
        return {"name": self.name, "description": self.description, "parameters": self.parameters}

    @cached_property
    def validator(self) -> Validator:
        """Of its arguments. Raises `BadSchema`."""
        return validator(self.parameters)

    @property
    def called(self) -> tuple[str, ...]:
        """The names under which a document may mean it."""
        return self.names or tuple(name for name in (self.name, self.action, self.workflow) if name)

    def placed(self, arguments: Arguments) -> dict[str, object]:
        """Its input: what is fixed, and what the model gave in the places that are open to it. What is fixed is never
        replaced."""
        if self.places is None:
            if self.into:
                return {**self.fixed, self.into: {**arguments, **cast(Arguments, self.fixed[self.into])}}
            return {**arguments, **self.fixed}
        given = copy.deepcopy(dict(self.fixed))
        for name, path in self.places.items():
            if name in arguments:
                here: Any = given
                for key in path[:-1]:
                    here = here[key]
                here[path[-1]] = arguments[name]
        return given

    def as_data(self) -> dict[str, object]:
        """As it stands in the record."""
        data: dict[str, object] = {
            "name": self.name,
            "title": self.title,
            "kind": self.kind,
            "index": self.index,
            "description": self.description,
            "parameters": self.parameters,
            "places": self.places,
            "with": self.fixed,
            "or": [other.as_data() for other in self.instead],
            "agent": self.agent,
            "names": list(self.names),
        }
        more = {"do": self.action, "run": self.workflow, "into": self.into, "whom": self.whom}
        more |= {"tell": self.tell, "sources": self.sources}
        if self.claims:
            data["claims"] = list(self.claims)
        data |= {key: value for key, value in more.items() if value}
        if self.kind == "ask":
            data["choices"] = None if self.choices is None else list(self.choices)
        return data

    @classmethod
    def read(cls, data: Mapping[str, Any]) -> "AgentTool":
        """From the record."""
        choices = data.get("choices")
        return cls(
            data["name"],
            data["title"],
            data["kind"],
            data["description"],
            data["parameters"],
            data["with"],
            data["places"],
            data.get("into") or "",
            data["index"],
            tuple(cls.read(other) for other in data["or"]),
            tuple(data.get("names") or ()),
            data.get("do") or "",
            data.get("run") or "",
            bool(data.get("agent")),
            data.get("whom") or "",
            None if choices is None else tuple(choices),
            data.get("tell") or "",
            tuple(data.get("claims") or ()),
            data.get("sources") or "",
        )


@dataclass(frozen=True, slots=True)
class AgentLimits:
    """How many turns and calls of tools, tokens, money, and seconds at work; None where nothing limits it."""

    turns: int
    calls: int
    tokens: int | None = None
    money: float | None = None
    time: float | None = None

    @classmethod
    def read(cls, data: Mapping[str, Any]) -> "AgentLimits":
        """From the record."""
        return cls(data["turns"], data["calls"], data.get("tokens"), data.get("money"), data.get("time"))


@dataclass(frozen=True, slots=True)
class Summary:
    """What came before the message `first` of a conversation, in short."""

    text: str
    first: int


@dataclass(frozen=True, slots=True)
class AgentSetup:
    """What an agent was opened with: the messages it begins with, of which those from `new` on are this run's; its tools; its
    `model` alias with its `name`; the JSON Schema that its answer must fit; and the conversation it belongs to."""

    messages: Sequence[Message]
    new: int
    tools: tuple[AgentTool, ...]
    model: Mapping[str, object]
    limits: AgentLimits
    gives: dict[str, object] | None = None
    conversation: str | None = None
    summary: Summary | None = None
    keeps: bool = False
    """Whether what there is is kept when it is ended without an answer; otherwise its step fails."""
    stops: bool = False
    """Whether an answer that claims what was not done fails its step; otherwise it is marked."""

    def as_data(self) -> dict[str, object]:
        """As it stands in the record."""
        limits = self.limits
        names = ("turns", "calls", "tokens", "money", "time")
        return {
            "messages": list(self.messages),
            "new": self.new,
            "tools": [tool.as_data() for tool in self.tools],
            "model": self.model,
            "limits": {name: getattr(limits, name) for name in names},
            "gives": self.gives,
            "memory": None if self.conversation is None else {"conversation": self.conversation},
            "summary": None if self.summary is None else {"text": self.summary.text, "first": self.summary.first},
            "keeps": self.keeps,
            "stops": self.stops,
        }

    @classmethod
    def read(cls, data: Mapping[str, Any]) -> "AgentSetup":
        """From the record."""
        memory, summary = data.get("memory"), data.get("summary")
        return cls(
            data["messages"],
            data["new"],
            tuple(AgentTool.read(tool) for tool in data["tools"]),
            data["model"],
            AgentLimits.read(data["limits"]),
            data.get("gives"),
            memory["conversation"] if memory else None,
            Summary(summary["text"], summary["first"]) if summary else None,
            bool(data.get("keeps")),
            bool(data.get("stops")),
        )


@dataclass(frozen=True, slots=True)
class Turn:
    """What a model answered: a text, or calls of tools that it wants."""

    text: str
    calls: Sequence[Wanted] = ()
    reasoning: str = ""
    sources: Sequence[Source] = ()

    def as_data(self) -> dict[str, Any]:
        """As it stands in the record."""
        return {"text": self.text, "calls": self.calls, "reasoning": self.reasoning, "sources": self.sources}

    @classmethod
    def read(cls, data: Mapping[str, Any]) -> "Turn":
        """From the record."""
        return cls(data["text"], data["calls"], data.get("reasoning") or "", data.get("sources") or ())


def cited(output: object, path: str = "") -> list[Source]:
    """The sources that a tool's output names, at a JSONPath or under `sources`. Of whatever shape that is, only those with
    an address count. Raises `StepFailed` for what is no JSONPath."""
    found = paths.find(path, output) if path else output.get("sources") if isinstance(output, dict) else None
    flat = (
        [one for some in found for one in (some if isinstance(some, list) else [some])]
        if isinstance(found, list)
        else []
    )
    named = [{"url": one, "title": one} if isinstance(one, str) else one for one in flat]
    return [cast(Source, one) for one in named if isinstance(one, dict) and one.get("url")]


def one_name_each(tools: Sequence[AgentTool]) -> None:
    """Raises `StepFailed` (`invalid`) when two tools have one name."""
    names = [tool.name for tool in tools]
    for twice in {name for name in names if names.count(name) > 1}:
        raise StepFailed("invalid", f"two tools are called {twice}", fix="give one of them another name:")
