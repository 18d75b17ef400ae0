"""How runs went of late: by the hour, and what made them fail."""

from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import case, func, select
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document import values
from oak_relay.store.history import first_id
from oak_relay.store.tables import failure, question, run, workflow

_CLOCKS = timedelta(seconds=30)
CAUSES = 50
_LOOKED_AT = 5000
"""Failures that are looked at, the latest ones."""


async def by_hour(
    connection: AsyncConnection, workspace: int, since: datetime, step: timedelta
) -> list[tuple[datetime, str, int]]:
    """Runs by the time they began, in steps from `since` on, and by how they ended; `open` those that have not."""
    seconds = step.total_seconds()
    place = func.floor(func.extract("epoch", run.c.created_at - since) / seconds)
    state = case((run.c.state == "set aside", "failed"), else_=func.coalesce(run.c.state, "open"))
    query = (
        select(place, state, func.count())
        .where(
            run.c.workspace_id == workspace,
            run.c.id >= first_id(since - _CLOCKS),
            run.c.created_at >= since,
            run.c.kind != "part",
        )
        .group_by(place, state)
    )
    return [(since + step * int(n), how, count) for n, how, count in await connection.execute(query)]


async def causes(connection: AsyncConnection, workspace: int, since: datetime) -> list[dict[str, Any]]:
    """What made runs fail that nobody mended yet: by workflow, kind of error and step, the most frequent first, each with its
    latest run."""
    latest = (
        select(failure.c.run_id)
        .where(
            failure.c.workspace_id == workspace,
            failure.c.state.in_(("failed", "set aside")),
            failure.c.mended_by.is_(None),
            failure.c.run_id >= first_id(since - _CLOCKS),
        )
        .order_by(failure.c.run_id.desc())
        .limit(_LOOKED_AT)
        .subquery()
    )
    query = (
        select(run.c.id, workflow.c.name, run.c.error, run.c.created_at)
        .join(latest, latest.c.run_id == run.c.id)
        .join(workflow, (workflow.c.workspace_id == run.c.workspace_id) & (workflow.c.id == run.c.workflow_id))
        .where(run.c.workspace_id == workspace, run.c.kind != "part")
        .order_by(run.c.id.desc())
    )
    found: dict[tuple[str, str, str], dict[str, Any]] = {}
    for run_id, name, error, at in await connection.execute(query):
        told = values.loads(error) if error else {}
        key = name, str(told.get("kind", "")), _step(str(told.get("step", "")))
        one = found.setdefault(
            key,
            {
                "workflow": key[0],
                "kind": key[1],
                "step": key[2],
                "count": 0,
                "run": run_id,
                "at": at,
                "message": str(told.get("message", "")),
            },
        )
        one["count"] += 1
    return sorted(found.values(), key=lambda one: -one["count"])[:CAUSES]


def _step(path: str) -> str:
    """The step of a path, whichever item or attempt it was."""
    return path.partition("#")[0].partition("~")[0].partition("/")[0].rpartition("]")[2].lstrip(".!") or path


async def waiting(connection: AsyncConnection, workspace: int) -> int:
    """How many questions wait for a person."""
    query = select(func.count()).where(question.c.workspace_id == workspace, question.c.state == "open")
    return int((await connection.scalar(query)) or 0)
