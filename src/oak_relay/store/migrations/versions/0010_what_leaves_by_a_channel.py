"""what leaves by a channel"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("conversation", sa.Column("address", sa.Text()))
    op.add_column("conversation", sa.Column("via", sa.Text()))
    op.add_column("conversation", sa.Column("person", sa.Text()))
    op.add_column("question", sa.Column("said_seq", sa.Integer()))
    op.add_column("utterance", sa.Column("state", sa.Text()))
    op.add_column("utterance", sa.Column("told_at", sa.DateTime(timezone=True)))
    op.add_column("utterance", sa.Column("good", sa.Boolean()))
    op.create_table(
        "outbox",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("conversation_id", sa.Uuid(), nullable=False),
        sa.Column("seq", sa.Integer(), nullable=False),
        sa.Column("run_id", sa.Uuid()),
        sa.Column("state", sa.Text(), nullable=False, server_default="waiting"),
        sa.Column("pieces", sa.Text()),
        sa.Column("part", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("tries", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("lease", sa.Uuid()),
        sa.Column("harmless", sa.Boolean(), nullable=False, server_default=sa.false()),
        sa.Column("error", sa.Text()),
        sa.Column("ready_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.Column("leased_until", sa.DateTime(timezone=True)),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.PrimaryKeyConstraint("workspace_id", "conversation_id", "seq", name=op.f("pk_outbox")),
        sa.CheckConstraint("state IN ('waiting','sending','unknown')", name=op.f("ck_outbox_state")),
        sa.ForeignKeyConstraint(
            ["workspace_id", "conversation_id", "seq"],
            ["utterance.workspace_id", "utterance.conversation_id", "utterance.seq"],
            name=op.f("fk_outbox_workspace_id"),
            ondelete="CASCADE",
        ),
    )
    op.create_index(
        "ix_outbox_sending", "outbox", ["workspace_id", "conversation_id"], unique=True,
        postgresql_where=sa.text("state = 'sending'"),
    )  # fmt: skip
    op.create_index(
        "ix_utterance_judged", "utterance", ["workspace_id", "run_id"], postgresql_where=sa.text("good IS NOT NULL")
    )
    op.create_index(
        "ix_utterance_held", "utterance", ["workspace_id", "conversation_id"], postgresql_where=sa.text("seq < 0")
    )
    op.create_index("ix_outbox_ready", "outbox", ["workspace_id", "ready_at"])


def downgrade() -> None:
    op.drop_table("outbox")
    op.drop_index("ix_utterance_held", table_name="utterance")
    op.drop_index("ix_utterance_judged", table_name="utterance")
    op.drop_column("utterance", "good")
    op.drop_column("utterance", "told_at")
    op.drop_column("utterance", "state")
    op.drop_column("question", "said_seq")
    op.drop_column("conversation", "person")
    op.drop_column("conversation", "via")
    op.drop_column("conversation", "address")
