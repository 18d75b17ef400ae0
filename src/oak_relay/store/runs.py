"""Runs and what happened in them."""

import re
from datetime import datetime, timedelta
from types import SimpleNamespace
from typing import Any
from uuid import UUID

from sqlalchemy import Select, or_, select, text
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.store import artifacts, ending, local
from oak_relay.store.database import raw
from oak_relay.store.history import first_id
from oak_relay.store.tables import event, journal, queue, run, version, workflow

CANCELLED = {"kind": "cancelled", "message": "the run was cancelled", "reached": "no"}
_CLOCKS = timedelta(seconds=30)
OVER = ("succeeded", "failed", "cancelled", "set aside")


def _runs(workspace: int) -> Select[Any]:
    return (
        select(run, workflow.c.name.label("workflow"), version.c.number.label("version"))
        .join(workflow, (workflow.c.workspace_id == run.c.workspace_id) & (workflow.c.id == run.c.workflow_id))
        .join(version, (version.c.workspace_id == run.c.workspace_id) & (version.c.id == run.c.version_id))
        .where(run.c.workspace_id == workspace)
    )


async def find(
    connection: AsyncConnection,
    workspace: int,
    *,
    workflow_id: UUID | None = None,
    states: list[str] | None = None,
    subject: str | None = None,
    error_kind: str | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
    after: UUID | None = None,
    limit: int = 50,
    parent: UUID | None = None,
    origin: UUID | None = None,
    held: bool = False,
) -> list[Any]:
    """Runs, newest first, behind the one named `after`. The parts of long lists only with their `parent`."""
    query = (
        _runs(workspace).where(run.c.parent_id == parent) if parent else _runs(workspace).where(run.c.kind != "part")
    )
    if origin:
        query = query.where(run.c.origin_id == origin)
    if held:
        kept = (queue.c.workspace_id == workspace) & (queue.c.held == "restore")
        query = query.where(run.c.id.in_(select(queue.c.run_id).where(kept)))
    if workflow_id:
        query = query.where(run.c.workflow_id == workflow_id)
    if states:
        query = query.where(run.c.state.in_(states))
    if subject:
        query = query.where(run.c.subject == subject)
    if error_kind:
        query = query.where(run.c.error_kind == error_kind)
    if since:  # ids hold their time, so that the index bounds the search; clocks may differ a little
        query = query.where(run.c.created_at >= since, run.c.id >= first_id(since - _CLOCKS))
    if until:
        query = query.where(run.c.created_at < until, run.c.id < first_id(until + _CLOCKS))
    if after:
        query = query.where(run.c.id < after)
    return list(await connection.execute(query.order_by(run.c.id.desc()).limit(limit)))


async def some(connection: AsyncConnection, workspace: int, ids: list[UUID]) -> list[Any]:
    """These runs, newest first."""
    return list(await connection.execute(_runs(workspace).where(run.c.id.in_(ids)).order_by(run.c.id.desc())))


async def one(connection: AsyncConnection, workspace: int, run_id: UUID) -> Any | None:
    """One run with its event."""
    query = _runs(workspace).add_columns(
        event.c.event_key, event.c.source, event.c.type, event.c.body, event.c.meta, event.c.at.label("event_at")
    )
    query = query.join(event, (event.c.workspace_id == run.c.workspace_id) & (event.c.id == run.c.event_id))
    return (await connection.execute(query.where(run.c.id == run_id))).first()


async def entries(
    connection: AsyncConnection,
    workspace: int,
    run_id: UUID,
    after: int = -1,
    limit: int = 100_000,
    under: str | None = None,
) -> list[Any]:
    """The journal of a run, as it may be shown, behind the entry `after`; with `under` only what lies there."""
    query = select(journal).where(
        journal.c.workspace_id == workspace, journal.c.run_id == run_id, journal.c.seq > after
    )
    if under:
        inside = [
            journal.c.path.startswith(f"{under}{mark}", autoescape=True) for mark in (".", "[", "#", "!", "~", "/")
        ]
        query = query.where(or_(journal.c.path == under, *inside))
    return list(await connection.execute(query.order_by(journal.c.seq).limit(limit)))


async def whole_entries(connection: AsyncConnection, workspace: int, run_id: UUID) -> list[Any]:
    """The journal of a run with everything in it, also what is kept apart."""
    rows = await entries(connection, workspace, run_id)
    apart = await artifacts.whole(
        await raw(connection), workspace, (text for row in rows for text in (row.body, row.detail))
    )
    return [SimpleNamespace(**artifacts.filled(row._mapping, apart, "body", "detail")) for row in rows]


async def whole(connection: AsyncConnection, workspace: int, text: str | None) -> str | None:
    """A text of a row, also where it is kept apart."""
    if text is None or artifacts.reference(text) is None:
        return text
    return (await artifacts.whole(await raw(connection), workspace, [text]))[text]


async def part_of(connection: AsyncConnection, workspace: int, run_id: UUID, path: str) -> UUID | None:
    """The part of a run's long list that an item stands in: `list[137]` in `list[100:200]`."""
    found = re.match(r"^(.*)\[(\d+)\]", path)
    if found is None:
        return None
    query = select(run.c.id, run.c.parent_path).where(
        run.c.workspace_id == workspace, run.c.parent_id == run_id, run.c.kind == "part"
    )
    for row in await connection.execute(query.where(run.c.parent_path.startswith(f"{found[1]}[", autoescape=True))):
        bounds = re.search(r"\[(\d+):(\d+)\]$", row.parent_path)
        if bounds and int(bounds[1]) <= int(found[2]) < int(bounds[2]):
            return row.id
    return None


async def place(connection: AsyncConnection, workspace: int, run_id: UUID) -> Any | None:
    """Where a run stands in the queue: its row, what is before it, its next wake, and what it waits for."""
    statement = text("""
        SELECT q.*, w.name AS worker, w.lease_until, q.ready_at > clock_timestamp() AS later, f.at_once,
          (SELECT count(*) FROM queue o WHERE o.worker_id IS NULL AND o.ready_at < q.ready_at AND o.workflow_id = q.workflow_id) AS before,
          (SELECT count(*) FROM queue o WHERE o.worker_id IS NOT NULL AND o.workflow_id = q.workflow_id) AS walked,
          (SELECT count(*) FROM queue o WHERE o.workspace_id = q.workspace_id AND o.workflow_id = q.workflow_id
            AND o.lane = q.lane AND o.place < q.place) AS ahead,
          (SELECT count(*) FROM worker WHERE role = 'work' AND dead_at IS NULL AND lease_until > clock_timestamp()) AS workers,
          (SELECT count(*) FROM run c WHERE c.workspace_id = q.workspace_id AND c.parent_id = q.run_id
            AND c.kind <> 'run' AND c.ended_at IS NULL) AS children,
          (SELECT type FROM listener l WHERE l.workspace_id = q.workspace_id AND l.run_id = q.run_id LIMIT 1) AS listening,
          (SELECT path FROM wake WHERE workspace_id = q.workspace_id AND run_id = q.run_id ORDER BY at LIMIT 1) AS path
        FROM queue q LEFT JOIN worker w ON w.id = q.worker_id
        JOIN workflow f ON f.workspace_id = q.workspace_id AND f.id = q.workflow_id
        WHERE q.workspace_id = :workspace AND q.run_id = :run
    """)
    return (await connection.execute(statement, {"workspace": workspace, "run": run_id})).first()


async def cancel(connection: AsyncConnection, workspace: int, run_id: UUID) -> str:
    """Cancel a run and its children: `cancelled` at once when it had not begun, else `asked`; `over` when it has
    ended."""
    mine = (queue.c.workspace_id == workspace) & (queue.c.run_id == run_id)
    held = (await connection.execute(select(queue.c.worker_id, queue.c.walks).where(mine).with_for_update())).first()
    if held is None:
        return "over"
    direct = await raw(connection)
    if held.worker_id is None and held.walks == 0:
        await ending.finish(direct, workspace, run_id, "cancelled", CANCELLED)
        return "cancelled"
    await local.mark_cancelled(direct, workspace, [run_id])
    return "asked"


async def events(connection: AsyncConnection, workspace: int, after: UUID | None, limit: int) -> list[Any]:
    """Events, newest first, each with its run."""
    query = (
        select(event, run.c.id.label("run_id"), run.c.trigger_name, workflow.c.name.label("workflow"))
        .join(run, (run.c.workspace_id == event.c.workspace_id) & (run.c.event_id == event.c.id))
        .join(workflow, (workflow.c.workspace_id == run.c.workspace_id) & (workflow.c.id == run.c.workflow_id))
        .where(event.c.workspace_id == workspace)
    )
    if after:
        query = query.where(event.c.id < after)
    return list(await connection.execute(query.order_by(event.c.id.desc()).limit(limit)))
