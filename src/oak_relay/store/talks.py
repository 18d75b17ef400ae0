"""Conversations: what was said, both sides, in order; summaries of what is long ago; facts that were kept."""

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple
from uuid import UUID

import asyncpg

from oak_relay.capabilities.given import Window
from oak_relay.document import values
from oak_relay.engine.transcript import whole
from oak_relay.messages import Message
from oak_relay.store import arrays, signals
from oak_relay.store.ids import new_id
from oak_relay.store.locks import lock, of_conversation

_HEARD = """
WITH talk AS (SELECT id FROM conversation WHERE workspace_id = $1 AND key = $2), before AS (
  SELECT coalesce((SELECT min(u.seq) FROM utterance u, talk WHERE u.workspace_id = $1 AND u.conversation_id = talk.id AND u.run_id = $4
    AND u.side = 'them'), 2147483647) AS seq
)
SELECT u.seq, u.side, u.text FROM utterance u, talk, before WHERE u.workspace_id = $1 AND u.conversation_id = talk.id AND u.seq < before.seq
  AND u.seq >= coalesce((SELECT e.seq FROM utterance e, talk, before WHERE e.workspace_id = $1 AND e.conversation_id = talk.id AND e.side = 'them'
    AND e.seq < before.seq ORDER BY e.seq DESC OFFSET $3 LIMIT 1), 0)
ORDER BY u.seq
"""
"""What was said in a conversation of a channel before the run $4, from the so many-th last message of the person on."""
_WINDOW = """
SELECT m.* FROM (SELECT id FROM conversation WHERE workspace_id = $1 AND key = $2 OFFSET 0) AS c CROSS JOIN LATERAL (
  SELECT seq, body FROM message WHERE workspace_id = $1 AND conversation_id = c.id AND seq >= coalesce((
    SELECT seq FROM message u WHERE u.workspace_id = $1 AND u.conversation_id = c.id AND u.role = 'user'
    ORDER BY seq DESC OFFSET $3 LIMIT 1), 0)
  ORDER BY seq) AS m
"""


async def window(
    connection: asyncpg.Connection,
    workspace: int,
    key: str,
    turns: int,
    summed: bool = False,
    facts: bool = False,
    run: UUID | None = None,
) -> Window:
    """The last messages of a conversation, from the so many-th last one of the person on; with `summed` also what
    is needed for a summary of the others, with `facts` what was kept. Of one of a channel: its transcript, as far as it was
    before what a run answers."""
    known = "SELECT channel FROM conversation WHERE workspace_id = $1 AND key = $2"
    if await connection.fetchval(known, workspace, key):
        return await _heard(connection, workspace, key, turns, summed, facts, run)
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


async def _heard(
    connection: asyncpg.Connection, workspace: int, key: str, turns: int, summed: bool, facts: bool, run: UUID | None
) -> Window:
    """What a model is told of a transcript: the same in one line for each side."""
    rows = await connection.fetch(_HEARD, workspace, key, turns - 1, run) if turns > 0 else []
    found = Window([as_message(row) for row in rows], facts=await kept(connection, workspace, key) if facts else {})
    if not summed or not rows:
        return found
    talk = await connection.fetchrow(
        "SELECT id, summary, summed_up FROM conversation WHERE workspace_id = $1 AND key = $2", workspace, key
    )
    older = await connection.fetch(
        "SELECT seq, side, text FROM utterance WHERE workspace_id = $1 AND conversation_id = $2 AND seq >= $3 AND seq < $4 ORDER BY seq",
        workspace, talk["id"], talk["summed_up"], rows[0]["seq"],
    )  # fmt: skip
    first, summary = rows[0]["seq"], talk["summary"] or ""
    return replace(found, older=[as_message(row) for row in older], first=first, summary=summary)


def as_message(row: asyncpg.Record) -> Message:
    """What was said, as the chat-completions protocol has it."""
    return {"role": "user" if row["side"] == "them" else "assistant", "content": row["text"]}


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
        new_id(),
        key,
    )


class Exchange(NamedTuple):
    """What was said in a conversation in a run: messages as (role, JSON text)."""

    key: str
    messages: list[tuple[str, str]]
    run_id: UUID


_TALK = {"key": "text", "id": "uuid", "run_id": "uuid"}
_MESSAGE = {"key": "text", "n": "int", "role": "text", "body": "text"}
_REMEMBER = f"""
WITH given AS MATERIALIZED (
  SELECT u.* FROM {arrays.rows(_TALK, 2)}
), talk AS (
  INSERT INTO conversation (workspace_id, id, key) SELECT $1, g.id, g.key FROM given g
  WHERE coalesce((SELECT channel FROM conversation WHERE workspace_id = $1 AND key = g.key), '') = ''
  ON CONFLICT (workspace_id, key) DO UPDATE SET updated_at = clock_timestamp() RETURNING id, key
), begun AS MATERIALIZED (
  SELECT t.id, t.key, g.run_id, coalesce((
    SELECT max(seq) FROM message WHERE workspace_id = $1 AND conversation_id = t.id), -1) + 1 AS first
  FROM talk t JOIN given g ON g.key = t.key
), put AS (
  INSERT INTO message (workspace_id, conversation_id, seq, role, body, run_id)
  SELECT $1, b.id, b.first + u.n, u.role, u.body, b.run_id FROM {arrays.rows(_MESSAGE, 5)} JOIN begun b ON b.key = u.key
)
SELECT key, first FROM begun
"""


async def remember(connection: asyncpg.Connection, workspace: int, said: Sequence[Exchange]) -> list[int]:
    """Put exchanges behind what was said in their conversations, which the caller has locked. Returns the number of the first
    message of each. Of a conversation of a channel nothing is kept beside its transcript: -1."""
    firsts = [-1] * len(said)
    rest = list(range(len(said)))
    while rest:  # of one conversation, one at a time
        now = {said[place].key: place for place in reversed(rest)}
        rest = [place for place in rest if now[said[place].key] != place]
        some = [said[place] for place in now.values()]
        lines = [(one.key, n, role, body) for one in some for n, (role, body) in enumerate(one.messages)]
        talks = arrays.given(_TALK, ([one.key for one in some], [new_id() for _ in some], [one.run_id for one in some]))
        messages = arrays.given(_MESSAGE, zip(*lines, strict=True) if lines else [()] * len(_MESSAGE))
        for row in await connection.fetch(_REMEMBER, workspace, *talks, *messages):
            firsts[now[row["key"]]] = row["first"]
    return firsts


async def forget(connection: asyncpg.Connection, workspace: int, key: str) -> bool:
    """Remove a conversation with all that was said, within a transaction; False when there is none. A run that asked something there
    goes on as if nobody had answered in time."""
    await lock(connection, {of_conversation(key)})
    rows = await connection.fetch(
        "UPDATE question SET state = 'withdrawn' WHERE workspace_id = $1 AND state = 'open' AND conversation_id = ("
        "SELECT id FROM conversation WHERE workspace_id = $1 AND key = $2) RETURNING run_id, path", workspace, key
    )  # fmt: skip
    if rows:
        said = values.dumps({"expired": True})
        await signals.bring(connection, workspace, [(row["run_id"], row["path"], said) for row in rows])
    done = await connection.execute("DELETE FROM conversation WHERE workspace_id = $1 AND key = $2", workspace, key)
    return str(done).endswith("1")


async def listed(
    connection: asyncpg.Connection, workspace: int, limit: int, behind: Sequence[object] | None = None
) -> list[asyncpg.Record]:
    """Conversations, the latest first, with how much was said; behind the one of that moment and key."""
    moment, key = behind or (None, None)
    return await connection.fetch(
        "SELECT c.*, (SELECT count(*) FROM message m WHERE m.workspace_id = $1 AND m.conversation_id = c.id) "
        "+ (SELECT count(*) FROM utterance u WHERE u.workspace_id = $1 AND u.conversation_id = c.id) AS messages, "
        "coalesce((SELECT json_object_agg(f.name, f.value) FROM fact f WHERE f.workspace_id = $1 AND f.conversation_id = c.id), '{}')::text AS facts, "
        "q.id AS question, q.config::json->>'at' AS question_at FROM conversation c LEFT JOIN question q ON q.workspace_id = $1 "
        "AND q.conversation_id = c.id AND q.state = 'open' WHERE c.workspace_id = $1 "
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
    """Messages of a conversation in order; of one of a channel, its transcript in the same form."""
    return await connection.fetch(
        "SELECT seq, role, body, run_id, at, state, more, good, CASE WHEN state IN ('waiting', 'unknown') THEN (SELECT o.error FROM outbox o "
        "WHERE o.workspace_id = $1 AND o.conversation_id = t.conversation_id AND o.seq = t.seq) END AS held FROM ("
        "SELECT m.conversation_id, m.seq, m.role, m.body, m.run_id, m.at, NULL::text AS state, '{}' AS more, NULL::boolean AS good FROM message m WHERE m.workspace_id = $1 UNION ALL "
        "SELECT u.conversation_id, u.seq, s.role, json_build_object('role', s.role, 'content', u.text)::text, u.run_id, u.at, u.state, u.more, u.good FROM utterance u, "
        "LATERAL (SELECT CASE u.side WHEN 'them' THEN 'user' ELSE 'assistant' END AS role) s WHERE u.workspace_id = $1) t "
        "WHERE conversation_id = (SELECT id FROM conversation WHERE workspace_id = $1 AND key = $2) AND seq > $3 ORDER BY seq LIMIT $4",
        workspace,
        key,
        after,
        limit,
    )
