"""The worker: claims runs in batches and walks each as a coroutine until it ends or rests.

One rule of supervision: whatever escapes from a walk gives back, fails or sets aside that run, and no other.
"""

import asyncio
import os
import socket
import time
from contextlib import suppress
from uuid import UUID

import asyncpg
import structlog

from oak_relay.changes import Part
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.models import Workflow
from oak_relay.document.schemas import validator
from oak_relay.engine.outcomes import Finished, Start
from oak_relay.engine.plan import REVISION, Plan, complete
from oak_relay.engine.walk import Walk
from oak_relay.runtime.executor import RunExecutor, Tools
from oak_relay.runtime.groupcommit import Ended
from oak_relay.runtime.hints import Hints
from oak_relay.runtime.intake import conversation_of, event_of
from oak_relay.runtime.lease import Lease
from oak_relay.runtime.pieces import Pieces
from oak_relay.runtime.record import Ground, RunJournal
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.sender import Sender
from oak_relay.runtime.settings import Settings
from oak_relay.runtime.telemetry import Exporter
from oak_relay.runtime.watchdog import Watchdog
from oak_relay.runtime.writer import Dropped, Lost, Ownership, Writers
from oak_relay.store import journal, queue, signals, workers
from oak_relay.store.database import LOST, Database, DatabaseLost
from oak_relay.store.ids import new_id
from oak_relay.store.queue import Claim

log = structlog.get_logger()
_CLAIM_MOST = 200
_GRACE = 10.0
_PAUSE = 1.0
"""Seconds until a run is walked again whose walk was held up by what lies outside of it."""


class Worker:
    """Walks runs until stopped. When it was declared dead it drops what it walks and begins anew."""

    def __init__(self, settings: Settings, database: Database, registry: Registry, hints: Hints) -> None:
        self._settings = settings
        self._database = database
        self._registry = registry
        self._hints = hints
        self._tools = Tools(database, registry, settings, hints)
        self._tools.pieces = Pieces(hints)
        self.exporter = Exporter(settings, database, registry, self._tools.call) if settings.otlp_endpoint else None
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
        """Be a worker until it is stopped; what is under way is finished or handed back."""
        exporting = asyncio.create_task(self.exporter.run()) if self.exporter else None
        sender = Sender(self._tools, self._hints)
        sending = asyncio.create_task(sender.run())
        watchdog = Watchdog(asyncio.get_running_loop(), self._settings.lease)
        watchdog.start()
        try:
            while not self._stopping.is_set():
                self._incarnation = _Incarnation(self, watchdog)
                try:
                    await self._incarnation.live()
                except Lost as reason:
                    log.warning("lease lost; walks dropped, beginning anew", reason=str(reason))
                except LOST as error:
                    log.warning("database lost", reason=str(error) or type(error).__name__)
                    await asyncio.sleep(0.5)
                except Exception:
                    log.exception("worker broke; beginning anew")
                    await asyncio.sleep(2)
            await sender.stop()
            if self.exporter:
                await self.exporter.drain()
        finally:
            watchdog.stop()
            sending.cancel()
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


class _Walked:
    """A run that is walked here."""

    def __init__(self, owner: Ownership) -> None:
        self.owner = owner
        self.task: asyncio.Task[None] | None = None
        self.walk: Walk | None = None
        self.record: RunJournal | None = None
        owner.dropped = self.drop

    def let_go(self) -> None:
        """It is walked no longer. Nothing points in a circle any more, so that all of it is freed at once."""
        self.owner.dropped = self.walk = self.record = None

    def drop(self) -> None:
        """The run is another's: nothing of it is gone on with here."""
        if self.task is not None:
            self.task.cancel()


class _Incarnation:
    """One lease and what is walked under it."""

    def __init__(self, worker: Worker, watchdog: Watchdog) -> None:
        self._worker = worker
        self._settings = worker._settings
        self._database = worker._database
        self._registry = worker._registry
        self._tools = worker._tools
        self.id: UUID = new_id()
        self._lease = Lease(self._database, self.id, self._settings.lease, watchdog)
        self._writer = Writers(self._database, self.id, worker._hints, self._registry)
        self._ground = Ground(self._writer, self._registry, self._lease.now)
        self._turn = queue.RoundRobin()
        self._suspected = False
        self._suspects: set[UUID] = set()
        self._walked: dict[UUID, _Walked] = {}
        self._tasks: set[asyncio.Task[None]] = set()
        self.look = asyncio.Event()
        self._connection: asyncpg.Connection

    async def live(self) -> None:
        self._connection = await self._database.connect_directly()
        name = f"{socket.gethostname()}/{os.getpid()}"
        await workers.register(self._connection, self.id, name, REVISION, self._settings.lease)
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
            for walked in list(self._walked.values()):
                walked.drop()
            for task in (burying, claiming, *self._tasks, writing):
                task.cancel()
            await asyncio.gather(burying, claiming, *self._tasks, writing, return_exceptions=True)
            self._lease.stop()
            self._connection.terminate()

    async def _hand_back(self) -> None:
        if self._tasks:
            await asyncio.wait(self._tasks, timeout=_GRACE)
        for walked in list(self._walked.values()):
            walked.drop()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        handed = await workers.leave(self._connection, self._registry.workspace, self.id)
        log.info("worker stopped", handed_back=handed)

    async def _claim_forever(self) -> None:
        worker, sure = self._worker, True
        while not worker._stopping.is_set():
            if self._lease.lost:
                raise Lost("the lease is over")
            try:
                if self._connection.is_closed():
                    self._connection = await self._database.connect_directly()
                if not sure:
                    known, workspace = self._writer.owned, self._registry.workspace
                    given = await queue.give_back_unknown(self._connection, workspace, self.id, known)
                    sure = True
                    if given:
                        log.warning("claims whose answer was lost are given back", runs=given)
                pause = await self._claim()
            except LOST as error:
                log.warning("claims held up", reason=str(error) or type(error).__name__)
                self._connection.terminate()
                sure, pause = False, 0.0
                await asyncio.sleep(0.3)
            if pause:
                with suppress(TimeoutError):
                    async with asyncio.timeout(pause):
                        await worker._awake.wait()

    async def _claim(self) -> float:
        """Take what is ready and there is room for; seconds until it is worth looking again, unless woken."""
        worker, most, workspace = self._worker, self._settings.walks, self._registry.workspace
        if self.look.is_set():
            self.look.clear()
            await self._look_after()
        worker._awake.clear()
        free = most - len(self._tasks)
        claimed: list[Claim] = []
        wanted = 0
        if free >= max(1, most // 8) and not self._writer.full:
            await self._registry.fresh()
            wanted = min(free, _CLAIM_MOST)
            claimed = await queue.claim(self._connection, workspace, self.id, REVISION, wanted, self._turn)
            await self._start(claimed)
            if self._registry.now.limited and len(claimed) < wanted:
                left = wanted - len(claimed)
                more = await queue.claim_limited(self._connection, workspace, self.id, REVISION, left)
                await self._start(more)
                claimed += more
            if self._suspected and not self._suspects:
                apart = await queue.claim_suspects(self._connection, workspace, self.id, REVISION)
                self._suspects = {claim.run_id for claim in apart}
                self._suspected = bool(apart)
                await self._start(apart)
                claimed += apart
        if claimed and len(claimed) > wanted // 2:
            return 0.0
        due = await queue.next_ready(self._connection, workspace) if free > len(claimed) else None
        if claimed and due is not None and due <= 0:
            return 0.0  # a claim takes an equal share of each workflow, so there may be more of one
        return self._settings.poll if due is None else min(self._settings.poll, max(0.01, due))

    async def _start(self, claimed: list[Claim]) -> None:
        """Walk claimed runs. One whose record or document cannot be read is given back alone. When what is recorded
        cannot be asked for, none is walked, and none counts as owned: they are given back with the next look."""
        owners = {claim.run_id: self._writer.own(claim) for claim in claimed}
        again = [c.run_id for c in claimed if c.walks > 1 or c.seeded]
        try:
            recorded = await self._recorded(again) if again else {}
        except BaseException:
            for owner in owners.values():
                self._writer.disown(owner)
            raise
        for claim in claimed:
            walked = self._walked[claim.run_id] = _Walked(owners[claim.run_id])
            walked.task = asyncio.create_task(self._walk(claim, walked, recorded.get(claim.run_id)))
            self._tasks.add(walked.task)
            walked.task.add_done_callback(self._ended)

    async def _recorded(self, run_ids: list[UUID]) -> dict[UUID, journal.Recorded | Exception]:
        """What is recorded of runs; for one that cannot be read, why."""
        workspace = self._registry.workspace
        try:
            return dict(await journal.load(self._connection, workspace, run_ids))
        except LOST:
            raise
        except Exception as error:
            if len(run_ids) == 1:
                return {run_ids[0]: error}
            middle = len(run_ids) // 2
            return {**await self._recorded(run_ids[:middle]), **await self._recorded(run_ids[middle:])}

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        if len(self._tasks) <= self._settings.walks * 7 // 8:
            self._worker._awake.set()
        if not task.cancelled() and (error := task.exception()) is not None:
            log.error("a walk could not even be given back", exc_info=error)
            self._worker._awake.set()

    async def _look_after(self) -> None:
        """See which walks were cancelled, and bring to them what has arrived meanwhile."""
        workspace = self._registry.workspace
        for run_id in await queue.cancelled_here(self._connection, workspace, self.id):
            walked = self._walked.get(run_id)
            if walked is not None and walked.walk is not None:
                walked.walk.cancel()
        records = {run_id: w.record for run_id, w in self._walked.items() if w.record is not None}
        expecting = {run_id: record for run_id, record in records.items() if record.open.entries}
        if not expecting:
            return
        wakes = await queue.wakes(self._connection, workspace, self.id, list(expecting))
        woken = [run_id for run_id, count in wakes.items() if count != expecting[run_id].known_wakes]
        if woken:
            rows = await signals.of(self._connection, workspace, woken)
            for run_id in woken:
                expecting[run_id].deliver(wakes[run_id], [row for row in rows if row["run_id"] == run_id])

    async def _walk(self, claim: Claim, walked: _Walked, recorded: journal.Recorded | Exception | None) -> None:
        """Walk one run. Whatever escapes is this run's alone: it is given back, and set aside when that does not help."""
        limited = False
        try:
            if isinstance(recorded, Exception):
                raise recorded
            plan, document = await self._plan(claim)
            limited = plan.at_once is not None
            record = RunJournal(claim, recorded, self._ground, walked.owner, plan.workflow)
            await self._go(claim, walked, plan, document, record)
        except (Dropped, Ended):
            return  # another goes on with it, or nobody does before this worker has begun anew
        except DatabaseLost as error:
            log.info("walk held up", run=str(claim.run_id), reason=str(error))
            await self._give_back(claim, walked, _PAUSE, None)
        except Exception as error:
            log.exception("walk broke", run=str(claim.run_id))
            await self._give_back(claim, walked, 1.0, error)
        finally:
            self._writer.disown(walked.owner)
            walked.let_go()
            if self._walked.get(claim.run_id) is walked:
                del self._walked[claim.run_id]
            self._suspects.discard(claim.run_id)
            if limited or (self._suspected and not self._suspects):
                self._worker._awake.set()

    async def _plan(self, claim: Claim) -> tuple[Plan, Workflow]:
        known = self._registry.known_plan(claim.version_id)
        if known is not None:
            return known
        async with self._database.reading() as connection:
            return await self._registry.plan(connection, claim.version_id)

    async def _go(self, claim: Claim, walked: _Walked, plan: Plan, document: Workflow, record: RunJournal) -> None:
        """A walk to its end or its rest, and the record of that."""
        executor = RunExecutor(self._tools, claim.run_id, self._lease.left, claim.trace_parent, plan.workflow)
        start = start_of(claim, plan, self._settings)
        walk = Walk(plan, record, executor, start, record.spent)
        walked.walk, walked.record = walk, record
        if claim.cancelled:
            walk.cancel()
        began = time.monotonic()
        try:
            if claim.walks <= 1 and claim.kind != "part":
                _sound(claim, plan, document)
            outcome = await walk.walk()
        except StepFailed as failed:
            outcome = Finished("failed", error=failed.as_data())
        if isinstance(outcome, Finished):
            await record.end(outcome)
            if self._worker.exporter:
                self._worker.exporter.put(claim.run_id)
        else:
            await record.rest(outcome, claim.worked + time.monotonic() - began)

    async def _give_back(self, claim: Claim, walked: _Walked, delay: float, error: Exception | None) -> None:
        reason = None
        if error is not None:
            words = f"carrying it out broke three times: {type(error).__name__}: {error}"
            broke = StepFailed("failed", words, fix="see the worker's log")
            reason = self._registry.now.blanker.value(broke.as_data())
        with suppress(Dropped, Ended):
            await self._writer.of(claim.run_id).put(
                walked.owner, journal.BackRow(claim.run_id, claim.generation, delay, reason)
            )

    def walks(self, run_id: str) -> bool:
        """Whether a run is walked here."""
        return UUID(run_id) in self._walked

    async def _bury_forever(self) -> None:
        """Look for dead workers, note which credentials were used; several processes may do so at once. Who has been away
        waits for as long as a lease: the others were away too, and are only just renewing theirs."""
        connection: asyncpg.Connection | None = None
        since, workspace = float("-inf"), self._registry.workspace
        try:
            while True:
                try:
                    if connection is None or connection.is_closed():
                        since = since if connection is None else time.monotonic()
                        connection = await self._database.connect_directly()
                    if time.monotonic() - since > self._settings.lease and await workers.bury(connection, workspace):
                        self._worker._hints.send("queue")
                        self._worker._awake.set()
                    used, self._tools.used = self._tools.used, set()
                    worked, self._tools.worked = self._tools.worked, set()
                    if used or worked:
                        await connection.execute(
                            "UPDATE credential SET last_used_at = now(), last_worked_at = CASE WHEN name = ANY($3::text[]) "
                            "THEN now() ELSE last_worked_at END WHERE workspace_id = $1 AND name = ANY($2::text[])",
                            workspace,
                            list(used | worked),
                            list(worked),
                        )
                    self._suspected = not self._suspects and await queue.suspects(connection, workspace)
                    self.look.set()
                    self._worker._awake.set()
                except LOST as error:
                    log.info("looking for dead workers held up", reason=str(error) or type(error).__name__)
                    if connection is not None:
                        connection.terminate()
                await asyncio.sleep(min(1.0, self._settings.lease / 3))
        finally:
            if connection is not None:
                connection.terminate()


def _sound(claim: Claim, plan: Plan, document: Workflow) -> None:
    """Raises `StepFailed` for a run that cannot begin: its workflow is not done, or its input does not fit."""
    complete(plan)
    event = claim.event
    if '"fault"' in event["meta"] and (fault := values.loads(event["meta"]).get("fault")):
        raise StepFailed(
            "invalid", f"the input cannot be made of the event: {fault}", fix="correct input: of the trigger"
        )
    if event["type"] not in ("webhook", "oak.start"):  # those were looked at when they came
        wrong = validator(document.input).fault(values.loads(event["body"] or "null"))
        if wrong:
            raise StepFailed("invalid", f"the input does not fit {plan.workflow}: {wrong}", fix="correct with:")


def start_of(claim: Claim, plan: Plan, settings: Settings) -> Start:
    """What the walk of a claimed run begins with."""
    event = claim.event
    data = values.loads(event["body"] or "null")
    adjusted = {**plan.settings, **values.loads(claim.settings)} if claim.settings else plan.settings
    run_id, part = str(claim.run_id), None
    if claim.kind == "part":
        part, scope = Part(**data["part"]), {**data["input"], "settings": adjusted}
    else:
        started, url = claim.created_at.isoformat(), f"{settings.own_url}/runs/{run_id}"
        about = {"id": run_id, "subject": claim.subject, "started": started, "url": url}
        scope = {"input": data, "settings": adjusted, "run": about}
        if "event" in plan.names:
            scope["event"] = event_of(event, data)
        if plan.talks:
            scope["conversation"] = conversation_of(values.loads(event["meta"]), run_id)
    return Start(run_id, scope, claim.worked, settings.lease, claim.money, part)
