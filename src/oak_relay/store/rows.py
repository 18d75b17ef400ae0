"""Tables kept by Oak Relay itself and their rows."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

import asyncpg
from sqlalchemy import delete, func, insert, select, text
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.capabilities.given import How, Where
from oak_relay.document import values
from oak_relay.store import files
from oak_relay.store.database import raw
from oak_relay.store.ids import new_id
from oak_relay.store.searching import containing
from oak_relay.store.tables import table_def, table_row


async def create(
    connection: AsyncConnection, workspace: int, name: str, columns: list[dict[str, str]], link: object = None
) -> UUID:
    """A new table, or one whose rows live elsewhere; raises SQLAlchemy's `IntegrityError` when the name is taken."""
    table_id = new_id()
    await connection.execute(
        insert(table_def).values(workspace_id=workspace, id=table_id, name=name, columns=columns, link=link)
    )
    return table_id


async def tables(
    connection: AsyncConnection, workspace: int, limit: int, after: str | None = None, only: str | None = None
) -> list[Any]:
    """Tables by name with their number of rows, behind the one named `after`, or the one named `only`."""
    count = select(func.count()).where(
        table_row.c.workspace_id == table_def.c.workspace_id, table_row.c.table_id == table_def.c.id
    )
    query = select(table_def, count.scalar_subquery().label("rows")).where(table_def.c.workspace_id == workspace)
    if after is not None:
        query = query.where(table_def.c.name.collate("C") > after)
    if only is not None:
        query = query.where(table_def.c.name == only)
    return list(await connection.execute(query.order_by(table_def.c.name.collate("C")).limit(limit)))


async def drop(connection: AsyncConnection, workspace: int, name: str) -> bool:
    """Remove a table with its rows; False when there is none."""
    done = await connection.execute(
        delete(table_def).where(table_def.c.workspace_id == workspace, table_def.c.name == name)
    )
    return bool(done.rowcount)


async def find(
    connection: AsyncConnection,
    workspace: int,
    table_id: UUID,
    limit: int,
    after: UUID | None = None,
    newest: bool = False,
    where: Where = Where(),
    words: str | None = None,
    order: Sequence[tuple[str, bool]] = (),
    skip: int = 0,
) -> list[dict[str, object]]:
    """Rows that are meant, and that have some words in any case; oldest first, or `newest`, behind the row `after`; or in an `order`
    of columns, behind the first `skip`."""
    given: list[object] = [workspace, table_id, limit, skip]
    asked = _where(where, await _indexed(connection, workspace, table_id, where), given)
    if words:
        given.append(containing(values.dumps(words)[1:-1]))
        asked += f" AND data::text ILIKE ${len(given)}::text"
    if after:
        given.append(after)
        asked += f" AND id {'<' if newest else '>'} ${len(given)}"
    ways = ", ".join([*_ways(order, given), "id DESC" if newest else "id"])
    driver = (await connection.get_raw_connection()).driver_connection
    assert driver is not None
    found = await driver.fetch(
        "SELECT id, data::text AS data, updated_at FROM table_row WHERE workspace_id = $1 AND table_id = $2 "
        f"{asked} ORDER BY {ways} LIMIT $3 OFFSET $4",
        *given,
    )
    return [{"id": str(r["id"]), "row": values.loads(r["data"]), "updated_at": r["updated_at"]} for r in found]


async def _indexed(connection: AsyncConnection, workspace: int, table_id: UUID, where: Where) -> bool:
    """Whether rows are found by an index of their values."""
    if not where.match:
        return False
    known = select(table_def.c.searched).where(table_def.c.workspace_id == workspace, table_def.c.id == table_id)
    return bool((await connection.execute(known)).scalar())


def _ways(order: Sequence[tuple[str, bool]], given: list[object]) -> list[str]:
    """An order of columns; rows without a value of a column come last."""
    ways = []
    for name, falling in order:
        given.append(name)
        value = f"NULLIF(data -> ${len(given)}::text, 'null'::jsonb)"
        ways.append(f"{value} {'DESC' if falling else 'ASC'} NULLS LAST")
    return ways


async def look(
    connection: asyncpg.Connection,
    workspace: int,
    table_id: UUID,
    searched: bool,
    where: Where,
    order: Sequence[tuple[str, bool]],
    limit: int,
) -> list[dict[str, object]]:
    """Rows that are meant, in an order of columns, else oldest first, for steps; `searched`: its rows are indexed by their values.
    Rows without a value of a column come last."""
    given: list[object] = [workspace, table_id, limit]
    asked = _where(where, searched, given)
    ways = ", ".join([*_ways(order, given), "id"])
    found = await connection.fetch(
        f"SELECT data::text AS data FROM table_row WHERE workspace_id = $1 AND table_id = $2 {asked} ORDER BY {ways} LIMIT $3",
        *given,
    )
    return [values.loads(row["data"]) for row in found]


_COMPARED: Mapping[How, str] = {"above": ">", "at_least": ">=", "below": "<", "at_most": "<="}


def _where(where: Where, searched: bool, given: list[object]) -> str:
    """The conditions on rows, each with AND before it; what they compare with is added to what is given."""

    def parameter(value: object) -> str:
        given.append(value)
        return f"${len(given)}::text"

    asked = []
    if where.match:
        asked.append(f"{'searched AND ' if searched else ''}data @> {parameter(values.dumps(where.match))}::jsonb")
    for one in where.filters:
        column = parameter(one.column)
        value, text = f"data -> {column}", f"data ->> {column}"
        if one.how == "empty":
            empty = f"coalesce({value}, 'null'::jsonb) = 'null'::jsonb"
            asked.append(empty if one.value else f"NOT ({empty})")
        elif one.how == "not":
            asked.append(f"coalesce({value}, 'null'::jsonb) <> {parameter(values.dumps(one.value))}::jsonb")
        elif one.how == "in":
            some = f"jsonb_array_elements({parameter(values.dumps(one.value))}::jsonb)"
            asked.append(f"coalesce({value}, 'null'::jsonb) IN (SELECT {some})")
        elif one.how == "contains":
            asked.append(f"{text} ILIKE {parameter(containing(str(one.value)))}")
        elif one.how == "begins_with":
            asked.append(f"starts_with({text}, {parameter(str(one.value))})")
        else:
            other = f"{parameter(values.dumps(one.value))}::jsonb"
            asked.append(f"jsonb_typeof({value}) = jsonb_typeof({other}) AND {value} {_COMPARED[one.how]} {other}")
    return "".join(f" AND {one}" for one in asked)


async def search(connection: asyncpg.Connection, workspace: int, table_id: UUID) -> None:
    """See that a table's rows are indexed by their values. The lock waits for rows that are just being added,
    and those that come later see the mark."""
    given = workspace, table_id
    if (
        await connection.fetchval("SELECT searched FROM table_def WHERE workspace_id = $1 AND id = $2", *given)
        is not False
    ):
        return
    await connection.execute("SELECT FROM table_def WHERE workspace_id = $1 AND id = $2 FOR UPDATE", *given)
    await connection.execute("UPDATE table_def SET searched = true WHERE workspace_id = $1 AND id = $2", *given)
    await connection.execute(
        "UPDATE table_row SET searched = true WHERE workspace_id = $1 AND table_id = $2 AND NOT searched", *given
    )


_MEASURES = {"sum": "sum", "average": "avg", "least": "min", "most": "max"}


async def totals(
    connection: asyncpg.Connection,
    workspace: int,
    table_id: UUID,
    searched: bool,
    where: Where,
    by: Sequence[str],
    measures: Mapping[str, Sequence[str]],
    limit: int,
) -> list[dict[str, object]]:
    """Groups of rows with equal values in the columns `by`, the largest first: these values, the `count`, and measures (sum,
    average, least, most) of columns, over the values of theirs that are numbers."""
    given: list[object] = [workspace, table_id, limit]

    def parameter(value: object) -> str:
        given.append(value)
        return f"${len(given)}"

    groups = [f"data -> {parameter(name)}::text" for name in by]
    counted = []
    for measure, names in measures.items():
        for name in names:
            place = parameter(name)
            number = (
                f"CASE WHEN jsonb_typeof(data -> {place}::text) = 'number' THEN (data ->> {place}::text)::numeric END"
            )
            counted.append((measure, name, f"{_MEASURES[measure]}({number})"))
    asked = _where(where, searched, given)
    columns = [
        *(f"({group})::text" for group in groups),
        "count(*)",
        *(f"trim_scale(round({one[2]}, 12))::text" for one in counted),
    ]
    shown = ", ".join(f"{column} AS c{place}" for place, column in enumerate(columns))
    grouped = f"GROUP BY {', '.join(groups)}" if groups else ""
    found = await connection.fetch(
        f"SELECT {shown} FROM table_row WHERE workspace_id = $1 AND table_id = $2 {asked} {grouped} "
        f"ORDER BY c{len(groups)} DESC, 1 LIMIT $3",
        *given,
    )
    made = []
    for row in found:
        one: dict[str, object] = {name: values.loads(row[place] or "null") for place, name in enumerate(by)}
        one["count"] = row[len(by)]
        for at, (measure, name, _) in enumerate(counted, len(by) + 1):
            told = one.setdefault(measure, {})
            assert isinstance(told, dict)
            told[name] = None if row[at] is None else values.loads(row[at])
        made.append(one)
    return made


_SOME = 1_000
"""Rows that are written by one statement."""


async def upsert(
    connection: AsyncConnection, workspace: int, table_id: UUID, match: Sequence[str], rows: list[dict[str, object]]
) -> tuple[int, int]:
    """Update the rows that have the same values in the columns `match`, or add them; how many were added, and updated. Of several
    that mean the same row, each is laid over those before it."""
    driver = await raw(connection)
    added = updated = 0
    there_are = ", ".join(f"coalesce(r.data -> ${place}::text, 'null'::jsonb)" for place in range(4, 4 + len(match)))
    for start in range(0, len(rows), 5 * _SOME):
        some = rows[start : start + 5 * _SOME]
        meant: dict[str, dict[str, object]] = {}
        for row in some:
            key = values.dumps([row.get(name) for name in match])
            meant[key] = {**meant.get(key, {}), **row}
        # One pass over the table for all of them, whatever its indexes are.
        found = await driver.fetch(
            "SELECT DISTINCT ON (m.n) m.n, r.id FROM unnest($3::text[]) WITH ORDINALITY AS m(key, n) JOIN table_row r ON "
            f"m.key::jsonb = jsonb_build_array({there_are}) WHERE r.workspace_id = $1 AND r.table_id = $2 ORDER BY m.n, r.id",
            workspace,
            table_id,
            list(meant),
            *match,
        )
        known = {one["n"] - 1: one["id"] for one in found}
        new = [row for place, row in enumerate(meant.values()) if place not in known]
        there = {known[place]: row for place, row in enumerate(meant.values()) if place in known}
        await add(connection, workspace, table_id, new)
        changed = await driver.fetch(
            "UPDATE table_row t SET data = t.data || u.data::jsonb, updated_at = now() FROM unnest($3::uuid[], $4::text[]) AS u(id, data) "
            "WHERE t.workspace_id = $1 AND t.table_id = $2 AND t.id = u.id RETURNING t.id, t.data::text AS data",
            workspace,
            table_id,
            list(there),
            [values.dumps(row) for row in there.values()],
        )
        await tell(driver, workspace, table_id, "update", [(one["id"], one["data"]) for one in changed])
        added += len(new)
        updated += len(some) - len(new)
    return added, updated


async def add(connection: AsyncConnection, workspace: int, table_id: UUID, rows: list[dict[str, object]]) -> None:
    """Add rows."""
    driver = await raw(connection)
    for start in range(0, len(rows), _SOME):
        made = [(new_id(), values.dumps(row)) for row in rows[start : start + _SOME]]
        await driver.execute(
            "INSERT INTO table_row (workspace_id, table_id, id, data, searched) SELECT $1, $2, u.id, u.data::jsonb, d.searched "
            "FROM (SELECT searched FROM table_def WHERE workspace_id = $1 AND id = $2 FOR KEY SHARE) d, "
            "unnest($3::uuid[], $4::text[]) AS u(id, data)",
            workspace,
            table_id,
            [one[0] for one in made],
            [one[1] for one in made],
        )
        await tell(driver, workspace, table_id, "insert", made)


async def changed_at(connection: AsyncConnection, workspace: int, table_id: UUID, row_id: UUID) -> datetime | None:
    """When a row was changed last, None when there is none; nobody else changes it until the transaction ends."""
    return (
        await connection.execute(
            text("SELECT updated_at FROM table_row WHERE workspace_id = :w AND table_id = :t AND id = :i FOR UPDATE"),
            {"w": workspace, "t": table_id, "i": row_id},
        )
    ).scalar()


async def update(
    connection: AsyncConnection, workspace: int, table_id: UUID, row_id: UUID, row: dict[str, object]
) -> bool:
    """Change columns of a row; False when there is none."""
    return await _changed(connection, workspace, table_id, row_id, "update", "UPDATE table_row SET data = data || CAST(:d AS jsonb), "
                          "updated_at = now()", values.dumps(row))  # fmt: skip


async def remove(connection: AsyncConnection, workspace: int, table_id: UUID, row_id: UUID) -> bool:
    """Remove a row; False when there is none."""
    return await _changed(connection, workspace, table_id, row_id, "delete", "DELETE FROM table_row")


async def _changed(
    connection: AsyncConnection,
    workspace: int,
    table_id: UUID,
    row_id: UUID,
    change: str,
    statement: str,
    given: str | None = None,
) -> bool:
    """Carry out a change of one row, and tell who listens."""
    found = await connection.execute(
        text(
            f"{statement} WHERE workspace_id = :w AND table_id = :t AND id = :i RETURNING id, CAST(data AS text) AS data"
        ),
        {"w": workspace, "t": table_id, "i": row_id, **({} if given is None else {"d": given})},
    )
    done = [(row.id, row.data) for row in found]
    await tell(await raw(connection), workspace, table_id, change, done)
    return bool(done)


async def tell(
    connection: asyncpg.Connection,
    workspace: int,
    table_id: UUID,
    change: str,
    given: list[tuple[UUID, str]],
    depth: int = 0,
) -> None:
    """Tell workflows that listen to a table what was done to rows of it: `insert`, `update` or `delete`; each row
    with its id and its JSON text; what files they hold is noted."""
    if change != "delete":
        await files.hold_for_rows(connection, workspace, table_id, given, change == "update")
    await connection.execute(
        "INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body, depth) "
        "SELECT $1, u.id, 'table', d.id::text, '/tables/' || d.name, u.id::text, jsonb_build_object('change', $4::text, "
        "'table', d.name, 'id', u.row, 'row', u.data::jsonb)::text, $6 "
        "FROM unnest($3::uuid[], $5::uuid[], $7::text[]) AS u(id, row, data) JOIN table_def d ON d.workspace_id = $1 AND d.id = $2 "
        "WHERE EXISTS (SELECT FROM trigger t WHERE t.workspace_id = $1 AND t.way = 'table' AND t.topic = d.id::text)",
        workspace,
        table_id,
        [new_id() for _ in given],
        change,
        [key for key, _ in given],
        depth,
        [text for _, text in given],
    )
