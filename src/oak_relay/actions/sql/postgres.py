"""PostgreSQL: a statement in a transaction that only reads, with limits, and the server's own word on what it reads.

Which relations a statement names the server tells by the locks that it takes: once when the statement is prepared, and again before
anything of its answer is given on. What is neither allowed nor a part of what is (indexes, partitions, what a view reads) is not given.
"""

from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from datetime import date, datetime, time, timedelta
from decimal import Decimal, InvalidOperation
from uuid import UUID

import asyncpg

from oak_relay.actions.databases import opened
from oak_relay.actions.sql.guard import Allowed, Guarded
from oak_relay.actions.sql.shapes import ColumnTold, TableTold
from oak_relay.capabilities.protocols import Surroundings
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.vault.database import Database

_LARGEST = 4_000_000
_LARGEST_CELL = 200_000
_LOOKED_UP = ("pg_type", "pg_range", "pg_namespace", "pg_class", "pg_attribute", "pg_proc", "pg_enum")
"""Catalogues in which types are looked up while a statement is prepared."""
_THERE = """
SELECT c.oid, n.nspname AS schema, c.relname AS name FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f') AND n.nspname = ANY ($1::text[])
"""
_PARTS = """
WITH RECURSIVE reach (oid) AS (
  SELECT unnest($1::oid[])
  UNION
  SELECT part.oid FROM reach r, LATERAL (
    SELECT d.refobjid AS oid FROM pg_rewrite w JOIN pg_depend d ON d.objid = w.oid AND d.classid = 'pg_rewrite'::regclass
      AND d.refclassid = 'pg_class'::regclass WHERE w.ev_class = r.oid
    UNION SELECT i.indexrelid FROM pg_index i WHERE i.indrelid = r.oid
    UNION SELECT h.inhrelid FROM pg_inherits h WHERE h.inhparent = r.oid
    UNION SELECT t.reltoastrelid FROM pg_class t WHERE t.oid = r.oid AND t.reltoastrelid <> 0
  ) part
)
SELECT oid FROM reach
"""
_BEYOND = """
SELECT DISTINCT l.relation::regclass::text AS name FROM pg_locks l
WHERE l.pid = $1 AND l.locktype = 'relation' AND l.database IN (0, (SELECT oid FROM pg_database WHERE datname = current_database()))
  AND l.relation <> ALL ($2::oid[])
  AND l.relation NOT IN (SELECT c.oid FROM pg_class c WHERE c.relnamespace = 'pg_catalog'::regnamespace AND c.relname = ANY ($3::text[]))
  AND l.relation NOT IN (SELECT i.indexrelid FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid
    WHERE c.relnamespace = 'pg_catalog'::regnamespace AND c.relname = ANY ($3::text[]))
"""
_LIMITS = "SET LOCAL statement_timeout = {ms}; SET LOCAL lock_timeout = {ms}; SET LOCAL idle_in_transaction_session_timeout = {idle}; SET LOCAL standard_conforming_strings = on; SET LOCAL search_path = {path}"


class Reading:
    """One statement on one connection, and a second one that looks what the first one touches."""

    def __init__(self, connection: asyncpg.Connection, watching: asyncpg.Connection, allowed: Allowed) -> None:
        self._connection, self._watching, self._allowed = connection, watching, allowed
        self._pid = connection.get_server_pid()
        self._parts: list[int] = []

    async def look(self) -> None:
        """See what may be read: the tables that are allowed, and what they are made of."""
        rows = await self._watching.fetch(_THERE, list(self.schemas()))
        mine = [row["oid"] for row in rows if self._allowed.holds(row["schema"], row["name"])]
        self._parts = [row["oid"] for row in await self._watching.fetch(_PARTS, mine)]

    def schemas(self) -> set[str]:
        """Those in which tables may be named."""
        named = {pattern.rpartition(".")[0] for pattern in self._allowed.tables}
        return {*self._allowed.schemas, *(one for one in named if one)}

    async def check(self) -> None:
        """Raises `StepFailed` (`denied`) when something else is touched by now."""
        rows = await self._watching.fetch(_BEYOND, self._pid, self._parts, list(_LOOKED_UP))
        if rows:
            raise StepFailed(
                "denied", f"this statement reads {rows[0]['name'][:100]}, which is not allowed here; {self._allowed} is"
            )


@asynccontextmanager
async def talking(
    stored: Database, at: Surroundings, allowed: Allowed, reads: bool
) -> AsyncIterator[tuple[asyncpg.Connection, Reading]]:
    """A transaction with limits, and who looks what it touches. Raises `StepFailed`, also for what the server says."""
    connection = await opened(stored, at)
    watching = None
    try:
        watching = await opened(stored, at)
        if await watching.fetchval("SELECT current_setting('is_superuser')") == "on":
            fix = "make a user for it that may only do what it is for"
            raise StepFailed("denied", "the user of this credential may do everything on its server", fix=fix)
        reading = Reading(connection, watching, allowed)
        await reading.look()
        transaction = connection.transaction(readonly=reads, isolation="repeatable_read" if reads else None)
        await transaction.start()
        quoted = ", ".join('"' + one.replace('"', '""') + '"' for one in allowed.schemas)
        ms = max(1, int(at.timeout * 1000))
        await connection.execute(_LIMITS.format(ms=ms, idle=ms + 5_000, path=quoted))
        await connection.fetchval("SELECT 1")  # from here on it cannot be made one that writes
        yield connection, reading
        if not reads:
            await transaction.commit()
    except asyncpg.PostgresError as error:
        raise _failed(error, at) from None
    except asyncpg.InternalClientError:
        raise StepFailed("invalid", "what it gives has a form that is not read here", fix="name the columns") from None
    except TimeoutError:
        fix = "ask for less, or raise the step's timeout"
        raise StepFailed(
            "timeout", "the statement took too long", fix=fix, reached="yes" if reads else "maybe"
        ) from None
    except (asyncpg.InterfaceError, OSError) as error:
        said = at.said(str(error) or type(error).__name__, 300)
        raise StepFailed(
            "unavailable", f"the connection to the database broke: {said}", reached="yes" if reads else "maybe"
        ) from None
    finally:
        connection.terminate()
        if watching is not None:
            watching.terminate()


def _failed(error: asyncpg.PostgresError, at: Surroundings) -> StepFailed:
    said = at.said(str(error), 300)
    if isinstance(error, asyncpg.QueryCanceledError | asyncpg.LockNotAvailableError):
        return StepFailed(
            "timeout", "the statement took too long", fix="ask for less, or raise the step's timeout", reached="yes"
        )
    if isinstance(error, asyncpg.InsufficientPrivilegeError | asyncpg.ReadOnlySQLTransactionError):
        return StepFailed(
            "denied", f"the database refuses it: {said}", fix="write a statement that does less", reached="yes"
        )
    if isinstance(
        error, asyncpg.PostgresConnectionError | asyncpg.InsufficientResourcesError | asyncpg.OperatorInterventionError
    ):
        return StepFailed("unavailable", f"the database cannot do it now: {said}", reached="maybe")
    return StepFailed(
        "invalid",
        f"the database does not take it: {said}",
        fix="correct the statement",
        reached="yes",
        detail={"sqlstate": error.sqlstate},
    )


async def read(
    stored: Database, at: Surroundings, statement: Guarded, params: Mapping[str, object], allowed: Allowed, limit: int
) -> tuple[list[dict[str, object]], bool]:
    """The rows of a statement that reads, and whether there are more. Raises `StepFailed`."""
    async with talking(stored, at, allowed, True) as (connection, reading):
        prepared = await connection.prepare(statement.sql)
        await reading.check()
        cursor = await prepared.cursor(*_bound(prepared.get_parameters(), statement.parameters, params))
        rows: list[dict[str, object]] = []
        size = 0
        while len(rows) <= limit:
            some = await cursor.fetch(min(500, limit + 1 - len(rows)))
            for row in some:
                rows.append({name: plain(value) for name, value in row.items()})
                size += len(values.dumps(rows[-1]))
                if size > _LARGEST:
                    raise StepFailed(
                        "too_long", f"the rows are more than {_LARGEST:,} bytes", fix="ask for fewer", reached="yes"
                    )
            if not some:
                break
        await reading.check()
        return rows[:limit], len(rows) > limit


async def change(
    stored: Database, at: Surroundings, statement: Guarded, params: Mapping[str, object], allowed: Allowed, most: int
) -> tuple[int, list[dict[str, object]]]:
    """How many rows were changed, and those that it gives. More than `most` are none. Raises `StepFailed`."""
    async with talking(stored, at, allowed, False) as (connection, _):
        prepared = await connection.prepare(statement.sql)
        given = _bound(prepared.get_parameters(), statement.parameters, params)
        at.send_check()
        rows = await prepared.fetch(*given)
        done = prepared.get_statusmsg().split()
        count = int(done[-1]) if done and done[-1].isdigit() else len(rows)
        if count > most:
            raise StepFailed(
                "over_limit",
                f"it would change {count:,} rows, more than {most:,}; none was",
                fix="raise most, or say which",
                reached="no",
            )
        told = [{name: plain(value) for name, value in row.items()} for row in rows]
    return count, told


_READ: Mapping[str, Callable[[str], object]] = {
    "date": date.fromisoformat, "timestamp": datetime.fromisoformat, "timestamptz": datetime.fromisoformat, "time": time.fromisoformat,
    "uuid": UUID, "numeric": Decimal, "int2": int, "int4": int, "int8": int, "float4": float, "float8": float,
    "bool": lambda text: {"true": True, "false": False}[text.lower()],
}  # fmt: skip


def _bound(types: Sequence[asyncpg.Type], names: Sequence[str], params: Mapping[str, object]) -> list[object]:
    """The parameters as their types want them. Raises `StepFailed` (`invalid`)."""
    lacking = [name for name in names if name not in params]
    if len(types) != len(names):
        raise StepFailed("invalid", "the statement has parameters without a name", fix="write them as :name")
    if lacking:
        raise StepFailed("invalid", f"params has no {lacking[0]}", fix=f"give params: {{{lacking[0]}: …}}")
    return [_as(kind.name, params[name], name) for kind, name in zip(types, names, strict=True)]


def _as(kind: str, value: object, name: str) -> object:
    if value is None:
        return None
    if kind.endswith("[]"):
        if not isinstance(value, list):
            raise StepFailed("invalid", f"the parameter {name} is a list of {kind[:-2]}", fix="give a list")
        return [_as(kind[:-2], one, name) for one in value]
    if kind in ("json", "jsonb"):
        return values.dumps(value)
    if kind == "bool" and isinstance(value, bool):
        return value
    text = values.text_of(value)
    if "\0" in text:
        raise StepFailed("invalid", f"the parameter {name} holds U+0000, which no database keeps", fix="clean the text")
    try:
        return _READ[kind](text) if kind in _READ else text
    except (ValueError, KeyError, OverflowError, InvalidOperation):
        raise StepFailed(
            "invalid", f"the parameter {name} is no {kind}: {text[:60]!r}", fix="give another value"
        ) from None


def plain(value: object) -> object:
    """A value of a row as one of JSON: numbers exactly, moments in ISO 8601, bytes in hexadecimal, what has no form of its own as text."""
    if value is None or isinstance(value, bool | int | float | Decimal):
        return str(value) if isinstance(value, float | Decimal) and not _is_finite(value) else value
    if isinstance(value, datetime | date | time):
        return value.isoformat()
    if isinstance(value, timedelta):
        return value.total_seconds()
    if isinstance(value, bytes):
        return value[: _LARGEST_CELL // 2].hex()
    if isinstance(value, list | tuple):
        return [plain(one) for one in value]
    if isinstance(value, asyncpg.Record):
        return {name: plain(one) for name, one in value.items()}
    return str(value)[:_LARGEST_CELL]


def _is_finite(value: float | Decimal) -> bool:
    return value.is_finite() if isinstance(value, Decimal) else value - value == 0


_COLUMNS = """
SELECT n.nspname AS schema, c.relname AS name, c.relkind = 'v' AS view, greatest(c.reltuples, 0)::bigint AS rows,
  obj_description(c.oid, 'pg_class') AS about, a.attname AS field, format_type(a.atttypid, a.atttypmod) AS type,
  NOT a.attnotnull AS empty, col_description(c.oid, a.attnum) AS note,
  EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = c.oid AND i.indisprimary AND a.attnum = ANY (i.indkey)) AS key
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f') AND NOT c.relispartition AND n.nspname = ANY ($1::text[])
  AND has_table_privilege(c.oid, 'SELECT')
ORDER BY n.nspname, c.relname, a.attnum LIMIT 20000
"""


async def tables(stored: Database, at: Surroundings, allowed: Allowed) -> list[TableTold]:
    """The tables that may be read, with their columns. Raises `StepFailed`."""
    async with talking(stored, at, allowed, True) as (connection, reading):
        rows = await connection.fetch(_COLUMNS, list(reading.schemas()))
    found: dict[tuple[str, str], TableTold] = {}
    for row in rows:
        if allowed.holds(row["schema"], row["name"]):
            table = found.setdefault(
                (row["schema"], row["name"]),
                TableTold(row["schema"], row["name"], row["rows"], row["view"], row["about"] or "", []),
            )
            table.columns.append(ColumnTold(row["field"], row["type"], row["empty"], row["key"], row["note"] or ""))
    return list(found.values())
