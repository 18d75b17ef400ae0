"""`/api/v1/actions` and `/api/v1/connectors`: what can be done here, and what brings it."""

from fastapi import APIRouter

from oak_relay.actions.base import Action
from oak_relay.actions.catalogue import offer
from oak_relay.document import values
from oak_relay.service.lists import Asks, Page, cut
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.shapes import ActionOut, ConnectorOut, CredentialKindOut, TriggerKindOut

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["actions"])


@router.get("/actions")
async def list_actions(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[ActionOut]:
    """The catalogue: what a step can do, with JSON Schemas of input and output; by name."""
    every = sorted(parts.registry.catalogue, key=lambda action: action.name)
    return cut(every, asked, lambda action: action.name, action_out)


def action_out(action: Action) -> ActionOut:
    return ActionOut(
        name=action.name,
        title=action.title,
        connector=action.connector,
        reach=action.reach,
        repeat=action.repeat,
        timeout=action.timeout,
        streams=action.streams,
        input=dict(action.shape.input),
        output=dict(action.shape.output),
        first=list(action.fields_first),
        example=dict(action.example),
        example_gives=action.example_gives,
        credentials=list(action.credentials),
        scopes=list(action.scopes),
    )


@router.get("/connectors")
async def list_connectors(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[ConnectorOut]:
    """What there is: each connector with its package, its actions, and its kinds of credentials and triggers; those of the
    workspace's own too, which were read from a description."""
    known = await parts.registry.fresh()
    own: dict[str, list[str]] = {name: [] for name in known.connectors}
    for action in parts.registry.catalogue:
        if action.connector in own:
            own[action.connector].append(action.name)
    found = []
    for name, text in known.connectors.items():
        told = values.loads(text)
        fault = "" if own[name] else "it is of a newer version of Oak Relay, or another one has its name"
        found.append(
            ConnectorOut(
                name=name,
                title=told["title"],
                package="",
                version=told["version"],
                address=told["address"],
                fault=fault,
                actions=own[name],
                credentials=[],
                triggers=[],
            )
        )
    for one in offer().connectors:
        connector = one.connector
        lacking = connector.lacking if connector else None
        found.append(
            ConnectorOut(
                name=one.name,
                title=connector.title if connector else one.name,
                package=one.package,
                version=one.version,
                fault=await lacking(parts.at()) if lacking else one.fault,
                actions=[action.name for action in connector.actions if not action.hidden] if connector else [],
                credentials=[str(kind.model_fields["kind"].default) for kind in connector.credentials]
                if connector
                else [],
                triggers=[kind.name for kind in connector.triggers if not kind.hidden] if connector else [],
            )
        )
    return cut(sorted(found, key=lambda one: one.name), asked, lambda one: one.name, lambda one: one)


@router.get("/credential-kinds")
async def list_credential_kinds(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[CredentialKindOut]:
    """The kinds of credentials that can be stored, each with the JSON Schema of what it takes."""
    kinds = parts.registry.catalogue.credentials
    every = [
        CredentialKindOut(name=name, title=kinds.title(name), sent=kinds.sent(name), input=schema)
        for name, schema in sorted(kinds.schemas().items())
    ]
    return cut(every, asked, lambda one: one.name, lambda one: one)


@router.get("/trigger-kinds")
async def list_trigger_kinds(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[TriggerKindOut]:
    """The kinds of triggers, each with the JSON Schema of what stands under it."""
    every = [
        TriggerKindOut(name=name, way=kind.way, input=kind.model.model_json_schema(by_alias=True))
        for name, kind in sorted(parts.registry.catalogue.triggers.items())
    ]
    return cut(every, asked, lambda one: one.name, lambda one: one)
