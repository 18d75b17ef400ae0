"""The tables. Everything belongs to a workspace; payloads are canonical JSON text, searched ones JSONB."""

from oak_relay.store.tables.base import MAIN_WORKSPACE, metadata
from oak_relay.store.tables.history import artifact, event, failure, journal, run
from oak_relay.store.tables.people import audit, epoch, member, sign_in, token, workspace
from oak_relay.store.tables.queues import (
    fence,
    lane,
    listener,
    missing_event,
    pin,
    published,
    question,
    queue,
    signal,
    wake,
    worker,
)
from oak_relay.store.tables.stored import (
    credential,
    model_alias,
    past_secret,
    rate,
    table_def,
    table_row,
    tool_server,
    vault_key,
)
from oak_relay.store.tables.talks import conversation, fact, message
from oak_relay.store.tables.usage import budget, spent, usage
from oak_relay.store.tables.workflows import once, sample, schedule, seen, trigger, version, workflow

__all__ = [
    "MAIN_WORKSPACE",
    "artifact",
    "audit",
    "budget",
    "conversation",
    "credential",
    "epoch",
    "event",
    "fact",
    "failure",
    "fence",
    "journal",
    "lane",
    "listener",
    "member",
    "message",
    "metadata",
    "missing_event",
    "model_alias",
    "once",
    "past_secret",
    "pin",
    "published",
    "question",
    "queue",
    "rate",
    "run",
    "sample",
    "schedule",
    "seen",
    "sign_in",
    "signal",
    "spent",
    "table_def",
    "table_row",
    "token",
    "tool_server",
    "trigger",
    "usage",
    "vault_key",
    "version",
    "wake",
    "worker",
    "workflow",
    "workspace",
]
