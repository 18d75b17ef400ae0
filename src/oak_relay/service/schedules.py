"""`/api/v1/schedules`: what comes when; pause, let go on, fire now."""

from datetime import UTC, datetime
from typing import Annotated, Any

from fastapi import APIRouter, Query

from oak_relay.document import calendar, values
from oak_relay.document.triggers import Schedule
from oak_relay.runtime.intake import Incoming, RunTemplate, Target
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import In, ScheduleOut
from oak_relay.store import people, schedules
from oak_relay.store.database import raw

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/schedules", tags=["schedules"])


class PauseIn(In):
    paused: bool


@router.get("")
async def list_schedules(
    parts: PartsDep,
    _: CallerDep,
    workflow: str | None = None,
    occurrences: Annotated[int, Query(ge=0, le=100)] = 10,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> list[ScheduleOut]:
    """Schedules and polls of live workflows with their next occurrences, the earliest first."""
    async with parts.database.connect() as connection:
        rows = await schedules.listed(await raw(connection), parts.workspace, workflow, limit)
    return [_out(row, occurrences) for row in rows]


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
            moment = _rule(row).after(now) if row["kind"] == "schedule" else now
        await schedules.pause(direct, parts.workspace, row["trigger_id"], given.paused, moment)
        found = [r for r in await schedules.listed(direct, parts.workspace, workflow, 1000) if r["name"] == trigger]
    return _out(found[0], 10)


@router.post("/{workflow}/{trigger}/fire", status_code=201)
async def fire_schedule(workflow: str, trigger: str, parts: PartsDep, who: CallerDep) -> dict[str, str]:
    """Make an occurrence now, beside those that come by themselves."""
    async with parts.database.begin() as connection:
        await people.note(connection, parts.workspace, who.name, "fire", f"{workflow} {trigger}")
        direct = await raw(connection)
        row = await _one(direct, parts.workspace, workflow, trigger)
        if row["kind"] == "poll":
            await schedules.pause(direct, parts.workspace, row["trigger_id"], False, datetime.now(UTC))
            return {"run": "", "note": "it looks for new items now"}
    given = Schedule.model_validate(values.loads(row["config"]))
    target = Target(
        row["workflow_id"], row["version_id"], RunTemplate.read(row["start"]), row["trigger_id"], row["name"]
    )
    data = {} if given.data is None else given.data
    receipt = await parts.intake.accept(target, Incoming(f"/members/{who.name}", "oak.time", data))
    return {"run": str(receipt.run_id), "note": ""}


async def _one(direct: Any, workspace: int, workflow: str, trigger: str) -> Any:
    row = await schedules.one(direct, workspace, workflow, trigger)
    if row is None:
        raise missing("schedule", f"{workflow} {trigger}", "make the workflow live; see oak-relay schedules")
    return row


def _rule(row: Any) -> calendar.Rule:
    given = Schedule.model_validate(values.loads(row["config"]))
    return calendar.rule(given.cron, given.every, given.rrule, given.zone)


def _out(row: Any, occurrences: int) -> ScheduleOut:
    config = values.loads(row["config"])
    coming: list[datetime] = []
    if row["kind"] == "schedule":
        words = f"every {config['every']}" if config["every"] else config["cron"] or config["rrule"]
        zone = config["zone"]
        if not row["paused"]:
            coming = _rule(row).next(datetime.now(UTC), occurrences)
    else:
        words, zone = f"every {config['every']}: {config['do']}", "UTC"
        coming = [row["next_at"]] if row["next_at"] and not row["paused"] else []
    return ScheduleOut(
        workflow=row["workflow"],
        trigger=row["name"],
        kind=row["kind"],
        rule=words,
        zone=zone,
        paused=row["paused"],
        next_at=None if row["paused"] else row["next_at"],
        last_at=row["last_at"],
        fault=row["fault"],
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
        rule = calendar.rule(given.cron, given.every, given.rrule, given.zone)
    except (ValueError, KeyError) as error:
        raise Problem(422, "the rule cannot be read", str(error), "give one of cron, every, rrule") from None
    return rule.next(datetime.now(UTC), 10)
