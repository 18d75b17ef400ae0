"""ways in that are awaited, credit, answers that are kept, workflows that are removed"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "answered",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("key", sa.LargeBinary(), nullable=False),
        sa.Column("body", sa.LargeBinary(), nullable=False),
        sa.Column("status", sa.Integer(), nullable=True),
        sa.Column("answer", sa.LargeBinary(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "key", name=op.f("pk_answered")),
    )
    op.create_index("ix_answered_at", "answered", ["at"], unique=False)
    op.create_table(
        "credit",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("credential", sa.Text(), nullable=False),
        sa.Column("money", sa.Numeric(precision=18, scale=9), nullable=False),
        sa.Column("base", sa.Numeric(precision=18, scale=9), nullable=False),
        sa.Column("base_unpriced", sa.BigInteger(), nullable=False),
        sa.Column("noted_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("warn_at", sa.Float(), server_default="0.2", nullable=False),
        sa.Column("warn_days", sa.Float(), server_default="3", nullable=False),
        sa.Column("state", sa.Text(), server_default="within", nullable=False),
        sa.Column("spent", sa.Numeric(precision=18, scale=9), server_default="0", nullable=False),
        sa.Column("unpriced", sa.BigInteger(), server_default="0", nullable=False),
        sa.Column("a_day", sa.Numeric(precision=18, scale=9), server_default="0", nullable=False),
        sa.CheckConstraint("state IN ('within','warned','spent')", name=op.f("ck_credit_state")),
        sa.PrimaryKeyConstraint("workspace_id", "credential", name=op.f("pk_credit")),
    )
    op.create_table(
        "awaited",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("workflow_id", sa.Uuid(), nullable=False),
        sa.Column("trigger", sa.Text(), nullable=False),
        sa.Column("path", sa.Text(), nullable=True),
        sa.Column("sample", sa.Text(), nullable=False),
        sa.Column("until", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["workspace_id", "workflow_id"],
            ["workflow.workspace_id", "workflow.id"],
            name=op.f("fk_awaited_workspace_id_workflow_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("workspace_id", "workflow_id", "trigger", name=op.f("pk_awaited")),
    )
    op.create_index(
        "ix_awaited_path",
        "awaited",
        ["workspace_id", "path"],
        unique=False,
        postgresql_where=sa.text("path IS NOT NULL"),
    )
    op.add_column("credential", sa.Column("last_worked_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("workflow", sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("sample", sa.Column("trigger", sa.Text(), server_default="", nullable=False))
    op.add_column("sample", sa.Column("event", sa.Text(), nullable=True))


def downgrade() -> None:
    op.drop_column("sample", "event")
    op.drop_column("sample", "trigger")
    op.drop_column("workflow", "removed_at")
    op.drop_column("credential", "last_worked_at")
    op.drop_index("ix_awaited_path", table_name="awaited", postgresql_where=sa.text("path IS NOT NULL"))
    op.drop_table("awaited")
    op.drop_table("credit")
    op.drop_index("ix_answered_at", table_name="answered")
    op.drop_table("answered")
