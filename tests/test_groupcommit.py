"""Group commit: order, refusal of single items, and what happens when the writer ends."""

import asyncio
from datetime import UTC, datetime
from types import SimpleNamespace
from uuid import UUID

import asyncpg
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import Rested
from oak_relay.runtime.groupcommit import Ended, GroupCommit, Over
from oak_relay.runtime.hints import payloads
from oak_relay.runtime.record import Ground, RunJournal
from oak_relay.runtime.writer import Ownership


async def with_group(flush, scene, **more):
    group = GroupCommit(flush, **more)
    running = asyncio.create_task(group.run())
    try:
        return await scene(group)
    finally:
        running.cancel()
        await asyncio.gather(running, return_exceptions=True)


@settings(max_examples=60)
@given(st.lists(st.integers(0, 9), max_size=60), st.integers(1, 20))
def test_every_item_gets_its_own_result_and_bad_ones_fail_alone(items, most):
    """Rule 5. Items over 7 are what the database refuses."""
    written: list[int] = []

    async def flush(batch):
        await asyncio.sleep(0)
        if any(item > 7 for item in batch):
            raise asyncpg.DataError("refused")
        written.extend(batch)
        return [item * 2 for item in batch]

    async def scene(group):
        return await asyncio.gather(*(group.put(item) for item in items), return_exceptions=True)

    results = asyncio.run(with_group(flush, scene, most=most))
    assert written == [item for item in items if item <= 7]  # in order, each once
    for item, result in zip(items, results, strict=True):
        assert isinstance(result, asyncpg.DataError) if item > 7 else result == item * 2


async def test_what_comes_while_a_commit_is_under_way_shares_the_next():
    sizes, gate, begun = [], asyncio.Event(), asyncio.Event()

    async def flush(batch):
        sizes.append(len(batch))
        begun.set()
        await gate.wait()
        return batch

    async def scene(group):
        first = group.put(0)
        await begun.wait()
        rest = [group.put(n) for n in range(1, 50)]
        gate.set()
        await asyncio.gather(first, *rest)

    await with_group(flush, scene)
    assert sizes == [1, 49]


async def test_when_the_writer_ends_everyone_who_waits_is_told():
    async def flush(batch):
        raise Over("declared dead")

    group = GroupCommit(flush)
    waiting = group.put(1)
    with pytest.raises(Over):
        await group.run()
    with pytest.raises(Ended):
        await waiting
    with pytest.raises(Ended):
        await group.put(2)
    await group.room()  # nobody waits for room that will never be


async def test_an_item_that_breaks_the_flush_breaks_alone():
    """Whatever it raises: what cannot be written as it is, is one walk's own."""
    written: list[int] = []

    async def flush(batch):
        if 3 in batch:
            raise KeyError("unforeseen")
        written.extend(batch)
        return batch

    async def scene(group):
        return await asyncio.gather(*(group.put(item) for item in range(6)), return_exceptions=True)

    results = await with_group(flush, scene)
    assert written == [0, 1, 2, 4, 5]
    assert isinstance(results[3], KeyError)


async def test_who_writes_much_waits_for_room():
    gate = asyncio.Event()

    async def flush(batch):
        await gate.wait()
        return batch

    async def scene(group):
        futures = [group.put(b"x" * 100) for _ in range(10)]
        assert group.full
        waiting = asyncio.create_task(group.room())
        done, _ = await asyncio.wait({waiting}, timeout=0.05)
        assert not done
        gate.set()
        await waiting
        await asyncio.gather(*futures)
        assert not group.full

    await with_group(flush, scene, weigh=len, heaviest=800)


async def test_it_says_when_it_is_full():
    group = GroupCommit(lambda batch: None, bound=2)
    assert not group.full
    futures = [group.put(n) for n in range(2)]
    assert group.full
    for future in futures:
        future.cancel()


async def test_a_waiter_that_gave_up_does_not_disturb_the_others():
    gate = asyncio.Event()

    async def flush(batch):
        await gate.wait()
        return batch

    async def scene(group):
        gone, stays = group.put(1), group.put(2)
        await asyncio.sleep(0)
        gone.cancel()
        gate.set()
        return await stays

    assert await with_group(flush, scene) == 2


@given(st.lists(st.sampled_from(["queue", "run:" + "x" * 36, "wake:" + "y" * 36]), max_size=600))
def test_hints_fit_into_notifications_and_none_is_left_out(topics):
    told = list(payloads(topics))
    assert all(len(text.encode()) < 8000 for text in told)
    assert [topic for text in told for topic in text.split(",")] == topics


async def test_what_arrives_just_as_the_last_strand_rests_wakes_the_run():
    """Rule 9: a signal that was delivered but not taken keeps the run from resting over it."""
    rests = []

    class Writer:
        def of(self, run_id):
            return self

        async def put(self, owner, row):
            rests.append(row)

    claim = SimpleNamespace(
        run_id=UUID(int=1),
        workflow_id=UUID(int=2),
        version_id=UUID(int=3),
        depth=0,
        wakes=0,
        generation=1,
        lane=None,
        event={"type": "test"},
    )
    ground = Ground(Writer(), SimpleNamespace(), lambda: datetime.now(UTC))
    journal = RunJournal(claim, None, ground, Ownership(claim.run_id, 1), "w")
    journal._remember(Entry("c", "opened"))
    journal.deliver(1, [{"path": "c", "body": '{"state":"succeeded"}'}])
    await journal.rest(Rested((("c", None),)), 0.0)
    assert rests[-1].known_wakes == -1  # never equal to the counter: it is ready at once
    journal._remember(Entry("c#end", "value"))
    await journal.rest(Rested((("d", None),)), 0.0)
    assert rests[-1].known_wakes == 1


async def test_what_was_taken_back_and_tells_all_the_same_wakes_nobody_for_ever():
    """A withdrawn child ends after all: its parent rests on, instead of waking and resting in a circle."""
    rests = []

    class Writer:
        def of(self, run_id):
            return self

        async def put(self, owner, row):
            rests.append(row)

    claim = SimpleNamespace(
        run_id=UUID(int=1),
        workflow_id=UUID(int=2),
        version_id=UUID(int=3),
        depth=0,
        wakes=0,
        generation=1,
        lane=None,
        event={"type": "test"},
    )
    journal = RunJournal(
        claim, None, Ground(Writer(), SimpleNamespace(), lambda: datetime.now(UTC)), Ownership(claim.run_id, 1), "w"
    )
    journal._remember(Entry("each[1].c", "opened"))
    journal._remember(Entry("each[1]#withdrawn", "value"))
    journal.deliver(4, [{"path": "each[1].c", "body": '{"state":"cancelled"}'}])
    await journal.rest(Rested((("d", None),)), 0.0)
    assert rests[-1].known_wakes == 4
    journal._remember(Entry("each[1].c!.asked", "opened"))  # asked behind it, in its place
    assert list(journal.open.entries) == ["each[1].c!.asked"]
