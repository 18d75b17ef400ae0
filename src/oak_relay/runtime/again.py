"""A run done again: from the start, from where it failed, or from a chosen step; and a step tried with samples."""

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from uuid import UUID

import asyncpg

from oak_relay.changes import Change, Remember
from oak_relay.document import values
from oak_relay.document.expressions import Template
from oak_relay.engine.entries import Entry
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import Finished, Rested, Start
from oak_relay.engine.paths import scope_of
from oak_relay.engine.plan import Node, Plan, every_node
from oak_relay.engine.replay import Kept, keep
from oak_relay.engine.walk import Walk
from oak_relay.messages import Message
from oak_relay.runtime.executor import RunExecutor, Tools
from oak_relay.runtime.intake import Incoming, Target, new_run
from oak_relay.runtime.registry import Registry
from oak_relay.store import intake, seeds
from oak_relay.store.changes import pretended
from oak_relay.store.pages import EntryRow, Stored

TRY_SECONDS = 120.0


@dataclass(frozen=True, slots=True)
class Again:
    """What a run is done again with: `stop` the path of the step it goes on from, `given` values in the place of
    what steps at the top gave."""

    origin: UUID
    how: str
    stop: str = ""
    given: dict[str, object] | None = None


async def kept_of(tools: Tools, plan: Plan, rows: Sequence[Stored], scope: dict[str, object], again: Again) -> Kept:
    """What a new run of a plan can keep of an old one's journal (`rows` of it)."""
    entries = [row.as_entry(row.detail) for row in rows]
    executor = RunExecutor(tools, again.origin, lambda: 60.0)
    start = Start(str(again.origin), scope)
    return await keep(plan, entries, executor, start, datetime.now(UTC), again.stop, again.given)


async def begin(
    connection: asyncpg.Connection, registry: Registry, target: Target, incoming: Incoming, kept: Kept
) -> UUID:
    """Start the new run with what is kept, in one commit; its id."""
    snapshot = await registry.fresh()
    new = new_run(target, incoming)
    rows = []
    for entry in kept.entries:
        body = values.dumps(entry.body)
        detail = snapshot.blanker.json(values.dumps({**(entry.detail or {}), "kept_from": str(incoming.origin_id)}))
        shown = (entry.path, entry.kind, entry.attempt, entry.hash, body, detail, entry.started, entry.at)
        rows.append(EntryRow(new.run_id, *shown, scope=scope_of(entry.path)))
    async with connection.transaction():
        await intake.accept(connection, registry.workspace, [new])
        if rows:
            await seeds.write(connection, registry.workspace, new.run_id, rows)
    return new.run_id


class _TriedJournal(MemoryJournal):
    """A journal that is thrown away, by the real clock; nothing that is ours is changed."""

    def __init__(self, apply: Callable[[Change], object] | None = None) -> None:
        super().__init__(apply or pretended)

    def now(self) -> datetime:
        return datetime.now(UTC)

    async def sleep_until(self, moment: datetime) -> None:
        await asyncio.sleep(max(0.0, (moment - self.now()).total_seconds()))


async def try_from(
    plan: Plan, tools: Tools, node: Node, scope: dict[str, object], onwards: bool
) -> tuple[Finished | Rested, list[Entry]]:
    """Carry out one step, or it and what stands behind it, with sample values; calls to the outside are made."""
    steps = _from(plan, node) if onwards else (node,)
    whole = Plan(
        workflow=plan.workflow,
        steps=steps,
        subject=plan.subject,
        result=plan.result if onwards and steps[-1:] == plan.steps[-1:] else Template(f"${{ {node.name} }}"),
        settings=plan.settings,
        time=min(TRY_SECONDS, plan.time or TRY_SECONDS),
        money=plan.money,
        names=plan.names,
    )
    journal = _TriedJournal()
    executor = RunExecutor(tools, UUID(int=0), lambda: 60.0)
    outcome = await Walk(whole, journal, executor, Start("try", scope, patient=False)).walk()
    return outcome, journal.log


async def talk_with(
    plan: Plan, tools: Tools, node: Node, body: Template, scope: dict[str, object], before: Sequence[Message]
) -> tuple[Finished | Rested, list[Entry], list[Message]]:
    """Let an agent answer in a conversation that is kept nowhere; how it ended, its journal, and what was said anew."""
    said: list[Message] = []

    def remembered(change: Change) -> object:
        if isinstance(change, Remember):
            said.extend(change.messages)
        return pretended(change)

    agent = replace(node, body=body, when=None, once=None, on_error="fail")
    alone = replace(
        plan,
        steps=(agent,),
        always=(),
        result=Template(f"${{ {node.name} }}"),
        time=min(TRY_SECONDS, plan.time or TRY_SECONDS),
    )
    journal = _TriedJournal(remembered)
    executor = RunExecutor(tools, UUID(int=0), lambda: 60.0, before=before)
    outcome = await Walk(alone, journal, executor, Start("talk", scope, patient=False)).walk()
    return outcome, journal.log, said


def _from(plan: Plan, node: Node) -> tuple[Node, ...]:
    """A node and those behind it in its list."""
    lists = [plan.steps, plan.always, *(inner for n in every_node((*plan.steps, *plan.always)) for inner in n.lists())]
    for steps in lists:
        if node in steps:
            return steps[steps.index(node) :]
    return (node,)
