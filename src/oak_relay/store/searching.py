"""Words looked for in runs: in what came in and what came out, in errors and subjects, and in ids.

Nothing is indexed for it, so that runs cost nothing more; it goes back in time, a bounded number of runs at once.
"""

from collections.abc import Sequence
from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.document import values

_HAVING = """
SELECT r.id, coalesce(r.subject, '') AS subject, coalesce(r.error::text, '') AS error, coalesce(r.result, '') AS result,
  coalesce(e.body, '') AS body, coalesce(e.event_key, '') AS key
FROM run r LEFT JOIN event e ON e.workspace_id = r.workspace_id AND e.id = r.event_id
WHERE r.workspace_id = $1 AND r.id = ANY($2::uuid[]) AND (r.subject ILIKE $3 OR e.event_key ILIKE $3
  OR r.id::text ILIKE $3 OR r.error::text ILIKE $4 OR r.result ILIKE $4 OR e.body ILIKE $4)
"""


async def having(
    connection: asyncpg.Connection, workspace: int, ids: Sequence[UUID], words: str
) -> dict[UUID, tuple[list[str], list[str]]]:
    """Those of the runs that have these words, in any case, each with the plain texts and the JSON texts in which they may
    stand. Of payloads that are kept apart, what is in their previews is looked at."""
    plain, inside = containing(words), containing(values.dumps(words)[1:-1])
    found = await connection.fetch(_HAVING, workspace, list(ids), plain, inside)
    return {row["id"]: _texts(row) for row in found}


def _texts(row: Any) -> tuple[list[str], list[str]]:
    return [str(row["id"]), row["subject"], row["key"]], [row["error"], row["result"], row["body"]]


def containing(words: str) -> str:
    """A pattern of `ILIKE` that is met where these words stand."""
    escaped = words.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    return f"%{escaped}%"
