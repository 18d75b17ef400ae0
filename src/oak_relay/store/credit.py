"""Credit of accounts: what was paid in behind a credential, and what is left of it by what its models cost since."""

from decimal import Decimal

import asyncpg

from oak_relay.store.usage import EVERY

_DAYS = 7
"""Days of which the present pace is made."""
_TODAY = "(now() AT TIME ZONE 'UTC')::date"
_USED = f"""
WITH every AS ({EVERY}), used AS (
  SELECT coalesce(sum(money), 0) AS money, coalesce(sum(unpriced), 0) AS unpriced FROM every
  WHERE credential = $2 AND day = {_TODAY}
)
"""


async def note(connection: asyncpg.Connection, workspace: int, credential: str, money: Decimal, adds: bool) -> None:
    """So much is in the account of a credential now; with `adds` so much more than what is left of what was noted. What is
    used up to now does not count against it."""
    await connection.execute(
        f"{_USED} INSERT INTO credit (workspace_id, credential, money, base, base_unpriced) "
        "SELECT $1, $2, $3, used.money, used.unpriced FROM used ON CONFLICT (workspace_id, credential) DO UPDATE SET "
        "money = $3 + CASE WHEN $4 THEN greatest(credit.money - credit.spent, 0) ELSE 0 END, base = excluded.base, "
        "base_unpriced = excluded.base_unpriced, state = 'within', spent = 0, unpriced = 0, noted_at = clock_timestamp()",
        workspace,
        credential,
        money,
        adds,
    )


async def forget(connection: asyncpg.Connection, workspace: int, credential: str) -> bool:
    """Nothing is known of an account any more; False when nothing was."""
    done = await connection.execute(
        "DELETE FROM credit WHERE workspace_id = $1 AND credential = $2", workspace, credential
    )
    return str(done).endswith("1")


async def listed(connection: asyncpg.Connection, workspace: int) -> list[asyncpg.Record]:
    """All of it by credential, with what is `left` and until when that `lasts` at the present pace (null without one)."""
    return await connection.fetch(
        "SELECT *, money - spent AS left, CASE WHEN a_day > 0 THEN now() + least(greatest(money - spent, 0) / a_day, 36500) "
        "* interval '1 day' END AS lasts FROM credit WHERE workspace_id = $1 ORDER BY credential",
        workspace,
    )


async def look(connection: asyncpg.Connection, workspace: int) -> list[asyncpg.Record]:
    """Compare what was noted with what was used since; returns those whose state is another now."""
    state = (
        "CASE WHEN f.spent >= c.money THEN 'spent' WHEN f.spent >= c.money * (1 - c.warn_at) "
        "OR f.a_day * c.warn_days >= c.money - f.spent OR c.state <> 'within' THEN 'warned' ELSE 'within' END"
    )
    return await connection.fetch(
        f"WITH every AS ({EVERY}), found AS (SELECT c.credential, "
        "coalesce(sum(e.money) FILTER (WHERE e.day >= (c.noted_at AT TIME ZONE 'UTC')::date), 0) - c.base AS spent, "
        "coalesce(sum(e.unpriced) FILTER (WHERE e.day >= (c.noted_at AT TIME ZONE 'UTC')::date), 0) - c.base_unpriced AS unpriced, "
        f"coalesce(sum(e.money) FILTER (WHERE e.day > {_TODAY} - {_DAYS}), 0) / greatest(1, {_TODAY} - coalesce(min(e.day) "
        f"FILTER (WHERE e.day > {_TODAY} - {_DAYS}), {_TODAY}) + 1) AS a_day FROM credit c LEFT JOIN every e ON "
        f"e.credential = c.credential AND e.day >= least((c.noted_at AT TIME ZONE 'UTC')::date, {_TODAY} - {_DAYS}) "
        "WHERE c.workspace_id = $1 GROUP BY c.credential, c.base, c.base_unpriced), "
        "was AS (SELECT credential, state FROM credit WHERE workspace_id = $1), "
        f"done AS (UPDATE credit c SET spent = f.spent, unpriced = f.unpriced, a_day = f.a_day, state = {state} FROM found f "
        "WHERE c.workspace_id = $1 AND c.credential = f.credential AND (c.spent, c.unpriced, c.a_day, c.state) IS DISTINCT FROM "
        f"(f.spent, f.unpriced, f.a_day, {state}) RETURNING c.*) "
        "SELECT done.* FROM done JOIN was USING (credential) WHERE done.state <> was.state",
        workspace,
    )
