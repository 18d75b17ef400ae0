"""Limits of calls per credential, shared by all workers: permits of a window are leased in chunks."""

import time
from dataclasses import dataclass

from sqlalchemy import text

from oak_relay.runtime.registry import Registry
from oak_relay.store.database import Database

_LEASE = text("""
INSERT INTO rate AS r (workspace_id, credential, window_at, used) VALUES (:workspace, :name, clock_timestamp(), :wanted)
ON CONFLICT (workspace_id, credential) DO UPDATE SET
  window_at = CASE WHEN r.window_at + :per * interval '1 second' <= clock_timestamp() THEN clock_timestamp() ELSE r.window_at END,
  used = CASE WHEN r.window_at + :per * interval '1 second' <= clock_timestamp() THEN excluded.used
    ELSE least(:calls, r.used + excluded.used) END
RETURNING used, window_at, extract(epoch FROM window_at + :per * interval '1 second' - clock_timestamp()) AS left
""")
_BEFORE = text("SELECT used, window_at FROM rate WHERE workspace_id = :workspace AND credential = :name FOR UPDATE")


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
        self._held: dict[str, _Permits] = {}

    async def take(self, name: str) -> float:
        """Take one permit of a credential."""
        known = self._registry.now.credentials.get(name)
        rate = getattr(known, "rate", None)
        if rate is None:
            return 0.0
        held = self._held.get(name)
        if held is not None and held.until > time.monotonic() and held.over:
            return held.until - time.monotonic()
        if held is None or held.until <= time.monotonic() or held.count == 0:
            held = self._held[name] = await self._lease(name, rate.calls, rate.seconds)
        if held.count == 0:
            held.over = True
            return max(0.01, held.until - time.monotonic())
        held.count -= 1
        return 0.0

    async def _lease(self, name: str, calls: int, per: float) -> _Permits:
        """Some permits of the present window: few enough that other workers find some too."""
        wanted = max(1, min(calls // 10, 50))
        given = {"workspace": self._registry.workspace, "name": name, "calls": calls, "per": per, "wanted": wanted}
        async with self._database.begin() as connection:
            before = (await connection.execute(_BEFORE, {"workspace": self._registry.workspace, "name": name})).first()
            after = (await connection.execute(_LEASE, given)).one()
        same = before is not None and before.window_at == after.window_at
        got = after.used - before.used if same and before is not None else after.used
        return _Permits(min(got, wanted), time.monotonic() + max(0.0, float(after.left)))
