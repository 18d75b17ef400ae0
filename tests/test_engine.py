"""The engine alone: a journal in memory, actions that are plain functions, random documents and interruptions."""

import asyncio
import contextlib
from collections import Counter
from dataclasses import asdict, dataclass
from datetime import timedelta
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.changes import AskPerson, AwaitEvent, Change, ClaimOnce, EmitEvent, ExpireQuestion, StartRun, TakeBack
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.models import Workflow
from oak_relay.engine import loops
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import Diverged, Finished, Rested, Start
from oak_relay.engine.plan import RetryPlan, compile_plan
from oak_relay.engine.protocols import Manner, Outcome
from oak_relay.engine.replay import keep
from oak_relay.engine.trace import spans
from oak_relay.engine.walk import Walk
from oak_relay.usage import Usage


@pytest.fixture(autouse=True, scope="module")
def _short_chunks():
    """Lists of four and more are long."""
    before = loops.LONG_LIST, loops.CHUNK
    loops.LONG_LIST, loops.CHUNK = 3, 2
    yield
    loops.LONG_LIST, loops.CHUNK = before


class Killed(BaseException):
    """The worker is gone."""


@dataclass(frozen=True)
class Noted(Change):
    """The change that the action `add` makes."""

    path: str
    value: dict[str, Any]


class World:
    """What outlives a worker: local records, and what the outside was asked to do."""

    def __init__(self, failures: int = 0) -> None:
        self.applied: Counter[tuple[type[Change], str]] = Counter()
        self.performed: Counter[str] = Counter()
        self.failures = failures
        self.opened: dict[str, Change] = {}
        self.parts: dict[str, MemoryJournal] = {}

    def apply(self, change: Change):
        kind = type(change)
        path = getattr(change, "path", "") or getattr(change, "prefix", kind.__name__)
        self.applied[kind, path] += 1
        if kind in (StartRun, AskPerson, AwaitEvent):
            self.opened[path] = change
        given = {StartRun: {"run": f"run of {path}"}, AskPerson: {"question": path}, AwaitEvent: {"events": []},
                 ClaimOnce: {"first": True}, EmitEvent: {"id": path}, ExpireQuestion: {"answer": None}}  # fmt: skip
        return given.get(kind, asdict(change) if isinstance(change, Noted) else {})

    async def bring(self, plan, journal: MemoryJournal, paths, data) -> None:
        """What others do between two walks: children end, people answer, events come."""
        for path in paths:
            asked = self.opened[path]
            if isinstance(asked, StartRun) and asked.part is not None:
                part = self.parts.setdefault(path, MemoryJournal(self.apply))
                start = Start("part", {"input": data, **asked.input}, part=asked.part)
                ended = await to_the_end(plan, self, part, start=start)
                journal.signals[path] = ended.as_data()
            elif isinstance(asked, StartRun):
                journal.signals[path] = {"state": "succeeded", "result": asked.input}
            elif isinstance(asked, AskPerson):
                choice = "try again" if asked.alike else asked.choices[0]
                journal.signals[path] = {"choice": choice, "by": "warden", "at": "2031-04-05T07:00:00+00:00"}
            else:
                journal.signals[path] = {"type": asked.type, "data": 7}


class Actions:
    """`look` is checkable and always finds nothing, `add` is local, `ask` safe and outside, `mail` unsafe; every call may fail a set number of times."""

    def __init__(self, world: World) -> None:
        self.world = world

    def manner(self, action, input):
        if action not in ("add", "ask", "mail", "look", "broken"):
            raise StepFailed("missing", f"there is no action {action}")
        repeat = {"mail": "unsafe", "look": "checkable"}.get(action, "safe")
        return Manner(repeat, "local" if action == "add" else "outside", 5)

    def link(self, question):
        return f"https://huts.example/answer/{question}"

    async def admit(self, call):
        return 0

    async def worst(self, call):
        return 0.25

    async def happened(self, call):
        return None

    async def change(self, call):
        return Noted(call.path, call.input)

    async def perform(self, call):
        self.world.performed[call.path] += 1
        if call.action == "broken":
            raise StepFailed("invalid", "this is always wrong")
        if call.attempt <= self.world.failures:
            raise StepFailed("busy", "slow down", delay=3)
        await asyncio.sleep(0)
        return Outcome({"got": call.input}, usage=Usage(2, output=1, money=0.25))


class Interrupted(MemoryJournal):
    """Dies at its n-th write: before it is durable, or just after."""

    def __init__(self, world: World, entries=(), dies_at: int = -1, after: bool = False) -> None:
        super().__init__(world.apply, entries)
        self.dies_at, self.after, self.writes = dies_at, after, 0

    def add(self, entry):
        self._before()
        return self._behind(super().add(entry))

    async def commit(self, entry, change=None):
        await asyncio.sleep(0)
        self._before()  # a change and its entry are one commit
        if change is not None:
            entry = entry._replace(body={**(entry.body or {}), "output": self._apply(change)})
        return self._behind(super().add(entry))

    def _before(self):
        self.writes += 1
        if self.writes == self.dies_at and not self.after:
            raise Killed

    def _behind(self, body):
        if self.writes == self.dies_at:
            raise Killed
        return body


def plan_of(steps, **more):
    return compile_plan(Workflow.model_validate({"oak": 1, "workflow": "t", "steps": steps, **more}))


async def to_the_end(plan, world, journal, actions=None, data=None, start=None):
    """Walk again and again, each time behind the rest, until the run has ended."""
    start = start or Start("run", {"input": data or {}, "settings": {}})
    while True:
        outcome = await Walk(plan, journal, actions or Actions(world), start).walk()
        if isinstance(outcome, Finished):
            return outcome
        moments = [at for _, at in outcome.wakes if at is not None]
        brought = [path for path, _ in outcome.wakes if path in world.opened and path not in journal.signals]
        if brought:
            await world.bring(plan, journal, brought, start.scope["input"])
        else:
            assert moments, f"the run waits for nothing that will come: {outcome.wakes}"
            journal.clock = max(journal.clock, min(moments))


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
                ["set", "add", "ask", "mail", "look", "wait", "broken", "now", "child", "question", "event", "emit",
                 *(["branch", "each", "long", "together", "repeat"] if depth < 2 else [])]
            )
        )  # fmt: skip
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
        elif kind == "child":
            step |= {"run": "other", "with": {"v": seen}, "wait": draw(st.booleans())}
        elif kind == "question":
            step["ask"] = {"text": f"about {seen}?", "choices": ["yes", "no"]}
        elif kind == "event":
            step["wait"] = {"event": "hut.opened", "where": "${ arrived.data > input.n }"}
        elif kind == "emit":
            step["emit"] = {"type": "hut.closed", "data": seen}
        elif kind == "together":
            step["together"] = {side: {"steps": draw(step_lists(depth + 1, f"{name}_{side}")), "gives": f"${{ {name}_{side}s0 }}"} for side in ("l", "r")}  # fmt: skip
        elif kind == "repeat":
            inner = draw(step_lists(depth + 1, f"{name}_o"))
            step |= {
                "repeat": {"until": "${ last | default(0) >= 1 }", "most": 4},
                "steps": inner,
                "gives": "${ (last | default(0)) + 1 }",
            }
        elif kind == "long":
            step |= {"each": "${ [1, 2, 3, 4, 5] }", "as": f"{name}_i", "width": draw(st.integers(1, 3)), "failed": draw(st.sampled_from(["keep", "drop", "stop"])),
                     "steps": draw(step_lists(depth + 1, f"{name}_z")), "gives": f"${{ [{name}_i, {name}_zs0] }}"}  # fmt: skip
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


@pytest.mark.parametrize("after", [False, True])
@pytest.mark.parametrize("dies", [[2], [3], [4], [3, 3], [3, 4], [2, 2], [3, 3, 3]])
def test_what_failed_while_its_neighbour_broke_off_is_tried_again(dies, after):
    """A call beside the one at which the walk broke off is told to end; that it failed then is not its last word."""
    steps = [{"step": "each_hut", "each": "${ [1, 2, 3] }", "as": "hut", "width": 2, "failed": "keep", "gives": "${ sent }", "steps": [
        {"step": "sent", "do": "mail", "with": {"v": "${ hut }"}, "retry": {"tries": 3, "wait": "1s", "spread": 0}}]}]  # fmt: skip
    plan, world, entries = plan_of(steps, result="${ each_hut }"), World(1), []
    for dies_at in dies:
        journal = Interrupted(world, entries, dies_at, after)
        with contextlib.suppress(Killed):
            asyncio.run(to_the_end(plan, world, journal))
        entries = journal.log
    ended = asyncio.run(to_the_end(plan, world, Interrupted(world, entries)))
    assert ended.result == [{"got": {"v": n}} for n in (1, 2, 3)]


@settings(max_examples=120)
@given(st.data())
def test_resuming_gives_the_same_result_and_repeats_no_recorded_effect(data):
    """Rule 6, and the promise: for any document and any point of interruption."""
    steps, n = data.draw(step_lists()), data.draw(st.integers(0, 6))
    failures = data.draw(st.integers(0, 2))
    always = (
        [{"step": "last_of_all", "do": "add", "with": {"v": "${ outcome.state }"}}] if data.draw(st.booleans()) else []
    )
    plan = plan_of(steps, result="${ s0 }", always=always)
    whole_world = World(failures)
    whole_journal = Interrupted(whole_world)
    whole = asyncio.run(to_the_end(plan, whole_world, whole_journal, data={"n": n}))

    world = World(failures)
    signals: dict = {}
    entries, clock = [], whole_journal.clock - timedelta(days=1)
    for dies_at in data.draw(st.lists(st.integers(1, max(1, whole_journal.writes)), max_size=4)):
        journal = Interrupted(world, entries, dies_at, after=data.draw(st.booleans()))
        journal.clock, journal.signals = clock, signals
        with contextlib.suppress(Killed):
            asyncio.run(to_the_end(plan, world, journal, data={"n": n}))
        entries, clock = journal.log, journal.clock
    journal = Interrupted(world, entries)
    journal.clock, journal.signals = clock + timedelta(hours=1), signals
    resumed = asyncio.run(to_the_end(plan, world, journal, data={"n": n}))

    assert resumed.state == whole.state
    assert _without_times(resumed.result) == _without_times(whole.result)
    assert (resumed.error or {}).get("kind") == (whole.error or {}).get("kind")
    assert all(count == 1 for (op, _), count in world.applied.items() if op is not ClaimOnce), (
        "a local effect was made twice"
    )
    recorded = Counter(
        e.path for e in journal.log if e.kind == "ended" and isinstance(e.body, dict) and "output" in e.body
    )
    assert all(count == 1 for count in recorded.values())
    attempts = Counter((e.path, e.attempt) for e in journal.log if e.kind == "ended")
    assert all(count == 1 for count in attempts.values())
    everywhere = [e for log in (journal, *world.parts.values()) for e in log.log]
    for path, count in world.performed.items():  # every call outside stands in the journal
        assert count <= sum(e.path == path and e.kind in ("began",) for e in everywhere)
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


@pytest.mark.parametrize(
    ("action", "money", "waited"),
    [
        ("ask", 0.0, ["began"]),
        ("ask", 0.25, ["began", "ended"]),
        ("ask", None, ["began", "ended"]),
        ("mail", 0.0, ["began", "ended"]),
    ],
)
def test_only_what_may_be_had_again_for_nothing_is_not_waited_for(action, money, waited):
    """The intention of every call is; what a safe one found becomes durable before whatever acts on it."""

    class Waited(MemoryJournal):
        async def commit(self, entry, change=None):
            kinds.append(entry.kind)
            return await super().commit(entry, change)

    class Costing(Actions):
        async def perform(self, call):
            return Outcome({"got": 1}, usage=Usage(2, output=1, money=money))

    kinds: list[str] = []
    world = World()
    plan = plan_of([{"step": "a", "do": action}], result="${ a.got }")
    assert asyncio.run(to_the_end(plan, world, Waited(world.apply), Costing(world))).result == 1
    assert kinds == waited


def test_an_unsafe_action_that_was_reached_is_not_retried():
    class Reached(Actions):
        async def perform(self, call):
            self.world.performed[call.path] += 1
            raise StepFailed("unavailable", "the line broke", reached="maybe")

    world = World()
    plan = plan_of([{"step": "a", "do": "mail", "unknown": "fail"}])
    outcome = asyncio.run(to_the_end(plan, world, MemoryJournal(), Reached(world)))
    assert outcome.state == "failed"
    assert world.performed["a"] == 1


@pytest.mark.parametrize(
    ("choice", "calls", "state"),
    [("it happened", 1, "succeeded"), ("try again", 2, "succeeded"), ("give up", 1, "failed")],
)
def test_what_nobody_knows_a_person_is_asked(choice, calls, state):
    """Rule 4: an unknown outcome rests as a question; the answer is recorded like any outcome."""

    class Broken(Actions):
        async def perform(self, call):
            self.world.performed[call.path] += 1
            if call.attempt == 1:
                raise StepFailed("unavailable", "the line broke", reached="maybe")
            return Outcome({"sent": call.attempt})

    world = World()
    plan = plan_of([{"step": "a", "do": "mail"}], result="${ a }")
    journal = MemoryJournal(world.apply)
    start = Start("r", {"input": {}, "settings": {}})
    rested = asyncio.run(Walk(plan, journal, Broken(world), start).walk())
    assert isinstance(rested, Rested)
    assert spans(journal.log, False)[0].state == "waiting"
    question = world.opened["a#unknown1"]
    assert question.choices == ["it happened", "try again", "give up"]
    journal.signals["a#unknown1"] = {"choice": choice, "by": "warden", "data": {"sent": "by hand"}}
    for _ in range(2):  # walked again, it comes to the same
        outcome = asyncio.run(Walk(plan, journal, Broken(world), start).walk())
        assert (outcome.state, world.performed["a"]) == (state, calls)
    if choice == "it happened":
        assert outcome.result == {"sent": "by hand"}
    assert spans(journal.log, True)[0].state == state


def test_a_checkable_action_looks_whether_it_happened():
    class Found(Actions):
        async def perform(self, call):
            self.world.performed[call.path] += 1
            raise StepFailed("timeout", "no answer", reached="maybe")

        async def happened(self, call):
            return Outcome({"id": 4})

    world = World()
    plan = plan_of([{"step": "a", "do": "look"}], result="${ a.id }")
    assert asyncio.run(to_the_end(plan, world, MemoryJournal(world.apply), Found(world))).result == 4
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
    journal = MemoryJournal()
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


def test_what_a_call_may_cost_is_set_aside_before_it():
    told = []

    class Watching(Actions):
        async def worst(self, call):
            return 0.1

        async def perform(self, call):
            told.append(call.draw._purse.left())
            return await super().perform(call)

    plan = plan_of([{"step": "a", "do": "ask"}, {"step": "b", "do": "ask"}], limits={"money": 0.4})
    asyncio.run(to_the_end(plan, World(), MemoryJournal(), Watching(World())))
    assert told == [pytest.approx(0.3), pytest.approx(0.05)]  # the worst case of the call itself is set aside


@given(st.integers(1, 20), st.floats(0, 1), st.none() | st.floats(0, 100))
def test_waits_grow_to_their_cap_and_honour_what_was_asked(failures, random, asked):
    delay = RetryPlan(9, 1.0, 2.0, 60.0, 0.2, frozenset()).delay(failures, random, asked)
    assert delay >= (asked or 0)
    assert delay <= max(60 * 1.2, asked or 0)
    assert delay >= min(1.0 * 2 ** (failures - 1), 60) * 0.8


def test_values_are_those_that_were_stored():
    outcome = run([{"step": "a", "set": {"v": "${ 1.0 }", "t": "${ now }"}}], result="${ a }")
    assert values.stored(outcome.result) == outcome.result


def test_money_is_reserved_at_the_worst_case_by_calls_side_by_side():
    """Rule 15: two calls that may cost 0.25 each do not both fit into 0.40."""
    steps = [{"step": "m", "each": "${ [1, 2] }", "width": 2, "failed": "keep",
              "steps": [{"step": "a", "do": "ask"}], "gives": "${ a }"}]  # fmt: skip
    world = World()
    plan = plan_of(steps, limits={"money": 0.4}, result="${ m }")
    outcome = asyncio.run(to_the_end(plan, world, MemoryJournal(world.apply)))
    kinds = sorted(r.get("error", {}).get("kind", "fine") for r in outcome.result)
    assert kinds == ["fine", "over_limit"]


def test_a_child_gets_what_its_parent_has_left():
    world = World()
    plan = plan_of([{"step": "a", "do": "ask"}, {"step": "c", "run": "other"}], limits={"money": 1.0})
    asyncio.run(to_the_end(plan, world, MemoryJournal(world.apply)))
    assert world.opened["c"].money == pytest.approx(0.75)


def test_together_gives_a_mapping_and_its_names_stay_inside():
    steps = [{"step": "both", "together": {"l": {"steps": [{"step": "x", "wait": "1h"}, {"step": "y", "set": {"v": 1}}], "gives": "${ y.v }"},
                                           "r": {"steps": [{"step": "x", "set": {"v": 2}}], "gives": "${ x.v }"}}}]  # fmt: skip
    assert run(steps, result="${ [both, x | default('outside')] }").result == [{"l": 1, "r": 2}, "outside"]


def test_repeat_ends_at_its_limit_and_knows_the_round_before():
    steps = [{"step": "n", "repeat": {"until": "${ false }", "most": 3}, "steps": [{"step": "s", "set": {"v": 1}}],
              "gives": "${ (last | default(10)) + s.v }"}]  # fmt: skip
    assert run(steps, result="${ n }").result == 13


@pytest.mark.parametrize(("then", "got"), [("go_on", None), ("refuse", "refuse"), ("fail", "timeout")])
def test_a_question_nobody_answers_expires(then, got):
    steps = [{"step": "q", "ask": {"text": "?", "choices": ["approve", "refuse"], "within": "2d", "then": then}, "on_error": "go_on"}]  # fmt: skip
    world = World()
    journal = MemoryJournal(world.apply)
    plan = plan_of(steps, result="${ q.error.kind | default(q.choice) }")
    start = Start("r", {"input": {}, "settings": {}})
    [(path, until)] = asyncio.run(Walk(plan, journal, Actions(world), start).walk()).wakes
    assert path == "q"
    journal.clock = until
    assert asyncio.run(Walk(plan, journal, Actions(world), start).walk()).result == got


def test_what_is_open_in_a_step_that_fails_is_taken_back():
    steps = [{"step": "both", "on_error": "go_on", "together": {
        "l": {"steps": [{"step": "q", "ask": {"text": "?", "choices": ["yes"]}}]},
        "r": {"steps": [{"step": "w", "wait": "10m"}, {"step": "no", "fail": "no"}]}}}]  # fmt: skip
    world = World()
    journal = MemoryJournal(world.apply)
    plan, start = plan_of(steps, result="${ both.error.message }"), Start("r", {"input": {}, "settings": {}})
    rested = asyncio.run(Walk(plan, journal, Actions(world), start).walk())
    journal.clock = max(at for _, at in rested.wakes if at)
    assert asyncio.run(Walk(plan, journal, Actions(world), start).walk()).result == "no"
    assert world.applied[TakeBack, "both"] == 1


@pytest.mark.parametrize("fails", [False, True])
def test_always_runs_whatever_happened(fails):
    steps = [{"step": "a", "set": {"v": 1}}, {"step": "b", "fail": "no", "when": fails}]
    world = World()
    journal = MemoryJournal(world.apply)
    always = [{"step": "z", "do": "add", "with": {"state": "${ outcome.state }", "a": "${ a.v }"}}]
    outcome = run(steps, world, journal=journal, always=always)
    assert outcome.state == ("failed" if fails else "succeeded")
    [entry] = [e for e in journal.log if e.path == "always.z"]
    assert entry.body["output"]["value"] == {"state": outcome.state, "a": 1}


def replayed(steps, journal, stop="", given=None, data=None):
    plan = plan_of(steps, result="${ c }")
    start = Start("new", {"input": data or {"n": 1}, "settings": {}})
    return asyncio.run(keep(plan, journal.log, Actions(World()), start, journal.clock, stop, given)), plan, start


FOUR = [
    {"step": "a", "do": "ask", "with": {"v": "${ input.n }"}},
    {"step": "m", "each": "${ [1, 2] }", "as": "i", "steps": [{"step": "x", "do": "ask", "with": {"v": "${ i }"}}], "gives": "${ x }"},
    {"step": "b", "do": "ask", "with": {"v": "${ a }"}},
    {"step": "c", "do": "ask", "with": {"v": "${ b }"}},
]  # fmt: skip


def old_run(steps=FOUR):
    world = World()
    journal = MemoryJournal(world.apply)
    run(steps, world, data={"n": 1}, journal=journal)
    return journal


def test_redo_keeps_what_came_before_the_step():
    kept, plan, start = replayed(FOUR, old_run(), stop="b")
    assert kept.kept == ["a", "m", "m[0].x", "m[1].x"]
    assert kept.anew == ["b", "c"]
    world = World()
    journal = MemoryJournal(world.apply, kept.entries)
    assert asyncio.run(to_the_end(plan, world, journal, start=start)).state == "succeeded"
    assert set(world.performed) == {"b", "c"}


def test_redo_inside_a_list_keeps_the_other_items():
    kept, _, _ = replayed(FOUR, old_run(), stop="m[0].x")
    assert kept.anew == ["m[0].x", "b", "c"] or kept.anew == ["m[0].x", "m[1].x", "b", "c"]
    wide = [FOUR[0], {**FOUR[1], "width": 2}, *FOUR[2:]]
    kept, _, _ = replayed(wide, old_run(wide), stop="m[0].x")
    assert kept.anew == ["m[0].x", "b", "c"]


def test_a_changed_step_is_done_anew_and_what_hangs_on_it():
    changed = [FOUR[0], FOUR[1], {**FOUR[2], "with": {"v": "other"}}, FOUR[3]]
    kept, _, _ = replayed(changed, old_run())
    assert kept.anew == ["b", "c"]


def test_a_value_given_by_hand_takes_the_place_of_the_recorded_one():
    kept, plan, start = replayed(FOUR, old_run(), stop="c", given={"b": {"got": "by hand"}})
    assert kept.anew == ["c"]
    world = World()
    journal = MemoryJournal(world.apply, kept.entries)
    assert asyncio.run(to_the_end(plan, world, journal, start=start)).result == {"got": {"v": {"got": "by hand"}}}


def test_a_question_left_open_is_asked_anew():
    steps = [
        {"step": "a", "set": {"v": 1}},
        {"step": "q", "ask": {"text": "?", "choices": ["yes"]}},
        {"step": "c", "set": {"v": 2}},
    ]
    world = World()
    journal = MemoryJournal(world.apply)
    asyncio.run(Walk(plan_of(steps), journal, Actions(world), Start("r", {"input": {"n": 1}, "settings": {}})).walk())
    kept, _, _ = replayed(steps, journal)
    assert (kept.kept, kept.anew) == (["a"], ["q"])


def test_a_child_that_cannot_be_started_is_tried_again_and_then_fails():
    class Nobody(World):
        def apply(self, change):
            super().apply(change)
            return {"fault": {"kind": "missing", "message": "there is no workflow other"}}

    world = Nobody()
    steps = [{"step": "c", "run": "other", "retry": {"tries": 2, "wait": "1s", "kinds": ["missing"]}}]
    outcome = run(steps, world)
    assert (outcome.state, outcome.error["kind"]) == ("failed", "missing")
    assert world.applied[StartRun, "c"] == world.applied[StartRun, "c~2"] == 1
