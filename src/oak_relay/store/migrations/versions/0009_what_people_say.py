"""what people say, and what they are told"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("conversation", sa.Column("channel", sa.Text()))
    op.add_column("question", sa.Column("conversation_id", sa.Uuid()))
    op.create_index(
        "ix_question_conversation", "question", ["workspace_id", "conversation_id"], unique=True,
        postgresql_where=sa.text("state = 'open' AND conversation_id IS NOT NULL"),
    )  # fmt: skip
    op.create_table(
        "utterance",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("conversation_id", sa.Uuid(), nullable=False),
        sa.Column("seq", sa.Integer(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("side", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("more", sa.Text(), nullable=False, server_default="{}"),
        sa.Column("key", sa.Text()),
        sa.Column("run_id", sa.Uuid()),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.PrimaryKeyConstraint("workspace_id", "conversation_id", "seq", name=op.f("pk_utterance")),
        sa.UniqueConstraint(
            "workspace_id", "conversation_id", "key", name=op.f("uq_utterance_workspace_id_conversation_id_key")
        ),
        sa.ForeignKeyConstraint(
            ["workspace_id", "conversation_id"],
            ["conversation.workspace_id", "conversation.id"],
            name=op.f("fk_utterance_workspace_id_conversation_id"),
            ondelete="CASCADE",
        ),
    )
    op.create_index("ix_utterance_run", "utterance", ["workspace_id", "run_id"])


def downgrade() -> None:
    op.drop_table("utterance")
    op.drop_index("ix_question_conversation", table_name="question")
    op.drop_column("question", "conversation_id")
    op.drop_column("conversation", "channel")
