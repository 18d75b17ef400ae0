"""The process in which a file of SQLite is read: what is asked on standard input, the answer on standard output, both as JSON."""

import fnmatch
import resource
import sqlite3
import sys
import time
from typing import Any

from oak_relay.actions.sql.guard import FUNCTIONS
from oak_relay.jsontext import dumps, loads

MEMORY = 800_000_000
_BYTES = 4_000_000
_KNOWN = frozenset(
    [
        "count",
        "sum",
        "avg",
        "min",
        "max",
        "lower",
        "upper",
        "coalesce",
        "cast",
        "like",
        "nullif",
        "substr",
        "trim",
        "ltrim",
        "rtrim",
        "typeof",
    ]
)


def main() -> None:
    """Read one file within the limits."""
    asked = loads(sys.stdin.buffer.read())
    seconds = min(60, max(1, int(asked["seconds"])))
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (seconds + 2, seconds + 2))
    connection = sqlite3.connect(f"file:{sys.argv[1]}?mode=ro&immutable=1", uri=True)
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        answer = _described(connection, asked) if asked.get("describe") else _rows(connection, asked, seconds)
    except sqlite3.DatabaseError as error:
        said = str(error)[:200]
        kind = (
            "denied"
            if "prohibited" in said or "not authorized" in said or "readonly" in said
            else "timeout"
            if "interrupted" in said
            else "invalid"
        )
        answer = {"kind": kind, "message": f"the database does not take it: {said}"}
    except (MemoryError, ValueError, OverflowError) as error:
        answer = {"kind": "too_long", "message": f"the rows are more than may be read: {str(error)[:100]}"}
    sys.stdout.buffer.write(dumps(answer).encode())


def _allowed(name: str, patterns: list[str]) -> bool:
    return not patterns or any(fnmatch.fnmatchcase(name, one.removeprefix("main.")) for one in patterns)


def _rows(connection: sqlite3.Connection, asked: dict[str, Any], seconds: int) -> dict[str, object]:
    views = {str(row[0]) for row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'view'")}
    patterns, ends = asked["tables"], time.monotonic() + seconds

    def may(action: int, one: str | None, two: str | None, _: str | None, by: str | None) -> int:
        """What the library is about to do."""
        if action in (sqlite3.SQLITE_SELECT, sqlite3.SQLITE_RECURSIVE):
            return sqlite3.SQLITE_OK
        if action == sqlite3.SQLITE_READ:
            named = str(one)
            own = _allowed(named, patterns) and not named.lower().startswith("sqlite_")
            through = by is not None and by in views and _allowed(by, patterns)
            return sqlite3.SQLITE_OK if own or through or not named else sqlite3.SQLITE_DENY
        if action == sqlite3.SQLITE_FUNCTION:
            fine = str(two).lower() in FUNCTIONS or str(two).lower() in _KNOWN
            return sqlite3.SQLITE_OK if fine else sqlite3.SQLITE_DENY
        return sqlite3.SQLITE_DENY

    connection.set_progress_handler(lambda: int(time.monotonic() > ends), 10_000)
    connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _BYTES)
    connection.set_authorizer(may)
    given = {
        name: value if isinstance(value, str | int | float | type(None)) else dumps(value)
        for name, value in asked["params"].items()
    }
    cursor = connection.execute(asked["sql"], given)
    names = [str(one[0]) for one in cursor.description or ()]
    rows: list[dict[str, object]] = []
    size = 0
    for row in cursor:
        if len(rows) >= asked["limit"]:
            return {"rows": rows, "more": True}
        told = {
            name: value.hex() if isinstance(value, bytes) else value for name, value in zip(names, row, strict=True)
        }
        size += len(dumps(told))
        if size > _BYTES:
            raise ValueError(f"more than {_BYTES:,} bytes")
        rows.append(told)
    return {"rows": rows, "more": False}


def _described(connection: sqlite3.Connection, asked: dict[str, Any]) -> dict[str, object]:
    found = []
    for name, kind in connection.execute(
        "SELECT name, type FROM sqlite_master WHERE type IN ('table', 'view') ORDER BY name LIMIT 500"
    ).fetchall():
        if _allowed(name, asked["tables"]) and not name.lower().startswith("sqlite_"):
            quoted = '"' + name.replace('"', '""') + '"'
            columns = [
                {"name": row[1], "type": row[2] or "any", "empty": not row[3], "key": bool(row[5])}
                for row in connection.execute(f"PRAGMA table_info({quoted})")
            ]
            rows = connection.execute(f"SELECT count(*) FROM {quoted}").fetchone()[0] if kind == "table" else 0
            found.append({"name": name, "rows": rows, "view": kind == "view", "columns": columns})
    return {"tables": found}


main()
