"""`/api/v1/channels`: which there are, and what each is set up with; and one as a document sets it up, tried before any workflow with
it is on: what it reads in something that was sent (`/read`), and how it sends (`/send`)."""

import asyncio
from datetime import datetime
from typing import Annotated, Any
from uuid import uuid4

from fastapi import APIRouter
from pydantic import BaseModel, Field, ValidationError

from oak_relay.document import model_faults, values
from oak_relay.document.errors import StepFailed
from oak_relay.service.lists import Asks, Page, following
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.problems import Problem
from oak_relay.service.shapes import In
from oak_relay.triggers import base as triggers
from oak_relay.triggers.channel import Came, Channel, Piece
from oak_relay.triggers.webhook import sent_body


class _TryRoute(ExactRoute):
    """Of what a service sent, no more is read."""

    most = 1_000_000


router = APIRouter(route_class=_TryRoute, prefix="/api/v1", tags=["talking"])
_TRYING = 20.0
"""Seconds that sending may take."""
_TOLD = 100
"""Messages that are told of one delivery."""


class ChannelIn(In):
    """A channel as a conversation trigger names it, and what stands there under `with`."""

    channel: str = Field(max_length=60)
    with_: dict[str, object] = Field(default_factory=dict, alias="with")


class ChannelOut(BaseModel):
    """A channel of a connector; `input` is the JSON Schema of what stands under `with`."""

    name: str
    input: dict[str, object]


class ChannelReadIn(ChannelIn):
    body: str = Field(max_length=900_000, description="What the service sent, as it came.")
    type: str = Field("application/json", max_length=200, description="Its media type.")


class CameOut(BaseModel):
    """A message as the channel reads it."""

    id: str
    chat: str
    person: str
    name: str
    language: str
    text: str
    choice: str | None
    files: list[str] = Field(description="Of each file what it is, and the channel's own name of it.")
    at: datetime | None
    unread: str = Field(description="What kind of message it is that cannot be read.")


class ChannelReadOut(BaseModel):
    messages: list[CameOut]


class ChannelSendIn(ChannelIn):
    chat: Annotated[str, Field(min_length=1, max_length=300)] = Field(description="To whom.")
    text: str = Field(min_length=1, max_length=4_000)
    buttons: list[Annotated[str, Field(min_length=1, max_length=60)]] = Field(default_factory=list, max_length=10)


class ChannelSentOut(BaseModel):
    """How it went; `id` and `at` as the channel tells them."""

    ok: bool
    sentence: str
    fix: str = ""
    id: str = ""
    at: datetime | None = None


def _known(parts: Parts, given: ChannelIn) -> tuple[Channel[Any], Any]:
    """A channel and how it is set up. Raises `Problem`."""
    channel = parts.registry.catalogue.channels.get(given.channel)
    if channel is None:
        have = ", ".join(parts.registry.catalogue.channels) or "none"
        raise Problem(
            422, f"there is no channel {given.channel}", fix=f"there is {have}; a page is tried by talking on it"
        )
    try:
        return channel, channel.model.model_validate(given.with_)
    except ValidationError as error:
        where, message, fix = model_faults.first(error, channel.model)
        raise Problem(422, f"{where}: {message}" if where else message, fix=fix) from None


@router.get("/channels")
async def list_channels(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[ChannelOut]:
    """The channels of connectors, beside the page."""
    found = [
        ChannelOut(name=name, input=one.model.model_json_schema())
        for name, one in parts.registry.catalogue.channels.items()
    ]
    return following(found, asked, lambda one: one.name, lambda one: one)


@router.post("/channels/read")
async def read_channel(given: ChannelReadIn, parts: PartsDep, _: CallerDep) -> ChannelReadOut:
    """What a channel reads in something that a service sent. Nothing begins by it, and nothing is proven of who sent it."""
    channel, settings = _known(parts, given)
    asked = triggers.Request("POST", "", {"content-type": given.type}, {}, given.body.encode("utf-8", "replace"))
    try:
        found = await asyncio.to_thread(lambda: channel.read(settings, sent_body(asked)))
    except triggers.Refused as refused:
        raise Problem(422, refused.title, refused.detail, refused.fix) from None
    return ChannelReadOut(messages=[_out(one) for one in found[:_TOLD]])


def _out(one: Came) -> CameOut:
    can_be_told = values.storable_text
    return CameOut(
        id=can_be_told(one.id),
        chat=can_be_told(one.chat),
        person=can_be_told(one.person),
        name=can_be_told(one.name),
        language=can_be_told(one.language),
        text=can_be_told(one.text),
        choice=None if one.choice is None else can_be_told(one.choice),
        files=[can_be_told(f"{media.what} {media.id}") for media in one.media],
        at=one.at,
        unread=can_be_told(one.unread),
    )


@router.post("/channels/send")
async def send_by_channel(given: ChannelSendIn, parts: PartsDep, _: CallerDep) -> ChannelSentOut:
    """Send something by a channel, really. It belongs to no conversation."""
    channel, settings = _known(parts, given)
    shows, key = channel.shows(settings), f"by-hand-{uuid4()}"
    if len(given.text) > shows.letters:
        raise Problem(422, f"the channel takes {shows.letters} letters at once", fix="say less")
    buttons = tuple(values.storable_text(one)[: shows.label] for one in given.buttons[: shows.most])
    at = parts.at(_TRYING)
    at.key = key
    try:
        async with asyncio.timeout(_TRYING):
            took = await channel.send(settings, given.chat, Piece(given.text, buttons), key, at)
    except StepFailed as failed:
        told = at.blanked(failed)
        return ChannelSentOut(ok=False, sentence=told.message, fix=told.fix)
    except TimeoutError:
        return ChannelSentOut(ok=False, sentence=f"nothing came within {_TRYING:g} s", fix="is the service up?")
    return ChannelSentOut(ok=True, sentence="It was taken.", id=took.id, at=took.at)
