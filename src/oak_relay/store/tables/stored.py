"""What is stored for use: credentials and their rates, model aliases, tables and their rows."""

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    DateTime,
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
    # Under the master key; under the next one while that takes its place; under the data key before it while rows
    # are still sealed with that.
    Column("wrapped", LargeBinary, nullable=False),
    Column("next", LargeBinary),
    Column("link", LargeBinary),
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
    Column("grants", JSONB, nullable=False, server_default="[]"),
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
    # Where its rows live, when that is elsewhere.
    Column("link", JSONB(none_as_null=True)),
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
    Column("key_id", Integer, nullable=False, server_default="1"),
    Column("sealed", LargeBinary, nullable=False),
    moment("retired_at", False),
    # Of what is over by itself: until when it is looked for.
    moment("until"),
    PrimaryKeyConstraint("workspace_id", "digest"),
)

tool_server = Table(
    "tool_server",
    metadata,
    workspace_key(),
    Column("name", Text, nullable=False),
    Column("config", Text, nullable=False),
    Column("key_id", Integer, nullable=False, server_default="1"),
    Column("sealed", LargeBinary, nullable=False),
    moment("created_at", False),
    moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "name"),
)

# Connectors that were read from a description: the text of what is used now, and of each version there was.
connector = Table(
    "connector",
    metadata,
    workspace_key(),
    Column("name", Text, nullable=False),
    Column("number", Integer, nullable=False),
    Column("text", Text, nullable=False),
    moment("created_at", False),
    moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "name"),
)

connector_version = Table(
    "connector_version",
    metadata,
    workspace_key(),
    Column("name", Text, nullable=False),
    Column("number", Integer, nullable=False),
    Column("text", Text, nullable=False),
    Column("author", Text, nullable=False),
    moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "name", "number"),
)

_CREDENTIAL = ["workspace_id", "name"], ["credential.workspace_id", "credential.name"]

# What somebody let an OAuth app do, and the tokens for it.
consent = Table(
    "consent",
    metadata,
    workspace_key(),
    Column("name", Text, nullable=False),
    Column("account", Text, nullable=False, server_default=""),
    # JSON: those that were given, and those that a call was refused for.
    Column("scopes", Text, nullable=False, server_default="[]"),
    Column("wanted", Text, nullable=False, server_default="[]"),
    Column("key_id", Integer, nullable=False),
    Column("sealed", LargeBinary, nullable=False),
    # One more with each token, beginning with the seconds since 1970: no version comes twice.
    Column("version", BigInteger, nullable=False),
    # ready, or reconnect; why, and since when.
    Column("state", Text, nullable=False, server_default="ready"),
    Column("why", Text, nullable=False, server_default=""),
    moment("since", False),
    moment("expires_at"),
    # Whether its provider gives another refresh token each time.
    Column("rotates", Boolean, nullable=False, server_default="false"),
    # Who is refreshing, and until when nobody else does.
    Column("lease", Uuid),
    moment("leased_until"),
    # Refreshes in a row of which no reply came.
    Column("cut", Integer, nullable=False, server_default="0"),
    # When a token was last refreshed because a call with it was refused.
    moment("forced_at"),
    moment("retry_at"),
    Column("granted_by", Text, nullable=False, server_default=""),
    moment("granted_at", False),
    moment("refreshed_at"),
    PrimaryKeyConstraint("workspace_id", "name"),
    ForeignKeyConstraint(*_CREDENTIAL, ondelete="CASCADE"),
)

# Consents that somebody is just being asked for, by the digest of their state.
consent_begun = Table(
    "consent_begun",
    metadata,
    workspace_key(),
    Column("digest", LargeBinary, nullable=False),
    Column("name", Text, nullable=False),
    Column("member", Text, nullable=False),
    Column("key_id", Integer, nullable=False),
    Column("sealed", LargeBinary, nullable=False),
    Column("redirect", Text, nullable=False),
    Column("scopes", Text, nullable=False),
    Column("until", DateTime(timezone=True), nullable=False),
    PrimaryKeyConstraint("workspace_id", "digest"),
    ForeignKeyConstraint(*_CREDENTIAL, ondelete="CASCADE"),
)

# How often each part of what processes keep a copy of was changed: triggers of the database count.
generation = Table(
    "generation",
    metadata,
    workspace_key(),
    Column("parts", JSONB, nullable=False),
    PrimaryKeyConstraint("workspace_id"),
)
