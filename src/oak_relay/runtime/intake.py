"""Intake: an event becomes a run, and whoever brought it is answered after the commit."""

import asyncio
import secrets
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import lru_cache
from types import MappingProxyType
from typing import Any, NamedTuple
from uuid import UUID

import asyncpg

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.document.shapes import Fills, filled
from oak_relay.engine.plan import Plan
from oak_relay.runtime.documents import Busy
from oak_relay.runtime.groupcommit import RETRIED, GroupCommit
from oak_relay.runtime.hints import Hints, go_on
from oak_relay.runtime.receipts import Receipts
from oak_relay.runtime.registry import Registry
from oak_relay.store import intake as store
from oak_relay.store.database import LOST, Database
from oak_relay.store.ids import new_id
from oak_relay.store.intake import NewRun, Receipt


class Incoming(NamedTuple):
    """Something that happened. `key` is the sender's id for it, None when it gave none."""

    source: str
    type: str
    data: object
    key: str | None = None
    headers: Mapping[str, str] | None = None
    query: Mapping[str, str] | None = None
    depth: int = 0
    trace_parent: str | None = None
    origin_id: UUID | None = None
    origin_how: str | None = None
    meta: Mapping[str, object] = MappingProxyType({})
    """What is kept of an event beside its headers and query: its `data`, where the run's input was made of it."""
    again: bool = False
    """Whether it counts although one of its key came before."""


@dataclass(frozen=True, slots=True)
class RunTemplate:
    """What the intake needs to know of a version: what its runs are about, how those of one subject stand, the defaults of
    their input, and how it is made of an event by a trigger (None: it is the event's data)."""

    subject: Template
    settings: dict[str, object]
    policy: str
    revision: int
    fills: Fills = field(default_factory=dict)
    input: Template | None = None

    @classmethod
    def of(cls, plan: Plan) -> "RunTemplate":
        """Of a compiled version."""
        return cls(plan.subject, plan.settings, plan.per_subject, plan.revision, plan.fills)

    @classmethod
    def read(cls, text: str) -> "RunTemplate":
        """As it stands with a trigger; of one text it is made once."""
        return _template(text)


@lru_cache(maxsize=2048)
def _template(text: str) -> RunTemplate:
    data = values.loads(text)
    made = None if data["input"] is None else Template(data["input"])
    return RunTemplate(
        Template(data["subject"]), data["settings"], data["policy"], data["revision"], data["fills"], made
    )


@dataclass(frozen=True, slots=True)
class Target:
    """The version an event starts; `trigger_id` None when a person or a client does."""

    workflow_id: UUID
    version_id: UUID
    template: RunTemplate
    trigger_id: UUID | None
    trigger_name: str


class Intake:
    """One per process; requests that come while a commit is under way share the next."""

    def __init__(self, database: Database, registry: Registry, hints: Hints, receipts: Receipts) -> None:
        self._receipts = receipts
        self._turn = secrets.randbits(62)
        self._database = database
        self._registry = registry
        self._hints = hints
        self._connection: asyncpg.Connection | None = None
        self._full = False
        self.commits = 0.0
        """Seconds that a commit took of late, on average."""
        self._group: GroupCommit[NewRun, Receipt] = GroupCommit(self._flush, most=500, bound=5_000)

    async def run(self) -> None:
        """Write what comes until cancelled."""
        try:
            await self._group.run()
        finally:
            if self._connection is not None:
                self._connection.terminate()

    async def watch(self, backlog: int) -> None:
        """See whether more is ready than should be; then nothing new is taken in. Until cancelled."""
        while True:
            try:
                async with self._database.connect() as connection:
                    self._full = await store.backlog(connection, self._registry.workspace, backlog)
            except LOST:
                go_on()
            await asyncio.sleep(1.0)

    def room(self) -> None:
        """Raises `Busy` while more waits than should: nothing new is taken in."""
        if self._group.full or self._full:
            raise Busy("too much is waiting to be written")

    async def accept(self, target: Target, incoming: Incoming) -> Receipt:
        """Write an event and its run. Raises `Busy`, and `NotJson` for data that cannot be kept."""
        self.room()
        new = new_run(target, incoming)
        receipt = await self._group.put(new)
        if receipt.status == "accepted":
            self._hints.send("queue")
            self._hints.changed(new.run_id)
        return receipt

    async def _flush(self, runs: list[NewRun]) -> list[Receipt | Exception]:
        unsure = False
        workspace = self._registry.workspace
        while True:
            try:
                if self._connection is None or self._connection.is_closed():
                    self._connection = await self._database.connect_directly()
                found = await store.settled(self._connection, workspace, runs, self._turn) if unsure else None
                if found is None:
                    unsure = True
                    began = time.monotonic()
                    found = await store.accept(self._connection, workspace, runs, self._turn)
                    self.commits += 0.1 * (time.monotonic() - began - self.commits)
                self._receipts.keep([(run, receipt) for run, receipt in zip(runs, found, strict=True)])
                return list(found)
            except RETRIED:
                unsure = False
            except asyncpg.UniqueViolationError:
                # With what is written by a commit that was taken for lost; or else it is one run's own fault.
                found = await store.settled(self._connection, workspace, runs, self._turn) if unsure else None
                if found is None:
                    raise
                return list(found)
            except LOST:
                go_on()
                if self._connection is not None:
                    self._connection.terminate()
                    self._connection = None
                await asyncio.sleep(0.2)


def arrived(template: RunTemplate, incoming: Incoming) -> Incoming:
    """What came in, its data as the input that a trigger makes of it. Raises `StepFailed` where that cannot be made."""
    if template.input is None:
        return incoming
    scope = {"event": event_as_seen(incoming), "settings": template.settings}
    meta = {**incoming.meta, "data": incoming.data}
    return incoming._replace(data=template.input.render(scope), meta=meta)


def new_run(target: Target, incoming: Incoming) -> NewRun:
    """An event and its run as they are written; a run whose input cannot be made of the event fails when it begins. Raises
    `NotJson` for data that cannot be kept."""
    if "data" not in incoming.meta:
        try:
            incoming = arrived(target.template, incoming)
        except StepFailed as failed:
            said = {"data": incoming.data, "fault": f"{target.trigger_name}: {failed.message}"}
            incoming = incoming._replace(meta={**incoming.meta, **said})
    event_id = new_id()
    meta = {"headers": dict(incoming.headers or {}), "query": dict(incoming.query or {}), **incoming.meta}
    return NewRun(
        run_id=new_id(),
        event_id=event_id,
        trigger_id=target.trigger_id,
        workflow_id=target.workflow_id,
        version_id=target.version_id,
        revision=target.template.revision,
        trigger_name=target.trigger_name,
        source=_text(incoming.source),
        type=_text(incoming.type),
        event_key=_key(incoming.key or str(event_id)),
        keyed=incoming.key is not None and not incoming.again,
        body=values.dumps(incoming.data),
        meta=values.dumps(meta),
        subject=_subject(target.template, incoming),
        policy=target.template.policy,
        depth=incoming.depth,
        trace_parent=incoming.trace_parent,
        origin_id=incoming.origin_id,
        origin_how=incoming.origin_how,
    )


def event_of(event: Mapping[str, Any], data: object) -> dict[str, object]:
    """The name `event` as documents see it."""
    meta = values.loads(event["meta"])
    return {
        "id": event["event_key"],
        "source": event["source"],
        "type": event["type"],
        "time": event["at"].isoformat(),
        "data": meta.get("data", data),
        "headers": meta["headers"],
        "query": meta["query"],
    }


def conversation_of(meta: Mapping[str, Any], name: str) -> object:
    """The name `conversation` as documents see it; of a run that nobody talks with, one of its own."""
    alone = {
        "key": f"run {name}",
        "first": True,
        "person": {"id": "", "name": "", "address": "", "language": ""},
        "facts": {},
    }
    return meta.get("conversation", alone)


def _subject(template: RunTemplate, incoming: Incoming) -> str | None:
    """What the run is about; a subject that cannot be worked out is none."""
    if template.subject.raw is None:
        return None
    given = filled(template.fills, incoming.data)
    scope = {"input": given, "settings": template.settings, "run": {}, "event": event_as_seen(incoming)}
    if "conversation" in incoming.meta:
        scope["conversation"] = incoming.meta["conversation"]
    try:
        found = values.text_of(template.subject.render(scope))
    except StepFailed:
        return None
    return _text(found) or None


def event_as_seen(incoming: Incoming) -> dict[str, object]:
    """The name `event` before it is written."""
    return {
        "id": incoming.key or "",
        "source": incoming.source,
        "type": incoming.type,
        "time": datetime.now(UTC).isoformat(),
        "data": incoming.meta.get("data", incoming.data),
        "headers": dict(incoming.headers or {}),
        "query": dict(incoming.query or {}),
    }


def _text(text: str) -> str:
    return values.storable_text(text)[:300]


def _key(key: str) -> str:
    safe = values.storable_text(key)
    return safe if len(safe) <= 200 and safe == key else f"sha:{values.digest(key)}{values.digest(key[::-1])}"
