"""The journal writer of a worker: rows of many runs in one commit, for as long as they are this worker's."""

import asyncio
from collections.abc import Callable
from dataclasses import dataclass
from uuid import UUID

import asyncpg
import structlog

from oak_relay.runtime.groupcommit import RETRIED, GroupCommit, Over
from oak_relay.runtime.hints import Hints, go_on
from oak_relay.runtime.registry import Registry
from oak_relay.store import journal as store
from oak_relay.store.database import LOST, Database, timeline
from oak_relay.store.journal import BackRow, EndRow, Fenced, Raised, RestRow
from oak_relay.store.local import EntryRow
from oak_relay.store.queue import Claim

log = structlog.get_logger()
Row = EntryRow | EndRow | RestRow | BackRow


class Dropped(Exception):
    """The run is another's now: what this walk wanted to write was not written, and nothing of it may be."""


class Lost(Over):
    """The worker was declared dead, or the server is another one: what it walks is not its own any more."""


@dataclass(eq=False, slots=True)
class Ownership:
    """That a run is walked here, under one claim. `drop` ends it: nothing is written under it any more, and `dropped` is
    called."""

    run_id: UUID
    generation: int
    lost: bool = False
    dropped: Callable[[], None] | None = None

    def drop(self) -> None:
        if not self.lost:
            self.lost = True
            if self.dropped is not None:
                self.dropped()


@dataclass(frozen=True, slots=True)
class Written:
    """A row, and the claim under which it is written."""

    owner: Ownership
    row: Row


class JournalWriter:
    """One per worker incarnation. It knows the value of its fence; when that has been raised it looks which runs are still
    its own, drops the walks of the others, and writes the rest."""

    def __init__(self, database: Database, worker_id: UUID, hints: Hints, registry: Registry) -> None:
        self._database = database
        self._worker_id = worker_id
        self._registry = registry
        self._hints = hints
        self._connection: asyncpg.Connection | None = None
        self._group: GroupCommit[Written, Row] = GroupCommit(self._flush, most=2000, weigh=_weight)
        self._timeline = ""
        self._fence = 0
        self._owned: dict[UUID, Ownership] = {}
        self.commits = 0
        self.rows = 0

    async def run(self) -> None:
        """Write until cancelled, or until nothing may be written any more (`Lost`)."""
        try:
            await self._group.run()
        finally:
            if self._connection is not None:
                self._connection.terminate()

    def own(self, claim: Claim) -> Ownership:
        """A run was claimed; a walk under an earlier claim of it is dropped."""
        before = self._owned.get(claim.run_id)
        if before is not None:
            before.drop()
        owner = self._owned[claim.run_id] = Ownership(claim.run_id, claim.generation)
        if claim.fence != self._fence:
            self._fence = -1  # the claim may have been taken back already: the next commit looks
        return owner

    def disown(self, owner: Ownership) -> None:
        """The run is walked here no longer."""
        if self._owned.get(owner.run_id) is owner:
            del self._owned[owner.run_id]

    @property
    def owned(self) -> list[UUID]:
        """The runs that are walked here."""
        return list(self._owned)

    @property
    def full(self) -> bool:
        """Whether what waits to be written has reached its bound."""
        return self._group.full

    async def room(self) -> None:
        """Return when more may be written."""
        await self._group.room()

    def put(self, owner: Ownership, row: Row) -> "asyncio.Future[Row]":
        """Ask for a row to be written. The future raises `Dropped`, `Ended`, or what is wrong with the row."""
        return self._group.put(Written(owner, row))

    async def _flush(self, given: list[Written]) -> list[Row | Exception]:
        await self._write(given)
        mine = [w.row for w in given if not w.owner.lost]
        self.commits += 1
        self.rows += len(mine)
        self._hint(mine)
        return [Dropped(f"{w.owner.run_id} is another's now") if w.owner.lost else w.row for w in given]

    async def _write(self, given: list[Written]) -> None:
        """Write what is ours. A connection lost during the commit is made anew and what landed is compared, not guessed;
        a commit that was merely slow is waited for."""
        unsure, ever = False, False
        while True:
            batch = _batch([w.row for w in given if not w.owner.lost])
            workspace = self._registry.workspace
            try:
                if self._connection is None or self._connection.is_closed():
                    self._connection = await self._connect()
                if unsure and await store.landed(self._connection, workspace, self._worker_id, batch):
                    return
                unsure = ever = True
                await store.write(self._connection, workspace, self._worker_id, self._fence, batch)
                return
            except Raised:
                unsure = False
                await self._look()
            except Fenced:
                raise Lost("the worker was declared dead") from None
            except RETRIED as error:
                unsure = False
                log.info("commit tried again", reason=type(error).__name__)
            except asyncpg.UniqueViolationError:
                if not (ever and await self._is_there(batch)):
                    raise
                return
            except LOST as error:
                go_on()
                log.warning("journal connection lost", reason=str(error) or type(error).__name__)
                if self._connection is not None:
                    self._connection.terminate()
                    self._connection = None
                await asyncio.sleep(0.2)

    async def _is_there(self, batch: store.Batch) -> bool:
        """After a clash of keys: whether it was with this very batch, written by a commit that was taken for lost."""
        assert self._connection is not None
        return bool(batch.entries) and await store.landed(
            self._connection, self._registry.workspace, self._worker_id, batch
        )

    async def _look(self) -> None:
        """The fence was raised: see which runs are still ours, and drop the walks of the others."""
        assert self._connection is not None
        try:
            value, mine = await store.owned(self._connection, self._registry.workspace, self._worker_id)
        except Fenced:
            raise Lost("the worker was declared dead") from None
        except LOST as error:
            log.info("ownership cannot be looked up yet", reason=str(error) or type(error).__name__)
            self._connection.terminate()
            return
        gone = [owner for run_id, owner in self._owned.items() if mine.get(run_id) != owner.generation]
        for owner in gone:
            owner.drop()
        self._fence = value
        if gone:
            log.warning("runs were taken from this worker; their walks are dropped", runs=len(gone))

    async def _connect(self) -> asyncpg.Connection:
        """A connection; on another timeline than before, what is walked may know of commits that are gone (rule 19)."""
        connection = await self._database.connect_directly()
        now = await timeline(connection)
        if self._timeline not in ("", now):
            connection.terminate()
            log.warning("the server's timeline changed; walks begin anew from the record")
            raise Fenced
        self._timeline = now
        return connection

    def _hint(self, rows: list[Row]) -> None:
        """Tell others what they may have been waiting for."""
        entries = [row for row in rows if isinstance(row, EntryRow)]
        ends = [row for row in rows if isinstance(row, EndRow)]
        for run_id in {row.run_id for row in rows}:
            self._hints.send(f"run:{run_id}")
        ops = {e.effect[0] for e in entries if e.effect}
        parents = [e.parent[0] for e in ends if e.parent]
        if "child" in ops or "withdraw" in ops or parents or any(e.lane or e.opened for e in ends):
            self._hints.send("queue")
        for parent in parents:
            self._hints.send(f"wake:{parent}")
        if "emit" in ops or (self._registry.now.listening and (ends or any(op.startswith("table.") for op in ops))):
            self._hints.send("published")
        if "ask" in ops:
            self._hints.send("tray")


def _batch(rows: list[Row]) -> store.Batch:
    batch = store.Batch()
    for row in rows:
        if isinstance(row, EntryRow):
            batch.entries.append(row)
        elif isinstance(row, EndRow):
            batch.ends.append(row)
        elif isinstance(row, RestRow):
            batch.rests.append(row)
        else:
            batch.backs.append(row)
    return batch


def _weight(written: Written) -> int:
    """About how many bytes a row takes while it waits."""
    row = written.row
    if isinstance(row, EntryRow):
        return 200 + len(row.body or "") + len(row.detail or "")
    return 200 + len(row.result or "") if isinstance(row, EndRow) else 200


__all__ = ["Dropped", "JournalWriter", "Lost", "Ownership"]
