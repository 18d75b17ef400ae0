"""History, partitioned by month: events, runs, their journals, and large payloads apart."""

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Column,
    Index,
    Integer,
    LargeBinary,
    Numeric,
    PrimaryKeyConstraint,
    SmallInteger,
    Table,
    Text,
    Uuid,
    text,
)

from oak_relay.store.tables.base import metadata, moment, workspace_key

event = Table(
    "event",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("trigger_id", Uuid),
    Column("event_key", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("type", Text, nullable=False),
    Column("body", Text, nullable=False),
    Column("meta", Text, nullable=False),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    postgresql_partition_by="RANGE (id)",
)

run = Table(
    "run",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    Column("version_id", Uuid, nullable=False),
    Column("event_id", Uuid, nullable=False),
    Column("trigger_name", Text, nullable=False),
    # `run`, or a `child` that another run waits for, or a `part` of another run's long list.
    Column("kind", Text, nullable=False, server_default="run"),
    Column("parent_id", Uuid),
    Column("parent_path", Text),
    Column("origin_id", Uuid),
    Column("origin_how", Text),
    Column("depth", SmallInteger, nullable=False, server_default="0"),
    Column("trace_parent", Text),
    Column("money_limit", Numeric(18, 9)),
    Column("state", Text, nullable=False, server_default="queued"),
    Column("subject", Text),
    Column("settings", Text),
    Column("result", Text),
    Column("error", Text),
    Column("error_kind", Text),
    Column("answer", Text),
    Column("tokens_in", BigInteger, nullable=False, server_default="0"),
    Column("tokens_out", BigInteger, nullable=False, server_default="0"),
    Column("money", Numeric(18, 9), nullable=False, server_default="0"),
    # Calls of models whose price is not known.
    Column("unpriced", Integer, nullable=False, server_default="0"),
    Column("steps", Integer, nullable=False, server_default="0"),
    Column("attempts", Integer, nullable=False, server_default="0"),
    moment("created_at", False),
    moment("started_at"),
    moment("ended_at"),
    moment("cancel_at"),
    PrimaryKeyConstraint("workspace_id", "id"),
    CheckConstraint(
        "state IN ('queued','running','waiting','succeeded','failed','cancelled','set aside')", name="state"
    ),
    Index("ix_run_workflow", "workspace_id", "workflow_id", "id"),
    Index("ix_run_state", "workspace_id", "state", "id"),
    Index("ix_run_parent", "workspace_id", "parent_id", "id", postgresql_where=text("parent_id IS NOT NULL")),
    Index("ix_run_origin", "workspace_id", "origin_id", postgresql_where=text("origin_id IS NOT NULL")),
    Index("ix_run_subject", "workspace_id", "subject", "id", postgresql_where=text("subject IS NOT NULL")),
    Index("ix_run_error_kind", "workspace_id", "error_kind", "id", postgresql_where=text("error_kind IS NOT NULL")),
    postgresql_partition_by="RANGE (id)",
)

journal = Table(
    "journal",
    metadata,
    workspace_key(),
    Column("run_id", Uuid, nullable=False),
    Column("seq", Integer, nullable=False),
    Column("path", Text, nullable=False),
    Column("kind", Text, nullable=False),
    Column("attempt", Integer, nullable=False),
    Column("hash", Text, nullable=False),
    Column("body", Text),
    Column("detail", Text),
    moment("started_at"),
    moment("at"),
    Column("worker_id", Uuid),
    # The innermost item or round it stands in; `closed` entries end one.
    Column("scope", Text, nullable=False, server_default=""),
    # Steps and attempts that this entry completes, and what it spent.
    Column("steps", Integer, nullable=False, server_default="0"),
    Column("attempts", Integer, nullable=False, server_default="0"),
    Column("tokens_in", BigInteger),
    Column("tokens_out", BigInteger),
    Column("money", Numeric(18, 9)),
    Column("unpriced", Integer, nullable=False, server_default="0"),
    PrimaryKeyConstraint("workspace_id", "run_id", "seq"),
    postgresql_partition_by="RANGE (run_id)",
)

# What is larger than a row should be; compressed, once for all of a month that are the same.
artifact = Table(
    "artifact",
    metadata,
    workspace_key(),
    Column("month", Uuid, nullable=False),
    Column("digest", LargeBinary, nullable=False),
    Column("data", LargeBinary, nullable=False),
    PrimaryKeyConstraint("workspace_id", "month", "digest"),
    postgresql_partition_by="RANGE (month)",
)
