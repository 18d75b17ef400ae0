"""Workflows: their versions, triggers, schedules, samples and what becomes one, and what counts once."""

from sqlalchemy import (
    Boolean,
    Column,
    ForeignKeyConstraint,
    Index,
    Integer,
    PrimaryKeyConstraint,
    SmallInteger,
    String,
    Table,
    Text,
    UniqueConstraint,
    Uuid,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB

from oak_relay.store.tables.base import metadata, moment, workspace_key

workflow = Table(
    "workflow",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("name", Text, nullable=False),
    # `workflow`, or `agent` for an agent document, which is walked like a workflow of one step.
    Column("kind", Text, nullable=False, server_default="workflow"),
    Column("title", Text, nullable=False, server_default=""),
    Column("labels", JSONB, nullable=False, server_default="[]"),
    Column("settings", Text, nullable=False, server_default="{}"),
    Column("on_version", Integer),
    Column("at_once", Integer),
    moment("created_at", False),
    moment("updated_at", False),
    # Of one that was removed, which has no name of the language any more.
    moment("removed_at"),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "name"),
)

version = Table(
    "version",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    Column("number", Integer, nullable=False),
    Column("text", Text, nullable=False),
    Column("digest", String(16), nullable=False),
    Column("revision", SmallInteger, nullable=False),
    Column("author", Text, nullable=False, server_default=""),
    Column("remark", Text, nullable=False, server_default=""),
    moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "workflow_id", "number"),
    ForeignKeyConstraint(["workspace_id", "workflow_id"], ["workflow.workspace_id", "workflow.id"], ondelete="CASCADE"),
)

trigger = Table(
    "trigger",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    Column("name", Text, nullable=False),
    Column("kind", Text, nullable=False),
    # How occasions come: request, time, watch, event, table, run.
    Column("way", Text, nullable=False),
    Column("path", Text, unique=True),
    # What it listens to: a table's id, an event's type, another workflow's name.
    Column("topic", Text),
    Column("config", Text, nullable=False),
    # What the intake needs of the version: subject, settings, limits.
    Column("start", Text, nullable=False, server_default="{}"),
    Column("version_id", Uuid, nullable=False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "workflow_id", "name"),
    ForeignKeyConstraint(["workspace_id", "workflow_id"], ["workflow.workspace_id", "workflow.id"], ondelete="CASCADE"),
    Index("ix_trigger_topic", "workspace_id", "way", "topic", postgresql_where=text("topic IS NOT NULL")),
)

schedule = Table(
    "schedule",
    metadata,
    workspace_key(),
    Column("trigger_id", Uuid, nullable=False),
    moment("next_at"),
    moment("last_at"),
    Column("paused", Boolean, nullable=False, server_default="false"),
    Column("fault", Text),
    PrimaryKeyConstraint("workspace_id", "trigger_id"),
    ForeignKeyConstraint(["workspace_id", "trigger_id"], ["trigger.workspace_id", "trigger.id"], ondelete="CASCADE"),
    Index("ix_schedule_next_at", "next_at", postgresql_where=text("NOT paused")),
)

seen = Table(
    "seen",
    metadata,
    workspace_key(),
    Column("trigger_id", Uuid, nullable=False),
    Column("source", Text, nullable=False),
    Column("event_key", Text, nullable=False),
    Column("run_id", Uuid, nullable=False),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "trigger_id", "source", "event_key"),
    Index("ix_seen_at", "at"),
)

# Deliveries that a webhook of it refused.
refusal = Table(
    "refusal",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    Column("path", Text, nullable=False),
    Column("status", Integer, nullable=False),
    Column("reason", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("agent", Text, nullable=False),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    Index("ix_refusal_workflow", "workspace_id", "workflow_id", "id"),
)

once = Table(
    "once",
    metadata,
    workspace_key(),
    Column("workflow_id", Uuid, nullable=False),
    Column("step", Text, nullable=False),
    Column("key", Text, nullable=False),
    Column("run_id", Uuid, nullable=False),
    # Whether the step went well; one that did not may be done by a run that does that one again.
    Column("done", Boolean, nullable=False, server_default="false"),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "workflow_id", "step", "key"),
)

sample = Table(
    "sample",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    # The step whose result it is; empty for the event.
    Column("step", Text, nullable=False, server_default=""),
    Column("name", Text, nullable=False),
    # Of an event: the input that was made of it.
    Column("value", Text, nullable=False),
    # Of an event: the trigger that it came by, and all of it.
    Column("trigger", Text, nullable=False, server_default=""),
    Column("event", Text),
    moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "workflow_id", "step", "name"),
    ForeignKeyConstraint(["workspace_id", "workflow_id"], ["workflow.workspace_id", "workflow.id"], ondelete="CASCADE"),
)

# Triggers whose next event is kept as a sample.
awaited = Table(
    "awaited",
    metadata,
    workspace_key(),
    Column("workflow_id", Uuid, nullable=False),
    Column("trigger", Text, nullable=False),
    # The webhook's path at which it may come while no workflow that is on listens there.
    Column("path", Text),
    Column("sample", Text, nullable=False),
    moment("until", False),
    PrimaryKeyConstraint("workspace_id", "workflow_id", "trigger"),
    ForeignKeyConstraint(["workspace_id", "workflow_id"], ["workflow.workspace_id", "workflow.id"], ondelete="CASCADE"),
    Index("ix_awaited_path", "workspace_id", "path", postgresql_where=text("path IS NOT NULL")),
)
