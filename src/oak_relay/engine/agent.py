"""An agent: a model that is asked turn by turn, and tools that are called for it, around the journal.

Under the agent's path stand `/open` (what it was set up with, settled at its first use in the run), `/turn[n]` (one
reply of the model), `/turn[n]/tool[k]` (one call of a tool) and `/turn[n]#end` (what all calls of a turn gave, which
closes it). Each is an effect of its own, so that a walk that goes on after a crash repeats none that is recorded.
"""

import copy
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from oak_relay.changes import AskPerson, KeepFact, Remember
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.shapes import answer_in, fault
from oak_relay.engine import effects, waiting
from oak_relay.engine.outcomes import Cancelled, Scope, unpriced
from oak_relay.engine.plan import Node, tool_node
from oak_relay.engine.protocols import Entry
from oak_relay.engine.purse import Purse
from oak_relay.engine.said import whole

if TYPE_CHECKING:
    from oak_relay.engine.walk import Walk

SAME = 3
"""So many times the same calls, or the same words, and an agent makes no progress."""
REPAIRS = 2
"""How often a model is told that its answer does not fit, before its step fails."""
LONGEST = 60_000
"""Characters of a tool's result that a model is given."""
APPROVE, REFUSE = "approve", "refuse"
_ENDS = {
    "turns": "it had taken as many turns as its limits allow",
    "calls": "it had called tools as often as its limits allow",
    "tokens": "it had used as many tokens as its limits allow",
    "money": "it had spent as much money as its limits allow",
    "time": "it had worked as long as its limits allow",
    "no progress": "it did the same again and again",
}


@dataclass(slots=True)
class _Tally:
    """What an agent has used so far, worked out anew from the record at every walk."""

    turns: int = 0
    calls: int = 0
    errors: int = 0
    input: int = 0
    output: int = 0
    money: float = 0.0
    unpriced: int = 0
    seconds: float = 0.0
    repairs: int = 0
    words: list[str] = field(default_factory=list)
    seen: dict[str, list[str]] = field(default_factory=dict)
    sources: list[dict[str, Any]] = field(default_factory=list)

    def spend(self, entry: Entry) -> None:
        """Count a recorded attempt of a turn or of a call."""
        usage = (entry.body or {}).get("usage") or {}
        self.input += int(usage.get("input") or 0)
        self.output += int(usage.get("output") or 0)
        self.money = round(self.money + float(usage.get("money") or 0), 9)
        self.unpriced += unpriced(usage)
        if entry.started and entry.at:
            self.seconds += (entry.at - entry.started).total_seconds()

    def cite(self, sources: Sequence[dict[str, Any]]) -> None:
        """Keep sources, each address once."""
        known = {source.get("url") for source in self.sources}
        for source in sources:
            if source.get("url") not in known:
                known.add(source.get("url"))
                self.sources.append(source)


async def agent(walk: "Walk", node: Node, path: str, scope: Scope) -> Any:
    """Carry out an agent; what it gives (see `AgentResult` in the catalogue)."""
    closed = walk.journal.entries(f"{path}#end")
    if closed:
        return closed[0].body["value"]
    empty: list[str] = []
    given = walk.render(node, path, scope, empty)
    hash_ = values.digest(node.digest, values.dumps(given))
    if walk.recorded(path, hash_) is None:
        detail = {"kind": "agent", "input": given, **({"empty": sorted(set(empty))} if empty else {})}
        entry = Entry(
            path, "value", hash=hash_, body={"agent": given.get("model")}, detail=detail, at=walk.journal.now()
        )
        walk.journal.add(entry)
    opening = tool_node(node, "agent.open", f"{node.name}/open")
    setup = await effects.act(walk, opening, f"{path}/open", given, hash_, {"input": {"agent": node.name}})
    return await _Agent(walk, node, path, scope, setup).work(hash_)


class _Agent:
    """One agent at work. `setup` is what it was opened with: `messages`, `tools`, `model`, `limits`, `gives`, `memory`."""

    def __init__(self, walk: "Walk", node: Node, path: str, scope: Scope, setup: dict[str, Any]) -> None:
        self.walk, self.node, self.path, self.scope, self.setup = walk, node, path, scope, setup
        self.tools = {tool["name"]: tool for tool in setup["tools"]}
        self.limits = setup["limits"]
        self.purse = Purse(self.limits.get("money"), walk.purse, owner=path)
        self.messages: list[dict[str, Any]] = list(setup["messages"])
        self.tally = _Tally()
        self.text = ""
        self.hashed = 0

    async def work(self, chain: str) -> Any:
        """Turns until the model answers or a limit is reached; the result is recorded with what is remembered."""
        self._approvals()
        while True:
            over = self._over()
            if over and over != "calls":
                return await self._end(None, over)
            # With one turn or no call left, tools are kept back, so that the agent says what it has.
            last = "turns" if self.tools and self.tally.turns + 1 >= self.limits["turns"] else over
            chain = values.digest(chain, values.dumps(self.messages[self.hashed :]))
            self.hashed = len(self.messages)
            number = self.tally.turns
            try:
                reply = await self._turn(number, chain, bool(last))
            except StepFailed as failed:
                if failed.kind != "over_limit" or failed.limit != self.path:
                    raise
                return await self._end(None, "money")
            if reply["calls"]:
                over = last or await self._calls(number, reply["calls"], chain)
                if over:
                    return await self._end(None, over)
                continue
            data, wrong = self._answer(reply["text"])
            if not wrong:
                return await self._end(data, last or "done")
            if self._again(reply["text"]) or self.tally.repairs >= REPAIRS or last:
                raise StepFailed(
                    "wrong_shape",
                    f"{self.node.name} did not give what was asked for: {wrong}",
                    fix="simplify gives:, or take another model",
                    reached="yes",
                    step=self.path,
                )
            self.tally.repairs += 1
            self.messages.append(_unfit(wrong))

    # Turns

    async def _turn(self, number: int, chain: str, last: bool) -> dict[str, Any]:
        """One reply of the model: `{text, calls, reasoning, sources}`."""
        path = f"{self.path}/turn[{number}]"
        given = {
            "model": self.setup["model"]["name"],
            "settled": self.setup["model"],
            "messages": list(self.messages),
            "tools": [] if last else [_told(tool) for tool in self.setup["tools"]],
            "gives": self.setup.get("gives"),
        }
        node = tool_node(
            self.node, "agent.turn", f"{self.node.name}/turn", retry=self.node.retry, timeout=self.node.timeout
        )
        detail = {"input": {"messages": len(self.messages), **({"last": True} if last else {})}}
        reply = await effects.act(self.walk, node, path, given, chain, detail, self.purse)
        self._spent(path)
        self.tally.turns += 1
        self.tally.cite(reply.get("sources", []))
        self.messages.append(_as_message(reply))
        self.text = reply["text"] or self.text
        return reply

    def _answer(self, text: str) -> tuple[Any, str]:
        """The answer as data, and what is wrong with it."""
        schema = self.setup.get("gives")
        return (None, "") if schema is None else answer_in(text, schema)

    def _again(self, text: str) -> bool:
        """Whether the model has said the same before."""
        self.tally.words.append(text)
        return self.tally.words.count(text) >= SAME - 1

    def _over(self) -> str:
        """The limit that is reached, empty for none."""
        tally, limits = self.tally, self.limits
        used = {"calls": tally.calls, "tokens": tally.input + tally.output, "money": tally.money, "time": tally.seconds}
        return next(
            (name for name, so_far in used.items() if limits.get(name) is not None and so_far >= limits[name]), ""
        )

    # Calls

    async def _calls(self, number: int, calls: list[dict[str, Any]], chain: str) -> str:
        """The calls of a turn, side by side; what they gave becomes messages. Returns why the agent is to end."""
        base = f"{self.path}/turn[{number}]"
        closed = self.walk.journal.entries(f"{base}#end")
        signs = [values.digest(call["name"], call["text"]) for call in calls]
        if all(self._stuck(sign) for sign in signs):
            return "no progress"
        allowed = self.limits["calls"] - self.tally.calls
        self.tally.calls += min(len(calls), allowed)
        if closed:
            ended = closed[0].body
            self.purse.recall(ended["used"]["money"])
        else:
            results: list[dict[str, Any]] = [{} for _ in calls]

            async def one(index: int) -> None:
                call = calls[index]
                place = sum(1 for before in calls[:index] if before["name"] == call["name"])
                name = call["name"] if call["name"] in self.tools else "unknown"
                results[index] = await self._call(
                    f"{base}/{name}[{place if name != 'unknown' else index}]", call, chain
                )

            await self.walk.strands.together([one(index) for index in range(min(len(calls), allowed))])
            for index in range(allowed, len(calls)):
                results[index] = {"text": "this was not done: no more calls are allowed", "failed": True}
            used = {"input": 0, "output": 0, "money": 0.0, "unpriced": 0, "seconds": 0.0}
            for result in results:
                for name in used:
                    used[name] = round(used[name] + result.get("used", {}).get(name, 0), 9)
            body = {
                "results": [result["text"] for result in results],
                "failed": sum(bool(result.get("failed")) for result in results),
                "sources": [source for result in results for source in result.get("sources", [])],
                "used": used,
            }
            ended = self.walk.journal.add(Entry(f"{base}#end", "closed", body=body, at=self.walk.journal.now()))
        self.tally.errors += ended["failed"]
        self.tally.input += ended["used"]["input"]
        self.tally.output += ended["used"]["output"]
        self.tally.money = round(self.tally.money + ended["used"]["money"], 9)
        self.tally.unpriced += ended["used"].get("unpriced", 0)
        self.tally.seconds += ended["used"]["seconds"]
        self.tally.cite(ended["sources"])
        for sign, text in zip(signs, ended["results"], strict=True):
            self.tally.seen.setdefault(sign, []).append(text)
        self.messages += _results(calls, ended["results"])
        return ""

    def _stuck(self, sign: str) -> bool:
        """Whether a call was made again and again and gave the same."""
        before = self.tally.seen.get(sign, [])[-(SAME - 1) :]
        return len(before) == SAME - 1 and len(set(before)) == 1

    async def _call(self, path: str, call: dict[str, Any], chain: str) -> dict[str, Any]:
        """One call: `{text}` as the model is told, with `failed`, `sources` and what was `used`."""
        tool = self.tools.get(call["name"])
        if tool is None:
            have = ", ".join(self.tools) or "none"
            return self._refused(path, call, f"there is no tool {call['name']}; there is {have}")
        arguments, wrong = _arguments(tool, call)
        if wrong:
            return self._refused(path, call, wrong)
        tried = [(path, tool)]
        tried += [(f"{path}.or{number}", other) for number, other in enumerate(tool["or"], 1)]
        paths = [here for here, _ in tried]
        try:
            asked = self._asks(tool, arguments)
            if asked:
                arguments, refusal = await self._approved(path, tool, arguments)
                if refusal:
                    return {"text": values.dumps({"refused": refusal}), "failed": True}
            output = await self._first_that_works(tried, arguments, chain, asked)
        except StepFailed as failed:
            if self.walk.cancelling:
                raise Cancelled from None
            await self.walk.withdraw(path)
            told = {"error": failed.message, "kind": failed.kind, **({"fix": failed.fix} if failed.fix else {})}
            return {"text": values.dumps(told), "failed": True, **self._used(paths)}
        found = output.get("sources") if isinstance(output, dict) else None
        sources = [s for s in found if isinstance(s, dict) and s.get("url")] if isinstance(found, list) else []
        return {"text": _shortened(output), "sources": sources, **self._used(paths)}

    async def _first_that_works(
        self, tried: list[tuple[str, dict[str, Any]]], arguments: dict[str, Any], chain: str, asked: bool
    ) -> Any:
        """What a tool gives, or one of those that stand in for it when it fails. Raises the last one's `StepFailed`."""
        for number, (path, tool) in enumerate(tried):
            try:
                if number and not asked and self._asks(tool, arguments, alone=True):
                    arguments, refusal = await self._approved(path, tool, arguments)
                    if refusal:
                        raise StepFailed("refused", f"{tool['name']}: {refusal}", step=path)
                return await self._use(path, tool, arguments, chain)
            except StepFailed:
                if self.walk.cancelling or number == len(tried) - 1:
                    raise
        raise AssertionError("a tool is tried at least")

    def _used(self, paths: list[str]) -> dict[str, Any]:
        """What a call used, as its entries tell."""
        found = _Tally()
        for path in paths:
            for entry in (*self.walk.journal.entries(path), *self.walk.journal.entries(f"{path}#end")):
                if entry.kind in ("ended", "lost", "value") and isinstance(entry.body, dict):
                    found.spend(entry)
        return {
            "used": {
                "input": found.input,
                "output": found.output,
                "money": found.money,
                "unpriced": found.unpriced,
                "seconds": found.seconds,
            }
        }

    async def _use(self, path: str, tool: dict[str, Any], arguments: dict[str, Any], chain: str) -> Any:
        """Carry out what a tool stands for."""
        walk = self.walk
        given = placed(tool, arguments)
        hash_ = values.digest(chain, tool["kind"], values.dumps(given))
        if tool["kind"] == "run":
            asked = {"workflow": tool["run"], "input": given}
            shown = {"input": given, "arguments": arguments}
            result = await waiting.child(walk, path, hash_, asked, tool["name"], self.purse, shown)
            return _said(result) if tool["agent"] else result
        if tool["kind"] == "ask":
            return await self._ask(path, hash_, tool, given)
        if tool["kind"] == "fact":
            return await self._fact(path, hash_, given)
        node = tool_node(self.node, tool["do"], f"{self.node.name}/{tool['name']}")
        return await effects.act(walk, node, path, given, hash_, {"input": given, "arguments": arguments}, self.purse)

    async def _fact(self, path: str, hash_: str, given: dict[str, Any]) -> Any:
        """Keep something of the conversation."""
        recorded = self.walk.recorded(path, hash_)
        if recorded is None:
            self.walk.go_on()
            now = self.walk.journal.now()
            entry = Entry(path, "ended", 1, hash_, {}, {"input": given, "arguments": given}, now, now)
            fact = KeepFact(self.setup["memory"]["conversation"], str(given["name"]), str(given["value"]))
            recorded = await self.walk.journal.commit(entry, fact)
        return recorded["output"]

    def _refused(self, path: str, call: dict[str, Any], wrong: str) -> dict[str, Any]:
        """A call that cannot be made; the model is told why."""
        if not self.walk.journal.entries(path):
            error = StepFailed("invalid", f"{call['name']}: {wrong}", step=path).as_data()
            body, detail = {"error": error}, {"input": call["text"]}
            self.walk.journal.add(Entry(path, "ended", 1, "", body, detail, at=self.walk.journal.now()))
        return {"text": values.dumps({"error": wrong}), "failed": True}

    # People

    async def _approved(self, path: str, tool: dict[str, Any], arguments: dict[str, Any]) -> tuple[dict[str, Any], str]:
        """The arguments a person approves, who may have changed them; and why it is refused, else empty."""
        here = f"{path}#approval"
        said = await self._question(
            here,
            {
                "text": f"{self.node.name} wants to call {tool['name']}: {tool['title']}.",
                "choices": [APPROVE, REFUSE],
                "form": {**tool["parameters"], "default": arguments},
                "input": {"tool": tool["name"], "arguments": arguments, "with": placed(tool, arguments)},
            },
        )
        if said["choice"] != APPROVE:
            return arguments, said.get("text") or "a person does not want this"
        return said["data"] if isinstance(said.get("data"), dict) else arguments, ""

    def _approvals(self) -> None:
        """Names of what must be approved that name nothing are a mistake, and not passed over."""
        named = self.node.fixed["named"]
        if not named.constant or not isinstance(named.raw, list):
            return
        known = {name for tool in self.tools.values() for one in (tool, *tool["or"]) for name in _names(one)}
        for name in named.raw:
            if name not in known:
                have = ", ".join(sorted(known)) or "nothing"
                message = f"{self.node.name}: approve names {name}, and it can call {have}"
                raise StepFailed("invalid", message, fix="correct approve:", step=self.path)

    def _asks(self, tool: dict[str, Any], arguments: dict[str, Any], alone: bool = False) -> bool:
        """Whether a person is asked before a call; `alone` of one that stands in for another that did not have to be."""
        if tool["kind"] == "fact":
            return False
        scope = {**self.scope, "arguments": arguments}
        when = False if alone else self.node.fixed["approve"][tool["index"]]
        if when is True or (when and self.walk.value(when, scope)):
            return True
        told = {"name": tool["name"], "action": tool.get("do") or ""}
        named = self.walk.value(self.node.fixed["named"], {**scope, "tool": told})
        if named is None or isinstance(named, bool):
            return bool(named)
        names = [named] if isinstance(named, str) else named
        if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
            raise StepFailed(
                "invalid", f"{self.node.name}: approve gives neither names nor true or false", fix="correct approve:"
            )
        return bool(set(names) & set(_names(tool)))

    async def _ask(self, path: str, hash_: str, tool: dict[str, Any], given: dict[str, Any]) -> Any:
        """A question to a person as a tool."""
        question = {"text": f"{self.node.name} asks {tool['whom']}: {given['question']}", "choices": tool["choices"]}
        said = await self._question(path, {**question, "form": None, "input": {"tool": tool["name"]}}, hash_)
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

    # The end

    def _spent(self, path: str) -> None:
        for entry in self.walk.journal.entries(path):
            if entry.kind in ("ended", "lost"):
                self.tally.spend(entry)

    async def _end(self, data: Any, ended: str) -> Any:
        tally = self.tally
        value = {
            "text": self.text,
            "data": data,
            "sources": tally.sources,
            "turns": tally.turns,
            "calls": tally.calls,
            "tokens": tally.input + tally.output,
            "money": None if tally.unpriced else tally.money,
            "ended": ended,
        }
        if ended != "done":
            value["why"] = f"{self.node.name} was ended: {_ENDS[ended]}"
        body = {"value": value, "errors": tally.errors}
        entry = Entry(f"{self.path}#end", "closed", body=body, at=self.walk.journal.now())
        memory = self.setup.get("memory")
        if memory is None:
            return self.walk.journal.add(entry)["value"]
        said = whole([_kept(m) for m in self.messages[self.setup["new"] :] if m["role"] != "system"])
        kept = Remember(memory["conversation"], said, self.setup.get("summary"))
        return (await self.walk.journal.commit(entry, kept))["value"]


def _names(tool: dict[str, Any]) -> list[str]:
    """The names under which a document may mean a tool."""
    return tool.get("names") or [name for name in (tool["name"], tool.get("do"), tool.get("run")) if name]


def placed(tool: dict[str, Any], arguments: dict[str, Any]) -> Any:
    """A tool's input: what is fixed (`with`), and what the model gave in the places that are open to it (`places`,
    each argument's path). Without places the arguments stand beside what is fixed,
    which they never replace."""
    if tool["places"] is None:
        into = tool.get("into")
        return {**tool["with"], into: {**arguments, **tool["with"][into]}} if into else {**arguments, **tool["with"]}
    given = copy.deepcopy(tool["with"])
    for name, path in tool["places"].items():
        if name in arguments:
            here = given
            for key in path[:-1]:
                here = here[key]
            here[path[-1]] = arguments[name]
    return given


def _said(result: Any) -> Any:
    """What another agent answered, without what it used."""
    if not isinstance(result, dict) or "text" not in result:
        return result
    told = {"answer": result["text"] if result.get("data") is None else result["data"]}
    return {**told, **{name: result[name] for name in ("sources", "why") if result.get(name)}}


def sent(bodies: dict[str, Any], agent: str, turn: str) -> dict[str, Any] | None:
    """`{messages, tools, gives}` of a turn as they were sent, from the bodies of what is recorded by path; None when
    that is no turn of the agent. What each turn was sent is not recorded anew: it follows from what came before."""
    opened = bodies.get(f"{agent}/open")
    if opened is None or "output" not in opened or not turn.startswith(f"{agent}/turn["):
        return None
    setup, number = opened["output"], int(turn[turn.rindex("[") + 1 : -1])
    messages = list(setup["messages"])
    for before in range(number):
        said = bodies.get(f"{agent}/turn[{before}]", {}).get("output")
        if said is None:
            return None
        messages.append(_as_message(said))
        given = bodies.get(f"{agent}/turn[{before}]#end")
        if given is not None:
            messages += _results(said["calls"], given["results"])
        elif setup.get("gives") is not None and not said["calls"]:
            messages.append(_unfit(answer_in(said["text"], setup["gives"])[1]))
    return {"messages": messages, "tools": [_told(tool) for tool in setup["tools"]], "gives": setup.get("gives")}


def _unfit(wrong: str) -> dict[str, Any]:
    return {"role": "user", "content": f"That does not fit: {wrong}. Answer with JSON alone that fits the schema."}


def _as_message(reply: dict[str, Any]) -> dict[str, Any]:
    """A reply as it is sent back with the next turn."""
    message: dict[str, Any] = {"role": "assistant", "content": reply["text"]}
    if reply["calls"]:
        message["tool_calls"] = [
            {"id": call["id"], "type": "function", "function": {"name": call["name"], "arguments": call["text"]}}
            for call in reply["calls"]
        ]
    return message


def _kept(message: dict[str, Any]) -> dict[str, Any]:
    """A message as a conversation keeps it: of pictures and files, that there were some."""
    parts = message["content"]
    if not isinstance(parts, list):
        return message
    texts = [part["text"] for part in parts if part.get("type") == "text"]
    others = len(parts) - len(texts)
    noted = [f"({others} {'files were' if others > 1 else 'file was'} shown)"] if others else []
    return {**message, "content": "\n\n".join([*texts, *noted])}


def _results(calls: list[dict[str, Any]], results: list[str]) -> list[dict[str, Any]]:
    return [
        {"role": "tool", "tool_call_id": call["id"], "content": text} for call, text in zip(calls, results, strict=True)
    ]


def _told(tool: dict[str, Any]) -> dict[str, Any]:
    """A tool as the model sees it."""
    return {name: tool[name] for name in ("name", "description", "parameters")}


def _arguments(tool: dict[str, Any], call: dict[str, Any]) -> tuple[dict[str, Any], str]:
    """The arguments of a call, and what is wrong with them."""
    try:
        arguments = values.loads(call["text"] or "{}")
    except values.NotJson as error:
        return {}, f"the arguments are not JSON ({error})"
    if not isinstance(arguments, dict):
        return {}, "the arguments are no JSON object"
    return arguments, fault(tool["parameters"], arguments)


def _shortened(output: Any) -> str:
    text = output if isinstance(output, str) else values.dumps(output)
    return text if len(text) <= LONGEST else f"{text[:LONGEST]}… (cut; {len(text):,} characters in all)"
