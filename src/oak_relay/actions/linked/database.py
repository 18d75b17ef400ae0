"""Rows of a table of a database: each action is one statement, made here, under the guard that statements of steps are under."""

from collections.abc import Mapping, Sequence

from oak_relay.actions.linked import memory
from oak_relay.actions.sql import guard, postgres
from oak_relay.actions.sql.guard import Allowed
from oak_relay.capabilities.given import Column, ColumnKind, How, Where
from oak_relay.capabilities.links import DatabaseLink
from oak_relay.capabilities.protocols import Surroundings
from oak_relay.document.errors import StepFailed
from oak_relay.vault.database import Database

_COMPARED: Mapping[How, str] = {"above": ">", "at_least": ">=", "below": "<", "at_most": "<="}
_MEASURES = {"sum": "sum", "average": "avg", "least": "min", "most": "max"}
_TWICE = "23505"


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


class Statement:
    """A statement that is being written, and its parameters."""

    def __init__(self) -> None:
        self.params: dict[str, object] = {}

    def value(self, value: object) -> str:
        """A place for a value."""
        name = f"p{len(self.params)}"
        self.params[name] = value
        return f":{name}"

    def where(self, where: Where) -> str:
        """Its condition; empty where all rows are meant."""
        asked = [self._same(column, value) for column, value in where.match.items()]
        for one in where.filters:
            column = _quoted(one.column)
            if one.how == "empty":
                asked.append(f"{column} IS {'' if one.value else 'NOT '}NULL")
            elif one.how == "not":
                asked.append(f"NOT ({self._same(one.column, one.value)})")
            elif one.how == "in":
                some = one.value if isinstance(one.value, list) else []
                asked.append(f"({' OR '.join(self._same(one.column, each) for each in some) or 'false'})")
            elif one.how in ("contains", "begins_with"):
                part = str(one.value).replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
                way = ("ILIKE", f"%{part}%") if one.how == "contains" else ("LIKE", f"{part}%")
                asked.append(f"{column} {way[0]} {self.value(way[1])}")
            else:
                asked.append(f"{column} {_COMPARED[one.how]} {self.value(one.value)}")
        return f" WHERE {' AND '.join(asked)}" if asked else ""

    def _same(self, column: str, value: object) -> str:
        quoted = _quoted(column)
        return f"{quoted} IS NULL" if value is None else f"({quoted} IS NOT NULL AND {quoted} = {self.value(value)})"


class DatabaseRows:
    """The rows of one linked table."""

    def __init__(self, link: DatabaseLink, at: Surroundings) -> None:
        self._link, self._at = link, at
        self._allowed = Allowed((link.schema_,), (f"{link.schema_}.{link.table}",))
        self._name = f"{_quoted(link.schema_)}.{_quoted(link.table)}"

    async def _stored(self) -> Database:
        found = await self._at.credential(self._link.credential)
        if not isinstance(found, Database):
            raise StepFailed("invalid", f"the credential {self._link.credential} is no database")
        return found

    async def _read(self, text: str, made: Statement, limit: int) -> list[memory.Row]:
        statement = guard.reading(text, "postgres", self._allowed)
        return (await postgres.read(await self._stored(), self._at, statement, made.params, self._allowed, limit))[0]

    async def _change(self, text: str, made: Statement, most: int) -> list[memory.Row]:
        statement = guard.changing(text, "postgres", self._allowed)
        return (await postgres.change(await self._stored(), self._at, statement, made.params, self._allowed, most))[1]

    async def columns(self) -> tuple[list[Column], list[str]]:
        """Its columns, and those of its key."""
        for one in await postgres.tables(await self._stored(), self._at, self._allowed):
            if one.name == self._link.table:
                columns = [Column(column.name, _kind(column.type)) for column in one.columns]
                return columns, [column.name for column in one.columns if column.key]
        raise StepFailed("missing", f"there is no table {self._link.table} in {self._link.schema_}")

    async def find(
        self, where: Where, order: Sequence[tuple[str, bool]], limit: int, skip: int = 0
    ) -> list[memory.Row]:
        """Rows that are meant."""
        made = Statement()
        ways = [f"{_quoted(name)} {'DESC' if falling else 'ASC'} NULLS LAST" for name, falling in order]
        ways += [_quoted(name) for name in self._link.key if name not in dict(order)]
        by = f" ORDER BY {', '.join(ways)}" if ways else ""
        after = f" OFFSET {skip:d}" if skip else ""
        return await self._read(
            f"SELECT * FROM {self._name}{made.where(where)}{by} LIMIT {limit:d}{after}", made, limit
        )

    async def totals(
        self, where: Where, by: Sequence[str], measures: Mapping[str, Sequence[str]], limit: int
    ) -> list[dict[str, object]]:
        """Groups of rows that are meant."""
        made = Statement()
        counted = [(measure, name) for measure, names in measures.items() for name in names]
        shown = [
            *(f"{_quoted(name)} AS g{place}" for place, name in enumerate(by)),
            "count(*) AS n",
            *(f"{_MEASURES[measure]}({_quoted(name)}) AS m{place}" for place, (measure, name) in enumerate(counted)),
        ]
        grouped = f" GROUP BY {', '.join(_quoted(name) for name in by)}" if by else ""
        text = (
            f"SELECT {', '.join(shown)} FROM {self._name}{made.where(where)}{grouped} ORDER BY n DESC LIMIT {limit:d}"
        )
        found = []
        for row in await self._read(text, made, limit):
            one: dict[str, object] = {name: row[f"g{place}"] for place, name in enumerate(by)} | {"count": row["n"]}
            for place, (measure, name) in enumerate(counted):
                told = one.setdefault(measure, {})
                assert isinstance(told, dict)
                told[name] = row[f"m{place}"]
            found.append(one)
        return found

    async def add(self, row: memory.Row) -> memory.Row:
        """Add a row; one that is there already as it should be was added before."""
        key = {name: row[name] for name in self._link.key if name in row}
        keyed = bool(key) and len(key) == len(self._link.key)
        if keyed and (there := await self.find(Where(key), (), 1)):
            return _as_it_should_be(there[0], row)
        try:
            return await self._insert(row)
        except StepFailed as failed:
            if keyed and failed.detail.get("sqlstate") == _TWICE and (there := await self.find(Where(key), (), 1)):
                return _as_it_should_be(there[0], row)
            raise

    async def _insert(self, row: memory.Row) -> memory.Row:
        made = Statement()
        names = ", ".join(_quoted(name) for name in row)
        given = ", ".join(made.value(value) for value in row.values())
        return (await self._change(f"INSERT INTO {self._name} ({names}) VALUES ({given}) RETURNING *", made, 1))[0]

    async def upsert(self, row: memory.Row, match: Sequence[str]) -> tuple[memory.Row, bool]:
        """Change the one row that has the values of the columns `match`, or add one; whether it was added."""
        if changed := await self._update(row, match):
            return changed[0], False
        try:
            return await self._insert(row), True
        except StepFailed as failed:  # somebody was quicker: now it is there
            if failed.detail.get("sqlstate") == _TWICE and (changed := await self._update(row, match)):
                return changed[0], False
            raise

    async def _update(self, row: memory.Row, match: Sequence[str]) -> list[memory.Row]:
        made = Statement()
        where = made.where(Where({name: row[name] for name in match}))
        given = {name: value for name, value in row.items() if name not in match} or {match[0]: row[match[0]]}
        sets = ", ".join(f"{_quoted(name)} = {made.value(value)}" for name, value in given.items())
        return await self._change(f"UPDATE {self._name} SET {sets}{where} RETURNING *", made, 1)

    async def delete(self, match: Mapping[str, object]) -> list[memory.Row]:
        """Remove the rows with these values."""
        made = Statement()
        return await self._change(f"DELETE FROM {self._name}{made.where(Where(match))} RETURNING *", made, 1_000)


def _as_it_should_be(there: memory.Row, row: memory.Row) -> memory.Row:
    differs = [name for name, value in row.items() if str(there.get(name)) != str(value)]
    if differs:
        raise StepFailed(
            "invalid",
            f"a row with that key is there already, with another {differs[0]}",
            fix="use table.upsert",
            reached="yes",
        )
    return there


def _kind(type: str) -> ColumnKind:
    name = type.split("(")[0].strip().lower()
    if name in ("boolean", "bool"):
        return "boolean"
    numbers = ("int", "smallint", "bigint", "numeric", "decimal", "real", "double", "float")
    return "number" if name.startswith(numbers) else "any" if name.startswith("json") or "[]" in name else "text"
