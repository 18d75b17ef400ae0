"""Credentials in the database, sealed; and a snapshot of all a process needs to use and to blank them."""

import asyncio
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import structlog
from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.capabilities.alias import Alias
from oak_relay.capabilities.given import Column, TableDef
from oak_relay.capabilities.links import link_of
from oak_relay.document import values
from oak_relay.store import consents, epoch
from oak_relay.store.consents import Consent
from oak_relay.store.database import raw
from oak_relay.store.keyring import Keyring
from oak_relay.store.tables import (
    connector,
    consent,
    credential,
    generation,
    model_alias,
    past_secret,
    table_def,
    tool_server,
    trigger,
    workflow,
)
from oak_relay.vault.blanking import BLANK, Blanker
from oak_relay.vault.kinds import SHORTEST, Credential, CredentialKinds, every_text, sealed_text, unsealed

log = structlog.get_logger()


_PAST = 500
"""Secrets that stay blanked after they were replaced or removed."""
_MANY = 200
"""Credentials from which on they are read beside the event loop."""
_PARTS = (
    "credential",
    "consent",
    "model_alias",
    "table_def",
    "workflow",
    "tool_server",
    "past_secret",
    "trigger",
    "connector",
)
"""What is kept in memory, each read again when the database says that it changed."""


def _secrets_in(environment: Mapping[str, str]) -> list[str]:
    """Values of a program's environment that are long enough to be a secret."""
    return [value for value in environment.values() if len(value) >= SHORTEST]


@dataclass(frozen=True)
class Snapshot:
    """Credentials, aliases and tables as they stood at one moment, and the blanker of all secrets."""

    credentials: dict[str, Credential] = field(default_factory=dict)
    aliases: dict[str, Alias] = field(default_factory=dict)
    tables: dict[str, TableDef] = field(default_factory=dict)
    workflows: frozenset[str] = frozenset()
    servers: dict[str, dict[str, object]] = field(default_factory=dict)
    consents: dict[str, Consent] = field(default_factory=dict)
    connectors: dict[str, str] = field(default_factory=dict)
    """Connectors that were read from a description, as JSON text."""
    listening: bool = False
    limited: bool = False
    exposed: bool = False
    """Whether somebody asked through a proxy of late: the service is reached from elsewhere than its machine."""
    blanker: Blanker = field(default_factory=lambda: Blanker(()))
    made: bool = False
    """Whether it was read; the first one of a process is empty."""


class Vault:
    """Seals and opens under the workspace's data keys, and knows what is stored."""

    def __init__(self, keyring: Keyring, kinds: CredentialKinds) -> None:
        self.workspace = keyring.workspace
        self.kinds = kinds
        self.keyring = keyring
        self._parts: dict[str, Any] = {}
        """What was read, by part, and the number that the part had then."""
        self._numbers: dict[str, int | None] = {}
        self._known: tuple[tuple[str, ...], Blanker] = (), Blanker(())
        self._read: dict[str, tuple[str, bytes, str, Credential]] = {}

    async def put(self, connection: AsyncConnection, name: str, stored: Credential, same: bool = False) -> None:
        """Store a credential, new or in place of the one of that name, whose secret stays blanked; what was consented to is
        forgotten, unless it is for the same app still."""
        await self._retire_credential(connection, name)
        if same:
            await consents.try_again(connection, self.workspace, name)
        else:
            await consents.forget(connection, self.workspace, name, self.keyring)
        text = sealed_text(type(stored), stored.clear())
        row = {
            "kind": stored.kind,
            "config": values.dumps(stored.config()),
            "key_id": self.keyring.newest,
            "sealed": self.keyring.seal(text.encode(), f"credential/{self.workspace}/{name}"),
        }
        statement = insert(credential).values(workspace_id=self.workspace, name=name, **row)
        await connection.execute(
            statement.on_conflict_do_update(
                index_elements=["workspace_id", "name"],
                set_={**row, "updated_at": func.clock_timestamp(), "last_test": None, "last_worked_at": None},
            )
        )

    async def remove(self, connection: AsyncConnection, name: str) -> bool:
        """Forget a credential, whose secret stays blanked. False when there is none of that name."""
        await self._retire_credential(connection, name)
        await consents.forget(connection, self.workspace, name, self.keyring)
        mine = (credential.c.workspace_id == self.workspace) & (credential.c.name == name)
        return bool((await connection.execute(delete(credential).where(mine))).rowcount)

    async def put_server(
        self, connection: AsyncConnection, name: str, config: dict[str, object], environment: dict[str, str]
    ) -> None:
        """Store a tool server, new or in place of the one of that name, the values of its environment sealed. One that is given
        as blanked stays as it is."""
        before = await self._retire_server(connection, name)
        kept = {key: before.get(key, "") if value == BLANK else value for key, value in environment.items()}
        row = {
            "config": values.dumps({**config, "environment": dict.fromkeys(kept, BLANK)}),
            "key_id": self.keyring.newest,
            "sealed": self.keyring.seal(values.dumps(kept).encode(), self._server_place(name)),
        }
        statement = insert(tool_server).values(workspace_id=self.workspace, name=name, **row)
        changed = {**row, "updated_at": func.clock_timestamp()}
        await connection.execute(statement.on_conflict_do_update(index_elements=["workspace_id", "name"], set_=changed))

    async def remove_server(self, connection: AsyncConnection, name: str) -> bool:
        """Forget a tool server. False when there is none of that name."""
        await self._retire_server(connection, name)
        mine = (tool_server.c.workspace_id == self.workspace) & (tool_server.c.name == name)
        return bool((await connection.execute(delete(tool_server).where(mine))).rowcount)

    def _server_place(self, name: str) -> str:
        return f"server/{self.workspace}/{name}"

    def _environment(self, row: Any) -> dict[str, str]:
        """The variables of a tool server's program, in clear."""
        return dict(values.loads(self.keyring.open_sealed(row.sealed, self._server_place(row.name))))

    async def _retire_credential(self, connection: AsyncConnection, name: str) -> None:
        mine = (credential.c.workspace_id == self.workspace) & (credential.c.name == name)
        row = (await connection.execute(select(credential).where(mine))).first()
        if row is not None:
            try:
                secrets = self.read(row).forms()
            except ValueError:
                secrets = self._unread(row)
            await self._retire(connection, secrets)

    async def _retire_server(self, connection: AsyncConnection, name: str) -> dict[str, str]:
        """The environment that a tool server has had so far."""
        mine = (tool_server.c.workspace_id == self.workspace) & (tool_server.c.name == name)
        row = (await connection.execute(select(tool_server).where(mine))).first()
        if row is None:
            return {}
        environment = self._environment(row)
        await self._retire(connection, _secrets_in(environment))
        return environment

    async def _retire(self, connection: AsyncConnection, secrets: Iterable[str]) -> None:
        """Keep what was secret, so that it stays blanked; the newest so many."""
        for secret in secrets:
            await consents.keep_blanked(connection, self.workspace, secret, None, self.keyring)
        mine = (past_secret.c.workspace_id == self.workspace) & past_secret.c.until.is_(None)
        kept = select(past_secret.c.digest).where(mine).order_by(past_secret.c.retired_at.desc()).limit(_PAST)
        await connection.execute(delete(past_secret).where(mine, past_secret.c.digest.not_in(kept)))

    def read(self, row: Any) -> Credential:
        """A credential as it is used. Raises `UnknownKind` when no connector here has its kind."""
        return self.kinds.read({"kind": row.kind, **values.loads(row.config), **unsealed(self._sealed(row))})

    def _sealed(self, row: Any) -> str:
        return self.keyring.open_sealed(row.sealed, f"credential/{self.workspace}/{row.name}").decode()

    def _unread(self, row: Any) -> list[str]:
        """The secrets of a kind that is not known here."""
        return every_text(unsealed(self._sealed(row)))

    async def snapshot(self, connection: AsyncConnection, known: Snapshot) -> Snapshot:
        """The present snapshot; the known one when nothing has changed since. Only what changed is read."""
        counted = select(generation.c.parts).where(generation.c.workspace_id == self.workspace)
        numbers: dict[str, int] = (await connection.execute(counted)).scalar() or {}
        exposed = await epoch.exposed(await raw(connection))
        changed = [part for part in _PARTS if part not in self._parts or numbers.get(part) != self._numbers.get(part)]
        if not changed and exposed == known.exposed and known.made:
            return known
        if numbers.get("vault_key") != self._numbers.get("vault_key"):
            await self.keyring.follow(connection)
        for part in changed:
            self._parts[part] = await getattr(self, f"_load_{part}")(connection)
            self._numbers[part] = numbers.get(part)
        self._numbers["vault_key"] = numbers.get("vault_key")
        parts = self._parts
        stored, unread = parts["credential"]
        servers, environments = parts["tool_server"]
        names, limited = parts["workflow"]
        granted = parts["consent"]
        tokens = (token for one in granted.values() for token in one.secrets)
        forms = (form for one in stored.values() for form in one.forms())
        secrets = tuple(sorted({*forms, *unread, *parts["past_secret"], *environments, *tokens}))
        if secrets != self._known[0]:
            self._known = secrets, await asyncio.to_thread(Blanker, secrets)
        return Snapshot(
            stored,
            parts["model_alias"],
            parts["table_def"],
            names,
            servers,
            granted,
            parts["connector"],
            parts["trigger"],
            limited,
            exposed,
            self._known[1],
            True,
        )

    async def _rows(self, connection: AsyncConnection, table: Any, *columns: Any) -> Any:
        query = select(*columns) if columns else select(table)
        return (await connection.execute(query.where(table.c.workspace_id == self.workspace))).all()

    async def _load_credential(self, connection: AsyncConnection) -> tuple[dict[str, Credential], list[str]]:
        """Credentials by name, and secrets of those whose kind is not known here."""
        rows = await self._rows(connection, credential)
        return await asyncio.to_thread(self._read_all, rows) if len(rows) > _MANY else self._read_all(rows)

    def _read_all(self, rows: Iterable[Any]) -> tuple[dict[str, Credential], list[str]]:
        stored: dict[str, Credential] = {}
        unread: list[str] = []
        for row in rows:
            before = self._read.get(row.name)
            if before is not None and before[:3] == (row.kind, row.sealed, row.config):
                stored[row.name] = before[3]
                continue
            try:
                stored[row.name] = self.read(row)
            except ValueError as error:  # of a connector that is not installed here, or newer than this process
                unread += self._unread(row)
                log.warning("credential cannot be used", credential=row.name, reason=str(error)[:300])
            else:
                self._read[row.name] = row.kind, row.sealed, row.config, stored[row.name]
        for name in self._read.keys() - stored.keys():
            del self._read[name]
        return stored, unread

    async def _load_consent(self, connection: AsyncConnection) -> dict[str, Consent]:
        return {row.name: consents.read(row, self.keyring) for row in await self._rows(connection, consent)}

    async def _load_model_alias(self, connection: AsyncConnection) -> dict[str, Alias]:
        aliases: dict[str, Alias] = {}
        for row in await self._rows(connection, model_alias):
            try:
                aliases[row.name] = Alias.model_validate(values.loads(row.config))
            except ValueError as error:  # stored when other values were taken: it alone is missing then
                log.warning("model alias cannot be used", alias=row.name, reason=str(error)[:300])
        return aliases

    async def _load_table_def(self, connection: AsyncConnection) -> dict[str, TableDef]:
        return {
            r.name: TableDef(
                r.id,
                tuple(Column(**column) for column in r.columns),
                r.searched,
                link_of(r.link) if r.link is not None else None,
            )
            for r in await self._rows(connection, table_def)
        }

    async def _load_workflow(self, connection: AsyncConnection) -> tuple[frozenset[str], bool]:
        """Names of those that are there, and whether any has a limit of runs at once."""
        rows = await self._rows(connection, workflow, workflow.c.name, workflow.c.removed_at, workflow.c.at_once)
        names = frozenset(row.name for row in rows if row.removed_at is None)
        return names, any(row.at_once is not None for row in rows)

    async def _load_tool_server(self, connection: AsyncConnection) -> tuple[dict[str, dict[str, object]], list[str]]:
        """Tool servers by name, and the secrets of their environments."""
        servers: dict[str, dict[str, object]] = {}
        secrets: list[str] = []
        for row in await self._rows(connection, tool_server):
            environment = self._environment(row)
            servers[row.name] = {**values.loads(row.config), "environment": environment}
            secrets += _secrets_in(environment)
        return servers, secrets

    async def _load_past_secret(self, connection: AsyncConnection) -> list[str]:
        rows = await self._rows(connection, past_secret)
        return [self.keyring.open_sealed(row.sealed, f"past/{self.workspace}/{row.digest}").decode() for row in rows]

    async def _load_trigger(self, connection: AsyncConnection) -> bool:
        """Whether anything listens for what is published."""
        listens = select(trigger.c.id).where(trigger.c.workspace_id == self.workspace, trigger.c.topic.is_not(None))
        return (await connection.execute(listens.limit(1))).first() is not None

    async def _load_connector(self, connection: AsyncConnection) -> dict[str, str]:
        return {row.name: row.text for row in await self._rows(connection, connector)}

    def sign(self, text: str) -> str:
        """A signature that only this workspace can make."""
        return self.keyring.sign(text)

    def signed(self, text: str, signature: str) -> bool:
        """Whether a signature is that of a text; compared in constant time."""
        return self.keyring.signed(text, signature)
