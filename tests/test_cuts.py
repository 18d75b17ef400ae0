"""What must not be cut unseen: a call that may not be repeated ends first, or a person is asked about it."""

import asyncio
import contextlib
import time

import pytest

from oak_relay.changes import Change, ClaimOnce, FinishOnce, StartRun
from oak_relay.document.errors import StepFailed
from oak_relay.engine.entries import Entry
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import Finished, Rested, Start
from oak_relay.engine.protocols import Outcome
from oak_relay.engine.trace import spans
from oak_relay.engine.walk import Walk
from tests.test_engine import Actions, Killed, World, plan_of

START = Start("run", {"input": {}, "settings": {}})
MAIL = {"step": "letter", "do": "mail"}
NEXT = {"step": "behind", "do": "ask"}


class Slow(Actions):
    """Letters take their time; `fast` things fail at once when they are told to, behind the beginning of the letter."""

    def __init__(self, world: World, seconds: float = 0.5) -> None:
        super().__init__(world)
        self.seconds, self.begun = seconds, asyncio.Event()
        self.asked: list[str] = []

    async def perform(self, call):
        self.asked.append(call.path)
        if call.action == "broken":
            await self.begun.wait()
            raise StepFailed("invalid", "this is always wrong")
        if call.action in ("mail", "look"):
            self.begun.set()
            await asyncio.sleep(self.seconds)  # longer than any time-out here
            return Outcome({"sent": True})
        self.begun.set()
        await asyncio.sleep(30)
        return Outcome({})


class RealTime(MemoryJournal):
    """By the clock on the wall."""

    def now(self):
        from datetime import UTC, datetime

        return datetime.now(UTC)

    async def sleep_until(self, moment):
        await asyncio.sleep(max(0.0, (moment - self.now()).total_seconds()))


def ended(journal: MemoryJournal, path: str) -> list[Entry]:
    return [e for e in journal.entries(path) if e.kind == "ended"]


def side_by_side(letter: dict, other: dict) -> list[dict]:
    return [{"step": "both", "together": {"l": {"steps": [letter]}, "r": {"steps": [other]}}}]


CASES = {
    "a failing sibling": (side_by_side(MAIL, {"step": "wrong", "do": "broken"}), {}, "both.l.letter", "invalid"),
    "a failing item": (
        [{"step": "list", "each": "${ ['mail', 'broken'] }", "as": "i", "width": 2, "steps": [
            {"step": "which", "branch": [{"if": "${ i == 'mail' }", "steps": [MAIL]}, {"else": [{"step": "wrong", "do": "broken"}]}]}]}],
        {}, "list[0].which.letter", "invalid"),
    "an enclosing time-out": (
        [{"step": "in_time", "timeout": "400ms", "branch": [{"else": [MAIL, NEXT]}]}], {}, "in_time.letter", "timeout"),
    "the time of the run": ([MAIL, NEXT], {"limits": {"time": "400ms"}}, "letter", "timeout"),
}  # fmt: skip


@pytest.mark.parametrize("kind", ["mail", "look"])
@pytest.mark.parametrize("case", CASES)
async def test_a_call_that_must_not_be_cut_ends_first(case: str, kind: str):
    steps, more, path, error = CASES[case]
    world = World()
    plan = plan_of(_with(steps, kind), **more)
    journal, actions = RealTime(world.apply), Slow(world)
    outcome = await Walk(plan, journal, actions, START).walk()
    assert isinstance(outcome, Finished)
    assert (outcome.state, outcome.error["kind"]) == ("failed", error)
    [entry] = ended(journal, path)
    assert entry.body["output"] == {"sent": True}
    assert not any("behind" in path for path in actions.asked)


def _with(value, kind: str):
    """The same steps with another action in the place of the letter."""
    if isinstance(value, dict):
        return {k: kind if k == "do" and v == "mail" else _with(v, kind) for k, v in value.items()}
    return [_with(v, kind) for v in value] if isinstance(value, list) else value


async def test_a_cancelled_run_lets_it_end_too_and_cuts_what_may_be_cut():
    world = World()
    plan = plan_of(side_by_side(MAIL, {"step": "harmless", "do": "ask"}))
    journal, actions = RealTime(world.apply), Slow(world)
    walk = Walk(plan, journal, actions, START)
    walking = asyncio.create_task(walk.walk())
    await actions.begun.wait()
    walk.cancel()
    began = time.monotonic()
    outcome = await walking
    assert outcome.state == "cancelled"
    assert time.monotonic() - began < 5
    assert ended(journal, "both.l.letter")[0].body["output"] == {"sent": True}
    assert "again_at" in ended(journal, "both.r.harmless")[0].body  # no outcome: it was merely cut


async def test_what_was_under_way_when_a_worker_died_is_asked_about_although_a_sibling_failed():
    """Also where the walk that follows would never come to it again."""
    world = World()
    strands = {
        "r": {"steps": [{"step": "wrong", "do": "broken"}]},
        "l": {"steps": [{"step": "set", "set": {"v": 1}}, MAIL]},
    }
    plan = plan_of(
        [{"step": "both", "together": strands}]
    )  # the failure is met before the letter, when it is walked again
    journal = RealTime(world.apply)

    class Dying(Slow):
        async def perform(self, call):
            if call.action == "mail":
                self.begun.set()
                await asyncio.sleep(0.05)
                raise Killed
            return await super().perform(call)

    with contextlib.suppress(Killed):
        await Walk(plan, journal, Dying(world), START).walk()
    log = [e for e in journal.log if not e.path.startswith("both.l.letter") or e.kind == "began"]
    start = Start("run", START.scope, grace=0.0)
    again = MemoryJournal(world.apply, log)  # its clock is far behind: the letter's time is over
    again.clock = RealTime().now().replace(year=2032)
    rested = await Walk(plan, again, Slow(world), start).walk()
    assert isinstance(rested, Rested)
    [(path, until)] = rested.wakes
    assert (path, until) == ("both.l.letter#unknown1", None)
    again.signals[path] = {"choice": "it happened", "by": "warden"}
    outcome = await Walk(plan, again, Slow(world), start).walk()
    assert (outcome.state, outcome.error["kind"]) == ("failed", "invalid")


async def test_a_cancellation_that_comes_while_the_intention_is_written_sends_nothing():
    world = World()
    plan = plan_of([MAIL])

    class Late(RealTime):
        async def commit(self, entry, change=None):
            if entry.kind == "began":
                walk.cancel()
            return await super().commit(entry, change)

    journal, actions = Late(world.apply), Slow(world)
    walk = Walk(plan, journal, actions, START)
    assert (await walk.walk()).state == "cancelled"
    assert actions.asked == []
    assert ended(journal, "letter")[0].body["error"]["reached"] == "no"


async def test_a_child_whose_beginning_was_just_being_written_is_no_orphan():
    world = World()
    plan = plan_of([{"step": "c", "run": "other"}])

    class Late(RealTime):
        async def commit(self, entry, change=None):
            if isinstance(change, StartRun):
                walk.cancel()
            return await super().commit(entry, change)

    journal = Late(world.apply)
    walk = Walk(plan, journal, Slow(world), START)
    assert (await walk.walk()).state == "cancelled"
    assert list(journal.open.entries) == ["c"]  # known, so that the end of the run takes it back


async def test_nothing_new_is_begun_behind_a_failed_sibling():
    world = World()
    long = [{"step": f"s{n}", "do": "mail"} for n in range(3)]
    plan = plan_of(
        [{"step": "both", "together": {"l": {"steps": long}, "r": {"steps": [{"step": "wrong", "do": "broken"}]}}}]
    )
    journal, actions = RealTime(world.apply), Slow(world)
    assert (await Walk(plan, journal, actions, START).walk()).state == "failed"
    assert [path for path in actions.asked if path.startswith("both.l")] == ["both.l.s0"]


REPEAT = {"step": "n", "repeat": {"until": "${ false }", "most": 3000}, "steps": [{"step": "s", "set": {"v": "${ [1, 2, 3] | sum }"}}], "gives": "1"}  # fmt: skip
LONG = {"step": "l", "each": "${ input.many }", "as": "i", "steps": [{"step": "s", "set": {"v": "${ i }"}}], "gives": "${ s.v }"}  # fmt: skip


@pytest.mark.parametrize(
    "steps", [[REPEAT], [{**REPEAT, "repeat": {"until": "${ false }", "most": 3}, "steps": [REPEAT]}], [LONG]]
)
async def test_a_walk_leaves_others_their_turn(steps: list[dict]):
    """However much it has to compute: nobody waits for it longer than a moment."""
    gaps: list[float] = []

    async def other() -> None:
        while True:
            before = time.monotonic()
            await asyncio.sleep(0)
            gaps.append(time.monotonic() - before)

    beside = asyncio.create_task(other())
    from oak_relay.engine import loops

    limit, loops.LONG_LIST = loops.LONG_LIST, 10_000
    try:
        start = Start("run", {"input": {"many": list(range(3000))}, "settings": {}})
        began = time.monotonic()
        outcome = await Walk(plan_of(steps, input={"type": "object"}), MemoryJournal(), Actions(World()), start).walk()
        took = time.monotonic() - began
    finally:
        loops.LONG_LIST = limit
        beside.cancel()
    assert isinstance(outcome, Finished)
    assert outcome.state == "succeeded", outcome.error
    assert len(gaps) > took / 0.1, "the others hardly had a turn"


async def test_a_walk_waits_when_too_much_waits_to_be_written():
    class Full(MemoryJournal):
        waited = 0

        @property
        def full(self):
            return len(self.log) == 3 and not self.waited

        async def room(self):
            Full.waited += 1

    steps = [{"step": f"s{n}", "set": {"v": n}} for n in range(6)]
    assert (await Walk(plan_of(steps), Full(), Actions(World()), START).walk()).state == "succeeded"
    assert Full.waited == 1


async def test_the_end_of_a_repeat_sees_its_own_now():
    """Not the moment at which the whole step began."""
    steps = [{"step": "n", "repeat": {"until": "${ now.minute >= 30 }", "most": 100}, "steps": [{"step": "w", "wait": "10m"}], "gives": "${ now }"}]  # fmt: skip
    journal = MemoryJournal()
    outcome = None
    while not isinstance(outcome, Finished):
        outcome = await Walk(plan_of(steps, result="${ n }"), journal, Actions(World()), START).walk()
        if isinstance(outcome, Rested):
            journal.clock = max(journal.clock, *(at for _, at in outcome.wakes if at))
    assert outcome.state == "succeeded"
    assert outcome.result.startswith("2031-04-05T06:30")


async def test_aliases_and_fallbacks_are_those_of_the_first_use():
    """Rule 7: also for model steps, and for the parts of a long list."""
    world = World()
    offered = {"quick": {"model": "old"}, "careful": {"model": "older"}}
    used: list[dict] = []

    class Asking(Actions):
        def manner(self, action, input):
            from oak_relay.engine.protocols import Manner

            return Manner("safe", "outside", 5, "quick")

        async def settle(self, model):
            return {name: dict(alias) for name, alias in offered.items()}

        async def perform(self, call):
            used.append(dict(call.settled))
            offered["quick"]["model"] = "new"
            return Outcome({})

    steps = [{"step": name, "do": "ask", "with": {"model": "quick"}} for name in ("a", "b")]
    journal = MemoryJournal(world.apply)
    await Walk(plan_of(steps), journal, Asking(world), START).walk()
    again = MemoryJournal(world.apply, [e for e in journal.log if e.path in ("a", "#model/quick")])
    await Walk(plan_of(steps), again, Asking(world), START).walk()
    assert [one["quick"]["model"] for one in used] == ["old"] * 3
    assert all(one["careful"] == {"model": "older"} for one in used)


async def test_once_that_was_done_well_is_noted_so_that_doing_a_run_again_may_do_the_rest():
    world = World()
    made: list[Change] = []

    def apply(change: Change):
        made.append(change)
        return {"first": True} if isinstance(change, ClaimOnce) else {}

    steps = [{"step": "a", "once": "${ 'k' * 500 }", "set": {"v": 1}}, {"step": "b", "once": "x", "do": "broken"}]
    outcome = await Walk(plan_of(steps), MemoryJournal(apply), Actions(world), START).walk()
    assert outcome.state == "failed"
    assert made == [ClaimOnce("a", "k" * 500), FinishOnce("a", "k" * 500), ClaimOnce("b", "x")]


async def test_a_way_without_steps_has_succeeded_when_it_is_chosen():
    steps = [
        {"step": "chosen", "branch": [{"if": "${ false }", "steps": [{"step": "x", "set": {"n": 1}}]}, {"else": [], "gives": "none"}]},
        {"step": "behind", "set": {"n": "${ chosen }"}},
    ]  # fmt: skip
    journal = MemoryJournal()
    ended = await Walk(plan_of(steps), journal, Actions(World()), Start("r", {"input": {}})).walk()
    assert isinstance(ended, Finished) and ended.state == "succeeded"
    for over in (True, False):
        chosen = next(s for s in spans(journal.log, over) if s.path == "chosen")
        assert (chosen.state, chosen.ended is not None) == ("succeeded", True)
