"""Files that are kept here: their bytes in pieces, once for all that are the same within a workspace (SHA-256).

A file comes piece by piece, each a commit of its own, and is there with the last of them: until then nobody sees it, and
what never comes to its end is swept. Room is taken before bytes are written. What runs were given and gave refers to
files by their ids (`refer`); a file that two sweeps a day apart found alone goes, under the lock that who refers takes.
"""

import hashlib
import re
from collections.abc import AsyncIterator, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

import asyncpg

from oak_relay.store.database import Database
from oak_relay.store.ids import new_id

PIECE = 256 * 1024
"""Bytes of a piece."""
_AHEAD = 16 * PIECE
"""Bytes of room that are taken at once for a file whose size nobody told."""
_NAMED = re.compile(r'(?:"file": ?"|oak-file:)([0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12})[";]')
_SEEN = ("id", "size", "name", "type", "digest", "whole_at")
_BATCH = 100
NEVER_COMES = 3600.0
"""Seconds after its last piece in which a file that is not whole is given up."""
DAY = 86_400.0


class NoRoom(Exception):
    """The workspace has no room left for it."""


class TooLarge(Exception):
    """It has more bytes than one file may."""


class Gone(Exception):
    """It was swept while it was used."""


@dataclass(frozen=True, slots=True)
class Stored:
    """A file that is whole; `name` and `type` as it came first."""

    id: UUID
    size: int
    name: str
    type: str
    digest: bytes
    whole_at: datetime


@dataclass(frozen=True, slots=True)
class Bounds:
    """Bytes that one file, and all of a workspace, may have."""

    one: int
    all: int


class Arriving:
    """A file that is coming in. `take` what comes, then `keep` it, or `leave` it; not both."""

    def __init__(self, database: Database, workspace: int, bounds: Bounds) -> None:
        self._database, self._workspace, self._bounds = database, workspace, bounds
        self._id = new_id()
        self._waiting = bytearray()
        self._pieces = 0
        self._digest = hashlib.sha256()
        self.size = 0
        """Bytes that came so far."""

    async def begin(self, announced: int | None = None) -> None:
        """Take room for as many bytes as were announced. Raises `TooLarge` and `NoRoom`, before anything is kept."""
        if announced is not None and announced > self._bounds.one:
            raise TooLarge
        async with self._database.reading() as connection, connection.transaction():
            await connection.execute(
                "INSERT INTO file_room (workspace_id) VALUES ($1) ON CONFLICT DO NOTHING", self._workspace
            )
            await connection.execute("INSERT INTO file (workspace_id, id) VALUES ($1, $2)", self._workspace, self._id)
            there = not announced or await self._room(connection, announced)
        if not there:
            await self.leave()
            raise NoRoom

    async def take(self, data: bytes) -> None:
        """Bytes that follow. Raises `TooLarge`, `NoRoom`, and `Gone` when it was given up meanwhile."""
        self.size += len(data)
        if self.size > self._bounds.one:
            raise TooLarge
        self._digest.update(data)
        self._waiting += data
        while len(self._waiting) >= PIECE:
            piece = bytes(self._waiting[:PIECE])
            del self._waiting[:PIECE]
            await self._write(piece)

    async def keep(self, name: str, type: str) -> Stored:
        """It is whole: from now on it is there, as the one that has the same bytes where there is one already. Raises what
        `take` raises."""
        if self._waiting:
            await self._write(bytes(self._waiting))
            self._waiting.clear()
        digest = self._digest.digest()
        for _ in range(5):
            async with self._database.reading() as connection:
                try:
                    async with connection.transaction():
                        found = await self._same(connection, digest) or await self._whole(
                            connection, digest, name, type
                        )
                except asyncpg.UniqueViolationError:
                    continue  # the same bytes came to their end in this moment
            if found is None:
                raise Gone
            return found
        raise Gone

    async def leave(self) -> None:
        """Let go of all that came; of one that was kept, nothing."""
        async with self._database.reading() as connection, connection.transaction():
            await _remove(connection, self._workspace, [self._id], "AND whole_at IS NULL")

    async def _write(self, piece: bytes) -> None:
        there = True
        async with self._database.reading() as connection, connection.transaction():
            row = await connection.fetchrow(
                "UPDATE file SET size = size + $3, grown_at = clock_timestamp() "
                "WHERE workspace_id = $1 AND id = $2 AND whole_at IS NULL RETURNING size, room",
                self._workspace,
                self._id,
                len(piece),
            )
            if row is not None:
                if row["size"] > row["room"]:
                    lacking = row["size"] - row["room"]
                    ahead = len(piece) == PIECE and await self._room(connection, max(_AHEAD, lacking))
                    there = ahead or await self._room(connection, lacking)
                if there:
                    await connection.execute(
                        "INSERT INTO file_piece (workspace_id, file_id, number, data) VALUES ($1, $2, $3, $4)",
                        self._workspace,
                        self._id,
                        self._pieces,
                        piece,
                    )
        if row is None:
            raise Gone
        if not there:
            raise NoRoom
        self._pieces += 1

    async def _room(self, connection: asyncpg.Connection, more: int) -> bool:
        """Take room for so many bytes more, if there is as much."""
        taken = await connection.fetchval(
            "UPDATE file_room SET bytes = bytes + $2 WHERE workspace_id = $1 AND bytes + $2 <= $3 RETURNING true",
            self._workspace,
            more,
            self._bounds.all,
        )
        if taken:
            await connection.execute(
                "UPDATE file SET room = room + $3 WHERE workspace_id = $1 AND id = $2", self._workspace, self._id, more
            )
        return bool(taken)

    async def _same(self, connection: asyncpg.Connection, digest: bytes) -> Stored | None:
        """The file that has these bytes already, from now on as if it had just come; this one is not needed then."""
        row = await connection.fetchrow(
            "UPDATE file SET alone_since = NULL WHERE workspace_id = $1 AND digest = $2 AND whole_at IS NOT NULL "
            f"RETURNING {', '.join(_SEEN)}",
            self._workspace,
            digest,
        )
        if row is None:
            return None
        await _remove(connection, self._workspace, [self._id])
        return Stored(**row)

    async def _whole(self, connection: asyncpg.Connection, digest: bytes, name: str, type: str) -> Stored | None:
        row = await connection.fetchrow(
            "WITH was AS (SELECT room FROM file WHERE workspace_id = $1 AND id = $2), "
            "back AS (UPDATE file_room SET bytes = bytes - (SELECT room FROM was) + $6 WHERE workspace_id = $1) "
            "UPDATE file SET digest = $3, name = $4, type = $5, room = $6, whole_at = clock_timestamp() "
            f"WHERE workspace_id = $1 AND id = $2 AND whole_at IS NULL RETURNING {', '.join(_SEEN)}",
            self._workspace,
            self._id,
            digest,
            name,
            type,
            self.size,
        )
        return None if row is None else Stored(**row)


async def about(connection: asyncpg.Connection, workspace: int, id: UUID) -> Stored | None:
    """A file that is whole; None when there is none."""
    row = await connection.fetchrow(
        f"SELECT {', '.join(_SEEN)} FROM file WHERE workspace_id = $1 AND id = $2 AND whole_at IS NOT NULL",
        workspace,
        id,
    )
    return None if row is None else Stored(**row)


async def listed(connection: asyncpg.Connection, workspace: int, limit: int, before: UUID | None) -> list[Stored]:
    """Files, the newest first."""
    rows = await connection.fetch(
        f"SELECT {', '.join(_SEEN)} FROM file WHERE workspace_id = $1 AND whole_at IS NOT NULL "
        "AND ($3::uuid IS NULL OR id < $3) ORDER BY id DESC LIMIT $2",
        workspace,
        limit,
        before,
    )
    return [Stored(**row) for row in rows]


async def pieces(database: Database, workspace: int, id: UUID, size: int, first: int = 0) -> AsyncIterator[bytes]:
    """The bytes of a file from one on, a piece at a time and no connection held in between. Raises `Gone`."""
    for number in range(first // PIECE, -(-size // PIECE)):
        async with database.reading() as connection:
            data = await connection.fetchval(
                "SELECT data FROM file_piece WHERE workspace_id = $1 AND file_id = $2 AND number = $3",
                workspace,
                id,
                number,
            )
        if data is None:
            raise Gone
        yield data[first % PIECE :] if number == first // PIECE else data


async def used(connection: asyncpg.Connection, workspace: int) -> int:
    """Bytes that all files of a workspace have, those that are coming in too."""
    return int(await connection.fetchval("SELECT bytes FROM file_room WHERE workspace_id = $1", workspace) or 0)


def named(text: str) -> set[UUID]:
    """The files that JSON text refers to, canonical or as the database writes it."""
    return {UUID(found) for found in _NAMED.findall(text)} if '"file":' in text or "oak-file:" in text else set()


async def refer(connection: asyncpg.Connection, workspace: int, references: Iterable[tuple[UUID, UUID]]) -> None:
    """Note that runs (the first of each pair) hold files; in the transaction that writes what holds them. What is no file
    that is there is left out: a stranger may write any id."""
    wanted = sorted(set(references))
    if not wanted:
        return
    kept = await _there(connection, workspace, wanted)
    await connection.execute(
        "INSERT INTO file_reference (workspace_id, owner, file_id) SELECT $1, u.* FROM unnest($2::uuid[], $3::uuid[]) AS u "
        "ON CONFLICT DO NOTHING",
        workspace,
        [owner for owner, _ in kept],
        [file for _, file in kept],
    )


async def hold_for_rows(
    connection: asyncpg.Connection,
    workspace: int,
    table_id: UUID,
    rows: Sequence[tuple[UUID, str]],
    before: bool = False,
) -> None:
    """Note that rows of a table, each with its id and JSON text, hold files, and where they were there `before` no longer those
    that they held; in the transaction that writes them."""
    wanted = sorted({(row, file) for row, text in rows for file in named(text)})
    if before:
        await connection.execute(
            "DELETE FROM file_of_row WHERE workspace_id = $1 AND table_id = $2 AND row_id = ANY($3::uuid[])",
            workspace,
            table_id,
            sorted({row for row, _ in rows}),
        )
    if not wanted:
        return
    kept = await _there(connection, workspace, wanted)
    await connection.execute(
        "INSERT INTO file_of_row (workspace_id, table_id, row_id, file_id) "
        "SELECT $1, $2, u.* FROM unnest($3::uuid[], $4::uuid[]) AS u ON CONFLICT DO NOTHING",
        workspace,
        table_id,
        [row for row, _ in kept],
        [file for _, file in kept],
    )


async def hold_for_sample(connection: asyncpg.Connection, workspace: int, sample_id: UUID, text: str) -> None:
    """Note that a sample of this JSON text holds files, and no longer those of before; in the transaction that writes it."""
    await connection.execute(
        "DELETE FROM file_of_sample WHERE workspace_id = $1 AND sample_id = $2", workspace, sample_id
    )
    kept = await _there(connection, workspace, sorted((sample_id, file) for file in named(text)))
    await connection.execute(
        "INSERT INTO file_of_sample (workspace_id, sample_id, file_id) SELECT $1, $2, unnest($3::uuid[])",
        workspace,
        sample_id,
        [file for _, file in kept],
    )


async def _there(
    connection: asyncpg.Connection, workspace: int, pairs: Sequence[tuple[UUID, UUID]]
) -> list[tuple[UUID, UUID]]:
    """Those of the pairs whose file is there, and stays until the transaction ends."""
    rows = await connection.fetch(
        "SELECT id FROM file WHERE workspace_id = $1 AND id = ANY($2::uuid[]) AND whole_at IS NOT NULL "
        "ORDER BY id FOR KEY SHARE",
        workspace,
        sorted({file for _, file in pairs}),
    )
    ids = {row["id"] for row in rows}
    return [pair for pair in pairs if pair[1] in ids]


async def owners(connection: asyncpg.Connection, workspace: int, id: UUID, limit: int) -> list[UUID]:
    """Runs that refer to a file, the latest first."""
    rows = await connection.fetch(
        "SELECT owner FROM file_reference WHERE workspace_id = $1 AND file_id = $2 ORDER BY owner DESC LIMIT $3",
        workspace,
        id,
        limit,
    )
    return [row["owner"] for row in rows]


async def rows_holding(connection: asyncpg.Connection, workspace: int, id: UUID, limit: int) -> list[asyncpg.Record]:
    """Rows that refer to a file, by their tables: `table` and `row_id`."""
    return await connection.fetch(
        'SELECT t.name AS "table", r.row_id FROM file_of_row r JOIN table_def t ON t.workspace_id = r.workspace_id '
        "AND t.id = r.table_id WHERE r.workspace_id = $1 AND r.file_id = $2 ORDER BY t.name, r.row_id DESC LIMIT $3",
        workspace,
        id,
        limit,
    )


async def samples_holding(connection: asyncpg.Connection, workspace: int, id: UUID, limit: int) -> list[asyncpg.Record]:
    """Samples that refer to a file: the names of `workflow` and `sample`."""
    return await connection.fetch(
        "SELECT w.name AS workflow, s.name AS sample FROM file_of_sample h "
        "JOIN sample s ON s.workspace_id = h.workspace_id AND s.id = h.sample_id "
        "JOIN workflow w ON w.workspace_id = s.workspace_id AND w.id = s.workflow_id "
        "WHERE h.workspace_id = $1 AND h.file_id = $2 ORDER BY w.name, s.name LIMIT $3",
        workspace,
        id,
        limit,
    )


_ALONE = " AND ".join(
    f"NOT EXISTS (SELECT FROM {table} r WHERE r.workspace_id = f.workspace_id AND r.file_id = f.id)"
    for table in ("file_reference", "file_of_row", "file_of_sample")
)


async def sweep(connection: asyncpg.Connection, workspace: int, day: float = DAY, never: float = NEVER_COMES) -> int:
    """One sweep: what never came to its end goes, and what two sweeps a `day` apart found alone; how many went."""
    gone = 0
    async with connection.transaction():
        late = await connection.fetch(
            "SELECT id FROM file WHERE workspace_id = $1 AND whole_at IS NULL "
            "AND grown_at < clock_timestamp() - make_interval(secs => $2) LIMIT $3 FOR UPDATE SKIP LOCKED",
            workspace,
            never,
            _BATCH,
        )
        gone += await _remove(connection, workspace, [row["id"] for row in late])
    await connection.execute(
        f"UPDATE file f SET alone_since = NULL WHERE workspace_id = $1 AND alone_since IS NOT NULL AND NOT ({_ALONE})",
        workspace,
    )
    while True:
        async with connection.transaction():
            rows = await connection.fetch(
                "SELECT id FROM file WHERE workspace_id = $1 AND alone_since < clock_timestamp() - make_interval(secs => $2) "
                "LIMIT $3 FOR UPDATE SKIP LOCKED",
                workspace,
                day,
                _BATCH,
            )
            # Who refers holds a lock until its commit: what is looked up behind the lock is all there is.
            alone = await connection.fetch(
                f"SELECT id FROM file f WHERE workspace_id = $1 AND id = ANY($2::uuid[]) AND {_ALONE}",
                workspace,
                [row["id"] for row in rows],
            )
            gone += await _remove(connection, workspace, [row["id"] for row in alone])
        if len(rows) < _BATCH or not alone:
            break
    await connection.execute(
        f"UPDATE file f SET alone_since = clock_timestamp() WHERE workspace_id = $1 AND whole_at IS NOT NULL "
        f"AND alone_since IS NULL AND {_ALONE}",
        workspace,
    )
    return gone


async def _remove(connection: asyncpg.Connection, workspace: int, ids: Sequence[UUID], of: str = "") -> int:
    """Take files away with their pieces, and give their room back."""
    if not ids:
        return 0
    rows = await connection.fetch(
        f"DELETE FROM file WHERE workspace_id = $1 AND id = ANY($2::uuid[]) {of} RETURNING room", workspace, ids
    )
    await connection.execute(
        "UPDATE file_room SET bytes = bytes - $2 WHERE workspace_id = $1", workspace, sum(row["room"] for row in rows)
    )
    return len(rows)
