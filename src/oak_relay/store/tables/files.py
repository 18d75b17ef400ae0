"""Files: what is known of them, their bytes in pieces, and what refers to them."""

from sqlalchemy import (
    BigInteger,
    Column,
    ForeignKeyConstraint,
    Index,
    Integer,
    LargeBinary,
    PrimaryKeyConstraint,
    Table,
    Text,
    Uuid,
    text,
)

from oak_relay.store.tables.base import metadata, moment, workspace_key

file = Table(
    "file",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    # SHA-256 of all its bytes; none until the last of them is there. Until then it is nobody's.
    Column("digest", LargeBinary),
    Column("size", BigInteger, nullable=False, server_default="0"),
    # Bytes of the workspace's room that it holds.
    Column("room", BigInteger, nullable=False, server_default="0"),
    # As it came first: the same bytes may be called otherwise where they are referred to.
    Column("name", Text, nullable=False, server_default=""),
    Column("type", Text, nullable=False, server_default=""),
    moment("begun_at", False),
    moment("grown_at", False),
    moment("whole_at"),
    # When a sweep found that nothing refers to it; none when the last one found something.
    moment("alone_since"),
    PrimaryKeyConstraint("workspace_id", "id"),
    Index("uq_file_digest", "workspace_id", "digest", unique=True, postgresql_where=text("whole_at IS NOT NULL")),
    Index("ix_file_begun", "workspace_id", "grown_at", postgresql_where=text("whole_at IS NULL")),
    Index("ix_file_alone", "workspace_id", "alone_since", postgresql_where=text("alone_since IS NOT NULL")),
)

file_piece = Table(
    "file_piece",
    metadata,
    workspace_key(),
    Column("file_id", Uuid, nullable=False),
    Column("number", Integer, nullable=False),
    Column("data", LargeBinary, nullable=False),
    PrimaryKeyConstraint("workspace_id", "file_id", "number"),
    ForeignKeyConstraint(["workspace_id", "file_id"], ["file.workspace_id", "file.id"], ondelete="CASCADE"),
)

# How much of its room a workspace has used; a row for each.
file_room = Table(
    "file_room",
    metadata,
    workspace_key(),
    Column("bytes", BigInteger, nullable=False, server_default="0"),
    PrimaryKeyConstraint("workspace_id"),
)

# Runs that hold a file in what they were given or gave, by month as their history is.
file_reference = Table(
    "file_reference",
    metadata,
    workspace_key(),
    Column("owner", Uuid, nullable=False),
    Column("file_id", Uuid, nullable=False),
    PrimaryKeyConstraint("workspace_id", "owner", "file_id"),
    Index("ix_file_reference_file", "workspace_id", "file_id"),
    postgresql_partition_by="RANGE (owner)",
)

# Rows of tables, and samples, that hold a file; for as long as they are there.
file_of_row = Table(
    "file_of_row",
    metadata,
    workspace_key(),
    Column("table_id", Uuid, nullable=False),
    Column("row_id", Uuid, nullable=False),
    Column("file_id", Uuid, nullable=False),
    PrimaryKeyConstraint("workspace_id", "table_id", "row_id", "file_id"),
    ForeignKeyConstraint(
        ["workspace_id", "table_id", "row_id"],
        ["table_row.workspace_id", "table_row.table_id", "table_row.id"],
        ondelete="CASCADE",
    ),
    Index("ix_file_of_row_file", "workspace_id", "file_id"),
)

file_of_sample = Table(
    "file_of_sample",
    metadata,
    workspace_key(),
    Column("sample_id", Uuid, nullable=False),
    Column("file_id", Uuid, nullable=False),
    PrimaryKeyConstraint("workspace_id", "sample_id", "file_id"),
    ForeignKeyConstraint(["workspace_id", "sample_id"], ["sample.workspace_id", "sample.id"], ondelete="CASCADE"),
    Index("ix_file_of_sample_file", "workspace_id", "file_id"),
)
