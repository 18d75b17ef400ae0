"""`/api/v1/actions` and `/api/v1/connectors`: what can be done here, and what brings it."""

from fastapi import APIRouter

from oak_relay.actions.catalogue import offer
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.shapes import ActionOut, ConnectorOut, CredentialKindOut, TriggerKindOut

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["actions"])


@router.get("/actions")
async def list_actions(parts: PartsDep, _: CallerDep) -> list[ActionOut]:
    """The catalogue: what a step can do, with JSON Schemas of input and output."""
    return [
        ActionOut(
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
            credentials=list(action.credentials),
            scopes=list(action.scopes),
        )
        for action in parts.registry.catalogue
    ]


@router.get("/connectors")
async def list_connectors(_: CallerDep) -> list[ConnectorOut]:
    """What is installed: each connector with its package, its actions, and its kinds of credentials and triggers."""
    found = []
    for one in offer().connectors:
        connector = one.connector
        found.append(
            ConnectorOut(
                name=one.name,
                title=connector.title if connector else one.name,
                package=one.package,
                version=one.version,
                fault=one.fault,
                actions=[action.name for action in connector.actions if not action.hidden] if connector else [],
                credentials=[str(kind.model_fields["kind"].default) for kind in connector.credentials]
                if connector
                else [],
                triggers=[kind.name for kind in connector.triggers] if connector else [],
            )
        )
    return found


@router.get("/credential-kinds")
async def list_credential_kinds(parts: PartsDep, _: CallerDep) -> list[CredentialKindOut]:
    """The kinds of credentials that can be stored, each with the JSON Schema of what it takes."""
    kinds = parts.registry.catalogue.credentials
    return [
        CredentialKindOut(name=name, title=kinds.title(name), sent=kinds.sent(name), input=schema)
        for name, schema in kinds.schemas().items()
    ]


@router.get("/trigger-kinds")
async def list_trigger_kinds(parts: PartsDep, _: CallerDep) -> list[TriggerKindOut]:
    """The kinds of triggers, each with the JSON Schema of what stands under it."""
    return [
        TriggerKindOut(name=name, way=kind.way, input=kind.model.model_json_schema(by_alias=True))
        for name, kind in parts.registry.catalogue.triggers.items()
    ]
