"""Money: no document, width, failure or interruption spends over its limit."""

import asyncio
import contextlib
from decimal import Decimal
from zlib import crc32

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.changes import Change, StartRun
from oak_relay.document.errors import StepFailed
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import Finished, Rested, Spent, Start
from oak_relay.engine.protocols import Manner, Outcome
from oak_relay.engine.walk import Walk
from oak_relay.usage import NOTHING, Usage
from tests.test_engine import Actions, Killed, World, _short_chunks, plan_of, step_lists  # noqa: F401

WORST = 0.1


class Spending(World):
    """Counts what was really paid, whoever knows of it. `odds` chooses what each request comes to."""

    def __init__(self, odds: int) -> None:
        super().__init__()
        self.odds, self.paid, self.dead = odds, 0.0, False
        self.children: dict[str, float] = {}

    def chance(self, *about: object) -> float:
        return (crc32(repr((self.odds, *about)).encode()) % 1000) / 1000

    def apply(self, change: Change):
        given = super().apply(change)
        if isinstance(change, StartRun) and change.money is not None and change.part is None:
            path = change.path  # it spends at once, whatever becomes of its parent
            self.children[path] = change.money * self.chance(path)
            self.paid += self.children[path]
        return given

    async def bring(self, plan, journal, paths, data) -> None:
        for path in paths:
            asked = self.opened[path]
            if isinstance(asked, StartRun) and asked.part is not None:
                part = self.parts.setdefault(path, Mortal(self))
                start = Start("part", {"input": data, **asked.input}, money=asked.money, part=asked.part)
                ended, spent = await spend_to_the_end(plan, self, part, start)
                journal.signals[path] = {**ended.as_data(), "usage": {"money": float(spent.money)}}
            elif isinstance(asked, StartRun):
                usage = {"money": self.children.get(path, 0.0)}
                state = "succeeded" if self.chance("ends", path) < 0.8 else "failed"
                journal.signals[path] = {"state": state, "result": 1, "usage": usage}
            else:
                await super().bring(plan, journal, [path], data)


class Mortal(MemoryJournal):
    """Dies at its n-th write, before or just behind it; the dead neither write nor send."""

    def __init__(self, world: Spending, entries=(), dies_at: int = -1, after: bool = False) -> None:
        super().__init__(world.apply, entries)
        self.world, self.dies_at, self.after, self.writes = world, dies_at, after, 0

    def add(self, entry):
        self._before()
        return self._behind(super().add(entry))

    async def commit(self, entry, change=None):
        await asyncio.sleep(0)
        self._before()
        if change is not None:
            entry = entry._replace(body={**(entry.body or {}), "output": self._apply(change)})
        return self._behind(super().add(entry))

    def _before(self):
        self.writes += 1
        if self.world.dead or (self.writes == self.dies_at and not self.after):
            self.world.dead = True
            raise Killed

    def _behind(self, body):
        if self.writes == self.dies_at:
            self.world.dead = True
            raise Killed
        return body


class Costly(Actions):
    """Each call makes one to three requests (repairs, fallbacks); each costs up to the worst case, also where nobody learns it."""

    def manner(self, action, input):
        return Manner("local" if action == "add" else "safe", "local" if action == "add" else "outside", 5)  # type: ignore[arg-type]

    async def worst(self, call):
        return WORST

    async def perform(self, call):
        known, world = 0.0, self.world
        for number in range(1 + int(world.chance("requests", call.path) * 3)):
            about = call.path, call.attempt, number
            await call.draw.reserve(WORST)
            await asyncio.sleep(0)
            if world.dead:
                raise Killed
            luck = world.chance("luck", *about)
            if luck < 0.1:
                call.draw.settle(None, "no")
                raise StepFailed("busy", "slow down", usage=Usage(money=known) if known else NOTHING)
            cost = WORST * world.chance("cost", *about)
            world.paid += cost
            if luck < 0.25:
                call.draw.settle(None, "maybe")
                raise StepFailed(
                    "unavailable", "the line broke", reached="maybe", usage=Usage(money=known) if known else NOTHING
                )
            call.draw.settle(cost)
            known += cost
        await asyncio.sleep(0)
        if world.dead:
            raise Killed
        return Outcome({"got": call.input}, usage=Usage(1, output=1, money=known))


def spent_of(journal: MemoryJournal) -> Spent:
    """What the record tells of what was spent, as the store sums it up."""
    spent = Spent()
    for entry in journal.log:
        mark = entry.path.rpartition("#")[2] if "#" in entry.path else ""
        if isinstance(entry.body, dict) and (
            entry.kind in ("ended", "lost") or (entry.kind == "value" and mark in ("end", "spent"))
        ):
            spent.add(Usage.read(entry.body.get("usage")))
    return spent


async def spend_to_the_end(plan, world, journal, start):
    while True:
        spent = spent_of(journal)
        outcome = await Walk(plan, journal, Costly(world), start, spent).walk()
        if isinstance(outcome, Finished):
            return outcome, spent
        assert isinstance(outcome, Rested)
        moments = [at for _, at in outcome.wakes if at is not None]
        brought = [path for path, _ in outcome.wakes if path in world.opened and path not in journal.signals]
        if brought:
            await world.bring(plan, journal, brought, start.scope["input"])
        else:
            assert moments
            journal.clock = max(journal.clock, min(moments))


@settings(max_examples=150)
@given(st.data())
def test_nothing_spends_over_its_limit(data):
    steps, odds = data.draw(step_lists()), data.draw(st.integers(0, 10_000))
    limit = data.draw(st.sampled_from([0.05, 0.15, 0.35, 0.8, 2.0]))
    plan = plan_of(steps, result="${ s0 }", limits={"money": limit})
    world = Spending(odds)
    start = Start("run", {"input": {"n": data.draw(st.integers(0, 6))}, "settings": {}})
    signals: dict = {}
    entries = []
    for dies_at in [*data.draw(st.lists(st.integers(1, 60), max_size=4)), -1]:
        journal = Mortal(world, entries, dies_at, after=data.draw(st.booleans()))
        journal.signals = signals
        world.dead = False
        with contextlib.suppress(Killed):
            asyncio.run(spend_to_the_end(plan, world, journal, start))
        entries = journal.log
        assert world.paid <= limit + 1e-9
    # What a child spends that was taken back with the end of the run stands with the child, within what it was allotted.
    outstanding = sum(journal.open.allotted.values())
    assert float(spent_of(journal).money) + outstanding >= world.paid - 1e-6, "something was paid that nobody books"


def test_strands_at_rest_count_when_money_is_shared():
    """Three children side by side get a third each, also when the first two have come to rest by then."""
    world = World()
    steps = [
        {
            "step": "all",
            "together": {name: {"steps": [{"step": "c", "run": "other"}], "gives": "${ c }"} for name in "abc"},
        }
    ]
    plan = plan_of(steps, limits={"money": 0.9})
    walk = Walk(plan, MemoryJournal(world.apply), Actions(world), Start("run", {"input": {}, "settings": {}}))
    assert isinstance(asyncio.run(walk.walk()), Rested)
    assert [world.opened[f"all.{name}.c"].money for name in "abc"] == [pytest.approx(0.3)] * 3
    assert walk.purse.left() == pytest.approx(0.0)


def test_what_a_child_was_allotted_stays_set_aside_when_the_walk_begins_anew():
    world = World()
    plan = plan_of([{"step": "both", "together": {
        "child": {"steps": [{"step": "c", "run": "other"}]}, "call": {"steps": [{"step": "w", "wait": "1h"}, {"step": "a", "do": "ask"}]}}}],
        limits={"money": 0.4})  # fmt: skip
    journal = MemoryJournal(world.apply)
    start = Start("run", {"input": {}, "settings": {}})
    asyncio.run(Walk(plan, journal, Actions(world), start).walk())
    assert world.opened["both.child.c"].money == pytest.approx(0.2)
    again = Walk(plan, MemoryJournal(world.apply, journal.log), Actions(world), start)
    assert again.purse.left() == pytest.approx(0.2)


def test_a_lost_call_counts_at_its_worst_case():
    world = World()
    plan = plan_of([{"step": "a", "do": "ask"}], limits={"money": 0.6})
    journal = MemoryJournal(world.apply)
    start = Start("run", {"input": {}, "settings": {}})

    class Dying(Actions):
        async def perform(self, call):
            raise Killed

    with contextlib.suppress(Killed):
        asyncio.run(Walk(plan, journal, Dying(world), start).walk())
    spent = Spent()
    outcome = asyncio.run(Walk(plan, MemoryJournal(world.apply, journal.log), Actions(world), start, spent).walk())
    assert outcome.state == "succeeded"
    assert spent.money == Decimal("0.5")  # the call that is lost, and the one that was made in its place
