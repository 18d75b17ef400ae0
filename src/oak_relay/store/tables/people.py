"""Workspaces, members, tokens, the audit, and what the cluster knows of itself."""

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    Index,
    Integer,
    LargeBinary,
    PrimaryKeyConstraint,
    SmallInteger,
    Table,
    Text,
    UniqueConstraint,
    Uuid,
)
from sqlalchemy.dialects.postgresql import ARRAY

from oak_relay.store.tables.base import metadata, moment, workspace_key

workspace = Table(
    "workspace",
    metadata,
    Column("id", SmallInteger, primary_key=True, autoincrement=False),
    Column("name", Text, nullable=False, unique=True),
    moment("created_at", False),
)

epoch = Table("epoch", metadata, Column("name", Text, primary_key=True), Column("value", BigInteger, nullable=False))

member = Table(
    "member",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("name", Text, nullable=False),
    Column("role", Text, nullable=False),
    Column("password_hash", Text, nullable=False),
    moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "name"),
)

token = Table(
    "token",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("kind", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("digest", LargeBinary, nullable=False, unique=True),
    Column("member_id", Uuid),
    Column("rights", ARRAY(Text)),
    Column("workflows", ARRAY(Text)),
    Column("address", Text),
    Column("agent", Text),
    moment("created_at", False),
    moment("expires_at"),
    moment("last_used_at"),
    Column("revoked", Boolean, nullable=False, server_default="false"),
    PrimaryKeyConstraint("workspace_id", "id"),
)

sign_in = Table(
    "sign_in",
    metadata,
    Column("key", LargeBinary, primary_key=True),
    Column("tried", Integer, nullable=False, server_default="0"),
    Column("known", Boolean, nullable=False, server_default="false"),
    moment("until"),
    moment("at", False),
    Index("ix_sign_in_at", "at"),
)

audit = Table(
    "audit",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    moment("at", False),
    Column("who", Text, nullable=False),
    Column("action", Text, nullable=False),
    Column("target", Text, nullable=False),
    PrimaryKeyConstraint("workspace_id", "id"),
)

# Answers to requests that came with an Idempotency-Key.
answered = Table(
    "answered",
    metadata,
    workspace_key(),
    # Digests of who sent it, what it asks for and the key; and of the body.
    Column("key", LargeBinary, nullable=False),
    Column("body", LargeBinary, nullable=False),
    Column("status", Integer),
    # The answer, sealed: it may tell a secret this once.
    Column("answer", LargeBinary),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "key"),
    Index("ix_answered_at", "at"),
)
