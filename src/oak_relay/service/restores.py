"""`/api/v1/restore`: runs held after a restore of the database, and events that it took back; `hold` and `release`."""

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Response

from oak_relay.service import exact
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.receipts import Forgotten, Held, Released
from oak_relay.service.shapes import MissingOut, RestoreOut
from oak_relay.store import epoch, missing, people
from oak_relay.store.database import raw

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["operation"])


@router.get("/restore", response_model=RestoreOut)
async def show_restore(
    parts: PartsDep, _: CallerDep, after: UUID | None = None, limit: Annotated[int, Query(ge=1, le=1000)] = 100
) -> Response:
    """How many runs are held, and the events that had been answered and that the database does not hold any more."""
    async with parts.database.connect() as connection:
        direct = await raw(connection)
        held, count = await missing.counts(direct, parts.workspace)
        rows = await missing.listed(direct, parts.workspace, after, limit + 1)
    listed = [
        MissingOut(run=r["id"], **{k: r[k] for k in ("workflow", "source", "event_key", "answered_at")}) for r in rows
    ]
    next_ = listed[limit - 1].run if len(listed) > limit else None
    return exact.answer(RestoreOut(held=held, count=count, missing=listed[:limit], next=next_))


@router.delete("/restore/missing")
async def forget_missing(parts: PartsDep, who: CallerDep) -> Forgotten:
    """The missing events were looked after: the list is emptied."""
    async with parts.database.begin() as connection:
        await people.note(connection, parts.workspace, who.name, "forget missing events", "")
        return Forgotten(forgotten=await missing.forget(await raw(connection), parts.workspace))


@router.post("/hold")
async def hold(parts: PartsDep, who: CallerDep) -> Held:
    """Hold all runs that are not over, as after a restore of the database; those that are walked are taken from their
    workers."""
    async with parts.database.begin() as connection:
        await people.note(connection, parts.workspace, who.name, "hold", "all runs")
        return Held(held=await epoch.hold(await raw(connection), parts.workspace))


@router.post("/release")
async def release(parts: PartsDep, who: CallerDep) -> Released:
    """Let held runs go."""
    async with parts.database.begin() as connection:
        await people.note(connection, parts.workspace, who.name, "release", "all runs")
        count = await epoch.release(await raw(connection), parts.workspace)
    parts.hints.send("queue")
    return Released(released=count)
