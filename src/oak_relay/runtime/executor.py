"""The executor: performs actions of the catalogue for one run."""

import asyncio
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from uuid import UUID

import structlog

from oak_relay.changes import Change
from oak_relay.document.errors import StepFailed
from oak_relay.engine.protocols import Call, Manner, Outcome
from oak_relay.messages import Message
from oak_relay.runtime import links
from oak_relay.runtime.context import CallContext, Tools, perform
from oak_relay.runtime.telemetry import span_id, trace_id
from oak_relay.store.database import DatabaseLost

log = structlog.get_logger()


class RunExecutor:
    """The engine's executor for one run."""

    def __init__(
        self,
        tools: Tools,
        run_id: UUID,
        lease_left: Callable[[], float],
        trace_parent: str | None = None,
        workflow: str = "",
        before: Sequence[Message] | None = None,
    ) -> None:
        self._workflow = workflow
        self._before = before
        self._tools = tools
        self._catalogue = tools.registry.catalogue
        self._run_id = run_id
        self._lease_left = lease_left
        self._parent = trace_parent
        self._change: CallContext | None = None
        self._read: tuple[object, object] = None, None
        """The input that was read last, and what was read of it: what a call may cost is asked just before it is made."""

    def manner(self, action: str, input: Mapping[str, object]) -> Manner:
        known = self._tools.manners.get(action)
        if known is not None:
            return known
        declared = self._catalogue.get(action)
        if declared.elsewhere is not None:
            table = self._tools.registry.now.tables.get(str(input.get("table")))
            if table is not None and table.link is not None:
                there = declared.elsewhere
                return Manner(there.repeat(table.link.key, input), "outside", there.timeout)
            return Manner(declared.repeat, declared.reach, declared.timeout)
        repeat = declared.repeat_of(input) if declared.repeat_of else declared.repeat
        asks = "model" in declared.input.model_fields
        model = str(input.get("model") or "") if asks else ""
        manner = Manner(repeat, declared.reach, declared.timeout, model)
        if declared.repeat_of is None and not asks:
            self._tools.manners[action] = manner
        return manner

    async def change(self, call: Call) -> Change:
        action = self._catalogue.get(call.action)
        assert action.change is not None
        name, registry = call.input.get("table"), self._tools.registry
        if isinstance(name, str):
            table = registry.now.tables.get(name)
            if table is None:  # it may be quite new
                table = await self._tools.database.patiently(lambda: registry.find(lambda known: known.tables, name))
            if table is not None and table.link is not None:
                raise StepFailed("unavailable", f"the table {name} was linked a moment ago", fix="try again")
        if self._change is None:
            self._change = self._at(call)  # for all of them: a change of our own records sends nothing
        return action.change(action.read(call.input), self._change)

    async def admit(self, call: Call) -> float:
        return await self._tools.database.patiently(lambda: self._admit(call))

    async def _admit(self, call: Call) -> float:
        name = call.input.get("credential")
        table = self._tools.registry.now.tables.get(str(call.input.get("table")))
        if name is None and table is not None and table.link is not None:
            name = table.link.credential
        if name is None and "model" in call.input:
            model = str(call.input["model"])
            if model in call.settled:
                name = call.settled[model]["credential"]
            else:
                alias = (await self._tools.registry.fresh()).aliases.get(model)
                name = alias.credential if alias else None
        return await self._tools.rates.take(str(name)) if name else 0.0

    async def worst(self, call: Call) -> float | None:
        action = self._catalogue.get(call.action)
        if action.worst is None:
            return 0.0
        self._read = call.input, action.read(call.input)
        return await action.worst(self._read[1], self._at(call))

    async def settle(self, model: str) -> Mapping[str, object]:
        registry = self._tools.registry
        alias = await self._tools.database.patiently(lambda: registry.find(lambda known: known.aliases, model))
        if alias is None:
            return {}
        named = {name: registry.now.aliases.get(name) for name in alias.fallbacks}
        return {model: alias.model_dump(mode="json")} | {
            name: found.model_dump(mode="json") for name, found in named.items() if found is not None
        }

    def link(self, question: str) -> str:
        return links.link(self._tools.registry.vault, self._tools.settings, question)

    async def happened(self, call: Call) -> Outcome | None:
        action, at = self._catalogue.get(call.action), self._at(call)
        if action.happened is None:
            raise StepFailed("failed", f"{call.action} cannot be looked up")
        try:
            found = await action.happened(action.read(call.input), at)
        except StepFailed as failed:
            raise at.blanked(failed) from None
        return None if found is None else Outcome(at.blanker().value(found.output), found.detail, found.usage)

    async def perform(self, call: Call) -> Outcome:
        if self._catalogue.get(call.action).worst is None:
            return await self._perform(call)
        await self._tools.database.patiently(lambda: self._tools.budgets.look(self._workflow))
        with self._tools.budgets.paying(self._workflow) as paid:
            try:
                outcome = await self._perform(call)
            except StepFailed as failed:
                paid.money = failed.usage.paid
                raise
            paid.money = outcome.usage.paid
            return outcome

    async def _perform(self, call: Call) -> Outcome:
        pieces, run = self._tools.pieces, str(self._run_id)
        piece = None
        if pieces is not None and self._catalogue.streams(call.action):
            piece = pieces.writer(run, call.path, call.attempt, self._tools.registry.now.blanker)
        at = self._at(call, piece, admitted=True)
        try:
            known = self._read[1] if self._read[0] is call.input else None
            self._read = None, None
            result = await perform(self._catalogue.get(call.action), call.input, at, known)
        except (StepFailed, DatabaseLost, asyncio.CancelledError):
            raise
        except Exception as error:
            log.exception("action broke", action=call.action, run=str(self._run_id))
            reason = f"{call.action} broke unexpectedly: {type(error).__name__}: {error}"
            raise StepFailed("failed", reason, fix="see the worker's log", reached="maybe") from error
        finally:
            if pieces is not None and piece is not None:
                pieces.done(run, call.path, call.attempt)
        self._tools.worked.update(at.lent)
        return Outcome(result.output, result.detail, result.usage)

    def _at(self, call: Call, piece: Callable[[str], None] | None = None, admitted: bool = False) -> CallContext:
        return CallContext(
            self._tools,
            call.key,
            partial(_trace_parent, self._run_id, self._parent, call.path, call.attempt),
            call.timeout,
            call.draw,
            self._lease_left,
            piece,
            self._before,
            call.settled,
            self._workflow,
            admitted,
        )


def _trace_parent(run_id: UUID, parent: str | None, path: str, attempt: int) -> str:
    """What a call tells of the trace that it belongs to (W3C trace context)."""
    return f"00-{trace_id(run_id, parent)}-{span_id(run_id, path, attempt)}-01"
