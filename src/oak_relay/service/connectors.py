"""`/api/v1/descriptions` and `/api/v1/connectors/NAME`: connectors that a workspace has of its own, read from a description of a service."""

import asyncio
from collections.abc import Iterable
from typing import Annotated, Any
from uuid import uuid4

from fastapi import APIRouter, Path, Query, Response
from pydantic import Field, model_validator

from oak_relay.actions.exchange import authorised, send
from oak_relay.actions.openapi import naming
from oak_relay.actions.openapi.calling import DescribedAction, connector
from oak_relay.actions.openapi.differences import differences
from oak_relay.actions.openapi.reading import TAKEN
from oak_relay.actions.openapi.shapes import Described, Description, Operation
from oak_relay.actions.openapi.text import LARGEST, BadDescription
from oak_relay.document import values, wire
from oak_relay.document.errors import StepFailed
from oak_relay.document.wire import WebAddress
from oak_relay.service import exact, used
from oak_relay.service.catalogue import action_out
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.preconditions import Preconditions
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import (
    ActionTriedOut,
    ConnectorComparedOut,
    ConnectorDetailOut,
    ConnectorVersionOut,
    DescriptionOut,
    In,
    OfferedOperationOut,
    OperationChangeOut,
    OperationOut,
)
from oak_relay.store import connectors, people, tags
from oak_relay.store.tables import connector as stored_connector

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["actions"])
_TEXT = 900_000
_LARGEST = 8_000_000
"""Letters of a connector as it is kept."""
_TRYING = 60.0
_SHOWN = 200_000
"""Letters of what an action gave that are shown of trying it."""


class SourceIn(In):
    """A description: its text, a file that was uploaded, or the address it is fetched from."""

    text: str | None = Field(None, max_length=_TEXT, description="An OpenAPI document (3.0, 3.1) in JSON or YAML.")
    file: str | None = Field(None, max_length=60, description="The id of an uploaded file that holds it.")
    source: WebAddress | None = Field(None, description="The address that it is fetched from.")
    credential: str | None = Field(None, max_length=60, description="A stored credential to fetch it with.")

    @model_validator(mode="after")
    def _one_source(self) -> "SourceIn":
        if sum(one is not None for one in (self.text, self.file, self.source)) > 1:
            raise ValueError("give one of text, file and source")
        return self

    @property
    def given(self) -> bool:
        """Whether there is a description at all."""
        return any(one is not None for one in (self.text, self.file, self.source))


class DescriptionIn(SourceIn):
    operations: list[Annotated[str, Field(max_length=1_100)]] = Field(
        default_factory=list, max_length=50, description="Keys of operations of which it is told what they become."
    )


class ConnectorIn(SourceIn):
    """Without a description, what is there stays, and only what is given changes."""

    title: str | None = Field(None, min_length=1, max_length=120)
    address: WebAddress | None = Field(None, description="Where the service is; as the description says when left out.")
    operations: list[Annotated[str, Field(max_length=1_100)]] | None = Field(
        None,
        min_length=1,
        max_length=TAKEN,
        description="Keys of the operations that become actions; those that are there when left out.",
    )


class TryIn(In):
    action: str = Field(max_length=130, description="Name of an action of this connector.")
    with_: dict[str, object] = Field(default_factory=dict, alias="with", description="What it is given.")


@router.post("/descriptions", response_model=DescriptionOut)
async def read_description(given: DescriptionIn, parts: PartsDep, _: CallerDep) -> Response:
    """What a description offers, and what the operations become that are asked for. Nothing is stored."""
    if not given.given:
        raise Problem(422, "give one of text, file and source")
    told, place = await _read(given, parts, given.operations)
    made = connector("it", Described(title=told.title, address="", operations=told.operations))
    return exact.answer(
        DescriptionOut(
            title=told.title,
            name=naming.slug(told.title)[:30].strip("_"),
            version=told.version,
            about=told.about,
            source=place,
            addresses=list(told.addresses),
            offered=[OfferedOperationOut(**one.model_dump()) for one in told.offered],
            operations=[_operation(one) for one in made.actions if isinstance(one, DescribedAction)],
            notes=list(told.notes),
        )
    )


@router.get("/connectors/{name}", response_model=ConnectorDetailOut)
async def show_connector(name: str, parts: PartsDep, _: CallerDep) -> Response:
    """A connector that was read from a description: its operations, its versions, and which workflows use it."""
    row, versions, using = await _known(name, parts)
    return _answer(name, row, versions, using)


@router.put("/connectors/{name}", response_model=ConnectorDetailOut)
async def put_connector(
    name: Annotated[str, Path(pattern=r"^[a-z][a-z0-9_]{0,29}$")],
    given: ConnectorIn,
    parts: PartsDep,
    who: CallerDep,
    asked: Preconditions,
) -> Response:
    """Make a connector, or a new version of one. Operations that were there keep the names by which workflows know them."""
    if any(action.connector == name for action in parts.registry.installed):
        raise Problem(409, f"{name} is a connector that is installed", fix="choose another name")
    before = (await parts.registry.fresh()).connectors.get(name)
    old = Described.model_validate(values.loads(before)) if before is not None else None
    made = await _made(given, old, parts)
    text = values.dumps(made.model_dump())
    if len(text) > _LARGEST:
        raise Problem(
            422, "the connector is too large", f"it has more than {_LARGEST:,} letters", "take fewer operations"
        )
    async with parts.database.begin() as connection:
        tag = await tags.held(connection, parts.workspace, stored_connector, name, "updated_at")
        asked.check(tag, f"the connector {name}")
        await connectors.put(connection, parts.workspace, name, text, who.name)
        await people.note(connection, parts.workspace, who.name, "connector", name)
    parts.config_changed()
    row, versions, using = await _known(name, parts)
    return _answer(name, row, versions, using, 200 if old else 201)


@router.delete("/connectors/{name}", status_code=204)
async def remove_connector(
    name: str,
    parts: PartsDep,
    who: CallerDep,
    asked: Preconditions,
    anyway: Annotated[bool, Query(description="Although workflows use it.")] = False,
) -> None:
    """Remove a connector. Refused while workflows that are on use its actions, unless that is meant."""
    using = (await _known(name, parts))[2]
    on = [one.name for one in using if one.on]
    if on and not anyway:
        raise Problem(409, "it is in use", f"{', '.join(on[:10])} would stop", "say that it is meant (anyway)")
    async with parts.database.begin() as connection:
        asked.check(
            await tags.held(connection, parts.workspace, stored_connector, name, "updated_at"), f"the connector {name}"
        )
        if not await connectors.remove(connection, parts.workspace, name):
            raise missing("connector", name)
        await people.note(connection, parts.workspace, who.name, "remove connector", name)
    parts.config_changed()


@router.post("/connectors/{name}/compare")
async def compare_connector(name: str, given: SourceIn, parts: PartsDep, _: CallerDep) -> ConnectorComparedOut:
    """How a description differs from what is there, and which workflows that touches. Without one, that which it was last
    fetched from is fetched again."""
    row = (await _known(name, parts))[0]
    described = Described.model_validate(values.loads(row.text))
    if not given.given:
        given = given.model_copy(update={"source": _address(described)})
    have = {one.key: one for one in described.operations}
    told = (await _read(given, parts, list(have)))[0]
    now = {one.key: one for one in told.operations}
    changed = [(one, found) for key, one in have.items() if (found := _changes(one, now.get(key)))]
    using = await used.of_actions(parts, [f"{name}.{one.name}" for one, _ in changed])
    return ConnectorComparedOut(
        version=told.version,
        changed=[
            OperationChangeOut(
                key=one.key, name=one.name, gone=one.key not in now, what=found, workflows=using[f"{name}.{one.name}"]
            )
            for one, found in changed
        ],
        offered=[OfferedOperationOut(**one.model_dump()) for one in told.offered if one.key not in have],
    )


@router.post("/connectors/{name}/try", response_model=ActionTriedOut)
async def try_connector(name: str, given: TryIn, parts: PartsDep, _: CallerDep) -> Response:
    """Carry out one of its actions, really: what it gave, and both sides of the exchange without the secret."""
    await _known(name, parts)
    action = parts.registry.catalogue.known(given.action)
    if not isinstance(action, DescribedAction) or action.connector != name or action.perform is None:
        raise missing("action", given.action)
    at = parts.at(_TRYING)
    at.scopes, at.key = action.scopes, f"by-hand-{uuid4()}"
    try:
        async with asyncio.timeout(_TRYING):
            result = await action.perform(action.read(given.with_), at)
    except StepFailed as failed:
        told = at.blanked(failed)
        return exact.answer(
            ActionTriedOut(
                ok=False, kind=told.kind, sentence=told.message, fix=told.fix, exchange=_exchange(told.detail)
            )
        )
    except TimeoutError:
        return exact.answer(ActionTriedOut(ok=False, kind="timeout", sentence=f"nothing came within {_TRYING:g} s"))
    blanker = at.blanker()
    output = blanker.value(result.output)
    if len(values.dumps(output)) > _SHOWN:
        output = values.dumps(output)[:_SHOWN]
    return exact.answer(
        ActionTriedOut(
            ok=True, sentence="It went well.", output=output, exchange=_exchange(blanker.value(result.detail))
        )
    )


def _exchange(detail: object) -> dict[str, Any] | None:
    found = detail.get("exchange") if isinstance(detail, dict) else None
    return found if isinstance(found, dict) else None


def _changes(old: Operation, new: Operation | None) -> list[str]:
    return (
        ["the description has it no more"]
        if new is None
        else differences(old, new.model_copy(update={"name": old.name}))
    )


def _address(described: Described) -> str:
    if not described.source.startswith(("http://", "https://")):
        raise Problem(422, "there is no address to fetch it from again", fix="give the description")
    return described.source


async def _made(given: ConnectorIn, old: Described | None, parts: Parts) -> Described:
    """A connector of what is given and what is there. Raises `Problem`."""
    if not given.given:
        if old is None:
            raise Problem(422, "give one of text, file and source")
        operations = old.operations
        if given.operations is not None:
            _all_there(given.operations, [one.key for one in operations])
            operations = tuple(one for one in operations if one.key in set(given.operations))
        return old.model_copy(
            update={
                "title": given.title or old.title,
                "address": _base(given.address) or old.address,
                "operations": operations,
            }
        )
    wanted = given.operations if given.operations is not None else [one.key for one in old.operations] if old else None
    if wanted is None:
        raise Problem(422, "say which operations become actions", fix="give operations")
    told, place = await _read(given, parts, wanted)
    there = [one.key for one in told.operations]
    if given.operations is not None:
        _all_there(given.operations, there)
    address = _base(given.address) or (old.address if old else "") or next(iter(told.addresses), "")
    if not address:
        raise Problem(422, "the description does not say where the service is", fix="give its address")
    names = {one.key: one.name for one in old.operations} if old else {}
    taken = set(names.values())
    return Described(
        title=given.title or (old.title if old else told.title),
        address=address,
        source=place,
        version=told.version,
        operations=tuple(
            one.model_copy(update={"name": names[one.key] if one.key in names else naming.free(one.name, taken)})
            for one in told.operations
        ),
    )


def _base(address: str | None) -> str:
    """An address that paths follow: without a query and a stroke at its end."""
    return (address or "").split("?")[0].split("#")[0].rstrip("/")


def _all_there(wanted: Iterable[str], there: list[str]) -> None:
    for key in wanted:
        if key not in there:
            raise Problem(422, f"there is no operation {key}", fix="choose those that are offered")


async def _read(given: SourceIn, parts: Parts, keys: list[str]) -> tuple[Description, str]:
    """What a description says, and where it is from. Raises `Problem`."""
    raw, place = await _raw(given, parts)
    try:
        return await parts.readers.read(raw, keys, given.source or ""), place
    except BadDescription as error:
        raise Problem(422, "the description cannot be used", str(error), error.fix) from None


async def _raw(given: SourceIn, parts: Parts) -> tuple[bytes, str]:
    if given.text is not None:
        return given.text.encode(), "a text"
    at = parts.at(30)
    try:
        if given.file is not None:
            file = await at.file({"file": given.file})
            if file.size > LARGEST:
                raise StepFailed("too_long", f"a description has at most {LARGEST:,} bytes")
            return b"".join([piece async for piece in at.pieces(file)]), file.name
        address = given.source or ""
        if fault := wire.address_fault(address):
            raise StepFailed("invalid", fault)
        headers = {"Accept": "application/json, application/yaml, */*;q=0.5", "User-Agent": "oak-relay"}
        plain = at.http.build_request("GET", address, headers=headers, timeout=at.timeout)
        answer = await send(at, await authorised(at, plain, given.credential), LARGEST, given.credential)
        if not 200 <= answer.status < 300:
            raise answer.failure()
        return answer.body, address
    except StepFailed as failed:
        told = at.blanked(failed)
        raise Problem(422, "the description cannot be had", told.message, told.fix) from None


async def _known(name: str, parts: Parts) -> tuple[Any, list[Any], list[Any]]:
    async with parts.database.connect() as connection:
        row = await connectors.one(connection, parts.workspace, name)
        if row is None:
            raise missing("connector", name)
        versions = await connectors.versions(connection, parts.workspace, name)
    parts.registry.forget()
    await parts.registry.fresh()
    every = [action.name for action in parts.registry.catalogue if action.connector == name]
    found = await used.of_actions(parts, every)
    using = {one.name: one for some in found.values() for one in some}
    return row, versions, [using[key] for key in sorted(using)]


def _answer(name: str, row: Any, versions: list[Any], using: list[Any], status: int = 200) -> Response:
    described = Described.model_validate(values.loads(row.text))
    made = connector(name, described)
    told = ConnectorDetailOut(
        name=name,
        title=described.title,
        address=described.address,
        source=described.source,
        version=described.version,
        number=row.number,
        operations=[_operation(one) for one in made.actions if isinstance(one, DescribedAction)],
        versions=[
            ConnectorVersionOut(number=one.number, author=one.author, created_at=one.created_at, version=one.version)
            for one in versions
        ],
        workflows=using,
        updated_at=row.updated_at,
    )
    return exact.answer(told, status, {"ETag": f'"{tags.tag_of(row.updated_at)}"'})


def _operation(action: DescribedAction) -> OperationOut:
    one = action.operation
    return OperationOut(
        key=one.key,
        action=action_out(action),
        about=one.about,
        group=one.group,
        sent_as=list(one.sent_as),
        pages=one.paging is not None,
        gives=one.gives,
        notes=list(one.notes),
    )
