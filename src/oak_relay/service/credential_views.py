"""A stored credential as it is told, and telling those that wait for one that it is there."""

from typing import Any

from sqlalchemy import Select, select
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document import values
from oak_relay.engine.effects import READY
from oak_relay.service.parts import Parts
from oak_relay.service.problems import missing
from oak_relay.service.shapes import ConnectionOut, CredentialOut
from oak_relay.store import published, tags
from oak_relay.store.consents import Consent
from oak_relay.store.database import raw
from oak_relay.store.ids import new_id
from oak_relay.store.tables import credential
from oak_relay.store.vault import Snapshot
from oak_relay.vault.kinds import Credential, CredentialKinds
from oak_relay.vault.oauth import OAuth


def stored_as(parts: Parts, name: str) -> Select[Any]:
    """The row of a credential."""
    return select(credential).where(credential.c.workspace_id == parts.workspace, credential.c.name == name)


async def show_one(parts: Parts, name: str) -> CredentialOut:
    """A credential as it is told. Raises `Problem` when there is none of that name."""
    async with parts.database.connect() as connection:
        row = (await connection.execute(stored_as(parts, name))).first()
    if row is None:
        raise missing("credential", name)
    return out(row, parts.registry.catalogue.credentials, await parts.registry.fresh())


def connection(stored: Credential | None, consent: Consent | None) -> ConnectionOut | None:
    """What an app was let do; None of other kinds."""
    if not isinstance(stored, OAuth):
        return None
    if consent is None:
        return ConnectionOut(state="ready" if stored.grant == "client" else "none", lacking=list(stored.scopes))
    lacking = [] if stored.grant == "client" else sorted({*stored.scopes, *consent.wanted} - consent.scopes)
    return ConnectionOut(
        state="reconnect" if consent.state == "reconnect" else "ready",
        account=consent.account,
        scopes=sorted(consent.scopes),
        lacking=lacking,
        why=consent.why if consent.state == "reconnect" else "",
        since=consent.since,
        expires_at=consent.expires,
        by=consent.granted_by,
    )


async def say_ready(connection: AsyncConnection, workspace: int, name: str) -> None:
    """Tell the runs that wait for a credential, or for credit of its account, that it is there."""
    event_id, kind = new_id(), f"{READY}.{name}"
    event = published.envelope(str(event_id), kind, "/credentials", {"credential": name}, name)
    text = values.dumps(event)
    await published.publish(await raw(connection), workspace, event_id, kind, "/credentials", text, 0, None)


def out(row: Any, kinds: CredentialKinds, known: Snapshot) -> CredentialOut:
    """A stored credential as it is told."""
    stored = known.credentials.get(row.name)
    return CredentialOut(
        name=row.name,
        kind=row.kind,
        sent=kinds.sent(row.kind),
        places=stored.places if stored is not None else [],
        config=values.loads(row.config),
        about=stored.about if stored is not None else "",
        secrets=stored.holding if stored is not None else [],
        connection=connection(stored, known.consents.get(row.name)),
        last_used_at=row.last_used_at,
        last_worked_at=row.last_worked_at,
        created_at=row.created_at,
        last_test=values.loads(row.last_test) if row.last_test else None,
        updated_at=row.updated_at,
        tag=tags.tag_of(row.updated_at),
    )
