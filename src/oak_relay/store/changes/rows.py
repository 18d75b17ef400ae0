"""Rows of tables."""

from typing import Any
from uuid import UUID

import asyncpg

from oak_relay.changes import AddRow, DeleteRows, UpsertRow
from oak_relay.document import values
from oak_relay.store import files, rows
from oak_relay.store.changes.base import About, Prepared, makes
from oak_relay.store.ids import new_id
from oak_relay.store.pages import EntryRow


@makes(AddRow)
class Added(Prepared[AddRow]):
    """A row added. It is written by the journal's own statement, many of them together (see `store.journal`), so what it
    gives is known beforehand."""

    hints = ("rows",)

    def __init__(self, wanted: AddRow, about: About) -> None:
        self.table, self.id = wanted.table, new_id()
        self.text, stored = values.copied(wanted.row)
        name = str(self.id)
        self.output = {"id": name, "row": stored}
        self.output_text = f'{{"id":"{name}","row":{self.text}}}'

    @staticmethod
    def pretended(wanted: Any) -> object:
        return {"id": "tried", "row": wanted.row, "created": True}

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        return self.output


_UPSERT = """
WITH target AS (
  SELECT id FROM table_row WHERE workspace_id = $1 AND table_id = $2::uuid AND searched AND data @> $3::text::jsonb ORDER BY id LIMIT 1
), changed AS (
  UPDATE table_row t SET data = t.data || $4::text::jsonb, updated_at = now() FROM target
  WHERE t.workspace_id = $1 AND t.table_id = $2::uuid AND t.id = target.id RETURNING t.id, t.data
), added AS (
  INSERT INTO table_row (workspace_id, table_id, id, data, searched)
  SELECT $1, $2::uuid, $5, $4::text::jsonb, true WHERE NOT EXISTS (SELECT FROM target) RETURNING id, data
), written AS (
  SELECT id, data, false AS created FROM changed UNION ALL SELECT id, data, true FROM added
), told AS (
  INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth)
  SELECT $1, $6::uuid, 'table', $2::uuid::text, '/tables/' || d.name, $6::uuid::text, jsonb_build_object('change',
    CASE WHEN w.created THEN 'insert' ELSE 'update' END, 'table', d.name, 'id', w.id, 'row', w.data)::text, $7
  FROM written w, table_def d WHERE d.workspace_id = $1 AND d.id = $2::uuid AND EXISTS (
    SELECT FROM trigger t WHERE t.workspace_id = $1 AND t.way = 'table' AND t.topic = $2::uuid::text)
)
SELECT id, data::text AS data, created FROM written
"""


class _Searching(Prepared[Any]):
    hints = ("rows",)
    table: UUID

    async def before(self, connection: asyncpg.Connection, workspace: int) -> None:
        await rows.search(connection, workspace, self.table)


@makes(UpsertRow)
class Upserted(_Searching):
    def __init__(self, wanted: UpsertRow, about: About) -> None:
        self.table = wanted.table
        self.match = values.dumps({column: wanted.row[column] for column in wanted.match})
        self.key = values.dumps([wanted.row[column] for column in wanted.match])
        self.text = values.dumps(wanted.row)

    @staticmethod
    def pretended(wanted: Any) -> object:
        return {"id": "tried", "row": wanted.row, "created": True}

    def lock(self) -> str:
        return f"{self.table}|{self.key}"

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        found = await connection.fetchrow(
            _UPSERT, workspace, self.table, self.match, self.text, new_id(), new_id(), row.depth
        )
        rows_now = [(found["id"], found["data"])]
        await files.hold_for_rows(connection, workspace, self.table, rows_now, not found["created"])
        return {"id": str(found["id"]), "row": values.loads(found["data"]), "created": found["created"]}


_DELETE = """
WITH gone AS (
  DELETE FROM table_row WHERE workspace_id = $1 AND table_id = $2::uuid AND searched AND data @> $3::text::jsonb
  RETURNING id, data
)
SELECT id, data::text AS data FROM gone ORDER BY id
"""


@makes(DeleteRows)
class Deleted(_Searching):
    def __init__(self, wanted: DeleteRows, about: About) -> None:
        self.table, self.match = wanted.table, values.dumps(wanted.match)

    @staticmethod
    def pretended(wanted: object) -> object:
        return {"count": 0, "rows": []}

    def lock(self) -> str:
        return f"{self.table}|delete"

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        found = await connection.fetch(_DELETE, workspace, self.table, self.match)
        gone = [(r["id"], r["data"]) for r in found]
        await rows.tell(connection, workspace, self.table, "delete", gone, row.depth)
        return {"count": len(found), "rows": [values.loads(r["data"]) for r in found]}
