"""`/api/v1/overview`: whether everything is all right; `/api/v1/counts`: what waits for somebody."""

from datetime import UTC, datetime, timedelta
from typing import Annotated

from fastapi import APIRouter, Query, Response

from oak_relay.service import exact
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.shapes import CauseOut, CountsOut, HourOut, OverviewOut
from oak_relay.store import consents, overview

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["overview"])
_MESSAGE = 300
_STEPS = 96
"""Steps of time into which runs are counted, at most."""


async def _count(parts: Parts, hours: int) -> OverviewOut:
    step = timedelta(hours=max(1, -(-hours // _STEPS)))
    now = datetime.now(UTC)
    since = now.replace(minute=0, second=0, microsecond=0) + timedelta(hours=1) - step * -(-hours // _hours(step))
    async with parts.database.connect() as connection:
        counted = await overview.by_hour(connection, parts.workspace, since, step)
        causes = await overview.causes(connection, parts.workspace, since)
        waiting = await overview.waiting(connection, parts.workspace)
    found = {since + step * n: HourOut(at=since + step * n) for n in range(-(-hours // _hours(step)))}
    for at, state, count in counted:
        if at in found and state in HourOut.model_fields:
            setattr(found[at], state, count)
    return OverviewOut(
        step=_hours(step),
        hours=list(found.values()),
        causes=[CauseOut(**{**one, "message": one["message"][:_MESSAGE]}) for one in causes],
        waiting=waiting,
    )


def _hours(step: timedelta) -> int:
    return int(step.total_seconds()) // 3600


@router.get("/overview", response_model=OverviewOut)
async def show_overview(
    parts: PartsDep,
    _: CallerDep,
    hours: Annotated[int, Query(ge=1, le=2160, description="How far back, in hours.")] = 24,
) -> Response:
    """Runs by the hour they began in and how they ended, and what made them fail that nobody mended; counted anew every few
    seconds."""
    return exact.answer(await parts.counted.of(hours, lambda: _count(parts, hours)))


@router.get("/counts")
async def show_counts(parts: PartsDep, _: CallerDep) -> CountsOut:
    """What waits for a person: questions, and credentials that need reconnecting."""
    async with parts.database.connect() as connection:
        waiting = await overview.waiting(connection, parts.workspace)
        broken = len(await consents.broken(connection, parts.workspace))
    return CountsOut(questions=waiting, connections=broken)
