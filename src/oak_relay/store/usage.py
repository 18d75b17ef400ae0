"""Tokens and money by day: calls are written with their entries and summed up by a clock; budgets."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from uuid import UUID

import asyncpg

from oak_relay.store import arrays
from oak_relay.usage import Usage


@dataclass(frozen=True, slots=True)
class Used:
    """What one call of a model used, and for whom: the source of the event that the run came of."""

    workflow_id: UUID
    alias: str
    credential: str
    source: str
    input: int
    cached: int
    output: int
    money: Decimal
    unpriced: int = 0


EVERY = """
  SELECT day, workflow_id, alias, credential, source, input, cached, output, money, unpriced, calls FROM usage WHERE workspace_id = $1
  UNION ALL SELECT (at AT TIME ZONE 'UTC')::date, workflow_id, alias, credential, source, input, cached, output, money, unpriced, 1
  FROM spent WHERE workspace_id = $1
"""
"""Of a workspace ($1): the sums of days, and calls that are not summed up yet."""
BY = {
    "day": "u.day::text",
    "workflow": "coalesce(w.name, '(a draft)')",
    "alias": "u.alias",
    "credential": "u.credential",
    "source": "u.source",
}
"""What sums can be grouped by."""


COLUMNS = {
    "run_id": "uuid", "seq": "int", "workflow_id": "uuid", "alias": "text", "credential": "text", "source": "text", "input": "bigint",
    "cached": "bigint", "output": "bigint", "money": "numeric", "unpriced": "int",
}  # fmt: skip
"""Columns of what calls used as they are given to a statement, with their types."""
INTO = f"INSERT INTO spent (workspace_id, {', '.join(COLUMNS)})"
_WRITE = f"{INTO} SELECT $1, u.* FROM {arrays.rows(COLUMNS, 2)}"


def columns(given: Sequence[tuple[UUID, int, Used]]) -> list[object]:
    """What calls used, each with its run and the place of its entry there, as parameters of a statement."""
    rows = [
        (run_id, place, u.workflow_id, u.alias, u.credential, u.source, u.input, u.cached, u.output, u.money, u.unpriced)
        for run_id, place, u in given
    ]  # fmt: skip
    return arrays.given(COLUMNS, zip(*rows, strict=True) if rows else [()] * len(COLUMNS))


async def count(
    connection: asyncpg.Connection, workspace: int, run_id: UUID, workflow: str, source: str, usages: Iterable[Usage]
) -> None:
    """Write what calls used that no run made: those of drafts that are tried. `usages`: their usages."""
    workflow_id = await connection.fetchval(
        "SELECT id FROM workflow WHERE workspace_id = $1 AND name = $2", workspace, workflow
    )
    used = [
        (run_id, number, Used(
            workflow_id or UUID(int=0), one.alias, one.credential or "", source,
            one.input, one.cached, one.output, Decimal(str(one.paid)), one.unknown,
        ))
        for number, one in enumerate(usages)
    ]  # fmt: skip
    if used:
        await connection.execute(_WRITE, workspace, *columns(used))


async def sum_up(connection: asyncpg.Connection, workspace: int) -> None:
    """Put single calls into the sums of their days. What is being summed up elsewhere is left to it."""
    await connection.execute(
        "WITH taken AS (SELECT workspace_id, run_id, seq FROM spent WHERE workspace_id = $1 ORDER BY run_id, seq "
        "LIMIT 10000 FOR UPDATE SKIP LOCKED), "
        "gone AS (DELETE FROM spent s USING taken WHERE s.workspace_id = taken.workspace_id AND s.run_id = taken.run_id "
        "AND s.seq = taken.seq RETURNING s.*) "
        "INSERT INTO usage (workspace_id, day, workflow_id, alias, credential, source, input, cached, output, money, unpriced, calls) "
        "SELECT workspace_id, (at AT TIME ZONE 'UTC')::date, workflow_id, alias, credential, source, sum(input), sum(cached), "
        "sum(output), sum(money), sum(unpriced), count(*) FROM gone GROUP BY 1, 2, 3, 4, 5, 6 ORDER BY 2, 3, 4, 5, 6 "
        "ON CONFLICT (workspace_id, day, workflow_id, alias, credential, source) DO UPDATE SET input = usage.input + excluded.input, "
        "cached = usage.cached + excluded.cached, output = usage.output + excluded.output, "
        "money = usage.money + excluded.money, unpriced = usage.unpriced + excluded.unpriced, calls = usage.calls + excluded.calls",
        workspace,
    )


async def sums(
    connection: asyncpg.Connection,
    workspace: int,
    by: Sequence[str],
    since: date | None,
    until: date | None,
    workflow: str | None,
) -> list[asyncpg.Record]:
    """Calls, tokens and money grouped by some of `BY`, of days from `since` to `until`."""
    columns = ", ".join(f"{BY[name]} AS {name}" for name in by)
    numbers = ", ".join(str(n + 1) for n in range(len(by)))
    return await connection.fetch(
        f"SELECT {columns}{', ' if by else ''}coalesce(sum(calls), 0)::bigint AS calls, coalesce(sum(input), 0)::bigint AS input, "
        "coalesce(sum(cached), 0)::bigint AS cached, coalesce(sum(output), 0)::bigint AS output, coalesce(sum(u.money), 0) AS money, "
        "coalesce(sum(u.unpriced), 0)::bigint AS unpriced "
        f"FROM ({EVERY}) AS u LEFT JOIN workflow w ON w.workspace_id = $1 AND w.id = u.workflow_id "
        "WHERE ($2::date IS NULL OR u.day >= $2) AND ($3::date IS NULL OR u.day <= $3) AND ($4::text IS NULL OR w.name = $4) "
        + (f"GROUP BY {numbers} ORDER BY {numbers}" if by else ""),
        workspace,
        since,
        until,
        workflow,
    )


async def budgets(connection: asyncpg.Connection, workspace: int) -> list[asyncpg.Record]:
    """All budgets by name."""
    return await connection.fetch("SELECT * FROM budget WHERE workspace_id = $1 ORDER BY name", workspace)


async def put_budget(connection: asyncpg.Connection, workspace: int, name: str, given: dict[str, object]) -> None:
    """Set a budget, new or in place of the one of that name."""
    await connection.execute(
        "INSERT INTO budget (workspace_id, name, workflow, period, money, warn_at) VALUES ($1, $2, $3, $4, $5, $6) "
        "ON CONFLICT (workspace_id, name) DO UPDATE SET workflow = excluded.workflow, period = excluded.period, "
        "money = excluded.money, warn_at = excluded.warn_at, updated_at = clock_timestamp()",
        workspace,
        name,
        given["workflow"],
        given["period"],
        Decimal(str(given["money"])),
        given["warn_at"],
    )


async def remove_budget(connection: asyncpg.Connection, workspace: int, name: str) -> bool:
    """Remove a budget; False when there is none."""
    done = await connection.execute("DELETE FROM budget WHERE workspace_id = $1 AND name = $2", workspace, name)
    return str(done).endswith("1")


_SPENT = (
    f"WITH every AS ({EVERY}) "
    "SELECT b.name, coalesce(sum(e.money), 0) AS spent FROM budget b LEFT JOIN workflow w ON w.workspace_id = $1 AND w.name = b.workflow "
    "LEFT JOIN every e ON (b.workflow = '' OR e.workflow_id = w.id) "
    "AND e.day >= date_trunc(b.period, now() AT TIME ZONE 'UTC')::date WHERE b.workspace_id = $1 GROUP BY b.name"
)
"""What was spent of each budget in its period (UTC)."""


async def left(connection: asyncpg.Connection, workspace: int) -> dict[str, tuple[str, float]]:
    """The name of the budget of which the least is left, and how much, by the workflow that they are for; empty for all of them."""
    rows = await connection.fetch(
        f"SELECT b.name, b.workflow, b.money - f.spent AS left FROM budget b JOIN ({_SPENT}) f USING (name) "
        "WHERE b.workspace_id = $1 ORDER BY 3 DESC", workspace
    )  # fmt: skip
    return {row["workflow"]: (row["name"], float(row["left"])) for row in rows}


async def look(connection: asyncpg.Connection, workspace: int) -> list[asyncpg.Record]:
    """Compare budgets with what was spent in their period (UTC); returns those whose state is another now."""
    return await connection.fetch(
        f"WITH found AS ({_SPENT}), "
        "was AS (SELECT name, state FROM budget WHERE workspace_id = $1), "
        "done AS (UPDATE budget b SET spent = f.spent, updated_at = clock_timestamp(), state = CASE WHEN f.spent >= b.money THEN 'spent' "
        "WHEN f.spent >= b.money * b.warn_at THEN 'warned' ELSE 'within' END FROM found f "
        "WHERE b.workspace_id = $1 AND b.name = f.name AND (b.spent <> f.spent OR b.state <> CASE WHEN f.spent >= b.money THEN 'spent' "
        "WHEN f.spent >= b.money * b.warn_at THEN 'warned' ELSE 'within' END) RETURNING b.*) "
        "SELECT done.* FROM done JOIN was USING (name) WHERE done.state <> was.state",
        workspace,
    )
