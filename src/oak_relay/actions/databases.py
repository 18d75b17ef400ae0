"""Databases that are not ours: connecting to one, through the door."""

import asyncio
import ipaddress
import ssl
from typing import Any

import asyncpg

from oak_relay.actions.base import Tried
from oak_relay.capabilities.protocols import Surroundings
from oak_relay.document.errors import StepFailed
from oak_relay.vault.database import Database

_ABOUT = (
    "SELECT current_user AS who, current_database() AS base, current_setting('server_version') AS version, "
    "has_database_privilege(current_database(), 'CREATE') AS makes, current_setting('transaction_read_only') AS reads"
)


class _Named(ssl.SSLContext):
    """A context that checks the server's certificate for the host that is meant, not for the address that is called."""

    name: str

    def wrap_bio(self, *given: Any, **more: Any) -> ssl.SSLObject:
        return super().wrap_bio(*given, **{**more, "server_hostname": self.name})


def _security(stored: Database) -> Any:
    """What the URL says of TLS, as libpq's `sslmode` has it; `prefer` where it says nothing."""
    mode = str(stored.parsed.query.get("sslmode") or stored.parsed.query.get("ssl") or "prefer")
    if mode not in ("verify-ca", "verify-full"):
        return mode
    context = _Named(ssl.PROTOCOL_TLS_CLIENT)
    context.load_default_certs()
    context.name, context.check_hostname = stored.server[0], mode == "verify-full"
    return context


async def opened(stored: Database, at: Surroundings) -> asyncpg.Connection:
    """A connection to a PostgreSQL server. The door is asked for its address, which is the one that is connected to. Raises
    `StepFailed`."""
    url, (host, port) = stored.parsed, stored.server
    where = f"the database at {host}:{port}"
    if url.get_backend_name() != "postgresql":
        kind = url.get_backend_name()
        raise StepFailed("invalid", f"there is nothing here that speaks with {kind} databases", fix="name PostgreSQL")
    with await at.dial(host, port) as made:
        address = made.getpeername()[0]
    try:
        async with asyncio.timeout(at.timeout):
            return await asyncpg.connect(
                host=str(ipaddress.ip_address(address.partition("%")[0])),
                port=port,
                user=url.username,
                password=url.password,
                database=url.database or url.username,
                ssl=_security(stored),
                timeout=at.timeout,
                command_timeout=at.timeout,
                statement_cache_size=0,
            )
    except (asyncpg.InvalidAuthorizationSpecificationError, asyncpg.InvalidCatalogNameError) as error:
        raise StepFailed(
            "denied", f"{where}: {at.said(str(error), 300)}", fix="are user, password and name right?"
        ) from None
    except TimeoutError:
        raise StepFailed("timeout", f"{where} gave no answer in time", fix="is it up?") from None
    except (asyncpg.PostgresError, asyncpg.InterfaceError, OSError, ValueError) as error:
        said = at.said(str(error) or type(error).__name__, 300)
        raise StepFailed("unavailable", f"{where}: {said}", fix="is it PostgreSQL, and the port right?") from None


async def tried(name: str, stored: Database, at: Surroundings) -> Tried:
    """Connect, and ask whose connection it is."""
    connection = await opened(stored, at)
    try:
        row = await connection.fetchrow(_ABOUT, timeout=at.timeout)
    except (asyncpg.PostgresError, asyncpg.InterfaceError, OSError, TimeoutError) as error:
        raise StepFailed("unavailable", f"the database answers nothing: {at.said(str(error), 300)}") from None
    finally:
        connection.terminate()
    may = "only read" if row["reads"] == "on" else "make schemas" if row["makes"] else "use what it was given"
    sentence = (
        f"It works: {row['who']} is let in to {row['base']}, PostgreSQL {row['version'].split()[0]}. It may {may}."
    )
    return Tried(True, sentence, account=row["who"], may=(may,))
