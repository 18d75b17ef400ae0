"""The hot statements against a real PostgreSQL: claims, leases, fencing, rest, group commit, searched tables."""

import asyncio
from datetime import UTC, datetime, timedelta
from uuid import UUID

import asyncpg
import pytest
import uuid_utils.compat as uuids

from oak_relay.document.models import Workflow
from oak_relay.document.text import read
from oak_relay.document.values import dumps
from oak_relay.store import intake, journal, queue, rows, runs, workflows
from oak_relay.store.database import Database, raw
from oak_relay.store.intake import NewRun
from oak_relay.store.journal import Batch, EndRow, EntryRow, Fenced, RestRow

TEXT = "oak: 1\nworkflow: stored\nsteps:\n  - {step: a, wait: 1s}\n"


@pytest.fixture
async def database(new_database):
    found = Database(new_database())
    await found.migrate()
    async with found.begin() as connection:
        await workflows.save(connection, Workflow.model_validate(read(TEXT).data), TEXT, "test", None)
    yield found
    await found.close()


@pytest.fixture
async def connection(database):
    found = await database.connect_directly()
    yield found
    await found.close()


async def new_runs(database: Database, count: int, keys: list[str] | None = None) -> list[NewRun]:
    async with database.connect() as found:
        row = await workflows.by_name(found, "stored")
        version = await workflows.one_version(found, row.id, None)
    return [
        NewRun(uuids.uuid7(), uuids.uuid7(), None, row.id, version.id, 1, "test", "/test", "test", keys[n] if keys else str(n), keys is not None,
               "{}", '{"headers":{},"query":{}}', None, None)
        for n in range(count)
    ]  # fmt: skip


async def worker(connection: asyncpg.Connection, lease: float = 30) -> UUID:
    found = uuids.uuid7()
    await queue.register(connection, found, "test", 1, lease)
    return found


def entry(run_id: UUID, seq: int = 0, **more) -> EntryRow:
    fields = {
        "path": "a",
        "kind": "value",
        "attempt": 0,
        "hash": "",
        "body": "1",
        "detail": None,
        "sealed": None,
        "started": None,
        "at": None,
    }
    return EntryRow(run_id, seq, **{**fields, **more})


def end(run_id: UUID) -> EndRow:
    return EndRow(run_id, "succeeded", "1", None, None, None, 3, 4, "0.25", 1, 1)


async def test_claims_are_disjoint_and_complete(database, connection):
    given = await new_runs(database, 40)
    await intake.accept(connection, given)
    workers = [(await database.connect_directly(), await worker(connection)) for _ in range(3)]
    taken = await asyncio.gather(*(queue.claim(c, w, 1, 15) for c, w in workers for _ in [0]))
    ids = [claim.run_id for claims in taken for claim in claims]
    assert len(ids) == len(set(ids)) == 40
    assert {claim.walks for claims in taken for claim in claims} == {1}
    for found, _ in workers:
        await found.close()


async def test_a_newer_engines_runs_are_left_alone(database, connection):
    """Rule 7: a worker that cannot walk a version does not claim it."""
    given = await new_runs(database, 1)
    await intake.accept(connection, given)
    await connection.execute("UPDATE queue SET revision = 2")
    assert await queue.claim(connection, await worker(connection), 1, 10) == []


async def test_an_event_id_counts_once_within_and_between_batches(database, connection):
    """Rule 11."""
    first = await intake.accept(connection, await new_runs(database, 3, ["x", "x", "y"]))
    assert [r.status for r in first] == ["accepted", "duplicate", "accepted"]
    assert first[1].run_id == first[0].run_id
    [again] = await intake.accept(connection, await new_runs(database, 1, ["y"]))
    assert (again.status, again.run_id) == ("duplicate", first[2].run_id)
    assert await connection.fetchval("SELECT count(*) FROM run") == 2


async def test_a_trigger_that_is_no_longer_live_makes_no_run(database, connection):
    [given] = await new_runs(database, 1)
    from dataclasses import replace

    [receipt] = await intake.accept(connection, [replace(given, trigger_id=uuids.uuid7())])
    assert receipt.status == "stale"
    assert await connection.fetchval("SELECT count(*) FROM event") == 0


async def claimed(database, connection, count=1, lease=30.0):
    await intake.accept(connection, await new_runs(database, count))
    mine = await worker(connection, lease)
    return mine, await queue.claim(connection, mine, 1, count)


async def test_a_worker_whose_lease_is_over_writes_nothing(database, connection):
    """Rule 1: in the plain statement and in a transaction with effects."""
    mine, [claim] = await claimed(database, connection, lease=0.2)
    while await queue.renew(connection, mine, 0.0):
        pass
    for batch in (
        Batch([entry(claim.run_id)]),
        Batch([entry(claim.run_id)], [end(claim.run_id)]),
        Batch(rests=[RestRow(claim.run_id, (("a", datetime.now(UTC)),), 0, 0.1, 0, 0, "0")]),
        Batch([entry(claim.run_id, effect=("answer", {"text": "{}"}), finish_body=lambda r: ("1", None))]),
    ):
        with pytest.raises(Fenced):
            await journal.write(connection, mine, batch)
    assert await connection.fetchval("SELECT count(*) FROM journal") == 0
    assert await queue.bury(connection) == 1
    assert await queue.bury(connection) == 0
    assert not await queue.renew(connection, mine, 10)
    [again] = await queue.claim(connection, await worker(connection), 1, 10)
    assert (again.run_id, again.walks) == (claim.run_id, 2)


async def test_a_takeover_waits_for_a_commit_under_way_and_then_wins(database, connection):
    """Rule 1: the old owner either commits before the takeover or never."""
    mine, [claim] = await claimed(database, connection)
    other = await database.connect_directly()
    transaction = connection.transaction()
    await transaction.start()
    await journal.write(connection, mine, Batch([entry(claim.run_id)]))
    takeover = asyncio.create_task(other.execute("UPDATE worker SET dead_at = clock_timestamp() WHERE id = $1", mine))
    done, _ = await asyncio.wait({takeover}, timeout=0.3)
    assert not done
    await transaction.commit()
    await takeover
    with pytest.raises(Fenced):
        await journal.write(connection, mine, Batch([entry(claim.run_id, 1)]))
    assert await connection.fetchval("SELECT count(*) FROM journal") == 1
    await other.close()


async def test_the_end_of_a_run_takes_it_out_of_the_queue_with_its_sums(database, connection):
    mine, [claim] = await claimed(database, connection)
    await journal.write(connection, mine, Batch([entry(claim.run_id)], [end(claim.run_id)]))
    row = await connection.fetchrow("SELECT * FROM run")
    assert (row["state"], row["tokens_in"], row["tokens_out"], float(row["money"])) == ("succeeded", 3, 4, 0.25)
    assert row["ended_at"] >= row["started_at"]
    assert await connection.fetchval("SELECT count(*) FROM queue") == 0


async def test_what_landed_is_known_after_a_lost_commit(database, connection):
    """Rule 5."""
    mine, claims = await claimed(database, connection, 2)
    written, unwritten = (Batch([entry(c.run_id)], [end(c.run_id)]) for c in claims)
    await journal.write(connection, mine, written)
    assert await journal.landed(connection, written)
    assert not await journal.landed(connection, unwritten)
    only_end = Batch(ends=[end(claims[1].run_id)])
    assert not await journal.landed(connection, only_end)
    await journal.write(connection, mine, only_end)
    assert await journal.landed(connection, only_end)


@pytest.mark.parametrize(("woken", "later"), [(False, True), (True, False)])
async def test_going_to_rest_loses_no_wake(database, connection, woken, later):
    """Rule 9: compare-and-set on the counter of wakes."""
    mine, [claim] = await claimed(database, connection)
    if woken:
        await connection.execute("UPDATE queue SET wakes = wakes + 1")
    until = datetime.now(UTC) + timedelta(hours=1)
    await journal.write(
        connection,
        mine,
        Batch(rests=[RestRow(claim.run_id, (("a", until), ("b", until)), claim.wakes, 1.5, 0, 0, "0")]),
    )
    row = await connection.fetchrow(
        "SELECT ready_at > clock_timestamp() + interval '1 minute' AS later, worker_id, worked FROM queue"
    )
    assert (row["later"], row["worker_id"], float(row["worked"])) == (later, None, 1.5)
    assert await connection.fetchval("SELECT count(*) FROM wake") == 2
    assert bool(await queue.claim(connection, mine, 1, 10)) == woken


async def test_cancel_of_a_resting_run_is_done_at_once(database, connection):
    mine, [claim] = await claimed(database, connection)
    async with database.begin() as found:
        assert await runs.cancel(found, claim.run_id) == "asked"
    assert await queue.cancelled_here(connection, mine) == [claim.run_id]
    await journal.write(
        connection,
        mine,
        Batch(rests=[RestRow(claim.run_id, (("a", datetime.now(UTC) + timedelta(hours=1)),), 0, 0, 0, 0, "0")]),
    )
    async with database.begin() as found:
        assert await runs.cancel(found, claim.run_id) == "cancelled"
    assert await connection.fetchval("SELECT count(*) FROM wake") == 0
    assert await connection.fetchval("SELECT state FROM run") == "cancelled"


async def test_a_run_whose_walk_breaks_is_set_aside_the_third_time(database, connection):
    mine, [claim] = await claimed(database, connection)
    for aside in (False, False, True):
        assert await queue.give_back(connection, mine, claim.run_id, '{"kind":"failed","message":"broke"}') is aside
        await connection.execute("UPDATE queue SET ready_at = now()")
        await queue.claim(connection, mine, 1, 1)
    assert await connection.fetchval("SELECT state FROM run") == "set aside"


async def test_a_worker_that_leaves_hands_back_without_a_death(database, connection):
    mine, _ = await claimed(database, connection, 3)
    assert await queue.leave(connection, mine) == 3
    assert await connection.fetchval("SELECT max(deaths) FROM queue") == 0


def upsert(run_id: UUID, seq: int, table: UUID, guest: str, n: int) -> EntryRow:
    return entry(run_id, seq, path=f"p{seq}", effect=("table.upsert", {"table": table, "match": ["guest"], "row": {"guest": guest, "n": n}}),
                 finish_body=lambda r: (dumps({"output": r}), None))  # fmt: skip


async def test_upserts_find_rows_added_before_and_while_the_table_became_searched(database, connection):
    async with database.begin() as found:
        table = await rows.create(found, "guests", [{"name": "guest", "type": "text"}, {"name": "n", "type": "number"}])
        await rows.add(found, table, [{"guest": "Ada", "n": 0}])
    mine, claims = await claimed(database, connection, 2)
    added = entry(
        claims[0].run_id, 0, effect=("table.add", {"table": table, "id": uuids.uuid7(), "text": '{"guest":"Bo","n":0}'})
    )
    await journal.write(connection, mine, Batch([added]))
    assert await connection.fetchval("SELECT count(*) FROM table_row WHERE searched") == 0
    batch = Batch(
        [
            upsert(claims[0].run_id, 1, table, "Ada", 1),
            upsert(claims[0].run_id, 2, table, "Bo", 1),
            upsert(claims[1].run_id, 0, table, "Cleo", 1),
        ]
    )
    await journal.write(connection, mine, batch)
    assert [e.result["created"] for e in batch.entries] == [False, False, True]
    assert await connection.fetchval("SELECT count(*) FROM table_row WHERE searched") == 3
    async with database.connect() as found:
        assert [r["row"]["n"] for r in await rows.find(found, table, {"guest": "Ada"}, 10)] == [1]
    other = entry(
        claims[0].run_id, 3, effect=("table.add", {"table": table, "id": uuids.uuid7(), "text": '{"guest":"Dov"}'})
    )
    await journal.write(connection, mine, Batch([other]))
    assert await connection.fetchval("SELECT count(*) FROM table_row WHERE searched") == 4


async def test_workers_that_upsert_the_same_rows_do_not_block_each_other(database, connection):
    """Rule 5: local writes are sorted by key, so that batches cannot deadlock."""
    async with database.begin() as found:
        table = await rows.create(found, "guests", [{"name": "guest", "type": "any"}])
    mine, claims = await claimed(database, connection, 8)
    others = [await database.connect_directly() for _ in claims]
    guests = ["Ada", "Bo", "Cleo", "Dov"]

    async def write(place: int) -> None:
        order = guests if place % 2 else guests[::-1]
        await journal.write(
            others[place], mine, Batch([upsert(claims[place].run_id, n, table, g, n) for n, g in enumerate(order)])
        )

    async with asyncio.timeout(20):
        await asyncio.gather(*(write(place) for place in range(len(claims))))
    assert await connection.fetchval("SELECT count(*) FROM table_row") == 4
    for found in others:
        await found.close()


async def test_a_row_for_a_table_that_is_gone_is_refused_alone(database, connection):
    mine, [claim] = await claimed(database, connection)
    bad = entry(claim.run_id, effect=("table.add", {"table": uuids.uuid7(), "id": uuids.uuid7(), "text": "{}"}))
    with pytest.raises(asyncpg.IntegrityConstraintViolationError):
        await journal.write(connection, mine, Batch([bad]))
    assert await connection.fetchval("SELECT count(*) FROM journal") == 0


async def test_a_lost_server_is_a_lost_connection(database):
    with pytest.raises(ConnectionError):
        async with database.connect() as found:
            pid = (await raw(found)).get_server_pid()
            other = await database.connect_directly()
            await other.execute("SELECT pg_terminate_backend($1)", pid)
            await other.close()
            await runs.one(found, uuids.uuid7())
            await runs.one(found, uuids.uuid7())
