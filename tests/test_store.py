"""The hot statements against a real PostgreSQL: claims, leases, fencing, rest, group commit, searched tables."""

import asyncio
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from types import SimpleNamespace
from typing import Any
from uuid import UUID

import asyncpg
import pytest
import uuid_utils.compat as uuids
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import text
from sqlalchemy.exc import DBAPIError

from oak_relay.capabilities.given import Where
from oak_relay.changes import AddRow, AnswerCaller, Change, Part, Remember, StartRun, UpsertRow
from oak_relay.document.models import Workflow
from oak_relay.document.text import read
from oak_relay.engine.entries import Entry
from oak_relay.runtime.lease import Lease
from oak_relay.runtime.rates import Rates
from oak_relay.runtime.record import Ground, RunJournal
from oak_relay.runtime.writer import Dropped, JournalWriter, Unwritten
from oak_relay.store import ending, epoch, history, intake, journal, queue, rows, runs, signals, workers, workflows
from oak_relay.store.changes import About, Prepared, prepared
from oak_relay.store.database import Database, raw
from oak_relay.store.intake import NewRun
from oak_relay.store.journal import BackRow, Batch, EndRow, Fenced, Raised, RestRow
from oak_relay.store.pages import EntryRow, Page
from oak_relay.store.queue import Claim
from oak_relay.store.tables import MAIN_WORKSPACE
from oak_relay.vault.blanking import Blanker
from oak_relay.vault.kinds import Rate
from tests.conftest import apart

TEXT = "oak: 1\nworkflow: stored\nsteps:\n  - {step: a, wait: 1s}\n"


@pytest.fixture
async def database(new_database):
    found = Database(new_database())
    await found.migrate()
    async with found.begin() as connection:
        await workflows.save(
            connection,
            MAIN_WORKSPACE,
            Workflow.model_validate(read(TEXT).data),
            1,
            TEXT,
            "test",
            lambda number: not number,
        )
    yield found
    await found.close()


@pytest.fixture
async def connection(database):
    found = await database.connect_directly()
    yield found
    await found.close()


async def new_runs(
    database: Database, count: int, keys: list[str] | None = None, workflow: str = "stored"
) -> list[NewRun]:
    async with database.begin() as found:
        if await workflows.by_name(found, MAIN_WORKSPACE, workflow) is None:
            text = TEXT.replace("stored", workflow)
            await workflows.save(
                found,
                MAIN_WORKSPACE,
                Workflow.model_validate(read(text).data),
                1,
                text,
                "test",
                lambda number: not number,
            )
        row = await workflows.by_name(found, MAIN_WORKSPACE, workflow)
        version = await workflows.one_version(found, MAIN_WORKSPACE, row.id, None)
    return [
        NewRun(uuids.uuid7(), uuids.uuid7(), None, row.id, version.id, 1, "test", "/test", "test", keys[n] if keys else str(n), keys is not None,
               "{}", '{"headers":{},"query":{}}', None)
        for n in range(count)
    ]  # fmt: skip


async def worker(connection: asyncpg.Connection, lease: float = 30) -> UUID:
    found = uuids.uuid7()
    await workers.register(connection, found, "test", 1, lease)
    return found


def row(run_id: UUID, **more) -> EntryRow:
    return EntryRow(run_id, **{"path": "a", "kind": "value", "attempt": 0, "hash": "", "body": "1", **more})


def made(change: Change) -> Prepared[Any]:
    return prepared(change, About("stored", uuids.uuid7(), uuids.uuid7(), 1))


def page(run_id: UUID, number: int = 0, generation: int = 1, **more) -> Page:
    """A page of one entry."""
    only = row(run_id, **more)
    return Page(run_id, number, generation, only.scope, [only])


def end(claim: Claim, **more: Any) -> EndRow:
    return EndRow(
        claim.run_id, claim.generation, "succeeded", "1", None, None, 3, 4, Decimal("0.25"), 0, 1, 1, "w", 1, claim.started_at,
        **more,
    )  # fmt: skip


async def write(connection: asyncpg.Connection, mine: UUID, batch: Batch, fence: int = 0) -> None:
    await journal.write(connection, MAIN_WORKSPACE, mine, fence, batch)


async def claim_some(connection, mine, revision, most):
    return await queue.claim(connection, MAIN_WORKSPACE, mine, revision, most, queue.RoundRobin())


async def test_claims_are_disjoint_and_complete(database, connection):
    given = await new_runs(database, 40)
    await intake.accept(connection, MAIN_WORKSPACE, given)
    workers = [(await database.connect_directly(), await worker(connection)) for _ in range(3)]
    taken = await asyncio.gather(*(claim_some(c, w, 1, 15) for c, w in workers for _ in [0]))
    ids = [claim.run_id for claims in taken for claim in claims]
    assert len(ids) == len(set(ids)) == 40
    assert {claim.walks for claims in taken for claim in claims} == {1}
    for found, _ in workers:
        await found.close()


async def test_a_newer_engines_runs_are_left_alone(database, connection):
    """Rule 7: a worker that cannot walk a version does not claim it."""
    given = await new_runs(database, 1)
    await intake.accept(connection, MAIN_WORKSPACE, given)
    await connection.execute("UPDATE queue SET revision = 2")
    assert await claim_some(connection, await worker(connection), 1, 10) == []


async def test_an_event_id_counts_once_within_and_between_batches(database, connection):
    """Rule 11."""
    first = await intake.accept(connection, MAIN_WORKSPACE, await new_runs(database, 3, ["x", "x", "y"]))
    assert [r.status for r in first] == ["accepted", "duplicate", "accepted"]
    assert first[1].run_id == first[0].run_id
    [again] = await intake.accept(connection, MAIN_WORKSPACE, await new_runs(database, 1, ["y"]))
    assert (again.status, again.run_id) == ("duplicate", first[2].run_id)
    assert await connection.fetchval("SELECT count(*) FROM run") == 2


async def test_a_trigger_that_is_no_longer_live_makes_no_run(database, connection):
    [given] = await new_runs(database, 1)
    [receipt] = await intake.accept(connection, MAIN_WORKSPACE, [given._replace(trigger_id=uuids.uuid7())])
    assert receipt.status == "stale"
    assert await connection.fetchval("SELECT count(*) FROM event") == 0


async def claimed(database, connection, count=1, lease=30.0):
    await intake.accept(connection, MAIN_WORKSPACE, await new_runs(database, count))
    mine = await worker(connection, lease)
    return mine, await claim_some(connection, mine, 1, count)


async def test_a_worker_that_is_declared_dead_writes_nothing(database, connection):
    """Rule 1: in the plain statement and in a transaction with effects."""
    mine, [claim] = await claimed(database, connection, lease=0.0)
    assert await workers.bury(connection, MAIN_WORKSPACE) == 1
    assert await workers.bury(connection, MAIN_WORKSPACE) == 0
    for batch in (
        Batch([page(claim.run_id)]),
        Batch([page(claim.run_id)], [end(claim)]),
        Batch(rests=[RestRow(claim.run_id, claim.generation, (("a", datetime.now(UTC)),), 0, 0.1, 0, 0, "0")]),
        Batch(backs=[BackRow(claim.run_id, claim.generation)]),
        Batch([page(claim.run_id, change=made(AnswerCaller({})), given={})]),
    ):
        with pytest.raises(Raised):
            await write(connection, mine, batch)
    with pytest.raises(Fenced):
        await journal.owned(connection, MAIN_WORKSPACE, mine)
    assert await connection.fetchval("SELECT count(*) FROM entry") == 0
    assert await workers.renew(connection, mine, 10) is None
    assert await claim_some(connection, mine, 1, 10) == []
    [again] = await claim_some(connection, await worker(connection), 1, 10)
    assert (again.run_id, again.walks) == (claim.run_id, 2)


async def test_a_lease_that_is_over_may_be_renewed_while_nobody_took_the_worker_for_dead(database, connection):
    mine, [claim] = await claimed(database, connection, lease=0.0)
    await write(connection, mine, Batch([page(claim.run_id)]))
    assert await workers.renew(connection, mine, 30)
    assert await workers.bury(connection, MAIN_WORKSPACE) == 0


async def test_hold_and_release_end_every_walk_under_the_claims_before(database, connection):
    """Rule 1: the same worker has the run again, and only its newer claim counts."""
    mine, [claim] = await claimed(database, connection)
    assert await epoch.hold(connection, MAIN_WORKSPACE) == 1
    assert await claim_some(connection, mine, 1, 10) == []
    assert await epoch.release(connection, MAIN_WORKSPACE) == 1
    [again] = await claim_some(connection, mine, 1, 10)
    with pytest.raises(Raised):
        await write(connection, mine, Batch([page(claim.run_id)]))
    value, owned = await journal.owned(connection, MAIN_WORKSPACE, mine)
    assert owned == {claim.run_id: again.generation}
    assert again.generation > claim.generation
    assert (claim.fence, again.fence) == (0, value)
    await write(connection, mine, Batch([page(claim.run_id)]), value)


@pytest.mark.parametrize("raiser", ["hold", "bury"])
async def test_a_takeover_waits_for_a_commit_under_way_and_then_wins(database, connection, raiser):
    """Rule 1: the old owner either commits before the takeover or never."""
    mine, [claim] = await claimed(database, connection, lease=0.0)
    other = await database.connect_directly()
    transaction = connection.transaction()
    await transaction.start()
    await write(connection, mine, Batch([page(claim.run_id)]))
    work = epoch.hold(other, MAIN_WORKSPACE) if raiser == "hold" else workers.bury(other, MAIN_WORKSPACE)
    takeover = asyncio.create_task(work)
    done, _ = await asyncio.wait({takeover}, timeout=0.3)
    assert not done
    await transaction.commit()
    assert await takeover == 1
    with pytest.raises(Raised):
        await write(connection, mine, Batch([page(claim.run_id, 1)]))
    assert await connection.fetchval("SELECT count(*) FROM entry") == 1
    await other.close()


async def test_a_commit_that_waits_for_a_takeover_writes_nothing(database, connection):
    """Rule 1: its statement began before the fence was raised, and sees that all the same."""
    mine, [claim] = await claimed(database, connection)
    other = await database.connect_directly()
    transaction = other.transaction()
    await transaction.start()
    await workers.raise_all(other)
    late = asyncio.create_task(write(connection, mine, Batch([page(claim.run_id)], [end(claim)])))
    done, _ = await asyncio.wait({late}, timeout=0.3)
    assert not done
    await other.execute("UPDATE queue SET worker_id = NULL, generation = generation + 1")
    await transaction.commit()
    with pytest.raises(Raised):
        await late
    assert await connection.fetchval("SELECT count(*) FROM entry") == 0
    assert await connection.fetchval("SELECT count(*) FROM queue") == 1
    await other.close()


async def test_a_slow_commit_is_waited_for_and_compared(database, connection):
    """Rule 5: whether it landed is asked while it is still under way."""
    mine, [claim] = await claimed(database, connection)
    other = await database.connect_directly()
    batch = Batch([page(claim.run_id)])
    transaction = connection.transaction()
    await transaction.start()
    await write(connection, mine, batch)
    asking = asyncio.create_task(journal.landed(other, MAIN_WORKSPACE, mine, batch))
    done, _ = await asyncio.wait({asking}, timeout=0.3)
    assert not done
    await transaction.commit()
    assert await asking
    assert not await journal.landed(other, MAIN_WORKSPACE, mine, Batch([page(claim.run_id, generation=2)]))
    await other.close()


async def test_a_slow_intake_is_waited_for_and_compared(database, connection):
    """What landed is told as it was: accepted, twice, for a version that is not live."""
    other = await database.connect_directly()
    [before] = await new_runs(database, 1, ["old"])
    await intake.accept(connection, MAIN_WORKSPACE, [before])
    [fresh, twice, stale] = await new_runs(database, 3, ["new", "old", "gone"])
    given = [fresh, twice, stale._replace(trigger_id=uuids.uuid7())]
    transaction = connection.transaction()
    await transaction.start()
    receipts = await intake.accept(connection, MAIN_WORKSPACE, given, 7)
    asking = asyncio.create_task(intake.settled(other, MAIN_WORKSPACE, given, 7))
    done, _ = await asyncio.wait({asking}, timeout=0.3)
    assert not done
    await transaction.commit()
    assert await asking == receipts
    assert [(r.status, r.run_id) for r in receipts] == [
        ("accepted", fresh.run_id), ("duplicate", before.run_id), ("stale", stale.run_id),
    ]  # fmt: skip
    assert await intake.settled(other, MAIN_WORKSPACE, await new_runs(database, 1, ["unsent"]), 7) is None
    await other.close()


async def test_an_event_that_came_before_is_a_duplicate_also_when_nothing_is_live(database, connection):
    trigger = uuids.uuid7()
    [first, again] = [run._replace(trigger_id=trigger) for run in await new_runs(database, 2, ["x", "x"])]
    await connection.execute("INSERT INTO seen (workspace_id, trigger_id, source, event_key, run_id) VALUES (1, $1, '/test', 'x', $2)",
                             trigger, first.run_id)  # fmt: skip
    [receipt] = await intake.accept(connection, MAIN_WORKSPACE, [again])
    assert (receipt.status, receipt.run_id) == ("duplicate", first.run_id)


async def test_a_database_that_was_set_back_is_noticed_by_whoever_connects(database, connection):
    """Rule 19: once for each restore, and what is walked is taken from its workers."""
    mine, [claim] = await claimed(database, connection)
    for _ in range(5):
        database.mark = await epoch.grow(connection)
    await connection.execute("UPDATE epoch SET value = 2 WHERE name = 'mark'")
    again = await database.connect_directly()
    assert await connection.fetchval("SELECT held FROM queue") == "restore"
    with pytest.raises(Raised):
        await write(connection, mine, Batch([page(claim.run_id)]))
    assert await epoch.noticed(connection) == database.mark > 1000
    await epoch.release(connection, MAIN_WORKSPACE)
    other = Database(database.dsn)
    other.mark = 7  # had seen a little more than the one that noticed
    await (await other.connect_directly()).close()
    assert await connection.fetchval("SELECT held FROM queue") is None
    await again.close()
    await other.close()


async def test_claims_whose_answer_was_lost_are_given_back(database, connection):
    mine, claims = await claimed(database, connection, 3)
    assert await queue.give_back_unknown(connection, MAIN_WORKSPACE, mine, [claims[0].run_id]) == 2
    left = await connection.fetch("SELECT run_id FROM queue WHERE worker_id IS NOT NULL")
    assert [row["run_id"] for row in left] == [claims[0].run_id]


async def test_the_end_of_a_run_takes_it_out_of_the_queue_with_its_sums(database, connection):
    mine, [claim] = await claimed(database, connection)
    await write(connection, mine, Batch([page(claim.run_id)], [end(claim)]))
    row = await connection.fetchrow("SELECT * FROM run")
    assert (row["state"], row["tokens_in"], row["tokens_out"], float(row["money"])) == ("succeeded", 3, 4, 0.25)
    assert row["ended_at"] >= row["started_at"]
    assert await connection.fetchval("SELECT count(*) FROM queue") == 0


async def test_what_landed_is_known_after_a_lost_commit(database, connection):
    """Rule 5."""
    mine, claims = await claimed(database, connection, 2)
    written, unwritten = (Batch([page(c.run_id)], [end(c)]) for c in claims)
    await write(connection, mine, written)
    assert await journal.landed(connection, MAIN_WORKSPACE, mine, written)
    assert not await journal.landed(connection, MAIN_WORKSPACE, mine, unwritten)
    only_end = Batch(ends=[end(claims[1])])
    assert not await journal.landed(connection, MAIN_WORKSPACE, mine, only_end)
    await write(connection, mine, only_end)
    assert await journal.landed(connection, MAIN_WORKSPACE, mine, only_end)


async def test_values_that_do_not_fit_are_not_a_lost_database(database, connection):
    """One row of a batch cannot be written; the others are, and nobody waits for another connection."""
    mine, claims = await claimed(database, connection, 3)
    registry = SimpleNamespace(workspace=MAIN_WORKSPACE, now=SimpleNamespace(listening=False))
    writer = JournalWriter(database, mine, SimpleNamespace(send=lambda topic: None, watched=False), registry)
    owners = [writer.own(claim) for claim in claims]
    rows = [row(owner.run_id, tokens_in=10**place) for place, owner in zip((3, 30, 4), owners, strict=True)]
    put = [writer.put(owner, row) for owner, row in zip(owners, rows, strict=True)]
    async with asyncio.timeout(20):
        writing = asyncio.create_task(writer.run())
        found = await asyncio.gather(*put, return_exceptions=True)
        writing.cancel()
    assert [isinstance(one, asyncpg.DataError) for one in found] == [False, True, False]
    assert await connection.fetchval("SELECT count(*) FROM entry") == 2
    with pytest.raises(DBAPIError, match="out of int64 range"):
        async with database.begin() as found_too:
            await found_too.execute(text("SELECT CAST(:n AS bigint)"), {"n": 10**30})


async def test_a_run_that_is_dropped_during_its_commit_takes_nothing_from_others(database, connection, monkeypatch):
    """What was in that commit is written once, the dropped run's entry too, and nobody else is told of it."""
    mine, claims = await claimed(database, connection, 3)
    registry = SimpleNamespace(workspace=MAIN_WORKSPACE, now=SimpleNamespace(listening=False))
    writer = JournalWriter(database, mine, SimpleNamespace(send=lambda topic: None, watched=False), registry)
    owners, write_ = [writer.own(claim) for claim in claims], journal.write

    async def dropping(*given: Any) -> None:
        await write_(*given)
        owners[1].drop()

    monkeypatch.setattr(journal, "write", dropping)
    put = [writer.put(owner, row(owner.run_id)) for owner in owners]
    async with asyncio.timeout(20):
        writing = asyncio.create_task(writer.run())
        found = await asyncio.gather(*put, return_exceptions=True)
        writing.cancel()
    assert [type(one) for one in found] == [EntryRow, Dropped, EntryRow]
    assert await connection.fetchval("SELECT count(*) FROM entry") == 3


async def test_a_run_whose_left_entry_cannot_be_written_is_given_back(database, connection):
    """Nobody waited for that entry, so the next row fails; not as its own step's failure, and the run is no one's for ever."""
    mine, [claim] = await claimed(database, connection)
    registry = SimpleNamespace(workspace=MAIN_WORKSPACE, now=SimpleNamespace(listening=False))
    writer = JournalWriter(database, mine, SimpleNamespace(send=lambda topic: None, watched=False), registry)
    owner = writer.own(claim)
    writer.leave(owner, row(claim.run_id, tokens_in=10**30))
    async with asyncio.timeout(20):
        writing = asyncio.create_task(writer.run())
        await writer.put(owner, row(claim.run_id))  # of the same commit, and not to suffer for it
        with pytest.raises(Unwritten):
            await writer.put(owner, end(claim))
        await writer.put(owner, BackRow(claim.run_id, claim.generation, 0.0, {"kind": "failed"}))
        writing.cancel()
    assert await connection.fetchval("SELECT worker_id FROM queue") is None
    assert await connection.fetchval("SELECT deaths FROM queue") == 1


async def test_entries_that_nobody_waits_for_are_written_with_the_next_or_by_themselves(database, connection):
    mine, [first, second] = await claimed(database, connection, 2)
    registry = SimpleNamespace(workspace=MAIN_WORKSPACE, now=SimpleNamespace(listening=False))
    writer = JournalWriter(database, mine, SimpleNamespace(send=lambda topic: None, watched=False), registry)
    owner, alone = writer.own(first), writer.own(second)
    async with asyncio.timeout(20):
        writing = asyncio.create_task(writer.run())
        writer.leave(owner, row(first.run_id, path="a"))
        writer.leave(alone, row(second.run_id, path="b"))
        await writer.put(owner, row(first.run_id, path="c"))
        kept = await connection.fetch("SELECT run_id, path, seq FROM entry ORDER BY seq")
        assert [tuple(one) for one in kept] == [(first.run_id, "a", 0), (first.run_id, "c", 1)]  # both in one page
        while await connection.fetchval("SELECT count(*) FROM entry") < 3:  # noqa: ASYNC110
            await asyncio.sleep(0.01)
        for number in range(200):  # so many are not kept back, though nobody waits for them
            writer.leave(owner, row(first.run_id, path=f"d{number}"))
        assert len(owner.left) < 64
        writer.leave(owner, row(first.run_id, path="e", detail='"' + "long " * 20_000 + '"'))
        assert not owner.left
        await writer.put(owner, end(first))
        writing.cancel()
    found = await connection.fetch("SELECT path FROM entry WHERE run_id = $1 ORDER BY seq", first.run_id)
    assert [one["path"] for one in found] == ["a", "c", *(f"d{number}" for number in range(200)), "e"]


async def test_what_an_earlier_claim_would_take_out_of_a_workers_hands_is_not_its_own(database, connection):
    """Rule 5: a rest landed, its answer was lost, and the same worker has claimed the run anew before it asks."""
    mine, [claim] = await claimed(database, connection)
    rest = Batch(rests=[RestRow(claim.run_id, claim.generation, (("a", datetime.now(UTC)),), 0, 0, 0, 0, "0")])
    await write(connection, mine, rest)
    [again] = await claim_some(connection, mine, 1, 1)
    assert again.generation == claim.generation + 2
    late = [rest, Batch(backs=[BackRow(claim.run_id, claim.generation)]), Batch(ends=[end(claim)])]
    for batch in late:
        assert await journal.landed(connection, MAIN_WORKSPACE, mine, batch)
        await write(connection, mine, batch)
    _, owned = await journal.owned(connection, MAIN_WORKSPACE, mine)
    assert owned == {claim.run_id: again.generation}
    assert await connection.fetchval("SELECT state FROM run") is None


@pytest.mark.parametrize(("woken", "later"), [(False, True), (True, False)])
async def test_going_to_rest_loses_no_wake(database, connection, woken, later):
    """Rule 9: compare-and-set on the counter of wakes."""
    mine, [claim] = await claimed(database, connection)
    if woken:
        await connection.execute("UPDATE queue SET wakes = wakes + 1")
    until = datetime.now(UTC) + timedelta(hours=1)
    await write(
        connection,
        mine,
        Batch(
            rests=[RestRow(claim.run_id, claim.generation, (("a", until), ("b", until)), claim.wakes, 1.5, 0, 0, "0")]
        ),
    )
    row = await connection.fetchrow(
        "SELECT ready_at > clock_timestamp() + interval '1 minute' AS later, worker_id, worked FROM queue"
    )
    assert (row["later"], row["worker_id"], float(row["worked"])) == (later, None, 1.5)
    assert await connection.fetchval("SELECT count(*) FROM wake") == 2
    assert bool(await claim_some(connection, mine, 1, 10)) == woken


async def test_cancel_wakes_a_resting_run_for_its_end(database, connection):
    mine, [claim] = await claimed(database, connection)
    async with database.begin() as found:
        assert await runs.cancel(found, MAIN_WORKSPACE, claim.run_id) == "asked"
    assert await queue.cancelled_here(connection, MAIN_WORKSPACE, mine) == [claim.run_id]
    await write(
        connection,
        mine,
        Batch(
            rests=[
                RestRow(
                    claim.run_id, claim.generation, (("a", datetime.now(UTC) + timedelta(hours=1)),), 0, 0, 0, 0, "0"
                )
            ]
        ),
    )
    [again] = await claim_some(connection, mine, 1, 1)  # it was woken for its end
    assert again.cancelled


async def test_a_run_whose_walk_breaks_is_set_aside_the_third_time(database, connection):
    mine, [claim] = await claimed(database, connection)
    reason = {"kind": "failed", "message": "broke"}
    for aside in (False, False, True):
        await write(connection, mine, Batch(backs=[BackRow(claim.run_id, claim.generation, reason=reason)]))
        assert (await connection.fetchval("SELECT state FROM run") == "set aside") is aside
        await connection.execute("UPDATE queue SET ready_at = now()")
        again = await claim_some(connection, mine, 1, 1) or await queue.claim_suspects(
            connection, MAIN_WORKSPACE, mine, 1
        )
        claim = again[0] if again else claim


async def test_a_walk_that_was_held_up_counts_for_nothing(database, connection):
    mine, [claim] = await claimed(database, connection)
    for _ in range(4):
        await write(connection, mine, Batch(backs=[BackRow(claim.run_id, claim.generation, 0.0)]))
        [claim] = await claim_some(connection, mine, 1, 1)
    assert await connection.fetchval("SELECT deaths FROM queue") == 0


async def test_a_worker_that_leaves_hands_back_without_a_death(database, connection):
    mine, _ = await claimed(database, connection, 3)
    assert await workers.leave(connection, MAIN_WORKSPACE, mine) == 3
    assert await connection.fetchval("SELECT max(deaths) FROM queue") == 0


def upsert(run_id: UUID, seq: int, table: UUID, guest: str, n: int) -> EntryRow:
    return page(run_id, seq, path=f"p{seq}", change=made(UpsertRow(table, {"guest": guest, "n": n}, ["guest"])),
                 given={})  # fmt: skip


async def test_upserts_find_rows_added_before_and_while_the_table_became_searched(database, connection):
    async with database.begin() as found:
        table = await rows.create(
            found, MAIN_WORKSPACE, "guests", [{"name": "guest", "type": "text"}, {"name": "n", "type": "number"}]
        )
        await rows.add(found, MAIN_WORKSPACE, table, [{"guest": "Ada", "n": 0}])
    mine, claims = await claimed(database, connection, 2)
    added = page(claims[0].run_id, 0, change=made(AddRow(table, {"guest": "Bo", "n": 0})))
    await write(connection, mine, Batch([added]))
    assert await connection.fetchval("SELECT count(*) FROM table_row WHERE searched") == 0
    batch = Batch(
        [
            upsert(claims[0].run_id, 1, table, "Ada", 1),
            upsert(claims[0].run_id, 2, table, "Bo", 1),
            upsert(claims[1].run_id, 0, table, "Cleo", 1),
        ]
    )
    await write(connection, mine, batch)
    assert [e.result["created"] for e in batch.entries()] == [False, False, True]
    assert await connection.fetchval("SELECT count(*) FROM table_row WHERE searched") == 3
    async with database.connect() as found:
        assert [
            r["row"]["n"] for r in await rows.find(found, MAIN_WORKSPACE, table, 10, where=Where({"guest": "Ada"}))
        ] == [1]
    other = page(claims[0].run_id, 3, change=made(AddRow(table, {"guest": "Dov"})))
    await write(connection, mine, Batch([other]))
    assert await connection.fetchval("SELECT count(*) FROM table_row WHERE searched") == 4


async def test_workers_that_upsert_the_same_rows_do_not_block_each_other(database, connection):
    """Rule 5: local writes are sorted by key, so that batches cannot deadlock."""
    async with database.begin() as found:
        table = await rows.create(found, MAIN_WORKSPACE, "guests", [{"name": "guest", "type": "any"}])
    mine, claims = await claimed(database, connection, 8)
    others = [await database.connect_directly() for _ in claims]
    guests = ["Ada", "Bo", "Cleo", "Dov"]

    async def put(place: int) -> None:
        order = guests if place % 2 else guests[::-1]
        batch = Batch([upsert(claims[place].run_id, n, table, g, n) for n, g in enumerate(order)])
        await write(others[place], mine, batch)

    async with asyncio.timeout(20):
        await asyncio.gather(*(put(place) for place in range(len(claims))))
    assert await connection.fetchval("SELECT count(*) FROM table_row") == 4
    for found in others:
        await found.close()


async def test_a_row_for_a_table_that_is_gone_is_refused_alone(database, connection):
    mine, [claim] = await claimed(database, connection)
    bad = page(claim.run_id, change=made(AddRow(uuids.uuid7(), {})))
    with pytest.raises(asyncpg.IntegrityConstraintViolationError):
        await write(connection, mine, Batch([bad]))
    assert await connection.fetchval("SELECT count(*) FROM entry") == 0


async def test_a_lost_server_is_a_lost_connection(database):
    with pytest.raises(ConnectionError):
        async with database.connect() as found:
            pid = (await raw(found)).get_server_pid()
            other = await database.connect_directly()
            await other.execute("SELECT pg_terminate_backend($1)", pid)
            await other.close()
            await runs.one(found, MAIN_WORKSPACE, uuids.uuid7())
            await runs.one(found, MAIN_WORKSPACE, uuids.uuid7())


async def pid_of(database: Database) -> int:
    async with database.connect() as found:
        return (await raw(found)).get_server_pid()


@pytest.mark.parametrize("rested", [0.0, 3600.0])
async def test_a_connection_that_is_lost_while_nobody_has_it_is_opened_anew(database, connection, monkeypatch, rested):
    monkeypatch.setattr("oak_relay.store.database._RESTED", rested)
    async with database.connect() as found:
        driver = await raw(found)
    await connection.execute("SELECT pg_terminate_backend($1)", driver.get_server_pid())
    while rested and not driver.is_closed():  # noqa: ASYNC110
        await asyncio.sleep(0.01)
    assert await pid_of(database) != driver.get_server_pid()


async def test_who_only_reads_begins_no_transaction(database):
    async with database.connect() as found:
        assert (await found.execute(text("SELECT 1"))).scalar() == 1
        assert not (await raw(found)).is_in_transaction()
    async with database.begin() as found:
        await found.execute(text("SELECT 1"))
        assert (await raw(found)).is_in_transaction()


async def test_a_run_begins_with_the_version_that_is_named_or_on_or_newest(database, connection):
    async def begins(number: int | None = None, name: str = "stored") -> int | None:
        found = await workflows.beginning(connection, MAIN_WORKSPACE, name, number)
        return found and await connection.fetchval("SELECT number FROM version WHERE id = $1", found.version_id)

    other = TEXT.replace("1s", "2s")
    async with database.begin() as found:
        document = Workflow.model_validate(read(other).data)
        await workflows.save(found, MAIN_WORKSPACE, document, 1, other, "test", lambda number: True)
    assert [await begins(number) for number in (1, 2, 3, None)] == [1, 2, None, 2]
    await connection.execute("UPDATE workflow SET on_version = 1")
    assert [await begins(), await begins(2)] == [1, 2]
    assert await workflows.beginning(connection, MAIN_WORKSPACE, "another", None) is None


def said(claim: Claim, number: int, *keys: str) -> Page:
    """A page in which a run remembers an exchange in each of these conversations."""
    rows = []
    for place, key in enumerate(keys):
        messages = [{"role": "user", "content": f"{key} asks"}, {"role": "assistant", "content": "It is told."}]
        rows.append(row(claim.run_id, path=f"s{place}", change=made(Remember(key, messages)), given={}))
    return Page(claim.run_id, number, claim.generation, rows[0].scope, rows)


TOLD = "SELECT c.key, array_agg(m.seq ORDER BY m.seq) AS seqs, array_agg(m.role ORDER BY m.seq) AS roles FROM conversation c JOIN message m ON m.conversation_id = c.id GROUP BY 1"


async def test_what_is_said_in_many_conversations_is_put_behind_what_each_holds(database, connection):
    mine, [one, two] = await claimed(database, connection, 2)
    await connection.execute(
        "INSERT INTO conversation (workspace_id, id, key, channel) VALUES (1, gen_random_uuid(), 'page', 'talk')"
    )
    batch = Batch([said(one, 0, "ada", "rob", "ada", "page"), said(two, 0, "ada", "bea")])
    await write(connection, mine, batch)
    firsts = [entry.result["first"] for entry in batch.entries()]
    assert firsts == [0, 0, 2, -1, 4, 0]
    assert [entry.result["count"] for entry in batch.entries()] == [2] * 6
    held = {found["key"]: (found["seqs"], found["roles"]) for found in await connection.fetch(TOLD)}
    assert {key: seqs for key, (seqs, _) in held.items()} == {"ada": [0, 1, 2, 3, 4, 5], "rob": [0, 1], "bea": [0, 1]}
    assert all(roles == ["user", "assistant"] * (len(seqs) // 2) for seqs, roles in held.values())


async def test_writers_that_remember_in_the_same_conversations_take_turns(database, connection):
    mine, claims = await claimed(database, connection, 6)
    others = [await database.connect_directly() for _ in claims]
    keys = [f"talk {n}" for n in range(8)]

    async def remember(place: int) -> None:
        for number in range(5):
            ordered = keys if (place + number) % 2 else keys[::-1]
            await write(others[place], mine, Batch([said(claims[place], number, *ordered)]))

    async with asyncio.timeout(30):
        await asyncio.gather(*(remember(place) for place in range(len(claims))))
    held = {found["key"]: found["seqs"] for found in await connection.fetch(TOLD)}
    assert held == {key: list(range(60)) for key in keys}
    for other in others:
        await other.close()


async def test_one_flood_does_not_starve_the_others(database, connection):
    """Workflows take turns."""
    await intake.accept(connection, MAIN_WORKSPACE, await new_runs(database, 90))
    other = await new_runs(database, 3, workflow="other")
    await intake.accept(connection, MAIN_WORKSPACE, other)
    taken = await claim_some(connection, await worker(connection), 1, 20)
    assert {c.run_id for c in taken} >= {r.run_id for r in other}
    assert len(taken) == 13  # half of the claim, and all that the other has


async def test_at_once_bounds_what_is_at_work_over_all_workers(database, connection):
    await intake.accept(connection, MAIN_WORKSPACE, await new_runs(database, 10))
    await connection.execute("UPDATE workflow SET at_once = 4")
    workers = [(await database.connect_directly(), await worker(connection)) for _ in range(3)]
    assert await claim_some(connection, workers[0][1], 1, 10) == []
    taken = await asyncio.gather(*(queue.claim_limited(c, MAIN_WORKSPACE, w, 1, 3) for c, w in workers))
    more = [
        await queue.claim_limited(c, MAIN_WORKSPACE, w, 1, 3) for c, w in workers
    ]  # who found the row held comes again
    claims = [claim for some in (*taken, *more) for claim in some]
    assert len(claims) == 4
    [(found, mine)] = [(c, w) for c, w in workers[:1]]
    owner = await connection.fetchval("SELECT worker_id FROM queue WHERE run_id = $1", claims[0].run_id)
    await write(connection, owner, Batch(ends=[end(claims[0])]))
    assert len(await queue.claim_limited(found, MAIN_WORKSPACE, mine, 1, 3)) == 1
    for found, _ in workers:
        await found.close()


async def test_who_waits_in_a_lane_that_was_counted_short_goes_on(database, connection):
    await lane_of(database, connection, 2)
    mine = await worker(connection)
    [first] = await claim_some(connection, mine, 1, 10)
    await connection.execute("UPDATE lane SET open = 1")
    await write(connection, mine, Batch(ends=[end(first, lane=(first.workflow_id, "Ada"))]))
    [second] = await claim_some(connection, mine, 1, 10)
    assert second.run_id != first.run_id


async def lane_of(database, connection, count, policy="queue"):
    given = await new_runs(database, count)
    given = [run._replace(subject="Ada", policy=policy) for run in given]
    return given, await intake.accept(connection, MAIN_WORKSPACE, given)


async def test_runs_of_one_subject_go_one_after_the_other_in_order(database, connection):
    """Rule 10: also when the one at the head fails."""
    given, _ = await lane_of(database, connection, 3)
    more, _ = await lane_of(database, connection, 2)
    mine, gone = await worker(connection), []
    for place in range(5):
        [claim] = await claim_some(connection, mine, 1, 10)
        gone.append(claim.run_id)
        lane = {"lane": (claim.workflow_id, "Ada")}
        failed = EndRow(
            claim.run_id,
            claim.generation,
            "failed",
            None,
            "{}",
            "failed",
            0,
            0,
            Decimal(0),
            0,
            0,
            0,
            "w",
            1,
            claim.started_at,
            **lane,
        )
        batch = Batch(ends=[failed if place == 1 else end(claim, **lane)])
        await write(connection, mine, batch)
        assert batch.freed == (place < 4)  # workers are told only where somebody waits
        assert await connection.fetchval("SELECT coalesce(sum(open), 0) FROM lane") == 4 - place
    assert gone == [r.run_id for r in (*given, *more)]
    assert await connection.fetchval("SELECT count(*) FROM lane") == 0


async def test_a_set_aside_head_lets_the_next_pass(database, connection):
    given, _ = await lane_of(database, connection, 2)
    async with connection.transaction():
        await ending.finish(
            connection, MAIN_WORKSPACE, given[0].run_id, "set aside", {"kind": "failed", "message": "no"}
        )
    [claim] = await claim_some(connection, await worker(connection), 1, 10)
    assert claim.run_id == given[1].run_id


async def test_drop_keeps_the_event_as_a_cancelled_run(database, connection):
    given, receipts = await lane_of(database, connection, 3, "drop")
    assert [r.status for r in receipts] == ["accepted", "dropped", "dropped"]
    assert await connection.fetchval("SELECT count(*) FROM run WHERE state = 'cancelled'") == 2
    [claim] = await claim_some(connection, await worker(connection), 1, 10)
    assert claim.run_id == given[0].run_id


async def test_replace_ends_what_came_before(database, connection):
    given, _ = await lane_of(database, connection, 2, "replace")
    mine = await worker(connection)
    [claim] = await claim_some(connection, mine, 1, 10)
    assert claim.run_id == given[1].run_id  # the first had not begun
    newest, _ = await lane_of(database, connection, 1, "replace")
    assert await queue.cancelled_here(connection, MAIN_WORKSPACE, mine) == [given[1].run_id]
    assert await claim_some(connection, mine, 1, 10) == []  # it waits for the one under way to end
    await write(connection, mine, Batch(ends=[end(claim, lane=(claim.workflow_id, "Ada"))]))
    assert [c.run_id for c in await claim_some(connection, mine, 1, 10)] == [newest[0].run_id]


async def test_intakes_and_ends_of_one_lane_at_once_lose_nobody(database, connection):
    """Rule 10: the lane's row is locked by whoever changes it."""
    connections = [await database.connect_directly() for _ in range(4)]
    mine = await worker(connection)
    ended: list[UUID] = []

    async def bring(found) -> None:
        for _ in range(10):
            await intake.accept(
                found, MAIN_WORKSPACE, [r._replace(subject="Ada", policy="queue") for r in await new_runs(database, 1)]
            )

    async def end_them(found) -> None:
        while len(ended) < 30:
            for claim in await claim_some(found, mine, 1, 10):
                ended.append(claim.run_id)
                await write(found, mine, Batch(ends=[end(claim, lane=(claim.workflow_id, "Ada"))]))

    async with asyncio.timeout(30):
        await asyncio.gather(*(bring(c) for c in connections[:3]), end_them(connections[3]))
    assert await connection.fetchval("SELECT count(*) FROM queue") == 0
    for found in connections:
        await found.close()


async def child_of(database, connection, mine, claim, path="c", **more):
    wanted = StartRun(path, {}, part=Part("c[]", path, [1], 0, 1, {}), money=0.5, **more)
    child = prepared(wanted, About("stored", claim.workflow_id, claim.version_id, 1))
    opened = page(claim.run_id, 0, path=path, kind="opened", change=child, given={})
    await write(connection, mine, Batch([opened]))
    return child.run_id


async def test_a_childs_end_wakes_its_parent_in_the_same_commit(database, connection):
    """Rules 3 and 9."""
    mine, [claim] = await claimed(database, connection)
    child_id = await child_of(database, connection, mine, claim)
    await write(
        connection,
        mine,
        Batch(rests=[RestRow(claim.run_id, claim.generation, (("c", None),), claim.wakes, 0, 0, 0, "0")]),
    )
    [child] = await claim_some(connection, mine, 1, 10)  # the parent rests without end
    assert (child.run_id, child.kind, child.money, child.parent_path) == (child_id, "part", 0.5, "c")
    await write(connection, mine, Batch(ends=[end(child, parent=(claim.run_id, "c"), outcome="7")]))
    [again] = await claim_some(connection, mine, 1, 10)
    assert (again.run_id, again.wakes) == (claim.run_id, 1)
    assert [(r["path"], r["body"]) for r in await signals.of(connection, MAIN_WORKSPACE, [claim.run_id])] == [
        ("c", "7")
    ]
    await write(connection, mine, Batch(ends=[end(again, opened=True)]))
    assert await connection.fetchval("SELECT count(*) FROM signal") == 0


async def test_cancel_reaches_children_and_their_children(database, connection):
    """Rule 17: in one transaction."""
    mine, [claim] = await claimed(database, connection)
    child_id = await child_of(database, connection, mine, claim)
    [child] = await claim_some(connection, mine, 1, 10)
    grandchild = await child_of(database, connection, mine, child)
    async with database.begin() as found:
        await runs.cancel(found, MAIN_WORKSPACE, claim.run_id)
    marked = await connection.fetch("SELECT id FROM run WHERE cancel_at IS NOT NULL")
    assert {r["id"] for r in marked} == {claim.run_id, child_id, grandchild}


async def test_a_run_that_kills_workers_is_set_aside_and_its_neighbours_are_not(database, connection):
    """Rule 18."""
    given = await new_runs(database, 40)
    killer = given[7].run_id
    await intake.accept(connection, MAIN_WORKSPACE, given)
    left = {r.run_id for r in given}
    for _ in range(40):
        mine = await worker(connection)
        claims = await claim_some(connection, mine, 1, 100) or await queue.claim_suspects(
            connection, MAIN_WORKSPACE, mine, 1
        )
        if not claims:
            break
        if killer in {c.run_id for c in claims}:  # it takes the worker with it
            await connection.execute("UPDATE worker SET lease_until = now() - interval '1 second' WHERE id = $1", mine)
            await workers.bury(connection, MAIN_WORKSPACE)
            continue
        await write(connection, mine, Batch(ends=[end(c) for c in claims]))
        left -= {c.run_id for c in claims}
    assert left == {killer}
    assert await connection.fetchval("SELECT state FROM run WHERE id = $1", killer) == "set aside"
    deaths = await connection.fetchval("SELECT count(*) FROM worker WHERE dead_at IS NOT NULL")
    assert deaths <= 7


async def test_finished_items_are_not_loaded_again(database, connection):
    """Rule 14: a resume loads open scopes only; what they spent is kept as sums."""
    mine, [claim] = await claimed(database, connection)
    rows = [
        page(
            claim.run_id,
            n,
            path=f"m[{n // 3}].x{n}",
            kind="ended",
            scope=f"m[{n // 3}]",
            attempts=1,
            money=Decimal("0.1"),
        )
        for n in range(9)
    ]
    rows += [page(claim.run_id, 9 + n, path=f"m[{n}]#end", kind="closed") for n in range(2)]
    await write(connection, mine, Batch(rows))
    found = (await journal.load(connection, MAIN_WORKSPACE, [claim.run_id]))[claim.run_id]
    assert [e.path for e in found.entries] == ["m[2].x6", "m[2].x7", "m[2].x8", "m[0]#end", "m[1]#end"]
    assert (found.sums["attempts"], float(found.sums["money"]), found.sums["pages"]) == (9, pytest.approx(0.9), 11)


async def test_history_is_kept_by_month_and_dropped_without_what_is_not_over(database, connection):
    """Rule 12."""
    mine, claims = await claimed(database, connection, 2)
    await write(connection, mine, Batch([page(claims[0].run_id)], [end(claims[0])]))
    await write(connection, mine, Batch([page(claims[1].run_id)]))
    month = f"{datetime.now(UTC):%Y_%m}"
    assert await connection.fetchval(f"SELECT count(*) FROM run_{month}") == 2
    later = history.month(datetime.now(UTC), 2)
    made = await history.ensure(connection, later)
    assert len(made) == 2 * len(history.TABLES)
    assert await history.drop_before(connection, datetime.now(UTC)) == []
    assert await history.drop_before(connection, later) == [month, f"{history.month(datetime.now(UTC), 1):%Y_%m}"]
    assert [r["id"] for r in await connection.fetch("SELECT id FROM run")] == [claims[1].run_id]
    assert await connection.fetchval("SELECT count(*) FROM entry") == 1
    assert await connection.fetchval("SELECT count(*) FROM event") == 1
    await write(connection, mine, Batch([page(claims[1].run_id, 1)], [end(claims[1])]))


async def test_a_month_that_was_not_made_ahead_takes_its_rows_over(database, connection):
    await connection.execute("INSERT INTO journal (workspace_id, run_id, page, generation, count, outcomes, entries) VALUES (1, $1, 0, 1, 0, 0, '[]')",
                             history.first_id(history.month(datetime.now(UTC), 5)))  # fmt: skip
    assert await connection.fetchval("SELECT count(*) FROM journal_rest") == 1
    await history.ensure(connection, history.month(datetime.now(UTC), 5))
    assert await connection.fetchval("SELECT count(*) FROM journal_rest") == 0
    assert await connection.fetchval("SELECT count(*) FROM journal") == 1


async def test_leases_of_a_rate_add_up_also_for_its_very_first_window(database):
    """Many workers ask at once: together they are given what one window allows."""
    calls, found = 7, Rate(calls=7, per="1h")
    snapshot = SimpleNamespace(credentials={"office": SimpleNamespace(rate=found)})
    registry: Any = SimpleNamespace(workspace=MAIN_WORKSPACE, now=snapshot)
    asking = [Rates(database, registry) for _ in range(12)]
    waits = await asyncio.gather(*(rates.take("office") for rates in asking for _ in range(3)))
    assert sum(wait == 0 for wait in waits) == calls
    assert all(3000 < wait <= 3600 * 1.05 for wait in waits if wait)


TEXTS = st.text(max_size=8) | st.sampled_from(["\x00", "\ud800", "‹blanked›", "@" + "0" * 97])
BODIES = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**70), 2**70) | st.floats(allow_nan=False, allow_infinity=False) | TEXTS,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(TEXTS, inner, max_size=3),
    max_leaves=8,
)
MOMENTS = st.none() | st.datetimes(datetime(2020, 1, 1), datetime(2050, 1, 1)).map(
    lambda moment: moment.replace(tzinfo=UTC)
)
ENTRIES = st.builds(
    Entry,
    path=st.sampled_from(["a", "a#end", "b.c[0]", "b.c[0].d", "always.x", "f/turn[0]/look_up[1]"]),
    kind=st.sampled_from(["value", "began", "ended", "lost", "skipped"]),
    attempt=st.integers(0, 5),
    hash=st.sampled_from(["", "abc"]),
    body=st.none() | st.dictionaries(st.sampled_from(["output", "note", "x"]), BODIES, max_size=2),
    detail=st.none() | st.dictionaries(st.sampled_from(["input", "exchange"]), BODIES, min_size=1, max_size=2),
    started=MOMENTS,
    at=MOMENTS,
    text=st.none(),
    shown=st.none(),
)


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(entries=st.lists(ENTRIES, min_size=1, max_size=12))
def test_an_entry_reads_back_as_it_was_added(new_database, entries):
    """The walk that added it and one that reads it see the same."""
    apart(lambda: _added_and_read(new_database, entries))


_KEPT: list[str] = []


async def _added_and_read(new_database, entries: list[Entry]) -> None:
    if not _KEPT:
        _KEPT.append(new_database())
    database = Database(_KEPT[0])
    connection = await database.connect_directly()
    await connection.execute("DELETE FROM queue")
    async with database.begin() as found:
        await workflows.save(
            found, MAIN_WORKSPACE, Workflow.model_validate(read(TEXT).data), 1, TEXT, "test", lambda number: not number
        )
    mine, [claim] = await claimed(database, connection)
    registry: Any = SimpleNamespace(workspace=MAIN_WORKSPACE, now=SimpleNamespace(listening=False, blanker=Blanker(())))
    hints: Any = SimpleNamespace(send=lambda topic: None, watched=False)
    writer = JournalWriter(database, mine, hints, registry)
    writing = asyncio.create_task(writer.run())
    ground = Ground(SimpleNamespace(of=lambda run_id: writer), registry, lambda: datetime.now(UTC))
    first = RunJournal(claim, None, ground, writer.own(claim), "stored")
    for number, one in enumerate(entries):
        if number % 3:
            first.add(one)
        else:
            await first.commit(one)
    await first.commit(Entry("last", "value"))
    recorded = (await journal.load(connection, MAIN_WORKSPACE, [claim.run_id]))[claim.run_id]
    again = RunJournal(claim, recorded, ground, writer.own(claim), "stored")
    for path in {one.path for one in entries}:
        assert list(again.entries(path)) == list(first.entries(path))
    writing.cancel()
    await asyncio.gather(writing, return_exceptions=True)
    connection.terminate()
    await database.close()


async def test_the_time_of_a_worker_is_the_databases(monkeypatch):
    """Its own clock may be wrong by hours: what is waited for before an outcome is declared unknown goes by the other."""

    async def renew(connection, worker_id, seconds):
        lease._stop.set()
        return workers.Renewal(datetime.now(UTC) + timedelta(hours=3), 41)

    monkeypatch.setattr(workers, "renew", renew)
    connection = SimpleNamespace(terminate=lambda: None)

    async def connect():
        return connection

    watched: Any = SimpleNamespace(mark=7, connect_directly=connect)
    lease = Lease(watched, uuids.uuid7(), 5.0, SimpleNamespace(silent=False))  # type: ignore[arg-type]
    await lease._keep()
    assert abs(lease.now() - datetime.now(UTC) - timedelta(hours=3)) < timedelta(seconds=1)
    assert watched.mark == 41
    assert lease.left() > 4
