"""The executor: performs actions of the catalogue for one run, with its credentials and deadlines."""

import asyncio
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from functools import cached_property, lru_cache
from typing import Any
from urllib.parse import urlsplit
from uuid import UUID

import structlog

from oak_relay.actions import servers
from oak_relay.actions.base import Action, Draw, Result, StoredCredential, Window
from oak_relay.changes import Change
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.models import document_of
from oak_relay.document.text import read
from oak_relay.engine.protocols import Call, Manner, Outcome
from oak_relay.models.alias import Alias
from oak_relay.models.catalogue import CATALOGUE
from oak_relay.runtime.outbound import outbound
from oak_relay.runtime.pieces import Pieces
from oak_relay.runtime.rates import Rates
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.telemetry import span_id, trace_id
from oak_relay.store import rows, talks, workflows
from oak_relay.store.database import Database, DatabaseLost
from oak_relay.vault.blanking import Blanker

log = structlog.get_logger()
STREAMED = ("model.answer", "agent.turn")
"""Actions whose answers are told while they are being written."""


class Tools:
    """What a process hands to all its executors."""

    def __init__(self, database: Database, registry: Registry, reach: list[str]) -> None:
        self.database = database
        self.registry = registry
        self.reach = frozenset(reach)
        self.used: set[str] = set()
        self.manners: dict[str, Manner] = {}
        """How actions behave that do so whatever their input is."""
        self.pieces: Pieces | None = None
        self.rates = Rates(database, registry)
        self.http = outbound()

    async def close(self) -> None:
        await self.http.aclose()


class CallContext:
    """The surroundings of one call (see `actions.base.Surroundings`)."""

    def __init__(
        self,
        tools: Tools,
        key: str,
        trace_parent: Callable[[], str],
        timeout: float,
        draw: Draw | None,
        lease_left: Callable[[], float],
        piece: Callable[[str], None] | None = None,
        before: list[dict[str, Any]] | None = None,
        settled: Mapping[str, Any] | None = None,
    ) -> None:
        self._tools = tools
        self._before = before
        self._lease_left = lease_left
        self.piece = piece
        self.http = tools.http
        self.key = key
        self._trace_parent = trace_parent
        self.timeout = timeout
        self.draw = draw
        self.settled = settled or {}
        self.lent: dict[str, StoredCredential] = {}

    @property
    def trace_parent(self) -> str:
        return self._trace_parent()

    async def credential(self, name: str) -> StoredCredential:
        found = await self._find("credentials", name)
        if found is None:
            raise StepFailed("missing", f"there is no credential {name}", fix=f"oak-relay credential add {name}")
        self._tools.used.add(name)
        self.lent[name] = found
        return found

    async def _find(self, kind: str, name: str) -> Any:
        return await self._tools.database.patiently(lambda: self._tools.registry.find(kind, name))

    def blanker(self) -> Blanker:
        """Of the credentials that this call was lent: what comes back of it is blanked of them before anything computes
        with it."""
        return _blanker(tuple(form for stored in self.lent.values() for form in stored.forms()))

    def blanked(self, failed: StepFailed) -> StepFailed:
        """A failure of this call, blanked like what it would have given."""
        blanker = self.blanker()
        failed.message, failed.fix = blanker.text(failed.message), blanker.text(failed.fix)
        failed.detail = blanker.value(failed.detail)
        return failed

    async def model(self, name: str) -> Alias:
        if name in self.settled:
            return Alias.model_validate(self.settled[name])
        found = await self._find("aliases", name)
        if found is None:
            have = ", ".join(sorted(self._tools.registry.now.aliases)) or "none yet"
            raise StepFailed(
                "missing", f"there is no model alias {name}; there is {have}", fix=f"oak-relay model add {name}"
            )
        return found

    def table(self, name: str) -> dict[str, Any]:
        known = self._tools.registry.now.tables
        if name not in known:
            have = ", ".join(sorted(known)) or "none yet"
            raise StepFailed(
                "missing", f"there is no table {name}; there is {have}", fix=f"oak-relay table create {name}"
            )
        return known[name]

    async def rows(self, table: str, match: dict[str, Any], limit: int) -> list[dict[str, Any]]:
        await self._find("tables", table)
        known = self.table(table)
        if values.unstorable(match):
            return []

        async def look() -> list[dict[str, Any]]:
            async with self._tools.database.reading() as connection:
                workspace = self._tools.registry.workspace
                return await rows.look(connection, workspace, known["id"], known["searched"], match, limit)

        return await self._tools.database.patiently(look)

    def now(self) -> datetime:
        return datetime.now(UTC)

    async def workflow(self, name: str) -> dict[str, Any]:
        workspace = self._tools.registry.workspace

        async def look() -> tuple[Any, Any]:
            async with self._tools.database.connect() as connection:
                found = await workflows.by_name(connection, workspace, name)
                if found is None:
                    return None, None
                return found, await workflows.one_version(connection, workspace, found.id, found.live_version)

        found, chosen = await self._tools.database.patiently(look)
        if chosen is None:
            raise StepFailed("missing", f"there is no workflow {name}", fix="save it first")
        document = document_of(read(chosen.text).data)
        return {"kind": found.kind, "title": document.title, "note": document.note, "input": document.input}

    async def conversation(self, key: str, turns: int, summed: bool, facts: bool) -> Window:
        if self._before is not None:
            return Window(self._before)

        async def look() -> Window:
            async with self._tools.database.reading() as connection:
                workspace = self._tools.registry.workspace
                return await talks.window(connection, workspace, values.storable_text(key), turns, summed, facts)

        return await self._tools.database.patiently(look)

    async def _server(self, name: str) -> servers.ToolServer:
        found = await self._find("servers", name)
        if found is None:
            have = ", ".join(sorted(self._tools.registry.now.servers)) or "none yet"
            raise StepFailed(
                "missing", f"there is no tool server {name}; there is {have}", fix=f"oak-relay server add {name}"
            )
        return servers.ToolServer.model_validate(found)

    async def server_tools(self, name: str) -> list[dict[str, Any]]:
        return await servers.tools(name, await self._server(name), self)

    async def server_call(self, name: str, tool: str, arguments: dict[str, Any]) -> tuple[Any, dict[str, Any]]:
        return await servers.call(name, await self._server(name), tool, arguments, self)

    def may_reach(self, url: str) -> None:
        host = urlsplit(url).hostname or ""
        if self._tools.reach and host not in self._tools.reach:
            raise StepFailed("denied", f"actions may not call {host}", fix="add it to the setting reach")

    def send_check(self) -> None:
        if self._lease_left() < 0.5:
            raise StepFailed(
                "unavailable", "this worker's lease is nearly over; nothing was sent", fix="it is tried again elsewhere"
            )


class RunExecutor:
    """The engine's executor for one run."""

    def __init__(
        self,
        tools: Tools,
        run_id: UUID,
        lease_left: Callable[[], float],
        trace_parent: str | None = None,
        workflow: str = "",
        before: list[dict[str, Any]] | None = None,
    ) -> None:
        self._workflow = workflow
        self._before = before
        self._tools = tools
        self._run_id = run_id
        self._lease_left = lease_left
        self._parent = trace_parent
        self._change: CallContext | None = None

    @cached_property
    def _trace(self) -> str:
        return trace_id(self._run_id, self._parent)

    def manner(self, action: str, input: dict[str, Any]) -> Manner:
        known = self._tools.manners.get(action)
        if known is not None:
            return known
        declared = CATALOGUE.get(action)
        repeat = declared.repeat_of(input) if declared.repeat_of else declared.repeat
        asks = "model" in declared.input.model_fields
        model = str(input.get("model") or "") if asks else ""
        manner = Manner(repeat, declared.reach, declared.timeout, model)  # type: ignore[arg-type]
        if declared.repeat_of is None and not asks:
            self._tools.manners[action] = manner
        return manner

    async def change(self, call: Call) -> Change:
        action = CATALOGUE.get(call.action)
        assert action.change is not None
        name, registry = call.input.get("table"), self._tools.registry
        if isinstance(name, str) and name not in registry.now.tables:
            await self._tools.database.patiently(lambda: registry.find("tables", name))  # it may be quite new
        if self._change is None:
            self._change = self._at(call)  # for all of them: a change of our own records sends nothing
        return action.change(action.read(call.input), self._change)

    async def admit(self, call: Call) -> float:
        return await self._tools.database.patiently(lambda: self._admit(call))

    async def _admit(self, call: Call) -> float:
        name = call.input.get("credential")
        if name is None and "model" in call.input:
            model = str(call.input["model"])
            if model in call.settled:
                name = call.settled[model]["credential"]
            else:
                alias = (await self._tools.registry.fresh()).aliases.get(model)
                name = alias.credential if alias else None
        return await self._tools.rates.take(str(name)) if name else 0.0

    def _within_budgets(self, call: Call) -> None:
        """Raises `StepFailed` (`over_limit`) when a budget that a call would draw on is spent."""
        spent = self._tools.registry.now.spent
        for workflow in ("", self._workflow):
            if workflow in spent and CATALOGUE.get(call.action).worst is not None:
                raise StepFailed(
                    "over_limit",
                    f"the budget {spent[workflow]} is spent, so no model is asked",
                    fix="raise it (oak-relay budget set), or wait for its next period",
                )

    async def worst(self, call: Call) -> float | None:
        action = CATALOGUE.get(call.action)
        return 0.0 if action.worst is None else await action.worst(action.read(call.input), self._at(call))

    async def settle(self, model: str) -> Mapping[str, Any]:
        registry = self._tools.registry
        alias = await self._tools.database.patiently(lambda: registry.find("aliases", model))
        if alias is None:
            return {}
        named = {name: registry.now.aliases.get(name) for name in alias.fallbacks}
        return {model: alias.model_dump(mode="json")} | {
            name: found.model_dump(mode="json") for name, found in named.items() if found is not None
        }

    async def happened(self, call: Call) -> Outcome | None:
        action, at = CATALOGUE.get(call.action), self._at(call)
        if action.happened is None:
            raise StepFailed("failed", f"{call.action} cannot be looked up")
        try:
            found = await action.happened(action.read(call.input), at)
        except StepFailed as failed:
            raise at.blanked(failed) from None
        return None if found is None else Outcome(at.blanker().value(found.output), found.detail, found.usage)

    async def perform(self, call: Call) -> Outcome:
        self._within_budgets(call)
        pieces, run = self._tools.pieces, str(self._run_id)
        piece = None
        if pieces is not None and call.action in STREAMED:
            piece = pieces.writer(run, call.path, call.attempt, self._tools.registry.now.blanker)
        try:
            result = await perform(CATALOGUE.get(call.action), call.input, self._at(call, piece))
        except (StepFailed, DatabaseLost, asyncio.CancelledError):
            raise
        except Exception as error:
            log.exception("action broke", action=call.action, run=str(self._run_id))
            reason = f"{call.action} broke unexpectedly: {type(error).__name__}: {error}"
            raise StepFailed("failed", reason, fix="see the worker's log", reached="maybe") from error
        finally:
            if pieces is not None and piece is not None:
                pieces.done(run, call.path, call.attempt)
        return Outcome(result.output, result.detail, result.usage)

    def _at(self, call: Call, piece: Callable[[str], None] | None = None) -> CallContext:
        def parent() -> str:
            return f"00-{self._trace}-{span_id(self._run_id, call.path, call.attempt)}-01"

        return CallContext(
            self._tools, call.key, parent, call.timeout, call.draw, self._lease_left, piece, self._before, call.settled
        )


async def perform(action: Action, given: dict[str, Any], at: CallContext) -> Result:
    """Carry out an action that reaches outside or only reads; the time it took stands in the detail. What comes back is
    blanked of the credentials that were used, as values, before anything computes with it."""
    assert action.perform is not None
    began = time.monotonic()
    try:
        result = await action.perform(action.read(given), at)
    except StepFailed as failed:
        raise at.blanked(failed) from failed.__cause__
    output = at.blanker().value(result.output)
    return Result(output, {**result.detail, "seconds": round(time.monotonic() - began, 6)}, result.usage)


@lru_cache(maxsize=256)
def _blanker(secrets: tuple[str, ...]) -> Blanker:
    return Blanker(secrets)
