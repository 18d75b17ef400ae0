"""What is said on channels that are sent to, until they have taken it: in order within a conversation, leased by who sends it.

Of each conversation only the first row has a moment at which it is ready; the others stand at `infinity` and are moved up one by one,
under the conversation's lock: who claims looks at as many rows as there are conversations, however much waits in one of them.

A row is *waiting*, *sending* (leased), or *unknown*: its sending was cut off, and the other side does not say whether it came. What
has left or was refused has no row; its utterance tells. Nothing behind a row of a conversation leaves before it.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.document import values

_CLAIM = """
UPDATE outbox SET state = 'sending', lease = $2, harmless = true, tries = tries + 1, leased_until = clock_timestamp() + make_interval(secs => $3)
WHERE (workspace_id, conversation_id, seq) IN (
  SELECT o.workspace_id, o.conversation_id, o.seq FROM outbox o
  WHERE o.workspace_id = $1 AND o.state = 'waiting' AND o.ready_at <= statement_timestamp()
    AND NOT EXISTS (SELECT FROM outbox b WHERE b.workspace_id = $1 AND b.conversation_id = o.conversation_id AND b.seq < o.seq)
  ORDER BY o.ready_at LIMIT $4 FOR UPDATE OF o SKIP LOCKED)
RETURNING conversation_id, seq, part, pieces, tries, created_at
"""
_ABOUT = """
SELECT o.conversation_id, o.seq, o.part, o.pieces, o.tries, o.created_at, u.id, u.text, u.more, c.key, c.channel, c.address, c.via
FROM outbox o JOIN utterance u USING (workspace_id, conversation_id, seq)
JOIN conversation c ON c.workspace_id = o.workspace_id AND c.id = o.conversation_id
WHERE o.workspace_id = $1 AND o.lease = $2 AND o.state = 'sending'
"""


@dataclass(frozen=True, slots=True)
class Leaving:
    """Something that is to be sent now; `lease` proves who may. `more` holds its `buttons` and `parts`. `part` of its `pieces` (JSON, None before they are made) is next."""

    conversation: UUID
    seq: int
    lease: UUID
    id: UUID
    key: str
    channel: str
    address: str
    via: str
    text: str
    more: Mapping[str, Any]
    part: int
    pieces: str | None
    tries: int
    since: datetime


async def put(connection: asyncpg.Connection, workspace: int, talk: UUID, seq: int, run_id: UUID | None) -> None:
    """What is to leave next in a conversation that the caller has locked."""
    await connection.execute(
        "INSERT INTO outbox (workspace_id, conversation_id, seq, run_id, ready_at) SELECT $1, $2, $3, $4, "
        "CASE WHEN EXISTS (SELECT FROM outbox WHERE workspace_id = $1 AND conversation_id = $2) THEN 'infinity' ELSE clock_timestamp() END",
        workspace, talk, seq, run_id,
    )  # fmt: skip


async def _lock(connection: asyncpg.Connection, workspace: int, talk: UUID) -> None:
    await connection.fetch(
        "SELECT FROM conversation WHERE workspace_id = $1 AND id = $2 FOR NO KEY UPDATE", workspace, talk
    )


async def _gone(connection: asyncpg.Connection, workspace: int, talk: UUID) -> None:
    """The first of a conversation that the caller has locked has no row any more: the one behind it is ready."""
    await connection.execute(
        "UPDATE outbox SET ready_at = clock_timestamp() WHERE workspace_id = $1 AND conversation_id = $2 AND ready_at = 'infinity' "
        "AND seq = (SELECT min(seq) FROM outbox WHERE workspace_id = $1 AND conversation_id = $2)", workspace, talk,
    )  # fmt: skip


async def claim(
    connection: asyncpg.Connection, workspace: int, lease: UUID, seconds: float, most: int
) -> list[Leaving]:
    """Take the first of conversations that have something to send, for so many seconds."""
    await connection.fetch(_CLAIM, workspace, lease, seconds, most)
    return [
        Leaving(
            row["conversation_id"], row["seq"], lease, row["id"], row["key"], row["channel"], row["address"] or "", row["via"] or "{}",
            row["text"], values.loads(row["more"]), row["part"], row["pieces"], row["tries"], row["created_at"],
        )
        for row in await connection.fetch(_ABOUT, workspace, lease)
    ]  # fmt: skip


async def begun(
    connection: asyncpg.Connection, workspace: int, one: Leaving, pieces: str, harmless: bool, seconds: float
) -> bool:
    """Note what is about to be sent, before anything is, and whether sending it twice does no harm; for so many seconds it is nobody
    else's. False when it is somebody else's already."""
    done = await connection.execute(
        f"UPDATE outbox SET pieces = $5, harmless = $6, leased_until = clock_timestamp() + make_interval(secs => $7) {_MINE} AND state = 'sending'",
        workspace, one.conversation, one.seq, one.lease, pieces, harmless, seconds,
    )  # fmt: skip
    return str(done) == "UPDATE 1"


_MINE = "WHERE workspace_id = $1 AND conversation_id = $2 AND seq = $3 AND lease = $4"


async def left(
    connection: asyncpg.Connection, workspace: int, one: Leaving, part: int, whole: bool, seconds: float, at: datetime | None
) -> bool:  # fmt: skip
    """The channel took a piece, at a moment of its own clock; with the last of them the rest of the conversation may follow. Who
    learns of it late counts too. False when it was settled otherwise meanwhile."""
    given = workspace, one.conversation, one.seq, one.lease
    if not whole:
        done = await connection.execute(
            f"UPDATE outbox SET part = $5, leased_until = clock_timestamp() + make_interval(secs => $6), state = 'sending' {_MINE}",
            *given, part + 1, seconds,
        )  # fmt: skip
        await _mark(connection, *given[:3], "waiting")
        return str(done) == "UPDATE 1"
    async with connection.transaction():
        await _lock(connection, workspace, one.conversation)
        if str(await connection.execute(f"DELETE FROM outbox {_MINE}", *given)) != "DELETE 1":
            return False
        await _gone(connection, workspace, one.conversation)
        await connection.execute(
            "UPDATE utterance SET state = 'sent', told_at = $4 WHERE workspace_id = $1 AND conversation_id = $2 AND seq = $3",
            *given[:3], at,
        )  # fmt: skip
    return True


async def later(connection: asyncpg.Connection, workspace: int, one: Leaving, seconds: float, why: str) -> None:
    """It was not taken, and is tried again in so many seconds."""
    await connection.execute(
        f"UPDATE outbox SET state = 'waiting', error = $5, ready_at = clock_timestamp() + make_interval(secs => $6), lease = NULL {_MINE}",
        workspace, one.conversation, one.seq, one.lease, why, seconds,
    )  # fmt: skip


async def refused(connection: asyncpg.Connection, workspace: int, one: Leaving, why: str) -> None:
    """The channel will not take it: it is passed over."""
    async with connection.transaction():
        await _lock(connection, workspace, one.conversation)
        given = workspace, one.conversation, one.seq
        if str(await connection.execute(f"DELETE FROM outbox {_MINE}", *given, one.lease)) == "DELETE 1":
            await _gone(connection, workspace, one.conversation)
            await connection.execute(
                "UPDATE utterance SET state = 'refused', more = (more::jsonb || jsonb_build_object('why', $4::text))::text "
                "WHERE workspace_id = $1 AND conversation_id = $2 AND seq = $3", *given, why,
            )  # fmt: skip


async def unknown(connection: asyncpg.Connection, workspace: int, one: Leaving, why: str) -> None:
    """Nobody knows whether the channel took it: it stops what follows, until a person says how it went."""
    async with connection.transaction():
        given = workspace, one.conversation, one.seq
        done = await connection.execute(
            f"UPDATE outbox SET state = 'unknown', error = $5 {_MINE}", *given, one.lease, why
        )
        if str(done) == "UPDATE 1":
            await _mark(connection, *given, "unknown")


async def _mark(connection: asyncpg.Connection, workspace: int, talk: UUID, seq: int, state: str) -> None:
    await connection.execute(
        "UPDATE utterance SET state = $4 WHERE workspace_id = $1 AND conversation_id = $2 AND seq = $3", workspace, talk, seq, state
    )  # fmt: skip


async def bury(connection: asyncpg.Connection, workspace: int) -> int:
    """What somebody was about to send who is gone: tried again where that does no harm or nothing had begun, else unknown. How many."""
    rows = await connection.fetch(
        "UPDATE outbox SET state = CASE WHEN harmless THEN 'waiting' ELSE 'unknown' END, "
        "error = 'who sent it was gone before it was known how it went' "
        "WHERE workspace_id = $1 AND state = 'sending' AND leased_until < clock_timestamp() RETURNING conversation_id, seq, state", workspace
    )  # fmt: skip
    for row in rows:
        if row["state"] == "unknown":
            await _mark(connection, workspace, row["conversation_id"], row["seq"], "unknown")
    return len(rows)


async def next_ready(connection: asyncpg.Connection, workspace: int) -> float | None:
    """Seconds until something is to be tried again; None where nothing is. What is ready and not taken waits for what is before it."""
    found = await connection.fetchval(
        "SELECT extract(epoch FROM min(ready_at) - statement_timestamp())::float8 FROM outbox WHERE workspace_id = $1 AND state = 'waiting' "
        "AND ready_at > statement_timestamp() AND ready_at < 'infinity'", workspace
    )  # fmt: skip
    return None if found is None else float(found)


async def settle(connection: asyncpg.Connection, workspace: int, key: str, seq: int, arrived: bool) -> bool:
    """A person says of what is unknown in a conversation whether it arrived; what did not is sent again. False where nothing is
    unknown there."""
    talk = await connection.fetchval(
        "SELECT id FROM conversation WHERE workspace_id = $1 AND key = $2 FOR NO KEY UPDATE", workspace, key
    )
    given = workspace, talk, seq
    of = "WHERE workspace_id = $1 AND conversation_id = $2 AND seq = $3 AND state = 'unknown'"
    if arrived:
        part = await connection.fetchrow(
            f"UPDATE outbox SET part = part + 1, state = 'waiting', error = NULL, lease = NULL {of} "
            "RETURNING part >= json_array_length(pieces::json) AS whole", *given
        )  # fmt: skip
        if part is None:
            return False
        if part["whole"]:
            await connection.execute(
                "DELETE FROM outbox WHERE workspace_id = $1 AND conversation_id = $2 AND seq = $3", *given
            )
            await _gone(connection, workspace, talk)
        await _mark(connection, *given, "sent" if part["whole"] else "waiting")
        return True
    again = f"UPDATE outbox SET state = 'waiting', error = NULL, lease = NULL, ready_at = clock_timestamp() {of}"
    if str(await connection.execute(again, *given)) != "UPDATE 1":
        return False
    await _mark(connection, *given, "waiting")
    return True
