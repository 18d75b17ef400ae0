"""Conversations and what was said in them."""

from sqlalchemy import (
    Column,
    ForeignKeyConstraint,
    Index,
    Integer,
    PrimaryKeyConstraint,
    Table,
    Text,
    UniqueConstraint,
    Uuid,
)

from oak_relay.store.tables.base import metadata, moment, workspace_key

conversation = Table(
    "conversation",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("key", Text, nullable=False),
    # What was said before the message of this number, in short.
    Column("summary", Text),
    Column("summed_up", Integer, nullable=False, server_default="0"),
    moment("created_at", False),
    moment("updated_at", False),
    PrimaryKeyConstraint("workspace_id", "id"),
    UniqueConstraint("workspace_id", "key"),
    Index("ix_conversation_updated", "workspace_id", "updated_at"),
)

message = Table(
    "message",
    metadata,
    workspace_key(),
    Column("conversation_id", Uuid, nullable=False),
    Column("seq", Integer, nullable=False),
    Column("role", Text, nullable=False),
    # As the chat-completions protocol has it: role, content, tool calls.
    Column("body", Text, nullable=False),
    Column("run_id", Uuid),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "conversation_id", "seq"),
    ForeignKeyConstraint(
        ["workspace_id", "conversation_id"], ["conversation.workspace_id", "conversation.id"], ondelete="CASCADE"
    ),
)

# What an agent keeps about whom it talks with.
fact = Table(
    "fact",
    metadata,
    workspace_key(),
    Column("conversation_id", Uuid, nullable=False),
    Column("name", Text, nullable=False),
    Column("value", Text, nullable=False),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "conversation_id", "name"),
    ForeignKeyConstraint(
        ["workspace_id", "conversation_id"], ["conversation.workspace_id", "conversation.id"], ondelete="CASCADE"
    ),
)
