"""`sql.read`, `sql.describe`, `sql.change`: databases that are not ours."""

import time
from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, Field, model_validator

from oak_relay.actions.base import Action, Connector, Fields, Given
from oak_relay.actions.databases import tried
from oak_relay.actions.sql import guard, postgres, sqlite
from oak_relay.actions.sql.guard import Allowed
from oak_relay.actions.sql.shapes import folded, text
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Surroundings
from oak_relay.document.errors import StepFailed
from oak_relay.document.values import in_brief
from oak_relay.vault.database import Database


class Place(Fields):
    credential: str | None = Field(None, description="Name of a stored credential of the kind database.")
    file: object = Field(None, description="In its place a file of SQLite, as another step or a webhook gave it.")
    schemas: list[str] = Field(
        ["public"], min_length=1, max_length=20, description="Schemas in which tables are looked for."
    )
    tables: list[str] = Field(
        default_factory=list,
        max_length=200,
        description="Tables that may be named, as bookings, stock.* or nights_*; without any all of the schemas.",
    )

    @model_validator(mode="after")
    def _one_place(self) -> "Place":
        if (self.credential is None) == (self.file is None):
            raise ValueError("give one of credential and file")
        return self

    @property
    def allowed(self) -> Allowed:
        """The tables that may be named."""
        return Allowed(("main",) if self.file is not None else tuple(self.schemas), tuple(self.tables))


class ReadInput(Place):
    query: str = Field(
        min_length=1, max_length=guard.LONGEST, description="One SELECT; values as :name, given under params."
    )
    params: dict[str, object] = Field(default_factory=dict, description="Name to value of what stands as :name in it.")
    limit: int = Field(1000, ge=1, le=10_000, description="Rows at most.")


class ChangeInput(Fields):
    credential: str = Field(description="Name of a stored credential of the kind database.")
    schemas: list[str] = Field(
        ["public"], min_length=1, max_length=20, description="Schemas in which tables are looked for."
    )
    tables: list[str] = Field(
        min_length=1, max_length=200, description="Tables that may be named, as bookings or stock.*."
    )
    statement: str = Field(
        min_length=1,
        max_length=guard.LONGEST,
        description="One INSERT, UPDATE or DELETE; every value as :name, given under params.",
    )
    params: dict[str, object] = Field(description="Name to value of what stands as :name in it.")
    most: int = Field(
        1000, ge=1, le=1_000_000, description="Rows that may be changed at most; when there are more, none is."
    )


class Rows(BaseModel):
    rows: list[dict[str, object]]
    count: int
    more: bool = Field(description="Whether there are more rows than the limit.")
    statement: str = Field(description="The statement as it was sent.")
    seconds: float = Field(description="How long the database took.")


class Changed(BaseModel):
    count: int = Field(description="Rows that were changed.")
    rows: list[dict[str, object]] = Field(description="What the statement gives (RETURNING).")


class Described(BaseModel):
    text: str = Field(description="What there is, for a prompt; tables of the same shape as one.")
    tables: list[dict[str, object]]


async def _stored(name: str, at: Surroundings) -> Database:
    found = await at.credential(name)
    if not isinstance(found, Database):
        raise StepFailed("invalid", f"the credential {name} is no database", fix="name one of the kind database")
    return found


async def _read(given: ReadInput, at: Surroundings) -> Result:
    allowed = given.allowed
    began = time.monotonic()
    if given.credential is None:
        statement = guard.reading(given.query, "sqlite", allowed)
        rows, more = await sqlite.read(given.file, at, statement, given.params, allowed, given.limit, at.timeout)
    else:
        stored = await _stored(given.credential, at)
        statement = guard.reading(given.query, "postgres", allowed)
        rows, more = await postgres.read(stored, at, statement, given.params, allowed, given.limit)
    took = round(time.monotonic() - began, 3)
    return Result({"rows": rows, "count": len(rows), "more": more, "statement": statement.sql, "seconds": took})


async def _describe(given: Place, at: Surroundings) -> Result:
    allowed = given.allowed
    if given.credential is None:
        found = await sqlite.tables(given.file, at, allowed, at.timeout)
    else:
        found = await postgres.tables(await _stored(given.credential, at), at, allowed)
    told: list[Mapping[str, Any]] = [
        {
            "name": one.pattern,
            "schema": one.tables[0].schema,
            "tables": [table.name for table in one.tables],
            "rows": sum(table.rows for table in one.tables),
            "columns": [
                {"name": column.name, "type": column.type, "key": column.key} for column in one.tables[0].columns
            ],
        }
        for one in folded(found)
    ]
    return Result({"text": text(found, allowed.schemas), "tables": told})


async def _change(given: ChangeInput, at: Surroundings) -> Result:
    stored = await _stored(given.credential, at)
    allowed = Allowed(tuple(given.schemas), tuple(given.tables))
    statement = guard.changing(given.statement, "postgres", allowed)
    count, rows = await postgres.change(stored, at, statement, given.params, allowed, given.most)
    return Result({"count": count, "rows": rows}, {"statement": statement.sql})


def _sentence(verb: str, key: str) -> Any:
    def said(step: str, given: Given) -> str:
        return f"{verb} {in_brief(given.get(key))}"

    return said


CONNECTOR = Connector(
    "SQL databases",
    [
        Action(
            "sql.read",
            "Read rows of a database",
            ReadInput,
            Rows,
            reach="outside",
            timeout=30,
            perform=_read,
            credentials=("database",),
            sentence=_sentence("Read from a database:", "query"),
            example_gives={
                "rows": [{"hut": "Glasswater", "nights": 3}],
                "count": 1,
                "more": False,
                "statement": "SELECT hut, SUM(nights) AS nights FROM stays WHERE guest = $1 GROUP BY hut",
                "seconds": "…",
            },
            example={
                "credential": "ledger",
                "query": "SELECT hut, sum(nights) AS nights FROM stays WHERE guest = :guest GROUP BY hut",
                "params": {"guest": "${ input.guest }"},
            },
            first=("credential", "query", "params", "tables"),
            tell="$.rows",
        ),
        Action(
            "sql.describe",
            "Describe a database",
            Place,
            Described,
            reach="outside",
            timeout=30,
            perform=_describe,
            credentials=("database",),
            sentence=_sentence("Describe the database", "credential"),
            example_gives={
                "text": "table stays\n  id integer (key)\n  hut text\n  guest text\n  nights integer",
                "tables": [
                    {
                        "name": "stays",
                        "schema": "public",
                        "tables": ["stays"],
                        "rows": 0,
                        "columns": [{"name": "id", "type": "integer", "key": True}, "…"],
                    }
                ],
            },
            example={"credential": "ledger"},
            first=("credential", "tables"),
            tell="$.text",
        ),
        Action(
            "sql.change",
            "Add, change or remove rows of a database",
            ChangeInput,
            Changed,
            reach="outside",
            repeat="unsafe",
            timeout=30,
            perform=_change,
            credentials=("database",),
            sentence=_sentence("Change a database:", "statement"),
            example_gives={"count": 1, "rows": []},
            example={
                "credential": "ledger",
                "tables": ["stays"],
                "statement": "UPDATE stays SET nights = :nights WHERE id = :id",
                "params": {"id": "${ input.id }", "nights": 3},
            },
            first=("credential", "statement", "params", "tables"),
        ),
    ],
    credentials=[Database],
    trying={"database": tried},
)
