"""schedules, lanes, questions, children, what is published, history by month"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None

_HISTORY = {"run": "id", "event": "id", "journal": "run_id"}
_KEYS = {"run": "workspace_id, id", "event": "workspace_id, id", "journal": "workspace_id, run_id, seq"}


def upgrade() -> None:
    op.create_table(
        "epoch",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("value", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_epoch")),
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
        sa.Column("sealed", sa.LargeBinary(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "path", name=op.f("pk_listener")),
    )
    op.create_index("ix_listener_type", "listener", ["workspace_id", "type"], unique=False)
    op.create_table(
        "published",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("topic", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("event_key", sa.Text(), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=True),
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
        "rate",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("credential", sa.Text(), nullable=False),
        sa.Column("window_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("used", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "credential", name=op.f("pk_rate")),
    )
    op.create_table(
        "signal",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "path", name=op.f("pk_signal")),
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
    op.add_column("journal", sa.Column("scope", sa.Text(), server_default="", nullable=False))
    op.add_column("journal", sa.Column("steps", sa.Integer(), server_default="0", nullable=False))
    op.add_column("journal", sa.Column("attempts", sa.Integer(), server_default="0", nullable=False))
    op.add_column("journal", sa.Column("tokens_in", sa.BigInteger(), nullable=True))
    op.add_column("journal", sa.Column("tokens_out", sa.BigInteger(), nullable=True))
    op.add_column("journal", sa.Column("money", sa.Numeric(precision=18, scale=9), nullable=True))
    op.add_column("queue", sa.Column("alone", sa.Integer(), server_default="0", nullable=False))
    op.add_column("queue", sa.Column("outcomes", sa.Integer(), server_default="0", nullable=False))
    op.add_column("queue", sa.Column("held", sa.Text(), nullable=True))
    op.add_column("queue", sa.Column("lane", sa.Text(), nullable=True))
    op.add_column("queue", sa.Column("place", sa.BigInteger(), nullable=True))
    op.create_index(
        "ix_queue_lane",
        "queue",
        ["workspace_id", "workflow_id", "lane", "place"],
        unique=False,
        postgresql_where=sa.text("lane IS NOT NULL"),
    )
    op.create_index(
        "ix_queue_turn",
        "queue",
        ["workspace_id", "workflow_id", "ready_at"],
        unique=False,
        postgresql_where=sa.text("worker_id IS NULL"),
    )
    op.add_column("run", sa.Column("kind", sa.Text(), server_default="run", nullable=False))
    op.add_column("run", sa.Column("parent_id", sa.Uuid(), nullable=True))
    op.add_column("run", sa.Column("parent_path", sa.Text(), nullable=True))
    op.add_column("run", sa.Column("origin_id", sa.Uuid(), nullable=True))
    op.add_column("run", sa.Column("origin_how", sa.Text(), nullable=True))
    op.add_column("run", sa.Column("depth", sa.SmallInteger(), server_default="0", nullable=False))
    op.add_column("run", sa.Column("trace_parent", sa.Text(), nullable=True))
    op.add_column("run", sa.Column("money_limit", sa.Numeric(precision=18, scale=9), nullable=True))
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
    op.create_index("ix_seen_at", "seen", ["at"], unique=False)
    op.add_column("trigger", sa.Column("topic", sa.Text(), nullable=True))
    op.add_column("trigger", sa.Column("start", sa.Text(), server_default="{}", nullable=False))
    op.create_index(
        "ix_trigger_topic",
        "trigger",
        ["workspace_id", "kind", "topic"],
        unique=False,
        postgresql_where=sa.text("topic IS NOT NULL"),
    )
    op.add_column("worker", sa.Column("role", sa.Text(), server_default="work", nullable=False))
    op.add_column("workflow", sa.Column("at_once", sa.Integer(), nullable=True))
    _by_month()


def _by_month() -> None:
    """History becomes partitioned by time; what is there goes into the partition for the rest, from which months
    are taken when they are made."""
    for table, column in _HISTORY.items():
        _rebuild(
            table, f" PARTITION BY RANGE ({column})", f"CREATE TABLE {table}_rest PARTITION OF {table}_new DEFAULT"
        )


def _rebuild(table: str, partitions: str, rest: str = "") -> None:
    """Make a table anew, partitioned or not, with its rows, its key and its indexes."""
    defined = sa.text(
        f"SELECT pg_get_indexdef(indexrelid) FROM pg_index WHERE indrelid = '{table}'::regclass AND NOT indisprimary"
    )
    indexes = [row[0].replace(" ON ONLY ", " ON ") for row in op.get_bind().execute(defined)]
    op.execute(f"CREATE TABLE {table}_new (LIKE {table} INCLUDING DEFAULTS INCLUDING CONSTRAINTS){partitions}")
    if rest:
        op.execute(rest)
    op.execute(f"INSERT INTO {table}_new SELECT * FROM {table}")
    op.execute(f"DROP TABLE {table}")
    op.execute(f"ALTER TABLE {table}_new RENAME TO {table}")
    op.execute(f"ALTER TABLE {table} ADD CONSTRAINT pk_{table} PRIMARY KEY ({_KEYS[table]})")
    for index in indexes:
        op.execute(index)


def downgrade() -> None:
    for table in _HISTORY:
        _rebuild(table, "")
    op.drop_table("schedule")
    op.drop_table("sample")
    op.drop_table("signal")
    op.drop_table("rate")
    op.drop_table("question")
    op.drop_table("published")
    op.drop_table("listener")
    op.drop_table("lane")
    op.drop_table("epoch")
    op.execute("ALTER TABLE workflow DROP COLUMN at_once CASCADE")
    op.execute("ALTER TABLE worker DROP COLUMN role CASCADE")
    op.execute("ALTER TABLE trigger DROP COLUMN topic CASCADE")
    op.execute("ALTER TABLE trigger DROP COLUMN start CASCADE")
    op.execute("ALTER TABLE run DROP COLUMN money_limit CASCADE")
    op.execute("ALTER TABLE run DROP COLUMN trace_parent CASCADE")
    op.execute("ALTER TABLE run DROP COLUMN depth CASCADE")
    op.execute("ALTER TABLE run DROP COLUMN origin_how CASCADE")
    op.execute("ALTER TABLE run DROP COLUMN origin_id CASCADE")
    op.execute("ALTER TABLE run DROP COLUMN parent_path CASCADE")
    op.execute("ALTER TABLE run DROP COLUMN parent_id CASCADE")
    op.execute("ALTER TABLE run DROP COLUMN kind CASCADE")
    op.execute("ALTER TABLE queue DROP COLUMN place CASCADE")
    op.execute("ALTER TABLE queue DROP COLUMN lane CASCADE")
    op.execute("ALTER TABLE queue DROP COLUMN held CASCADE")
    op.execute("ALTER TABLE queue DROP COLUMN outcomes CASCADE")
    op.execute("ALTER TABLE queue DROP COLUMN alone CASCADE")
    op.execute("ALTER TABLE journal DROP COLUMN money CASCADE")
    op.execute("ALTER TABLE journal DROP COLUMN tokens_out CASCADE")
    op.execute("ALTER TABLE journal DROP COLUMN tokens_in CASCADE")
    op.execute("ALTER TABLE journal DROP COLUMN attempts CASCADE")
    op.execute("ALTER TABLE journal DROP COLUMN steps CASCADE")
    op.execute("ALTER TABLE journal DROP COLUMN scope CASCADE")
    op.drop_index("ix_seen_at", table_name="seen")
