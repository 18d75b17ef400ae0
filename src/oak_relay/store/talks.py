"""Conversations: what was said, both sides, in order."""

from typing import Any
from uuid import UUID

import asyncpg
import uuid_utils.compat as uuids

from oak_relay.document import values
from oak_relay.store.tables import MAIN_WORKSPACE

_WINDOW = """
SELECT m.body FROM message m JOIN conversation c ON c.workspace_id = m.workspace_id AND c.id = m.conversation_id
WHERE c.workspace_id = $1 AND c.key = $2 AND m.seq >= coalesce((
  SELECT seq FROM message u WHERE u.workspace_id = $1 AND u.conversation_id = c.id AND u.role = 'user'
  ORDER BY seq DESC OFFSET $3 LIMIT 1), 0)
ORDER BY m.seq
"""


async def window(connection: asyncpg.Connection, key: str, turns: int) -> list[dict[str, Any]]:
    """The last messages of a conversation, from the so many-th last one of the person on."""
    if turns <= 0:
        return []
    return [values.loads(row["body"]) for row in await connection.fetch(_WINDOW, MAIN_WORKSPACE, key, turns - 1)]


async def remember(connection: asyncpg.Connection, key: str, messages: list[tuple[str, str]], run_id: UUID) -> int:
    """Put messages (role, JSON text) behind what was said; who comes at the same time waits. Returns the number of
    the first."""
    talk = await connection.fetchval(
        "INSERT INTO conversation (workspace_id, id, key) VALUES ($1, $2, $3) "
        "ON CONFLICT (workspace_id, key) DO UPDATE SET updated_at = clock_timestamp() RETURNING id",
        MAIN_WORKSPACE,
        uuids.uuid7(),
        key,
    )
    first = await connection.fetchval(
        "SELECT coalesce(max(seq), -1) + 1 FROM message WHERE workspace_id = $1 AND conversation_id = $2",
        MAIN_WORKSPACE,
        talk,
    )
    await connection.executemany(
        "INSERT INTO message (workspace_id, conversation_id, seq, role, body, run_id) VALUES ($1, $2, $3, $4, $5, $6)",
        [(MAIN_WORKSPACE, talk, first + n, role, body, run_id) for n, (role, body) in enumerate(messages)],
    )
    return int(first)


async def forget(connection: asyncpg.Connection, key: str) -> bool:
    """Remove a conversation with all that was said; False when there is none."""
    done = await connection.execute(
        "DELETE FROM conversation WHERE workspace_id = $1 AND key = $2", MAIN_WORKSPACE, key
    )
    return str(done).endswith("1")


async def listed(connection: asyncpg.Connection, limit: int) -> list[asyncpg.Record]:
    """Conversations, the latest first, with how much was said."""
    return await connection.fetch(
        "SELECT c.*, (SELECT count(*) FROM message m WHERE m.workspace_id = $1 AND m.conversation_id = c.id) AS messages "
        "FROM conversation c WHERE c.workspace_id = $1 ORDER BY updated_at DESC LIMIT $2",
        MAIN_WORKSPACE,
        limit,
    )


async def said(connection: asyncpg.Connection, key: str, after: int, limit: int) -> list[asyncpg.Record]:
    """Messages of a conversation in order."""
    return await connection.fetch(
        "SELECT m.* FROM message m JOIN conversation c ON c.workspace_id = m.workspace_id AND c.id = m.conversation_id "
        "WHERE c.workspace_id = $1 AND c.key = $2 AND m.seq > $3 ORDER BY m.seq LIMIT $4",
        MAIN_WORKSPACE,
        key,
        after,
        limit,
    )
