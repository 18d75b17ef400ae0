"""The journal writer of a worker, and the journal of one run that writes through it."""

import asyncio
import random
from collections.abc import Sequence
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any
from uuid import UUID

import asyncpg
import structlog
import uuid_utils.compat as uuids

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine.memory import is_below
from oak_relay.engine.outcomes import Finished, Rested, Spent
from oak_relay.engine.protocols import Entry, LocalEffect
from oak_relay.runtime.asked import prepared
from oak_relay.runtime.groupcommit import REFUSED, RETRIED, GroupCommit
from oak_relay.runtime.hints import LOST, Hints, go_on
from oak_relay.runtime.registry import Registry
from oak_relay.store import journal as store
from oak_relay.store.database import Database, timeline
from oak_relay.store.journal import EndRow, Fenced, RestRow
from oak_relay.store.local import EntryRow
from oak_relay.store.queue import Claim
from oak_relay.store.usage import Used
from oak_relay.store.vault import entry_context, run_context, signal_context

log = structlog.get_logger()
Row = EntryRow | EndRow | RestRow


class JournalWriter:
    """One per worker incarnation: puts the rows of many runs into one commit, fenced by the lease."""

    def __init__(self, database: Database, worker_id: UUID, hints: Hints, registry: Registry) -> None:
        self._database = database
        self._worker_id = worker_id
        self._registry = registry
        self._hints = hints
        self._connection: asyncpg.Connection | None = None
        self._group: GroupCommit[Row, Row] = GroupCommit(self._flush, most=2000)
        self._timeline = ""
        self.commits = 0
        self.rows = 0

    async def run(self) -> None:
        """Write until cancelled, or until the lease is over (`Fenced`)."""
        try:
            await self._group.run()
        finally:
            if self._connection is not None:
                self._connection.terminate()

    def put(self, row: Row) -> "asyncio.Future[Row]":
        return self._group.put(row)

    async def _flush(self, rows: list[Row]) -> list[Row]:
        batch = store.Batch()
        for row in rows:
            if isinstance(row, EntryRow):
                batch.entries.append(row)
            elif isinstance(row, EndRow):
                batch.ends.append(row)
            else:
                batch.rests.append(row)
        try:
            await self._write(batch)
        except REFUSED as error:
            if len(rows) == 1:
                log.error("entry refused", run=str(rows[0].run_id), reason=str(error))
            raise
        self.commits += 1
        self.rows += len(rows)
        self._hint(batch)
        return rows

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

    def _hint(self, batch: store.Batch) -> None:
        """Tell others what they may have been waiting for."""
        changed: list[Row] = [*batch.entries, *batch.ends, *batch.rests]
        for run_id in {row.run_id for row in changed}:
            self._hints.send(f"run:{run_id}")
        ops = {e.effect[0] for e in batch.entries if e.effect}
        parents = [e.parent[0] for e in batch.ends if e.parent]
        if "child" in ops or "withdraw" in ops or parents or any(e.lane or e.opened for e in batch.ends):
            self._hints.send("queue")
        for parent in parents:
            self._hints.send(f"wake:{parent}")
        if "emit" in ops or (
            self._registry.now.listening and (batch.ends or any(op.startswith("table.") for op in ops))
        ):
            self._hints.send("published")
        if "ask" in ops:
            self._hints.send("tray")

    async def _write(self, batch: store.Batch) -> None:
        """Write; a connection lost during the commit is made anew and what landed is compared, not guessed."""
        unsure = False
        while True:
            try:
                if self._connection is None or self._connection.is_closed():
                    self._connection = await self._connect()
                if unsure and await store.landed(self._connection, self._registry.workspace, self._worker_id, batch):
                    return
                unsure = True
                await store.write(self._connection, self._registry.workspace, self._worker_id, batch)
                return
            except RETRIED as error:
                unsure = False
                log.info("commit tried again", reason=type(error).__name__)
            except LOST as error:
                go_on()
                log.warning("journal connection lost", reason=str(error) or type(error).__name__)
                if self._connection is not None:
                    self._connection.terminate()
                    self._connection = None
                await asyncio.sleep(0.2)


class RunJournal:
    """The engine's journal of one claimed run."""

    def __init__(
        self, claim: Claim, recorded: store.Recorded | None, writer: JournalWriter, registry: Registry, workflow: str
    ) -> None:
        self._claim = claim
        self._writer = writer
        self._registry = registry
        self._workflow = workflow
        self._by_path: dict[str, list[Entry]] = {}
        self._opened: list[str] = []
        self._signals: dict[str, Any] = {}
        self._arriving: dict[str, asyncio.Event] = {}
        self._seq, self._steps, self._attempts = 0, 0, 0
        self.known_wakes = claim.wakes
        self.spent = Spent()
        if recorded is not None:
            self._take(recorded)

    def entries(self, path: str) -> Sequence[Entry]:
        return self._by_path.get(path, ())

    def add(self, entry: Entry) -> Any:
        row, body = self._row(entry)
        self._writer.put(row)
        self._keep(Entry(entry.path, entry.kind, entry.attempt, entry.hash, body, None, None, entry.at))
        return body

    async def commit(self, entry: Entry, effect: LocalEffect | None = None) -> Any:
        if effect is None:
            row, body = self._row(entry)
        else:
            row, body = self._effect_row(entry, effect)
            row.at = row.at or self.now()
        try:
            written = await self._writer.put(row)
        except REFUSED as error:
            raise StepFailed(
                "invalid", f"{entry.path}: the database refuses this: {error}", fix="check the values and the table"
            ) from None
        if effect is not None and effect.op != "table.add":
            assert isinstance(written, EntryRow) and written.body is not None
            context = entry_context(row.run_id, row.seq)
            body = values.loads(self._registry.vault.exact(written.body, written.sealed, context) or "null")
        self._keep(
            Entry(entry.path, entry.kind, entry.attempt, entry.hash, body, entry.detail, entry.started, entry.at)
        )
        return body

    def signal(self, path: str) -> Any:
        return self._signals.get(path)

    async def arrival(self, path: str) -> None:
        await self._arriving.setdefault(path, asyncio.Event()).wait()

    def deliver(self, wakes: int, rows: Sequence[asyncpg.Record]) -> None:
        """Take what has arrived while the run is walked; `wakes` as it was before the rows were read."""
        for row in rows:
            path, context = row["path"], signal_context(self._claim.run_id, row["path"])
            self._signals[path] = values.loads(
                self._registry.vault.exact(row["body"], row["sealed"], context) or "null"
            )
            self._arriving.setdefault(path, asyncio.Event()).set()
        self.known_wakes = wakes

    def open_under(self, prefix: str) -> bool:
        return any(is_below(path, prefix) and not self._ended(path) for path in self._opened)

    def _ended(self, path: str) -> bool:
        return f"{path}#end" in self._by_path or f"{path}#woke" in self._by_path

    def now(self) -> datetime:
        return datetime.now(UTC)

    def random(self) -> float:
        return random.random()

    async def sleep_until(self, moment: datetime) -> None:
        await asyncio.sleep(max(0.0, (moment - self.now()).total_seconds()))

    async def end(self, finished: Finished) -> None:
        """Record the end of the run, and tell the run that waits for it."""
        vault, blanker, claim = self._registry.vault, self._registry.now.blanker, self._claim
        result, sealed, told, parent = None, None, None, None
        if finished.state == "succeeded":
            result, sealed = vault.blanked(values.dumps(finished.result), blanker, run_context(claim.run_id))
        error = None if finished.error is None else blanker.text(values.dumps(finished.error))
        if claim.parent_id is not None and claim.kind != "run":
            parent = (claim.parent_id, claim.parent_path or "")
            spent = {"input": self.spent.input, "output": self.spent.output, "money": float(self.spent.money)}
            usage = {**spent, "steps": self._steps, "attempts": self._attempts}
            body = {**finished.as_data(), "usage": usage, "run": str(claim.run_id)}
            told = vault.blanked(values.dumps(body), blanker, signal_context(*parent))
        await self._writer.put(
            EndRow(
                run_id=claim.run_id,
                state=finished.state,
                result=result,
                error=error,
                error_kind=finished.error["kind"] if finished.error else None,
                sealed=sealed,
                tokens_in=self.spent.input,
                tokens_out=self.spent.output,
                money=str(self.spent.money),
                steps=self._steps,
                attempts=self._attempts,
                workflow=self._workflow,
                depth=claim.depth + 1,
                lane=(claim.workflow_id, claim.lane) if claim.lane is not None else None,
                parent=parent,
                told=told,
                opened=bool(self._opened),
            )
        )

    async def rest(self, rested: Rested, worked: float) -> None:
        """Record that the run waits. What arrived just when the last strand came to rest wakes it at once."""
        unused = any(path in self._signals and not self._ended(path) for path in self._opened)
        await self._writer.put(
            RestRow(
                self._claim.run_id,
                rested.wakes,
                -1 if unused else self.known_wakes,
                worked,
                self.spent.input,
                self.spent.output,
                str(self.spent.money),
                self._steps,
                self._attempts,
            )
        )

    def _take(self, recorded: store.Recorded) -> None:
        """What an earlier walk recorded, and what has arrived since."""
        vault, run_id = self._registry.vault, self._claim.run_id
        for row in recorded.entries:
            exact = vault.exact(row["body"], row["sealed"], entry_context(run_id, row["seq"]))
            body = None if exact is None else values.loads(exact)
            began = row["kind"] == "began" and row["detail"]
            detail = values.loads(row["detail"]) if began else None
            self._keep(
                Entry(row["path"], row["kind"], row["attempt"], row["hash"], body, detail, row["started_at"], row["at"])
            )
        sums = recorded.sums
        if sums is not None:
            self._seq, self._steps, self._attempts = sums["seq"], int(sums["steps"]), int(sums["attempts"])
            self.spent.input, self.spent.output = int(sums["tokens_in"]), int(sums["tokens_out"])
            self.spent.money = Decimal(sums["money"])
        self.deliver(self.known_wakes, recorded.signals)

    def _row(self, entry: Entry) -> tuple[EntryRow, Any]:
        text = values.dumps(entry.body) if entry.text is None else entry.text
        body = values.loads(text)
        context = entry_context(self._claim.run_id, self._seq)
        shown, sealed = self._registry.vault.blanked(text, self._registry.now.blanker, context)
        return self._make(entry, shown, sealed), body

    def _effect_row(self, entry: Entry, effect: LocalEffect) -> tuple[EntryRow, Any]:
        given, vault, blanker = entry.body or {}, self._registry.vault, self._registry.now.blanker
        context = entry_context(self._claim.run_id, self._seq)

        def finish_body(result: Any) -> tuple[str, bytes | None]:
            return vault.blanked(values.dumps({**given, "output": result}), blanker, context)

        if effect.op == "table.add":
            text = blanker.text(values.dumps(effect.data["row"]))
            row_id = uuids.uuid7()
            data = {**effect.data, "id": row_id, "text": text}
            body = {**given, "output": {"id": str(row_id), "row": values.loads(text)}}
            shown, sealed = finish_body(body["output"])
        else:
            body, shown, sealed = None, "", None
            data = prepared(effect, self._claim, self._registry, self._workflow)
        row = self._make(entry, shown, sealed)
        row.effect, row.workflow_id, row.finish_body = (effect.op, data), self._claim.workflow_id, finish_body
        row.depth = self._claim.depth + 1
        return row, body

    def _make(self, entry: Entry, shown: str, sealed: bytes | None) -> EntryRow:
        detail = None
        if entry.detail:
            detail = self._registry.now.blanker.text(values.dumps(entry.detail))
        row = EntryRow(
            self._claim.run_id,
            self._seq,
            entry.path,
            entry.kind,
            entry.attempt,
            entry.hash,
            shown,
            detail,
            sealed,
            entry.started,
            entry.at,
            scope_of(entry.path),
        )
        self._seq += 1
        self._count(entry, row)
        return row

    def _count(self, entry: Entry, row: EntryRow) -> None:
        """Steps, attempts, tokens and money of an entry, as columns."""
        body, path = entry.body, entry.path
        usage = body.get("usage") if isinstance(body, dict) and entry.kind in ("ended", "value") else None
        if "#" not in path:
            over = entry.kind == "ended" and not (body and ("again_at" in body or "unknown" in body))
            asked = entry.kind == "opened" and "~" not in path and path[-1] != "]"
            row.steps = int(
                (over or asked or entry.kind == "value") and "/" not in path
            )  # turns and calls are no steps
            first = "/" not in path or path.endswith("/open")  # an agent is one attempt, however many turns it takes
            row.attempts = int(entry.kind == "ended" and (first or entry.attempt > 1))
        elif usage and path.endswith("]#end") and "/" not in path:
            row.steps, row.attempts = usage["steps"], usage["attempts"]
        if usage and (entry.kind == "ended" or path.endswith("#end")):
            row.tokens_in, row.tokens_out = int(usage.get("input") or 0), int(usage.get("output") or 0)
            row.money = str(usage.get("money") or 0)
            if entry.kind == "ended" and "alias" in usage:
                row.used = self._used(row, usage)
        self._steps += row.steps
        self._attempts += row.attempts

    def _used(self, row: EntryRow, usage: dict[str, Any]) -> Used:
        claim = self._claim
        source = str(claim.event["source"])
        if source.startswith("/runs/"):
            source = f"/workflows/{self._workflow}"  # who started it stands with its parent
        return Used(
            row.run_id,
            row.seq,
            claim.workflow_id,
            alias=str(usage["alias"]),
            credential=str(usage.get("credential") or ""),
            source=source,
            input=int(usage.get("input") or 0),
            cached=int(usage.get("cached") or 0),
            output=int(usage.get("output") or 0),
            money=Decimal(row.money or "0"),
        )

    def _keep(self, entry: Entry) -> None:
        self._by_path.setdefault(entry.path, []).append(entry)
        if entry.kind == "opened":
            self._opened.append(entry.path)


def scope_of(path: str) -> str:
    """The innermost item, round, agent or turn around an entry; empty at the top."""
    owner = path.partition("#")[0]
    if "/" in owner:
        return owner[: owner.rindex("/")]
    if "]" not in path:
        return ""
    if owner.endswith("]"):
        owner = owner[: owner.rindex("[")]
    return owner[: owner.rfind("]") + 1]


__all__ = ["Fenced", "JournalWriter", "RunJournal"]
