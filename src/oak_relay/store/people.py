"""Members, tokens and sessions, and the record of who did what."""

import hashlib
import secrets
from datetime import datetime
from typing import Any
from uuid import UUID

import uuid_utils.compat as uuids
from sqlalchemy import func, insert, or_, select, update
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.store.tables import audit, member, token


def digest(secret: str) -> bytes:
    """What is kept of a token: its SHA-256. Tokens are random, so nothing slower is needed."""
    return hashlib.sha256(secret.encode()).digest()


async def members(connection: AsyncConnection, workspace: int) -> list[Any]:
    """All members, by name."""
    return list(await connection.execute(select(member).where(member.c.workspace_id == workspace)))


async def add_member(connection: AsyncConnection, workspace: int, name: str, role: str, password_hash: str) -> UUID:
    """Add a member; the password as its hash. Returns the id."""
    member_id = uuids.uuid7()
    await connection.execute(
        insert(member).values(workspace_id=workspace, id=member_id, name=name, role=role, password_hash=password_hash)
    )
    return member_id


async def issue(
    connection: AsyncConnection, workspace: int, kind: str, name: str, member_id: UUID | None, expires: datetime | None
) -> tuple[UUID, str]:
    """A new token (`api` or `session`): its id and, this once, the token itself."""
    secret = ("oak_" if kind == "api" else "") + secrets.token_urlsafe(32)
    token_id = uuids.uuid7()
    await connection.execute(
        insert(token).values(
            workspace_id=workspace,
            id=token_id,
            kind=kind,
            name=name,
            digest=digest(secret),
            member_id=member_id,
            expires_at=expires,
        )
    )
    return token_id, secret


async def holder(connection: AsyncConnection, secret: str, kind: str) -> Any | None:
    """The valid token that this secret is."""
    query = select(token).where(
        token.c.digest == digest(secret),
        token.c.kind == kind,
        token.c.revoked.is_(False),
        or_(token.c.expires_at.is_(None), token.c.expires_at > func.now()),
    )
    return (await connection.execute(query)).first()


async def tokens(connection: AsyncConnection, workspace: int) -> list[Any]:
    """Tokens of a kind, without their secrets."""
    query = select(token).where(token.c.workspace_id == workspace, token.c.kind == "api", token.c.revoked.is_(False))
    return list(await connection.execute(query.order_by(token.c.id)))


async def revoke(connection: AsyncConnection, workspace: int, token_id: UUID) -> bool:
    """Take a token back; False when there is none."""
    done = await connection.execute(
        update(token)
        .where(token.c.workspace_id == workspace, token.c.id == token_id, token.c.revoked.is_(False))
        .values(revoked=True)
    )
    return bool(done.rowcount)


async def note(connection: AsyncConnection, workspace: int, who: str, action: str, target: str) -> None:
    """Record who did what."""
    await connection.execute(
        insert(audit).values(workspace_id=workspace, id=uuids.uuid7(), who=who, action=action, target=target)
    )
