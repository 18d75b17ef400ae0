"""What was published and is not handed on yet: events, changes of rows, ends of runs."""

from collections import defaultdict
from collections.abc import Mapping
from datetime import datetime
from typing import Any
from uuid import UUID

import asyncpg
import structlog

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.store import artifacts
from oak_relay.store.locks import lock

log = structlog.get_logger()
_LOCK = 7226305
DEEPEST = 16
"""How many events may cause one another."""


async def take(connection: asyncpg.Connection, workspace: int, most: int) -> list[Mapping[str, Any]]:
    """The oldest of what is not handed on; none when another clock is at it. Who begins to listen for one of
    their types waits until they are."""
    if not await connection.fetchval("SELECT pg_try_advisory_xact_lock($1)", _LOCK):
        return []
    rows = await connection.fetch(
        "SELECT * FROM published WHERE workspace_id = $1 AND handled_at IS NULL ORDER BY id LIMIT $2", workspace, most
    )
    types = sorted({f"event|{row['topic']}" for row in rows if row["kind"] == "event"})
    await lock(connection, types)
    return await _whole(connection, workspace, rows)


async def _whole(
    connection: asyncpg.Connection, workspace: int, rows: list[asyncpg.Record]
) -> list[Mapping[str, object]]:
    """The same with results of runs that were too large to be told along."""
    ends = {row["id"]: values.loads(row["body"]) for row in rows if row["kind"] == "run"}
    large = {key: body["result"]["apart"] for key, body in ends.items() if body.pop("large", None)}
    apart = await artifacts.whole(connection, workspace, large.values())
    for key, text in large.items():
        ends[key]["result"] = values.loads(apart[text])
    return [{**row, "body": values.dumps(ends[row["id"]])} if row["id"] in ends else row for row in rows]


ANY = "*"
"""The topic of those who listen to the ends of any workflow's runs."""


async def triggers(
    connection: asyncpg.Connection, workspace: int, rows: list[Mapping[str, object]]
) -> dict[tuple[str, str], list[asyncpg.Record]]:
    """The triggers that listen, by way and topic of what was published."""
    found: dict[tuple[str, str], list[asyncpg.Record]] = defaultdict(list)
    for row in await connection.fetch(
        "SELECT t.id, t.workflow_id, t.version_id, t.name, t.kind, t.way, t.topic, t.config, t.start, w.name AS workflow "
        "FROM trigger t JOIN workflow w ON w.workspace_id = t.workspace_id AND w.id = t.workflow_id "
        "WHERE t.workspace_id = $1 AND t.way = ANY($2::text[]) AND t.topic = ANY($3::text[]) ORDER BY t.id",
        workspace,
        list({row["kind"] for row in rows}),
        [*{row["topic"] for row in rows}, ANY],
    ):
        found[row["way"], row["topic"]].append(row)
    return found


async def listeners(
    connection: asyncpg.Connection, workspace: int, rows: list[Mapping[str, object]]
) -> dict[str, list[asyncpg.Record]]:
    """The runs that wait for an event, by its type."""
    found: dict[str, list[asyncpg.Record]] = defaultdict(list)
    types = {row["topic"] for row in rows if row["kind"] == "event"}
    if types:
        for row in await connection.fetch(
            "SELECT * FROM listener WHERE workspace_id = $1 AND type = ANY($2::text[]) ORDER BY run_id, path",
            workspace,
            list(types),
        ):
            found[row["type"]].append(row)
    return found


async def heard(connection: asyncpg.Connection, workspace: int, places: list[tuple[UUID, str]]) -> None:
    """These wait no longer."""
    await connection.execute(
        "DELETE FROM listener l USING unnest($2::uuid[], $3::text[]) AS u(run_id, path) "
        "WHERE l.workspace_id = $1 AND l.run_id = u.run_id AND l.path = u.path",
        workspace,
        [place[0] for place in places],
        [place[1] for place in places],
    )


async def handled(connection: asyncpg.Connection, workspace: int, rows: list[Mapping[str, object]]) -> None:
    """These are handed on; events are kept for runs that ask for them later, the rest is not needed any more."""
    await connection.execute(
        "UPDATE published SET handled_at = clock_timestamp() WHERE workspace_id = $1 AND id = ANY($2::uuid[])",
        workspace,
        [row["id"] for row in rows if row["kind"] == "event"],
    )
    await connection.execute(
        "DELETE FROM published WHERE workspace_id = $1 AND id = ANY($2::uuid[])",
        workspace,
        [row["id"] for row in rows if row["kind"] != "event"],
    )


async def give_up(connection: asyncpg.Connection, workspace: int) -> UUID | None:
    """The oldest is not handed on; it is kept, marked as handled."""
    return await connection.fetchval(
        "UPDATE published SET handled_at = clock_timestamp() WHERE workspace_id = $1 AND id = (SELECT min(id::text)::uuid "
        "FROM published WHERE workspace_id = $1 AND handled_at IS NULL) RETURNING id",
        workspace,
    )


async def publish(
    connection: asyncpg.Connection,
    workspace: int,
    event_id: UUID,
    kind: str,
    source: str,
    text: str,
    depth: int,
    run_id: UUID | None,
    key: str | None = None,
) -> bool:
    """Put an event where those who wait for its type are looked for; False when its id and source came before."""
    done = await connection.execute(
        "INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth, run_id) "
        "SELECT $1, $2, 'event', $3, $4, $5, $6, $7, $8 WHERE NOT EXISTS (SELECT FROM published "
        "WHERE workspace_id = $1 AND kind = 'event' AND topic = $3 AND source = $4 AND event_key = $5)",
        workspace,
        event_id,
        kind,
        source,
        key or str(event_id),
        text,
        depth,
        run_id,
    )
    return str(done).endswith("1")


def too_deep() -> dict[str, object]:
    """The error of what would cause more than may be caused."""
    return {
        "kind": "over_limit",
        "message": f"more than {DEEPEST} events have caused one another",
        "fix": "does this workflow start itself?",
        "reached": "no",
    }


def arrived(row: Mapping[str, Any]) -> dict[str, object]:
    """What was published as documents see it: an event's CloudEvents attributes, or what changed."""
    found: dict[str, object] = values.loads(row["body"])
    return found


def holds(where: str | None, scope: dict[str, object], name: str) -> bool:
    """Whether a `where` holds; False when it cannot be worked out."""
    if where is None:
        return True
    try:
        return bool(Template(where).render(scope))
    except StepFailed as failed:
        log.info("where: cannot be worked out", of=name, reason=failed.message)
        return False


def envelope(
    event_id: str, kind: str, source: str, data: object, subject: str | None, time: str = ""
) -> dict[str, object]:
    """The attributes of an event (CloudEvents 1.0)."""
    event = {"specversion": "1.0", "id": event_id, "type": kind, "source": source}
    event["time"] = time or datetime.now().astimezone().isoformat()
    return {**event, **({"subject": subject} if subject is not None else {}), "data": data}
