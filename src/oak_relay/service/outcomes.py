"""How runs stand that callers wait for. Whoever asks while an answer is on its way is answered together with all others
who do, so that many who wait cost about what one costs."""

import asyncio
from uuid import UUID

from oak_relay.store.database import Database
from oak_relay.store.runs import Outcome, outcomes

_TOGETHER = 500
"""Runs asked about in one statement."""


class Outcomes:
    """Asks for the outcomes of runs of a workspace, those that are asked for at the same time in one statement."""

    def __init__(self, database: Database, workspace: int) -> None:
        self._database, self._workspace = database, workspace
        self._asked: dict[UUID, asyncio.Future[Outcome]] = {}
        self._asking: asyncio.Task[None] | None = None

    async def of(self, run_id: UUID) -> Outcome:
        """How a run stands, read after this was called. Raises `DatabaseLost`, and `LookupError` for a run that is not there."""
        future = self._asked.get(run_id)
        if future is None:
            future = self._asked[run_id] = asyncio.get_running_loop().create_future()
            future.add_done_callback(_heard)
        if self._asking is None or self._asking.done():
            self._asking = asyncio.create_task(self._ask())
        return await asyncio.shield(future)

    async def _ask(self) -> None:
        while self._asked:
            some = {run_id: self._asked.pop(run_id) for run_id in list(self._asked)[:_TOGETHER]}
            try:
                async with self._database.reading() as connection:
                    found = await outcomes(connection, self._workspace, list(some))
            except Exception as error:
                for future in some.values():
                    future.set_exception(error)
                continue
            for run_id, future in some.items():
                if run_id in found:
                    future.set_result(found[run_id])
                else:
                    future.set_exception(LookupError(f"there is no run {run_id}"))


def _heard(future: "asyncio.Future[Outcome]") -> None:
    """Whoever asked may have gone away: an error that nobody hears is none."""
    if not future.cancelled():
        future.exception()
