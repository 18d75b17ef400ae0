"""Answers to requests that came with a key, so that the same request again is answered alike and does nothing twice."""

from dataclasses import dataclass

import asyncpg

KEPT = "1 day"


@dataclass(frozen=True, slots=True)
class Known:
    """What is known of a key: the digest of the body that it came with, and its answer, sealed; None while there is none.
    `age`: seconds since it came."""

    body: bytes
    status: int | None
    answer: bytes | None
    age: float


async def begin(connection: asyncpg.Connection, workspace: int, key: bytes, body: bytes) -> Known | None:
    """Note that a request with a key begins; None when it is the first."""
    new = await connection.fetchval(
        f"INSERT INTO answered AS a (workspace_id, key, body) VALUES ($1, $2, $3) ON CONFLICT (workspace_id, key) DO UPDATE "
        f"SET body = $3, status = NULL, answer = NULL, at = clock_timestamp() WHERE a.at < now() - interval '{KEPT}' RETURNING true",
        workspace,
        key,
        body,
    )
    if new:
        return None
    row = await connection.fetchrow(
        "SELECT body, status, answer, extract(epoch FROM clock_timestamp() - at)::float8 AS age FROM answered "
        "WHERE workspace_id = $1 AND key = $2",
        workspace,
        key,
    )
    return None if row is None else Known(row["body"], row["status"], row["answer"], row["age"])


async def keep(connection: asyncpg.Connection, workspace: int, key: bytes, status: int, answer: bytes) -> None:
    """Keep its answer."""
    await connection.execute(
        "UPDATE answered SET status = $3, answer = $4 WHERE workspace_id = $1 AND key = $2",
        workspace,
        key,
        status,
        answer,
    )


async def forget(connection: asyncpg.Connection, workspace: int, key: bytes) -> None:
    """It did nothing: the same request may be made again."""
    await connection.execute("DELETE FROM answered WHERE workspace_id = $1 AND key = $2", workspace, key)


async def forget_old(connection: asyncpg.Connection, workspace: int) -> None:
    """Let go of what is kept for long."""
    await connection.execute(
        f"DELETE FROM answered WHERE workspace_id = $1 AND at < now() - interval '{KEPT}'", workspace
    )
