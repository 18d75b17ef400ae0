"""Credentials in the database, sealed; and a snapshot of all a process needs to use and to blank them."""

import asyncio
import hmac
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import structlog
from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.capabilities.alias import Alias
from oak_relay.capabilities.given import Column, TableDef
from oak_relay.document import values
from oak_relay.store import epoch
from oak_relay.store.database import Database, raw
from oak_relay.store.tables import (
    budget,
    credential,
    model_alias,
    past_secret,
    table_def,
    tool_server,
    trigger,
    vault_key,
    workflow,
)
from oak_relay.vault.blanking import BLANK, Blanker
from oak_relay.vault.kinds import SHORTEST, Credential, CredentialKinds
from oak_relay.vault.sealing import Sealer, unwrap, wrap_new

log = structlog.get_logger()


_PAST = 500
"""Secrets that stay blanked after they were replaced or removed."""


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
    spent: dict[str, str] = field(default_factory=dict)
    """Budgets that are spent: the workflow each is for, empty for all of them, with its name."""
    listening: bool = False
    limited: bool = False
    exposed: bool = False
    """Whether somebody asked through a proxy of late: the service is reached from elsewhere than its machine."""
    blanker: Blanker = field(default_factory=lambda: Blanker(()))
    mark: tuple[object, ...] = ()


class Vault:
    """Seals and opens under the workspace's data key."""

    def __init__(self, workspace: int, sealer: Sealer, key_id: int, kinds: CredentialKinds) -> None:
        self.workspace = workspace
        self.kinds = kinds
        self.sealer = sealer
        self.key_id = key_id
        self._known: tuple[tuple[str, ...], Blanker] = (), Blanker(())

    @classmethod
    async def open(cls, database: Database, workspace: int, master: bytes, kinds: CredentialKinds) -> "Vault":
        """The workspace's vault; its data key is made on first use. Raises `KeyProblem` for another master key."""
        async with database.begin() as connection:
            await connection.execute(
                insert(vault_key)
                .values(workspace_id=workspace, id=1, wrapped=wrap_new(master))
                .on_conflict_do_nothing()
            )
            row = (
                await connection.execute(
                    select(vault_key)
                    .where(vault_key.c.workspace_id == workspace)
                    .order_by(vault_key.c.id.desc())
                    .limit(1)
                )
            ).one()
        return cls(workspace, unwrap(master, row.wrapped), row.id, kinds)

    async def put(self, connection: AsyncConnection, name: str, stored: Credential) -> None:
        """Store a credential, new or in place of the one of that name, whose secret stays blanked."""
        await self._retire_credential(connection, name)
        data = stored.model_dump(mode="json", exclude={"secret", "kind"})
        row = {
            "kind": stored.kind,
            "config": values.dumps(data),
            "key_id": self.key_id,
            "sealed": self.sealer.seal(stored.reveal().encode(), f"credential/{self.workspace}/{name}"),
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
            "sealed": self.sealer.seal(values.dumps(kept).encode(), self._server_place(name)),
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
        return dict(values.loads(self.sealer.open(row.sealed, self._server_place(row.name))))

    async def _retire_credential(self, connection: AsyncConnection, name: str) -> None:
        mine = (credential.c.workspace_id == self.workspace) & (credential.c.name == name)
        row = (await connection.execute(select(credential).where(mine))).first()
        if row is not None:
            try:
                secrets = self.read(row).forms()
            except ValueError:
                secrets = [self._secret(row)]
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
            digest = self.sealer.sign(secret)
            sealed = self.sealer.seal(secret.encode(), self._past_place(digest))
            row = {"workspace_id": self.workspace, "digest": digest, "sealed": sealed}
            again = insert(past_secret).values(**row)
            await connection.execute(
                again.on_conflict_do_update(
                    index_elements=["workspace_id", "digest"], set_={"retired_at": func.clock_timestamp()}
                )
            )
        kept = select(past_secret.c.digest).where(past_secret.c.workspace_id == self.workspace)
        kept = kept.order_by(past_secret.c.retired_at.desc()).limit(_PAST)
        old = (past_secret.c.workspace_id == self.workspace) & past_secret.c.digest.not_in(kept)
        await connection.execute(delete(past_secret).where(old))

    def _past_place(self, digest: str) -> str:
        return f"past/{self.workspace}/{digest}"

    def read(self, row: Any) -> Credential:
        """A credential as it is used. Raises `UnknownKind` when no connector here has its kind."""
        secret = self._secret(row)
        return self.kinds.read({"kind": row.kind, **values.loads(row.config), "secret": secret})

    def _secret(self, row: Any) -> str:
        return self.sealer.open(row.sealed, f"credential/{self.workspace}/{row.name}").decode()

    async def snapshot(self, connection: AsyncConnection, known: Snapshot) -> Snapshot:
        """The present snapshot; the known one when nothing has changed since."""

        def mine(query: Any, table: Any) -> Any:
            return query.where(table.c.workspace_id == self.workspace)

        marks = [
            (await connection.execute(mine(select(func.count(), func.max(c)), c.table))).one()
            for c in (
                credential.c.updated_at,
                model_alias.c.updated_at,
                table_def.c.created_at,
                workflow.c.created_at,
                tool_server.c.updated_at,
                past_secret.c.retired_at,
            )
        ]
        listens = mine(select(trigger.c.id).where(trigger.c.topic.is_not(None)), trigger).limit(1)
        listening = (await connection.execute(listens)).first() is not None
        limits = mine(select(workflow.c.id).where(workflow.c.at_once.is_not(None)), workflow).limit(1)
        limited = (await connection.execute(limits)).first() is not None
        exposed = await epoch.exposed(await raw(connection))
        over = mine(select(budget.c.workflow, budget.c.name).where(budget.c.state == "spent"), budget)
        spent = {row.workflow: row.name for row in await connection.execute(over)}
        searched = (
            await connection.execute(mine(select(func.count()).where(table_def.c.searched), table_def))
        ).scalar()
        mark = (*(tuple(m) for m in marks), listening, limited, exposed, searched, tuple(sorted(spent.items())))
        if mark == known.mark:
            return known

        async def every(table: Any) -> Any:
            return await connection.execute(mine(select(table), table))

        stored: dict[str, Credential] = {}
        unread: list[str] = []
        for row in await every(credential):
            try:
                stored[row.name] = self.read(row)
            except ValueError as error:  # of a connector that is not installed here, or newer than this process
                unread.append(self._secret(row))
                log.warning("credential cannot be used", credential=row.name, reason=str(error)[:300])
        aliases: dict[str, Alias] = {}
        for row in await every(model_alias):
            try:
                aliases[row.name] = Alias.model_validate(values.loads(row.config))
            except ValueError as error:  # stored when other values were taken: it alone is missing then
                log.warning("model alias cannot be used", alias=row.name, reason=str(error)[:300])
        tables = {
            r.name: TableDef(r.id, tuple(Column(**column) for column in r.columns), r.searched)
            for r in await every(table_def)
        }
        past = [self.sealer.open(r.sealed, self._past_place(r.digest)).decode() for r in await every(past_secret)]
        names = frozenset(
            (
                await connection.execute(mine(select(workflow.c.name), workflow).where(workflow.c.removed_at.is_(None)))
            ).scalars()
        )
        servers: dict[str, dict[str, object]] = {}
        for row in await every(tool_server):
            environment = self._environment(row)
            servers[row.name] = {**values.loads(row.config), "environment": environment}
            past += _secrets_in(environment)
        secrets = tuple(sorted({*(form for c in stored.values() for form in c.forms()), *unread, *past}))
        if secrets != self._known[0]:
            self._known = secrets, await asyncio.to_thread(Blanker, secrets)
        return Snapshot(
            stored, aliases, tables, names, servers, spent, listening, limited, exposed, self._known[1], mark
        )

    def sign(self, text: str) -> str:
        """A signature that only this workspace can make."""
        return self.sealer.sign(text)

    def signed(self, text: str, signature: str) -> bool:
        """Whether a signature is that of a text; compared in constant time."""
        return hmac.compare_digest(self.sign(text).encode(), signature.encode("utf-8", "replace"))
