"""Limits of calls per credential, shared by all workers: permits of a window are leased in chunks."""

import time
from dataclasses import dataclass

from sqlalchemy import text

from oak_relay.runtime.registry import Registry
from oak_relay.store.database import Database

_THERE = text(
    "INSERT INTO rate (workspace_id, credential, window_at, used) VALUES (:workspace, :name, clock_timestamp(), 0) "
    "ON CONFLICT (workspace_id, credential) DO NOTHING"
)
_LOCKED = text(
    "SELECT used, window_at + :per * interval '1 second' <= clock_timestamp() AS over FROM rate "
    "WHERE workspace_id = :workspace AND credential = :name FOR UPDATE"
)
_TAKEN = text(
    "UPDATE rate SET used = :used, window_at = CASE WHEN :fresh THEN clock_timestamp() ELSE window_at END "
    "WHERE workspace_id = :workspace AND credential = :name "
    "RETURNING extract(epoch FROM window_at + :per * interval '1 second' - clock_timestamp()) AS left"
)


@dataclass(slots=True)
class _Permits:
    """What is left of a lease, and until when it holds (seconds of the process's clock)."""

    count: int
    until: float
    over: bool = False
    """The window is used up; nobody need ask again before it ends."""


class Rates:
    """One per process. `take` gives the seconds to wait before a call may be made, 0 for now."""

    def __init__(self, database: Database, registry: Registry) -> None:
        self._database = database
        self._registry = registry
        self._leased: dict[str, _Permits] = {}

    async def take(self, name: str) -> float:
        """Take one permit of a credential."""
        known = self._registry.now.credentials.get(name)
        rate = getattr(known, "rate", None)
        if rate is None:
            return 0.0
        permits = self._leased.get(name)
        if permits is not None and permits.until > time.monotonic() and permits.over:
            return permits.until - time.monotonic()
        if permits is None or permits.until <= time.monotonic() or permits.count == 0:
            permits = self._leased[name] = await self._lease(name, rate.calls, rate.seconds)
        if permits.count == 0:
            permits.over = True
            return max(0.01, permits.until - time.monotonic())
        permits.count -= 1
        return 0.0

    async def _lease(self, name: str, calls: int, per: float) -> _Permits:
        """Some permits of the present window: few enough that other workers find some too. Who asks at the same time
        waits, also for the very first window, so that what all are given adds up."""
        wanted = max(1, min(calls // 10, 50))
        mine = {"workspace": self._registry.workspace, "name": name}
        async with self._database.begin() as connection:
            await connection.execute(_THERE, mine)
            known = (await connection.execute(_LOCKED, {**mine, "per": per})).one()
            used = 0 if known.over else known.used
            got = max(0, min(wanted, calls - used))
            given = {**mine, "per": per, "used": used + got, "fresh": known.over}
            left = (await connection.execute(_TAKEN, given)).scalar_one()
        return _Permits(got, time.monotonic() + max(0.0, float(left)))
