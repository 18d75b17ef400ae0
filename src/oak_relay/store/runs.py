"""Runs and what happened in them."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any, Literal
from uuid import UUID

import asyncpg
from sqlalchemy import ColumnElement, Select, Text, bindparam, case, cast, exists, func, select, text
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.engine.paths import is_below, scope_of
from oak_relay.store import artifacts, cancelling, ending, pages
from oak_relay.store.database import raw
from oak_relay.store.history import first_id
from oak_relay.store.pages import Stored
from oak_relay.store.tables import event, failure, journal, listener, queue, run, version, worker, workflow

CANCELLED = {"kind": "cancelled", "message": "the run was cancelled", "reached": "no"}
_CLOCKS = timedelta(seconds=30)
_PAGES = 500
"""Pages of a journal that are read at once."""
_MENDED = failure.alias("mended")
OVER = ("succeeded", "failed", "cancelled", "set aside")


_RESTS = (queue.c.walks > 0) & (queue.c.ready_at > func.clock_timestamp())
_STANDING = {
    "running": queue.c.worker_id.is_not(None),
    "waiting": queue.c.worker_id.is_(None) & _RESTS,
    "queued": queue.c.worker_id.is_(None) & ~_RESTS,
}
"""A run that no worker has is at rest, or it may be claimed (or has never been)."""


@lru_cache(maxsize=16)
def _runs(workspace: int) -> Select[object]:
    """Runs with their workflow and version; where a run that is not over stands follows from the queue."""
    open_ = case((_STANDING["running"], "running"), (_STANDING["waiting"], "waiting"), else_="queued")
    columns = [column for column in run.c if column.name not in ("state", "started_at")]
    mended = select(_MENDED.c.mended_by).where(
        _MENDED.c.workspace_id == run.c.workspace_id, _MENDED.c.run_id == run.c.id
    )
    return (
        select(
            *columns,
            func.coalesce(run.c.state, open_).label("state"),
            func.coalesce(run.c.started_at, queue.c.started_at).label("started_at"),
            workflow.c.name.label("workflow"),
            version.c.number.label("version"),
            case((run.c.state != "succeeded", mended.scalar_subquery())).label("mended_by"),
        )
        .select_from(run)
        .join(workflow, (workflow.c.workspace_id == run.c.workspace_id) & (workflow.c.id == run.c.workflow_id))
        .join(version, (version.c.workspace_id == run.c.workspace_id) & (version.c.id == run.c.version_id))
        .outerjoin(queue, (queue.c.workspace_id == run.c.workspace_id) & (queue.c.run_id == run.c.id))
        .where(run.c.workspace_id == workspace)
    )


def _ways(
    query: Select[object], states: list[str] | None, error_kind: str | None, mended: bool | None
) -> Iterator[tuple[Select[object], Any]]:
    """The runs of states and of a kind of error, each where it is quickly found, with the column that orders it."""
    failed = query.join(failure, (failure.c.workspace_id == run.c.workspace_id) & (failure.c.run_id == run.c.id))
    if mended is not None:
        failed = failed.where(failure.c.mended_by.is_not(None) if mended else failure.c.mended_by.is_(None))
    if error_kind:
        mine = failed.where(failure.c.error_kind == error_kind)
        yield (mine.where(failure.c.state.in_(states)) if states else mine), failure.c.run_id
    elif not states and mended:
        yield failed, failure.c.run_id
    elif not states:
        yield (query if mended is None else query.where(~_mended_exists())), run.c.id
    for state in {*states} if states and not error_kind else ():
        if state in _STANDING:
            yield query.where(queue.c.workspace_id == run.c.workspace_id, _STANDING[state]), queue.c.run_id
        elif state == "succeeded":
            yield query.where(run.c.state == state), run.c.id
        else:
            yield failed.where(failure.c.state == state), failure.c.run_id


def _mended_exists() -> ColumnElement[bool]:
    return exists().where(
        _MENDED.c.workspace_id == run.c.workspace_id, _MENDED.c.run_id == run.c.id, _MENDED.c.mended_by.is_not(None)
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
    mended: bool | None = None,
    part_of_id: str | None = None,
) -> list[Any]:
    """Runs, newest first, behind the one named `after`; `mended` with or without failures that another run mended. The parts of long lists only with their `parent`."""
    query = (
        _runs(workspace).where(run.c.parent_id == parent) if parent else _runs(workspace).where(run.c.kind != "part")
    )
    if origin:
        query = query.where(run.c.origin_id == origin)
    if held:
        query = query.where(queue.c.held == "restore")
    if workflow_id:
        query = query.where(run.c.workflow_id == workflow_id)
    if subject:
        query = query.where(run.c.subject == subject)
    if part_of_id:
        query = query.where(cast(run.c.id, Text).contains(part_of_id.lower(), autoescape=True))
    if since:
        query = query.where(run.c.created_at >= since)
    if until:
        query = query.where(run.c.created_at < until)
    found: list[Any] = []
    for way, key in _ways(query, states, error_kind, mended):
        if since:  # ids hold their time, so that the index bounds the search; clocks may differ a little
            way = way.where(key >= first_id(since - _CLOCKS))
        if until:
            way = way.where(key < first_id(until + _CLOCKS))
        if after:
            way = way.where(key < after)
        found += await connection.execute(way.order_by(key.desc()).limit(limit))
    return sorted(found, key=lambda row: row.id, reverse=True)[:limit]


async def some(connection: AsyncConnection, workspace: int, ids: list[UUID]) -> list[Any]:
    """These runs, newest first."""
    return list(await connection.execute(_runs(workspace).where(run.c.id.in_(ids)).order_by(run.c.id.desc())))


async def of_workflows(connection: AsyncConnection, workspace: int, ids: list[UUID], limit: int) -> list[Any]:
    """The last runs of some workflows, newest first."""
    mine = _runs(workspace).where(run.c.workflow_id.in_(ids), run.c.kind != "part")
    return list(await connection.execute(mine.order_by(run.c.id.desc()).limit(limit)))


@lru_cache(maxsize=16)
def _one(workspace: int) -> Select[object]:
    """The run of an id, with its event."""
    query = _runs(workspace).add_columns(
        event.c.event_key, event.c.source, event.c.type, event.c.body, event.c.meta, event.c.at.label("event_at")
    )
    query = query.join(event, (event.c.workspace_id == run.c.workspace_id) & (event.c.id == run.c.event_id))
    return query.where(run.c.id == bindparam("run_id"))


async def one(connection: AsyncConnection, workspace: int, run_id: UUID) -> Any | None:
    """One run with its event."""
    return (await connection.execute(_one(workspace), {"run_id": run_id})).first()


@dataclass(frozen=True, slots=True)
class Outcome:
    """How a run stands for who waits for it. `state`: how it ended, None while it has not; `answer`, `error`: JSON texts;
    `result`: a JSON text or a reference to one (see `artifacts`)."""

    state: str | None
    answer: str | None
    result: str | None
    error: str | None


_OUTCOMES = """
SELECT r.* FROM unnest($2::uuid[]) AS g(id) CROSS JOIN LATERAL (
  SELECT id, state, answer, result, error FROM run WHERE workspace_id = $1 AND id = g.id OFFSET 0) AS r
"""


async def outcomes(connection: asyncpg.Connection, workspace: int, ids: list[UUID]) -> dict[UUID, Outcome]:
    """How these runs stand; without those that are not there."""
    found = await connection.fetch(_OUTCOMES, workspace, ids)
    return {row["id"]: Outcome(row["state"], row["answer"], row["result"], row["error"]) for row in found}


async def entries(
    connection: AsyncConnection,
    workspace: int,
    run_id: UUID,
    after: int = -1,
    limit: int = 100_000,
    under: str | None = None,
) -> list[Stored]:
    """The journal of a run, as it may be shown, behind the entry `after`; with `under` only what lies there."""
    first = max(0, (after + 1) // pages.MOST)
    query = (
        select(*(journal.c[name] for name in ("page", "scope", "worker_id", "entries", "details")))
        .where(journal.c.workspace_id == workspace, journal.c.run_id == run_id)
        .order_by(journal.c.page)
    )
    if under:
        query = query.where((journal.c.scope == scope_of(under)) | func.starts_with(journal.c.scope, under))
    found: list[Stored] = []
    while len(found) < limit:
        rows = list(await connection.execute(query.where(journal.c.page >= first).limit(_PAGES)))
        for row in rows:
            found += (
                e
                for e in pages.entries_of(dict(row._mapping))
                if e.seq > after and (not under or is_below(e.path, under))
            )
        if len(rows) < _PAGES:
            break
        first = rows[-1].page + 1
    return found[:limit]


async def workers(connection: AsyncConnection, workspace: int, run_id: UUID) -> list[str]:
    """The names of the workers that wrote the last pages of a run's journal, the latest first; of those that are known still."""
    last = (
        select(journal.c.page, journal.c.worker_id)
        .where(journal.c.workspace_id == workspace, journal.c.run_id == run_id)
        .order_by(journal.c.page.desc())
        .limit(_PAGES)
        .subquery()
    )
    query = select(worker.c.name).join(last, last.c.worker_id == worker.c.id)
    names = await connection.scalars(query.group_by(worker.c.name).order_by(func.max(last.c.page).desc()))
    return list(names)


async def whole_entries(connection: AsyncConnection, workspace: int, run_id: UUID) -> list[Stored]:
    """The journal of a run with everything in it, also what is kept apart."""
    found = await entries(connection, workspace, run_id)
    await pages.fill(await raw(connection), workspace, found)
    return found


async def whole(connection: AsyncConnection, workspace: int, text: str | None) -> str | None:
    """A text of a row, also where it is kept apart."""
    if text is None or artifacts.reference(text) is None:
        return text
    return (await artifacts.whole(await raw(connection), workspace, [text]))[text]


async def place(connection: AsyncConnection, workspace: int, run_id: UUID) -> object | None:
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


async def cancel(connection: AsyncConnection, workspace: int, run_id: UUID) -> Literal["cancelled", "asked", "over"]:
    """Cancel a run and its children: `cancelled` at once when it had not begun, else `asked`; `over` when it has
    ended."""
    mine = (queue.c.workspace_id == workspace) & (queue.c.run_id == run_id)
    place = (await connection.execute(select(queue.c.worker_id, queue.c.walks).where(mine).with_for_update())).first()
    if place is None:
        return "over"
    direct = await raw(connection)
    if place.worker_id is None and place.walks == 0:
        await ending.finish(direct, workspace, run_id, "cancelled", CANCELLED)
        return "cancelled"
    await cancelling.mark_cancelled(direct, workspace, [run_id])
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


async def waiting_for(connection: AsyncConnection, workspace: int, event_type: str) -> int:
    """How many runs wait for an event of a type."""
    mine = (listener.c.workspace_id == workspace) & (listener.c.type == event_type)
    return int((await connection.execute(select(func.count()).select_from(listener).where(mine))).scalar_one())
