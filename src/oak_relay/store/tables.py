"""The tables. Everything belongs to a workspace; payloads are canonical JSON text, searched ones JSONB."""

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    DateTime,
    ForeignKeyConstraint,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    Numeric,
    PrimaryKeyConstraint,
    SmallInteger,
    String,
    Table,
    Text,
    UniqueConstraint,
    Uuid,
    func,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB

metadata = MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "ck": "ck_%(table_name)s_%(constraint_name)s",
        "fk": "fk_%(table_name)s_%(column_0_N_name)s",
        "pk": "pk_%(table_name)s",
    }
)


def _moment(name: str, nullable: bool = True) -> Column:
    return Column(name, DateTime(timezone=True), nullable=nullable, server_default=None if nullable else func.now())


def _workspace() -> Column:
    return Column("workspace_id", SmallInteger, nullable=False)


workspace = Table(
    "workspace",
    metadata,
    Column("id", SmallInteger, primary_key=True, autoincrement=False),
    Column("name", Text, nullable=False, unique=True),
    _moment("created_at", False),
)

workflow = Table(
    "workflow",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("name", Text, nullable=False),
    Column("title", Text, nullable=False, server_default=""),
    Column("labels", JSONB, nullable=False, server_default="[]"),
    Column("settings", Text, nullable=False, server_default="{}"),
    Column("live_version", Integer),
    Column("at_once", Integer),
    _moment("created_at", False),
    _moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "name"),
)

version = Table(
    "version",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    Column("number", Integer, nullable=False),
    Column("text", Text, nullable=False),
    Column("digest", String(16), nullable=False),
    Column("revision", SmallInteger, nullable=False),
    Column("author", Text, nullable=False, server_default=""),
    _moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "workflow_id", "number"),
    ForeignKeyConstraint(["workspace_id", "workflow_id"], ["workflow.workspace_id", "workflow.id"], ondelete="CASCADE"),
)

trigger = Table(
    "trigger",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    Column("name", Text, nullable=False),
    Column("kind", Text, nullable=False),
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
    Index("ix_trigger_topic", "workspace_id", "kind", "topic", postgresql_where=text("topic IS NOT NULL")),
)

schedule = Table(
    "schedule",
    metadata,
    _workspace(),
    Column("trigger_id", Uuid, nullable=False),
    _moment("next_at"),
    _moment("last_at"),
    Column("paused", Boolean, nullable=False, server_default="false"),
    Column("fault", Text),
    PrimaryKeyConstraint("workspace_id", "trigger_id"),
    ForeignKeyConstraint(["workspace_id", "trigger_id"], ["trigger.workspace_id", "trigger.id"], ondelete="CASCADE"),
    Index("ix_schedule_next_at", "next_at", postgresql_where=text("NOT paused")),
)

seen = Table(
    "seen",
    metadata,
    _workspace(),
    Column("trigger_id", Uuid, nullable=False),
    Column("source", Text, nullable=False),
    Column("event_key", Text, nullable=False),
    Column("run_id", Uuid, nullable=False),
    _moment("at", False),
    PrimaryKeyConstraint("workspace_id", "trigger_id", "source", "event_key"),
    Index("ix_seen_at", "at"),
)

event = Table(
    "event",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("trigger_id", Uuid),
    Column("event_key", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("type", Text, nullable=False),
    Column("body", Text, nullable=False),
    Column("meta", Text, nullable=False),
    Column("sealed", LargeBinary),
    _moment("at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    postgresql_partition_by="RANGE (id)",
)

run = Table(
    "run",
    metadata,
    _workspace(),
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
    Column("sealed", LargeBinary),
    Column("tokens_in", BigInteger, nullable=False, server_default="0"),
    Column("tokens_out", BigInteger, nullable=False, server_default="0"),
    Column("money", Numeric(18, 9), nullable=False, server_default="0"),
    Column("steps", Integer, nullable=False, server_default="0"),
    Column("attempts", Integer, nullable=False, server_default="0"),
    _moment("created_at", False),
    _moment("started_at"),
    _moment("ended_at"),
    _moment("cancel_at"),
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

queue = Table(
    "queue",
    metadata,
    _workspace(),
    Column("run_id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    Column("revision", SmallInteger, nullable=False),
    _moment("ready_at", False),
    Column("worker_id", Uuid),
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
    Column("worked", Numeric(12, 3), nullable=False, server_default="0"),
    PrimaryKeyConstraint("workspace_id", "run_id"),
    Index("ix_queue_ready", "ready_at", postgresql_where=text("worker_id IS NULL")),
    Index("ix_queue_turn", "workspace_id", "workflow_id", "ready_at", postgresql_where=text("worker_id IS NULL")),
    Index("ix_queue_lane", "workspace_id", "workflow_id", "lane", "place", postgresql_where=text("lane IS NOT NULL")),
    Index("ix_queue_worker", "worker_id", postgresql_where=text("worker_id IS NOT NULL")),
    postgresql_with={"fillfactor": "70"},
)

lane = Table(
    "lane",
    metadata,
    _workspace(),
    Column("workflow_id", Uuid, nullable=False),
    Column("subject", Text, nullable=False),
    # Runs of the lane that are not over, and the place of the last of them.
    Column("open", Integer, nullable=False),
    Column("tail", BigInteger, nullable=False),
    PrimaryKeyConstraint("workspace_id", "workflow_id", "subject"),
)

signal = Table(
    "signal",
    metadata,
    _workspace(),
    Column("run_id", Uuid, nullable=False),
    Column("path", Text, nullable=False),
    Column("body", Text, nullable=False),
    Column("sealed", LargeBinary),
    _moment("at", False),
    PrimaryKeyConstraint("workspace_id", "run_id", "path"),
)

question = Table(
    "question",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("run_id", Uuid, nullable=False),
    Column("path", Text, nullable=False),
    Column("text", Text, nullable=False),
    Column("config", Text, nullable=False),
    Column("alike", Text),
    Column("state", Text, nullable=False, server_default="open"),
    _moment("expires_at"),
    _moment("created_at", False),
    _moment("answered_at"),
    Column("answered_by", Text),
    Column("answer", Text),
    PrimaryKeyConstraint("workspace_id", "id"),
    CheckConstraint("state IN ('open','answered','expired','withdrawn')", name="state"),
    Index("ix_question_run", "workspace_id", "run_id", "path"),
    Index("ix_question_open", "workspace_id", "id", postgresql_where=text("state = 'open'")),
    Index("ix_question_alike", "workspace_id", "alike", postgresql_where=text("state = 'open' AND alike IS NOT NULL")),
)

listener = Table(
    "listener",
    metadata,
    _workspace(),
    Column("run_id", Uuid, nullable=False),
    Column("path", Text, nullable=False),
    Column("type", Text, nullable=False),
    Column("clause", Text),
    Column("scope", Text, nullable=False),
    Column("sealed", LargeBinary),
    _moment("at", False),
    PrimaryKeyConstraint("workspace_id", "run_id", "path"),
    Index("ix_listener_type", "workspace_id", "type"),
)

published = Table(
    "published",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("kind", Text, nullable=False),
    Column("topic", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("event_key", Text, nullable=False),
    Column("body", Text, nullable=False),
    Column("sealed", LargeBinary),
    Column("depth", SmallInteger, nullable=False, server_default="0"),
    Column("run_id", Uuid),
    _moment("at", False),
    _moment("handled_at"),
    PrimaryKeyConstraint("workspace_id", "id"),
    Index("ix_published_open", "workspace_id", "id", postgresql_where=text("handled_at IS NULL")),
    Index("ix_published_topic", "workspace_id", "topic", "at", postgresql_where=text("kind = 'event'")),
)

rate = Table(
    "rate",
    metadata,
    _workspace(),
    Column("credential", Text, nullable=False),
    _moment("window_at", False),
    Column("used", Integer, nullable=False),
    PrimaryKeyConstraint("workspace_id", "credential"),
)

sample = Table(
    "sample",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("workflow_id", Uuid, nullable=False),
    # The step whose result it is; empty for the event.
    Column("step", Text, nullable=False, server_default=""),
    Column("name", Text, nullable=False),
    Column("value", Text, nullable=False),
    _moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "workflow_id", "step", "name"),
    ForeignKeyConstraint(["workspace_id", "workflow_id"], ["workflow.workspace_id", "workflow.id"], ondelete="CASCADE"),
)

epoch = Table("epoch", metadata, Column("name", Text, primary_key=True), Column("value", Text, nullable=False))

wake = Table(
    "wake",
    metadata,
    _workspace(),
    Column("run_id", Uuid, nullable=False),
    Column("path", Text, nullable=False),
    _moment("at", False),
    PrimaryKeyConstraint("workspace_id", "run_id", "path"),
)

worker = Table(
    "worker",
    metadata,
    Column("id", Uuid, primary_key=True),
    Column("name", Text, nullable=False),
    Column("role", Text, nullable=False, server_default="work"),
    Column("revision", SmallInteger, nullable=False),
    _moment("started_at", False),
    _moment("lease_until", False),
    _moment("dead_at"),
)

journal = Table(
    "journal",
    metadata,
    _workspace(),
    Column("run_id", Uuid, nullable=False),
    Column("seq", Integer, nullable=False),
    Column("path", Text, nullable=False),
    Column("kind", Text, nullable=False),
    Column("attempt", Integer, nullable=False),
    Column("hash", Text, nullable=False),
    Column("body", Text),
    Column("detail", Text),
    Column("sealed", LargeBinary),
    _moment("started_at"),
    _moment("at"),
    Column("worker_id", Uuid),
    # The innermost item or round it stands in; `closed` entries end one.
    Column("scope", Text, nullable=False, server_default=""),
    # Steps and attempts that this entry completes, and what it spent.
    Column("steps", Integer, nullable=False, server_default="0"),
    Column("attempts", Integer, nullable=False, server_default="0"),
    Column("tokens_in", BigInteger),
    Column("tokens_out", BigInteger),
    Column("money", Numeric(18, 9)),
    PrimaryKeyConstraint("workspace_id", "run_id", "seq"),
    postgresql_partition_by="RANGE (run_id)",
)

once = Table(
    "once",
    metadata,
    _workspace(),
    Column("workflow_id", Uuid, nullable=False),
    Column("step", Text, nullable=False),
    Column("key", Text, nullable=False),
    Column("run_id", Uuid, nullable=False),
    _moment("at", False),
    PrimaryKeyConstraint("workspace_id", "workflow_id", "step", "key"),
)

vault_key = Table(
    "vault_key",
    metadata,
    _workspace(),
    Column("id", Integer, nullable=False),
    Column("wrapped", LargeBinary, nullable=False),
    _moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
)

credential = Table(
    "credential",
    metadata,
    _workspace(),
    Column("name", Text, nullable=False),
    Column("kind", Text, nullable=False),
    Column("config", Text, nullable=False),
    Column("key_id", Integer, nullable=False),
    Column("sealed", LargeBinary, nullable=False),
    Column("last_test", Text),
    _moment("last_used_at"),
    _moment("created_at", False),
    _moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "name"),
)

model_alias = Table(
    "model_alias",
    metadata,
    _workspace(),
    Column("name", Text, nullable=False),
    Column("config", Text, nullable=False),
    _moment("created_at", False),
    _moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "name"),
)

table_def = Table(
    "table_def",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("name", Text, nullable=False),
    Column("columns", JSONB, nullable=False),
    # Set when a row is first looked for by its values; only then are its rows indexed by them.
    Column("searched", Boolean, nullable=False, server_default="false"),
    _moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "name"),
)

table_row = Table(
    "table_row",
    metadata,
    _workspace(),
    Column("table_id", Uuid, nullable=False),
    Column("id", Uuid, nullable=False),
    Column("data", JSONB, nullable=False),
    Column("searched", Boolean, nullable=False),
    _moment("created_at", False),
    _moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "table_id", "id"),
    ForeignKeyConstraint(["workspace_id", "table_id"], ["table_def.workspace_id", "table_def.id"], ondelete="CASCADE"),
    Index(
        "ix_table_row_data",
        "data",
        postgresql_using="gin",
        postgresql_ops={"data": "jsonb_path_ops"},
        postgresql_where=text("searched"),
    ),
)

member = Table(
    "member",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("name", Text, nullable=False),
    Column("role", Text, nullable=False),
    Column("password_hash", Text, nullable=False),
    _moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "name"),
)

token = Table(
    "token",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    Column("kind", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("digest", LargeBinary, nullable=False, unique=True),
    Column("member_id", Uuid),
    _moment("created_at", False),
    _moment("expires_at"),
    _moment("last_used_at"),
    Column("revoked", Boolean, nullable=False, server_default="false"),
    PrimaryKeyConstraint("workspace_id", "id"),
)

audit = Table(
    "audit",
    metadata,
    _workspace(),
    Column("id", Uuid, nullable=False),
    _moment("at", False),
    Column("who", Text, nullable=False),
    Column("action", Text, nullable=False),
    Column("target", Text, nullable=False),
    PrimaryKeyConstraint("workspace_id", "id"),
)

MAIN_WORKSPACE = 1
