"""Rows as parameters of a statement come out as they went in."""

import asyncio
from collections.abc import Callable
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any
from uuid import UUID

import asyncpg
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.store import arrays

KINDS: dict[str, st.SearchStrategy[Any]] = {
    "text": st.text(st.characters(exclude_characters="\x00", exclude_categories=["Cs"])),
    "int": st.integers(-(2**31), 2**31 - 1),
    "bigint": st.integers(-(2**63), 2**63 - 1),
    "float8": st.floats(allow_nan=False),
    "bool": st.booleans(),
    "uuid": st.uuids(),
    "numeric": st.decimals(allow_nan=False, allow_infinity=False, places=9, min_value=-(10**12), max_value=10**12),
    "timestamptz": st.datetimes(datetime(1900, 1, 1), datetime(2200, 1, 1), timezones=st.just(UTC)),
}
NULLS = st.tuples(*(kind | st.none() for name, kind in KINDS.items() if name != "uuid"))
ROWS = st.lists(st.tuples(st.uuids(), NULLS).map(lambda row: (row[0], *row[1])), max_size=5)
COLUMNS = {"id": "uuid", **{f"a_{name}": name for name in KINDS if name != "uuid"}}


@pytest.fixture(scope="module")
def ask(server: str) -> Callable[[list[object]], list[tuple[object, ...]]]:
    async def asked(parameters: list[object]) -> list[tuple[object, ...]]:
        connection = await asyncpg.connect(server)
        try:
            return [
                tuple(row) for row in await connection.fetch(f"SELECT * FROM {arrays.rows(COLUMNS, 1)}", *parameters)
            ]
        finally:
            await connection.close()

    return lambda parameters: asyncio.run(asked(parameters))


@settings(max_examples=60)
@given(ROWS)
def test_rows_come_out_as_they_went_in(
    ask: Callable[[list[object]], list[tuple[object, ...]]], rows: list[tuple[object, ...]]
) -> None:
    columns = list(zip(*rows, strict=True)) if rows else [()] * len(COLUMNS)
    assert ask(arrays.given(COLUMNS, columns)) == rows


def test_ids_and_sums_of_a_driver_are_written_too(ask: Callable[[list[object]], list[tuple[object, ...]]]) -> None:
    row = (UUID(int=1), 'a,{b} "c" \\', -1, 2**40, 0.1, True, Decimal("0E-9"), datetime(2031, 4, 5, 6, 7, 8, 9, UTC))
    assert ask(arrays.given(COLUMNS, [[value] for value in row])) == [row]
