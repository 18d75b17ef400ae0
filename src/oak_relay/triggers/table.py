"""`table`: rows of a table that change."""

from collections.abc import Iterable, Mapping
from typing import Literal

from pydantic import Field, field_validator

from oak_relay.document import durations, values
from oak_relay.document.check_base import Checking
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.document.text import Path
from oak_relay.document.words import Duration, Expression, Model, sound_duration
from oak_relay.triggers.base import Looking, Occasion, PublishedTrigger, WatchTrigger


class TableChange(Model):
    """Rows of a table that change."""

    table: str
    on: list[Literal["insert", "update", "delete"]] = Field(default=["insert"], min_length=1)
    where: Expression | None = Field(None, description="Only when this holds of `arrived.row`.")
    every: Duration = Field("1m", description="How often rows are looked for that live elsewhere, in a linked table.")

    _check = field_validator("every")(sound_duration)


class TableTrigger(PublishedTrigger[TableChange]):
    name, model, way, occurs = "table", TableChange, "table", "oak.row"

    def sentence(self, given: TableChange) -> str:
        return f"{' or '.join(given.on).capitalize()} of a row in {given.table}"

    def check(self, given: TableChange, path: Path, checker: Checking) -> None:
        checker.named((*path, "table"), given.table, checker.world.tables, "table")
        super().check(given, path, checker)

    def topic(self, given: TableChange) -> str:
        return given.table

    def fits(self, given: TableChange, arrived: Mapping[str, object]) -> bool:
        return arrived["change"] in given.on

    def occasion(self, given: TableChange, arrived: Mapping[str, object]) -> Occasion:
        return Occasion(self.occurs, arrived)


class LinkedTrigger(WatchTrigger[TableChange]):
    """The same of a linked table, whose rows live elsewhere: they are looked at again and again, and a row whose key was not there is
    new. What is there when it is switched on is not."""

    name, model, occurs, first = "table.linked", TableChange, "oak.row", False
    hidden = True
    timeout = 120.0
    most = 10_000

    def sentence(self, given: TableChange) -> str:
        return f"A new row of {given.table}, looked for every {given.every}"

    def check(self, given: TableChange, path: Path, checker: Checking) -> None:
        checker.add(path, "this is what the records call a trigger on a linked table", "write table:")

    def every(self, given: TableChange) -> float:
        return durations.seconds(given.every)

    async def look(self, given: TableChange, settings: Mapping[str, object], at: Looking) -> Iterable[Occasion]:
        link = at.table(given.table).link
        if link is None or not link.key:
            raise StepFailed(
                "invalid", f"the linked table {given.table} has no key to tell new rows by", fix="link it with one"
            )
        if given.on != ["insert"]:
            raise StepFailed(
                "invalid", f"of the linked table {given.table} only new rows are seen", fix="write on: [insert]"
            )
        found = await at.perform("table.find", {"table": given.table, "limit": self.most})
        where = Template(given.where) if given.where is not None else None
        new = []
        for row in found["rows"]:
            key = values.dumps([row.get(name) for name in link.key])
            arrived = {"change": "insert", "table": given.table, "id": key, "row": row}
            if where is None or where.render({"arrived": arrived, "settings": settings}) is True:
                new.append(Occasion(self.occurs, arrived, key))
        return new
