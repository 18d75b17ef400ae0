"""files: their bytes in pieces, and what refers to them"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    now = sa.text("now()")
    op.create_table(
        "file",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("digest", sa.LargeBinary()),
        sa.Column("size", sa.BigInteger(), server_default="0", nullable=False),
        sa.Column("room", sa.BigInteger(), server_default="0", nullable=False),
        sa.Column("name", sa.Text(), server_default="", nullable=False),
        sa.Column("type", sa.Text(), server_default="", nullable=False),
        sa.Column("begun_at", sa.DateTime(timezone=True), server_default=now, nullable=False),
        sa.Column("grown_at", sa.DateTime(timezone=True), server_default=now, nullable=False),
        sa.Column("whole_at", sa.DateTime(timezone=True)),
        sa.Column("alone_since", sa.DateTime(timezone=True)),
        sa.PrimaryKeyConstraint("workspace_id", "id", name="pk_file"),
    )
    there, growing = sa.text("whole_at IS NOT NULL"), sa.text("whole_at IS NULL")
    op.create_index("uq_file_digest", "file", ["workspace_id", "digest"], unique=True, postgresql_where=there)
    op.create_index("ix_file_begun", "file", ["workspace_id", "grown_at"], postgresql_where=growing)
    alone = sa.text("alone_since IS NOT NULL")
    op.create_index("ix_file_alone", "file", ["workspace_id", "alone_since"], postgresql_where=alone)
    op.create_table(
        "file_piece",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("file_id", sa.Uuid(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "file_id", "number", name="pk_file_piece"),
        sa.ForeignKeyConstraint(
            ["workspace_id", "file_id"],
            ["file.workspace_id", "file.id"],
            name="fk_file_piece_workspace_id_file",
            ondelete="CASCADE",
        ),
    )
    op.execute("ALTER TABLE file_piece ALTER COLUMN data SET STORAGE EXTERNAL")
    op.create_table(
        "file_room",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("bytes", sa.BigInteger(), server_default="0", nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", name="pk_file_room"),
    )
    op.create_table(
        "file_reference",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("owner", sa.Uuid(), nullable=False),
        sa.Column("file_id", sa.Uuid(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "owner", "file_id", name="pk_file_reference"),
        postgresql_partition_by="RANGE (owner)",
    )
    op.create_index("ix_file_reference_file", "file_reference", ["workspace_id", "file_id"])
    op.execute("CREATE TABLE file_reference_rest PARTITION OF file_reference DEFAULT")
    op.create_table(
        "file_of_row",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("table_id", sa.Uuid(), nullable=False),
        sa.Column("row_id", sa.Uuid(), nullable=False),
        sa.Column("file_id", sa.Uuid(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "table_id", "row_id", "file_id", name="pk_file_of_row"),
        sa.ForeignKeyConstraint(
            ["workspace_id", "table_id", "row_id"],
            ["table_row.workspace_id", "table_row.table_id", "table_row.id"],
            name="fk_file_of_row_workspace_id_table_row",
            ondelete="CASCADE",
        ),
    )
    op.create_index("ix_file_of_row_file", "file_of_row", ["workspace_id", "file_id"])
    op.create_table(
        "file_of_sample",
        sa.Column("workspace_id", sa.SmallInteger(), nullable=False),
        sa.Column("sample_id", sa.Uuid(), nullable=False),
        sa.Column("file_id", sa.Uuid(), nullable=False),
        sa.PrimaryKeyConstraint("workspace_id", "sample_id", "file_id", name="pk_file_of_sample"),
        sa.ForeignKeyConstraint(
            ["workspace_id", "sample_id"],
            ["sample.workspace_id", "sample.id"],
            name="fk_file_of_sample_workspace_id_sample",
            ondelete="CASCADE",
        ),
    )
    op.create_index("ix_file_of_sample_file", "file_of_sample", ["workspace_id", "file_id"])


def downgrade() -> None:
    for table in ("file_of_sample", "file_of_row", "file_reference", "file_room", "file_piece", "file"):
        op.drop_table(table)
