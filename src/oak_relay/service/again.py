"""`/api/v1/runs/<id>/again`, many at once; `/api/v1/workflows/try`."""

import re
from typing import Any, Literal
from uuid import UUID

from fastapi import APIRouter, Response
from pydantic import Field, StrictBool

from oak_relay.document import values
from oak_relay.document.numbers import Whole
from oak_relay.document.schemas import validator
from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import Finished
from oak_relay.engine.plan import Plan, compile_plan, complete, find_node
from oak_relay.engine.replay import Kept
from oak_relay.runtime.again import Again, begin, kept_of, try_from
from oak_relay.runtime.intake import Incoming, RunTemplate, Target, conversation_of, event_of
from oak_relay.service import exact
from oak_relay.service.drafts import sampled, scope_of
from oak_relay.service.parts import Caller, CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.problems import Problem, missing
from oak_relay.service.receipts import ManyDone
from oak_relay.service.runs import spans_out
from oak_relay.service.shapes import In, KeptOut, SampleName, TriedOut
from oak_relay.service.workflows import sound
from oak_relay.store import people, runs, usage, workflows
from oak_relay.store.database import raw
from oak_relay.store.ids import new_id
from oak_relay.usage import Usage

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["runs"])


START, FAILURE = "start", "failure"


class AgainIn(In):
    """`version` of its workflow: the one that is on when left out, or the newest while it is off."""

    from_: str = Field(
        "",
        alias="from",
        max_length=1000,
        description="Where from: `start`; `failure`, keeping what came before; or the path of a step, such as "
        "per_hut[3].findings. Left out: from where it failed, or from the start when it did not.",
    )
    version: Whole | None = Field(None, ge=1, description="Of its workflow.")
    input: object = Field(None, description="In the place of what the run was given.")
    values: dict[str, object] = Field(default_factory=dict, description="In the place of what steps at the top gave.")
    check: StrictBool = Field(False, description="Only say what would be kept.")


class ManyIn(In):
    ids: list[UUID] = Field(min_length=1, max_length=500)
    action: Literal["again", "cancel"]


class TryIn(In):
    text: str = Field(max_length=600_000, description="The workflow document, a draft.")
    step: str = Field(description="Name or place of the step.")
    onwards: StrictBool = Field(False, description="Also what stands behind it.")
    input: object = None
    sample: SampleName = Field("", description="A kept event of the workflow, in the place of `input`.")
    steps: dict[str, object] = Field(default_factory=dict, description="What earlier steps gave.")


@router.post("/runs/{run_id:uuid}/again", status_code=201)
async def run_again(run_id: UUID, given: AgainIn, parts: PartsDep, who: CallerDep) -> KeptOut:
    """Run it again, as a new run: from the start, from where it failed, or from a step; with `check` only say what would be
    kept."""
    return await _again(parts, who, run_id, given)


@router.post("/runs/many")
async def many(given: ManyIn, parts: PartsDep, who: CallerDep) -> ManyDone:
    """Cancel many runs, or run them again; `done` counts those it was done to, `refused` says why not to others."""
    done, refused = 0, dict[UUID, str]()
    for run_id in given.ids:
        try:
            if given.action == "cancel":
                async with parts.database.begin() as connection:
                    done += await runs.cancel(connection, parts.workspace, run_id) != "over"
                    await people.note(connection, parts.workspace, who.name, "cancel", str(run_id))
                parts.hints.send(f"cancel:{run_id}")
            else:
                await _again(parts, who, run_id, AgainIn())
                done += 1
        except Problem as problem:
            refused[run_id] = f"{problem.content['title']}: {problem.content['detail']}"
    return ManyDone(done=done, refused=refused)


async def _again(parts: Parts, who: Caller, run_id: UUID, given: AgainIn) -> KeptOut:
    async with parts.database.connect() as connection:
        row = await runs.one(connection, parts.workspace, run_id)
        if row is None:
            raise missing("run", str(run_id))
        if row.state not in runs.OVER:
            raise Problem(409, "the run is not over", f"it is {row.state}", "cancel it first, or wait")
        if row.kind == "part":
            raise Problem(409, "this is a part of another run", str(row.parent_id), "run that one again")
        how = given.from_ or (START if row.state == "succeeded" else FAILURE)
        if how == FAILURE and row.state == "succeeded":
            raise Problem(409, "the run did not fail", fix="say from: start, or the path of a step")
        flow = await workflows.by_name(connection, parts.workspace, row.workflow)
        number = given.version or (flow.on_version if flow is not None else row.version)
        chosen = await workflows.one_version(connection, parts.workspace, row.workflow_id, number)
        if chosen is None:
            raise missing("version", str(given.version))
        plan, document = await parts.registry.plan(await raw(connection), chosen.id)
        journal = await runs.whole_entries(connection, parts.workspace, run_id) if how != START else []
        body = await runs.whole(connection, parts.workspace, row.body)
    complete(plan)
    data = values.loads(body or "null") if given.input is None else given.input
    wrong = validator(document.input).fault(data)
    if wrong:
        raise Problem(422, "the input does not fit the workflow", wrong, "see input: in the document")
    again = _asked(row, how, given, plan)
    kept = await _kept(parts, plan, row, journal, data, again) if how != START else Kept([], [], [])
    told = KeptOut(run=None, from_=again.how, step=again.stop, version=chosen.number, kept=kept.kept, anew=kept.anew)
    if given.check:
        return told
    target = Target(row.workflow_id, chosen.id, RunTemplate.of(plan), None, row.trigger_name)
    meta = values.loads(row.meta)
    incoming = Incoming(
        row.source, row.type if how == START else "oak.start", data, None, meta["headers"], meta["query"],
        origin_id=run_id, origin_how=again.how, meta={name: meta[name] for name in ("data", "conversation") if name in meta},
    )  # fmt: skip
    async with parts.database.begin() as connection:
        await people.note(connection, parts.workspace, who.name, "run again", str(run_id))
        new = await begin(await raw(connection), parts.registry, target, incoming, kept)
    parts.hints.send("queue")
    parts.hints.changed(new)
    return told.model_copy(update={"run": new})


def _asked(row: Any, how: str, given: AgainIn, plan: Plan) -> Again:
    if how == START:
        return Again(row.id, START)
    if how == FAILURE:
        step = values.loads(row.error or "{}").get("step", "")
        return Again(row.id, FAILURE, step, given.values)
    if find_node(plan, place_of(how)) is None:
        raise missing("step", how, "say start, failure, or the path of a step, such as per_hut[3].findings")
    return Again(row.id, "step", how, given.values)


async def _kept(parts: Parts, plan: Plan, row: Any, journal: list[Any], data: object, again: Again) -> Kept:
    settings = {**plan.settings, **values.loads(row.settings)} if row.settings else plan.settings
    about = {"id": str(row.id), "subject": row.subject, "started": row.created_at.isoformat(), "url": ""}
    event = {name: getattr(row, name) for name in ("event_key", "source", "type", "meta")} | {"at": row.event_at}
    scope = {"input": data, "settings": settings, "run": about, "event": event_of(event, data)}
    if plan.talks:
        scope["conversation"] = conversation_of(values.loads(row.meta), str(row.id))
    return await kept_of(parts.tools, plan, journal, scope, again)


def place_of(path: str) -> str:
    """The place in the document of a step's path."""
    return re.sub(r"\[\d+\]", "[]", path)


async def count_spent(parts: Parts, who: Caller, workflow: str, entries: list[Entry]) -> None:
    """What a try of a draft has cost counts too."""
    every = [Usage.read((entry.body or {}).get("usage")) for entry in entries if entry.kind == "ended"]
    priced = [usage for usage in every if usage.alias]
    async with parts.database.begin() as connection:
        await usage.count(await raw(connection), parts.workspace, new_id(), workflow, f"/members/{who.name}", priced)


@router.post("/workflows/try", response_model=TriedOut, tags=["workflows"])
async def try_step(given: TryIn, parts: PartsDep, who: CallerDep) -> Response:
    """Carry out a step of a draft with samples, or from it on. Calls to the outside are made; nothing that is kept
    here is changed."""
    document = (await sound(parts, given.text)).document
    assert document is not None
    plan = await parts.registry.documents.now(lambda: compile_plan(document))
    node = find_node(plan, given.step)
    if node is None:
        raise missing("step", given.step)
    scope = await scope_of(parts, plan, "try", await sampled(parts, document, given.sample, given.input), given.steps)
    outcome, entries = await try_from(plan, parts.tools, node, scope, given.onwards)
    await count_spent(parts, who, document.workflow, entries)
    over = isinstance(outcome, Finished)
    return exact.answer(
        TriedOut(
            state=outcome.state if isinstance(outcome, Finished) else "waiting",
            result=outcome.result if isinstance(outcome, Finished) else None,
            error=outcome.error if isinstance(outcome, Finished) else None,
            waits=None if isinstance(outcome, Finished) else outcome.wakes[0][0],
            spans=spans_out(entries, over),
        )
    )
