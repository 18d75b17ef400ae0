"""Agents in the engine alone: a scripted model, tools that are plain functions, kills at every write."""

import json
from collections import Counter
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.actions.catalogue import offer
from oak_relay.agents import AgentTool
from oak_relay.capabilities.alias import Alias
from oak_relay.changes import AskPerson, KeepFact, Remember, StartRun
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.models import Workflow
from oak_relay.document.schemas import validator
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import Finished, Rested, Start
from oak_relay.engine.paths import EntryPath
from oak_relay.engine.plan import compile_plan
from oak_relay.engine.protocols import Manner, Outcome
from oak_relay.engine.trace import spans
from oak_relay.engine.transcript import sent
from oak_relay.engine.walk import Walk
from oak_relay.usage import Usage


class Killed(BaseException):
    """The worker is gone."""


def calls(*given: tuple[str, Any], text: str = "") -> dict[str, Any]:
    """A reply that calls tools."""
    made = [
        {"id": f"c{n}", "name": name, "text": arguments if isinstance(arguments, str) else values.dumps(arguments)}
        for n, (name, arguments) in enumerate(given)
    ]
    return {"text": text, "calls": made, "reasoning": "", "sources": []}


def says(text: Any) -> dict[str, Any]:
    """A reply that answers."""
    return {**calls(), "text": text if isinstance(text, str) else values.dumps(text)}


def tool(name: str, index: int = 0, **more: Any) -> dict[str, Any]:
    """A tool as `agent.open` gives it; its one argument is `q`."""
    parameters = {
        "type": "object",
        "required": ["q"],
        "properties": {"q": {"type": "string"}},
        "additionalProperties": False,
    }
    return {"name": name, "title": name, "description": name, "parameters": parameters, "places": {"q": ["q"]}, "with": {"fixed": name},
            "kind": "do", "do": f"test.{name}", "index": index, "or": [], "agent": False, **more}  # fmt: skip


class Outside:
    """What the model says turn by turn, what tools give, and how often each was asked."""

    def __init__(self, script: list[Any], tools: list[dict[str, Any]], **setup: Any) -> None:
        self.script, self.tools = script, tools
        self.setup = {"limits": {"turns": 12, "calls": 30}, "gives": None, "memory": None, **setup}
        self.asked: Counter[str] = Counter()
        self.failing: dict[str, StepFailed] = {}
        self.sent: list[list[dict[str, Any]]] = []
        self.inputs: list[dict[str, Any]] = []
        self.applied: list[Any] = []

    def apply(self, effect: Any) -> Any:
        self.applied.append(effect)
        return {AskPerson: {"question": "q"}, StartRun: {"run": "r"}, KeepFact: {"kept": "it"}}.get(type(effect), {})


class Executor:
    """Performs what the outside says; a kill falls behind a reply when it is asked to."""

    def __init__(self, outside: Outside, kill_behind: int = -1) -> None:
        self.outside, self.kill_behind, self.done = outside, kill_behind, 0

    def manner(self, action: str, given: dict[str, Any]) -> Manner:
        return Manner(
            "unsafe" if action == "test.unsafe" else "safe", "read" if action == "agent.open" else "outside", 5
        )

    def link(self, question):
        return f"https://huts.example/answer/{question}"

    async def admit(self, call: Any) -> float:
        return 0.0

    async def worst(self, call: Any) -> float:
        return 0.0

    async def happened(self, call: Any) -> None:
        return None

    async def change(self, call: Any) -> Any:
        raise AssertionError

    async def perform(self, call: Any) -> Outcome:
        out = self.outside
        out.asked[f"{call.action} {call.path}"] += 1
        if call.action == "agent.open":
            messages = [{"role": "system", "content": "s"}, {"role": "user", "content": call.input["prompt"]}]
            return Outcome({**out.setup, "messages": messages, "new": 1, "tools": out.tools, "model": {"name": "m"}})
        if call.action == "agent.turn":
            out.sent.append(call.input["messages"])
            number = sum(m["role"] == "assistant" for m in call.input["messages"])
            reply = out.script[min(number, len(out.script) - 1)]
            outcome = Outcome(reply, usage=Usage(10, output=5, money=0.004))
        else:
            out.inputs.append(call.input)
            if call.action in out.failing:
                raise out.failing[call.action]
            outcome = Outcome({"found": call.input.get("q")})
        self.done += 1
        if self.done == self.kill_behind:
            raise Killed
        return outcome


class Dying(MemoryJournal):
    """A journal whose worker dies at the n-th write from now on: before it, or behind it."""

    left = -1
    behind = True

    def _keep(self, entry: Any) -> None:
        if self.left == 0 and not self.behind:
            raise Killed
        super()._keep(entry)
        self.left -= 1
        if self.left == 0 and self.behind:
            raise Killed


DOC = """
oak: 1
workflow: w
steps:
  - step: found
    do: agent
    with: {model: m, prompt: "find it", tools: TOOLS, limits: {turns: 12}}
result: ${ found }
"""


def plan_of(tools: list[dict[str, Any]]):
    from oak_relay.document.text import read

    given = [{"do": one["do"], **({"approve": one["approve"]} if "approve" in one else {})} for one in tools]
    return compile_plan(Workflow.model_validate(read(DOC.replace("TOOLS", json.dumps(given))).data))


async def walked(outside: Outside, journal: MemoryJournal | None = None, kill_behind: int = -1) -> Any:
    journal = journal or MemoryJournal(outside.apply)
    walk = Walk(plan_of(outside.tools), journal, Executor(outside, kill_behind), Start("run", {"input": {}}))
    return await walk.walk()


SIX = [
    calls(("a", {"q": "1"}), ("b", {"q": "2"})),
    calls(("a", {"q": "3"})),
    calls(("a", {"q": "4"}), ("a", {"q": "5"}), ("b", {"q": "6"})),
    calls(("b", {"q": "7"})),
    calls(("a", {"q": "8"})),
    says("all found"),
]


async def test_six_turns_and_eight_calls():
    outside = Outside(SIX, [tool("a"), tool("b", 1)])
    outcome = await walked(outside)
    assert outcome.state == "succeeded", outcome.error
    assert outcome.result == {
        "text": "all found", "data": None, "sources": [], "turns": 6, "calls": 8, "tokens": 90, "money": 0.024, "ended": "done", "unkept": [],
    }  # fmt: skip
    assert [m["role"] for m in outside.sent[-1]] == ["system", "user", *["assistant", "tool", "tool"], *["assistant", "tool"],
                                                    *["assistant", "tool", "tool", "tool"], *["assistant", "tool"] * 2]  # fmt: skip
    assert outside.inputs[0] == {"fixed": "a", "q": "1"}


async def test_a_worker_killed_after_every_single_write_repeats_nothing():
    """The promise: the model's turns and the tools' calls are as many as without a kill."""
    plain = Outside(SIX, [tool("a"), tool("b", 1)])
    journal = MemoryJournal(plain.apply)
    expected = await walked(plain, journal)
    writes = len(journal.log)
    assert writes > 30
    for number in range(1, writes + 1):
        outside = Outside(SIX, [tool("a"), tool("b", 1)])
        first = Dying(outside.apply)
        first.left = number
        try:
            outcome: Any = await walked(outside, first)
        except Killed:
            outcome = await walked(outside, MemoryJournal(outside.apply, first.log))
        assert outcome == expected
        twice = {key.split()[1] for key, count in outside.asked.items() if count > 1}
        begun, ended = ({e.path for e in first.log if e.kind == kind} for kind in ("began", "ended"))
        assert twice <= begun - ended, "more than what was in flight was asked again"
        assert max(outside.asked.values()) <= 2


@pytest.mark.parametrize("place", range(1, 15))
async def test_killed_between_a_reply_and_its_record_one_call_more_at_most(place: int):
    """It is shown as possibly spent."""
    outside = Outside(SIX, [tool("a"), tool("b", 1)])
    journal = MemoryJournal(outside.apply)
    try:
        outcome: Any = await walked(outside, journal, kill_behind=place)
    except Killed:
        journal = MemoryJournal(outside.apply, journal.log)
        outcome = await walked(outside, journal)
        assert any(entry.kind == "lost" for entry in journal.log)
    assert outcome.result["text"] == "all found"
    ended = Counter(e.path for e in journal.log if e.kind == "ended")
    assert set(ended.values()) == {1}
    assert max(outside.asked.values()) <= 2


async def test_an_unsafe_tool_is_asked_about_and_not_repeated_silently():
    outside = Outside([calls(("unsafe", {"q": "1"})), says("done")], [tool("unsafe")])
    journal = MemoryJournal(outside.apply)
    with pytest.raises(Killed):
        await walked(outside, journal, kill_behind=2)
    journal = MemoryJournal(outside.apply, journal.log)
    assert isinstance(await walked(outside, journal), Rested)  # the lost call may still be under way
    journal.clock += timedelta(minutes=1)
    outcome = await walked(outside, journal)
    path = "found/turn[0]/unsafe[0]#unknown1"
    assert outcome.wakes == ((path, None),)
    journal.signals[path] = {"choice": "it happened", "data": {"found": "1"}, "by": "Ada"}
    outcome = await walked(outside, journal)
    assert outcome.result["text"] == "done"
    assert outside.asked["test.unsafe found/turn[0]/unsafe[0]"] == 1


async def test_the_same_call_again_and_again_is_recognised():
    failing = await walked(Outside([calls(("a", {"q": "same"}))], [tool("a")]))
    assert (failing.error["kind"], failing.error["step"]) == ("no_progress", "found")
    assert "it did the same again and again" in failing.error["message"]
    outside = Outside([calls(("a", {"q": "same"}))], [tool("a")], keeps=True)
    outcome = await walked(outside)
    assert outcome.result["ended"] == "no progress"
    assert outcome.note == "found was ended: it did the same again and again"
    assert outcome.result["why"] == "found was ended: it did the same again and again"
    assert outside.asked["test.a found/turn[2]/a[0]"] == 0
    assert len(outside.inputs) == 2


async def test_the_same_call_that_gives_something_else_is_progress():
    outside = Outside([calls(("a", {"q": "same"}))] * 5 + [says("ready")], [tool("a")])
    answers = iter("abcdefg")
    executor = Executor(outside)
    perform = executor.perform

    async def changing(call):
        outcome = await perform(call)
        return Outcome(next(answers)) if call.action == "test.a" else outcome

    executor.perform = changing  # type: ignore[method-assign]
    walk = Walk(plan_of(outside.tools), MemoryJournal(outside.apply), executor, Start("run", {"input": {}}))
    outcome = await walk.walk()
    assert isinstance(outcome, Finished)
    assert outcome.result["text"] == "ready"


async def test_limits_end_an_agent_with_what_it_has_and_say_which():
    never = [calls(("a", {"q": str(n)}), text=f"still looking {n}") for n in range(50)]
    limits = {"turns": 50, "calls": 99, "money": 0.01}
    failing = await walked(Outside(never, [tool("a")], limits=limits))
    assert (failing.error["kind"], failing.error["step"], failing.error["limit"]) == ("over_limit", "found", "found")
    assert failing.error["fix"].startswith("raise limits: money:")
    money = await walked(Outside(never, [tool("a")], limits=limits, keeps=True))
    assert (money.result["ended"], money.result["turns"]) == (
        "money",
        3,
    )  # three turns cost 0.012: the one that crosses it
    assert money.result["why"].endswith("as much money as its limits allow")
    assert money.result["text"] == "still looking 2"
    tokens = await walked(Outside(never, [tool("a")], limits={"turns": 50, "calls": 99, "tokens": 40}, keeps=True))
    assert (tokens.result["ended"], tokens.result["turns"]) == ("tokens", 3)
    turns = Outside(never, [tool("a")], limits={"turns": 4, "calls": 99}, keeps=True)
    outcome = await walked(turns)
    assert (outcome.result["ended"], outcome.result["turns"], outcome.result["calls"]) == ("turns", 4, 3)
    few = Outside([*never[:2], says("enough")], [tool("a")], limits={"turns": 9, "calls": 2})
    outcome = await walked(few)
    assert (outcome.result["ended"], outcome.result["text"], len(few.inputs)) == ("calls", "enough", 2)
    assert outcome.note == "found was ended: it had called tools as often as its limits allow"


async def test_wrong_arguments_unknown_tools_and_failing_ones_are_told_to_the_model():
    script = [
        calls(("a", {"z": 1})),
        calls(("a", "{no json")),
        calls(("nothing", {})),
        calls(("b", {"q": "x"})),
        says("gave up"),
    ]
    outside = Outside(script, [tool("a"), tool("b", 1)])
    outside.failing["test.b"] = StepFailed("missing", "no such hut", fix="ask for another", reached="yes")
    journal = MemoryJournal(outside.apply)
    outcome = await walked(outside, journal)
    assert outcome.result["text"] == "gave up"
    told = [json.loads(m["content"]) for m in outside.sent[-1] if m["role"] == "tool"]
    assert "q is missing" in told[0]["error"] or "z is not known here" in told[0]["error"]
    assert "not JSON" in told[1]["error"]
    assert told[2]["error"] == "there is no tool nothing; there is a, b"
    assert told[3] == {"error": "no such hut", "kind": "missing", "fix": "ask for another"}
    assert not [i for i in outside.inputs if i["fixed"] == "a"]
    assert journal.entries("found#end")[0].body["errors"] == 4


async def test_another_tool_stands_in_for_one_that_fails():
    outside = Outside([calls(("a", {"q": "x"})), says("ok")], [tool("a", **{"or": [tool("archive")]})])
    outside.failing["test.a"] = StepFailed("failed", "broken", reached="yes")
    outcome = await walked(outside)
    assert outcome.result["text"] == "ok"
    assert [i["fixed"] for i in outside.inputs] == ["a", "archive"]
    assert json.loads(outside.sent[-1][-1]["content"]) == {"found": "x"}


async def test_an_answer_that_does_not_fit_is_repaired_or_fails():
    schema = {"type": "object", "required": ["sum"], "properties": {"sum": {"type": "number"}}}
    outside = Outside([says("five"), says('```json\n{"sum": 5}\n```')], [], gives=schema)
    outcome = await walked(outside)
    assert outcome.result["data"] == {"sum": 5}
    assert "That does not fit" in outside.sent[-1][-1]["content"]
    stubborn = await walked(Outside([says("five")], [], gives=schema))
    assert stubborn.error["kind"] == "wrong_shape"


async def test_a_call_waits_for_approval_and_the_edited_one_is_made():
    outside = Outside([calls(("a", {"q": "all guests"})), says("sent")], [tool("a", approve=True)])
    journal = MemoryJournal(outside.apply)
    outcome = await walked(outside, journal)
    path = "found/turn[0]/a[0]#approval"
    assert outcome.wakes == ((path, None),)
    question = next(e for e in outside.applied if isinstance(e, AskPerson))
    assert question.choices == ["approve", "refuse"]
    assert question.input["arguments"] == {"q": "all guests"}
    journal.signals[path] = {"choice": "approve", "data": {"q": "one guest"}, "by": "Ada"}
    outcome = await walked(outside, journal)
    assert outcome.result["text"] == "sent"
    assert outside.inputs == [{"fixed": "a", "q": "one guest"}]
    assert journal.entries(f"{path}#end")[0].body["by"] == "Ada"


async def test_a_refused_call_is_not_made_and_the_model_is_told_why():
    outside = Outside([calls(("a", {"q": "x"})), says("I will not")], [tool("a", approve="${ arguments.q == 'x' }")])
    journal = MemoryJournal(outside.apply)
    await walked(outside, journal)
    journal.signals["found/turn[0]/a[0]#approval"] = {"choice": "refuse", "text": "too many", "by": "Ada"}
    outcome = await walked(outside, journal)
    assert outcome.result["text"] == "I will not"
    assert outside.inputs == []
    assert json.loads(outside.sent[-1][-1]["content"]) == {"refused": "too many"}


async def test_what_is_approved_when_an_expression_holds_goes_through_when_not():
    outside = Outside([calls(("a", {"q": "y"})), says("ok")], [tool("a", approve="${ arguments.q == 'x' }")])
    assert (await walked(outside)).result["text"] == "ok"


async def test_what_was_said_is_remembered_with_the_end():
    outside = Outside([calls(("a", {"q": "x"})), says("ok")], [tool("a")], memory={"conversation": "k"})
    await walked(outside)
    [kept] = [e for e in outside.applied if isinstance(e, Remember)]
    assert kept.conversation == "k"
    assert [m["role"] for m in kept.messages] == ["user", "assistant", "tool", "assistant"]


async def test_a_workflow_as_a_tool_is_a_child_run():
    child = tool("bunks", kind="run", run="bunk-availability", **{"with": {}, "agent": True})
    outside = Outside(
        [calls(("bunks", {"q": "x"})), says("ok")], [child], limits={"turns": 5, "calls": 5, "money": 0.1}
    )
    journal = MemoryJournal(outside.apply)
    outcome = await walked(outside, journal)
    path = "found/turn[0]/bunks[0]"
    assert outcome.wakes == ((path, None),)
    started = next(e for e in outside.applied if isinstance(e, StartRun))
    assert (started.workflow, started.input, started.money) == ("bunk-availability", {"q": "x"}, pytest.approx(0.096))
    journal.signals[path] = {"state": "succeeded", "result": {"text": "two left", "data": None, "sources": []},
                             "usage": {"input": 7, "output": 1, "money": 0.05}}  # fmt: skip
    outcome = await walked(outside, journal)
    assert json.loads(outside.sent[-1][-1]["content"]) == {"answer": "two left"}
    assert (outcome.result["money"], outcome.result["tokens"]) == (0.058, 38)


async def test_an_agent_is_told_as_a_tree():
    outside = Outside([*SIX[:2], calls(("a", {"z": 1})), says("ok")], [tool("a"), tool("b", 1)])
    journal = MemoryJournal(outside.apply)
    await walked(outside, journal)
    told = {span.path: span for span in spans(journal.log, True)}
    assert [(s.path, s.kind, s.state) for s in told.values()] == [
        ("found", "step", "succeeded"),
        ("found/open", "open", "succeeded"),
        ("found/turn[0]", "turn", "succeeded"),
        ("found/turn[0]/a[0]", "call", "succeeded"),
        ("found/turn[0]/b[0]", "call", "succeeded"),
        ("found/turn[1]", "turn", "succeeded"),
        ("found/turn[1]/a[0]", "call", "succeeded"),
        ("found/turn[2]", "turn", "succeeded"),
        ("found/turn[2]/a[0]", "call", "failed"),
        ("found/turn[3]", "turn", "succeeded"),
    ]
    assert (told["found"].tokens, told["found"].money) == (60, 0.016)
    assert told["found"].output["text"] == "ok"
    assert EntryPath("found/turn[0]/a[0]").parent == "found/turn[0]"
    assert EntryPath("found/turn[0]/a[0].or1").parent == "found/turn[0]/a[0]"
    assert EntryPath("each[3].found/turn[0]").parent == "each[3].found"


async def test_a_person_is_asked_as_a_tool():
    person = tool("ask", kind="ask", whom="a warden", choices=None, places={"question": ["question"]}, **{"with": {}})
    person["parameters"] = {"type": "object", "required": ["question"], "properties": {"question": {"type": "string"}}}
    outside = Outside([calls(("ask", {"question": "Is the spring dry?"})), says("it is")], [person])
    journal = MemoryJournal(outside.apply)
    outcome = await walked(outside, journal)
    path = "found/turn[0]/ask[0]"
    assert outcome.wakes == ((path, None),)
    assert outside.applied[-1].text == "found asks a warden: Is the spring dry?"
    journal.signals[path] = {"choice": None, "text": "since Monday", "by": "Ewa"}
    assert (await walked(outside, journal)).result["text"] == "it is"
    assert json.loads(outside.sent[-1][-1]["content"]) == {"choice": None, "text": "since Monday", "by": "Ewa"}


async def test_a_tool_that_takes_too_long_is_told_as_such():
    outside = Outside([calls(("a", {"q": "x"})), says("no luck")], [tool("a")])
    outside.failing["test.a"] = StepFailed(
        "timeout", "test.a gave no answer within 5 s", fix="raise the step's timeout", reached="maybe"
    )
    journal = MemoryJournal(outside.apply)
    outcome = await walked(outside, journal)
    assert outcome.result["text"] == "no luck"
    assert json.loads(outside.sent[-1][-1]["content"])["kind"] == "timeout"
    assert len([e for e in journal.log if e.path == "found/turn[0]/a[0]" and e.kind == "ended"]) == 3  # tried as usual


async def test_what_a_turn_was_sent_follows_from_the_record():
    schema = {"type": "object", "required": ["sum"], "properties": {"sum": {"type": "number"}}}
    outside = Outside([*SIX[:2], says("none"), says({"sum": 3})], [tool("a"), tool("b", 1)], gives=schema)
    journal = MemoryJournal(outside.apply)
    await walked(outside, journal)
    bodies = {e.path: e.body for e in journal.log if e.kind in ("ended", "closed")}
    for number, messages in enumerate(outside.sent):
        told = sent(bodies, "found", f"found/turn[{number}]")
        assert told is not None
        assert told["messages"] == messages
        assert [t["name"] for t in told["tools"]] == ["a", "b"]
    assert sent(bodies, "found", "found/turn[9]") is None
    assert sent(bodies, "other", "other/turn[0]") is None


def placed(said: dict[str, Any], arguments: dict[str, Any]) -> dict[str, Any]:
    return AgentTool.read({**tool("t"), **said}).placed(arguments)


@given(st.dictionaries(st.sampled_from(["a", "b", "c"]), st.integers(), max_size=3))
def test_arguments_stand_where_fields_were_open(arguments: dict[str, int]):
    fixed = {"x": {"deep": [1, {}]}, "y": 2}
    made = placed({"with": fixed, "places": {"a": ["x", "deep", 1, "a"], "b": ["z"], "c": ["x", "c"]}}, arguments)
    assert made["y"] == 2
    assert made["x"]["deep"][1] == ({"a": arguments["a"]} if "a" in arguments else {})
    assert made.get("z") == arguments.get("b")
    assert made["x"].get("c") == arguments.get("c")
    assert fixed == {"x": {"deep": [1, {}]}, "y": 2}
    assert placed({"with": {"server": "s", "arguments": {"k": 1}}, "places": None, "into": "arguments"}, arguments)[
        "arguments"
    ] == {"k": 1, **arguments}


def test_what_is_fixed_is_never_replaced_by_a_model():
    server = {"with": {"server": "s", "arguments": {"hut": "Glasswater"}}, "places": None, "into": "arguments"}
    made = placed(server, {"hut": "Nowhere", "server": "other", "days": 2})
    assert made == {"server": "s", "arguments": {"hut": "Glasswater", "server": "other", "days": 2}}
    assert placed({"with": {"credential": "a"}, "places": None}, {"credential": "b", "q": 1}) == {
        "credential": "a",
        "q": 1,
    }


async def test_an_action_without_with_is_open_but_for_its_credential():
    class At:
        async def model(self, name: str) -> Alias:
            return Alias(url="https://models.example/v1", model="m")

        def now(self) -> datetime:
            return datetime(2031, 4, 5, 6, 0, tzinfo=UTC)

        def action(self, name: str) -> Any:
            return offer().catalogue.get(name)

    opened = offer().catalogue.get("agent.open")
    given = opened.read({"model": "m", "prompt": "p", "zone": "Europe/Zurich", "tools": [{"do": "http.request"}]})
    setup = (await opened.perform(given, At())).output
    [request] = setup["tools"]
    assert "credential" not in request["parameters"]["properties"]
    assert validator(request["parameters"]).fault({"url": "https://a.example", "credential": "office"})
    assert not validator(request["parameters"]).fault({"url": "https://a.example", "method": "GET"})
    assert "It is Saturday, 05 April 2031, 08:00 (Europe/Zurich)." in setup["messages"][0]["content"]
    with pytest.raises(StepFailed, match="no IANA zone"):
        await opened.perform(opened.read({"model": "m", "prompt": "p", "zone": "Nowhere"}), At())
    two = [{"do": "http.request"}, {"do": "http.request"}]
    with pytest.raises(StepFailed, match="two tools are called http_request"):
        await opened.perform(opened.read({"model": "m", "prompt": "p", "tools": two}), At())
    with pytest.raises(StepFailed, match="exactly one of"):
        opened.read({"model": "m", "prompt": "p", "tools": [{"do": "a", "run": "b"}]})


@pytest.mark.parametrize(
    ("tell", "sources", "told", "cited"),
    [
        ("$.body", "", '{"items":[{"title":"Path closed","url":"https://paths.example/1"},{"title":"Sunny"}]}', []),
        ("$.body.items[*].title", "$.body.items[*].url", '["Path closed","Sunny"]', ["https://paths.example/1"]),
        ("$.body.items[0].title", "$.body.items", "Path closed", ["https://paths.example/1"]),
        ("$.nothing", "", "null", []),
    ],
)
async def test_a_tool_says_what_of_its_reply_the_model_is_told_and_where_its_sources_are(tell, sources, told, cited):
    wanted = {**tool("a"), "tell": tell, "sources": sources}
    outside = Outside([calls(("a", {"q": "x"})), says("ready")], [wanted])
    executor = Executor(outside)
    perform = executor.perform
    items = [{"title": "Path closed", "url": "https://paths.example/1"}, {"title": "Sunny"}]

    async def answered(call):
        outcome = await perform(call)
        if call.action != "test.a":
            return outcome
        return Outcome({"status": 200, "headers": {"x-inside": "kept out"}, "body": {"items": items}})

    executor.perform = answered  # type: ignore[method-assign]
    walk = Walk(plan_of(outside.tools), MemoryJournal(outside.apply), executor, Start("run", {"input": {}}))
    outcome = await walk.walk()
    [message] = [m for m in outside.sent[-1] if m["role"] == "tool"]
    assert message["content"] == told
    assert [source["url"] for source in outcome.result["sources"]] == cited


async def test_a_path_that_is_none_is_told_to_the_model_and_breaks_nothing():
    outside = Outside([calls(("a", {"q": "x"})), says("ready")], [{**tool("a"), "tell": "$.["}])
    outcome = await walked(outside)
    assert outcome.result["text"] == "ready"
    [message] = [m for m in outside.sent[-1] if m["role"] == "tool"]
    assert "is no JSONPath" in message["content"]
