"""Runs that a run starts, and what it wants no longer."""

from dataclasses import asdict

import asyncpg

from oak_relay.changes import StartRun, TakeBack
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.store import artifacts, cancelling, published
from oak_relay.store.changes.base import About, Prepared, makes
from oak_relay.store.ids import new_id
from oak_relay.store.pages import EntryRow

_CHILD = """
WITH child AS (
  SELECT w.id AS workflow_id, v.id AS version_id, v.revision, w.settings
  FROM workflow w JOIN version v ON v.workspace_id = w.workspace_id AND v.workflow_id = w.id
  WHERE v.workspace_id = $1 AND v.id = $2
), event AS (
  INSERT INTO event (workspace_id, id, event_key, source, type, body, meta)
  SELECT $1, $3, $4, $5, $6, $7, '{"headers":{},"query":{}}' FROM child
), run AS (
  INSERT INTO run (workspace_id, id, workflow_id, version_id, event_id, trigger_name, kind, parent_id, parent_path,
    depth, money_limit, subject, settings, trace_parent)
  SELECT $1, $8, c.workflow_id, c.version_id, $3, $9, $10, $11, $12, $13, $14::text::numeric,
    p.subject, CASE WHEN $10 <> 'part' THEN nullif(c.settings, '{}') ELSE p.settings END, p.trace_parent
  FROM child c, run p WHERE p.workspace_id = $1 AND p.id = $11
), queued AS (
  INSERT INTO queue (workspace_id, run_id, workflow_id, revision) SELECT $1, $8, workflow_id, revision FROM child
)
SELECT workflow_id FROM child
"""
# Which version of a workflow a run starts is settled when it first starts one; the parts of its lists are itself.
_PIN = """
WITH RECURSIVE up AS (
  SELECT id, parent_id, kind FROM run WHERE workspace_id = $1 AND id = $2
  UNION ALL SELECT r.id, r.parent_id, r.kind FROM up CROSS JOIN LATERAL (
    SELECT id, parent_id, kind FROM run WHERE workspace_id = $1 AND id = up.parent_id OFFSET 0) AS r WHERE up.kind = 'part'
)
INSERT INTO pin (workspace_id, run_id, kind, name, version_id)
SELECT $1, up.id, 'workflow', $3, v.id
FROM up, workflow w CROSS JOIN LATERAL (
  SELECT id, number FROM version WHERE workspace_id = $1 AND workflow_id = w.id AND number <= coalesce(w.on_version, 2147483647)
  ORDER BY number DESC LIMIT 1) AS v
WHERE up.kind <> 'part' AND w.workspace_id = $1 AND w.name = $3 AND v.number = coalesce(w.on_version, v.number)
ON CONFLICT (workspace_id, run_id, kind, name) DO UPDATE SET version_id = pin.version_id RETURNING version_id
"""


@makes(StartRun)
class Started(Prepared[StartRun]):
    hints = ("queue",)

    def __init__(self, wanted: StartRun, about: About) -> None:
        self.wanted, self.run_id, self.event_id = wanted, new_id(), new_id()
        self.version_id = about.version_id if wanted.part else None
        given = wanted.input if wanted.part is None else {"part": asdict(wanted.part), "input": wanted.input}
        self.text = values.dumps(given)
        self.money = None if wanted.money is None else f"{wanted.money:.9f}"

    @staticmethod
    def pretended(wanted: object) -> object:
        message = "a try starts no other run"
        return {"fault": StepFailed("cancelled", message, fix="try the other workflow by itself").as_data()}

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        wanted, version = self.wanted, self.version_id
        depth = row.depth if wanted.part is None else row.depth - 1
        if depth > published.DEEPEST:
            return {"fault": published.too_deep()}
        if version is None:
            version = await connection.fetchval(_PIN, workspace, row.run_id, wanted.workflow)
        pile = artifacts.Pile()
        text = pile.place(self.event_id, self.text)
        if pile:
            await pile.write(connection, workspace)
        found = await connection.fetchval(
            _CHILD,
            workspace,
            version,
            self.event_id,
            f"{row.run_id}:{row.path}",
            f"/runs/{row.run_id}",
            "oak.part" if wanted.part else "oak.child",
            text,
            self.run_id,
            wanted.path.rpartition(".")[2],
            "part" if wanted.part else ("child" if wanted.waited else "run"),
            row.run_id,
            wanted.path,
            depth,
            self.money,
        )
        if found is None:
            message = f"there is no workflow {wanted.workflow}"
            return {"fault": StepFailed("missing", message, fix="save it first").as_data()}
        return {"run": str(self.run_id)}


@makes(TakeBack)
class TakenBack(Prepared[TakeBack]):
    hints = ("queue",)

    def __init__(self, wanted: TakeBack, about: About) -> None:
        self.prefix = wanted.prefix

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        await cancelling.take_back(connection, workspace, [row.run_id], self.prefix)
        return {}
