"""A new password, given on the machine itself."""

import secrets

from argon2 import PasswordHasher

from oak_relay.runtime.boot import base
from oak_relay.runtime.settings import Settings
from oak_relay.store import people, tries
from oak_relay.store.database import raw


async def reset(settings: Settings, name: str) -> str | None:
    """Give a member a new password, end all its sessions, and forget wrong tries; the password, None when there is no such
    member."""
    password = secrets.token_urlsafe(12)
    async with base(settings, migrate=False) as ground, ground.database.begin() as connection:
        workspace = ground.registry.workspace
        row = await people.named(connection, workspace, name)
        if row is None:
            return None
        await people.set_password(connection, workspace, row.id, PasswordHasher(parallelism=1).hash(password))
        await people.end_sessions(connection, workspace, row.id)
        await people.note(connection, workspace, "this machine", "reset password", name)
        await tries.forget(await raw(connection))
    return password
