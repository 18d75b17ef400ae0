"""The journal of one run that is walked: what is recorded, and what is added through the worker's writer."""

import asyncio
import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

import asyncpg

from oak_relay.changes import Change
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine.entries import Entry
from oak_relay.engine.opened import Opened
from oak_relay.engine.outcomes import Finished, Rested, Spent
from oak_relay.engine.paths import scope_of
from oak_relay.runtime.groupcommit import REFUSED
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.writer import Ownership, Writers
from oak_relay.store import journal as store
from oak_relay.store.changes import About, Added, prepared
from oak_relay.store.journal import BackRow, EndRow, RestRow
from oak_relay.store.lanes import Lane
from oak_relay.store.pages import EntryRow
from oak_relay.store.queue import Claim
from oak_relay.store.usage import Used
from oak_relay.triggers.conversation import MESSAGE
from oak_relay.usage import Usage


@dataclass(frozen=True, slots=True)
class Ground:
    """What the journals of a worker's runs stand on. `clock` tells the time by the database's clock."""

    writer: Writers
    registry: Registry
    clock: Callable[[], datetime]


class RunJournal:
    """The engine's journal of one claimed run."""

    def __init__(
        self, claim: Claim, recorded: store.Recorded | None, ground: Ground, owner: Ownership, workflow: str
    ) -> None:
        self._claim = claim
        self._writer = ground.writer.of(claim.run_id)
        self.now = ground.clock
        self._owner = owner
        self._registry = ground.registry
        self._workflow = workflow
        self._about = About(workflow, claim.workflow_id, claim.version_id, claim.depth + 1)
        self._by_path: dict[str, list[Entry]] = {}
        self.open = Opened()
        self._asked = False
        self._signals: dict[str, object] = {}
        self._arriving: dict[str, asyncio.Event] = {}
        self._steps, self._attempts = 0, 0
        self.known_wakes = claim.wakes
        self.spent = Spent()
        if recorded is not None:
            self._take(recorded)

    def entries(self, path: str) -> Sequence[Entry]:
        return self._by_path.get(path, ())

    def add(self, entry: Entry) -> object:
        row, body = self._row(entry)
        self._writer.leave(self._owner, row)
        self._keep(entry, row, body)
        return body

    async def commit(self, entry: Entry, change: Change | None = None) -> object:
        if change is None:
            row, body = self._row(entry)
        else:
            entry = entry if entry.at else entry._replace(at=self.now())
            row, body = self._with_change(entry, change)
        try:
            written = await self._writer.put(self._owner, row)
        except REFUSED as error:
            raise StepFailed(
                "invalid", f"{entry.path}: the database refuses this: {error}", fix="check the values and the table"
            ) from None
        if change is not None and body is None:
            assert isinstance(written, EntryRow)
            body = values.loads(written.body)
        self._keep(entry, row, body)
        return body

    @property
    def full(self) -> bool:
        return self._writer.full

    async def room(self) -> None:
        await self._writer.room()

    def signal(self, path: str) -> object:
        return self._signals.get(path)

    async def arrival(self, path: str) -> None:
        await self._arriving.setdefault(path, asyncio.Event()).wait()

    def deliver(self, wakes: int, rows: Sequence[asyncpg.Record]) -> None:
        """Take what has arrived while the run is walked; `wakes` as it was before the rows were read."""
        for row in rows:
            self._signals[row["path"]] = values.loads(row["body"] or "null")
            self._arriving.setdefault(row["path"], asyncio.Event()).set()
        self.known_wakes = wakes

    def random(self) -> float:
        return random.random()

    async def sleep_until(self, moment: datetime) -> None:
        await asyncio.sleep(max(0.0, (moment - self.now()).total_seconds()))

    async def end(self, finished: Finished) -> None:
        """Record the end of the run, and tell the run that waits for it."""
        claim = self._claim
        result, outcome, parent = None, None, None
        if finished.state == "succeeded":
            result = values.dumps(finished.result)
        error = None if finished.error is None else values.dumps(finished.error)
        if claim.parent_id is not None and claim.kind != "run":
            parent = (claim.parent_id, claim.parent_path or "")
            spent = {
                "input": self.spent.input,
                "output": self.spent.output,
                "money": float(self.spent.money),
                "unpriced": self.spent.unpriced,
            }
            usage = {**spent, "steps": self._steps, "attempts": self._attempts}
            outcome = values.dumps({**finished.as_data(), "usage": usage, "run": str(claim.run_id)})
        await self._writer.put(
            self._owner,
            EndRow(
                run_id=claim.run_id,
                generation=claim.generation,
                state=finished.state,
                result=result,
                error=error,
                error_kind=finished.error["kind"] if finished.error else None,
                tokens_in=self.spent.input,
                tokens_out=self.spent.output,
                money=self.spent.money,
                unpriced=self.spent.unpriced,
                steps=self._steps,
                attempts=self._attempts,
                workflow="" if claim.kind == "part" else self._workflow,  # nobody is told of a part
                child=claim.kind == "child",
                depth=claim.depth + 1,
                started_at=claim.started_at,
                lane=self._lane,
                parent=parent,
                outcome=outcome,
                opened=self._asked,
                note=finished.note or None,
            ),
        )

    @property
    def _lane(self) -> Lane | None:
        """The lane that the run holds."""
        return None if self._claim.lane is None else (self._claim.workflow_id, self._claim.lane)

    async def rest(self, rested: Rested, worked: float) -> None:
        """Record that the run waits. What arrived just when the last strand came to rest wakes it at once."""
        unused = any(path in self._signals for path in self.open.entries)
        await self._writer.put(
            self._owner,
            RestRow(
                self._claim.run_id,
                self._claim.generation,
                rested.wakes,
                -1 if unused else self.known_wakes,
                worked,
                self.spent.input,
                self.spent.output,
                self.spent.money,
                self.spent.unpriced,
                self._steps,
                self._attempts,
                self._lane if self._claim.event["type"] == MESSAGE else None,
            ),
        )

    async def give_back(self, delay: float, reason: dict[str, object] | None = None) -> None:
        """Give the run back, to be walked again; with a reason its walk broke."""
        await self._writer.put(self._owner, BackRow(self._claim.run_id, self._claim.generation, delay, reason))

    def _take(self, recorded: store.Recorded) -> None:
        """What an earlier walk recorded, and what has arrived since."""
        for entry in recorded.entries:
            self._remember(entry.as_entry(entry.detail if entry.kind == "began" else None))
        sums = recorded.sums
        if sums is not None:
            self._owner.pages = sums["pages"]
            self._steps, self._attempts = int(sums["steps"]), int(sums["attempts"])
            self.spent.input, self.spent.output = int(sums["tokens_in"]), int(sums["tokens_out"])
            self.spent.money, self.spent.unpriced = Decimal(sums["money"]), int(sums["unpriced"])
        self.deliver(self.known_wakes, recorded.signals)

    def _row(self, entry: Entry) -> tuple[EntryRow, object]:
        text, body = values.copied(entry.body) if entry.text is None else (entry.text, entry.body)
        return self._make(entry, text), body

    def _with_change(self, entry: Entry, change: Change) -> tuple[EntryRow, object]:
        """The row of an entry with a change; its body where that is known beforehand, else None."""
        given, made = entry.body or {}, prepared(change, self._about)
        body, text = None, ""
        if isinstance(made, Added):
            body = {**given, "output": made.output}
            text = values.dumps(body) if given else f'{{"output":{made.output_text}}}'
        row = self._make(entry, text)
        row.change = made
        row.given = given
        row.depth = self._claim.depth + 1
        return row, body

    def _make(self, entry: Entry, text: str) -> EntryRow:
        detail = None
        if entry.detail:
            detail = self._registry.now.blanker.json(entry.shown or values.dumps(entry.detail))
        row = EntryRow(
            self._claim.run_id,
            entry.path,
            entry.kind,
            entry.attempt,
            entry.hash,
            text,
            detail,
            entry.started,
            entry.at,
            scope_of(entry.path),
        )
        self._count(entry, row)
        return row

    def _count(self, entry: Entry, row: EntryRow) -> None:
        """Steps, attempts, tokens and money of an entry, as columns."""
        body, path = entry.body, entry.path
        outcome = body.get("usage") if isinstance(body, dict) and entry.kind in ("ended", "value", "lost") else None
        if "#" not in path:
            over = entry.kind == "ended" and not (body and ("again_at" in body or "unknown" in body))
            asked = entry.kind == "opened" and "~" not in path and path[-1] != "]"
            row.steps = int(
                (over or asked or entry.kind == "value") and "/" not in path
            )  # turns and calls are no steps
            first = "/" not in path or path.endswith("/open")  # an agent is one attempt, however many turns it takes
            row.attempts = int(entry.kind == "ended" and (first or entry.attempt > 1))
        elif outcome and path.endswith("]#end") and "/" not in path:
            row.steps, row.attempts = outcome["steps"], outcome["attempts"]
        if outcome and (entry.kind in ("ended", "lost") or path.endswith(("#end", "#spent"))):
            usage = Usage.read(outcome)
            row.tokens_in, row.tokens_out = usage.input, usage.output
            row.money, row.unpriced = Decimal(str(usage.paid)), usage.unknown
            if entry.kind in ("ended", "lost") and usage.alias:
                row.used = self._used(row, usage)
        self._steps += row.steps
        self._attempts += row.attempts

    def _used(self, row: EntryRow, usage: Usage) -> Used:
        claim = self._claim
        source = str(claim.event["source"])
        if source.startswith("/runs/"):
            source = f"/workflows/{self._workflow}"  # who started it stands with its parent
        return Used(
            claim.workflow_id,
            alias=usage.alias,
            credential=usage.credential or "",
            source=source,
            input=usage.input,
            cached=usage.cached,
            output=usage.output,
            money=row.money or Decimal(0),
            unpriced=row.unpriced,
        )

    def _keep(self, entry: Entry, row: EntryRow, body: object) -> None:
        """Remember an entry as it will be read back: of the detail only what an open attempt was asked."""
        detail = values.loads(row.detail) if row.kind == "began" and row.detail else None
        path, kind, attempt, hash_ = entry[:4]
        self._remember(Entry(path, kind, attempt, hash_, body, detail, entry.started, entry.at))

    def _remember(self, entry: Entry) -> None:
        path, kind = entry[:2]
        known = self._by_path.get(path)
        if known is None:
            self._by_path[path] = [entry]
        else:
            known.append(entry)
        if kind == "opened":
            self._asked = True
            self.open.take(entry)
        elif "#" in path:
            self.open.take(entry)
