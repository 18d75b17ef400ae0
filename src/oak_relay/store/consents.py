"""Consents of OAuth apps: what somebody let an app do, its tokens, and who refreshes them.

A refresh is leased: exactly one process asks the provider, holding no lock while it does, and what it got counts as long as
nobody else got something newer. Who finds a lease that is over knows that a refresh was cut off.
"""

import hashlib
import time
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document import values
from oak_relay.store.keyring import Keyring, place
from oak_relay.store.tables import consent, consent_begun, past_secret
from oak_relay.vault.oauth import Tokens

BEGUN = timedelta(minutes=15)
"""How long somebody has to consent."""
_KEPT = timedelta(days=1)
"""How long a token that is over is still looked for in what is shown."""
_AGAIN = timedelta(seconds=30)
"""A token that was refreshed because one was refused is not refreshed for that again so soon."""
_OPEN = 20
"""Consents of one credential that may be begun at a time."""


@dataclass(frozen=True, slots=True)
class Consent:
    """What an app may do, and the tokens for it; times by the database's clock. `state`: `ready` or `reconnect`."""

    name: str
    account: str
    scopes: frozenset[str]
    wanted: frozenset[str]
    access: str
    refresh: str
    version: int
    state: str
    why: str
    since: datetime
    made: datetime
    expires: datetime | None
    granted_by: str
    rotates: bool

    @property
    def secrets(self) -> list[str]:
        """Its tokens."""
        return [token for token in (self.access, self.refresh) if token]

    def due(self, now: datetime) -> bool:
        """Whether its token is to be refreshed: shortly before it is over."""
        if not self.access:
            return True
        if self.expires is None:
            return False
        return self.expires - now < min(timedelta(seconds=60), (self.expires - self.made) / 5)

    def over(self, now: datetime) -> bool:
        """Whether its token is over."""
        return not self.access or (self.expires is not None and self.expires <= now)


@dataclass(frozen=True, slots=True)
class Leased:
    """This process is the one to refresh; `cut`: how many refreshes before it were cut off; `forced` because a token was
    refused."""

    consent: Consent
    lease: UUID
    cut: int
    forced: bool


@dataclass(frozen=True, slots=True)
class Busy:
    """Another process refreshes, for so many seconds at most."""

    seconds: float


@dataclass(frozen=True, slots=True)
class Later:
    """Its provider is asked again in so many seconds; why not now."""

    seconds: float
    why: str


def read(row: Any, keyring: Keyring) -> Consent:
    """A consent as it is stored."""
    sealed = keyring.open_sealed(row.sealed, place(keyring.workspace, "consent", row))
    tokens = values.loads(sealed)
    return Consent(
        row.name,
        row.account,
        frozenset(values.loads(row.scopes)),
        frozenset(values.loads(row.wanted)),
        tokens.get("access", ""),
        tokens.get("refresh", ""),
        row.version,
        row.state,
        row.why,
        row.since,
        row.refreshed_at or row.granted_at,
        row.expires_at,
        row.granted_by,
        row.rotates,
    )


def _sealed(workspace: int, name: str, access: str, refresh: str, keyring: Keyring) -> dict[str, object]:
    plain = values.dumps({"access": access, "refresh": refresh}).encode()
    return {"sealed": keyring.seal(plain, f"consent/{workspace}/{name}"), "key_id": keyring.newest}


def _mine(workspace: int, name: str) -> Any:
    return (consent.c.workspace_id == workspace) & (consent.c.name == name)


async def one(connection: AsyncConnection, workspace: int, name: str, keyring: Keyring) -> Consent | None:
    """The consent of a credential."""
    row = (await connection.execute(select(consent).where(_mine(workspace, name)))).first()
    return None if row is None else read(row, keyring)


async def begin(
    connection: AsyncConnection,
    workspace: int,
    name: str,
    member: str,
    state: str,
    verifier: str,
    redirect: str,
    scopes: Iterable[str],
    keyring: Keyring,
) -> datetime:
    """Note that somebody is asked to consent; until when they have time."""
    digest = hashlib.sha256(state.encode()).digest()
    mine = consent_begun.c.workspace_id == workspace
    await connection.execute(delete(consent_begun).where(mine, consent_begun.c.until < func.now()))
    of_it = select(consent_begun.c.digest).where(mine, consent_begun.c.name == name)
    kept = of_it.order_by(consent_begun.c.until.desc()).limit(_OPEN - 1)
    await connection.execute(
        delete(consent_begun).where(mine, consent_begun.c.name == name, consent_begun.c.digest.not_in(kept))
    )
    row = {
        "workspace_id": workspace,
        "digest": digest,
        "name": name,
        "member": member,
        "sealed": keyring.seal(verifier.encode(), f"begun/{workspace}/{digest.hex()}"),
        "key_id": keyring.newest,
        "redirect": redirect,
        "scopes": values.dumps(list(scopes)),
        "until": func.now() + BEGUN,
    }
    return (await connection.execute(insert(consent_begun).values(**row).returning(consent_begun.c.until))).scalar_one()


@dataclass(frozen=True, slots=True)
class Pending:
    """A consent that was begun: of which credential, by whom, with what."""

    name: str
    member: str
    verifier: str
    redirect: str
    scopes: tuple[str, ...]


async def take(connection: AsyncConnection, workspace: int, state: str, keyring: Keyring) -> Pending | None:
    """What was begun with a state, which counts once; None when nothing was, or too long ago."""
    digest = hashlib.sha256(state.encode("utf-8", "replace")).digest()
    mine = (consent_begun.c.workspace_id == workspace) & (consent_begun.c.digest == digest)
    row = (await connection.execute(delete(consent_begun).where(mine).returning(consent_begun, func.now()))).first()
    if row is None or row.until < row[-1]:
        return None
    verifier = keyring.open_sealed(row.sealed, place(workspace, "consent_begun", row)).decode()
    return Pending(row.name, row.member, verifier, row.redirect, tuple(values.loads(row.scopes)))


async def grant(
    connection: AsyncConnection,
    workspace: int,
    name: str,
    tokens: Tokens,
    scopes: Iterable[str],
    account: str,
    member: str,
    keyring: Keyring,
) -> None:
    """Keep what somebody consented to, in the place of what was there."""
    before = (await connection.execute(select(consent).where(_mine(workspace, name)).with_for_update())).first()
    if before is not None:
        await retire(connection, workspace, read(before, keyring), (), keyring)
    row = {
        **_sealed(workspace, name, tokens.access, tokens.refresh, keyring),
        "account": account,
        "scopes": values.dumps(sorted(scopes)),
        "version": max(before.version + 1, int(time.time())) if before is not None else int(time.time()),
        "state": "ready",
        "why": "",
        "since": func.clock_timestamp(),
        "expires_at": _expires(tokens),
        "lease": None,
        "leased_until": None,
        "cut": 0,
        "forced_at": None,
        "retry_at": None,
        "wanted": "[]",
        "granted_by": member,
        "granted_at": func.clock_timestamp(),
        "refreshed_at": None,
    }
    new = insert(consent).values(workspace_id=workspace, name=name, **row)
    await connection.execute(new.on_conflict_do_update(index_elements=["workspace_id", "name"], set_=row))


def _expires(tokens: Tokens) -> Any:
    return None if tokens.seconds is None else func.clock_timestamp() + timedelta(seconds=tokens.seconds)


async def lease(
    connection: AsyncConnection,
    workspace: int,
    name: str,
    version: int,
    by: UUID,
    forced: bool,
    good: bool,
    keyring: Keyring,
    seconds: float,
) -> Consent | Leased | Busy | Later:
    """Become the one that refreshes the token of a version, for so many seconds. Gives the consent as it is when it is newer, needs reconnecting or
    was refreshed for a refusal a moment ago and has not been `good` for anything since."""
    row = (
        await connection.execute(
            select(consent, func.clock_timestamp()).where(_mine(workspace, name)).with_for_update()
        )
    ).one()
    now, found = row[-1], read(row, keyring)
    if row.state != "ready" or row.version > version:
        return found
    if forced and not good and row.forced_at is not None and now - row.forced_at < _AGAIN:
        return found
    if row.lease is not None and row.leased_until > now:
        return Busy((row.leased_until - now).total_seconds())
    if row.retry_at is not None and row.retry_at > now:
        return Later((row.retry_at - now).total_seconds(), row.why)
    cut = row.cut + (1 if row.lease is not None else 0)
    mark = {"lease": by, "leased_until": func.clock_timestamp() + timedelta(seconds=seconds), "cut": cut}
    await connection.execute(update(consent).where(_mine(workspace, name)).values(**mark))
    return Leased(found, by, cut, forced)


async def for_itself(
    connection: AsyncConnection, workspace: int, name: str, scopes: Iterable[str], keyring: Keyring
) -> None:
    """A consent without a token yet, of an app that acts for itself."""
    row = {
        **_sealed(workspace, name, "", "", keyring),
        "version": int(time.time()),
        "scopes": values.dumps(sorted(scopes)),
    }
    await connection.execute(insert(consent).values(workspace_id=workspace, name=name, **row).on_conflict_do_nothing())


async def refreshed(
    connection: AsyncConnection, workspace: int, leased: Leased, tokens: Tokens, keyring: Keyring
) -> Consent:
    """Keep what a refresh gave, unless there is something newer; the consent as it is then."""
    name, before = leased.consent.name, leased.consent
    row = (await connection.execute(select(consent).where(_mine(workspace, name)).with_for_update())).first()
    if row is None or row.version > before.version:
        return before if row is None else read(row, keyring)
    refresh = tokens.refresh or before.refresh
    await retire(connection, workspace, before, (tokens.access, refresh), keyring)
    change = {
        **_sealed(workspace, name, tokens.access, refresh, keyring),
        "version": row.version + 1,
        "state": "ready",
        "why": "",
        "expires_at": _expires(tokens),
        "rotates": row.rotates or bool(before.refresh and tokens.refresh and tokens.refresh != before.refresh),
        "lease": None,
        "leased_until": None,
        "cut": 0,
        "retry_at": None,
        "refreshed_at": func.clock_timestamp(),
        "forced_at": func.clock_timestamp() if leased.forced else None,
    }
    if tokens.scopes is not None:
        change["scopes"] = values.dumps(sorted(tokens.scopes))
    new = (
        await connection.execute(update(consent).where(_mine(workspace, name)).values(**change).returning(consent))
    ).one()
    return read(new, keyring)


async def put_off(
    connection: AsyncConnection, workspace: int, leased: Leased, seconds: float, why: str, cut: bool
) -> None:
    """A refresh came to nothing; it is tried again in so many seconds. `cut`: its reply never came, or made no sense."""
    change = {
        "lease": None,
        "leased_until": None,
        "retry_at": func.clock_timestamp() + timedelta(seconds=seconds),
        "why": why,
        "cut": leased.cut + (1 if cut else 0),
    }
    await connection.execute(
        update(consent).where(_mine(workspace, leased.consent.name), consent.c.lease == leased.lease).values(**change)
    )


async def needs(connection: AsyncConnection, workspace: int, name: str, version: int, why: str) -> bool:
    """A consent needs reconnecting, if its token is still that of a version; whether it does so from now on."""
    change = {
        "state": "reconnect",
        "why": why,
        "since": func.clock_timestamp(),
        "lease": None,
        "leased_until": None,
        "retry_at": None,
    }
    mine = _mine(workspace, name) & (consent.c.version == version) & (consent.c.state == "ready")
    return bool((await connection.execute(update(consent).where(mine).values(**change))).rowcount)


async def try_again(connection: AsyncConnection, workspace: int, name: str) -> None:
    """Its app was stored anew: what its provider refused is asked of it once more."""
    change = {"state": "ready", "why": "", "retry_at": None, "since": func.clock_timestamp()}
    refused = _mine(workspace, name) & ((consent.c.state != "ready") | consent.c.retry_at.is_not(None))
    await connection.execute(update(consent).where(refused).values(**change))


async def want(connection: AsyncConnection, workspace: int, name: str, scopes: Iterable[str]) -> None:
    """Note scopes that a call was refused for, so that the next consent asks for them."""
    row = (await connection.execute(select(consent.c.wanted).where(_mine(workspace, name)).with_for_update())).first()
    if row is None:
        return
    wanted = sorted({*values.loads(row.wanted), *scopes})[:100]
    await connection.execute(update(consent).where(_mine(workspace, name)).values(wanted=values.dumps(wanted)))


async def forget(connection: AsyncConnection, workspace: int, name: str, keyring: Keyring) -> Consent | None:
    """Forget a consent; what it was."""
    found = await one(connection, workspace, name, keyring)
    if found is not None:
        await retire(connection, workspace, found, (), keyring)
        await connection.execute(delete(consent).where(_mine(workspace, name)))
    return found


async def broken(connection: AsyncConnection, workspace: int) -> list[Any]:
    """Consents that need reconnecting, by name."""
    mine = select(consent).where(consent.c.workspace_id == workspace, consent.c.state == "reconnect")
    return list((await connection.execute(mine.order_by(consent.c.name.collate("C")))).all())


async def retire(
    connection: AsyncConnection, workspace: int, old: Consent, kept: Iterable[str], keyring: Keyring
) -> None:
    """Tokens that are over stay blanked for a day beyond their end."""
    until = func.greatest(old.expires, func.now()) + _KEPT
    for token in set(old.secrets) - set(kept):
        await keep_blanked(connection, workspace, token, until, keyring)


async def keep_blanked(connection: AsyncConnection, workspace: int, secret: str, until: Any, keyring: Keyring) -> None:
    """Keep what was secret, so that it stays blanked: until a time, or for good where there is none."""
    digest = keyring.sign(secret)
    sealed = keyring.seal(secret.encode(), f"past/{workspace}/{digest}")
    row = {"workspace_id": workspace, "digest": digest, "sealed": sealed, "key_id": keyring.newest, "until": until}
    again = {"retired_at": func.clock_timestamp(), "until": until, "sealed": sealed, "key_id": keyring.newest}
    await connection.execute(
        insert(past_secret).values(**row).on_conflict_do_update(index_elements=["workspace_id", "digest"], set_=again)
    )


async def sweep(connection: AsyncConnection, workspace: int) -> int:
    """Forget secrets that are over, and consents that were begun and not given; how many secrets."""
    await connection.execute(
        delete(consent_begun).where(consent_begun.c.workspace_id == workspace, consent_begun.c.until < func.now())
    )
    old = (past_secret.c.workspace_id == workspace) & (past_secret.c.until < func.now())
    return int((await connection.execute(delete(past_secret).where(old))).rowcount)
