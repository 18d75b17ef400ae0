"""Rows behind the operations of a connector: they are listed by one, and added, changed and removed by others.

There is nothing here that keeps two writers apart but what the service itself offers: an operation that takes what was read (`${ old }`, as
an `If-Match`) and answers 412 when it is another by now is done again with what is there then.
"""

from collections.abc import Mapping, Sequence

from oak_relay.actions.linked import memory
from oak_relay.actions.sheets import cells
from oak_relay.capabilities.given import Column, Where
from oak_relay.capabilities.links import Operation, OperationsLink
from oak_relay.capabilities.protocols import Actions
from oak_relay.document import paths
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template

MOST, _GUESSED, _TRIES = 50_000, 200, 8


class OperationsRows:
    """The rows of one linked table."""

    def __init__(self, link: OperationsLink, at: Actions) -> None:
        self._link, self._at = link, at

    async def columns(self) -> tuple[list[Column], list[str]]:
        """Its columns, as the rows have them."""
        rows = await self._rows()
        names = list(dict.fromkeys(name for row in rows[:_GUESSED] for name in row))
        seen = {name: [row[name] for row in rows[:_GUESSED] if row.get(name) is not None] for name in names}
        return [Column(name, cells.told(seen[name])) for name in names], []

    async def find(
        self, where: Where, order: Sequence[tuple[str, bool]], limit: int, skip: int = 0
    ) -> list[memory.Row]:
        """Rows that are meant."""
        rows = [row for row in await self._rows() if memory.fits(row, where)]
        return memory.ordered(rows, order)[skip : skip + limit]

    async def totals(
        self, where: Where, by: Sequence[str], measures: Mapping[str, Sequence[str]], limit: int
    ) -> list[dict[str, object]]:
        """Groups of rows that are meant."""
        return memory.totals([row for row in await self._rows() if memory.fits(row, where)], by, measures, limit)

    async def add(self, row: memory.Row) -> memory.Row:
        """Add a row; one that is there already as it should be was added before."""
        add = _there(self._link.add, "add")
        key = {name: row[name] for name in self._link.key if name in row}
        if key and len(key) == len(self._link.key) and (there := await self._one(key)):
            if any(not memory.same(there.get(name), value) for name, value in row.items()):
                fix = "use table.upsert"
                raise StepFailed("invalid", "a row with that key is there already, and differs", fix=fix, reached="yes")
            return there
        gave = await self._do(add, row)
        return {**row, **gave} if isinstance(gave, Mapping) else row

    async def upsert(self, row: memory.Row, match: Sequence[str]) -> tuple[memory.Row, bool]:
        """Change the first row that has the values of the columns `match`, or add one; whether it was added."""
        for _ in range(_TRIES):
            old = await self._one({name: row[name] for name in match})
            if old is None:
                return await self.add(row), True
            if all(memory.same(old.get(name), value) for name, value in row.items()):
                return old, False
            after = {**old, **row}
            try:
                gave = await self._do(_there(self._link.change, "change"), after, old)
            except StepFailed as failed:
                if _changed(failed):
                    continue
                raise
            return ({**after, **gave} if isinstance(gave, Mapping) else after), False
        raise StepFailed(
            "busy", "others changed the row again and again meanwhile", fix="try again later", reached="no"
        )

    async def delete(self, match: Mapping[str, object]) -> list[memory.Row]:
        """Remove the rows with these values, one after the other."""
        remove = _there(self._link.remove, "remove")
        gone = [row for row in await self._rows() if memory.fits(row, Where(match))]
        for row in gone:
            await self._do(remove, row, row)
        return gone

    async def _one(self, match: Mapping[str, object]) -> memory.Row | None:
        return next((row for row in await self._rows() if memory.fits(row, Where(match))), None)

    async def _do(self, operation: Operation, row: memory.Row, old: memory.Row | None = None) -> object:
        given = Template(operation.with_).render({"row": row, "old": old or {}})
        return await self._at.perform(operation.do, self._with(given))

    def _with(self, given: Mapping[str, object]) -> dict[str, object]:
        named = {"credential": self._link.credential} if self._link.credential else {}
        return {**named, **given}

    async def _rows(self) -> list[memory.Row]:
        listing = self._link.list
        answer = await self._at.perform(listing.do, self._with(listing.with_))
        rows = paths.told(listing.rows, answer)
        if not isinstance(rows, list) or not all(isinstance(row, Mapping) for row in rows):
            raise StepFailed("wrong_shape", f"{listing.do}: {listing.rows} is no list of rows", fix="correct rows:")
        if len(rows) > MOST:
            raise StepFailed("too_long", f"{listing.do} lists more than {MOST:,} rows", fix="let it list fewer")
        return [dict(row) for row in rows]


def _there(operation: Operation | None, word: str) -> Operation:
    if operation is None:
        raise StepFailed("denied", f"this linked table has no operation to {word} rows", fix=f"name one under {word}")
    return operation


def _changed(failed: StepFailed) -> bool:
    """Whether the service said that the row is another by now (412)."""
    exchange = failed.detail.get("exchange")
    answer = exchange.get("response") if isinstance(exchange, Mapping) else None
    return isinstance(answer, Mapping) and answer.get("status") == 412
