"""Workflows, their versions, and the triggers of those that are on."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from typing import Any, NamedTuple
from uuid import UUID

import asyncpg
from sqlalchemy import delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document import shapes, values
from oak_relay.document.errors import Fault
from oak_relay.document.models import Workflow
from oak_relay.store.ids import new_id
from oak_relay.store.searching import containing
from oak_relay.store.tables import awaited, sample, schedule, table_def, trigger, version, workflow
from oak_relay.store.tags import tag_of
from oak_relay.triggers.standing import Standing


class Changed(Fault):
    """Its latest version, with that number and by that author, is not the one that was expected; 0 when there is none."""

    def __init__(self, latest: int, author: str) -> None:
        super().__init__(f"version {latest}, saved by {author}, is the newest" if latest else "there is none")
        self.latest, self.author = latest, author


class NameTaken(Fault):
    """Another workflow has that name."""


class PathTaken(Fault):
    """Another workflow that is on has this webhook path."""

    def __init__(self, path: str, holder: str) -> None:
        super().__init__(f"/hooks/{path} belongs to the workflow {holder}")
        self.path = path


async def save(
    connection: AsyncConnection,
    workspace: int,
    document: Workflow,
    revision: int,
    source: str,
    author: str,
    fits: Callable[[int], bool],
    remark: str = "",
) -> tuple[int, bool]:
    """Save a new version, with a remark of what is new in it; the number, and whether it is new (the same text again is not). `fits` says whether it may stand
    behind the latest of that number, 0 for none. Raises `Changed` when it may not."""
    about = {"kind": document.kind, "title": document.title, "labels": document.labels, "updated_at": func.now()}
    statement = insert(workflow).values(workspace_id=workspace, id=new_id(), name=document.workflow, **about)
    statement = statement.on_conflict_do_update(index_elements=["workspace_id", "name"], set_=about)
    workflow_id = (await connection.execute(statement.returning(workflow.c.id))).scalar_one()
    latest = (
        await connection.execute(_versions(workspace, workflow_id).order_by(version.c.number.desc()).limit(1))
    ).first()
    number = latest.number if latest else 0
    digest = values.digest(source)
    if latest and latest.digest == digest:
        return number, False
    if not fits(number):
        raise Changed(number, latest.author if latest else "")
    await connection.execute(
        insert(version).values(
            workspace_id=workspace,
            id=new_id(),
            workflow_id=workflow_id,
            number=number + 1,
            text=source,
            digest=digest,
            revision=revision,
            author=author,
            remark=remark,
        )
    )
    return number + 1, True


async def by_name(connection: AsyncConnection, workspace: int, name: str) -> Any | None:
    """The row of a workflow."""
    query = select(workflow).where(
        workflow.c.workspace_id == workspace, workflow.c.name == name, workflow.c.removed_at.is_(None)
    )
    return (await connection.execute(query)).first()


async def remove(connection: AsyncConnection, workspace: int, row: Any) -> None:
    """Let go of a workflow that is off: its name is free again. Its versions stay with its runs, which go by another name."""
    await connection.execute(
        update(workflow)
        .where(workflow.c.workspace_id == workspace, workflow.c.id == row.id)
        .values(
            name=func.concat(
                row.name, " (removed ", func.to_char(func.clock_timestamp(), "YYYY-MM-DD HH24:MI:SS.US"), ")"
            ),
            removed_at=func.clock_timestamp(),
        )
    )
    for kept in (sample, awaited):
        await connection.execute(delete(kept).where(kept.c.workspace_id == workspace, kept.c.workflow_id == row.id))


async def rename(connection: AsyncConnection, workspace: int, row: Any, name: str) -> None:
    """Give a workflow another name. Raises `NameTaken`."""
    if await by_name(connection, workspace, name) is not None:
        raise NameTaken(name)
    await connection.execute(
        update(workflow)
        .where(workflow.c.workspace_id == workspace, workflow.c.id == row.id)
        .values(name=name, updated_at=func.now())
    )


async def referring(connection: AsyncConnection, workspace: int, name: str, but: UUID) -> list[Any]:
    """Name and text of the newest version of each workflow that holds a name, but for one."""
    newest = _NEWEST.bindparams(workspace=workspace, name=name, but=but)
    return list(await connection.execute(newest))


_NEWEST = text(
    "SELECT w.name, v.text FROM workflow w JOIN LATERAL (SELECT text FROM version v WHERE v.workspace_id = w.workspace_id "
    "AND v.workflow_id = w.id ORDER BY v.number DESC LIMIT 1) v ON true WHERE w.workspace_id = :workspace "
    "AND w.removed_at IS NULL AND w.id <> :but AND strpos(v.text, :name) > 0 ORDER BY w.name LIMIT 1000"
)


async def holding(connection: AsyncConnection, workspace: int, words: list[str]) -> list[Any]:
    """Id, name, text and whether it is on of each workflow whose text holds one of some words, in the version that is on, else
    in the newest one."""
    return list(await connection.execute(_HOLDING.bindparams(workspace=workspace, words=words)))


_HOLDING = text(
    "SELECT w.id, w.name, w.on_version IS NOT NULL AS on, v.text FROM workflow w JOIN LATERAL (SELECT text FROM version v "
    "WHERE v.workspace_id = w.workspace_id AND v.workflow_id = w.id ORDER BY (v.number = w.on_version) DESC NULLS LAST, "
    "v.number DESC LIMIT 1) v ON true WHERE w.workspace_id = :workspace AND w.removed_at IS NULL "
    "AND EXISTS (SELECT 1 FROM unnest(CAST(:words AS text[])) AS word WHERE strpos(v.text, word) > 0) "
    "ORDER BY w.name LIMIT 1000"
)


async def versions(connection: AsyncConnection, workspace: int, workflow_id: UUID) -> list[Any]:
    """Number, author, remark and moment of all versions, newest first."""
    query = _versions(workspace, workflow_id).order_by(version.c.number.desc())
    about = (version.c.id, version.c.number, version.c.author, version.c.remark, version.c.created_at)
    return list(await connection.execute(query.with_only_columns(*about)))


async def one_version(connection: AsyncConnection, workspace: int, workflow_id: UUID, number: int | None) -> Any | None:
    """One version, the newest when no number is given."""
    query = _versions(workspace, workflow_id).order_by(version.c.number.desc()).limit(1)
    if number is not None:
        query = query.where(version.c.number == number)
    return (await connection.execute(query)).first()


class Beginning(NamedTuple):
    """A workflow and the version of it that a run begins with; `version_id` None where there is no such version."""

    workflow_id: UUID
    version_id: UUID | None


_BEGINNING = """
SELECT w.id, v.id FROM workflow w LEFT JOIN LATERAL (
  SELECT id, number FROM version
  WHERE workspace_id = $1 AND workflow_id = w.id AND number <= coalesce($3::int, w.on_version, 2147483647)
  ORDER BY number DESC LIMIT 1) AS v ON v.number = coalesce($3::int, w.on_version, v.number)
WHERE w.workspace_id = $1 AND w.name = $2 AND w.removed_at IS NULL
"""


async def beginning(connection: asyncpg.Connection, workspace: int, name: str, number: int | None) -> Beginning | None:
    """A workflow by name with one of its versions: that of a number; or else the one that is on, the newest while it is off.
    None when there is no such workflow."""
    row = await connection.fetchrow(_BEGINNING, workspace, name, number)
    return Beginning(*row) if row is not None else None


async def switch(
    connection: AsyncConnection,
    workspace: int,
    row: Any,
    number: int | None,
    document: Workflow | None,
    triggers: Sequence[Standing] = (),
) -> None:
    """Switch a workflow on with a version, or with None off: its triggers are put in place of the former. Raises `PathTaken`."""
    await connection.execute(
        update(workflow)
        .where(workflow.c.workspace_id == workspace, workflow.c.id == row.id)
        .values(on_version=number, at_once=document.limits.at_once if document else None, updated_at=func.now())
    )
    mine = (trigger.c.workspace_id == workspace) & (trigger.c.workflow_id == row.id)
    names = [item.name for item in triggers]
    await connection.execute(delete(trigger).where(mine, trigger.c.name.not_in(names)))
    if document is None or number is None:
        return
    chosen = await one_version(connection, workspace, row.id, number)
    assert chosen is not None
    policy = "free" if document.subject is None else document.limits.per_subject
    start = {
        "subject": document.subject,
        "settings": shapes.defaults(document.settings),
        "policy": policy,
        "revision": chosen.revision,
        "fills": shapes.fills(document.input),
    }
    now = datetime.now(UTC)
    for given in triggers:
        item = await _where_it_lives(connection, workspace, given)
        if item.path is not None:
            await _free_path(connection, workspace, row.id, item.path, item.name)
        fields = {
            "kind": item.kind,
            "way": item.way,
            "path": item.path,
            "topic": await _topic(connection, workspace, item),
            "config": item.config,
            "start": values.dumps({**start, "input": item.input}),
            "version_id": chosen.id,
        }
        statement = insert(trigger).values(
            workspace_id=workspace, id=new_id(), workflow_id=row.id, name=item.name, **fields
        )
        trigger_id = (
            await connection.execute(
                statement.on_conflict_do_update(
                    index_elements=["workspace_id", "workflow_id", "name"], set_=fields
                ).returning(trigger.c.id)
            )
        ).scalar_one()
        await _plan_schedule(connection, workspace, trigger_id, item, now)


async def _free_path(connection: AsyncConnection, workspace: int, workflow_id: UUID, path: str, name: str) -> None:
    """See that a path is this trigger's. Raises `PathTaken`."""
    owner = (workflow.c.workspace_id == trigger.c.workspace_id) & (workflow.c.id == trigger.c.workflow_id)
    elsewhere = (
        (trigger.c.workspace_id == workspace) & (trigger.c.path == path) & (trigger.c.workflow_id != workflow_id)
    )
    holder = (await connection.execute(select(workflow.c.name).join(trigger, owner).where(elsewhere))).scalar()
    if holder:
        raise PathTaken(path, holder)
    mine = (trigger.c.workspace_id == workspace) & (trigger.c.workflow_id == workflow_id)
    await connection.execute(delete(trigger).where(mine, trigger.c.path == path, trigger.c.name != name))


async def _where_it_lives(connection: AsyncConnection, workspace: int, item: Standing) -> Standing:
    """A trigger on a table whose rows live elsewhere: they are looked at."""
    if item.kind != "table":
        return item
    known = select(table_def.c.link).where(table_def.c.workspace_id == workspace, table_def.c.name == item.topic)
    if (await connection.execute(known)).scalar() is None:
        return item
    return replace(item, kind="table.linked", way="watch", topic=None, timed=True, next_at=datetime.now(UTC))


async def _topic(connection: AsyncConnection, workspace: int, item: Standing) -> str | None:
    """What a trigger listens to; a table by its id, which its rows are published under."""
    if item.way != "table":
        return item.topic
    known = select(table_def.c.id).where(table_def.c.workspace_id == workspace, table_def.c.name == item.topic)
    return str((await connection.execute(known)).scalar())


async def _plan_schedule(
    connection: AsyncConnection, workspace: int, trigger_id: UUID, item: Standing, now: datetime
) -> None:
    """When a trigger in time comes next. Switching on again does not bring back what has come already."""
    if not item.timed:
        await connection.execute(
            delete(schedule).where(schedule.c.workspace_id == workspace, schedule.c.trigger_id == trigger_id)
        )
        return
    moment = item.next_at
    statement = insert(schedule).values(workspace_id=workspace, trigger_id=trigger_id, next_at=moment, last_at=now)
    await connection.execute(
        statement.on_conflict_do_update(
            index_elements=["workspace_id", "trigger_id"], set_={"next_at": moment, "fault": None}
        )
    )


async def hook(connection: AsyncConnection, workspace: int, path: str) -> Any | None:
    """The trigger that takes requests at a path."""
    return (
        await connection.execute(
            select(trigger).where(
                trigger.c.workspace_id == workspace, trigger.c.way == "request", trigger.c.path == path
            )
        )
    ).first()


async def talked(connection: AsyncConnection, workspace: int, path: str) -> Any | None:
    """The trigger of conversations at a path, with its workflow's title."""
    wanted = select(trigger, workflow.c.title.label("title")).join(
        workflow, (workflow.c.workspace_id == trigger.c.workspace_id) & (workflow.c.id == trigger.c.workflow_id)
    )
    mine = (trigger.c.workspace_id == workspace) & (trigger.c.way == "talk") & (trigger.c.path == path)
    return (await connection.execute(wanted.where(mine))).first()


async def settings_tag(connection: AsyncConnection, workspace: int, workflow_id: UUID) -> str:
    """The tag of a workflow's settings; nobody else changes them until the transaction ends."""
    mine = (workflow.c.workspace_id == workspace) & (workflow.c.id == workflow_id)
    return tag_of((await connection.execute(select(workflow.c.settings).where(mine).with_for_update())).scalar_one())


async def set_settings(
    connection: AsyncConnection, workspace: int, workflow_id: UUID, settings: dict[str, object]
) -> None:
    """Keep adjusted settings."""
    await connection.execute(
        update(workflow)
        .where(workflow.c.workspace_id == workspace, workflow.c.id == workflow_id)
        .values(settings=values.dumps(settings), updated_at=func.now())
    )


_LIST = text("""
SELECT w.*, (SELECT max(number) FROM version v WHERE v.workspace_id = w.workspace_id AND v.workflow_id = w.id) AS latest_version,
  (SELECT v.text FROM version v WHERE v.workspace_id = w.workspace_id AND v.workflow_id = w.id
   ORDER BY (v.number = w.on_version) DESC NULLS LAST, v.number DESC LIMIT 1) AS text,
  s.runs, s.mended, s.succeeded, s.ended, s.median_seconds, s.money, s.last_state, s.last_at
FROM workflow w LEFT JOIN LATERAL (
  SELECT count(*) AS runs, count(*) FILTER (WHERE recent.state = 'succeeded') AS succeeded,
    count(*) FILTER (WHERE recent.ended_at IS NOT NULL) AS ended,
    percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM recent.ended_at - recent.started_at)) AS median_seconds,
    count(*) FILTER (WHERE f.mended_by IS NOT NULL) AS mended,
    avg(money) AS money, (array_agg(coalesce(recent.state, CASE WHEN q.worker_id IS NOT NULL THEN 'running'
      WHEN q.walks > 0 AND q.ready_at > clock_timestamp() THEN 'waiting' ELSE 'queued' END) ORDER BY recent.id DESC))[1] AS last_state, max(created_at) AS last_at
  FROM (SELECT * FROM run r WHERE r.workspace_id = w.workspace_id AND r.workflow_id = w.id ORDER BY id DESC LIMIT 200) AS recent
  LEFT JOIN queue q ON q.workspace_id = recent.workspace_id AND q.run_id = recent.id
  LEFT JOIN failure f ON f.workspace_id = recent.workspace_id AND f.run_id = recent.id
) s ON true
WHERE w.workspace_id = :workspace AND w.removed_at IS NULL AND (:after ::text IS NULL OR w.name COLLATE "C" > :after)
  AND (:only ::text IS NULL OR w.name = :only)
  AND (:words ::text IS NULL OR concat_ws(' ', w.name, w.title, w.labels::text) ILIKE :words) ORDER BY w.name COLLATE "C" LIMIT :limit
""")


async def overview(
    connection: AsyncConnection,
    workspace: int,
    limit: int,
    after: str | None = None,
    only: str | None = None,
    words: str | None = None,
) -> list[Any]:
    """Workflows by name, behind the one named `after`, or the one named `only`, or those with words in name, title or a label;
    with how their last 200 runs went."""
    like = None if words is None else containing(words)
    given = {"workspace": workspace, "limit": limit, "after": after, "only": only, "words": like}
    return list(await connection.execute(_LIST, given))


def _versions(workspace: int, workflow_id: UUID) -> Any:
    return select(version).where(version.c.workspace_id == workspace, version.c.workflow_id == workflow_id)
