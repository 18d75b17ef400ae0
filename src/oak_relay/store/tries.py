"""Tries to sign in: counted before a password is tried, by who is named and from where, by the address alone, and by the name
alone, so that nobody guesses much and nobody keeps another out for long."""

import hashlib
import ipaddress
from dataclasses import dataclass

import asyncpg

FREE = 5
"""Tries for one name from one address before there is a pause."""
_PAUSE, _LONGEST = 15.0, 300.0
"""Seconds of the first pause, and of the longest; each is twice the one before."""
_FREE_ADDRESS, _FREE_NAME = 20, 60
_PAUSE_NAME = 10.0
"""Seconds that a name rests after so many wrong tries from everywhere; whoever signed in before from an address is let by."""
_KEPT = "1 day"
_KNOWN = "90 days"
_COUNT = """
INSERT INTO sign_in AS s (key, tried, until) VALUES ($1, 1, NULL)
ON CONFLICT (key) DO UPDATE SET
  tried = CASE WHEN s.at < now() - interval '1 day' THEN 1 ELSE s.tried + 1 END, at = clock_timestamp(),
  until = CASE WHEN s.tried + 1 >= $2 AND s.at > now() - interval '1 day'
    THEN clock_timestamp() + make_interval(secs => least($3 * 2 ^ least(s.tried + 1 - $2, 20), $4)) END
"""
_LOCKED = "SELECT key, until - clock_timestamp() AS left, known FROM sign_in WHERE key = ANY($1::bytea[]) ORDER BY key FOR UPDATE"
_HELD = "SELECT pg_advisory_xact_lock(7226310, hashtext(encode($1, 'hex')))"


@dataclass(frozen=True, slots=True)
class Try:
    """A try to sign in, by digests: texts of any length are kept as sixteen bytes."""

    pair: bytes
    address: bytes
    name: bytes

    @classmethod
    def of(cls, name: str, address: str) -> "Try":
        """Of a name, from an address; those of IPv6 count by their network of 64 bits."""
        where = _network(address)
        return cls(_digest("pair", name, where), _digest("address", where), _digest("name", name))


def _network(address: str) -> str:
    try:
        found = ipaddress.ip_address(address)
    except ValueError:
        return address
    return str(ipaddress.ip_network(f"{found}/64", strict=False)) if found.version == 6 else address


def _digest(*parts: str) -> bytes:
    raw = "\0".join(parts).encode("utf-8", "replace")
    return hashlib.blake2b(raw, digest_size=16).digest()


async def begin(connection: asyncpg.Connection, given: Try) -> float:
    """Count a try before it is made. Seconds to wait until the next one is taken; 0 when this one may be made now."""
    async with connection.transaction():
        for key in sorted((given.address, given.name)):
            await connection.execute(_HELD, key)
        rows = {row["key"]: row for row in await connection.fetch(_LOCKED, [given.pair, given.address, given.name])}
        known = given.pair in rows and rows[given.pair]["known"]
        asked = [given.pair, given.address] if known else [given.pair, given.address, given.name]
        left = max(
            (row["left"].total_seconds() for key in asked if (row := rows.get(key)) and row["left"]), default=0.0
        )
        if left > 0:
            return left
        await connection.execute(_COUNT, given.pair, FREE, _PAUSE, _LONGEST)
        await connection.execute(_COUNT, given.address, _FREE_ADDRESS, _PAUSE, _LONGEST)
        await connection.execute(_COUNT, given.name, _FREE_NAME, _PAUSE_NAME, _PAUSE_NAME)
        await connection.execute(
            f"DELETE FROM sign_in WHERE key IN (SELECT key FROM sign_in WHERE at < now() - CASE WHEN known THEN interval '{_KNOWN}' ELSE interval '{_KEPT}' END ORDER BY at LIMIT 10)"
        )
    return 0.0


async def right(connection: asyncpg.Connection, given: Try) -> None:
    """The password was right: what was wrong before from there is forgotten, and the address is known for the name."""
    async with connection.transaction():
        await connection.execute(
            "UPDATE sign_in SET tried = 0, until = NULL, known = true, at = now() WHERE key = $1", given.pair
        )
        back = "UPDATE sign_in SET tried = greatest(tried - 1, 0), until = NULL WHERE key = $1"
        for key in sorted((given.address, given.name)):
            await connection.execute(back, key)


async def forget(connection: asyncpg.Connection) -> None:
    """Forget all tries."""
    await connection.execute("DELETE FROM sign_in")
