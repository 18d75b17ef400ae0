"""`table`: rows of a table that change."""

from collections.abc import Mapping
from typing import Literal

from pydantic import Field

from oak_relay.document.check_base import Checking
from oak_relay.document.text import Path
from oak_relay.document.words import Expression, Model
from oak_relay.triggers.base import Occasion, PublishedTrigger


class TableChange(Model):
    """Rows of a table that change."""

    table: str
    on: list[Literal["insert", "update", "delete"]] = Field(default=["insert"], min_length=1)
    where: Expression | None = Field(None, description="Only when this holds of `arrived.row`.")


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
