"""Rule 1 against a real PostgreSQL: two owners of the same runs, and every interleaving that can be found.

Two workers claim, write, rest, stall and are declared dead, while runs are held and released; steps are carried out one
after the other or at once. Whatever happens, the record of a run is what one owner at a time has written.
"""

import asyncio
from collections.abc import Callable
from decimal import Decimal
from types import SimpleNamespace
from typing import Any
from uuid import UUID

import asyncpg
import pytest
import uuid_utils.compat as uuids
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from oak_relay.document.values import dumps, loads
from oak_relay.runtime.groupcommit import Ended
from oak_relay.runtime.writer import Dropped, JournalWriter, Lost, Ownership
from oak_relay.store import epoch, intake, journal, queue, workers
from oak_relay.store.database import Database
from oak_relay.store.journal import BackRow, RestRow
from oak_relay.store.tables import MAIN_WORKSPACE
from tests.conftest import apart
from tests.test_store import new_runs, row

RUNS = 3


class Owner:
    """A worker reduced to its claims and its writer, one incarnation after the other."""

    def __init__(self, database: Database) -> None:
        self.database = database
        self.walks: dict[UUID, tuple[Ownership, int]] = {}
        self.landed: list[tuple[UUID, int, int]] = []
        self.late: list[queue.Claim] = []

    async def begin(self) -> None:
        self.connection = await self.database.connect_directly()
        await self.incarnate()

    async def incarnate(self) -> None:
        self.id = uuids.uuid7()
        connection = await self.database.connect_directly()  # its own may be busy with a claim
        await workers.register(connection, self.id, "test", 1, 3600)
        await connection.close()
        registry: Any = SimpleNamespace(workspace=MAIN_WORKSPACE, now=SimpleNamespace(listening=False))
        hints: Any = SimpleNamespace(send=lambda topic: None, watched=False)
        self.writer = JournalWriter(self.database, self.id, hints, registry)
        self.writing = asyncio.create_task(self.writer.run())
        self.walks, self.late = {}, []

    async def end(self) -> None:
        self.writing.cancel()
        await asyncio.gather(self.writing, return_exceptions=True)
        self.connection.terminate()

    async def claim(self) -> None:
        await self.take()
        await self.learn()

    async def take(self) -> None:
        """A claim whose answer is late: meanwhile it may be taken back."""
        self.late += await queue.claim(self.connection, MAIN_WORKSPACE, self.id, 1, 10, queue.RoundRobin())

    async def learn(self) -> None:
        """The answer arrives."""
        late, self.late = self.late, []
        for claim in late:
            owner = self.writer.own(claim)
            recorded = await journal.load(self.connection, MAIN_WORKSPACE, [claim.run_id])
            sums = recorded[claim.run_id].sums
            owner.pages = 0 if sums is None else sums["pages"]
            self.walks[claim.run_id] = (owner, owner.pages)

    async def write(self) -> None:
        """Each walk adds its next entry; who is told that the run is another's writes no more."""
        await asyncio.gather(*(self._write(run_id) for run_id in list(self.walks)))

    async def _write(self, run_id: UUID) -> None:
        owner, seq = self.walks[run_id]
        body = dumps({"generation": owner.generation})
        self.walks[run_id] = (owner, seq + 1)
        try:
            await self.writer.put(owner, row(run_id, body=body))
            self.landed.append((run_id, seq, owner.generation))
        except Dropped:
            if self.walks.get(run_id, (None,))[0] is owner:
                del self.walks[run_id]
        except Ended:
            await asyncio.gather(self.writing, return_exceptions=True)
            if isinstance(self.writing.exception(), Lost) and self.walks:
                self.walks = {}
                await self.incarnate()

    async def rest(self) -> None:
        """One run goes to rest, ready again at once; another is given back."""
        for kind, run_id in zip((RestRow, BackRow), list(self.walks), strict=False):
            owner, _ = self.walks.pop(run_id)
            row = (
                RestRow(run_id, owner.generation, (), -1, 0.0, 0, 0, Decimal(0))
                if kind is RestRow
                else BackRow(run_id, owner.generation, 0.0)
            )
            try:
                await self.writer.put(owner, row)
            except (Dropped, Ended):
                continue
            self.writer.disown(owner)

    async def die(self) -> None:
        """It is declared dead without knowing it."""
        await self.connection.execute("UPDATE worker SET lease_until = clock_timestamp() WHERE id = $1", self.id)


ONE = st.sampled_from(("claim", "take", "learn", "write", "write", "rest", "die")).flatmap(
    lambda op: st.sampled_from((f"{op} 0", f"{op} 1"))
)
OP = st.one_of(ONE, ONE, st.sampled_from(("bury", "hold", "release", "hold and release")))


@settings(max_examples=15, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.lists(OP, min_size=1, max_size=3), min_size=6, max_size=16).map(lambda steps: [["claim 0"], *steps]))
def test_one_owner_at_a_time_in_every_interleaving(new_database: Callable[[], str], steps: list[list[str]]):
    apart(lambda: interleaved(shared(new_database), steps))


_SHARED: list[str] = []


def shared(new_database: Callable[[], str]) -> str:
    """One database for all examples: each has runs of its own."""
    if not _SHARED:
        _SHARED.append(new_database())
    return _SHARED[0]


async def interleaved(url: str, steps: list[list[str]]) -> None:
    database = Database(url)
    main = await database.connect_directly()
    await main.execute("DELETE FROM queue")
    owners = [Owner(database), Owner(database)]
    for owner in owners:
        await owner.begin()
    try:
        await ensure_workflow(database)
        given = await new_runs(database, RUNS)
        await intake.accept(main, MAIN_WORKSPACE, given)
        for step in steps:
            before = [len(owner.landed) for owner in owners]
            async with asyncio.timeout(20):
                await asyncio.gather(*(carried_out(op, owners, database) for op in step))
            if len(step) == 1:  # nothing else happened: what was written was the writer's own
                for owner, first in zip(owners, before, strict=True):
                    for run_id, _, generation in owner.landed[first:]:
                        row = await main.fetchrow("SELECT worker_id, generation FROM queue WHERE run_id = $1", run_id)
                        assert (row["worker_id"], row["generation"]) == (owner.id, generation), "not the owner's own"
        await check(main, owners, [run.run_id for run in given])
    finally:
        for owner in owners:
            await owner.end()
        main.terminate()
        await database.close()


async def ensure_workflow(database: Database) -> None:
    from oak_relay.document.models import Workflow
    from oak_relay.document.text import read
    from oak_relay.store import workflows
    from tests.test_store import TEXT

    async with database.begin() as connection:
        await workflows.save(
            connection,
            MAIN_WORKSPACE,
            Workflow.model_validate(read(TEXT).data),
            1,
            TEXT,
            "test",
            lambda number: not number,
        )


async def carried_out(op: str, owners: list[Owner], database: Database) -> None:
    what, _, which = op.partition(" ")
    if which.isdigit():
        owner = owners[int(which)]
        async with locked(owner, what):
            await getattr(owner, what)()
        return
    connection: asyncpg.Connection = await database.connect_directly()
    try:
        if what == "bury":
            await workers.bury(connection, MAIN_WORKSPACE)
        if "hold" in op:
            await epoch.hold(connection, MAIN_WORKSPACE)
        if "release" in op:
            await epoch.release(connection, MAIN_WORKSPACE)
    finally:
        connection.terminate()


def locked(owner: Owner, what: str) -> asyncio.Lock:
    """A worker claims one batch at a time; what it writes may go on meanwhile."""
    locks = owner.__dict__.setdefault("locks", {"claim": asyncio.Lock(), "write": asyncio.Lock()})
    return locks["claim" if what in ("claim", "take", "learn", "die") else "write"]


async def check(main: asyncpg.Connection, owners: list[Owner], runs: list[UUID]) -> None:
    for run_id in runs:
        rows = await main.fetch("SELECT seq / 1000 AS seq, body FROM entry WHERE run_id = $1 ORDER BY seq", run_id)
        assert [found["seq"] for found in rows] == list(range(len(rows))), (
            "a walk went on from a record it did not know whole"
        )
        generations = [loads(row["body"])["generation"] for row in rows]
        assert generations == sorted(generations), "two owners wrote in turns"
        told = sorted(
            (seq, generation) for owner in owners for found, seq, generation in owner.landed if found == run_id
        )
        assert told == [(row["seq"], generation) for row, generation in zip(rows, generations, strict=True)]


async def test_a_claim_whose_answer_is_late_counts_only_if_it_still_holds(new_database: Callable[[], str]):
    """It was taken back meanwhile, and the writer had learnt of that before it learnt of the claim."""
    database = Database(new_database())
    await ensure_workflow(database)
    owner = Owner(database)
    await owner.begin()
    try:
        await intake.accept(owner.connection, MAIN_WORKSPACE, await new_runs(database, 2))
        await owner.claim()
        await owner.rest()  # both are ready again
        first = await queue.claim(owner.connection, MAIN_WORKSPACE, owner.id, 1, 1, queue.RoundRobin())
        owner.late = first
        await owner.learn()
        await owner.take()
        await epoch.hold(owner.connection, MAIN_WORKSPACE)
        await owner.write()
        assert owner.walks == {}
        await owner.learn()
        await owner.write()
        assert owner.landed == []
        assert await owner.connection.fetchval("SELECT count(*) FROM entry") == 0
    finally:
        await owner.end()
        await database.close()


async def test_a_claim_made_while_the_writer_looks_what_is_its_own_is_kept(
    new_database: Callable[[], str], monkeypatch: pytest.MonkeyPatch
):
    """The answer is from before the claim: it says nothing of it, and no run is left to nobody."""
    database = Database(new_database())
    await ensure_workflow(database)
    owner = Owner(database)
    await owner.begin()
    look = journal.owned

    async def late(connection: asyncpg.Connection, workspace: int, worker: UUID) -> tuple[int, dict[UUID, int]]:
        found = await look(connection, workspace, worker)
        await owner.claim()
        return found

    try:
        await intake.accept(owner.connection, MAIN_WORKSPACE, await new_runs(database, 1))
        await owner.claim()
        [old] = owner.walks
        await epoch.hold(owner.connection, MAIN_WORKSPACE)
        await epoch.release(owner.connection, MAIN_WORKSPACE)
        await intake.accept(owner.connection, MAIN_WORKSPACE, await new_runs(database, 2))
        monkeypatch.setattr(journal, "owned", late)
        await (
            owner.write()
        )  # under the former claim: it is looked whose the run is, and all three are claimed meanwhile
        mine = set(owner.walks)
        assert len(mine) == 3 and old in mine
        await owner.write()
        assert {run_id for run_id, _, _ in owner.landed} == mine
    finally:
        await owner.end()
        await database.close()
