"""The worker: claims runs in batches and walks each as a coroutine until it ends or rests."""

import asyncio
import os
import socket
import time
from contextlib import suppress
from uuid import UUID

import asyncpg
import structlog
import uuid_utils.compat as uuids

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.models import Workflow
from oak_relay.document.shapes import fault
from oak_relay.engine.outcomes import Chunk, Finished, Rested, Start
from oak_relay.engine.plan import REVISION, Plan
from oak_relay.engine.walk import Walk
from oak_relay.runtime.executor import RunExecutor, Tools
from oak_relay.runtime.hints import LOST, Hints
from oak_relay.runtime.intake import event_of
from oak_relay.runtime.lease import Lease
from oak_relay.runtime.pieces import Pieces
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.settings import Settings
from oak_relay.runtime.telemetry import Exporter
from oak_relay.runtime.writer import Fenced, JournalWriter, RunJournal
from oak_relay.store import journal, queue
from oak_relay.store.database import Database, raw
from oak_relay.store.queue import Claim
from oak_relay.store.vault import event_context

log = structlog.get_logger()
_CLAIM_MOST = 200
_GRACE = 10.0


class Worker:
    """Walks runs until stopped. When its lease is lost it drops what it walks and begins anew."""

    def __init__(self, settings: Settings, database: Database, registry: Registry, hints: Hints) -> None:
        self._settings = settings
        self._database = database
        self._registry = registry
        self._hints = hints
        self._tools = Tools(database, registry, settings.reach)
        self._tools.pieces = Pieces(hints)
        self.exporter = Exporter(settings, database, registry) if settings.otlp_endpoint else None
        self._awake = asyncio.Event()
        self._stopping = asyncio.Event()
        hints.on("queue", lambda _: self._awake.set())
        hints.on("config", registry.forget)
        hints.on("cancel", lambda _: self._look())
        hints.on("wake", self._woken)
        self._incarnation: _Incarnation | None = None

    def stop(self) -> None:
        """Take nothing new, finish or hand back what is under way, and return from `run`."""
        self._stopping.set()
        self._awake.set()

    async def run(self) -> None:
        exporting = asyncio.create_task(self.exporter.run()) if self.exporter else None
        try:
            while not self._stopping.is_set():
                self._incarnation = _Incarnation(self)
                try:
                    await self._incarnation.live()
                except Fenced:
                    log.warning("lease lost; walks dropped, beginning anew")
                except LOST as error:
                    log.warning("database lost", reason=str(error) or type(error).__name__)
                    await asyncio.sleep(0.5)
                except Exception:
                    log.exception("worker broke; beginning anew")
                    await asyncio.sleep(2)
            if self.exporter:
                await self.exporter.drain()
        finally:
            if exporting:
                exporting.cancel()
            await self._tools.close()

    def _look(self) -> None:
        if self._incarnation:
            self._incarnation.look.set()
            self._awake.set()

    def _woken(self, run_id: str) -> None:
        if self._incarnation and self._incarnation.walks(run_id):
            self._look()


class _Incarnation:
    """One lease and what is walked under it."""

    def __init__(self, worker: Worker) -> None:
        self._worker = worker
        self._settings = worker._settings
        self._database = worker._database
        self._registry = worker._registry
        self._tools = worker._tools
        self.id: UUID = uuids.uuid7()
        self._lease = Lease(self._database, self.id, self._settings.lease)
        self._writer = JournalWriter(self._database, self.id, worker._hints, self._registry)
        self._turn = queue.Turn()
        self._suspected = False
        self._suspects: set[UUID] = set()
        self._records: dict[UUID, RunJournal] = {}
        self._walks: dict[UUID, Walk | None] = {}
        self._tasks: set[asyncio.Task[None]] = set()
        self.look = asyncio.Event()
        self._connection: asyncpg.Connection

    async def live(self) -> None:
        self._connection = await self._database.connect_directly()
        name = f"{socket.gethostname()}/{os.getpid()}"
        await queue.register(self._connection, self.id, name, REVISION, self._settings.lease)
        await self._registry.fresh()
        self._lease.start()
        log.info("worker ready", worker=str(self.id))
        writing = asyncio.create_task(self._writer.run())
        claiming = asyncio.create_task(self._claim_forever())
        burying = asyncio.create_task(self._bury_forever())
        try:
            await asyncio.wait({writing, claiming, burying}, return_when=asyncio.FIRST_COMPLETED)
            for task in (writing, claiming, burying):
                if task.done():
                    task.result()
            await self._hand_back()
        finally:
            for task in (burying, claiming, *self._tasks, writing):
                task.cancel()
            await asyncio.gather(burying, claiming, *self._tasks, writing, return_exceptions=True)
            self._lease.stop()
            self._connection.terminate()

    async def _hand_back(self) -> None:
        if self._tasks:
            await asyncio.wait(self._tasks, timeout=_GRACE)
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        handed = await queue.leave(self._connection, self.id)
        log.info("worker stopped", handed_back=handed)

    async def _claim_forever(self) -> None:
        worker, most = self._worker, self._settings.walks
        while not worker._stopping.is_set():
            if self._lease.lost:
                raise Fenced
            if self.look.is_set():
                self.look.clear()
                await self._look_after()
            worker._awake.clear()
            free = most - len(self._tasks)
            claimed: list[Claim] = []
            if free >= max(1, most // 8):
                await self._registry.fresh()
                wanted = min(free, _CLAIM_MOST)
                claimed = await queue.claim(
                    self._connection, self._registry.workspace, self.id, REVISION, wanted, self._turn
                )
                if self._registry.now.limited and len(claimed) < wanted:
                    left = wanted - len(claimed)
                    claimed += await queue.claim_limited(
                        self._connection, self._registry.workspace, self.id, REVISION, left
                    )
                if self._suspected and not self._suspects:
                    apart = await queue.claim_suspects(self._connection, self._registry.workspace, self.id, REVISION)
                    self._suspects = {claim.run_id for claim in apart}
                    self._suspected, claimed = bool(apart), [*claimed, *apart]
                await self._start(claimed)
            if not claimed:
                pause = self._settings.poll
                if not claimed and free:
                    due = await queue.next_ready(self._connection, self._registry.workspace)
                    pause = pause if due is None else min(pause, max(0.01, due))
                with suppress(TimeoutError):
                    async with asyncio.timeout(pause):
                        await worker._awake.wait()

    async def _start(self, claimed: list[Claim]) -> None:
        again = [c.run_id for c in claimed if c.walks > 1 or c.seeded]
        recorded = await journal.load(self._connection, self._registry.workspace, again) if again else {}
        for claim in claimed:
            plan, document = await self._registry.plan(self._connection, claim.version_id)
            self._walks[claim.run_id] = None
            task = asyncio.create_task(self._walk(claim, plan, document, recorded.get(claim.run_id)))
            self._tasks.add(task)
            task.add_done_callback(self._ended)

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        if len(self._tasks) <= self._settings.walks * 7 // 8:
            self._worker._awake.set()
        if not task.cancelled():
            task.exception()  # a lost lease or connection ends the incarnation as a whole

    async def _look_after(self) -> None:
        """See which walks were cancelled, and bring to them what has arrived meanwhile."""
        for run_id in await queue.cancelled_here(self._connection, self._registry.workspace, self.id):
            walk = self._walks.get(run_id)
            if walk is not None:
                walk.cancel()
        expecting = {run_id: record for run_id, record in self._records.items() if record.open_under("")}
        if not expecting:
            return
        wakes = await queue.wakes(self._connection, self._registry.workspace, self.id, list(expecting))
        woken = [run_id for run_id, count in wakes.items() if count != expecting[run_id].known_wakes]
        if woken:
            rows = await journal.signals(self._connection, self._registry.workspace, woken)
            for run_id in woken:
                expecting[run_id].deliver(wakes[run_id], [row for row in rows if row["run_id"] == run_id])

    async def _walk(self, claim: Claim, plan: Plan, document: Workflow, recorded: journal.Recorded | None) -> None:
        record = RunJournal(claim, recorded, self._writer, self._registry, plan.workflow)
        executor = RunExecutor(self._tools, claim.run_id, self._lease.left, claim.trace_parent, plan.workflow)
        start = start_of(claim, plan, self._registry, self._settings)
        walk = Walk(plan, record, executor, start, record.spent)
        self._walks[claim.run_id], self._records[claim.run_id] = walk, record
        if claim.cancelled:
            walk.cancel()
        began = time.monotonic()
        try:
            checked = claim.walks > 1 or claim.kind == "part" or claim.event["type"] in ("webhook", "oak.start")
            wrong = "" if checked else fault(document.input, start.scope["input"])
            if wrong:
                error = StepFailed("invalid", f"the input does not fit {plan.workflow}: {wrong}", fix="correct with:")
                outcome: Finished | Rested = Finished("failed", error=error.as_data())
            else:
                outcome = await walk.walk()
            if isinstance(outcome, Finished):
                await record.end(outcome)
                if self._worker.exporter:
                    self._worker.exporter.put(claim.run_id)
            else:
                await record.rest(outcome, claim.worked + time.monotonic() - began)
        except (Fenced, *LOST):
            raise
        except Exception as error:
            log.exception("walk broke", run=str(claim.run_id))
            broke = StepFailed(
                "failed", f"the walk broke three times: {type(error).__name__}: {error}", fix="see the worker's log"
            )
            shown = self._registry.now.blanker.value(broke.as_data())
            async with self._database.connect() as connection:
                await queue.give_back(await raw(connection), self._registry.workspace, self.id, claim.run_id, shown)
        finally:
            self._walks.pop(claim.run_id, None)
            self._records.pop(claim.run_id, None)
            self._suspects.discard(claim.run_id)
            if plan.at_once is not None or (self._suspected and not self._suspects):
                self._worker._awake.set()

    def walks(self, run_id: str) -> bool:
        """Whether a run is walked here."""
        return UUID(run_id) in self._walks

    async def _bury_forever(self) -> None:
        """Look for dead workers, note which credentials were used; several processes may do so at once."""
        connection = await self._database.connect_directly()
        try:
            while True:
                if await queue.bury(connection, self._registry.workspace):
                    self._worker._hints.send("queue")
                    self._worker._awake.set()
                used, self._tools.used = self._tools.used, set()
                if used:
                    await connection.execute(
                        "UPDATE credential SET last_used_at = now() WHERE name = ANY($1::text[])", list(used)
                    )
                self._suspected = not self._suspects and await queue.suspects(connection, self._registry.workspace)
                self.look.set()
                self._worker._awake.set()
                await asyncio.sleep(min(1.0, self._settings.lease / 3))
        finally:
            connection.terminate()


def start_of(claim: Claim, plan: Plan, registry: Registry, settings: Settings) -> Start:
    """What the walk of a claimed run begins with."""
    event = claim.event
    exact = registry.vault.exact(event["body"], event["sealed"], event_context(claim.event_id))
    data = values.loads(exact or "null")
    adjusted = {**plan.settings, **values.loads(claim.settings)} if claim.settings else plan.settings
    run_id, part = str(claim.run_id), None
    if claim.kind == "part":
        part, scope = Chunk(**data["chunk"]), {**data["input"], "settings": adjusted}
    else:
        started, url = claim.created_at.isoformat(), f"{settings.own_url}/runs/{claim.run_id}"
        about = {"id": run_id, "subject": claim.subject, "started": started, "url": url}
        scope = {"input": data, "settings": adjusted, "run": about}
        if "event" in plan.names:
            scope["event"] = event_of(event, data)
    return Start(run_id, scope, claim.worked, settings.lease, claim.money, part)
