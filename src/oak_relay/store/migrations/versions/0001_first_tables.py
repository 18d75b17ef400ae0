"""first tables"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


# The journal entry by entry, for those who look into it with SQL. What SQL's JSON cannot hold, U+0000 and halves of
# characters, is shown there as U+FFFD.
_HELD = r"""regexp_replace({}, '\\u(0000|d[89a-f][0-9a-f]{{2}})', '\\ufffd', 'gi')::json"""
_ENTRY = f"""
CREATE VIEW entry AS
SELECT j.workspace_id, j.run_id, j.page * 1000 + n - 1 AS seq, e->>0 AS path, e->>1 AS kind, (e->>2)::int AS attempt,
  e->>3 AS hash, (e->>4)::timestamptz AS started_at, (e->>5)::timestamptz AS at, coalesce(e->>7, (e->6)::text) AS body,
  ({_HELD.format("j.details")}->(n - 1)::int)::text AS detail, j.scope, j.worker_id
FROM journal j CROSS JOIN LATERAL json_array_elements({_HELD.format("j.entries")}) WITH ORDINALITY AS given(e, n)
"""


def upgrade() -> None:
    op.create_table(
        "artifact",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("month", sa.Uuid(), nullable=False),
        sa.Column("digest", sa.LargeBinary(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "month", "digest", name=op.f("pk_artifact")),
        postgresql_partition_by="RANGE (month)",
    )
    op.create_table(
        "audit",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("action", sa.Text(), nullable=False),
        sa.Column("target", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_audit")),
    )
    op.create_table(
        "budget",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("workflow", sa.Text(), server_default="", nullable=False),
        sa.Column("period", sa.Text(), nullable=False),
        sa.Column("money", sa.Numeric(precision=18, scale=9), nullable=False),
        sa.Column("warn_at", sa.Float(), server_default="0.8", nullable=False),
        sa.Column("state", sa.Text(), server_default="within", nullable=False),
        sa.Column("spent", sa.Numeric(precision=18, scale=9), server_default="0", nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.CheckConstraint("period IN ('day','month')", name=op.f("ck_budget_period")),
        sa.CheckConstraint("state IN ('within','warned','spent')", name=op.f("ck_budget_state")),
        sa.PrimaryKeyConstraint("workspace_id", "name", name=op.f("pk_budget")),
    )
    op.create_table(
        "conversation",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("summary", sa.Text(), nullable=True),
        sa.Column("summed_up", sa.Integer(), server_default="0", nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_conversation")),
        sa.UniqueConstraint("workspace_id", "key", name=op.f("uq_conversation_workspace_id_key")),
    )
    op.create_index("ix_conversation_updated", "conversation", ["workspace_id", "updated_at"], unique=False)
    op.create_table(
        "credential",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("config", sa.Text(), nullable=False),
        sa.Column("key_id", sa.Integer(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("last_test", sa.Text(), nullable=True),
        sa.Column("last_used_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "name", name=op.f("pk_credential")),
    )
    op.create_table(
        "epoch",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("value", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_epoch")),
    )
    op.create_table(
        "event",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("trigger_id", sa.Uuid(), nullable=True),
        sa.Column("event_key", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("type", sa.Text(), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("meta", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_event")),
        postgresql_partition_by="RANGE (id)",
    )
    op.create_table(
        "fence",
        sa.Column("worker_id", sa.Uuid(), nullable=False),
        sa.Column("value", sa.BigInteger(), server_default="0", nullable=False),
        sa.PrimaryKeyConstraint("worker_id", name=op.f("pk_fence")),
        postgresql_with={"fillfactor": "50"},
    )
    op.create_table(
        "failure",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("error_kind", sa.Text(), nullable=False),
        sa.Column("mended_by", sa.Uuid(), nullable=True),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", name=op.f("pk_failure")),
        postgresql_partition_by="RANGE (run_id)",
    )
    op.create_index("ix_failure_error_kind", "failure", ["workspace_id", "error_kind", "run_id"], unique=False)
    op.create_index("ix_failure_state", "failure", ["workspace_id", "state", "run_id"], unique=False)
    op.create_table(
        "journal",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("page", sa.Integer(), nullable=False),
        sa.Column("generation", sa.Integer(), nullable=False),
        sa.Column("worker_id", sa.Uuid(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("scope", sa.Text(), server_default="", nullable=False),
        sa.Column("closes", sa.ARRAY(sa.Text()), nullable=True),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("outcomes", sa.Integer(), nullable=False),
        sa.Column("apart", sa.ARRAY(sa.Text()), nullable=True),
        sa.Column("steps", sa.Integer(), server_default="0", nullable=False),
        sa.Column("attempts", sa.Integer(), server_default="0", nullable=False),
        sa.Column("tokens_in", sa.BigInteger(), server_default="0", nullable=False),
        sa.Column("tokens_out", sa.BigInteger(), server_default="0", nullable=False),
        sa.Column("money", sa.Numeric(precision=18, scale=9), nullable=True),
        sa.Column("unpriced", sa.Integer(), server_default="0", nullable=False),
        sa.Column("entries", sa.Text(), nullable=False),
        sa.Column("details", sa.Text(), nullable=True),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "page", name=op.f("pk_journal")),
        postgresql_partition_by="RANGE (run_id)",
    )
    op.create_table(
        "lane",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("open", sa.Integer(), nullable=False),
        sa.Column("tail", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "workflow_id", "subject", name=op.f("pk_lane")),
    )
    op.create_table(
        "listener",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("type", sa.Text(), nullable=False),
        sa.Column("clause", sa.Text(), nullable=True),
        sa.Column("scope", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "path", name=op.f("pk_listener")),
    )
    op.create_index("ix_listener_type", "listener", ["workspace_id", "type"], unique=False)
    op.create_table(
        "member",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("password_hash", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_member")),
        sa.UniqueConstraint("workspace_id", "name", name=op.f("uq_member_workspace_id_name")),
    )
    op.create_table(
        "missing_event",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("workflow", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("event_key", sa.Text(), nullable=False),
        sa.Column("answered_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("noticed_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_missing_event")),
    )
    op.create_table(
        "model_alias",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("config", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "name", name=op.f("pk_model_alias")),
    )
    op.create_table(
        "once",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("step", sa.Text(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("done", sa.Boolean(), server_default="false", nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "workflow_id", "step", "key", name=op.f("pk_once")),
    )
    op.create_table(
        "past_secret",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("retired_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "digest", name=op.f("pk_past_secret")),
    )
    op.create_table(
        "pin",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("version_id", sa.Uuid(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "kind", "name", name=op.f("pk_pin")),
    )
    op.create_table(
        "published",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("topic", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("event_key", sa.Text(), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("depth", sa.SmallInteger(), server_default="0", nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("handled_at", sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_published")),
    )
    op.create_index(
        "ix_published_open",
        "published",
        ["workspace_id", "id"],
        unique=False,
        postgresql_where=sa.text("handled_at IS NULL"),
    )
    op.create_index(
        "ix_published_topic",
        "published",
        ["workspace_id", "topic", "at"],
        unique=False,
        postgresql_where=sa.text("kind = 'event'"),
    )
    op.create_table(
        "question",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("config", sa.Text(), nullable=False),
        sa.Column("alike", sa.Text(), nullable=True),
        sa.Column("state", sa.Text(), server_default="open", nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("answered_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("answered_by", sa.Text(), nullable=True),
        sa.Column("answer", sa.Text(), nullable=True),
        sa.CheckConstraint("state IN ('open','answered','expired','withdrawn')", name=op.f("ck_question_state")),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_question")),
    )
    op.create_index(
        "ix_question_alike",
        "question",
        ["workspace_id", "alike"],
        unique=False,
        postgresql_where=sa.text("state = 'open' AND alike IS NOT NULL"),
    )
    op.create_index(
        "ix_question_open", "question", ["workspace_id", "id"], unique=False, postgresql_where=sa.text("state = 'open'")
    )
    op.create_index("ix_question_run", "question", ["workspace_id", "run_id", "path"], unique=False)
    op.create_table(
        "queue",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("revision", sa.SmallInteger(), nullable=False),
        sa.Column("ready_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("worker_id", sa.Uuid(), nullable=True),
        sa.Column("generation", sa.Integer(), server_default="0", nullable=False),
        sa.Column("walks", sa.Integer(), server_default="0", nullable=False),
        sa.Column("deaths", sa.Integer(), server_default="0", nullable=False),
        sa.Column("alone", sa.Integer(), server_default="0", nullable=False),
        sa.Column("outcomes", sa.Integer(), server_default="0", nullable=False),
        sa.Column("held", sa.Text(), nullable=True),
        sa.Column("lane", sa.Text(), nullable=True),
        sa.Column("place", sa.BigInteger(), nullable=True),
        sa.Column("wakes", sa.Integer(), server_default="0", nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("worked", sa.Numeric(precision=12, scale=3), server_default="0", nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", name=op.f("pk_queue")),
        postgresql_with={"fillfactor": "70"},
    )
    op.create_index(
        "ix_queue_lane",
        "queue",
        ["workspace_id", "workflow_id", "lane", "place"],
        unique=False,
        postgresql_where=sa.text("lane IS NOT NULL"),
    )
    op.create_index(
        "ix_queue_ready", "queue", ["ready_at"], unique=False, postgresql_where=sa.text("worker_id IS NULL")
    )
    op.create_index(
        "ix_queue_turn",
        "queue",
        ["workspace_id", "workflow_id", "ready_at"],
        unique=False,
        postgresql_where=sa.text("worker_id IS NULL"),
    )
    op.create_index(
        "ix_queue_worker", "queue", ["worker_id"], unique=False, postgresql_where=sa.text("worker_id IS NOT NULL")
    )
    op.create_table(
        "rate",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("credential", sa.Text(), nullable=False),
        sa.Column("window_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("used", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "credential", name=op.f("pk_rate")),
    )
    op.create_table(
        "run",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("version_id", sa.Uuid(), nullable=False),
        sa.Column("event_id", sa.Uuid(), nullable=False),
        sa.Column("trigger_name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), server_default="run", nullable=False),
        sa.Column("parent_id", sa.Uuid(), nullable=True),
        sa.Column("parent_path", sa.Text(), nullable=True),
        sa.Column("origin_id", sa.Uuid(), nullable=True),
        sa.Column("origin_how", sa.Text(), nullable=True),
        sa.Column("depth", sa.SmallInteger(), server_default="0", nullable=False),
        sa.Column("trace_parent", sa.Text(), nullable=True),
        sa.Column("money_limit", sa.Numeric(precision=18, scale=9), nullable=True),
        sa.Column("state", sa.Text(), nullable=True),
        sa.Column("subject", sa.Text(), nullable=True),
        sa.Column("settings", sa.Text(), nullable=True),
        sa.Column("result", sa.Text(), nullable=True),
        sa.Column("error", sa.Text(), nullable=True),
        sa.Column("answer", sa.Text(), nullable=True),
        sa.Column("note", sa.Text(), nullable=True),
        sa.Column("tokens_in", sa.BigInteger(), server_default="0", nullable=False),
        sa.Column("tokens_out", sa.BigInteger(), server_default="0", nullable=False),
        sa.Column("money", sa.Numeric(precision=18, scale=9), server_default="0", nullable=False),
        sa.Column("unpriced", sa.Integer(), server_default="0", nullable=False),
        sa.Column("steps", sa.Integer(), server_default="0", nullable=False),
        sa.Column("attempts", sa.Integer(), server_default="0", nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("cancel_at", sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint("state IN ('succeeded','failed','cancelled','set aside')", name=op.f("ck_run_state")),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_run")),
        postgresql_partition_by="RANGE (id)",
    )
    op.create_index(
        "ix_run_origin",
        "run",
        ["workspace_id", "origin_id"],
        unique=False,
        postgresql_where=sa.text("origin_id IS NOT NULL"),
    )
    op.create_index(
        "ix_run_parent",
        "run",
        ["workspace_id", "parent_id", "id"],
        unique=False,
        postgresql_where=sa.text("parent_id IS NOT NULL"),
    )
    op.create_index(
        "ix_run_subject",
        "run",
        ["workspace_id", "subject", "id"],
        unique=False,
        postgresql_where=sa.text("subject IS NOT NULL"),
    )
    op.create_index("ix_run_workflow", "run", ["workspace_id", "workflow_id", "id"], unique=False)
    op.create_table(
        "seen",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("trigger_id", sa.Uuid(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("event_key", sa.Text(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "trigger_id", "source", "event_key", name=op.f("pk_seen")),
    )
    op.create_index("ix_seen_at", "seen", ["at"], unique=False)
    op.create_table(
        "refusal",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("status", sa.Integer(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("agent", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_refusal")),
    )
    op.create_index("ix_refusal_workflow", "refusal", ["workspace_id", "workflow_id", "id"], unique=False)
    op.create_table(
        "sign_in",
        sa.Column("key", sa.LargeBinary(), nullable=False),
        sa.Column("tried", sa.Integer(), server_default="0", nullable=False),
        sa.Column("known", sa.Boolean(), server_default="false", nullable=False),
        sa.Column("until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_sign_in")),
    )
    op.create_index("ix_sign_in_at", "sign_in", ["at"], unique=False)
    op.create_table(
        "signal",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "path", name=op.f("pk_signal")),
    )
    op.create_table(
        "spent",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("seq", sa.Integer(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("alias", sa.Text(), nullable=False),
        sa.Column("credential", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("input", sa.BigInteger(), nullable=False),
        sa.Column("cached", sa.BigInteger(), nullable=False),
        sa.Column("output", sa.BigInteger(), nullable=False),
        sa.Column("money", sa.Numeric(precision=18, scale=9), nullable=False),
        sa.Column("unpriced", sa.BigInteger(), server_default="0", nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "seq", name=op.f("pk_spent")),
    )
    op.create_table(
        "table_def",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("columns", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("searched", sa.Boolean(), server_default="false", nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_table_def")),
        sa.UniqueConstraint("workspace_id", "name", name=op.f("uq_table_def_workspace_id_name")),
    )
    op.create_table(
        "token",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("digest", sa.LargeBinary(), nullable=False),
        sa.Column("member_id", sa.Uuid(), nullable=True),
        sa.Column("rights", postgresql.ARRAY(sa.Text()), nullable=True),
        sa.Column("workflows", postgresql.ARRAY(sa.Text()), nullable=True),
        sa.Column("address", sa.Text(), nullable=True),
        sa.Column("agent", sa.Text(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("last_used_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("revoked", sa.Boolean(), server_default="false", nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_token")),
        sa.UniqueConstraint("digest", name=op.f("uq_token_digest")),
    )
    op.create_table(
        "tool_server",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("config", sa.Text(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "name", name=op.f("pk_tool_server")),
    )
    op.create_table(
        "usage",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("alias", sa.Text(), nullable=False),
        sa.Column("credential", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("input", sa.BigInteger(), nullable=False),
        sa.Column("cached", sa.BigInteger(), nullable=False),
        sa.Column("output", sa.BigInteger(), nullable=False),
        sa.Column("money", sa.Numeric(precision=18, scale=9), nullable=False),
        sa.Column("unpriced", sa.BigInteger(), server_default="0", nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint(
            "workspace_id", "day", "workflow_id", "alias", "credential", "source", name=op.f("pk_usage")
        ),
    )
    op.create_table(
        "vault_key",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("wrapped", sa.LargeBinary(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_vault_key")),
    )
    op.create_table(
        "wake",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "path", name=op.f("pk_wake")),
    )
    op.create_table(
        "worker",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), server_default="work", nullable=False),
        sa.Column("revision", sa.SmallInteger(), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("lease_until", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("dead_at", sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_worker")),
    )
    op.create_table(
        "workflow",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), server_default="workflow", nullable=False),
        sa.Column("title", sa.Text(), server_default="", nullable=False),
        sa.Column("labels", postgresql.JSONB(astext_type=sa.Text()), server_default="[]", nullable=False),
        sa.Column("settings", sa.Text(), server_default="{}", nullable=False),
        sa.Column("on_version", sa.Integer(), nullable=True),
        sa.Column("at_once", sa.Integer(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_workflow")),
        sa.UniqueConstraint("workspace_id", "name", name=op.f("uq_workflow_workspace_id_name")),
    )
    op.create_table(
        "workspace",
        sa.Column("id", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_workspace")),
        sa.UniqueConstraint("name", name=op.f("uq_workspace_name")),
    )
    op.create_table(
        "fact",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("conversation_id", sa.Uuid(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("value", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["workspace_id", "conversation_id"],
            ["conversation.workspace_id", "conversation.id"],
            name=op.f("fk_fact_workspace_id_conversation_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("workspace_id", "conversation_id", "name", name=op.f("pk_fact")),
    )
    op.create_table(
        "message",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("conversation_id", sa.Uuid(), nullable=False),
        sa.Column("seq", sa.Integer(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["workspace_id", "conversation_id"],
            ["conversation.workspace_id", "conversation.id"],
            name=op.f("fk_message_workspace_id_conversation_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("workspace_id", "conversation_id", "seq", name=op.f("pk_message")),
    )
    op.create_table(
        "sample",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("step", sa.Text(), server_default="", nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("value", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["workspace_id", "workflow_id"],
            ["workflow.workspace_id", "workflow.id"],
            name=op.f("fk_sample_workspace_id_workflow_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_sample")),
        sa.UniqueConstraint(
            "workspace_id", "workflow_id", "step", "name", name=op.f("uq_sample_workspace_id_workflow_id_step_name")
        ),
    )
    op.create_table(
        "table_row",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("table_id", sa.Uuid(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("data", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("searched", sa.Boolean(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["workspace_id", "table_id"],
            ["table_def.workspace_id", "table_def.id"],
            name=op.f("fk_table_row_workspace_id_table_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("workspace_id", "table_id", "id", name=op.f("pk_table_row")),
    )
    op.create_index(
        "ix_table_row_data",
        "table_row",
        ["data"],
        unique=False,
        postgresql_using="gin",
        postgresql_ops={"data": "jsonb_path_ops"},
        postgresql_where=sa.text("searched"),
    )
    op.create_table(
        "trigger",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("way", sa.Text(), nullable=False),
        sa.Column("path", sa.Text(), nullable=True),
        sa.Column("topic", sa.Text(), nullable=True),
        sa.Column("config", sa.Text(), nullable=False),
        sa.Column("start", sa.Text(), server_default="{}", nullable=False),
        sa.Column("version_id", sa.Uuid(), nullable=False),
        sa.ForeignKeyConstraint(
            ["workspace_id", "workflow_id"],
            ["workflow.workspace_id", "workflow.id"],
            name=op.f("fk_trigger_workspace_id_workflow_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_trigger")),
        sa.UniqueConstraint("path", name=op.f("uq_trigger_path")),
        sa.UniqueConstraint(
            "workspace_id", "workflow_id", "name", name=op.f("uq_trigger_workspace_id_workflow_id_name")
        ),
    )
    op.create_index(
        "ix_trigger_topic",
        "trigger",
        ["workspace_id", "way", "topic"],
        unique=False,
        postgresql_where=sa.text("topic IS NOT NULL"),
    )
    op.create_table(
        "version",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("digest", sa.String(length=16), nullable=False),
        sa.Column("revision", sa.SmallInteger(), nullable=False),
        sa.Column("author", sa.Text(), server_default="", nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["workspace_id", "workflow_id"],
            ["workflow.workspace_id", "workflow.id"],
            name=op.f("fk_version_workspace_id_workflow_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("workspace_id", "id", name=op.f("pk_version")),
        sa.UniqueConstraint(
            "workspace_id", "workflow_id", "number", name=op.f("uq_version_workspace_id_workflow_id_number")
        ),
    )
    op.create_table(
        "schedule",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("trigger_id", sa.Uuid(), nullable=False),
        sa.Column("next_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("last_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("paused", sa.Boolean(), server_default="false", nullable=False),
        sa.Column("fault", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(
            ["workspace_id", "trigger_id"],
            ["trigger.workspace_id", "trigger.id"],
            name=op.f("fk_schedule_workspace_id_trigger_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("workspace_id", "trigger_id", name=op.f("pk_schedule")),
    )
    op.create_index(
        "ix_schedule_next_at", "schedule", ["next_at"], unique=False, postgresql_where=sa.text("NOT paused")
    )
    op.execute("ALTER TABLE artifact ALTER COLUMN data SET STORAGE EXTERNAL")  # it is compressed already
    for table in (
        "artifact",
        "event",
        "failure",
        "journal",
        "run",
    ):  # months are made ahead; what belongs to none goes here
        op.execute(f"CREATE TABLE {table}_rest PARTITION OF {table} DEFAULT")
    op.execute(_ENTRY)


def downgrade() -> None:
    op.execute("DROP VIEW entry")
    op.drop_index("ix_schedule_next_at", table_name="schedule", postgresql_where=sa.text("NOT paused"))
    op.drop_table("schedule")
    op.drop_table("version")
    op.drop_index("ix_trigger_topic", table_name="trigger", postgresql_where=sa.text("topic IS NOT NULL"))
    op.drop_table("trigger")
    op.drop_index(
        "ix_table_row_data",
        table_name="table_row",
        postgresql_using="gin",
        postgresql_ops={"data": "jsonb_path_ops"},
        postgresql_where=sa.text("searched"),
    )
    op.drop_table("table_row")
    op.drop_table("sample")
    op.drop_table("message")
    op.drop_table("fact")
    op.drop_table("workspace")
    op.drop_table("workflow")
    op.drop_table("worker")
    op.drop_table("wake")
    op.drop_table("vault_key")
    op.drop_table("usage")
    op.drop_table("tool_server")
    op.drop_table("token")
    op.drop_table("table_def")
    op.drop_table("spent")
    op.drop_table("signal")
    op.drop_index("ix_refusal_workflow", table_name="refusal")
    op.drop_table("refusal")
    op.drop_index("ix_sign_in_at", table_name="sign_in")
    op.drop_table("sign_in")
    op.drop_index("ix_seen_at", table_name="seen")
    op.drop_table("seen")
    op.drop_index("ix_run_workflow", table_name="run")
    op.drop_index("ix_run_subject", table_name="run", postgresql_where=sa.text("subject IS NOT NULL"))
    op.drop_index("ix_run_parent", table_name="run", postgresql_where=sa.text("parent_id IS NOT NULL"))
    op.drop_index("ix_run_origin", table_name="run", postgresql_where=sa.text("origin_id IS NOT NULL"))
    op.drop_table("run")
    op.drop_table("rate")
    op.drop_index("ix_queue_worker", table_name="queue", postgresql_where=sa.text("worker_id IS NOT NULL"))
    op.drop_index("ix_queue_turn", table_name="queue", postgresql_where=sa.text("worker_id IS NULL"))
    op.drop_index("ix_queue_ready", table_name="queue", postgresql_where=sa.text("worker_id IS NULL"))
    op.drop_index("ix_queue_lane", table_name="queue", postgresql_where=sa.text("lane IS NOT NULL"))
    op.drop_table("queue")
    op.drop_index("ix_question_run", table_name="question")
    op.drop_index("ix_question_open", table_name="question", postgresql_where=sa.text("state = 'open'"))
    op.drop_index(
        "ix_question_alike", table_name="question", postgresql_where=sa.text("state = 'open' AND alike IS NOT NULL")
    )
    op.drop_table("question")
    op.drop_index("ix_published_topic", table_name="published", postgresql_where=sa.text("kind = 'event'"))
    op.drop_index("ix_published_open", table_name="published", postgresql_where=sa.text("handled_at IS NULL"))
    op.drop_table("published")
    op.drop_table("pin")
    op.drop_table("past_secret")
    op.drop_table("once")
    op.drop_table("model_alias")
    op.drop_table("missing_event")
    op.drop_table("member")
    op.drop_index("ix_listener_type", table_name="listener")
    op.drop_table("listener")
    op.drop_table("lane")
    op.drop_table("journal")
    op.drop_index("ix_failure_state", table_name="failure")
    op.drop_index("ix_failure_error_kind", table_name="failure")
    op.drop_table("failure")
    op.drop_table("fence")
    op.drop_table("event")
    op.drop_table("epoch")
    op.drop_table("credential")
    op.drop_index("ix_conversation_updated", table_name="conversation")
    op.drop_table("conversation")
    op.drop_table("budget")
    op.drop_table("audit")
    op.drop_table("artifact")
