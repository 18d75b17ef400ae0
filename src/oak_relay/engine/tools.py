"""Calls of an agent's tools: whether a person is asked, what is carried out, and what the model is told of it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from oak_relay.agents import AgentSetup, AgentTool, Arguments, cited
from oak_relay.changes import AskPerson, KeepFact
from oak_relay.document import paths, values
from oak_relay.document.errors import StepFailed
from oak_relay.engine import effects, waiting
from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import Cancelled, Scope
from oak_relay.engine.plan import Node, tool_node
from oak_relay.engine.purse import Purse
from oak_relay.engine.walking import Walking
from oak_relay.messages import Source, Wanted
from oak_relay.usage import Usage

LONGEST = 60_000
"""Characters of a tool's result that a model is given."""
APPROVE, REFUSE = "approve", "refuse"


@dataclass(slots=True)
class Used:
    """What attempts have used: tokens, money, calls without a known price, and seconds at work."""

    input: int = 0
    output: int = 0
    money: float = 0.0
    unpriced: int = 0
    seconds: float = 0.0

    def spend(self, entry: Entry) -> None:
        """Count a recorded attempt of a turn or of a call."""
        usage = Usage.read((entry.body or {}).get("usage"))
        self.input += usage.input
        self.output += usage.output
        self.money = round(self.money + usage.paid, 9)
        self.unpriced += usage.unknown
        if entry.started and entry.at:
            self.seconds += (entry.at - entry.started).total_seconds()

    def add(self, other: "Used") -> None:
        """Count what others have used."""
        self.input += other.input
        self.output += other.output
        self.money = round(self.money + other.money, 9)
        self.unpriced += other.unpriced
        self.seconds = round(self.seconds + other.seconds, 9)

    def as_data(self) -> dict[str, float]:
        """As it stands in the record."""
        return {name: getattr(self, name) for name in ("input", "output", "money", "unpriced", "seconds")}

    @classmethod
    def read(cls, data: Mapping[str, Any]) -> "Used":
        """From the record."""
        return cls(data["input"], data["output"], data["money"], data.get("unpriced", 0), data["seconds"])


@dataclass(frozen=True, slots=True)
class Called:
    """What a call gave: the text that the model is told."""

    text: str
    failed: bool = False
    sources: Sequence[Source] = ()
    used: Used = field(default_factory=Used)


@dataclass(frozen=True, slots=True)
class TurnEnd:
    """What all calls of a turn gave, in their order, which closes the turn."""

    results: Sequence[str]
    failed: int
    sources: Sequence[Source]
    used: Used

    @classmethod
    def of(cls, calls: Sequence[Called]) -> "TurnEnd":
        """The sum of its calls."""
        used = Used()
        for call in calls:
            used.add(call.used)
        sources = [source for call in calls for source in call.sources]
        return cls([call.text for call in calls], sum(call.failed for call in calls), sources, used)

    def as_data(self) -> dict[str, object]:
        """As it stands in the record."""
        data = {"results": self.results, "failed": self.failed, "sources": self.sources}
        return {**data, "used": self.used.as_data()}

    @classmethod
    def read(cls, data: Mapping[str, Any]) -> "TurnEnd":
        """From the record."""
        return cls(data["results"], data["failed"], data["sources"], Used.read(data["used"]))


class Toolbox:
    """The tools of one agent at work, each called by its name."""

    def __init__(self, walk: Walking, node: Node, path: str, scope: Scope, setup: AgentSetup, purse: Purse) -> None:
        self.walk, self.node, self.path, self.scope, self.setup, self.purse = walk, node, path, scope, setup, purse
        self.tools = {tool.name: tool for tool in setup.tools}

    def check_approvals(self) -> None:
        """Names of what must be approved that name nothing are a mistake, and not passed over. Raises `StepFailed`."""
        named = self.node.fixed["named"]
        if not named.constant or not isinstance(named.raw, list):
            return
        known = {name for tool in self.tools.values() for one in (tool, *tool.instead) for name in one.called}
        for name in named.raw:
            if name not in known:
                have = ", ".join(sorted(known)) or "nothing"
                message = f"{self.node.name}: approve names {name}, and it can call {have}"
                raise StepFailed("invalid", message, fix="correct approve:", step=self.path)

    async def call(self, path: str, call: Wanted, chain: str) -> Called:
        """Carry out one call; a failure is told to the model."""
        tool = self.tools.get(call["name"])
        if tool is None:
            have = ", ".join(self.tools) or "none"
            return self._refused(path, call, f"there is no tool {call['name']}; there is {have}")
        arguments, wrong = _arguments(tool, call)
        if wrong:
            return self._refused(path, call, wrong)
        tried = [(path, tool)]
        tried += [(f"{path}.or{number}", other) for number, other in enumerate(tool.instead, 1)]
        paths = [here for here, _ in tried]
        try:
            asked = self._asks(tool, arguments)
            if asked:
                arguments, refusal = await self._approved(path, tool, arguments)
                if refusal:
                    return Called(values.dumps({"refused": refusal}), failed=True)
            output, tool = await self._first_that_works(tried, arguments, chain, asked)
        except StepFailed as failed:
            if self.walk.cancelling:
                raise Cancelled from None
            await self.walk.withdraw(path)
            error = {"error": failed.message, "kind": failed.kind, **({"fix": failed.fix} if failed.fix else {})}
            return Called(values.dumps(error), failed=True, used=self._used(paths))
        return _told(tool, output, self._used(paths))

    async def _first_that_works(
        self, tried: Sequence[tuple[str, AgentTool]], arguments: Arguments, chain: str, asked: bool
    ) -> tuple[object, AgentTool]:
        """What a tool gives, or one of those that stand in for it when it fails, and which it was. Raises the last one's
        `StepFailed`."""
        for number, (path, tool) in enumerate(tried):
            try:
                if number and not asked and self._asks(tool, arguments, alone=True):
                    arguments, refusal = await self._approved(path, tool, arguments)
                    if refusal:
                        raise StepFailed("refused", f"{tool.name}: {refusal}", step=path)
                return await self._use(path, tool, arguments, chain), tool
            except StepFailed:
                if self.walk.cancelling or number == len(tried) - 1:
                    raise
        raise AssertionError("a tool is tried at least")

    def _used(self, paths: Sequence[str]) -> Used:
        """What a call used, as its entries tell."""
        found = Used()
        for path in paths:
            for entry in (*self.walk.journal.entries(path), *self.walk.journal.entries(f"{path}#end")):
                if entry.kind in ("ended", "lost", "value") and isinstance(entry.body, dict):
                    found.spend(entry)
        return found

    async def _use(self, path: str, tool: AgentTool, arguments: Arguments, chain: str) -> object:
        """Carry out what a tool stands for."""
        walk = self.walk
        given = tool.placed(arguments)
        hash_ = values.digest(chain, tool.kind, values.dumps(given))
        if tool.kind == "run":
            asked = waiting.Wanted(given, tool.workflow)
            shown = {"input": given, "arguments": arguments}
            result = await waiting.child(walk, path, hash_, asked, tool.name, self.purse, shown)
            return _said(result) if tool.agent else result
        if tool.kind == "ask":
            return await self._ask(path, hash_, tool, given)
        if tool.kind == "fact":
            return await self._fact(path, hash_, given)
        node = tool_node(self.node, tool.action, f"{self.node.name}/{tool.name}", patient=False)
        return await effects.act(walk, node, path, given, hash_, {"input": given, "arguments": arguments}, self.purse)

    async def _fact(self, path: str, hash_: str, given: Arguments) -> object:
        """Keep something of the conversation."""
        recorded = self.walk.recorded(path, hash_)
        if recorded is None:
            self.walk.go_on()
            now = self.walk.journal.now()
            entry = Entry(path, "ended", 1, hash_, {}, {"input": given, "arguments": given}, now, now)
            fact = KeepFact(str(self.setup.conversation), str(given["name"]), str(given["value"]))
            recorded = await self.walk.journal.commit(entry, fact)
        return recorded["output"]

    def _refused(self, path: str, call: Wanted, wrong: str) -> Called:
        """A call that cannot be made; the model is told why."""
        if not self.walk.journal.entries(path):
            error = StepFailed("invalid", f"{call['name']}: {wrong}", step=path).as_data()
            body, detail = {"error": error}, {"input": call["text"]}
            self.walk.journal.add(Entry(path, "ended", 1, "", body, detail, at=self.walk.journal.now()))
        return Called(values.dumps({"error": wrong}), failed=True)

    async def _approved(self, path: str, tool: AgentTool, arguments: Arguments) -> tuple[Arguments, str]:
        """The arguments a person approves, who may have changed them; and why it is refused, else empty."""
        here = f"{path}#approval"
        said = await self._question(
            here,
            {
                "text": f"{self.node.name} wants to call {tool.name}: {tool.title}.",
                "choices": [APPROVE, REFUSE],
                "form": {**tool.parameters, "default": arguments},
                "input": {"tool": tool.name, "arguments": arguments, "with": tool.placed(arguments)},
            },
        )
        if said["choice"] != APPROVE:
            return arguments, said.get("text") or "a person does not want this"
        return said["data"] if isinstance(said.get("data"), dict) else arguments, ""

    def _asks(self, tool: AgentTool, arguments: Arguments, alone: bool = False) -> bool:
        """Whether a person is asked before a call; `alone` of one that stands in for another that did not have to be."""
        if tool.kind == "fact":
            return False
        scope = {**self.scope, "arguments": arguments}
        when = False if alone else self.node.fixed["approve"][tool.index]
        if when is True or (when and self.walk.value(when, scope)):
            return True
        called = {"name": tool.name, "action": tool.action}
        named = self.walk.value(self.node.fixed["named"], {**scope, "tool": called})
        if named is None or isinstance(named, bool):
            return bool(named)
        names = [named] if isinstance(named, str) else named
        if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
            raise StepFailed(
                "invalid", f"{self.node.name}: approve gives neither names nor true or false", fix="correct approve:"
            )
        return bool(set(names) & set(tool.called))

    async def _ask(self, path: str, hash_: str, tool: AgentTool, given: Arguments) -> object:
        """A question to a person as a tool."""
        question = {"text": f"{self.node.name} asks {tool.whom}: {given['question']}", "choices": tool.choices}
        said = await self._question(path, {**question, "form": None, "input": {"tool": tool.name}}, hash_)
        return {name: said.get(name) for name in ("choice", "text", "by")}

    async def _question(self, path: str, question: dict[str, Any], hash_: str = "") -> Any:
        walk = self.walk
        closed = walk.journal.entries(f"{path}#end")
        if closed:
            return closed[0].body
        if walk.recorded(path, hash_) is None:
            walk.go_on()
            opened = Entry(path, "opened", 1, hash_, {"until": None}, at=walk.journal.now())
            await walk.journal.commit(opened, AskPerson(path, **question))
        said = await walk.signal(path)
        if said.get("data") == (question["form"] or {}).get("default"):
            said = {**said, "data": None}  # it was left as it was
        return walk.journal.add(Entry(f"{path}#end", "value", body=said, at=walk.journal.now()))


def _said(result: object) -> object:
    """What another agent answered, without what it used."""
    if not isinstance(result, dict) or "text" not in result:
        return result
    answer = {"answer": result["text"] if result.get("data") is None else result["data"]}
    return {**answer, **{name: result[name] for name in ("sources", "why") if result.get(name)}}


def _arguments(tool: AgentTool, call: Wanted) -> tuple[Arguments, str]:
    """The arguments of a call, and what is wrong with them."""
    try:
        arguments = values.loads(call["text"] or "{}")
    except values.NotJson as error:
        return {}, f"the arguments are not JSON ({error})"
    if not isinstance(arguments, dict):
        return {}, "the arguments are no JSON object"
    return arguments, tool.validator.fault(arguments)


def _told(tool: AgentTool, output: object, used: Used) -> Called:
    """What the model is told of an output, and the sources in it; a path that is none is told too."""
    try:
        said = paths.told(tool.tell, output) if tool.tell else output
        return Called(_shortened(said), sources=cited(output, tool.sources), used=used)
    except StepFailed as failed:
        return Called(values.dumps({"error": failed.message}), failed=True, used=used)


def _shortened(output: object) -> str:
    text = output if isinstance(output, str) else values.dumps(output)
    return text if len(text) <= LONGEST else f"{text[:LONGEST]}… (cut; {len(text):,} characters in all)"
