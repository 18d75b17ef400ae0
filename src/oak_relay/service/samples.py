"""`/api/v1/workflows/<name>/samples`: kept events and results, for trying steps; and events that are kept when they come."""

from collections.abc import Mapping
from typing import Annotated, Any
from uuid import UUID

from fastapi import APIRouter, Path, Response
from pydantic import Field
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document import values
from oak_relay.runtime.intake import event_of
from oak_relay.service import exact
from oak_relay.service.again import place_of
from oak_relay.service.lists import Asks, Page, page
from oak_relay.service.parts import Caller, CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.problems import missing
from oak_relay.service.receipts import SampleKept
from oak_relay.service.receiving import draft_way
from oak_relay.service.runs import spans_out
from oak_relay.service.shapes import AwaitedOut, In, SampleOut
from oak_relay.store import people, runs, samples, workflows
from oak_relay.store.database import raw
from oak_relay.store.samples import NewSample

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["workflows"])
_LONGEST = 7 * 86_400


class SampleIn(In):
    name: str = Field(min_length=1, max_length=100)
    step: str = ""
    value: object = None


class KeepIn(In):
    name: str = Field(min_length=1, max_length=100)
    step: str = Field("", description="Path of the step whose result is kept; empty for the event.")


class KeepNextIn(In):
    name: str = Field("", max_length=100, description="The sample's name; the trigger's when left out.")
    seconds: int = Field(3600, ge=1, le=_LONGEST, description="How long it may take to come.")


@router.get("/workflows/{name}/samples", response_model=Page[SampleOut])
async def list_samples(name: str, parts: PartsDep, _: CallerDep, asked: Asks) -> Response:
    """Kept events and results, the newest first."""
    async with parts.database.connect() as connection:
        row = await _workflow(connection, parts.workspace, name)
        found = await samples.listed(await raw(connection), parts.workspace, row.id, asked.limit + 1, asked.id())
    return exact.answer(page(found, asked, lambda one: one["id"], _sample))


def _sample(row: Mapping[str, Any]) -> SampleOut:
    return SampleOut(
        id=row["id"],
        step=row["step"],
        name=row["name"],
        value=values.loads(row["value"]),
        trigger=row["trigger"],
        event=None if row["event"] is None else values.loads(row["event"]),
        created_at=row["created_at"],
    )


@router.post("/workflows/{name}/samples", status_code=201)
async def add_sample(name: str, given: SampleIn, parts: PartsDep, who: CallerDep) -> SampleKept:
    """Keep a value as a sample."""
    await _keep(parts, who, name, NewSample(given.name, values.dumps(given.value), given.step))
    return SampleKept(kept=given.name)


@router.delete("/workflows/{name}/samples/{sample_id:uuid}", status_code=204)
async def remove_sample(name: str, sample_id: UUID, parts: PartsDep, who: CallerDep) -> None:
    """Remove a sample."""
    async with parts.database.begin() as connection:
        row = await _workflow(connection, parts.workspace, name)
        if not await samples.remove(await raw(connection), parts.workspace, row.id, sample_id):
            raise missing("sample", str(sample_id))
        await people.note(connection, parts.workspace, who.name, "remove sample", name)


@router.post("/runs/{run_id:uuid}/sample", status_code=201, tags=["runs"])
async def sample_from_run(run_id: UUID, given: KeepIn, parts: PartsDep, who: CallerDep) -> SampleKept:
    """Keep a run's event, or what one of its steps gave, as a sample."""
    async with parts.database.connect() as connection:
        row = await runs.one(connection, parts.workspace, run_id)
        if row is None:
            raise missing("run", str(run_id))
        entries = await runs.whole_entries(connection, parts.workspace, run_id) if given.step else []
        body = await runs.whole(connection, parts.workspace, row.body)
    if not given.step:
        about = {name: getattr(row, name) for name in ("event_key", "source", "type", "meta")} | {"at": row.event_at}
        event = values.dumps(event_of(about, values.loads(body or "null")))
        await _keep(parts, who, row.workflow, NewSample(given.name, body or "null", "", row.trigger_name, event))
        return SampleKept(kept=given.name)
    journal = [e.as_entry(None) for e in entries]
    span = next((s for s in spans_out(journal, True) if s.path == given.step), None)
    if span is None or span.state != "succeeded":
        raise missing("result of a step", given.step, "choose a step that succeeded")
    await _keep(parts, who, row.workflow, NewSample(given.name, values.dumps(span.output), place_of(given.step)))
    return SampleKept(kept=given.name)


_Trigger = Annotated[str, Path(max_length=100)]


@router.post("/workflows/{name}/triggers/{trigger}/next", status_code=201)
async def keep_next(name: str, trigger: _Trigger, given: KeepNextIn, parts: PartsDep, who: CallerDep) -> AwaitedOut:
    """Keep the next event of a trigger as a sample: what comes next to the draft's address, or to that of its webhook, whether
    or not the workflow is on. Of a workflow that is off it begins no run."""
    async with parts.database.begin() as connection:
        row = await _workflow(connection, parts.workspace, name)
        newest = await workflows.one_version(connection, parts.workspace, row.id, None)
        way = await draft_way(parts, connection, newest, trigger, "")
        if way is None:
            raise missing("trigger", trigger, "see the triggers of the newest version")
        path, sample = way.kind.path(way.given), given.name or trigger
        until = await samples.keep_next(
            await raw(connection), parts.workspace, row.id, trigger, path, sample, given.seconds
        )
        await people.note(connection, parts.workspace, who.name, "keep next", f"{name} {trigger}")
    parts.config_changed()
    return AwaitedOut(trigger=trigger, sample=sample, until=until)


@router.delete("/workflows/{name}/triggers/{trigger}/next", status_code=204)
async def keep_no_longer(name: str, trigger: _Trigger, parts: PartsDep, who: CallerDep) -> None:
    """Await no event of a trigger any longer."""
    async with parts.database.begin() as connection:
        row = await _workflow(connection, parts.workspace, name)
        await samples.keep_no_longer(await raw(connection), parts.workspace, row.id, trigger)
        await people.note(connection, parts.workspace, who.name, "keep no longer", f"{name} {trigger}")
    parts.config_changed()


async def _keep(parts: Parts, who: Caller, workflow: str, new: NewSample) -> None:
    async with parts.database.begin() as connection:
        row = await _workflow(connection, parts.workspace, workflow)
        await samples.keep(await raw(connection), parts.workspace, row.id, new)
        await people.note(connection, parts.workspace, who.name, "sample", f"{workflow} {new.name}")


async def _workflow(connection: AsyncConnection, workspace: int, name: str) -> Any:
    row = await workflows.by_name(connection, workspace, name)
    if row is None:
        raise missing("workflow", name)
    return row
