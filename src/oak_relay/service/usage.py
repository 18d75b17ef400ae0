"""`/api/v1/usage`: tokens and money, as data and as CSV; `/api/v1/budgets`."""

import csv
import io
from datetime import date
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query, Response
from pydantic import Field

from oak_relay.document.numbers import Number
from oak_relay.service.lists import Asks, Page, cursor, cut, following
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.preconditions import Preconditions, etag
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import BudgetOut, Day, In, UsageOut
from oak_relay.store import people, tags, usage
from oak_relay.store.database import raw
from oak_relay.store.tables import budget

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["usage"])
Group = Literal["day", "workflow", "alias", "credential", "source"]


class BudgetIn(In):
    workflow: str = Field("", description="One workflow; empty for all of the workspace.")
    period: Literal["day", "month"] = Field("day", description="By the calendar of UTC.")
    money: Number = Field(gt=0, description="What may be spent in a period.")
    warn_at: Number = Field(0.8, gt=0, le=1, description="The part of it at which a warning is published.")


@router.get("/usage")
async def show_usage(
    parts: PartsDep,
    _: CallerDep,
    asked: Asks,
    by: Annotated[list[Group] | None, Query()] = None,
    since: Day | None = None,
    until: Day | None = None,
    workflow: str | None = None,
) -> Page[UsageOut]:
    """Calls of models, tokens and money, grouped by day, workflow, alias, credential or source (who began it)."""
    found = [UsageOut.model_validate(row) for row in await _sums(parts, by or [], since, until, workflow)]
    return following(found, asked, lambda row: cursor(*(str(getattr(row, name)) for name in by or [])), lambda row: row)


@router.get("/usage.csv", response_class=Response)
async def usage_as_csv(
    parts: PartsDep,
    _: CallerDep,
    by: Annotated[list[Group] | None, Query()] = None,
    since: Day | None = None,
    until: Day | None = None,
    workflow: str | None = None,
) -> Response:
    """The same as CSV (RFC 4180), with a head."""
    groups = by or ["day", "workflow", "alias", "credential", "source"]
    found = await _sums(parts, groups, since, until, workflow)
    out = io.StringIO()
    writer = csv.writer(out)
    heads = [*groups, "calls", "input", "cached", "output", "money", "unpriced"]
    writer.writerow(heads)
    for row in found:
        writer.writerow([_cell(row[name]) for name in heads])
    disposition = {"Content-Disposition": 'attachment; filename="usage.csv"'}
    return Response(out.getvalue(), media_type="text/csv; charset=utf-8", headers=disposition)


@router.get("/budgets")
async def list_budgets(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[BudgetOut]:
    """Budgets by name, and how far they are spent."""
    async with parts.database.connect() as connection:
        found = await usage.budgets(await raw(connection), parts.workspace)
    return cut(sorted(found, key=lambda row: row["name"]), asked, lambda row: row["name"], _budget)


@router.put("/budgets/{name}")
async def put_budget(
    name: str, given: BudgetIn, parts: PartsDep, who: CallerDep, asked: Preconditions, response: Response
) -> BudgetOut:
    """Set a budget. What is spent already in its period counts."""
    if not name.replace("-", "").replace("_", "").isalnum() or len(name) > 60:
        raise Problem(422, f"{name!r} is no name for a budget", fix="use letters, digits, - and _")
    async with parts.database.begin() as connection:
        direct = await raw(connection)
        asked.check(await tags.held(connection, parts.workspace, budget, name, *_TAGGED), f"the budget {name}")
        await usage.put_budget(direct, parts.workspace, name, given.model_dump())
        await usage.look(direct, parts.workspace)
        await people.note(connection, parts.workspace, who.name, "budget", name)
        found = next(row for row in await usage.budgets(direct, parts.workspace) if row["name"] == name)
    parts.config_changed()
    told = _budget(found)
    response.headers.update(etag(told.tag))
    return told


_TAGGED = ("workflow", "period", "money", "warn_at")
"""What somebody has set of a budget."""


def _budget(row: Any) -> BudgetOut:
    return BudgetOut.model_validate({**row, "tag": tags.tag_of(*(row[name] for name in _TAGGED))})


@router.delete("/budgets/{name}", status_code=204)
async def remove_budget(name: str, parts: PartsDep, who: CallerDep, asked: Preconditions) -> None:
    """Remove a budget: calls are not held back by it any more."""
    async with parts.database.begin() as connection:
        tag = await tags.held(connection, parts.workspace, budget, name, *_TAGGED)
        if tag is not None:
            asked.check(tag, f"the budget {name}")
        if not await usage.remove_budget(await raw(connection), parts.workspace, name):
            raise missing("budget", name)
        await people.note(connection, parts.workspace, who.name, "remove budget", name)
    parts.config_changed()


async def _sums(
    parts: Parts, by: list[Any], since: date | None, until: date | None, workflow: str | None
) -> list[dict[str, object]]:
    async with parts.database.connect() as connection:
        rows = await usage.sums(await raw(connection), parts.workspace, list(dict.fromkeys(by)), since, until, workflow)
    return [dict(row) for row in rows]


def _cell(value: object) -> str:
    """A cell that no spreadsheet takes for a formula."""
    text = f"{value:f}" if hasattr(value, "normalize") else str(value)
    return f"'{text}" if text[:1] in "=+-@" else text
