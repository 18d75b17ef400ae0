"""`/api/v1/model-servers/connect`: a model by an address and a key; the rest is found out."""

import re
from datetime import UTC, datetime
from typing import Annotated
from urllib.parse import urlsplit

from fastapi import APIRouter, Response
from pydantic import Field

from oak_relay.capabilities.alias import Alias, Prices
from oak_relay.document.errors import StepFailed
from oak_relay.models import probing
from oak_relay.models.chat import nearest
from oak_relay.runtime.context import CallContext
from oak_relay.service.credentials import free_name, put_credential
from oak_relay.service.lists import Asks, Page, cut
from oak_relay.service.models import answered, put_model
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.preconditions import Asked
from oak_relay.service.problems import Problem
from oak_relay.service.shapes import ConnectedOut, In, ModelServerOut, OfferedOut
from oak_relay.vault.keys import Bearer
from oak_relay.vault.kinds import Credential

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/model-servers", tags=["models"])
_GIVEN = "the key that was given"


class LookIn(In):
    """An address, and a key or the name of a stored credential where the server asks for one."""

    address: str = Field(min_length=1, max_length=2000, description="Of the server, with or without its version.")
    key: str = Field("", max_length=10_000, description="Its key; stored only by connecting, as a credential.")
    credential: str | None = Field(None, description="Name of a stored credential, in the place of a key.")


class ConnectIn(LookIn):
    name: Annotated[str, Field(pattern=r"^[A-Za-z0-9_-]{1,60}$")] = Field(description="Of the alias, such as quick.")
    model: str = Field(min_length=1, max_length=300, description="One that the server offers.")
    prices: Prices | None = Field(None, description="What it costs, where the server does not tell and it is known.")
    max_tokens: int = Field(1024, ge=1, le=200_000, description="Longest answer.")


@router.get("")
async def list_nearby(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[ModelServerOut]:
    """Model servers that answer on this machine."""
    found = await probing.nearby(parts.at(10), frozenset({parts.settings.port}))
    return cut(sorted(found, key=lambda one: one.url), asked, lambda one: one.url, _server)


@router.post("/look")
async def look_at_server(given: LookIn, parts: PartsDep, _: CallerDep) -> ModelServerOut:
    """What answers at an address: its base address with the version, whether it was asked with a key, and the models that
    it offers. Nothing is stored."""
    return _server(await _found(given, parts.at(60), parts))


@router.post("/connect", status_code=201)
async def connect_model(given: ConnectIn, parts: PartsDep, who: CallerDep) -> ConnectedOut:
    """Store a model under a name, a given key as a credential that is sent to its server alone, with what the server can do:
    that is tried, and it is asked something trivial. Nothing is stored of one that does not answer."""
    at = parts.at(300)
    server = await _found(given, at, parts)
    told = next((one for one in server.models if one.id == given.model), None)
    if server.models and told is None:
        raise Problem(422, nearest(given.model, [one.id for one in server.models]), fix="choose one that is offered")
    prices = given.prices
    if prices is None and told is not None and told.read is not None and told.written is not None:
        prices = Prices(input=told.read, output=told.written)
    alias = Alias(url=server.url, model=given.model, prices=prices, max_tokens=given.max_tokens)
    if given.key:
        at.lent[_GIVEN] = _bearer(given.key, server.url)
    asked = alias.model_copy(update={"credential": _GIVEN if given.key else given.credential})
    can, hello = await probing.probed(given.name, asked, at)
    name = given.credential
    if given.key:
        name = await free_name(parts, re.sub(r"[^a-z0-9-]+", "-", f"{given.name.lower()}-key").strip("-"))
        stored: dict[str, object] = {
            "kind": "bearer",
            "secret": given.key,
            "hosts": [_place(server.url)],
            "test_url": f"{server.url}/models",
        }
        await put_credential(name, stored, parts, who, Asked(), Response())
    alias = alias.model_copy(update={"credential": name, "can": can})
    kept = await put_model(given.name, alias, parts, who, Asked(), Response(), unseen=True)
    offers = [one.id for one in server.models]
    return ConnectedOut(alias=kept, credential=name, test=answered(alias, hello, offers, datetime.now(UTC)))


async def _found(given: LookIn, at: CallContext, parts: Parts) -> probing.Server:
    try:
        first = probing.bases(given.address)[0]
        if given.key:
            at.lent[_GIVEN] = _bearer(given.key, first)
        elif given.credential:
            stored = await at.credential(given.credential)
            if not stored.may_reach(first):
                raise Problem(
                    422,
                    f"the credential {given.credential} may not be sent to this server",
                    f"it may be sent to {', '.join(stored.places) or 'nobody'}",
                    "add the server to its hosts, or give the server's key",
                )
        return await probing.found(given.address, _GIVEN if given.key else given.credential, at)
    except StepFailed as failed:
        told = at.blanked(failed)
        raise Problem(422, "this model server cannot be connected", told.message, told.fix, kind=told.kind) from None


def _bearer(key: str, url: str) -> Credential:
    return Bearer.model_validate({"secret": key, "hosts": [_place(url)]})


def _place(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc.lower()}"


def _server(found: probing.Server) -> ModelServerOut:
    models = [
        OfferedOut(id=one.id, purpose=one.purpose, context=one.context, read=one.read, written=one.written)
        for one in found.models
    ]
    return ModelServerOut(url=found.url, keyed=found.keyed, models=models)
