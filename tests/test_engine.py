"""The engine alone: a journal in memory, actions that are plain functions, random documents and interruptions."""

import asyncio
import contextlib
from collections import Counter
from datetime import timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.models import Workflow
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import Diverged, Finished, Rested, Start
from oak_relay.engine.plan import RetryPlan, compile_plan
from oak_relay.engine.protocols import LocalEffect, Manner, Outcome
from oak_relay.engine.trace import spans
from oak_relay.engine.walk import Walk


class Killed(BaseException):
    """The worker is gone."""


class World:
    """What outlives a worker: local records, and what the outside was asked to do."""

    def __init__(self, failures: int = 0) -> None:
        self.applied: Counter[str] = Counter()
        self.performed: Counter[str] = Counter()
        self.failures = failures

    def apply(self, effect: LocalEffect):
        self.applied[effect.data.get("path", effect.op)] += 1
        return {"first": True} if effect.op == "once" else effect.data


class Actions:
    """`add` is local, `ask` safe and outside, `mail` unsafe; every call may fail a set number of times."""

    def __init__(self, world: World) -> None:
        self.world = world

    def manner(self, action, input):
        if action not in ("add", "ask", "mail", "broken"):
            raise StepFailed("missing", f"there is no action {action}")
        return Manner("unsafe" if action == "mail" else "safe", "local" if action == "add" else "outside", 5)

    def effect(self, call):
        return LocalEffect("add", {"path": call.path, "value": call.input})

    async def perform(self, call):
        self.world.performed[call.path] += 1
        if call.action == "broken":
            raise StepFailed("invalid", "this is always wrong")
        if call.attempt <= self.world.failures:
            raise StepFailed("busy", "slow down", delay=3)
        await asyncio.sleep(0)
        return Outcome({"got": call.input}, usage={"input": 2, "output": 1, "money": 0.25})


class Interrupted(MemoryJournal):
    """Dies at its n-th write: before it is durable, or just after."""

    def __init__(self, world: World, entries=(), dies_at: int = -1, after: bool = False) -> None:
        super().__init__(world.apply, entries)
        self.dies_at, self.after, self.writes = dies_at, after, 0

    def add(self, entry):
        self.writes += 1
        if self.writes == self.dies_at and not self.after:
            raise Killed
        body = super().add(entry)
        if self.writes == self.dies_at:
            raise Killed
        return body


def plan_of(steps, **more):
    return compile_plan(Workflow.model_validate({"oak": 1, "workflow": "t", "steps": steps, **more}))


async def to_the_end(plan, world, journal, actions=None, data=None):
    """Walk again and again, each time behind the rest, until the run has ended."""
    while True:
        walk = Walk(plan, journal, actions or Actions(world), Start("run", {"input": data or {}, "settings": {}}))
        outcome = await walk.walk()
        if isinstance(outcome, Finished):
            return outcome
        journal.clock = max(journal.clock, min(at for _, at in outcome.wakes))


def run(steps, world=None, data=None, journal=None, **more):
    world = world or World()
    return asyncio.run(to_the_end(plan_of(steps, **more), world, journal or MemoryJournal(world.apply), data=data))


@st.composite
def step_lists(draw, depth=0, prefix=""):
    """Random lists of steps of every kind, each using what came before it."""
    steps = []
    for index in range(draw(st.integers(1, 4 if depth == 0 else 2))):
        name = f"{prefix}s{index}"
        before = f"{prefix}s{index - 1}" if index else None
        seen = f"${{ [input.n, {before}] }}" if before else "${ input.n }"
        kind = draw(
            st.sampled_from(
                ["set", "add", "ask", "mail", "wait", "broken", "now", *(["branch", "each"] if depth < 2 else [])]
            )
        )
        step = {"step": name}
        if kind == "set":
            step["set"] = {"v": seen}
        elif kind == "now":
            step["set"] = {"v": "${ now }"}
        elif kind == "wait":
            step["wait"] = draw(st.sampled_from(["1s", "10m", "2d"]))
        elif kind == "branch":
            inner = draw(step_lists(depth + 1, f"{name}_x"))
            other = draw(step_lists(depth + 1, f"{name}_y"))
            step["branch"] = [{"if": f"${{ input.n % {draw(st.integers(2, 3))} == 0 }}", "steps": inner, "gives": f"${{ {name}_xs0 }}"}, {"else": other, "gives": "other"}]  # fmt: skip
        elif kind == "each":
            step |= {"each": "${ [1, 2, 3] }", "as": f"{name}_i", "width": draw(st.integers(1, 3)), "failed": draw(st.sampled_from(["keep", "drop", "stop"])),
                     "steps": draw(step_lists(depth + 1, f"{name}_z")), "gives": f"${{ [{name}_i, {name}_zs0] }}"}  # fmt: skip
        else:
            step |= {
                "do": kind,
                "with": {"v": seen},
                "retry": {"tries": 3, "wait": draw(st.sampled_from(["1s", "20s"])), "spread": 0},
            }
        if draw(st.booleans()):
            step["on_error"] = draw(
                st.sampled_from(["go_on", [{"step": f"{name}_e", "set": {"v": "${ error.kind }"}}]])
            )
        if draw(st.integers(0, 5)) == 0:
            step["when"] = "${ input.n > 1 }"
        steps.append(step)
    return steps


@settings(max_examples=120, deadline=None)
@given(st.data())
def test_resuming_gives_the_same_result_and_repeats_no_recorded_effect(data):
    """Rule 6, and the promise: for any document and any point of interruption."""
    steps, n = data.draw(step_lists()), data.draw(st.integers(0, 6))
    failures = data.draw(st.integers(0, 2))
    plan = plan_of(steps, result="${ s0 }")
    whole_world = World(failures)
    whole_journal = Interrupted(whole_world)
    whole = asyncio.run(to_the_end(plan, whole_world, whole_journal, data={"n": n}))

    world = World(failures)
    entries, clock = [], whole_journal.clock - timedelta(days=1)
    for dies_at in data.draw(st.lists(st.integers(1, max(1, whole_journal.writes)), max_size=4)):
        journal = Interrupted(world, entries, dies_at, after=data.draw(st.booleans()))
        journal.clock = clock
        with contextlib.suppress(Killed):
            asyncio.run(to_the_end(plan, world, journal, data={"n": n}))
        entries, clock = journal.log, journal.clock
    journal = Interrupted(world, entries)
    journal.clock = clock + timedelta(hours=1)
    resumed = asyncio.run(to_the_end(plan, world, journal, data={"n": n}))

    unknown = resumed.error and "possibly spent" in resumed.error["message"]
    unknown = unknown or any("possibly spent" in str(e.body) and e.kind == "ended" for e in journal.log)
    if not unknown:
        assert resumed.state == whole.state
        assert _without_times(resumed.result) == _without_times(whole.result)
        assert (resumed.error or {}).get("kind") == (whole.error or {}).get("kind")
    recorded = Counter(
        e.path for e in journal.log if e.kind == "ended" and isinstance(e.body, dict) and "output" in e.body
    )
    assert all(count == 1 for count in recorded.values())
    attempts = Counter((e.path, e.attempt) for e in journal.log if e.kind == "ended")
    assert all(count == 1 for count in attempts.values())
    for path, count in world.performed.items():  # every call outside stands in the journal
        assert count <= sum(e.path == path and e.kind in ("began",) for e in journal.log)
    assert spans(journal.log, True)


def _without_times(value):
    if isinstance(value, dict):
        return {k: _without_times(v) for k, v in value.items() if k not in ("at", "delay")}
    if isinstance(value, list):
        return [_without_times(v) for v in value]
    return "moment" if isinstance(value, str) and value.startswith("2031-") else value


def test_errors_are_retried_by_kind_with_the_delay_asked_for():
    world = World(failures=2)
    journal = MemoryJournal(world.apply)
    began = journal.clock
    assert run([{"step": "a", "do": "ask", "with": {"v": 1}}], world, journal=journal).state == "succeeded"
    assert world.performed["a"] == 3
    assert (journal.clock - began).total_seconds() >= 6  # 3 seconds each, as the other side asked
    [span] = spans(journal.log, True)
    assert [a.state for a in span.attempts] == ["failed", "failed", "succeeded"]


def test_an_unsafe_action_that_was_reached_is_not_retried():
    class Reached(Actions):
        async def perform(self, call):
            self.world.performed[call.path] += 1
            raise StepFailed("unavailable", "the line broke", reached="maybe")

    world = World()
    outcome = asyncio.run(to_the_end(plan_of([{"step": "a", "do": "mail"}]), world, MemoryJournal(), Reached(world)))
    assert outcome.state == "failed"
    assert world.performed["a"] == 1


@pytest.mark.parametrize(("unknown", "state", "calls"), [("fail", "failed", 1), ("repeat", "succeeded", 2)])
def test_an_unsafe_call_in_flight_at_a_kill_is_not_repeated_unseen(unknown, state, calls):
    """Rule 4: the intention is written first; what nobody knows is said, not guessed."""
    world = World()
    plan = plan_of([{"step": "a", "do": "mail", "unknown": unknown}])
    journal = Interrupted(world, dies_at=2)  # 1 the intention, 2 the outcome
    with pytest.raises(Killed):
        asyncio.run(to_the_end(plan, world, journal))
    again = MemoryJournal(world.apply, journal.log)
    began = again.clock = journal.clock
    outcome = asyncio.run(to_the_end(plan, world, again))
    assert (outcome.state, world.performed["a"]) == (state, calls)
    assert (again.clock - began).total_seconds() >= 15  # the time-out and the lease pass first
    [span] = spans(again.log, True)
    assert "possibly spent" in (span.attempts[0].note or span.error["message"])


def test_another_input_than_recorded_is_divergence():
    """Rule 6: a mismatch stops the run, never guesses."""
    journal = MemoryJournal(lambda e: e.data)
    run([{"step": "a", "do": "ask", "with": {"v": "${ input.n }"}}], data={"n": 1}, journal=journal)
    outcome = run(
        [{"step": "a", "do": "ask", "with": {"v": "${ input.n }"}}],
        data={"n": 2},
        journal=MemoryJournal(entries=journal.log),
    )
    assert outcome.error["kind"] == "diverged"
    assert Diverged.__doc__


def test_a_run_rests_only_when_every_strand_does():
    """Rule 9."""
    steps = [
        {
            "step": "m",
            "each": "${ ['1s', '1h', '2h'] }",
            "as": "d",
            "width": 3,
            "steps": [{"step": "w", "wait": "${ d }"}],
            "gives": "${ d }",
        }
    ]
    journal = MemoryJournal()
    first = asyncio.run(Walk(plan_of(steps), journal, Actions(World()), Start("r", {"input": {}})).walk())
    assert isinstance(first, Rested)
    assert {path for path, _ in first.wakes} == {"m[1].w", "m[2].w"}
    assert run(steps, journal=journal, result="${ m }").result == ["1s", "1h", "2h"]


@pytest.mark.parametrize(("failed", "result"), [("keep", ["an error", 2, 3]), ("drop", [2, 3])])
def test_each_keeps_or_drops_what_fails(failed, result):
    steps = [{"step": "m", "each": "${ [1, 2, 3] }", "as": "i", "failed": failed,
              "steps": [{"step": "f", "fail": "no", "when": "${ i == 1 }"}], "gives": "${ i }"}]  # fmt: skip
    got = run(steps, result="${ m }").result
    assert got[-2:] == [2, 3]
    assert len(got) == len(result)
    if failed == "keep":
        assert got[0]["error"]["message"] == "no"


def test_a_step_inside_its_timeout_is_cut_and_the_cut_is_recorded():
    steps = [
        {"step": "m", "each": "${ [1] }", "timeout": "30m", "steps": [{"step": "w", "wait": "2h"}], "on_error": "go_on"}
    ]
    outcome = run(steps, result="${ m.error.kind }")
    assert (outcome.state, outcome.result) == ("succeeded", "timeout")


def test_a_call_has_a_deadline():
    class Slow(Actions):
        async def perform(self, call):
            await asyncio.sleep(30)

    plan = plan_of([{"step": "a", "do": "ask", "timeout": "50ms", "retry": {"tries": 1}}])
    outcome = asyncio.run(to_the_end(plan, World(), MemoryJournal(), Slow(World())))
    assert outcome.error["kind"] == "timeout"
    assert outcome.error["reached"] == "maybe"


def test_a_run_has_a_time_limit():
    class Slow(Actions):
        async def perform(self, call):
            await asyncio.sleep(30)

    plan = plan_of([{"step": "a", "do": "ask"}], limits={"time": "50ms"})
    assert asyncio.run(to_the_end(plan, World(), MemoryJournal(), Slow(World()))).error["kind"] == "timeout"


@pytest.mark.parametrize(("action", "ends"), [("ask", "cancelled"), ("mail", "cancelled")])
def test_cancel_starts_nothing_new_and_lets_unsafe_calls_end(action, ends):
    """Rule 17."""
    released, begun, world = asyncio.Event(), asyncio.Event(), World()

    class Waiting(Actions):
        async def perform(self, call):
            self.world.performed[call.path] += 1
            begun.set()
            await released.wait()
            return Outcome("done")

    async def scene():
        journal = MemoryJournal()
        walk = Walk(
            plan_of([{"step": "a", "do": action}, {"step": "b", "do": "ask"}]),
            journal,
            Waiting(world),
            Start("r", {"input": {}}),
        )
        task = asyncio.create_task(walk.walk())
        await begun.wait()
        walk.cancel()
        if action == "mail":
            await asyncio.sleep(0.01)
            assert not task.done()  # it is let to its end
            released.set()
        outcome = await task
        return outcome, journal

    outcome, journal = asyncio.run(scene())
    assert outcome.state == ends
    assert world.performed["b"] == 0
    [last] = [e for e in journal.log if e.kind == "ended"]
    assert ("output" in last.body) == (action == "mail")


def test_money_left_is_told_to_calls():
    told = []

    class Watching(Actions):
        async def perform(self, call):
            told.append(call.money)
            return await super().perform(call)

    plan = plan_of([{"step": "a", "do": "ask"}, {"step": "b", "do": "ask"}], limits={"money": 0.4})
    asyncio.run(to_the_end(plan, World(), MemoryJournal(), Watching(World())))
    assert told == [0.4, pytest.approx(0.15)]


@given(st.integers(1, 20), st.floats(0, 1), st.none() | st.floats(0, 100))
def test_waits_grow_to_their_cap_and_honour_what_was_asked(failures, random, asked):
    delay = RetryPlan(9, 1.0, 2.0, 60.0, 0.2, frozenset()).delay(failures, random, asked)
    assert delay >= (asked or 0)
    assert delay <= max(60 * 1.2, asked or 0)
    assert delay >= min(1.0 * 2 ** (failures - 1), 60) * 0.8


def test_values_are_those_that_were_stored():
    outcome = run([{"step": "a", "set": {"v": "${ 1.0 }", "t": "${ now }"}}], result="${ a }")
    assert values.stored(outcome.result) == outcome.result
