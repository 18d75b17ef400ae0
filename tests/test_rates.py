"""Limits of calls: in no span of time more than is set, whoever asks, dies or dawdles; and nearly all of it can be used."""

import asyncio
import time
from collections.abc import Callable
from types import SimpleNamespace
from typing import Any

from bench.rates import most_within
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.runtime.rates import Grant, Rates, granted
from oak_relay.store.database import Database
from oak_relay.store.tables import MAIN_WORKSPACE
from oak_relay.vault.kinds import Rate
from tests.conftest import apart


@given(
    st.lists(st.tuples(st.floats(0.01, 4), st.integers(1, 30), st.floats(0, 1)), min_size=1, max_size=120),
    st.integers(1, 60),
)
def test_no_span_holds_more_than_is_set_whenever_permits_are_used(asks: list[tuple[float, int, float]], calls: int):
    per, now = 10.0, 1000.0
    grants: list[Grant] = []
    used: list[float] = []
    for pause, wanted, late in asks:
        now += pause
        grants, got, wait = granted(grants, now, calls, per, wanted)
        assert (got == 0) == (wait > 0) and got <= wanted
        used += [now + late * per / 20] * got  # all at once, somewhere within the time they hold
        assert len(grants) <= 100
    assert most_within(used, per) <= calls


async def _called(rates: Rates, until: float, into: list[float]) -> None:
    while (now := time.monotonic()) < until:
        wait = await rates.take("office")
        if wait == 0:
            into.append(time.monotonic())
            await asyncio.sleep(0)
        else:
            await asyncio.sleep(min(wait, max(0.0, until - now)))


def test_four_workers_share_a_limit_and_one_is_killed_with_permits_in_its_hand(new_database: Callable[[], str]):
    """3,000 in three seconds: an hour of 10,000 a minute, shortened."""
    calls, per, spans = 3_000, 3.0, 3

    async def work() -> None:
        database = Database(new_database())
        known = {"office": SimpleNamespace(rate=Rate(calls=calls, per="3s"))}
        registry: Any = SimpleNamespace(workspace=MAIN_WORKSPACE, now=SimpleNamespace(credentials=known))
        workers = [Rates(database, registry) for _ in range(4)]
        moments: list[float] = []
        assert await workers[0].take("office") == 0  # the database is there
        end = time.monotonic() + per * spans
        tasks = [asyncio.create_task(_called(one, end, moments)) for one in workers for _ in range(4)]
        await asyncio.sleep(0.3)
        async with asyncio.timeout(60):
            while not moments:  # noqa: ASYNC110 – it is looked at, and not told
                await asyncio.sleep(0.01)
        for task in tasks[:4]:  # the first of them is gone, with what it had leased
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        await database.close()
        assert most_within(moments, per) <= calls
        assert len(moments) >= calls * spans * 0.85, len(moments)

    apart(work)


def test_who_calls_now_and_then_is_not_kept_waiting_by_what_it_leased(new_database: Callable[[], str]):
    async def work() -> None:
        database = Database(new_database())
        known = {"office": SimpleNamespace(rate=Rate(calls=20, per="2s"))}
        registry: Any = SimpleNamespace(workspace=MAIN_WORKSPACE, now=SimpleNamespace(credentials=known))
        rates = Rates(database, registry)
        waits = []
        for _ in range(14):  # five a second, of ten
            waits.append(await rates.take("office"))
            await asyncio.sleep(0.2)
        await database.close()
        assert waits == [0.0] * 14

    apart(work)
