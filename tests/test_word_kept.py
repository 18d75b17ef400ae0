"""What an agent says that it has done is held against the calls that succeeded."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.client import Client
from oak_relay.document.errors import StepFailed
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import Start
from oak_relay.engine.protocols import Outcome
from oak_relay.engine.transcript import NOT_ALLOWED, NOT_DONE, done
from oak_relay.engine.walk import Walk
from oak_relay.models.phrases import claimed
from tests.conftest import Processes
from tests.test_agent_engine import Dying, Executor, Killed, Outside, calls, plan_of, says, tool

BOOKS = ["I have booked it", "Your bunk is booked", "The bunk is reserved for you"]
CLAIMS = {"book": BOOKS, "send": ["I have sent you the code"]}
SAID = "The sky is clear. I have booked it. Shall I send the code?"


class Judging(Executor):
    """Sentences are compared as they are really; a model says of those that are near what it is told to."""

    label = "it was done"

    async def perform(self, call: Any) -> Outcome:
        if call.action == "model.claims":
            self.outside.asked[f"{call.action} {call.path}"] += 1
            return Outcome(claimed(call.input["text"], call.input["claims"]).model_dump())
        if call.action == "model.label":
            self.outside.asked[f"{call.action} {call.path}"] += 1
            if call.action in self.outside.failing:
                raise self.outside.failing[call.action]
            return Outcome({"label": self.label})
        return await super().perform(call)


def outside(script: list[Any], **setup: Any) -> Outside:
    return Outside(script, [tool("book", claims=BOOKS), tool("look", 1)], **setup)


async def walked(out: Outside, journal: MemoryJournal | None = None, label: str = "it was done") -> Any:
    executor = Judging(out)
    executor.label = label
    walk = Walk(plan_of(out.tools), journal or MemoryJournal(out.apply), executor, Start("run", {"input": {}}))
    return await walk.walk()


async def test_a_claim_that_no_call_backs_is_marked_and_told_with_the_run():
    out = outside([calls(("look", {"q": "4"})), says(SAID)])
    outcome = await walked(out)
    assert outcome.result["unkept"] == [{"sentence": "I have booked it.", "tool": "book"}]
    assert outcome.note == "found says “I have booked it.”, and no call of book succeeded"
    assert out.asked["model.claims found/word"] == 1 and not any("label" in key for key in out.asked)


async def test_what_was_done_may_be_said_and_nothing_is_compared():
    out = outside([calls(("book", {"q": "4"})), says(SAID)])
    outcome = await walked(out)
    assert (outcome.result["unkept"], outcome.note) == ([], "")
    assert not any("model." in key for key in out.asked)


async def test_a_call_that_failed_is_none():
    out = outside([calls(("book", {"q": "4"})), says(SAID)])
    out.failing["test.book"] = StepFailed("invalid", "the hut is full")
    assert (await walked(out)).result["unkept"]


@pytest.mark.parametrize(("label", "marked"), [("it was done", 1), ("it was not done", 0)])
async def test_about_what_is_merely_near_a_model_is_asked(label: str, marked: int):
    out = outside([says("I could not book it: all bunks are taken.")])
    outcome = await walked(out, label=label)
    assert len(outcome.result["unkept"]) == marked
    assert out.asked["model.label found/word1"] == 1


async def test_what_nobody_can_judge_is_marked():
    out = outside([says("I could not book it: all bunks are taken.")])
    out.failing["model.label"] = StepFailed("unavailable", "the model is away")
    assert len((await walked(out)).result["unkept"]) == 1


async def test_a_model_is_asked_about_five_sentences_at_most():
    out = outside([says(" ".join(f"I have booked bunk {n} at Glasswater for you." for n in range(40)))])
    outcome = await walked(out)
    assert len(outcome.result["unkept"]) == 40  # what is not asked about counts
    assert sum("model.label" in key for key in out.asked) == 5


async def test_a_claim_among_many_that_are_none_is_not_let_through():
    before = " ".join(f"The booking book of hut {n} is in the bunk room." for n in range(30))
    out = outside([says(f"{before} I have booked bunk 4 at Glasswater for you.")], stops=True)
    outcome = await walked(out, label="it was not done")
    assert (outcome.state, outcome.error["kind"]) == ("failed", "unkept")


async def test_a_server_of_many_tools_is_one_that_claims():
    out = Outside([calls(("t7", {"q": "4"})), says(SAID)], [tool(f"t{n}", claims=BOOKS) for n in range(300)])
    assert (await walked(out)).result["unkept"] == []  # one of them was used
    out = Outside([says(SAID)], [tool(f"t{n}", claims=BOOKS) for n in range(300)])
    assert len((await walked(out)).result["unkept"]) == 1


async def test_where_the_document_says_so_it_is_not_said():
    outcome = await walked(outside([says(SAID)], stops=True))
    assert (outcome.state, outcome.error["kind"], outcome.error["step"]) == ("failed", "unkept", "found")
    assert "I have booked it." in outcome.error["message"]


async def test_data_is_held_to_it_too():
    data = {"reply": "Your bunk is booked", "more": [{"note": "Good day."}]}
    outcome = await walked(outside([says(data)], gives={"type": "object"}))
    assert outcome.result["unkept"] == [{"sentence": "Your bunk is booked", "tool": "book"}]


@given(st.integers(1, 25), st.booleans())
async def test_a_worker_killed_at_any_write_comes_to_the_same(number: int, behind: bool):
    script = [calls(("look", {"q": "4"})), says("I have booked bunk 4. I have booked it.")]
    expected = await walked(outside(script))
    out = outside(script)
    first = Dying(out.apply)
    first.left, first.behind = number, behind
    try:
        outcome: Any = await walked(out, first)
    except Killed:
        outcome = await walked(out, MemoryJournal(out.apply, first.log))
    assert outcome == expected
    assert max(out.asked.values()) <= 2


@pytest.mark.parametrize(
    ("content", "kept"),
    [("{\"id\": 7}", True), ("(nothing)", True), ("{\"error\": \"full\"}", False), ("{\"refused\": \"no\"}", False), (NOT_DONE, False), (NOT_ALLOWED, False)],
)  # fmt: skip
def test_what_a_memory_holds_of_earlier_calls_counts(content: str, kept: bool):
    call: Any = {"id": "c1", "type": "function", "function": {"name": "book", "arguments": "{}"}}
    messages: Any = [{"role": "user", "content": "A bunk, please."}, {"role": "assistant", "content": None, "tool_calls": [call]},
                     {"role": "tool", "tool_call_id": "c1", "content": content.replace('": ', '":')}, {"role": "assistant", "content": "Well."}]  # fmt: skip
    assert done(messages) == ({"book"} if kept else set())


@pytest.mark.parametrize(
    ("text", "claim", "sure"),
    [("I have booked it", "book", True), ("I've booked it!", "book", None), ("I have booked bunk 4 at Glasswater for you.", "book", False),
     ("The sky is clear. I have sent you the code by mail.", "send", False), ("Shall I book it?", "", None), ("We open at six.", "", None),
     ("The path is closed.", "", None), ("", "", None), ("?" * 20_000, "", None), ("a\n" * 9_000, "", None), ("I have booked it" * 1_000, "book", None)],
)  # fmt: skip
def test_sentences_are_compared_with_what_would_be_said(text: str, claim: str, sure: bool | None):
    found = claimed(text, CLAIMS).claims
    assert [one.claim for one in found] == ([claim] if claim else [])
    assert sure is None or found[0].sure is sure


ANSWERS = """
oak: 1
workflow: {name}
input: {{type: object, required: [message]}}
steps:
  - step: reply
    do: agent
    with:
      model: word-quick
      prompt: ${{ input.message }}
      tools:
        - {{do: model.answer, name: book, with: {{model: word-quick, prompt: {{open: what}}}}, claims: ["{claim}"]}}
      limits: {{turns: 3}}
      unkept: {unkept}
result: ${{ reply }}
"""


def test_an_answer_is_marked_or_stopped_in_a_real_run(oak: Processes, client: Client):
    client.put_credential("word-models", kind="bearer", secret=oak.environment["STANDIN_MODEL_KEY"], hosts=["127.0.0.1"])  # fmt: skip
    client.put_model("word-quick", url=f"{oak.standins}/v1", model="larch-small", credential="word-models", prices={"input": 1, "output": 4})  # fmt: skip
    asked = {"message": "The bunk is yours"}
    client.save(ANSWERS.format(name="word-free", claim="nothing like it at all", unkept="mark"))
    said = client.start("word-free", asked).result()["text"]
    claim = next(one for one in said.splitlines() if one.strip())[:150].replace('"', "")
    client.save(ANSWERS.format(name="word-marked", claim=claim, unkept="mark"))
    run = client.start("word-marked", asked).wait(60)
    marked = client.run(run.id)
    assert [one["tool"] for one in marked.result["unkept"]] == ["book"]
    assert "no call of book succeeded" in marked.run.note
    client.save(ANSWERS.format(name="word-stopped", claim=claim, unkept="stop"))
    stopped = client.start("word-stopped", asked).wait(60)
    assert stopped.state == "failed" and stopped.error is not None and stopped.error.kind == "unkept"
