"""An agent: a model that is asked turn by turn, and tools that are called for it, around the journal.

Under the agent's path stand `/open` (what it was set up with, settled at its first use in the run), `/turn[n]` (one
reply of the model), `/turn[n]/tool[k]` (one call of a tool) and `/turn[n]#end` (what all calls of a turn gave, which
closes it). Each is an effect of its own, so that a walk that goes on after a crash repeats none that is recorded.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field

from oak_relay.agents import AgentSetup, Turn
from oak_relay.changes import Remember
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.shapes import answer_in
from oak_relay.engine import effects, word
from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import Scope
from oak_relay.engine.paths import turn_of
from oak_relay.engine.plan import Node, tool_node
from oak_relay.engine.purse import Purse
from oak_relay.engine.tools import Called, Toolbox, TurnEnd, Used
from oak_relay.engine.transcript import NOT_ALLOWED, as_message, kept, results, unfit, whole
from oak_relay.engine.walking import Walking
from oak_relay.messages import Message, Source, Wanted

SAME = 3
"""So many times the same calls, or the same words, and an agent makes no progress."""
REPAIRS = 2
"""How often a model is told that its answer does not fit, before its step fails."""
_ENDS = {
    "turns": "it had taken as many turns as its limits allow",
    "calls": "it had called tools as often as its limits allow",
    "tokens": "it had used as many tokens as its limits allow",
    "money": "it had spent as much money as its limits allow",
    "time": "it had worked as long as its limits allow",
    "no progress": "it did the same again and again",
}


_REMEDIES = {
    "no progress": "see which call it repeats in the trace, and say in the brief what to do instead, or say ended: keep"
}


@dataclass(slots=True)
class _Tally:
    """What an agent has done so far, worked out anew from the record at every walk."""

    turns: int = 0
    calls: int = 0
    errors: int = 0
    repairs: int = 0
    used: Used = field(default_factory=Used)
    words: list[str] = field(default_factory=list)
    seen: dict[str, list[str]] = field(default_factory=dict)
    sources: list[Source] = field(default_factory=list)

    def cite(self, sources: Sequence[Source]) -> None:
        """Keep sources, each address once."""
        known = {source.get("url") for source in self.sources}
        for source in sources:
            if source.get("url") not in known:
                known.add(source.get("url"))
                self.sources.append(source)


async def agent(walk: Walking, node: Node, path: str, scope: Scope) -> object:
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
    return await _Agent(walk, node, path, scope, AgentSetup.read(setup)).work(hash_)


class _Agent:
    """One agent at work."""

    def __init__(self, walk: Walking, node: Node, path: str, scope: Scope, setup: AgentSetup) -> None:
        self.walk, self.node, self.path, self.setup = walk, node, path, setup
        self.limits = setup.limits
        self.purse = Purse(self.limits.money, walk.purse, owner=path)
        self.tools = Toolbox(walk, node, path, scope, setup, self.purse)
        self.offered = [tool.offered for tool in setup.tools]
        self.asking = tool_node(node, "agent.turn", f"{node.name}/turn", retry=node.retry, timeout=node.timeout)
        self.messages: list[Message] = list(setup.messages)
        self.tally = _Tally()
        self.text = ""
        self.hashed = 0

    async def work(self, chain: str) -> object:
        """Turns until the model answers or a limit is reached; the result is recorded with what is remembered."""
        self.tools.check_approvals()
        while True:
            over = self._over()
            if over and over != "calls":
                return await self._unanswered(over)
            # With one turn or no call left, tools are kept back, so that the agent says what it has.
            last = "turns" if self.offered and self.tally.turns + 1 >= self.limits.turns else over
            chain = values.digest(chain, values.dumps(self.messages[self.hashed :]))
            self.hashed = len(self.messages)
            number = self.tally.turns
            try:
                reply = await self._turn(number, chain, bool(last))
            except StepFailed as failed:
                if failed.kind != "over_limit" or failed.limit != self.path:
                    raise
                return await self._unanswered("money")
            if reply.calls:
                over = last or await self._calls(number, reply.calls, chain)
                if over:
                    return await self._unanswered(over)
                continue
            data, wrong = self._answer(reply.text)
            if not wrong:
                return await self._end(data, last or "done")
            if self._again(reply.text) or self.tally.repairs >= REPAIRS or last:
                raise StepFailed(
                    "wrong_shape",
                    f"{self.node.name} did not give what was asked for: {wrong}",
                    fix="simplify gives:, or take another model",
                    reached="yes",
                    step=self.path,
                )
            self.tally.repairs += 1
            self.messages.append(unfit(wrong))

    # Turns

    async def _turn(self, number: int, chain: str, last: bool) -> Turn:
        """One reply of the model."""
        path = turn_of(self.path, number)
        given = {
            "model": self.setup.model["name"],
            "settled": self.setup.model,
            "messages": list(self.messages),
            "tools": [] if last else self.offered,
            "gives": self.setup.gives,
        }
        detail = {"input": {"messages": len(self.messages), **({"last": True} if last else {})}}
        reply = Turn.read(await effects.act(self.walk, self.asking, path, given, chain, detail, self.purse))
        for entry in self.walk.journal.entries(path):
            if entry.kind in ("ended", "lost"):
                self.tally.used.spend(entry)
        self.tally.turns += 1
        self.tally.cite(reply.sources)
        self.messages.append(as_message(reply))
        self.text = reply.text or self.text
        return reply

    def _answer(self, text: str) -> tuple[object, str]:
        """The answer as data, and what is wrong with it."""
        schema = self.setup.gives
        return (None, "") if schema is None else answer_in(text, schema)

    def _again(self, text: str) -> bool:
        """Whether the model has said the same before."""
        self.tally.words.append(text)
        return self.tally.words.count(text) >= SAME - 1

    def _over(self) -> str:
        """The limit that is reached, empty for none."""
        used, limits = self.tally.used, self.limits
        reached = (
            ("calls", self.tally.calls, limits.calls),
            ("tokens", used.input + used.output, limits.tokens),
            ("money", used.money, limits.money),
            ("time", used.seconds, limits.time),
        )
        return next((name for name, so_far, limit in reached if limit is not None and so_far >= limit), "")

    # Calls

    async def _calls(self, number: int, calls: Sequence[Wanted], chain: str) -> str:
        """The calls of a turn, side by side; what they gave becomes messages. Returns why the agent is to end."""
        base = turn_of(self.path, number)
        closed = self.walk.journal.entries(f"{base}#end")
        signs = [values.digest(call["name"], call["text"]) for call in calls]
        if all(self._stuck(sign) for sign in signs):
            return "no progress"
        allowed = self.limits.calls - self.tally.calls
        self.tally.calls += min(len(calls), allowed)
        if closed:
            ended = TurnEnd.read(closed[0].body)
            self.purse.recall(ended.used.money)
        else:
            ended = await self._called(base, calls, allowed, chain)
        self.tally.errors += ended.failed
        self.tally.used.add(ended.used)
        self.tally.cite(ended.sources)
        for sign, text in zip(signs, ended.results, strict=True):
            self.tally.seen.setdefault(sign, []).append(text)
        self.messages += results(calls, ended.results)
        return ""

    async def _called(self, base: str, calls: Sequence[Wanted], allowed: int, chain: str) -> TurnEnd:
        """Carry out the calls that are allowed; what all of them gave closes the turn."""
        given: dict[int, Called] = {}

        async def one(index: int) -> None:
            call = calls[index]
            known = call["name"] in self.tools.tools
            place = sum(1 for before in calls[:index] if before["name"] == call["name"]) if known else index
            path = f"{base}/{call['name'] if known else 'unknown'}[{place}]"
            given[index] = await self.tools.call(path, call, chain)

        await self.walk.strands.together([one(index) for index in range(min(len(calls), allowed))])
        for index in range(allowed, len(calls)):
            given[index] = Called(NOT_ALLOWED, failed=True)
        ended = TurnEnd.of([given[index] for index in range(len(calls))])
        entry = Entry(f"{base}#end", "closed", body=ended.as_data(), at=self.walk.journal.now())
        return TurnEnd.read(self.walk.journal.add(entry))

    def _stuck(self, sign: str) -> bool:
        """Whether a call was made again and again and gave the same."""
        before = self.tally.seen.get(sign, [])[-(SAME - 1) :]
        return len(before) == SAME - 1 and len(set(before)) == 1

    # The end

    async def _unanswered(self, ended: str) -> object:
        """The end without an answer: the step fails, unless the document says that what there is is kept."""
        if self.setup.keeps:
            return await self._end(None, ended)
        raise StepFailed(
            "no_progress" if ended == "no progress" else "over_limit",
            f"{self.node.name} was ended without an answer: {_ENDS[ended]}",
            fix=_REMEDIES.get(ended, f"raise limits: {ended}:, ask for less, or say ended: keep"),
            reached="yes",
            step=self.path,
            limit=self.path,
        )

    async def _unkept(self, data: object) -> list[word.Unkept]:
        """What the answer claims and no call did; it is told with the run. Raises `StepFailed` where the document says so."""
        said = word.words(self.text, data)
        found = await word.unkept(self.walk, self.node, self.path, self.setup, said, self.messages, self.purse)
        if found:
            first = found[0]
            told = f"{self.node.name} says “{first.sentence[:200]}”, and no call of {first.tool} succeeded"
            if self.setup.stops:
                raise StepFailed(
                    "unkept",
                    told,
                    fix="see in the trace what it called, or say in the brief what it may promise",
                    reached="yes",
                    step=self.path,
                )
            self.walk.remark(self.path, told)
        return found

    async def _end(self, data: object, ended: str) -> object:
        tally = self.tally
        unkept = await self._unkept(data)
        value = {
            "text": self.text,
            "data": data,
            "sources": tally.sources,
            "turns": tally.turns,
            "calls": tally.calls,
            "tokens": tally.used.input + tally.used.output,
            "money": None if tally.used.unpriced else tally.used.money,
            "ended": ended,
            "unkept": [one.as_data() for one in unkept],
        }
        if ended != "done":
            value["why"] = f"{self.node.name} was ended: {_ENDS[ended]}"
            self.walk.remark(self.path, str(value["why"]))
        body = {"value": value, "errors": tally.errors}
        entry = Entry(f"{self.path}#end", "closed", body=body, at=self.walk.journal.now())
        if self.setup.conversation is None:
            return self.walk.journal.add(entry)["value"]
        said = whole([kept(m) for m in self.messages[self.setup.new :] if m["role"] != "system"])
        remembered = Remember(self.setup.conversation, said, self.setup.summary)
        return (await self.walk.journal.commit(entry, remembered))["value"]
