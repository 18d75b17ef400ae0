"""Limits of calls per credential, shared by all workers: never more in any span of the time that is set, however workers come and go.

Permits are leased in chunks that grow with what is called, and hold for a short while only. What was leased counts as called at the
last moment it could be used, so that a worker which is killed with permits in its hand makes nobody call too often.
"""

import asyncio
import json
import time
from collections import defaultdict
from dataclasses import dataclass

from sqlalchemy import text

from oak_relay.runtime.registry import Registry
from oak_relay.store.database import Database

_THERE = text(
    "INSERT INTO rate (workspace_id, credential, window_at, used, grants) VALUES (:workspace, :name, clock_timestamp(), 0, '[]') "
    "ON CONFLICT (workspace_id, credential) DO NOTHING"
)
_LOCKED = text(
    "SELECT grants::text AS grants, extract(epoch FROM clock_timestamp())::float8 AS now FROM rate "
    "WHERE workspace_id = :workspace AND credential = :name FOR UPDATE"
)
_NOW = text("SELECT extract(epoch FROM clock_timestamp())::float8 AS now")
_TAKEN = text(
    "UPDATE rate SET grants = CAST(:grants AS jsonb), used = :used, window_at = clock_timestamp() "
    "WHERE workspace_id = :workspace AND credential = :name"
)
_PARTS, _USED = 20, 0.8
"""Permits hold for this part of the time, and are used for so much of that: the rest is for what is on its way."""
_CHUNK = 100
Grant = tuple[float, float, int]
"""When the first and the last permits of a chunk were leased, and how many."""


@dataclass(slots=True)
class _Permits:
    """What is left of a lease, and until when it holds (seconds of the process's clock)."""

    count: int
    until: float
    wanted: int
    over: bool = False
    """All are used up; nobody need ask again before it ends."""

    @property
    def good(self) -> bool:
        """Whether it still tells what may be done."""
        return self.until > time.monotonic() and (self.over or self.count > 0)


class Rates:
    """One per process. `take` gives the seconds to wait before a call may be made, 0 for now."""

    def __init__(self, database: Database, registry: Registry) -> None:
        self._database = database
        self._registry = registry
        self._leased: dict[str, _Permits] = {}
        self._asking: dict[str, asyncio.Lock] = defaultdict(asyncio.Lock)

    async def take(self, name: str) -> float:
        """Take one permit of a credential."""
        known = self._registry.now.credentials.get(name)
        rate = getattr(known, "rate", None)
        if rate is None:
            return 0.0
        permits = self._leased.get(name)
        if permits is None or not permits.good:
            async with self._asking[name]:  # who asks meanwhile has what this one gets
                permits = self._leased.get(name)
                if permits is None or not permits.good:
                    permits = self._leased[name] = await self._lease(name, rate.calls, rate.seconds, permits)
        if permits.over:
            return max(0.01, permits.until - time.monotonic())
        permits.count -= 1
        return 0.0

    async def _lease(self, name: str, calls: int, per: float, before: _Permits | None) -> _Permits:
        """Some permits. Who asks at the same time waits, so that what all are given adds up."""
        wanted = 1
        if before is not None and not before.over:
            spent = before.wanted - before.count
            wanted = before.wanted * 2 if before.count == 0 else max(1, spent)
        wanted = max(1, min(wanted, calls // 10, _CHUNK))
        mine = {"workspace": self._registry.workspace, "name": name}
        began = time.monotonic()
        async with self._database.begin() as connection:
            await connection.execute(_THERE, mine)
            row = (await connection.execute(_LOCKED, mine)).one()
            now = float(
                (await connection.execute(_NOW)).scalar_one()
            )  # behind the lock, which may have been waited for
            grants = [(float(a), float(b), int(n)) for a, b, n in json.loads(row.grants)]
            grants, got, pause = granted(grants, now, calls, per, wanted)
            used = sum(n for _, _, n in grants)
            await connection.execute(_TAKEN, {**mine, "grants": json.dumps(grants), "used": used})
            asked = time.monotonic() - began
        if got == 0:
            return _Permits(0, time.monotonic() + pause, 1, over=True)
        # Counted from before the question, so that they end here no later than they count.
        return _Permits(got, time.monotonic() - asked + per / _PARTS * _USED, got)


def granted(grants: list[Grant], now: float, calls: int, per: float, wanted: int) -> tuple[list[Grant], int, float]:
    """The grants that still count with a new one, how many permits that is of, and when none is left, the seconds until there may be
    some. In any span of `per` seconds no more than `calls` permits can be used, each within `per` / 20 of its lease."""
    hold = per / _PARTS
    counting = [one for one in grants if one[1] + hold + per > now]
    left = calls - sum(n for _, _, n in counting)
    got = max(0, min(wanted, left))
    if got == 0:
        return counting, 0, max(0.01, min((one[1] for one in counting), default=now) + hold + per - now)
    if counting and now - counting[-1][0] < hold / 4:
        first, _, n = counting.pop()
        counting.append((first, now, n + got))
    else:
        counting.append((now, now, got))
    return counting, got, 0.0
