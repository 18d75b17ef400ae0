"""The clock: what is due in time, and what was published, becomes runs. Any number of processes may be one."""

import asyncio
import os
import socket
import time
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import asyncpg
import structlog

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine.plan import REVISION
from oak_relay.runtime.boot import MARK
from oak_relay.runtime.context import CallContext, Tools
from oak_relay.runtime.dispatch import dispatch
from oak_relay.runtime.groupcommit import RETRIED
from oak_relay.runtime.hints import Hints
from oak_relay.runtime.intake import Incoming, RunTemplate, Target, new_run
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.settings import Settings
from oak_relay.runtime.watchdog import Watchdog
from oak_relay.store import answered, consents, credit, epoch, files, history, published, usage, workers
from oak_relay.store import intake as store
from oak_relay.store import schedules as due
from oak_relay.store.database import LOST, Database
from oak_relay.store.ids import new_id
from oak_relay.store.intake import NewRun
from oak_relay.store.schedules import Mark
from oak_relay.triggers.base import TimeTrigger, TriggerKind, WatchTrigger

log = structlog.get_logger()
_LATER = timedelta(minutes=1)
"""When a trigger that cannot be worked out is looked at again."""
_BATCH = 500
_LEASE = 15.0


class Clock:
    """Fires schedules, polls, hands on what was published, and keeps history in order until stopped."""

    def __init__(self, settings: Settings, database: Database, registry: Registry, hints: Hints) -> None:
        self._settings = settings
        self._database = database
        self._registry = registry
        self._hints = hints
        self._tools = Tools(database, registry, settings, hints)
        self._stopping = asyncio.Event()
        self._published = asyncio.Event()
        hints.on("published", lambda _: self._published.set())
        hints.on("config", registry.forget)
        self.id = new_id()
        self._beating: asyncpg.Connection | None = None
        self._since = 0.0

    def stop(self) -> None:
        """Return from `run` when what is under way is done."""
        self._stopping.set()
        self._published.set()

    async def run(self) -> None:
        """Be a clock until it is stopped."""
        loops: list[tuple[Callable[[asyncpg.Connection], Awaitable[float]], str]] = [
            (self._fire, "schedules"),
            (self._dispatch, "published"),
            (self._poll, "polls"),
            (self._maintain, "history"),
            (self._sum_up, "usage"),
            (self._heartbeat, "heartbeat"),
        ]
        watchdog = Watchdog(asyncio.get_running_loop(), _LEASE)
        watchdog.start()
        try:
            async with asyncio.TaskGroup() as group:
                for work, name in loops:
                    group.create_task(self._forever(work, name))
        finally:
            watchdog.stop()
            await self._tools.close()

    async def _forever(self, work: Callable[[asyncpg.Connection], Awaitable[float]], name: str) -> None:
        """Do a piece of work again and again, each time after the pause it asks for."""
        connection: asyncpg.Connection | None = None
        while not self._stopping.is_set():
            try:
                if connection is None or connection.is_closed():
                    connection = await self._database.connect_directly()
                    await self._registry.fresh()
                pause = await work(connection)
            except (*LOST, *RETRIED) as error:
                log.warning("clock held up", work=name, reason=str(error) or type(error).__name__)
                if connection is not None:
                    connection.terminate()
                connection, pause = None, 0.5
            except Exception:
                log.exception("clock broke", work=name)
                pause = 2.0
            if pause > 0:
                await self._pause(pause, name == "published")
        if connection is not None:
            connection.terminate()

    async def _pause(self, seconds: float, listening: bool) -> None:
        waited = [asyncio.ensure_future(self._stopping.wait())]
        if listening:
            waited.append(asyncio.ensure_future(self._published.wait()))
        await asyncio.wait(waited, timeout=seconds, return_when=asyncio.FIRST_COMPLETED)
        for task in waited:
            task.cancel()
        if listening:
            self._published.clear()

    async def _sum_up(self, connection: asyncpg.Connection) -> float:
        """Sums of what models cost, budgets, and credit: who listens for `oak.budget` and `oak.credit` is told when one is nearly
        or wholly spent."""
        async with connection.transaction():
            await usage.sum_up(connection, self._registry.workspace)
            changed = await usage.look(connection, self._registry.workspace)
            for row in changed:
                about = {name: row[name] for name in ("name", "workflow", "period", "state")}
                await self._warn(connection, "budget", "/budgets", row["name"], row, about)
            ending = await credit.look(connection, self._registry.workspace)
            for row in ending:
                about = {
                    "credential": row["credential"],
                    "state": row["state"],
                    "left": float(row["money"] - row["spent"]),
                }
                await self._warn(connection, "credit", "/credits", row["credential"], row, about)
        if changed or ending:
            self._hints.send("published")
            self._hints.send("config")
        return 2.0

    async def _warn(
        self,
        connection: asyncpg.Connection,
        what: str,
        source: str,
        subject: str,
        row: asyncpg.Record,
        about: dict[str, object],
    ) -> None:
        """Publish that something is nearly or wholly spent."""
        if row["state"] == "within":
            return
        data = {**about, "money": float(row["money"]), "spent": float(row["spent"])}
        log.warning(what, **data)
        event_id, kind = new_id(), f"oak.{what}"
        text = values.dumps(published.envelope(str(event_id), kind, source, data, subject))
        await published.publish(connection, self._registry.workspace, event_id, kind, source, text, 0, None)

    async def _fire(self, connection: asyncpg.Connection) -> float:
        """Make the runs of schedules that are due; an occurrence and its run are one commit."""
        async with connection.transaction():
            rows = await due.schedules(connection, self._registry.workspace, _BATCH)
            if rows:
                now, runs, marks = datetime.now(UTC), [], []
                for row in rows:
                    found, mark = self._due(row, now)
                    marks.append(mark)
                    runs += found
                await due.mark(connection, self._registry.workspace, marks)
                for first in range(0, len(runs), _BATCH):
                    await store.accept(connection, self._registry.workspace, runs[first : first + _BATCH])
        if rows:
            self._hints.send("queue")
            self._hints.send("runs")
            return 0.0
        left = await due.next_due(connection, self._registry.workspace)
        return min(1.0, max(0.005, left)) if left is not None else 1.0

    def _due(self, row: asyncpg.Record, now: datetime) -> tuple[list[NewRun], Mark]:
        """The runs of a trigger that begin now, and what is noted of it. One that cannot be worked out waits a while."""
        last = row["last_at"] or now
        try:
            kind, given = self._given(row["kind"], row["config"])
            assert isinstance(kind, TimeTrigger)
            moments = kind.due(given, row["trigger_id"], last, now)
            target = _target(row)
            runs = [
                new_run(target, Incoming("/clock", kind.occurs, kind.data(given, moment), moment.isoformat()))
                for moment in moments.now
            ]
        except (StepFailed, ValueError) as failed:
            log.warning("schedule cannot be worked out", trigger=row["name"], reason=str(failed))
            return [], Mark(row["trigger_id"], last, now + _LATER, str(failed)[:500])
        return runs, Mark(row["trigger_id"], moments.last, moments.next, None)

    def _given(self, name: str, config: str) -> tuple[TriggerKind[Any], Any]:
        """A trigger's kind and what is given to it. Raises `StepFailed` for a kind that is not installed."""
        kind = self._registry.catalogue.triggers.known(name)
        return kind, kind.parsed(config)

    async def _dispatch(self, connection: asyncpg.Connection) -> float:
        try:
            handled, woken = await dispatch(connection, self._registry)
        except (*LOST, *RETRIED):
            raise
        except Exception:
            log.exception("what was published could not be handed on; one by one")
            handled, woken = await self._dispatch_one(connection)
        if handled:
            self._hints.send("queue")
            self._hints.send("runs")
            for run_id in woken:
                self._hints.send(f"wake:{run_id}")
        return 0.0 if handled else 0.5

    async def _dispatch_one(self, connection: asyncpg.Connection) -> tuple[int, list[UUID]]:
        """Hand on the oldest alone, so that one that cannot be does not keep the others."""
        try:
            return await dispatch(connection, self._registry, 1)
        except (*LOST, *RETRIED):
            raise
        except Exception as error:
            given_up = await published.give_up(connection, self._registry.workspace)
            log.error("given up", published=str(given_up), reason=f"{type(error).__name__}: {error}")
            return 1, []

    async def _poll(self, connection: asyncpg.Connection) -> float:
        """Look for new items of one trigger that is due."""
        row = await due.take_poll(connection, self._registry.workspace)
        if row is None:
            return 1.0
        fault, workspace, trigger = None, self._registry.workspace, row["trigger_id"]
        try:
            kind, given = self._given(row["kind"], row["config"])
            assert isinstance(kind, WatchTrigger)
            await due.move_poll(connection, workspace, trigger, kind.every(given))
            await self._look(connection, row, kind, given)
        except (StepFailed, ValueError) as failed:
            reason = f"{failed.kind}: {failed.message}" if isinstance(failed, StepFailed) else str(failed)
            fault = self._registry.now.blanker.text(reason)
            log.warning("poll failed", trigger=row["name"], reason=fault)
        await due.note_poll(connection, workspace, trigger, fault)
        return 0.0

    async def _look(
        self, connection: asyncpg.Connection, row: asyncpg.Record, kind: WatchTrigger[Any], given: object
    ) -> None:
        await self._registry.fresh()
        target = _target(row)
        key = f"{row['trigger_id']}:{datetime.now(UTC).isoformat()}"
        parent = f"00-{self.id.hex}-{'0' * 15}1-00"
        at = CallContext(self._tools, key, lambda: parent, kind.timeout, None, lambda: 60.0, workflow=row["workflow"])
        try:
            async with asyncio.timeout(kind.timeout + 5):
                found = await kind.look(given, target.template.settings, at)
        except TimeoutError:
            raise StepFailed(
                "timeout",
                f"looking took more than {kind.timeout:g} s",
                fix="ask for less at once, or for what is new alone",
            ) from None
        source = f"/polls/{row['name']}"
        found = list(found)
        if not kind.first and await due.begin(
            connection, self._registry.workspace, row["trigger_id"], source, [str(one.key) for one in found]
        ):
            return
        runs = [new_run(target, Incoming(source, one.type, one.data, one.key)) for one in found]
        for first in range(0, len(runs), _BATCH):
            receipts = await store.accept(connection, self._registry.workspace, runs[first : first + _BATCH])
            if any(r.status == "accepted" for r in receipts):
                self._hints.send("queue")
                self._hints.send("runs")
        await due.still_there(
            connection, self._registry.workspace, row["trigger_id"], ["", *(run.event_key for run in runs)]
        )

    async def _maintain(self, connection: asyncpg.Connection) -> float:
        """Partitions ahead, old history away, and files that nothing refers to any more."""
        now = datetime.now(UTC)
        await history.ensure(connection, now)
        if self._settings.keep_months:
            await history.drop_before(connection, history.month(now, -self._settings.keep_months))
        await workers.forget_dead(connection, min(7, self._settings.keep_ids_days))
        await due.forget_old(connection, self._registry.workspace, self._settings.keep_ids_days)
        await answered.forget_old(connection, self._registry.workspace)
        await files.sweep(connection, self._registry.workspace)
        async with self._database.begin() as session:
            await consents.sweep(session, self._registry.workspace)
            await self._registry.vault.keyring.forget(session, self._settings.link_days)
        return 3600.0

    async def _heartbeat(self, connection: asyncpg.Connection) -> float:
        """Be seen, and bury workers that are dead."""
        if await workers.renew(connection, self.id, _LEASE) is None:
            self.id = new_id()
            name = f"{socket.gethostname()}/{os.getpid()}"
            await workers.register(connection, self.id, name, REVISION, _LEASE, "tick")
        if connection is not self._beating:
            self._since = float("-inf") if self._beating is None else time.monotonic()
            self._beating = connection
        # Who has been away waits for as long as a lease: the others were away too, and are only just renewing theirs.
        patient = time.monotonic() - self._since > self._settings.lease
        if patient and await workers.bury(connection, self._registry.workspace):
            self._hints.send("queue")
        self._database.mark = await epoch.grow(connection)
        await asyncio.to_thread(epoch.write, self._settings.data_dir / MARK, self._database.mark)
        return 1.0


def _target(row: asyncpg.Record) -> Target:
    return Target(row["workflow_id"], row["version_id"], RunTemplate.read(row["start"]), row["trigger_id"], row["name"])
