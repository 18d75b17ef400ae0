"""History by month: partitions of `run`, `failure`, `event`, `journal`, `artifact` and
`file_reference`, bounded by the time in a run's id (UUIDv7, RFC 9562)."""

from datetime import UTC, datetime
from uuid import UUID

import asyncpg
import structlog

log = structlog.get_logger()
TABLES = {
    "run": "id",
    "failure": "run_id",
    "event": "id",
    "journal": "run_id",
    "artifact": "month",
    "file_reference": "owner",
}
_ROOM = {"run": 80}
"""How full pages of a table are made, in percent: an end of a run is written beside it."""
AHEAD = 2
_LOCK = 7226304
# By query: a look-up by name may answer from before the wait for the lock.
_THERE = "SELECT EXISTS (SELECT FROM pg_class WHERE relname = $1 AND relnamespace = 'public'::regnamespace)"


def first_id(moment: datetime) -> UUID:
    """The smallest id of a moment."""
    return UUID(int=int(moment.timestamp() * 1000) << 80)


def month(moment: datetime, further: int = 0) -> datetime:
    """The beginning of a moment's month, or of one so many months further."""
    number = moment.year * 12 + moment.month - 1 + further
    return datetime(number // 12, number % 12 + 1, 1, tzinfo=UTC)


async def ensure(connection: asyncpg.Connection, now: datetime) -> list[str]:
    """Make the partitions of this month and the next ones that are not there; their names."""
    made: list[str] = []
    for further in range(AHEAD + 1):
        begin, end = month(now, further), month(now, further + 1)
        for table, column in TABLES.items():
            name = f"{table}_{begin:%Y_%m}"
            if await connection.fetchval(_THERE, name):
                continue
            async with connection.transaction():
                await connection.execute("SELECT pg_advisory_xact_lock($1)", _LOCK)
                if await connection.fetchval(_THERE, name):
                    continue
                await _make(connection, table, column, name, first_id(begin), first_id(end))
                made.append(name)
    return made


async def _make(connection: asyncpg.Connection, table: str, column: str, name: str, low: UUID, high: UUID) -> None:
    """A month's partition; rows of it that already came into the rest are taken over."""
    await connection.execute(
        f"CREATE TABLE {name} (LIKE {table} INCLUDING ALL) WITH (fillfactor = {_ROOM.get(table, 100)})"
    )
    await connection.execute(
        f"WITH moved AS (DELETE FROM {table}_rest WHERE {column} >= '{low}' AND {column} < '{high}' RETURNING *) "
        f"INSERT INTO {name} SELECT * FROM moved"
    )
    await connection.execute(f"ALTER TABLE {table} ATTACH PARTITION {name} FOR VALUES FROM ('{low}') TO ('{high}')")


async def drop_before(connection: asyncpg.Connection, limit: datetime) -> list[str]:
    """Drop the months that ended before `limit`; runs in them that are not over move into the rest first."""
    rows = await connection.fetch(
        "SELECT c.relname AS name FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid "
        "WHERE i.inhparent = 'run'::regclass AND c.relname ~ '^run_\\d{4}_\\d{2}$' ORDER BY 1"
    )
    dropped: list[str] = []
    for row in rows:
        year, number = (int(part) for part in row["name"].split("_")[1:])
        if month(datetime(year, number, 1, tzinfo=UTC), 1) > limit:
            continue
        async with connection.transaction():
            await connection.execute("SELECT pg_advisory_xact_lock($1)", _LOCK)
            await _drop(connection, row["name"].removeprefix("run_"))
        dropped.append(row["name"].removeprefix("run_"))
        log.info("month of history dropped", month=dropped[-1])
    return dropped


async def _drop(connection: asyncpg.Connection, suffix: str) -> None:
    open_ = [r["id"] for r in await connection.fetch(f"SELECT id FROM run_{suffix} WHERE ended_at IS NULL")]
    events = [
        r["event_id"] for r in await connection.fetch(f"SELECT event_id FROM run_{suffix} WHERE ended_at IS NULL")
    ]
    kept = {
        "run": open_,
        "event": events,
        "failure": [],
        "journal": open_,
        "file_reference": open_,
        "artifact": await _referred_to(connection, suffix, open_, events),
    }
    for table, column in TABLES.items():
        await connection.execute(f"ALTER TABLE {table} DETACH PARTITION {table}_{suffix}")
        of = "digest = ANY($1::bytea[])" if table == "artifact" else f"{column} = ANY($1::uuid[])"
        await connection.execute(f"INSERT INTO {table} SELECT * FROM {table}_{suffix} WHERE {of}", kept[table])
        await connection.execute(f"DROP TABLE {table}_{suffix}")


async def _referred_to(
    connection: asyncpg.Connection, suffix: str, runs: list[UUID], events: list[UUID]
) -> list[bytes]:
    """The digests of a month's large payloads that some of its runs and events still refer to."""
    rows = await connection.fetch(
        f"SELECT body AS text FROM event_{suffix} WHERE id = ANY($2::uuid[]) AND body LIKE '@%' UNION ALL "
        f"SELECT '@' || t FROM journal_{suffix}, unnest(apart) AS t WHERE run_id = ANY($1::uuid[])",
        runs,
        events,
    )
    return [bytes.fromhex(row["text"][34:98]) for row in rows]
