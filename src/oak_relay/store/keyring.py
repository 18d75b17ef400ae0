"""The data keys of a workspace: the newest seals, the earlier ones still open what they sealed.

Each is wrapped by the master key. While another master key takes its place, earlier keys are wrapped by that one too
(`next`), and the new data key by the one before it (`link`), so that processes which run already follow without any master
key, and those which begin may do so with either.
"""

import asyncio
import hmac
import secrets
from collections.abc import Callable, Sequence
from typing import Any

from sqlalchemy import bindparam, delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.store.database import Database
from oak_relay.store.tables import consent, consent_begun, credential, past_secret, tool_server, vault_key
from oak_relay.vault.sealing import KeyProblem, Sealer, unwrap, wrap, wrap_new

_LINK = "data key after"
_BATCH = 500
SEALED = {
    "credential": (credential, lambda w, row: f"credential/{w}/{row.name}"),
    "consent": (consent, lambda w, row: f"consent/{w}/{row.name}"),
    "consent_begun": (consent_begun, lambda w, row: f"begun/{w}/{row.digest.hex()}"),
    "tool_server": (tool_server, lambda w, row: f"server/{w}/{row.name}"),
    "past_secret": (past_secret, lambda w, row: f"past/{w}/{row.digest}"),
}
"""What is sealed for long, and what each sealed text is bound to."""


def place(workspace: int, kind: str, row: Any) -> str:
    """What a row's sealed text is bound to."""
    return SEALED[kind][1](workspace, row)


class Keyring:
    """The data keys that a process has. `master` gives the master key, as it is now."""

    def __init__(self, workspace: int, master: Callable[[], bytes]) -> None:
        self.workspace = workspace
        self._master = master
        self._sealers: dict[int, Sealer] = {}

    @property
    def newest(self) -> int:
        """The number of the key that seals."""
        return max(self._sealers)

    @classmethod
    async def open(cls, database: Database, workspace: int, master: Callable[[], bytes]) -> "Keyring":
        """The keys of a workspace; the first one is made on first use. Raises `KeyProblem` for another master key."""
        made = cls(workspace, master)
        async with database.begin() as connection:
            first = insert(vault_key).values(workspace_id=workspace, id=1, wrapped=wrap_new(master()))
            await connection.execute(first.on_conflict_do_nothing())
            await made.follow(connection)
        return made

    async def follow(self, connection: AsyncConnection) -> None:
        """Take up keys that are new. Raises `KeyProblem`."""
        for row in await self._rows(connection):
            if row.id not in self._sealers:
                self._sealers[row.id] = self._opened(row)

    async def _rows(self, connection: AsyncConnection) -> Sequence[Any]:
        mine = select(vault_key).where(vault_key.c.workspace_id == self.workspace).order_by(vault_key.c.id)
        return (await connection.execute(mine)).all()

    def _opened(self, row: Any) -> Sealer:
        before = self._sealers.get(row.id - 1)
        if row.link is not None and before is not None:
            return Sealer(before.open(row.link, _LINK))
        master = self._master()
        try:
            return unwrap(master, row.wrapped)
        except KeyProblem:
            if row.next is None:
                raise
            return unwrap(master, row.next)

    def seal(self, plain: bytes, context: str) -> bytes:
        """Encrypt under a context, which must be given again to open it."""
        return self._sealers[self.newest].seal(plain, context)

    def open_sealed(self, sealed: bytes, context: str) -> bytes:
        """What was sealed by any of the keys. Raises `KeyProblem`."""
        for number in sorted(self._sealers, reverse=True)[:-1]:
            try:
                return self._sealers[number].open(sealed, context)
            except KeyProblem:
                continue
        return self._sealers[min(self._sealers)].open(sealed, context)

    def sign(self, text: str) -> str:
        """A signature that only this workspace can make."""
        return self._sealers[self.newest].sign(text)

    def signed(self, text: str, signature: str) -> bool:
        """Whether a signature is that of a text, by any of the keys; compared in constant time."""
        given = signature.encode("utf-8", "replace")
        return any([hmac.compare_digest(sealer.sign(text).encode(), given) for sealer in self._sealers.values()])

    async def begin(self, database: Database, master: bytes) -> int:
        """Begin to replace the master key by another: a new data key seals from now on. Gives its number; that of the one
        under way where the same was begun before. Raises `KeyProblem` when it was begun with another key."""
        async with database.begin() as connection:
            await connection.execute(select(func.pg_advisory_xact_lock(7226320)))
            await self.follow(connection)
            rows = await self._rows(connection)
            if rows[-1].link is not None:
                unwrap(master, rows[-1].wrapped)
                return int(rows[-1].id)
            data = secrets.token_bytes(32)
            number, before = rows[-1].id + 1, self._sealers[rows[-1].id]
            for row in rows:
                kept = wrap(master, self._sealers[row.id])
                await connection.execute(self._one(update(vault_key), row.id).values(next=kept))
            linked = {"wrapped": wrap(master, Sealer(data)), "link": before.seal(data, _LINK)}
            await connection.execute(insert(vault_key).values(workspace_id=self.workspace, id=number, **linked))
            await self.follow(connection)
        return int(number)

    def _one(self, statement: Any, number: int) -> Any:
        return statement.where(vault_key.c.workspace_id == self.workspace, vault_key.c.id == number)

    async def sealed_anew(self, database: Database) -> int:
        """Seal all that earlier keys sealed with the newest one, some rows at a time; how many."""
        done = 0
        for kind in SEALED:
            while some := await self._some_anew(database, kind):
                done += some
        return done

    async def _some_anew(self, database: Database, kind: str) -> int:
        table, _ = SEALED[kind]
        key = [column for column in table.primary_key if column.name != "workspace_id"]
        mine = [column == bindparam(f"of_{column.name}") for column in key]
        change = update(table).where(table.c.workspace_id == self.workspace, *mine)
        change = change.values(sealed=bindparam("anew"), key_id=self.newest)
        async with database.begin() as connection:
            old = select(*key, table.c.sealed).where(
                table.c.workspace_id == self.workspace, table.c.key_id < self.newest
            )
            rows = (await connection.execute(old.order_by(*key).limit(_BATCH).with_for_update())).all()
            done = await asyncio.to_thread(lambda: [self._anew(kind, key, row) for row in rows])
            if done:
                await connection.execute(change, done)
        return len(rows)

    def _anew(self, kind: str, key: Sequence[Any], row: Any) -> dict[str, object]:
        context = place(self.workspace, kind, row)
        sealed = self.seal(self.open_sealed(row.sealed, context), context)
        return {**{f"of_{column.name}": getattr(row, column.name) for column in key}, "anew": sealed}

    async def begun(self, database: Database, master: bytes) -> bool:
        """Whether a replacement was begun whose new master key is this one."""
        async with database.connect() as connection:
            newest = (await self._rows(connection))[-1]
        try:
            return newest.link is not None and bool(unwrap(master, newest.wrapped))
        except KeyProblem:
            return False

    async def finish(self, database: Database, master: bytes) -> None:
        """Only the new master key opens anything from now on. Raises `KeyProblem` when it is not the one that was begun with, or
        when something is sealed by an earlier key still."""
        async with database.begin() as connection:
            await connection.execute(select(func.pg_advisory_xact_lock(7226320)))
            for row in await self._rows(connection):
                unwrap(master, row.next or row.wrapped)
                change = self._one(update(vault_key), row.id)
                await connection.execute(change.values(wrapped=row.next or row.wrapped, next=None, link=None))
            for kind, (table, _) in SEALED.items():
                old = select(func.count()).where(table.c.workspace_id == self.workspace, table.c.key_id < self.newest)
                if await connection.scalar(old):
                    raise KeyProblem(f"{kind}: something is sealed by an earlier key still; begin again")

    async def forget(self, connection: AsyncConnection, days: int) -> int:
        """Drop keys that the newest one replaced so many days ago, and what they signed with them; how many."""
        newest = select(func.max(vault_key.c.id)).where(vault_key.c.workspace_id == self.workspace).scalar_subquery()
        age = func.now() - text(f"interval '{days:d} days'")
        made = vault_key.alias()
        old = select(made.c.id).where(
            made.c.workspace_id == self.workspace, made.c.id == newest, made.c.created_at < age, made.c.link.is_(None)
        )
        used = [
            select(table.c.key_id).where(table.c.workspace_id == self.workspace, table.c.key_id == vault_key.c.id)
            for table, _ in SEALED.values()
        ]
        gone = delete(vault_key).where(
            vault_key.c.workspace_id == self.workspace,
            vault_key.c.id < newest,
            old.exists(),
            *(~one.exists() for one in used),
        )
        return int((await connection.execute(gone)).rowcount)
