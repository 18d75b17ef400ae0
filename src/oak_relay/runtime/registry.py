"""What a process knows of credentials, aliases, tables and versions, kept fresh by hints and a short age."""

import asyncio
import time
from collections import OrderedDict
from collections.abc import Callable, Mapping
from typing import TypeVar
from uuid import UUID

import asyncpg

from oak_relay.actions.catalogue import Catalogue
from oak_relay.document.models import Workflow, document_of
from oak_relay.document.text import read
from oak_relay.engine.plan import Plan, compile_plan
from oak_relay.runtime.describing import Describing
from oak_relay.runtime.documents import Documents
from oak_relay.runtime.door import Door
from oak_relay.store import queue
from oak_relay.store.database import Database
from oak_relay.store.vault import Snapshot, Vault

_AGE = 2.0
_AGAIN = 0.1
"""Seconds: what is not there is asked for again when the answer is older than this."""
_PLANS = 500
V = TypeVar("V")


class Registry:
    """A snapshot at most two seconds old, or made after the last hint; and compiled versions."""

    def __init__(self, database: Database, vault: Vault, catalogue: Catalogue) -> None:
        self._database = database
        self.vault = vault
        self.installed = catalogue
        """What is installed, whatever the workspace has of its own."""
        self._described = Describing(catalogue)
        self.now = Snapshot()
        self._made = 0.0
        self._doors: list[Door] = []
        self._asking = asyncio.Lock()
        self.documents = Documents()
        self._compiling: dict[UUID, asyncio.Future[tuple[Plan, Workflow]]] = {}
        self._plans: OrderedDict[UUID, tuple[Plan, Workflow]] = OrderedDict()

    def watched_by(self, door: Door) -> None:
        """Tell a door when the service is found to be reached from elsewhere than this machine."""
        self._doors.append(door)

    @property
    def catalogue(self) -> Catalogue:
        """What the workspace can do: what is installed, and the connectors it has of its own."""
        return self._described.catalogue

    @property
    def workspace(self) -> int:
        """The workspace that is known."""
        return self.vault.workspace

    def forget(self, _: str = "") -> None:
        """Ask again at the next use."""
        self._made = 0.0

    async def fresh(self) -> Snapshot:
        """The present snapshot; while one caller asks for a newer one, the others go on with a merely old one."""
        age = time.monotonic() - self._made
        if age > _AGE and (self._made == 0.0 or not self._asking.locked()):
            async with self._asking:
                moment = time.monotonic()
                if moment - self._made > _AGE:
                    async with self._database.connect() as connection:
                        now = await self.vault.snapshot(connection, self.now)
                    await self._described.follow(now.connectors)
                    self.now = now
                    for door in self._doors:
                        door.exposed = door.settings.exposed or self.now.exposed
                    self._made = moment
        return self.now

    async def find(self, among: Callable[[Snapshot], Mapping[str, V]], name: str) -> V | None:
        """Something stored under a name; asked for afresh before it is said not to be there. None when it is not."""
        found = among(await self.fresh()).get(name)
        if found is None and time.monotonic() - self._made > _AGAIN:
            self.forget()
            found = among(await self.fresh()).get(name)
        return found

    def known_plan(self, version_id: UUID) -> tuple[Plan, Workflow] | None:
        """The compiled plan of a version, if it was compiled before."""
        known = self._plans.get(version_id)
        if known is not None:
            self._plans.move_to_end(version_id)
        return known

    async def plan(self, connection: asyncpg.Connection, version_id: UUID) -> tuple[Plan, Workflow]:
        """The compiled plan of a version; versions never change."""
        known = self.known_plan(version_id)
        if known is None:
            text = await queue.version_text(connection, self.workspace, version_id)
            # Who asks meanwhile waits for the same.
            compiling = self._compiling.get(version_id)
            if compiling is None:
                compiling = asyncio.ensure_future(self.documents.surely(lambda: _compiled(text)))
                self._compiling[version_id] = compiling
                compiling.add_done_callback(lambda _: self._compiling.pop(version_id, None))
            known = self._plans[version_id] = await asyncio.shield(compiling)
            if len(self._plans) > _PLANS:
                self._plans.popitem(last=False)
        return known


def _compiled(text: str) -> tuple[Plan, Workflow]:
    document = document_of(read(text).data)
    return compile_plan(document), document
