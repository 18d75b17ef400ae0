"""Files on pages on which people talk: given by who visits, and shown to them."""

import time
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Annotated, Any
from uuid import UUID

from fastapi import APIRouter, Query, Request
from pydantic import BaseModel, Field

from oak_relay.capabilities.given import what_is
from oak_relay.document import values
from oak_relay.runtime import links
from oak_relay.service import uploads
from oak_relay.service.page_opening import PageKey, Visitor, Where, opened, paced
from oak_relay.service.parts import ExactRoute, Parts, PartsDep
from oak_relay.service.problems import Problem
from oak_relay.service.shapes import In
from oak_relay.store.files import Bounds
from oak_relay.triggers.conversation import Conversation

_FILE, MOST_FILES = 10_000_000, 5
"""Bytes of a file of who visits, and files of one message. All that visitors bring may take half of the room for files."""


class _FileRoute(ExactRoute):
    """Takes files as they come."""

    streams = True


router = APIRouter(route_class=_FileRoute, tags=["talking"])


class GivenFile(In):
    """A file that was given before, as it was told then."""

    file: UUID
    name: str = Field(max_length=255)
    type: str = Field(max_length=120)
    proof: str = Field(max_length=100, description="That this visitor gave it.")


class ShownFile(BaseModel):
    """A file that was said; `what` is voice, picture or file."""

    what: str
    name: str
    type: str
    address: str = Field(description="Where its bytes are, below the page's site; for a day.")


def as_part(parts: Parts, given: Conversation, key: str, file: GivenFile) -> dict[str, object]:
    """A file as a part of what is said. Raises `Problem`."""
    what = what_is(file.type)
    if not parts.registry.vault.signed(_gave(key, str(file.file), file.name, file.type), file.proof):
        raise Problem(422, "this file was given by nobody here", fix="give it first")
    if not given.takes(what):
        raise Problem(422, f"no {what} is taken here", fix="write it")
    value = {"file": str(file.file), "name": file.name, "type": file.type}
    return {"what": what, "type": file.type, "name": file.name, "file": value}


def _gave(key: str, file: str, name: str, type: str) -> str:
    """What proves that a file was given in a conversation is a signature of this."""
    return "\n".join(("given", key, file, name, type))


@router.post(
    "/talk/{path}/files",
    status_code=201,
    openapi_extra={"requestBody": {"content": {"*/*": {"schema": {"type": "string", "format": "binary"}}}}},
)
async def give_file(
    path: Where,
    visitor: Visitor,
    request: Request,
    parts: PartsDep,
    name: Annotated[str, Query(max_length=255, description="Its file name.")] = "file",
    key: PageKey = "",
) -> GivenFile:
    """Give a file, of the media type that `Content-Type` names; a message says then that it goes with it. 413 when it is too large."""
    page = await opened(parts, path, request, key)
    kind = uploads.media_of(request.headers.get("content-type", ""))
    if not page.given.takes(what := what_is(kind)):
        raise Problem(422, f"no {what} is taken here", fix="write it")
    paced(request, page)
    bounds = Bounds(min(_FILE, parts.settings.file_limit), parts.settings.files_limit // 2)
    async with parts.giving.held():
        body = await uploads.taken(
            request, parts, uploads.NoProof(), values.storable_text(name), form=False, bounds=bounds
        )
        [kept] = await uploads.kept(body)
    proof = parts.registry.vault.sign(_gave(page.key(visitor), str(kept.stored.id), kept.name, kept.type))
    return GivenFile(file=kept.stored.id, name=kept.name, type=kept.type, proof=proof)


def shown(parts: Parts, part: Mapping[str, Any]) -> ShownFile:
    """A file with an address that is the same all day."""
    ends = datetime.fromtimestamp((time.time() // 86_400 + 2) * 86_400, UTC)
    vault, settings, name, type = parts.registry.vault, parts.settings, part["name"], part["type"]
    address = links.file_link(vault, settings, UUID(part["file"]["file"]), ends, name, type)
    return ShownFile(what=part["what"], name=name, type=type, address=address.removeprefix(settings.own_url))
