"""The rows of a linked table, whatever it is linked to."""

from collections.abc import Mapping, Sequence
from typing import Protocol

from oak_relay.actions.linked import memory
from oak_relay.actions.linked.database import DatabaseRows
from oak_relay.actions.linked.file import FileRows
from oak_relay.actions.linked.operations import OperationsRows
from oak_relay.capabilities.given import Column, Where
from oak_relay.capabilities.links import DatabaseLink, FileLink, Link
from oak_relay.capabilities.protocols import Surroundings


class LinkedRows(Protocol):
    """What can be done with them. All of it reaches outside, and raises `StepFailed`."""

    async def columns(self) -> tuple[list[Column], list[str]]:
        """Its columns as the other side tells them, and those of its key where it tells them."""

    async def find(
        self, where: Where, order: Sequence[tuple[str, bool]], limit: int, skip: int = 0
    ) -> list[memory.Row]:
        """Rows that are meant, in an order, behind so many."""

    async def totals(
        self, where: Where, by: Sequence[str], measures: Mapping[str, Sequence[str]], limit: int
    ) -> list[dict[str, object]]:
        """Groups of rows that are meant."""

    async def add(self, row: memory.Row) -> memory.Row:
        """Add a row. With a key, one that is there already as it should be was added before."""

    async def upsert(self, row: memory.Row, match: Sequence[str]) -> tuple[memory.Row, bool]:
        """Change the row that has the values of the columns `match`, or add one; whether it was added."""

    async def delete(self, match: Mapping[str, object]) -> list[memory.Row]:
        """Remove the rows with these values."""


def rows_of(link: Link, columns: Sequence[Column], at: Surroundings) -> LinkedRows:
    """The rows behind a link; `columns` as they are known here."""
    if isinstance(link, DatabaseLink):
        return DatabaseRows(link, at)
    if isinstance(link, FileLink):
        return FileRows(link, columns, at)
    return OperationsRows(link, at)
