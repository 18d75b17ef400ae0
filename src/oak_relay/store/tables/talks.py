"""Conversations and what was said in them."""

from sqlalchemy import (
    Boolean,
    CheckConstraint,
    Column,
    ForeignKeyConstraint,
    Index,
    Integer,
    PrimaryKeyConstraint,
    Table,
    Text,
    UniqueConstraint,
    Uuid,
    text,
)

from oak_relay.store.tables.base import metadata, moment, workspace_key

conversation = Table(
    "conversation",
    metadata,
    workspace_key(),
    Column("id", Uuid, nullable=False),
    Column("key", Text, nullable=False),
    # Where it is held, when it came in by a channel: then its transcript is in `utterance`, and `message` holds nothing of it.
    Column("channel", Text),
    # Where the channel finds it, and how the channel is set up (JSON), for those to whom something is sent.
    Column("address", Text),
    Column("via", Text),
    # JSON: who talks there, as far as is known.
    Column("person", Text),
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

# What was said in a conversation of a channel, both sides, in order: the truth of which a model's memory is a view.
utterance = Table(
    "utterance",
    metadata,
    workspace_key(),
    Column("conversation_id", Uuid, nullable=False),
    Column("seq", Integer, nullable=False),
    Column("id", Uuid, nullable=False),
    # them, us
    Column("side", Text, nullable=False),
    Column("text", Text, nullable=False),
    # JSON: the button that was pressed, a command; or the buttons that stand beneath.
    Column("more", Text, nullable=False, server_default="{}"),
    # The channel's own id of what came in: the same counts once.
    Column("key", Text),
    Column("run_id", Uuid),
    # How far it has come on its way out by a channel: waiting, sent, refused, unknown; of others none.
    Column("state", Text),
    # By the channel's own clock.
    moment("told_at"),
    # Whether who talks found it good; of what nobody judged none.
    Column("good", Boolean),
    moment("at", False),
    PrimaryKeyConstraint("workspace_id", "conversation_id", "seq"),
    UniqueConstraint("workspace_id", "conversation_id", "key"),
    ForeignKeyConstraint(
        ["workspace_id", "conversation_id"], ["conversation.workspace_id", "conversation.id"], ondelete="CASCADE"
    ),
    Index("ix_utterance_run", "workspace_id", "run_id"),
    # Below zero stands what is said only when a person hands the conversation back.
    Index("ix_utterance_held", "workspace_id", "conversation_id", postgresql_where=text("seq < 0")),
    Index("ix_utterance_judged", "workspace_id", "run_id", postgresql_where=text("good IS NOT NULL")),
)

# What is still to leave by a channel, in the order in which it was said; what has left, or was refused, is not there.
outbox = Table(
    "outbox",
    metadata,
    workspace_key(),
    Column("conversation_id", Uuid, nullable=False),
    Column("seq", Integer, nullable=False),
    Column("run_id", Uuid),
    Column("state", Text, nullable=False, server_default="waiting"),
    # JSON: as the channel shows it, and how many of these have left.
    Column("pieces", Text),
    Column("part", Integer, nullable=False, server_default="0"),
    Column("tries", Integer, nullable=False, server_default="0"),
    # Who sends it now, until when, and whether sending it twice does no harm.
    Column("lease", Uuid),
    Column("harmless", Boolean, nullable=False, server_default="false"),
    Column("error", Text),
    moment("ready_at", False),
    moment("leased_until"),
    moment("created_at", False),
    PrimaryKeyConstraint("workspace_id", "conversation_id", "seq"),
    CheckConstraint("state IN ('waiting','sending','unknown')", name="state"),
    ForeignKeyConstraint(
        ["workspace_id", "conversation_id", "seq"],
        ["utterance.workspace_id", "utterance.conversation_id", "utterance.seq"],
        ondelete="CASCADE",
    ),
    Index(
        "ix_outbox_sending", "workspace_id", "conversation_id", unique=True, postgresql_where=text("state = 'sending'")
    ),
    Index("ix_outbox_ready", "workspace_id", "ready_at"),
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
