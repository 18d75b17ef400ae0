"""What is stored for use: credentials and their rates, model aliases, tables and their rows."""

from sqlalchemy import (
    Boolean,
    Column,
    ForeignKeyConstraint,
    Index,
    Integer,
    LargeBinary,
    PrimaryKeyConstraint,
    Table,
    Text,
    UniqueConstraint,
    Uuid,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB

from oak_relay.store.tables.base import metadata, moment, workspace_key

vault_key = Table(
    "vault_key",
    metadata,
    workspace_key(),
    Column("id", Integer, nullable=False),
    Column("wrapped", LargeBinary, nullable=False),
    moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
)

credential = Table(
    "credential",
    metadata,
    workspace_key(),
    Column("name", Text, nullable=False),
    Column("kind", Text, nullable=False),
    Column("config", Text, nullable=False),
    Column("key_id", Integer, nullable=False),
    Column("sealed", LargeBinary, nullable=False),
    Column("last_test", Text),
    moment("last_used_at"),
    # When a call with it went well last.
    moment("last_worked_at"),
    moment("created_at", False),
    moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "name"),
)

rate = Table(
    "rate",
    metadata,
    workspace_key(),
    Column("credential", Text, nullable=False),
    moment("window_at", False),
    Column("used", Integer, nullable=False),
    PrimaryKeyConstraint("workspace_id", "credential"),
)

model_alias = Table(
    "model_alias",
    metadata,
    workspace_key(),
    Column("name", Text, nullable=False),
    Column("config", Text, nullable=False),
    moment("created_at", False),
    moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "name"),
)

table_def = Table(
    "table_def",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("name", Text, nullable=False),
    Column("columns", JSONB, nullable=False),
    # Set when a row is first looked for by its values; only then are its rows indexed by them.
    Column("searched", Boolean, nullable=False, server_default="false"),
    moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "name"),
)

table_row = Table(
    "table_row",
    metadata,
    workspace_key(),
    Column("table_id", Uuid, nullable=False),
    Column("id", Uuid, nullable=False),
    Column("data", JSONB, nullable=False),
    Column("searched", Boolean, nullable=False),
    moment("created_at", False),
    moment("updated_at", False),
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

past_secret = Table(
    "past_secret",
    metadata,
    workspace_key(),
    Column("digest", Text, nullable=False),
    Column("sealed", LargeBinary, nullable=False),
    moment("retired_at", False),
    PrimaryKeyConstraint("workspace_id", "digest"),
)

tool_server = Table(
    "tool_server",
    metadata,
    workspace_key(),
    Column("name", Text, nullable=False),
    Column("config", Text, nullable=False),
    Column("sealed", LargeBinary, nullable=False),
    moment("created_at", False),
    moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "name"),
)
