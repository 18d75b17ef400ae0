"""`/api/v1/workflows`: what there is, versions, check, render, settings."""

from collections.abc import Sequence
from dataclasses import asdict, replace
from datetime import UTC, datetime
from functools import lru_cache
from typing import Annotated, Any

from fastapi import APIRouter, Query, Response
from pydantic import Field
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document import schemas, values
from oak_relay.document.check import Checked, check
from oak_relay.document.check_base import World
from oak_relay.document.differences import MOST, differences
from oak_relay.document.models import Workflow, document_of, walk_steps
from oak_relay.document.script import script, starters
from oak_relay.document.shapes import defaults, sample_of
from oak_relay.document.text import read
from oak_relay.document.words import WorkflowName
from oak_relay.engine.plan import compile_plan, find_node
from oak_relay.runtime.settings import Settings
from oak_relay.service import exact
from oak_relay.service.drafts import sampled, scope_of
from oak_relay.service.lists import Asks, Page, page
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.preconditions import Preconditions, etag
from oak_relay.service.problems import Problem, missing
from oak_relay.service.receipts import RenderedOut
from oak_relay.service.shapes import (
    CheckedOut,
    ComparedOut,
    DifferenceOut,
    FindingOut,
    HookOut,
    In,
    LineOut,
    RefusalOut,
    SampleName,
    VersionOut,
    WorkflowOut,
    WorkflowPage,
)
from oak_relay.service.ways import example_body
from oak_relay.store import people, refusals, utterances, workflows
from oak_relay.store.database import raw
from oak_relay.store.tags import tag_of
from oak_relay.triggers.base import RequestTrigger, TriggerKinds

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/workflows", tags=["workflows"])


class TextIn(In):
    text: str = Field(max_length=600_000, description="The workflow document, YAML or JSON.")


class CheckIn(TextIn):
    beside: list[WorkflowName] = Field(
        default_factory=list,
        max_length=1000,
        description="Workflows that are checked along with it, and not stored yet.",
    )


class CompareIn(In):
    before: str = Field(max_length=600_000, description="A workflow document, YAML or JSON.")
    after: str = Field(max_length=600_000, description="Another one, that came of it.")


class RenderIn(TextIn):
    step: str
    input: object = None
    sample: SampleName = Field("", description="A kept event of the workflow, in the place of `input`.")
    steps: dict[str, object] = Field(default_factory=dict, description="What earlier steps gave.")


@router.get("")
async def list_workflows(
    parts: PartsDep,
    _: CallerDep,
    asked: Asks,
    text: Annotated[str | None, Query(max_length=200, description="Words of name, title or labels.")] = None,
) -> Page[WorkflowOut]:
    """Workflows by name, with how their last 200 runs went."""
    kinds = parts.registry.catalogue.triggers
    async with parts.database.connect() as connection:
        rows = await workflows.overview(connection, parts.workspace, asked.limit + 1, asked.after, words=text)
    return await parts.registry.documents.surely(
        lambda: page(rows, asked, lambda row: row.name, lambda row: _summary(row, kinds))
    )


async def one_workflow(parts: Parts, connection: AsyncConnection, name: str) -> WorkflowOut:
    """A workflow of that name, which is there, and how its last runs went."""
    [row] = await workflows.overview(connection, parts.workspace, 1, only=name)
    return _summary(row, parts.registry.catalogue.triggers)


@router.post("/check")
async def check_text(given: CheckIn, parts: PartsDep, _: CallerDep) -> CheckedOut:
    """Check a document against what is stored here, without saving it."""
    return await _checked(parts, given.text, given.beside)


@router.post("/compare")
async def compare_texts(given: CompareIn, parts: PartsDep, _: CallerDep) -> ComparedOut:
    """What one document says otherwise than another, step by step. 422 where one of them cannot be read."""
    world = await parts.world()

    def compared() -> ComparedOut:
        before, after = check(given.before, world), check(given.after, world)
        for word, checked in (("first", before), ("second", after)):
            if checked.document is None:
                raise Problem(
                    422, f"the {word} document cannot be read", checked.findings[0].message, checked.findings[0].fix
                )
        found = differences(before, after, world.actions)
        return ComparedOut(
            differences=[DifferenceOut.model_validate(asdict(one)) for one in found[:MOST]],
            more=max(0, len(found) - MOST),
        )

    return await parts.registry.documents.now(compared)


@router.post("/render", response_model=RenderedOut)
async def render_step(given: RenderIn, parts: PartsDep, _: CallerDep) -> Response:
    """What a step would send, from a sample, without sending: `input`, for models also `messages`."""
    document = (await sound(parts, given.text)).document
    assert document is not None
    plan = await parts.registry.documents.now(lambda: compile_plan(document))
    node = find_node(plan, given.step)
    if node is None:
        raise missing("step", given.step)
    scope = {
        "now": datetime.now(UTC),
        **await scope_of(parts, plan, "sample", await sampled(parts, document, given.sample, given.input), given.steps),
    }
    empty: list[str] = []
    rendered = node.body.render(scope, empty)
    shown: dict[str, object] = {"step": node.name, "action": node.action, "input": rendered, "empty": empty}
    action = parts.registry.catalogue.get(node.action) if node.action else None
    if action is not None and action.preview is not None:
        shown |= await action.preview(action.read(rendered), parts.at(30))
    return exact.answer(RenderedOut.model_validate(shown))


@router.get("/{name}")
async def show_workflow(
    name: str, parts: PartsDep, _: CallerDep, response: Response, version: int | None = None
) -> WorkflowPage:
    """A version with its text, script and findings, and the list of all versions."""
    async with parts.database.connect() as connection:
        row = await workflows.by_name(connection, parts.workspace, name)
        chosen = await workflows.one_version(connection, parts.workspace, row.id, version) if row else None
        if row is None or chosen is None:
            raise missing("workflow" if row is None else "version", name if row is None else str(version))
        every = await workflows.versions(connection, parts.workspace, row.id)
        judged = await utterances.verdicts(await raw(connection), parts.workspace, row.id)
        summary = await one_workflow(parts, connection, name)
    response.headers.update(etag(every[0].number))
    return WorkflowPage(
        workflow=summary,
        version=chosen.number,
        text=chosen.text,
        checked=await _checked(parts, chosen.text),
        versions=[
            VersionOut(
                number=v.number,
                on=v.number == row.on_version,
                author=v.author,
                remark=v.remark,
                created_at=v.created_at,
                good=judged.get(v.id, (0, 0))[0],
                bad=judged.get(v.id, (0, 0))[1],
            )
            for v in every
        ],
        settings=values.loads(row.settings),
        settings_tag=tag_of(row.settings),
    )


@router.get("/{name}/refusals")
async def list_refusals(name: str, parts: PartsDep, _: CallerDep, asked: Asks) -> Page[RefusalOut]:
    """Deliveries that its webhooks did not take within the last week, the newest first, and why."""
    async with parts.database.connect() as connection:
        row = await workflows.by_name(connection, parts.workspace, name)
        if row is None:
            raise missing("workflow", name)
        found = await refusals.listed(await raw(connection), parts.workspace, row.id, asked.limit + 1, asked.id())
    return page(found, asked, lambda one: one["id"], lambda one: RefusalOut.model_validate(dict(one)))


@router.put("/{name}/settings")
async def set_settings(
    name: str, given: dict[str, object], parts: PartsDep, who: CallerDep, asked: Preconditions
) -> dict[str, object]:
    """Adjust settings; runs from now on get them. `If-Match` takes the `settings_tag` of the workflow."""
    async with parts.database.begin() as connection:
        row = await workflows.by_name(connection, parts.workspace, name)
        if row is None:
            raise missing("workflow", name)
        chosen = await workflows.one_version(connection, parts.workspace, row.id, row.on_version)
        assert chosen is not None
        document = await parts.registry.documents.now(lambda: document_of(read(chosen.text).data))
        known = document.settings.get("properties", {})
        odd = [key for key in given if key not in known]
        if odd:
            raise Problem(422, f"there is no setting {odd[0]}", fix=f"there is {', '.join(known) or 'none'}")
        wrong = schemas.validator(document.settings).fault({**defaults(document.settings), **given})
        if wrong:
            raise Problem(422, "the settings do not fit", wrong, "correct the value")
        asked.check(await workflows.settings_tag(connection, parts.workspace, row.id), "the settings")
        await workflows.set_settings(connection, parts.workspace, row.id, given)
        await people.note(connection, parts.workspace, who.name, "settings", name)
    return given


async def sound(parts: Parts, text: str) -> Checked:
    """A document without errors. Raises `Problem` with all findings."""
    world = await parts.world()
    checked = await parts.registry.documents.now(lambda: check(text, world))
    if not checked.sound or checked.document is None:
        count = sum(f.severity == "error" for f in checked.findings)
        first = next((f for f in checked.findings if f.severity == "error"), checked.findings[0])
        raise Problem(
            422,
            f"the document has {count} mistake{'s' if count > 1 else ''}",
            f"line {first.line}: {first.message}",
            first.fix,
            findings=[f.as_data() for f in checked.findings],
        )
    return checked


def findings_out(checked: Checked) -> list[FindingOut]:
    """What was found in a document."""
    return [FindingOut(**f.as_data()) for f in checked.findings]


async def _checked(parts: Parts, text: str, beside: Sequence[str] = ()) -> CheckedOut:
    """What is found in a text, and its script."""
    world = await parts.world()
    if beside:
        world = replace(world, workflows=frozenset((*(world.workflows or ()), *beside)))
    return await parts.registry.documents.now(
        lambda: _looked_at(text, world, parts.registry.catalogue.triggers, parts.settings)
    )


def _looked_at(text: str, world: World, kinds: TriggerKinds, settings: Settings) -> CheckedOut:
    checked = check(text, world)
    document = checked.document
    return CheckedOut(
        workflow=document.workflow if document else None,
        title=document.title if document else "",
        sound=checked.sound,
        findings=findings_out(checked),
        script=[LineOut(**line.as_data()) for line in script(document, world.actions)] if document else [],
        starters=starters(document, world.triggers) if document else [],
        hooks=_hooks(document, kinds, settings) if document else [],
        agents=[step.step for step in walk_steps(document.steps) if getattr(step, "do", "") == "agent"]
        if document
        else [],
        sample=sample_of(document.input) if document else None,
    )


def _hooks(document: Workflow, kinds: TriggerKinds, settings: Settings) -> list[HookOut]:
    """Where a document takes requests, each with one that a sender would make."""
    found = []
    for trigger in document.triggers:
        kind = kinds.get(trigger.kind)
        if not isinstance(kind, RequestTrigger):
            continue
        given = kind.read(trigger.given)
        path = kind.path(given)
        if path is not None:
            url = f"{settings.own_url}/hooks/{path}"
            body = example_body(document, trigger.input)
            request = kind.request(given, url, body)
            found.append(
                HookOut(
                    trigger=trigger.trigger, path=path, url=url, methods=list(kind.methods(given)), waits=kind.waits(given), request=request,
                    outside=settings.exposed,
                )
            )  # fmt: skip
    return found


@lru_cache(maxsize=5000)
def _begins(text: str, kinds: TriggerKinds) -> tuple[str, ...]:
    """What starts a document; reading a large one takes long, and a version never changes."""
    try:
        return tuple(starters(document_of(read(text).data), kinds))
    except ValueError:
        return ()


def _summary(row: Any, kinds: TriggerKinds) -> WorkflowOut:
    return WorkflowOut(
        name=row.name,
        kind=row.kind,
        title=row.title,
        labels=row.labels,
        starters=list(_begins(row.text, kinds)),
        on_version=row.on_version,
        latest_version=row.latest_version,
        runs=row.runs,
        mended=row.mended,
        success=row.succeeded / row.ended if row.ended else None,
        seconds=row.median_seconds,
        money=row.money,
        last_state=row.last_state,
        last_at=row.last_at,
        updated_at=row.updated_at,
    )
