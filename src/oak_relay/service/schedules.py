"""`/api/v1/schedules`: what comes when; pause, let go on, fire now."""

from datetime import UTC, datetime
from typing import Annotated, Any

from fastapi import APIRouter, Query
from pydantic import StrictBool

from oak_relay.document import calendar
from oak_relay.document.errors import StepFailed
from oak_relay.runtime.intake import Incoming, RunTemplate, Target
from oak_relay.service.lists import Asks, Page, cursor, page
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.problems import Problem, missing
from oak_relay.service.receipts import Fired
from oak_relay.service.shapes import In, ScheduleOut
from oak_relay.store import people, schedules
from oak_relay.store.database import raw
from oak_relay.triggers.base import TimeTrigger, TriggerKind

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/schedules", tags=["schedules"])


class PauseIn(In):
    paused: StrictBool


@router.get("")
async def list_schedules(
    parts: PartsDep,
    _: CallerDep,
    asked: Asks,
    workflow: str | None = None,
    occurrences: Annotated[int, Query(ge=0, le=100)] = 10,
) -> Page[ScheduleOut]:
    """Schedules and polls of workflows that are on with their next occurrences, the earliest first."""
    behind = asked.key(datetime, str, str)
    async with parts.database.connect() as connection:
        rows = await schedules.listed(await raw(connection), parts.workspace, workflow, asked.limit + 1, behind)
    return await parts.registry.documents.now(
        lambda: page(
            rows,
            asked,
            lambda row: cursor(row["next_at"] or schedules.NEVER, row["workflow"], row["name"]),
            lambda row: _out(parts, row, occurrences),
        )
    )


@router.post("/{workflow}/{trigger}/pause")
async def pause_schedule(workflow: str, trigger: str, given: PauseIn, parts: PartsDep, who: CallerDep) -> ScheduleOut:
    """Pause, or go on from now; what came meanwhile does not come late."""
    async with parts.database.begin() as connection:
        await people.note(
            connection, parts.workspace, who.name, "pause" if given.paused else "go on", f"{workflow} {trigger}"
        )
        direct = await raw(connection)
        row = await _one(direct, parts.workspace, workflow, trigger)
        now, moment = datetime.now(UTC), None
        if not given.paused:
            moment = next(iter(_coming(parts, row, 1)), None) if row["way"] == "time" else now
        await schedules.pause(direct, parts.workspace, row["trigger_id"], given.paused, moment)
        found = [r for r in await schedules.listed(direct, parts.workspace, workflow, 1000) if r["name"] == trigger]
    return _out(parts, found[0], 10)


@router.post("/{workflow}/{trigger}/fire", status_code=201)
async def fire_schedule(workflow: str, trigger: str, parts: PartsDep, who: CallerDep) -> Fired:
    """Make an occurrence now, beside those that come by themselves."""
    async with parts.database.begin() as connection:
        await people.note(connection, parts.workspace, who.name, "fire", f"{workflow} {trigger}")
        direct = await raw(connection)
        row = await _one(direct, parts.workspace, workflow, trigger)
        if row["way"] == "watch":
            await schedules.pause(direct, parts.workspace, row["trigger_id"], False, datetime.now(UTC))
            return Fired(run=None, note="it looks for new items now")
    kind, given = _given(parts, row)
    assert isinstance(kind, TimeTrigger)
    target = Target(
        row["workflow_id"], row["version_id"], RunTemplate.read(row["start"]), row["trigger_id"], row["name"]
    )
    data = kind.data(given, datetime.now(UTC))
    receipt = await parts.intake.accept(target, Incoming(f"/members/{who.name}", "oak.time", data))
    return Fired(run=receipt.run_id, note="")


async def _one(direct: object, workspace: int, workflow: str, trigger: str) -> Any:
    row = await schedules.one(direct, workspace, workflow, trigger)
    if row is None:
        raise missing("schedule", f"{workflow} {trigger}", "switch the workflow on; see oak-relay schedules")
    return row


def _given(parts: Parts, row: Any) -> tuple[TriggerKind[Any], object]:
    """A trigger's kind and what is given to it. Raises `Problem` for a kind that is not installed."""
    try:
        kind = parts.registry.catalogue.triggers.known(row["kind"])
    except StepFailed as failed:
        raise Problem(503, "this trigger cannot be used", failed.message, failed.fix, kind="missing") from None
    return kind, kind.parsed(row["config"])


def _coming(parts: Parts, row: object, count: int) -> list[datetime]:
    kind, given = _given(parts, row)
    return kind.coming(given, datetime.now(UTC), count) if isinstance(kind, TimeTrigger) else []


def _out(parts: Parts, row: Any, occurrences: int) -> ScheduleOut:
    words, rule, zone, coming, fault = row["kind"], "", "UTC", [row["next_at"]] if row["next_at"] else [], row["fault"]
    try:
        kind, given = _given(parts, row)
    except Problem as problem:
        fault = problem.content["detail"]
    else:
        words = kind.sentence(given)
        if isinstance(kind, TimeTrigger):
            rule, zone = kind.rule(given), kind.zone(given)
            coming = _coming(parts, row, occurrences)
    if row["paused"]:
        coming = []
    return ScheduleOut(
        workflow=row["workflow"],
        trigger=row["name"],
        kind=row["kind"],
        words=words,
        rule=rule or words,
        zone=zone,
        paused=row["paused"],
        next_at=None if row["paused"] else row["next_at"],
        last_at=row["last_at"],
        fault=fault,
        occurrences=coming,
    )


class UpcomingIn(In):
    cron: str | None = None
    every: str | None = None
    rrule: str | None = None
    zone: str = "UTC"


@router.post("/preview")
async def preview(given: UpcomingIn, parts: PartsDep, _: CallerDep) -> list[datetime]:
    """The next ten occurrences of a rule, before it is written down."""
    try:
        rule = await parts.registry.documents.now(
            lambda: calendar.rule(given.cron, given.every, given.rrule, given.zone)
        )
    except (ValueError, KeyError) as error:
        raise Problem(422, "the rule cannot be read", str(error), "give one of cron, every, rrule") from None
    return await parts.registry.documents.now(lambda: rule.next(datetime.now(UTC), 10))
