"""Conversations: what was said, both sides, in order; summaries of what is long ago; facts that were kept."""

from collections.abc import Sequence
from dataclasses import replace
from uuid import UUID

import asyncpg
import uuid_utils.compat as uuids

from oak_relay.capabilities.given import Window
from oak_relay.document import values
from oak_relay.engine.transcript import whole

_WINDOW = """
SELECT m.seq, m.body FROM message m JOIN conversation c ON c.workspace_id = m.workspace_id AND c.id = m.conversation_id
WHERE c.workspace_id = $1 AND c.key = $2 AND m.seq >= coalesce((
  SELECT seq FROM message u WHERE u.workspace_id = $1 AND u.conversation_id = c.id AND u.role = 'user'
  ORDER BY seq DESC OFFSET $3 LIMIT 1), 0)
ORDER BY m.seq
"""


async def window(
    connection: asyncpg.Connection, workspace: int, key: str, turns: int, summed: bool = False, facts: bool = False
) -> Window:
    """The last messages of a conversation, from the so many-th last one of the person on; with `summed` also what
    is needed for a summary of the others, with `facts` what was kept."""
    rows = await connection.fetch(_WINDOW, workspace, key, turns - 1) if turns > 0 else []
    found = Window(
        whole([values.loads(row["body"]) for row in rows]),
        facts=await kept(connection, workspace, key) if facts else {},
    )
    if not summed or not rows:
        return found
    first = rows[0]["seq"]
    row = await connection.fetchrow(
        "SELECT id, summary, summed_up FROM conversation WHERE workspace_id = $1 AND key = $2", workspace, key
    )
    older = await connection.fetch(
        "SELECT body FROM message WHERE workspace_id = $1 AND conversation_id = $2 AND seq >= $3 AND seq < $4 ORDER BY seq",
        workspace,
        row["id"],
        row["summed_up"],
        first,
    )
    return replace(found, older=[values.loads(o["body"]) for o in older], first=first, summary=row["summary"] or "")


async def kept(connection: asyncpg.Connection, workspace: int, key: str) -> dict[str, str]:
    """The facts of a conversation."""
    rows = await connection.fetch(
        "SELECT f.name, f.value FROM fact f JOIN conversation c ON c.workspace_id = f.workspace_id AND c.id = f.conversation_id "
        "WHERE c.workspace_id = $1 AND c.key = $2 ORDER BY f.name",
        workspace,
        key,
    )
    return {row["name"]: row["value"] for row in rows}


async def keep(connection: asyncpg.Connection, workspace: int, key: str, name: str, value: str) -> None:
    """Keep a fact of a conversation; an empty value forgets it."""
    talk = await _talk(connection, workspace, key)
    if value:
        await connection.execute(
            "INSERT INTO fact (workspace_id, conversation_id, name, value) VALUES ($1, $2, $3, $4) "
            "ON CONFLICT (workspace_id, conversation_id, name) DO UPDATE SET value = excluded.value, at = clock_timestamp()",
            workspace,
            talk,
            name,
            value,
        )
    else:
        await connection.execute(
            "DELETE FROM fact WHERE workspace_id = $1 AND conversation_id = $2 AND name = $3", workspace, talk, name
        )


async def sum_up(connection: asyncpg.Connection, workspace: int, key: str, summary: str, first: int) -> None:
    """Store the summary of what was said before the message `first`."""
    await connection.execute(
        "UPDATE conversation SET summary = $3, summed_up = greatest(summed_up, $4) WHERE workspace_id = $1 AND key = $2",
        workspace,
        key,
        summary,
        first,
    )


async def _talk(connection: asyncpg.Connection, workspace: int, key: str) -> UUID:
    """The conversation of a key, begun if it is not there; who comes at the same time waits."""
    return await connection.fetchval(
        "INSERT INTO conversation (workspace_id, id, key) VALUES ($1, $2, $3) "
        "ON CONFLICT (workspace_id, key) DO UPDATE SET updated_at = clock_timestamp() RETURNING id",
        workspace,
        uuids.uuid7(),
        key,
    )


async def remember(
    connection: asyncpg.Connection, workspace: int, key: str, messages: list[tuple[str, str]], run_id: UUID
) -> int:
    """Put messages (role, JSON text) behind what was said; who comes at the same time waits. Returns the number of
    the first."""
    talk = await _talk(connection, workspace, key)
    first = await connection.fetchval(
        "SELECT coalesce(max(seq), -1) + 1 FROM message WHERE workspace_id = $1 AND conversation_id = $2",
        workspace,
        talk,
    )
    await connection.executemany(
        "INSERT INTO message (workspace_id, conversation_id, seq, role, body, run_id) VALUES ($1, $2, $3, $4, $5, $6)",
        [(workspace, talk, first + n, role, body, run_id) for n, (role, body) in enumerate(messages)],
    )
    return int(first)


async def forget(connection: asyncpg.Connection, workspace: int, key: str) -> bool:
    """Remove a conversation with all that was said; False when there is none."""
    done = await connection.execute("DELETE FROM conversation WHERE workspace_id = $1 AND key = $2", workspace, key)
    return str(done).endswith("1")


async def listed(
    connection: asyncpg.Connection, workspace: int, limit: int, behind: Sequence[object] | None = None
) -> list[asyncpg.Record]:
    """Conversations, the latest first, with how much was said; behind the one of that moment and key."""
    moment, key = behind or (None, None)
    return await connection.fetch(
        "SELECT c.*, (SELECT count(*) FROM message m WHERE m.workspace_id = $1 AND m.conversation_id = c.id) AS messages, "
        "coalesce((SELECT json_object_agg(f.name, f.value) FROM fact f WHERE f.workspace_id = $1 AND f.conversation_id = c.id), '{}')::text AS facts "
        "FROM conversation c WHERE c.workspace_id = $1 "
        'AND ($3::timestamptz IS NULL OR updated_at < $3 OR updated_at = $3 AND key COLLATE "C" < $4) '
        'ORDER BY updated_at DESC, key COLLATE "C" DESC LIMIT $2',
        workspace,
        limit,
        moment,
        key,
    )


async def said(
    connection: asyncpg.Connection, workspace: int, key: str, after: int, limit: int
) -> list[asyncpg.Record]:
    """Messages of a conversation in order."""
    return await connection.fetch(
        "SELECT m.* FROM message m JOIN conversation c ON c.workspace_id = m.workspace_id AND c.id = m.conversation_id "
        "WHERE c.workspace_id = $1 AND c.key = $2 AND m.seq > $3 ORDER BY m.seq LIMIT $4",
        workspace,
        key,
        after,
        limit,
    )
