"""History, partitioned by month: events, runs, their journals, and large payloads apart."""

from sqlalchemy import (
    ARRAY,
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
    # How it ended; none while it is not over: then the queue says where it stands.
    Column("state", Text),
    Column("subject", Text),
    Column("settings", Text),
    Column("result", Text),
    Column("error", Text),
    Column("answer", Text),
    # What is worth knowing of one that ended well: an agent that was ended by a limit, with its answer.
    Column("note", Text),
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
    CheckConstraint("state IN ('succeeded','failed','cancelled','set aside')", name="state"),
    # Without the workspace before it: where there is one, a plan that is made while there are few runs may look up a single one
    # by its workspace and its id in here, and read all runs of the workspace for it.
    Index("ix_run_workflow", "workflow_id", "id"),
    Index("ix_run_parent", "workspace_id", "parent_id", "id", postgresql_where=text("parent_id IS NOT NULL")),
    Index("ix_run_origin", "workspace_id", "origin_id", postgresql_where=text("origin_id IS NOT NULL")),
    Index("ix_run_subject", "workspace_id", "subject", "id", postgresql_where=text("subject IS NOT NULL")),
    postgresql_partition_by="RANGE (id)",
)
# No index of `run` holds a column that its end changes, so that an end costs no index anything.

# Runs that did not end well, to be found by that.
failure = Table(
    "failure",
    metadata,
    workspace_key(),
    Column("run_id", Uuid, nullable=False),
    Column("state", Text, nullable=False),
    Column("error_kind", Text, nullable=False),
    # The run that did it again, and succeeded.
    Column("mended_by", Uuid),
    PrimaryKeyConstraint("workspace_id", "run_id"),
    Index("ix_failure_state", "workspace_id", "state", "run_id"),
    Index("ix_failure_error_kind", "workspace_id", "error_kind", "run_id"),
    postgresql_partition_by="RANGE (run_id)",
)

# What a scope of a run wrote in one commit (see `store.pages`).
journal = Table(
    "journal",
    metadata,
    workspace_key(),
    Column("run_id", Uuid, nullable=False),
    Column("page", Integer, nullable=False),
    # Of the claim it was written under; 0 for what a run began with.
    Column("generation", Integer, nullable=False),
    Column("worker_id", Uuid),
    moment("at"),
    # The innermost item, round or list it stands in, the places that its entries bring to their end, and how many of these
    # are items that failed (not counted in what was written before it was known).
    Column("scope", Text, nullable=False, server_default=""),
    Column("closes", ARRAY(Text)),
    Column("broken", Integer),
    Column("count", Integer, nullable=False),
    Column("outcomes", Integer, nullable=False),
    # The large payloads that its entries refer to.
    Column("apart", ARRAY(Text)),
    # Steps and attempts that its entries complete, and what they spent.
    Column("steps", Integer, nullable=False, server_default="0"),
    Column("attempts", Integer, nullable=False, server_default="0"),
    Column("tokens_in", BigInteger, nullable=False, server_default="0"),
    Column("tokens_out", BigInteger, nullable=False, server_default="0"),
    Column("money", Numeric(18, 9)),
    Column("unpriced", Integer, nullable=False, server_default="0"),
    Column("entries", Text, nullable=False),
    Column("details", Text),
    PrimaryKeyConstraint("workspace_id", "run_id", "page"),
    Index("ix_journal_closes", "workspace_id", "run_id", "page", postgresql_where=text("closes IS NOT NULL")),
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
