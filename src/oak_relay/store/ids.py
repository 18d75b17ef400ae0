"""Ids of what is stored: UUIDs that grow with time (RFC 9562, version 7)."""

from uuid import UUID

import uuid_utils
from asyncpg.pgproto.pgproto import UUID as Quick


def new_id() -> UUID:
    """A new one, of the kind that rows are read with: it is written to the database and as text without detours."""
    return Quick(uuid_utils.uuid7().bytes)
