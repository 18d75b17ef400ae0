"""The journal writer of a worker, and the journal of one run that writes through it."""

import asyncio
import random
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import asyncpg
import structlog
import uuid_utils.compat as uuids

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine.outcomes import Finished, Rested, Spent
from oak_relay.engine.protocols import Entry, LocalEffect
from oak_relay.runtime.groupcommit import REFUSED, GroupCommit
from oak_relay.runtime.hints import LOST, Hints, go_on
from oak_relay.runtime.registry import Registry
from oak_relay.store import journal as store
from oak_relay.store.database import Database
from oak_relay.store.journal import EndRow, EntryRow, Fenced, RestRow
from oak_relay.store.queue import Claim
from oak_relay.store.vault import entry_context, run_context

log = structlog.get_logger()
Row = EntryRow | EndRow | RestRow


class JournalWriter:
    """One per worker incarnation: puts the rows of many runs into one commit, fenced by the lease."""

    def __init__(self, database: Database, worker_id: UUID, hints: Hints) -> None:
        self._database = database
        self._worker_id = worker_id
        self._hints = hints
        self._connection: asyncpg.Connection | None = None
        self._group: GroupCommit[Row, Row] = GroupCommit(self._flush, most=2000)
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
        for run_id in {r.run_id for r in rows}:
            self._hints.send(f"run:{run_id}")
        return rows

    async def _write(self, batch: store.Batch) -> None:
        """Write; a connection lost during the commit is made anew and what landed is compared, not guessed."""
        unsure = False
        while True:
            try:
                if self._connection is None or self._connection.is_closed():
                    self._connection = await self._database.connect_directly()
                if unsure and await store.landed(self._connection, batch):
                    return
                unsure = True
                await store.write(self._connection, self._worker_id, batch)
                return
            except LOST as error:
                go_on()
                log.warning("journal connection lost", reason=str(error) or type(error).__name__)
                if self._connection is not None:
                    self._connection.terminate()
                    self._connection = None
                await asyncio.sleep(0.2)


class RunJournal:
    """The engine's journal of one claimed run."""

    def __init__(self, claim: Claim, rows: Sequence[asyncpg.Record], writer: JournalWriter, registry: Registry) -> None:
        self._claim = claim
        self._writer = writer
        self._registry = registry
        self._by_path: dict[str, list[Entry]] = {}
        self._seq = 0
        self.spent = Spent()
        for row in rows:
            exact = registry.vault.exact(row["body"], row["sealed"], entry_context(claim.run_id, row["seq"]))
            entry = Entry(
                row["path"],
                row["kind"],
                row["attempt"],
                row["hash"],
                None if exact is None else values.loads(exact),
                None,
                row["started_at"],
                row["at"],
            )
            if entry.kind == "began" and row["detail"]:
                entry = replace(entry, detail=values.loads(row["detail"]))
            self._keep(entry)
            self._seq = row["seq"] + 1
            if isinstance(entry.body, dict) and entry.kind == "ended":
                self.spent.add(entry.body.get("usage"))

    def entries(self, path: str) -> Sequence[Entry]:
        return self._by_path.get(path, ())

    def add(self, entry: Entry) -> Any:
        row, body = self._row(entry)
        self._writer.put(row)
        self._keep(Entry(entry.path, entry.kind, entry.attempt, entry.hash, body))
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
            body = values.loads(
                self._registry.vault.exact(written.body, written.sealed, entry_context(row.run_id, row.seq)) or "null"
            )
        self._keep(
            Entry(entry.path, entry.kind, entry.attempt, entry.hash, body, entry.detail, entry.started, entry.at)
        )
        return body

    def now(self) -> datetime:
        return datetime.now(UTC)

    def random(self) -> float:
        return random.random()

    async def sleep_until(self, moment: datetime) -> None:
        await asyncio.sleep(max(0.0, (moment - self.now()).total_seconds()))

    async def end(self, finished: Finished) -> None:
        """Record the end of the run; when its values are refused, record that it failed of them."""
        vault, blanker = self._registry.vault, self._registry.now.blanker
        result, sealed = None, None
        if finished.state == "succeeded":
            result, sealed = vault.blanked(values.dumps(finished.result), blanker, run_context(self._claim.run_id))
        error = None if finished.error is None else blanker.text(values.dumps(finished.error))
        kind = finished.error["kind"] if finished.error else None
        await self._writer.put(
            EndRow(
                self._claim.run_id,
                finished.state,
                result,
                error,
                kind,
                sealed,
                self.spent.input,
                self.spent.output,
                str(self.spent.money),
                *self._counts(),
            )
        )

    async def rest(self, rested: Rested, worked: float) -> None:
        """Record that the run waits."""
        await self._writer.put(
            RestRow(
                self._claim.run_id,
                rested.wakes,
                self._claim.wakes,
                worked,
                self.spent.input,
                self.spent.output,
                str(self.spent.money),
            )
        )

    def _row(self, entry: Entry) -> tuple[EntryRow, Any]:
        text = values.dumps(entry.body) if entry.text is None else entry.text
        body = values.loads(text)
        shown, sealed = self._registry.vault.blanked(
            text, self._registry.now.blanker, entry_context(self._claim.run_id, self._seq)
        )
        return self._make(entry, shown, sealed), body

    def _effect_row(self, entry: Entry, effect: LocalEffect) -> tuple[EntryRow, Any]:
        seq, given = self._seq, entry.body or {}

        def finish_body(result: Any) -> tuple[str, bytes | None]:
            text = values.dumps({**given, "output": result})
            return self._registry.vault.blanked(
                text, self._registry.now.blanker, entry_context(self._claim.run_id, seq)
            )

        data, body = dict(effect.data), None
        if effect.op == "table.add":
            text = self._registry.now.blanker.text(values.dumps(data["row"]))
            row_id = uuids.uuid7()
            data |= {"id": row_id, "text": text}
            body = {**given, "output": {"id": str(row_id), "row": values.loads(text)}}
            shown, sealed = finish_body(body["output"])
        else:
            shown, sealed = "", None
            data = self._registry.now.blanker.value(data)
            if effect.op == "answer":
                data = {"text": values.dumps(data)}
        row = self._make(entry, shown, sealed)
        row.effect, row.workflow_id, row.finish_body = (effect.op, data), self._claim.workflow_id, finish_body
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
        )
        self._seq += 1
        return row

    def _keep(self, entry: Entry) -> None:
        self._by_path.setdefault(entry.path, []).append(entry)

    def _counts(self) -> tuple[int, int]:
        """Steps carried out and attempts made."""
        done = [es for path, es in self._by_path.items() if "#" not in path and es[-1].kind in ("value", "ended")]
        return len(done), sum(1 for es in done for e in es if e.kind == "ended")


__all__ = ["Fenced", "JournalWriter", "RunJournal"]
