"""large payloads apart, by month; what a run settled at first use; agents, conversations, tool servers"""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


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
        "pin",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("version_id", sa.Uuid(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "kind", "name", name=op.f("pk_pin")),
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
        "tool_server",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("config", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "name", name=op.f("pk_tool_server")),
    )
    op.create_table(
        "spent",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("run_id", sa.Uuid(), nullable=False),
        sa.Column("seq", sa.Integer(), nullable=False),
        *_usage_columns(),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "run_id", "seq", name=op.f("pk_spent")),
    )
    op.create_table(
        "usage",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        *_usage_columns(),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint(
            "workspace_id", "day", "workflow_id", "alias", "credential", "source", name=op.f("pk_usage")
        ),
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
        sa.CheckConstraint("state IN ('within','warned','spent')", name=op.f("ck_budget_state")),
        sa.CheckConstraint("period IN ('day','month')", name=op.f("ck_budget_period")),
        sa.PrimaryKeyConstraint("workspace_id", "name", name=op.f("pk_budget")),
    )
    op.add_column("workflow", sa.Column("kind", sa.Text(), server_default="workflow", nullable=False))
    op.execute("ALTER TABLE artifact ALTER COLUMN data SET STORAGE EXTERNAL")
    op.execute("CREATE TABLE artifact_rest PARTITION OF artifact DEFAULT")


def _usage_columns() -> list[sa.Column]:
    return [
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("alias", sa.Text(), nullable=False),
        sa.Column("credential", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("input", sa.BigInteger(), nullable=False),
        sa.Column("cached", sa.BigInteger(), nullable=False),
        sa.Column("output", sa.BigInteger(), nullable=False),
        sa.Column("money", sa.Numeric(precision=18, scale=9), nullable=False),
    ]


def downgrade() -> None:
    op.drop_column("workflow", "kind")
    for table in ("budget", "usage", "spent", "tool_server", "fact", "message", "conversation"):
        op.drop_table(table)
    op.drop_table("pin")
    op.drop_table("artifact")
