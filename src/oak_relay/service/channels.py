"""`/channels/<path>`: what channels of connectors send here, of workflows that are on."""

import asyncio
import hashlib
import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any

from fastapi import APIRouter, Path, Request
from fastapi.responses import JSONResponse, Response

from oak_relay.capabilities.given import file_name
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.runtime.intake import RunTemplate, Target
from oak_relay.service.borders import body_of
from oak_relay.service.hearing import hear, nobody, talked
from oak_relay.service.parts import ExactRoute, Parts, PartsDep
from oak_relay.service.problems import Problem
from oak_relay.service.receiving import Known, Way, noting
from oak_relay.store.utterances import Heard, Person, Talk, kept_id, key_of
from oak_relay.triggers import base as triggers
from oak_relay.triggers.channel import Came, Channel, Media
from oak_relay.triggers.conversation import Conversation
from oak_relay.triggers.webhook import sent_body

_BODY = 1_000_000
"""Bytes of what a channel sends at once."""


class _ChannelRoute(ExactRoute):
    """Of what a channel sends, no more is read."""

    most = _BODY


router = APIRouter(route_class=_ChannelRoute, tags=["talking"])
_FETCH = 20.0
"""Seconds that a file may take which came with a message."""
_PARTS = 10
_TYPE = re.compile(r"[A-Za-z0-9][\w.+-]{0,60}/[A-Za-z0-9][\w.+-]{0,60}", re.ASCII)
_TEXT = 20_000
Where = Annotated[str, Path(max_length=61, pattern=r"^[a-z0-9][a-z0-9-]*$", description="The channel's path.")]


@router.get("/channels/{path}", response_class=Response)
async def shake_hands(path: Where, request: Request, parts: PartsDep) -> Response:
    """What a service asks for before it sends anything."""
    return await _received(path, request, parts)


@router.post(
    "/channels/{path}", response_class=Response, responses={200: {"description": "How many messages were taken."}}
)
async def receive_messages(path: Where, request: Request, parts: PartsDep) -> Response:
    """Messages of a service. All of them are taken before it is told so; each counts once, however often it is sent."""
    return await _received(path, request, parts)


async def _received(path: str, request: Request, parts: Parts) -> Response:
    row, given = await talked(parts, path)
    channel = parts.registry.catalogue.channels.get(given.channel)
    if channel is None:
        raise nobody(f"/channels/{path}")
    kind = parts.registry.catalogue.triggers.known(row.kind)
    target = Target(row.workflow_id, row.version_id, RunTemplate.read(row.start), row.id, row.name)
    with noting(parts, Way(kind, given, target, None, f"/channels/{path}"), request):
        return await _taken(path, request, parts, channel, given)


async def _taken(path: str, request: Request, parts: Parts, channel: Channel[Any], given: Conversation) -> Response:
    settings, known = channel.model.model_validate(given.given), Known(parts.registry)
    asked = triggers.Request(request.method, path, dict(request.headers), dict(request.query_params))
    try:
        reply = await channel.early(settings, asked, known)
        if reply is not None:
            return Response(reply.text, reply.status, media_type="text/plain")
        asked.body = await body_of(request, min(_BODY, parts.settings.body_limit))
        proof = await channel.proving(settings, asked, known)
        proof.take(asked.body)
        proof.proved()
        every = await asyncio.to_thread(lambda: channel.read(settings, sent_body(asked)))
    except triggers.Refused as refused:
        problem = Problem(
            refused.status,
            refused.title,
            refused.detail if refused.status < 500 else "",
            refused.fix,
            kind=refused.kind,
        )
        problem.inside = f"{refused.title}: {refused.detail}" if refused.detail else refused.title
        raise problem from None
    via = settings.model_dump_json(by_alias=True)
    came = [one for one in every if values.storable_text(one.chat) == one.chat]  # to no other could anything be sent
    for one in came:
        talk = Talk(key_of(path, one.chat), _person(given.channel, path, one), given.channel, one.chat, via)
        parts_ = [
            await _fetched(parts, channel, settings, _sound(media))
            if given.takes(media.what)
            else {"what": media.what, "fault": f"{media.what} is not taken here"}
            for media in one.media[:_PARTS]
        ]
        if one.unread:
            kind = values.storable_text(one.unread)[:60]
            parts_.append({"what": kind, "fault": f"a message of the kind {kind} cannot be read"})
        choice = None if one.choice is None else values.storable_text(one.choice)[:200]
        heard = Heard(kept_id(one.id), values.storable_text(one.text)[:_TEXT], choice, parts_, one.at)
        await hear(parts, path, f"/channels/{path}", talk, heard)
    return JSONResponse({"taken": len(came), "left_out": len(every) - len(came)})


def _sound(media: Media) -> Media:
    """What is told of a file, as it can be kept and shown."""
    name = file_name(values.storable_text(media.name)) if media.name else ""
    return replace(media, name=name, type=media.type.lower() if _TYPE.fullmatch(media.type) else "")


async def _fetched(parts: Parts, channel: Channel[Any], settings: Any, media: Media) -> Mapping[str, object]:
    """A file that came with a message, kept here; or why it is not."""
    about = {"what": media.what, "type": media.type, "name": media.name}
    try:
        async with asyncio.timeout(_FETCH):  # also of one that comes drop by drop
            return {**about, "file": (await channel.fetch(settings, media, parts.tools.call(_FETCH))).value}
    except TimeoutError:
        return {**about, "fault": f"it did not come within {_FETCH:.0f} seconds"}
    except StepFailed as failed:
        return {**about, "fault": parts.registry.now.blanker.text(failed.message)[:300]}


def _person(channel: str, path: str, one: Came) -> Person:
    """Who talks; the same everywhere on a channel's account."""
    made = hashlib.sha256(f"{channel} {path} {one.person}".encode("utf-8", "replace")).hexdigest()[:32]
    name, address = (values.storable_text(text)[:200] for text in (one.name, one.person))
    return Person(made, name, address, values.storable_text(one.language)[:35])
