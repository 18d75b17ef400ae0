"""What moves: the queue, pins, lanes, wakes, signals, questions, listeners, what is published, workers."""

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Column,
    Index,
    Integer,
    Numeric,
    PrimaryKeyConstraint,
    SmallInteger,
    Table,
    Text,
    Uuid,
    text,
)

from oak_relay.store.tables.base import metadata, moment, workspace_key

queue = Table(
    "queue",
    metadata,
    workspace_key(),
    Column("run_id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    Column("revision", SmallInteger, nullable=False),
    moment("ready_at", False),
    Column("worker_id", Uuid),
    # Raised whenever the run is given to a worker or taken from one.
    Column("generation", Integer, nullable=False, server_default="0"),
    Column("walks", Integer, nullable=False, server_default="0"),
    # Deaths of its worker without an outcome in between, and how often it was the only such run there.
    Column("deaths", Integer, nullable=False, server_default="0"),
    Column("alone", Integer, nullable=False, server_default="0"),
    Column("outcomes", Integer, nullable=False, server_default="0"),
    # Why it may not be claimed (then `ready_at` is infinity): `lane`, or `restore`.
    Column("held", Text),
    Column("lane", Text),
    Column("place", BigInteger),
    Column("wakes", Integer, nullable=False, server_default="0"),
    moment("started_at"),
    Column("worked", Numeric(12, 3), nullable=False, server_default="0"),
    PrimaryKeyConstraint("workspace_id", "run_id"),
    Index("ix_queue_ready", "ready_at", postgresql_where=text("worker_id IS NULL")),
    Index("ix_queue_turn", "workspace_id", "workflow_id", "ready_at", postgresql_where=text("worker_id IS NULL")),
    Index("ix_queue_lane", "workspace_id", "workflow_id", "lane", "place", postgresql_where=text("lane IS NOT NULL")),
    Index("ix_queue_worker", "worker_id", postgresql_where=text("worker_id IS NOT NULL")),
    # Looked at by every worker every second, however many runs rest.
    Index("ix_queue_suspect", "workspace_id", "deaths", postgresql_where=text("deaths >= 2")),
    postgresql_with={"fillfactor": "70"},
)

lane = Table(
    "lane",
    metadata,
    workspace_key(),
    Column("workflow_id", Uuid, nullable=False),
    Column("subject", Text, nullable=False),
    # Runs of the lane that are not over, and the place of the last of them.
    Column("open", Integer, nullable=False),
    Column("tail", BigInteger, nullable=False),
    PrimaryKeyConstraint("workspace_id", "workflow_id", "subject"),
)

wake = Table(
    "wake",
    metadata,
    workspace_key(),
    Column("run_id", Uuid, nullable=False),
    Column("path", Text, nullable=False),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "run_id", "path"),
)

signal = Table(
    "signal",
    metadata,
    workspace_key(),
    Column("run_id", Uuid, nullable=False),
    Column("path", Text, nullable=False),
    Column("body", Text, nullable=False),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "run_id", "path"),
)

_IN_A_TALK = text("state = 'open' AND conversation_id IS NOT NULL")

question = Table(
    "question",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("run_id", Uuid, nullable=False),
    Column("path", Text, nullable=False),
    Column("text", Text, nullable=False),
    Column("config", Text, nullable=False),
    Column("alike", Text),
    # The conversation that it is put in: what is said next there is its answer. One at a time.
    Column("conversation_id", Uuid),
    # The place there of what it asks.
    Column("said_seq", Integer),
    Column("state", Text, nullable=False, server_default="open"),
    moment("expires_at"),
    moment("created_at", False),
    moment("answered_at"),
    Column("answered_by", Text),
    Column("answer", Text),
    PrimaryKeyConstraint("workspace_id", "id"),
    CheckConstraint("state IN ('open','answered','expired','withdrawn')", name="state"),
    Index("ix_question_run", "workspace_id", "run_id", "path"),
    Index("ix_question_conversation", "workspace_id", "conversation_id", unique=True, postgresql_where=_IN_A_TALK),
    Index("ix_question_open", "workspace_id", "id", postgresql_where=text("state = 'open'")),
    Index("ix_question_alike", "workspace_id", "alike", postgresql_where=text("state = 'open' AND alike IS NOT NULL")),
)

listener = Table(
    "listener",
    metadata,
    workspace_key(),
    Column("run_id", Uuid, nullable=False),
    Column("path", Text, nullable=False),
    Column("type", Text, nullable=False),
    Column("clause", Text),
    Column("scope", Text, nullable=False),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "run_id", "path"),
    Index("ix_listener_type", "workspace_id", "type"),
)

published = Table(
    "published",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("kind", Text, nullable=False),
    Column("topic", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("event_key", Text, nullable=False),
    Column("body", Text, nullable=False),
    Column("depth", SmallInteger, nullable=False, server_default="0"),
    Column("run_id", Uuid),
    moment("at", False),
    moment("handled_at"),
    PrimaryKeyConstraint("workspace_id", "id"),
    Index("ix_published_open", "workspace_id", "id", postgresql_where=text("handled_at IS NULL")),
    Index("ix_published_topic", "workspace_id", "topic", "at", postgresql_where=text("kind = 'event'")),
)

worker = Table(
    "worker",
    metadata,
    Column("id", Uuid, primary_key=True),
    Column("name", Text, nullable=False),
    Column("role", Text, nullable=False, server_default="work"),
    Column("revision", SmallInteger, nullable=False),
    moment("started_at", False),
    moment("lease_until", False),
    moment("dead_at"),
)

# What a writer shares while it commits. Whoever takes runs from a worker raises it first; gone when the worker is dead.
fence = Table(
    "fence",
    metadata,
    Column("worker_id", Uuid, primary_key=True),
    Column("value", BigInteger, nullable=False, server_default="0"),
    postgresql_with={"fillfactor": "50"},
)

# Events that were answered and that a database which was set back does not hold; the id is that of their run.
missing_event = Table(
    "missing_event",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("workflow", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("event_key", Text, nullable=False),
    moment("answered_at", False),
    moment("noticed_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
)

# What a run settled when it first used it: the version of a workflow that it starts. Gone with its end.
pin = Table(
    "pin",
    metadata,
    workspace_key(),
    Column("run_id", Uuid, nullable=False),
    Column("kind", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("version_id", Uuid, nullable=False),
    PrimaryKeyConstraint("workspace_id", "run_id", "kind", "name"),
)
