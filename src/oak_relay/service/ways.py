"""`/drafts/<workflow>/<trigger>/<key>`: where a trigger's events may be sent to the newest version, again and again, and start
runs that stand beside all others; and what a workflow's triggers are."""

from fastapi import APIRouter, Request
from fastapi.responses import Response

from oak_relay.document import values
from oak_relay.document.models import Workflow
from oak_relay.document.shapes import sample_of
from oak_relay.runtime.settings import Settings
from oak_relay.service.lists import Asks, Page, following
from oak_relay.service.page_opening import DRAFT
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep, parts_of
from oak_relay.service.problems import Problem, missing
from oak_relay.service.receiving import METHODS, Way, draft_way, finished, noting, taken
from oak_relay.service.shapes import AwaitedOut, TriggerOut
from oak_relay.store import samples, workflows
from oak_relay.store.database import raw
from oak_relay.store.vault import Vault
from oak_relay.triggers import requests
from oak_relay.triggers.base import RequestTrigger, TimeTrigger
from oak_relay.triggers.conversation import PAGE, Conversation, signed_draft, signed_page

router = APIRouter(route_class=ExactRoute)


@router.get("/api/v1/workflows/{name}/triggers", tags=["workflows"])
async def list_triggers(name: str, parts: PartsDep, _: CallerDep, asked: Asks) -> Page[TriggerOut]:
    """The triggers of the newest version: where events may be sent to it as a draft, a request to copy, and whether the next
    one is awaited to be kept."""
    async with parts.database.connect() as connection:
        row = await workflows.by_name(connection, parts.workspace, name)
        if row is None:
            raise missing("workflow", name)
        newest = await workflows.one_version(connection, parts.workspace, row.id, None)
        assert newest is not None
        _plan, document = await parts.registry.plan(await raw(connection), newest.id)
        awaited = {a.trigger: a for a in await samples.awaited_by(await raw(connection), parts.workspace, row.id)}
        found = []
        for trigger in document.triggers:
            way = await draft_way(parts, connection, newest, trigger.trigger, "")
            if way is None:
                continue
            url = _url(parts.registry.vault, parts.settings, str(row.id), name, trigger.trigger)
            kept = awaited.get(trigger.trigger)
            found.append(
                TriggerOut(
                    trigger=trigger.trigger,
                    kind=trigger.kind,
                    sentence=way.kind.sentence(way.given),
                    page=_page(parts.registry.vault, parts.settings, str(row.id), way.given),
                    draft_page=_draft_page(parts.registry.vault, parts.settings, name, str(row.id), way.given),
                    draft_url=url,
                    request=_request(way, example_body(document, trigger.input), url),
                    awaited=None
                    if kept is None
                    else AwaitedOut(trigger=kept.trigger, sample=kept.sample, until=kept.until),
                )
            )
    return following(found, asked, lambda one: one.trigger, lambda one: one)


async def receive_draft(request: Request) -> Response:
    """Take an event for a draft: a run of the newest version, or a sample, where the next one is awaited."""
    parts, given = parts_of(request), request.path_params
    name, trigger = given["workflow"], given["trigger"]
    nobody = Problem(404, "no draft is reached here", fix="copy the address from the workflow's page")
    async with parts.database.connect() as connection:
        row = await workflows.by_name(connection, parts.workspace, name) if len(name) <= 100 else None
        if row is None or not parts.registry.vault.signed(_signed(str(row.id), trigger), given["key"]):
            raise nobody
        newest = await workflows.one_version(connection, parts.workspace, row.id, None)
        way = await draft_way(parts, connection, newest, trigger, f"/drafts/{name}/{trigger}")
        if way is None:
            raise nobody
        every = await samples.awaited_by(await raw(connection), parts.workspace, row.id)
        plan, _document = await parts.registry.plan(await raw(connection), way.target.version_id)
    awaited = next((a for a in every if a.trigger == trigger), None)

    async def afresh() -> Way:
        return way

    with noting(parts, way, request):
        if awaited is None:
            finished(plan)
        return await taken(request, way, parts, afresh, awaited)


def example_body(document: Workflow, made: object) -> str:
    """A body for an event of a document, as JSON text; `made` is what its trigger makes the input of it with."""
    sample = sample_of(document.input) if document.input else {}
    return values.dumps(sample if made is None else requests.data_of(made, sample))


def _request(way: Way, body: str, url: str) -> str:
    """A request to the draft that is ready to copy."""
    if isinstance(way.kind, RequestTrigger):
        return way.kind.request(way.given, url, body)
    if isinstance(way.kind, TimeTrigger):
        return requests.curl("POST", url)
    return requests.curl("POST", url, [("Content-Type", "application/json")], requests.quoted(body))


def _url(vault: Vault, settings: Settings, workflow_id: str, name: str, trigger: str) -> str:
    return f"{settings.own_url}/drafts/{name}/{trigger}/{vault.sign(_signed(workflow_id, trigger))}"


def _page(vault: Vault, settings: Settings, workflow_id: str, given: object) -> str:
    """The address of a page on which people talk, or that a channel sends to; empty of other triggers."""
    if not isinstance(given, Conversation):
        return ""
    if given.channel != PAGE:
        return f"{settings.own_url}/channels/{given.path}"
    key = f"#{vault.sign(signed_page(workflow_id, given.path))}" if given.open_to == "link" else ""
    return f"{settings.own_url}/talk/{given.path}{key}"


def _draft_page(vault: Vault, settings: Settings, name: str, workflow_id: str, given: object) -> str:
    """The address of the page of a draft; empty of other triggers."""
    if not isinstance(given, Conversation) or given.channel != PAGE:
        return ""
    return f"{settings.own_url}/talk/{given.path}#{DRAFT}{name}:{vault.sign(signed_draft(workflow_id, given.path))}"


def _signed(workflow_id: str, trigger: str) -> str:
    """What the key in an address is a signature of."""
    return f"draft/{workflow_id}/{trigger}"


for _method in METHODS:
    router.add_api_route(
        "/drafts/{workflow}/{trigger}/{key}",
        receive_draft,
        methods=[_method],
        operation_id=f"receive_draft_{_method.lower()}",
        response_class=Response,
        status_code=202,
        tags=["hooks"],
        responses={"default": {"description": "What the workflow answers.", "content": {"*/*": {}}}},
        openapi_extra={
            "parameters": [
                {"name": name, "in": "path", "required": True, "schema": {"type": "string"}}
                for name in ("workflow", "trigger", "key")
            ]
        },
    )
