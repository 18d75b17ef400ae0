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
        "tool_server",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("config", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("updated_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "name", name=op.f("pk_tool_server")),
    )
    op.add_column("workflow", sa.Column("kind", sa.Text(), server_default="workflow", nullable=False))
    op.execute("ALTER TABLE artifact ALTER COLUMN data SET STORAGE EXTERNAL")
    op.execute("CREATE TABLE artifact_rest PARTITION OF artifact DEFAULT")


def downgrade() -> None:
    op.drop_column("workflow", "kind")
    for table in ("tool_server", "message", "conversation"):
        op.drop_table(table)
    op.drop_table("pin")
    op.drop_table("artifact")
