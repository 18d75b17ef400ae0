"""The journal writer of a worker: rows of many runs in one commit, for as long as they are this worker's."""

import asyncio
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import NamedTuple
from uuid import UUID

import asyncpg
import structlog

from oak_relay.runtime.groupcommit import RETRIED, GroupCommit, Over
from oak_relay.runtime.hints import Hints, go_on
from oak_relay.runtime.registry import Registry
from oak_relay.store import journal as store
from oak_relay.store.database import LOST, Database, timeline
from oak_relay.store.journal import BackRow, EndRow, Fenced, Raised, RestRow
from oak_relay.store.pages import EntryRow, divide
from oak_relay.store.queue import Claim

log = structlog.get_logger()
Row = EntryRow | EndRow | RestRow | BackRow


_LINGER = 0.05
"""Seconds after which entries that nobody waits for are written by themselves; until twice as long they may wait for
one that somebody waits for, to be written with it."""
_MOST, _HEAVIEST = 64, 64_000
"""Entries of a run, and about their bytes, that may wait so."""


class Dropped(Exception):
    """The run is another's now: what this walk wanted to write was not written, and nothing of it may be."""


class Unwritten(Exception):
    """An entry of the run that nobody waited for could not be written: the walk is to begin anew from the record."""


class Lost(Over):
    """The worker was declared dead, or the server is another one: what it walks is not its own any more."""


@dataclass(eq=False, slots=True)
class Ownership:
    """That a run is walked here, under one claim. `drop` ends it: nothing is written under it any more, and `dropped` is
    called. `fence` is the value of the worker's fence under which it was claimed; `pages` of the run's journal are written;
    `broken` says why something of it could not be; `left` are entries that nobody waits for, with about their bytes."""

    run_id: UUID
    generation: int
    fence: int = 0
    pages: int = 0
    lost: bool = False
    broken: BaseException | None = None
    dropped: Callable[[], None] | None = None
    left: list[EntryRow] = field(default_factory=list)
    weight: int = 0

    def drop(self) -> None:
        """The run belongs to another now: whoever waits for it is told."""
        if not self.lost:
            self.lost = True
            if self.dropped is not None:
                self.dropped()


class Written(NamedTuple):
    """A row, and the claim under which it is written."""

    owner: Ownership
    row: Row


class JournalWriter:
    """Writes rows on a connection of its own. It knows the value of its fence; when that has been raised it looks which runs are still
    its own, drops the walks of the others, and writes the rest."""

    def __init__(self, database: Database, worker_id: UUID, hints: Hints, registry: Registry) -> None:
        self._database = database
        self._worker_id = worker_id
        self._registry = registry
        self._hints = hints
        self._connection: asyncpg.Connection | None = None
        self._group: GroupCommit[Written, Row] = GroupCommit(
            self._flush, most=2000, weigh=_written_weight, unheard=_unheard
        )
        self._timeline = ""
        self._fence = 0
        self._owned: dict[UUID, Ownership] = {}
        self._lingering: dict[Ownership, None] = {}
        self._lingering_long: dict[Ownership, None] = {}
        self._sweeping = False
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
        owner = self._owned[claim.run_id] = Ownership(claim.run_id, claim.generation, claim.fence)
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
        """Ask for a row to be written. The future raises `Dropped`, `Ended`, `Unwritten`, or what is wrong with the row."""
        if owner.broken is not None and not isinstance(row, BackRow):  # giving it back is what is left to be done
            broken: asyncio.Future[Row] = asyncio.get_running_loop().create_future()
            broken.set_exception(_unwritten(owner))
            return broken
        if owner.left:
            self._hand_over(owner)
        return self._group.put(Written(owner, row))

    def leave(self, owner: Ownership, row: EntryRow) -> None:
        """Ask for an entry to be written that the next one waits for: with that, or a moment later. Raises `Unwritten` where one
        before it could not be."""
        if owner.broken is not None:
            raise _unwritten(owner)
        owner.left.append(row)
        owner.weight += _weight(row)
        if len(owner.left) >= _MOST or owner.weight > _HEAVIEST:
            self._hand_over(owner)
            return
        self._lingering[owner] = None
        if not self._sweeping:
            self._sweeping = True
            asyncio.get_running_loop().call_later(_LINGER, self._sweep)

    def _hand_over(self, owner: Ownership) -> None:
        """What was left of a run goes into the next commit."""
        for row in owner.left:
            self._group.leave(Written(owner, row))
        owner.left, owner.weight = [], 0

    def _sweep(self) -> None:
        """Nothing lingers longer, though nobody comes to wait for it."""
        for owner in self._lingering_long:
            self._hand_over(owner)
        self._lingering_long, self._lingering = self._lingering, {}
        self._sweeping = bool(self._lingering_long)
        if self._sweeping:
            asyncio.get_running_loop().call_later(_LINGER, self._sweep)

    async def _flush(self, given: list[Written]) -> list[Row | Exception]:
        freed = await self._write(given)
        self.commits += 1
        self.rows += len(given)
        self._hint([w.row for w in given if not w.owner.lost], freed)
        return [Dropped(f"{w.owner.run_id} is another's now") if w.owner.lost else w.row for w in given]

    async def _write(self, given: list[Written]) -> bool:
        """Write what is ours. A connection lost during the commit is made anew and what landed is compared, not guessed;
        a commit that was merely slow is waited for. Whether runs may go now that waited in a lane, as far as is known."""
        unsure, ever = False, False
        while True:
            batch, owners = _batch(given)
            workspace = self._registry.workspace
            try:
                if self._connection is None or self._connection.is_closed():
                    self._connection = await self._connect()
                asked = unsure
                if not (unsure and await store.landed(self._connection, workspace, self._worker_id, batch)):
                    unsure = ever = True
                    await store.write(self._connection, workspace, self._worker_id, self._fence, batch)
                _count(batch, owners)
                return batch.freed or asked
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
                _count(batch, owners)
                return True
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
        return bool(batch.pages) and await store.landed(
            self._connection, self._registry.workspace, self._worker_id, batch
        )

    async def _look(self) -> None:
        """The fence was raised: see which runs are still ours, and drop the walks of the others."""
        assert self._connection is not None
        asked = dict(self._owned)
        try:
            value, mine = await store.owned(self._connection, self._registry.workspace, self._worker_id)
        except Fenced:
            raise Lost("the worker was declared dead") from None
        except LOST as error:
            log.info("ownership cannot be looked up yet", reason=str(error) or type(error).__name__)
            self._connection.terminate()
            return
        gone = [owner for run_id, owner in asked.items() if mine.get(run_id) != owner.generation]
        for owner in gone:
            owner.drop()
        # What was claimed since is not in the answer: it is ours, unless the fence was raised behind its claim.
        late = (owner for run_id, owner in self._owned.items() if asked.get(run_id) is not owner)
        self._fence = value if all(owner.fence == value for owner in late) else -1
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

    def _hint(self, rows: list[Row], freed: bool) -> None:
        """Tell others what they may have been waiting for; `freed` says that a lane moved on."""
        entries = [row for row in rows if isinstance(row, EntryRow)]
        ends = [row for row in rows if isinstance(row, EndRow)]
        if self._hints.watched:
            for run_id in {row.run_id for row in rows}:
                self._hints.changed(run_id)
        hints = {hint for e in entries if e.change for hint in e.change.hints}
        parents = [e.parent[0] for e in ends if e.parent]
        if freed or "queue" in hints or parents or any(e.opened for e in ends):
            self._hints.send("queue")
        for parent in parents:
            self._hints.send(f"wake:{parent}")
        if "published" in hints or (self._registry.now.listening and (ends or "rows" in hints)):
            self._hints.send("published")
        for hint in hints:
            if hint in ("tray", "outbox") or hint.startswith("talk:"):
                self._hints.send(hint)


class Writers:
    """The writers of a worker incarnation, on a connection each: while one commits, walks of the other's runs go on. A run
    stays with one of them, so that its pages are written in their order."""

    def __init__(self, database: Database, worker_id: UUID, hints: Hints, registry: Registry, count: int = 2) -> None:
        self._writers = [JournalWriter(database, worker_id, hints, registry) for _ in range(count)]

    async def run(self) -> None:
        """Write until cancelled, or until nothing may be written any more by one of them (`Lost`)."""
        tasks = [asyncio.create_task(writer.run()) for writer in self._writers]
        try:
            await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
        finally:
            for task in tasks:
                task.cancel()
            ended = await asyncio.gather(*tasks, return_exceptions=True)
        for error in ended:
            if isinstance(error, Exception):
                raise error

    def own(self, claim: Claim) -> Ownership:
        """A run was claimed; a walk under an earlier claim of it is dropped."""
        return self.of(claim.run_id).own(claim)

    def disown(self, owner: Ownership) -> None:
        """The run is walked here no longer."""
        self.of(owner.run_id).disown(owner)

    @property
    def owned(self) -> list[UUID]:
        """The runs that are walked here."""
        return [run_id for writer in self._writers for run_id in writer.owned]

    @property
    def full(self) -> bool:
        """Whether what waits to be written has reached its bound."""
        return any(writer.full for writer in self._writers)

    def of(self, run_id: UUID) -> JournalWriter:
        """The writer of a run."""
        return self._writers[run_id.int % len(self._writers)]


def _batch(given: list[Written]) -> tuple[store.Batch, dict[UUID, Ownership]]:
    """What is still ours of it, the entries of each run in pages, and whose the pages are: one that is dropped while the commit
    is under way is in it nevertheless."""
    batch = store.Batch()
    entries: dict[Ownership, list[EntryRow]] = {}
    for written in given:
        owner, row = written.owner, written.row
        if owner.lost:
            continue
        if isinstance(row, EntryRow):
            entries.setdefault(owner, []).append(row)
        elif isinstance(row, EndRow):
            batch.ends.append(row)
        elif isinstance(row, RestRow):
            batch.rests.append(row)
        else:
            batch.backs.append(row)
    for owner, rows in entries.items():
        batch.pages += divide(owner.run_id, owner.pages, owner.generation, rows)
    return batch, {owner.run_id: owner for owner in entries}


def _count(batch: store.Batch, owners: dict[UUID, Ownership]) -> None:
    for page in batch.pages:
        owners[page.run_id].pages += 1


def _unwritten(owner: Ownership) -> Unwritten:
    return Unwritten(f"an entry before this could not be written: {owner.broken}")


def _unheard(written: Written, error: BaseException) -> None:
    if not written.owner.lost:
        log.warning("an entry could not be written", run=str(written.owner.run_id), reason=str(error))
        written.owner.broken = error


def _written_weight(written: Written) -> int:
    return _weight(written.row)


def _weight(row: Row) -> int:
    """About how many bytes a row takes while it waits."""
    if isinstance(row, EntryRow):
        return 200 + len(row.body) + len(row.detail or "")
    return 200 + len(row.result or "") if isinstance(row, EndRow) else 200


__all__ = ["Dropped", "JournalWriter", "Lost", "Ownership", "Writers"]
