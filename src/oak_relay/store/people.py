"""Members, tokens and sessions, and the record of who did what."""

import hashlib
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

import asyncpg
from sqlalchemy import delete, func, insert, or_, select, update
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.store.ids import new_id
from oak_relay.store.tables import audit, member, run, token, workflow


def digest(secret: str) -> bytes:
    """What is kept of a token: its SHA-256. Tokens are random, so nothing slower is needed."""
    return hashlib.sha256(secret.encode()).digest()


async def members(connection: AsyncConnection, workspace: int) -> list[Any]:
    """All members, by name."""
    return list(await connection.execute(select(member).where(member.c.workspace_id == workspace)))


async def named(connection: AsyncConnection, workspace: int, name: str) -> Any | None:
    """The member of a name."""
    mine = (member.c.workspace_id == workspace) & (member.c.name == name)
    return (await connection.execute(select(member).where(mine))).first()


async def by_id(connection: AsyncConnection, workspace: int, member_id: UUID) -> Any | None:
    """The member of an id."""
    mine = (member.c.workspace_id == workspace) & (member.c.id == member_id)
    return (await connection.execute(select(member).where(mine))).first()


async def add_member(connection: AsyncConnection, workspace: int, name: str, role: str, password_hash: str) -> UUID:
    """Add a member; the password as its hash. Returns the id."""
    member_id = new_id()
    await connection.execute(
        insert(member).values(workspace_id=workspace, id=member_id, name=name, role=role, password_hash=password_hash)
    )
    return member_id


async def set_password(connection: AsyncConnection, workspace: int, member_id: UUID, password_hash: str) -> None:
    """Give a member another password, as its hash."""
    mine = (member.c.workspace_id == workspace) & (member.c.id == member_id)
    await connection.execute(update(member).where(mine).values(password_hash=password_hash))


@dataclass(frozen=True, slots=True)
class Limits:
    """What a token may be used for, less than its member may: `rights` and `workflows` by name, None for all. `address`,
    `agent`: where a session was begun."""

    rights: list[str] | None = None
    workflows: list[str] | None = None
    address: str | None = None
    agent: str | None = None


async def issue(
    connection: AsyncConnection,
    workspace: int,
    kind: str,
    name: str,
    member_id: UUID | None,
    expires: datetime | None,
    limits: Limits | None = None,
) -> tuple[UUID, str]:
    """A new token (`api` or `session`): its id and, this once, the token itself."""
    limits = limits or Limits()
    secret = ("oak_" if kind == "api" else "") + secrets.token_urlsafe(32)
    token_id = new_id()
    await connection.execute(
        insert(token).values(
            workspace_id=workspace,
            id=token_id,
            kind=kind,
            name=name,
            digest=digest(secret),
            member_id=member_id,
            expires_at=expires,
            rights=limits.rights,
            workflows=limits.workflows,
            address=limits.address,
            agent=limits.agent,
        )
    )
    return token_id, secret


@dataclass(frozen=True, slots=True)
class Holder:
    """A token that holds, with its member's `role`; `rights` and `workflows` as in `Limits`. `stale`: its use was not noted
    within a minute."""

    id: UUID
    kind: str
    name: str
    member_id: UUID | None
    rights: list[str] | None
    workflows: list[str] | None
    role: str | None
    stale: bool


_HOLDER = """
SELECT t.id, t.kind, t.name, t.member_id, t.rights, t.workflows, m.role,
  coalesce(t.last_used_at < now() - interval '1 minute', true) AS stale
FROM token t LEFT JOIN member m ON m.workspace_id = t.workspace_id AND m.id = t.member_id
WHERE t.digest = $1 AND t.kind = $2 AND NOT t.revoked AND (t.expires_at IS NULL OR t.expires_at > now())
"""


async def holder(connection: asyncpg.Connection, secret: str, kind: str) -> Holder | None:
    """The valid token that this secret is."""
    row = await connection.fetchrow(_HOLDER, digest(secret), kind)
    return Holder(*row.values()) if row is not None else None


async def workflow_of(connection: AsyncConnection, workspace: int, run_id: object) -> str | None:
    """The workflow of a run, by name."""
    query = select(workflow.c.name).join(
        run, (run.c.workspace_id == workflow.c.workspace_id) & (run.c.workflow_id == workflow.c.id)
    )
    found = await connection.execute(query.where(run.c.workspace_id == workspace, run.c.id == run_id))
    return found.scalar()


async def used(connection: AsyncConnection, workspace: int, token_id: UUID) -> None:
    """Note that a token is used, if that was not noted within a minute."""
    stale = token.c.last_used_at.is_(None) | (token.c.last_used_at < func.now() - timedelta(minutes=1))
    await connection.execute(
        update(token)
        .where(token.c.workspace_id == workspace, token.c.id == token_id, stale)
        .values(last_used_at=func.now())
    )


async def tokens(
    connection: AsyncConnection, workspace: int, kind: str = "api", member_id: UUID | None = None
) -> list[Any]:
    """Tokens of a kind that hold, without their secrets; of one member only where it is named."""
    query = select(token).where(
        token.c.workspace_id == workspace,
        token.c.kind == kind,
        token.c.revoked.is_(False),
        or_(token.c.expires_at.is_(None), token.c.expires_at > func.now()),
    )
    if member_id is not None:
        query = query.where(token.c.member_id == member_id)
    return list(await connection.execute(query.order_by(token.c.id)))


async def trim(connection: AsyncConnection, workspace: int, member_id: UUID, most: int) -> None:
    """End the oldest sessions of a member beyond so many, and forget some that ended long ago."""
    mine = (token.c.workspace_id == workspace) & (token.c.kind == "session") & (token.c.member_id == member_id)
    kept = (
        select(token.c.id)
        .where(mine, token.c.revoked.is_(False))
        .order_by(token.c.created_at.desc(), token.c.id.desc())
        .limit(most)
    )
    await connection.execute(update(token).where(mine, token.c.id.not_in(kept)).values(revoked=True))
    over = (token.c.kind == "session") & (token.c.expires_at < func.now() - timedelta(days=30))
    old = select(token.c.id).where(token.c.workspace_id == workspace, over).limit(100)
    await connection.execute(delete(token).where(token.c.workspace_id == workspace, token.c.id.in_(old)))


async def end_sessions(connection: AsyncConnection, workspace: int, member_id: UUID, but: UUID | None = None) -> int:
    """End the sessions of a member, all but one; how many."""
    mine = (token.c.workspace_id == workspace) & (token.c.kind == "session") & (token.c.member_id == member_id)
    query = update(token).where(mine, token.c.revoked.is_(False)).values(revoked=True)
    return (await connection.execute(query if but is None else query.where(token.c.id != but))).rowcount


async def revoke(connection: AsyncConnection, workspace: int, token_id: UUID, kind: str) -> bool:
    """Take a token of a kind back; False when there is none."""
    mine = (token.c.workspace_id == workspace) & (token.c.id == token_id) & (token.c.kind == kind)
    done = await connection.execute(update(token).where(mine, token.c.revoked.is_(False)).values(revoked=True))
    return bool(done.rowcount)


async def note(connection: AsyncConnection, workspace: int, who: str, action: str, target: str) -> None:
    """Record who did what."""
    await connection.execute(
        insert(audit).values(workspace_id=workspace, id=new_id(), who=who, action=action, target=target)
    )
