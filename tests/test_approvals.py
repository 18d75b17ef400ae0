"""Approvals mean what the document names; what was said is kept whole."""

import json
from types import SimpleNamespace
from typing import Any
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.actions.catalogue import offer
from oak_relay.capabilities.alias import Alias, Prices
from oak_relay.capabilities.given import Column, ServerTool, TableDef, WorkflowAbout
from oak_relay.changes import Remember
from oak_relay.document.check import check
from oak_relay.document.models import Workflow
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import Rested, Start
from oak_relay.engine.plan import compile_plan
from oak_relay.engine.transcript import whole
from oak_relay.engine.walk import Walk
from oak_relay.models.agent import AgentInput
from tests.test_agent_engine import Executor, Outside, calls, says, tool

TOOLS = [
    {"do": "event.send", "name": "tell", "with": {"url": "http://a.example", "type": "x", "data": {"open": "what"}},
     "or": [{"do": "http.request", "with": {"url": "http://b.example", "method": "POST", "json": {"open": "what"}}}]},
    {"run": "bunk-availability"},
    {"server": "weather-station", "only": ["forecast"]},
    {"table": "huts", "may": ["find", "delete"]},
    {"table": "bookings", "name": "book", "may": ["add"]},
]  # fmt: skip
NAMES = {
    "tell": {"tell"}, "event.send": {"tell"}, "bunk-availability": {"bunk_availability"},
    "weather-station": {"forecast"}, "forecast": {"forecast"}, "weather-station.forecast": {"forecast"},
    "table.delete": {"huts_delete"}, "huts.delete": {"huts_delete"}, "huts_delete": {"huts_delete"}, "huts": {"huts_find", "huts_delete"},
    "book": {"book_add"}, "bookings": {"book_add"}, "table.add": {"book_add"},
}  # fmt: skip


async def opened() -> list[dict[str, Any]]:
    """The tools as an agent has them."""

    async def model(name: str) -> Alias:
        return Alias(url="http://m.example/v1", model="m", prices=Prices())

    async def workflow(name: str) -> WorkflowAbout:
        return WorkflowAbout("workflow", "", "", {"type": "object"})

    async def server_tools(name: str) -> list[ServerTool]:
        return [ServerTool("forecast"), ServerTool("alarm")]

    from datetime import UTC, datetime

    at: Any = SimpleNamespace(
        model=model, workflow=workflow, server_tools=server_tools, now=lambda: datetime.now(UTC),
        table=lambda name: TableDef(UUID(int=1), (Column("hut", "text"),)), action=offer().catalogue.get,
    )  # fmt: skip
    given = AgentInput.model_validate({"model": "m", "prompt": "x", "tools": TOOLS})
    return (await offer().catalogue.get("agent.open").perform(given, at)).output["tools"]


def plan_with(tools: list[dict[str, Any]], approve: Any) -> Any:
    step = {"step": "found", "do": "agent", "with": {"model": "m", "prompt": "x", "tools": tools, "approve": approve}}
    document = {"oak": 1, "workflow": "w", "steps": [step], "result": "${ found }"}
    return compile_plan(Workflow.model_validate(document))


async def asked(tools: list[dict[str, Any]], called: str, approve: Any) -> bool:
    """Whether a person is asked before a tool is called."""
    arguments = {"hut": "x"} if called == "never" else {}
    outside = Outside([calls((called, {**_arguments(tools, called), **arguments})), says("done")], tools)
    journal = MemoryJournal(outside.apply)
    walk = Walk(plan_with(TOOLS, approve), journal, Executor(outside), Start("run", {"input": {"careful": True}}))
    outcome = await walk.walk()
    if isinstance(outcome, Rested) and any("#approval" in path for path, _ in outcome.wakes):
        return True
    assert isinstance(outcome, Rested) or outcome.state == "succeeded", outcome.error
    return False


def _arguments(tools: list[dict[str, Any]], called: str) -> dict[str, Any]:
    [found] = [one for one in tools if one["name"] == called]
    made = {"string": "x", "object": {}, "array": [], "number": 1}
    properties = found["parameters"].get("properties", {})
    return {name: made.get(properties[name].get("type"), {}) for name in found["parameters"].get("required", [])}


@pytest.mark.parametrize("name", NAMES)
async def test_every_name_of_a_tool_is_matched_and_no_other(name: str):
    tools = await opened()
    matched = {one["name"] for one in tools if await asked(tools, one["name"], [name])}
    assert matched == NAMES[name]


async def test_true_and_expressions_are_matched_too():
    tools = await opened()
    assert await asked(tools, "forecast", True)
    assert not await asked(tools, "forecast", False)
    assert await asked(tools, "forecast", "${ tool.name == 'forecast' and input.careful }")
    assert not await asked(tools, "tell", "${ tool.name == 'forecast' }")
    assert await asked(tools, "huts_delete", "${ ['table.delete'] if input.careful else [] }")
    assert not await asked(tools, "huts_find", "${ ['table.delete'] if input.careful else [] }")


async def test_what_stands_in_for_a_tool_is_asked_about_when_it_is_named():
    other = {**tool("a"), "name": "b", "do": "test.b", "names": ["test.b"]}
    outside = Outside([calls(("a", {"q": "x"})), says("done")], [tool("a", **{"or": [other]})])
    from oak_relay.document.errors import StepFailed

    outside.failing["test.a"] = StepFailed("invalid", "it is broken")
    given = [{"do": "test.a", "or": [{"do": "test.b"}]}]
    journal = MemoryJournal(outside.apply)

    async def walked() -> Any:
        plan = plan_with(given, ["test.b"])
        return await Walk(plan, journal, Executor(outside), Start("run", {"input": {}})).walk()

    rested = await walked()
    assert isinstance(rested, Rested), rested
    assert rested.wakes == (("found/turn[0]/a[0].or1#approval", None),)
    journal.signals["found/turn[0]/a[0].or1#approval"] = {"choice": "refuse", "text": "not that one", "by": "Ada"}
    outcome = await walked()
    assert outcome.result["text"] == "done"
    assert "not that one" in json.dumps(outside.sent[-1])


async def test_a_name_that_matches_nothing_is_a_mistake():
    tools = await opened()
    outside = Outside([says("done")], tools)
    walk = Walk(
        plan_with(TOOLS, ["tabel.delete"]), MemoryJournal(outside.apply), Executor(outside), Start("run", {"input": {}})
    )
    outcome = await walk.walk()
    assert (outcome.state, outcome.error["kind"]) == ("failed", "invalid")
    assert "tabel.delete" in outcome.error["message"]
    assert outside.sent == []


@pytest.mark.parametrize(
    ("approve", "words"),
    [
        (["tabel.delete"], "approve names tabel.delete"),
        (["table.upsert"], "approve names table.upsert"),
        ("forcast", "approve names forcast"),
        ("${ tool.nam == 'x' }", "has no nam"),
        (list(NAMES), ""),
        (True, ""),
        ("${ tool.name == 'x' or arguments.hut == 'y' }", ""),
    ],
)
def test_the_checker_knows_what_can_be_approved(approve: Any, words: str):
    step = {
        "step": "found",
        "do": "agent",
        "with": {"model": "m", "prompt": "x", "tools": TOOLS, "approve": approve, "limits": {"turns": 3}},
    }
    text = json.dumps({"oak": 1, "workflow": "w", "steps": [step], "result": "${ found.text }"})
    findings = [f for f in check(text, offer().catalogue.world()).findings if "approve" in f.path or "nam" in f.message]
    assert [words in f.message for f in findings] == ([True] if words else []), findings


def test_a_condition_that_is_no_expression_is_a_mistake():
    step = {"step": "found", "do": "agent", "with": {"model": "m", "prompt": "x", "limits": {"turns": 3}, "tools": [
        {"run": "other", "approve": "arguments.amount > 80"}]}}  # fmt: skip
    text = json.dumps({"oak": 1, "workflow": "w", "steps": [step], "result": "${ found.text }"})
    [finding] = [f for f in check(text, offer().catalogue.world()).findings if f.path.endswith("approve")]
    assert "always holds" in finding.message


def test_money_limited_over_a_model_without_a_price_is_a_finding():
    text = "oak: 1\nworkflow: w\nlimits: {money: 1}\nsteps:\n  - step: a\n    do: model.answer\n    with: {model: quick, prompt: x}\nresult: ${ a.text }\n"
    world = offer().catalogue.world(frozenset({"quick"}), unpriced=frozenset({"quick"}))
    [finding] = check(text, world).findings
    assert (finding.line, finding.severity) == (7, "error")
    assert check(text.replace("limits: {money: 1}\n", ""), world).findings == []


async def test_an_agent_that_makes_no_progress_leaves_no_call_without_its_result():
    again = calls(("a", {"q": "the same"}))
    outside = Outside([again] * 6, [tool("a")], memory={"conversation": "k"}, keeps=True)
    journal = MemoryJournal(outside.apply)
    plan = plan_with([{"do": "test.a"}], None)
    outcome = await Walk(plan, journal, Executor(outside), Start("run", {"input": {}})).walk()
    assert outcome.result["ended"] == "no progress"
    [kept] = [e.messages for e in outside.applied if isinstance(e, Remember)]
    assert kept[-1]["role"] == "tool"
    assert kept == whole(kept)
    assert complete(kept)


def complete(messages: list[dict[str, Any]]) -> bool:
    """As a strict server looks at it: behind each message with calls stand their results, and results nowhere else."""
    at = 0
    if messages and messages[0]["role"] == "tool":
        return False
    while at < len(messages):
        wanted = [call["id"] for call in messages[at].get("tool_calls") or []]
        at += 1
        for one in wanted:
            if at >= len(messages) or messages[at]["role"] != "tool" or messages[at]["tool_call_id"] != one:
                return False
            at += 1
        if at < len(messages) and messages[at]["role"] == "tool":
            return False
    return True


MESSAGE = st.one_of(
    st.builds(lambda t: {"role": "user", "content": t}, st.text(max_size=3)),
    st.builds(
        lambda ids: {"role": "assistant", "content": "", "tool_calls": [{"id": i} for i in ids]},
        st.lists(st.sampled_from("abc"), unique=True, max_size=3),
    ),
    st.builds(lambda i: {"role": "tool", "tool_call_id": i, "content": i}, st.sampled_from("abcd")),
)


@given(st.lists(MESSAGE, max_size=12))
def test_stored_conversations_are_mended(messages: list[dict[str, Any]]):
    mended = whole(messages)
    assert complete(mended)
    assert whole(mended) == mended
    assert [m for m in mended if m["role"] != "tool"] == [m for m in messages if m["role"] != "tool"]
    if complete(messages):
        assert mended == messages
