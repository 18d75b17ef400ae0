"""What is handed to one call: credentials, models, tables and a way out, as the workspace has them."""

import asyncio
import socket
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable, Mapping, Sequence
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any, TypeVar, cast
from uuid import UUID

import httpx

from oak_relay.actions import servers
from oak_relay.actions.base import Action
from oak_relay.actions.server_sessions import Sessions
from oak_relay.actions.tool_server import ToolServer
from oak_relay.capabilities.alias import Alias, Can, read_alias
from oak_relay.capabilities.given import HeldFile, Result, ServerTool, TableDef, Where, Window, WorkflowAbout
from oak_relay.capabilities.protocols import Draw
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.models import document_of
from oak_relay.document.text import read
from oak_relay.engine.protocols import Manner
from oak_relay.messages import Message
from oak_relay.runtime.abilities import Abilities
from oak_relay.runtime.budgets import Budgets
from oak_relay.runtime.door import Door
from oak_relay.runtime.files import Files
from oak_relay.runtime.hints import Hints
from oak_relay.runtime.outbound import outbound
from oak_relay.runtime.pieces import Pieces
from oak_relay.runtime.rates import Rates
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.settings import Settings
from oak_relay.runtime.tokens import TokenStore
from oak_relay.sandbox.doing import Sandbox
from oak_relay.store import rows, talks, workflows
from oak_relay.store.consents import Consent
from oak_relay.store.database import Database
from oak_relay.store.files import Bounds
from oak_relay.store.vault import Snapshot
from oak_relay.vault.blanking import Blanker
from oak_relay.vault.kinds import SHORTEST, Authorization, Credential, Refused
from oak_relay.vault.oauth import OAuth

V = TypeVar("V")


class Tools:
    """What a process hands to all its executors."""

    def __init__(self, database: Database, registry: Registry, settings: Settings, hints: Hints) -> None:
        self.database = database
        self.registry = registry
        self.settings = settings
        self.door = Door(settings)
        registry.watched_by(self.door)
        self.used: set[str] = set()
        self.worked: set[str] = set()
        """Credentials of calls that went well, since somebody noted them."""
        self.manners: dict[str, Manner] = {}
        """How actions behave that do so whatever their input is."""
        self.pieces: Pieces | None = None
        self.rates = Rates(database, registry)
        self.budgets = Budgets(database, registry.workspace)
        self.abilities = Abilities(database, registry.workspace)
        self.http: httpx.AsyncClient = outbound(self.door)
        self.sessions = Sessions()
        self.sandbox = Sandbox(settings.code)
        self.files = Files(database, registry.workspace, Bounds(settings.file_limit, settings.files_limit))
        self._hints = hints
        self.tokens = TokenStore(database, registry, self.call, self._changed, settings.lease)

    def _changed(self) -> None:
        """Something stored is another now."""
        self.registry.forget()
        self._hints.send("config")

    def call(self, timeout: float, key: str = "by-hand") -> "CallContext":
        """Surroundings of a call of this process itself, that may take so many seconds; `key` is its `Idempotency-Key`."""
        return CallContext(self, key, lambda: f"00-{'0' * 31}1-{'0' * 15}1-00", timeout, None, lambda: 60.0)

    async def close(self) -> None:
        """Close the connections to the outside."""
        await self.sessions.close()
        await self.http.aclose()


class CallContext:
    """The surroundings of one call (see `capabilities.protocols`)."""

    def __init__(
        self,
        tools: Tools,
        key: str,
        trace_parent: Callable[[], str],
        timeout: float,
        draw: Draw | None,
        lease_left: Callable[[], float],
        piece: Callable[[str], None] | None = None,
        before: Sequence[Message] | None = None,
        settled: Mapping[str, object] | None = None,
        workflow: str | None = None,
        admitted: bool = False,
    ) -> None:
        self._tools = tools
        self._admitted = admitted
        self._before = before
        self._lease_left = lease_left
        self.piece = piece
        self.http = tools.http
        self.sandbox = tools.sandbox
        self.key = key
        self._trace_parent = trace_parent
        self.timeout = timeout
        self.draw = draw
        self.settled = settled or {}
        self.lent: dict[str, Credential] = {}
        self.scopes: tuple[str, ...] = ()
        """Scopes that the action needs which is carried out."""
        self._workflow = workflow
        self._tokens: dict[str, int] = {}
        self._own: list[str] = []

    @property
    def trace_parent(self) -> str:
        return self._trace_parent()

    async def credential(self, name: str) -> Credential:
        if name in self.lent:
            return self.lent[name]
        found = await self._find(lambda known: known.credentials, name)
        if found is None:
            raise StepFailed(
                "missing", f"there is no credential {name}", fix=f"oak-relay credential add {name}", waits_for=name
            )
        if found.workflows and self._workflow is not None and self._workflow not in found.workflows:
            raise StepFailed(
                "denied",
                f"the credential {name} is not for the workflow {self._workflow}",
                fix=f"it is for {', '.join(found.workflows)}; name another one, or let it be used here too",
            )
        self._tools.used.add(name)
        self.lent[name] = found
        return found

    async def _permit(self, name: str) -> None:
        """Every request with a credential counts for its limit; the first one is what its call was admitted for. Raises `StepFailed`
        (`busy`) where there will be no room within the call's time."""
        if self._admitted:
            self._admitted = False
            return
        until = time.monotonic() + self.timeout * 0.8
        while (wait := await self._tools.database.patiently(lambda: self._tools.rates.take(name))) > 0:
            if time.monotonic() + wait > until:
                message = f"the limit of the credential {name} is used up for {wait:.0f} s"
                raise StepFailed("busy", message, fix="ask for less at once, or raise its limit", delay=wait)
            await asyncio.sleep(wait)

    async def authorization(self, name: str) -> Authorization:
        stored = await self.credential(name)
        await self._permit(name)
        if isinstance(stored, OAuth):
            return self._with_token(name, await self._tools.tokens.of(name, stored, self.scopes))
        try:
            return stored.authorization()
        except Refused as refused:
            raise StepFailed("denied", f"the credential {name}: {refused}", fix="name another one") from None

    async def renewed(self, name: str) -> Authorization | None:
        stored = self.lent.get(name)
        if not isinstance(stored, OAuth) or name not in self._tokens:
            return None
        found = await self._tools.tokens.after_refusal(name, stored, self._tokens[name])
        if found is None:
            return None
        await self._permit(name)
        return self._with_token(name, found)

    async def refused(self, name: str, scopes: Sequence[str]) -> None:
        if isinstance(self.lent.get(name), OAuth):
            await self._tools.tokens.want(name, scopes)

    def went_well(self) -> None:
        """Note that the tokens which this call was lent are good for something."""
        self._tools.tokens.good.update(self._tokens)

    def _with_token(self, name: str, consent: Consent) -> Authorization:
        self._tokens[name] = consent.version
        self._own += consent.secrets
        return Authorization({"Authorization": f"Bearer {consent.access}"})

    async def dial(self, host: str, port: int) -> socket.socket:
        return await self._tools.door.connected(host, port, self.timeout)

    async def _find(self, among: Callable[[Snapshot], Mapping[str, V]], name: str) -> V | None:
        return await self._patiently(lambda: self._tools.registry.find(among, name))

    async def _patiently(self, ask: Callable[[], Awaitable[V]]) -> V:
        return await self._tools.database.patiently(ask)

    def blanker(self) -> Blanker:
        """Of the credentials that this call was lent: what comes back of it is blanked of them before anything computes
        with it."""
        return _blanker((*(form for stored in self.lent.values() for form in stored.forms()), *self._own))

    def shown(self, text: str, most: int) -> str:
        return self._tools.registry.now.blanker.head(text, most)

    def said(self, text: str, most: int) -> str:
        return self.blanker().head(text, most)

    def blanked(self, failed: StepFailed) -> StepFailed:
        """A failure of this call, blanked like what it would have given."""
        blanker = self.blanker()
        if failed.kind == "out_of_credit" and self.lent:
            failed.waits_for = next(reversed(self.lent))
        failed.message, failed.fix = blanker.text(failed.message), blanker.text(failed.fix)
        failed.detail = blanker.value(failed.detail)
        return failed

    async def model(self, name: str) -> Alias:
        if name in self.settled:
            return read_alias(cast(Mapping[str, object], self.settled[name]))
        found = await self._find(lambda known: known.aliases, name)
        if found is None:
            have = ", ".join(sorted(self._tools.registry.now.aliases)) or "none yet"
            raise StepFailed(
                "missing", f"there is no model alias {name}; there is {have}", fix=f"oak-relay model add {name}"
            )
        return found

    def can(self, alias: Alias) -> Can:
        return self._tools.abilities.of(alias)

    async def learn(self, alias: Alias, can: Can) -> None:
        await self._tools.abilities.learn(alias, can)

    def table(self, name: str) -> TableDef:
        known = self._tools.registry.now.tables
        if name not in known:
            have = ", ".join(sorted(known)) or "none yet"
            raise StepFailed(
                "missing", f"there is no table {name}; there is {have}", fix=f"oak-relay table create {name}"
            )
        return known[name]

    async def rows(
        self, table: str, where: Where, order: Sequence[tuple[str, bool]], limit: int
    ) -> list[dict[str, object]]:
        await self._find(lambda snapshot: snapshot.tables, table)
        known = self.table(table)
        self._has(table, [*(one.column for one in where.filters), *(name for name, _ in order)])
        if values.unstorable([where.match, *(one.value for one in where.filters)]):
            return []

        async def look() -> list[dict[str, object]]:
            async with self._tools.database.reading() as connection:
                workspace = self._tools.registry.workspace
                return await rows.look(connection, workspace, known.id, known.searched, where, order, limit)

        return await self._patiently(look)

    def _has(self, table: str, names: Iterable[str]) -> None:
        """Raises `StepFailed` (`invalid`) for a column that a table has not."""
        known = [column.name for column in self.table(table).columns]
        for name in names:
            if name not in known:
                have = ", ".join(known)
                raise StepFailed(
                    "invalid", f"the table {table} has no column {name}; it has {have}", fix="correct the name"
                )

    async def totals(
        self, table: str, where: Where, by: Sequence[str], measures: Mapping[str, Sequence[str]], limit: int
    ) -> list[dict[str, object]]:
        await self._find(lambda snapshot: snapshot.tables, table)
        known = self.table(table)
        filtered = (one.column for one in where.filters)
        self._has(table, [*by, *where.match, *filtered, *(one for some in measures.values() for one in some)])
        if values.unstorable([where.match, *(one.value for one in where.filters)]):
            return []

        async def look() -> list[dict[str, object]]:
            async with self._tools.database.reading() as connection:
                workspace = self._tools.registry.workspace
                return await rows.totals(connection, workspace, known.id, known.searched, where, by, measures, limit)

        return await self._patiently(look)

    async def file(self, value: object) -> HeldFile:
        return await self._patiently(lambda: self._tools.files.held(value))

    def pieces(self, file: HeldFile) -> AsyncIterator[bytes]:
        return self._tools.files.pieces(file)

    async def keep(self, name: str, type: str, pieces: AsyncIterator[bytes]) -> HeldFile:
        return await self._tools.files.keep(name, type, pieces)

    def now(self) -> datetime:
        return datetime.now(UTC)

    async def workflow(self, name: str) -> WorkflowAbout:
        workspace = self._tools.registry.workspace

        async def look() -> tuple[Any, Any]:
            async with self._tools.database.connect() as connection:
                found = await workflows.by_name(connection, workspace, name)
                if found is None:
                    return None, None
                return found, await workflows.one_version(connection, workspace, found.id, found.on_version)

        found, chosen = await self._patiently(look)
        if chosen is None:
            raise StepFailed("missing", f"there is no workflow {name}", fix="save it first")
        document = await self._tools.registry.documents.surely(lambda: document_of(read(chosen.text).data))
        return WorkflowAbout(found.kind, document.title, document.note, document.input)

    async def conversation(self, key: str, turns: int, summed: bool, facts: bool) -> Window:
        if self._before is not None:
            return Window(self._before)

        async def look() -> Window:
            async with self._tools.database.reading() as connection:
                workspace = self._tools.registry.workspace
                return await talks.window(
                    connection, workspace, values.storable_text(key), turns, summed, facts, _run_of(self.key)
                )

        return await self._patiently(look)

    async def _server(self, name: str) -> ToolServer:
        found = await self._find(lambda known: known.servers, name)
        if found is None:
            have = ", ".join(sorted(self._tools.registry.now.servers)) or "none yet"
            raise StepFailed(
                "missing", f"there is no tool server {name}; there is {have}", fix=f"oak-relay server add {name}"
            )
        server = ToolServer.model_validate(found)
        self._own += [value for value in server.environment.values() if len(value) >= SHORTEST]
        return server

    async def server_tools(self, name: str) -> list[ServerTool]:
        return await servers.tools(name, await self._server(name), self, self._tools.sessions)

    async def server_call(
        self, name: str, tool: str, arguments: Mapping[str, object]
    ) -> tuple[object, dict[str, object]]:
        return await servers.call(name, await self._server(name), tool, arguments, self, self._tools.sessions)

    def action(self, name: str) -> Action:
        return self._tools.registry.catalogue.get(name)

    async def perform(self, name: str, given: Mapping[str, object]) -> object:
        action = self.action(name)
        if action.perform is None:
            raise StepFailed("invalid", f"{name} finds nothing", fix="name an action that reads")
        within = self._within(action.timeout)
        try:
            async with asyncio.timeout(action.timeout + 5):
                return (await perform(action, given, within)).output
        except TimeoutError:
            raise StepFailed(
                "timeout", f"{name} gave nothing within {action.timeout:g} s", fix="is the other side slow?"
            ) from None

    def _within(self, timeout: float) -> "CallContext":
        """The same for a call that may take so many seconds."""
        return CallContext(
            self._tools,
            self.key,
            self._trace_parent,
            timeout,
            self.draw,
            self._lease_left,
            self.piece,
            self._before,
            self.settled,
            self._workflow,
        )

    def may_reach(self, url: str) -> None:
        self._tools.door.name(url)

    def send_check(self) -> None:
        if self._lease_left() < 0.5:
            raise StepFailed(
                "unavailable", "this worker's lease is nearly over; nothing was sent", fix="it is tried again elsewhere"
            )


async def perform(action: Action, given: Mapping[str, object], at: CallContext, known: object = None) -> Result:
    """Carry out an action that reaches outside or only reads; the time it took stands in the detail. What comes back is
    blanked of the credentials that were used, as values, before anything computes with it. `known`: what was read of the
    input before."""
    way = action.perform
    if action.elsewhere is not None and at.table(str(given.get("table"))).link is not None:
        way = action.elsewhere.perform
    assert way is not None
    began = time.monotonic()
    at.scopes = action.scopes
    try:
        result = await way(action.read(given) if known is None else known, at)
    except StepFailed as failed:
        raise at.blanked(failed) from failed.__cause__
    at.went_well()
    output = at.blanker().value(result.output)
    return Result(output, {**result.detail, "seconds": round(time.monotonic() - began, 6)}, result.usage)


@lru_cache(maxsize=256)
def _blanker(secrets: tuple[str, ...]) -> Blanker:
    return Blanker(secrets)


def _run_of(key: str) -> UUID | None:
    """The run that a call's key tells of; None of what is tried."""
    try:
        return UUID(key.partition(":")[0])
    except ValueError:
        return None
