"""`/api/v1/files`: files that are kept here, sent up and down as streams."""

from collections.abc import AsyncIterator
from typing import Annotated
from urllib.parse import quote
from uuid import UUID

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import StreamingResponse

from oak_relay.capabilities.given import file_name
from oak_relay.runtime import links
from oak_relay.service import ranges, uploads
from oak_relay.service.lists import Asks, Page, page
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import FileDetail, FileOut, HeldByRow, HeldBySample
from oak_relay.store import files
from oak_relay.store.files import Stored

_SHOWN = 50
"""Runs that are told of that refer to a file."""
_HARMLESS = frozenset(
    ("application/pdf", "audio/mpeg", "audio/ogg", "audio/wav", "image/gif", "image/jpeg", "image/png", "image/webp", "text/plain", "video/mp4", "video/webm")
)  # fmt: skip
"""Media types that a browser shows without carrying anything out; all else is only taken down."""
_BINARY = {"*/*": {"schema": {"type": "string", "format": "binary"}}}


class FileRoute(ExactRoute):
    """Takes bodies as they come, without reading them whole. The same bytes again are the same file, whatever the key."""

    streams = True


router = APIRouter(route_class=FileRoute, prefix="/api/v1", tags=["files"])


@router.get("/files")
async def list_files(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[FileOut]:
    """Files, the newest first."""
    async with parts.database.reading() as connection:
        found = await files.listed(connection, parts.workspace, asked.limit + 1, asked.id())
    return page(found, asked, lambda one: one.id, _out)


@router.post("/files", status_code=201, openapi_extra={"requestBody": {"content": _BINARY}})
async def add_file(
    request: Request,
    parts: PartsDep,
    _: CallerDep,
    name: Annotated[str, Query(max_length=255, description="Its file name.")] = "file",
) -> FileOut:
    """Keep what is sent as a file, of the media type that `Content-Type` names. The same bytes are kept once. 413 when it is
    larger than files may be, or no room is left."""
    async with parts.arriving.held():
        body = await uploads.taken(request, parts, uploads.NoProof(), name, form=False)
        [kept] = await uploads.kept(body)
    return FileOut(
        file=kept.stored.id, name=kept.name, type=kept.type, size=kept.stored.size, created_at=kept.stored.whole_at
    )


@router.get("/files/{file_id}")
async def show_file(file_id: UUID, parts: PartsDep, _: CallerDep) -> FileDetail:
    """What is known of a file, and what refers to it: the latest runs, rows of tables, samples."""
    async with parts.database.reading() as connection:
        found = await files.about(connection, parts.workspace, file_id)
        owners = await files.owners(connection, parts.workspace, file_id, _SHOWN) if found else []
        rows = await files.rows_holding(connection, parts.workspace, file_id, _SHOWN) if found else []
        samples = await files.samples_holding(connection, parts.workspace, file_id, _SHOWN) if found else []
    if found is None:
        raise missing("file", str(file_id), "nothing may have referred to it for two days")
    return FileDetail(
        **_out(found).model_dump(),
        digest=found.digest.hex(),
        runs=owners,
        rows=[HeldByRow(table=row["table"], row=row["row_id"]) for row in rows],
        samples=[HeldBySample(workflow=row["workflow"], sample=row["sample"]) for row in samples],
    )


@router.get(
    "/files/by-link/{link}", response_class=Response, responses={200: {"description": "Its bytes.", "content": _BINARY}}
)
async def file_by_link(
    link: str,
    request: Request,
    parts: PartsDep,
    name: Annotated[str, Query(max_length=255)] = "",
    type: Annotated[str, Query(max_length=120)] = "",
) -> Response:
    """The bytes of a file at an address that was made for it; nobody need be signed in."""
    try:
        file_id = links.file_of(parts.registry.vault, link, name, type)
    except (links.NoLink, LookupError) as error:
        over = isinstance(error, links.NoLink) and error.over
        raise Problem(
            410 if over else 404, "this address is over" if over else "there is nothing here", fix="ask for another one"
        ) from None
    async with parts.database.reading() as connection:
        found = await files.about(connection, parts.workspace, file_id)
    if found is None:
        raise Problem(410, "this file is gone", fix="ask for another one")
    return sent(parts, found, name, type, request)


@router.get(
    "/files/{file_id}/content",
    response_class=Response,
    responses={
        200: {"description": "Its bytes.", "content": _BINARY},
        206: {"description": "A part of them.", "content": _BINARY},
    },
)
async def file_content(
    file_id: UUID,
    request: Request,
    parts: PartsDep,
    _: CallerDep,
    name: Annotated[str | None, Query(max_length=255, description="What it is called here.")] = None,
    type: Annotated[str | None, Query(max_length=120, description="Its media type here.")] = None,
) -> Response:
    """The bytes of a file, or a part of them (`Range`). The same bytes may be called otherwise by each who refers to them."""
    async with parts.database.reading() as connection:
        found = await files.about(connection, parts.workspace, file_id)
    if found is None:
        raise missing("file", str(file_id), "nothing may have referred to it for two days")
    return sent(parts, found, file_name(name or found.name), type or found.type, request)


def sent(parts: Parts, file: Stored, name: str, type: str, request: Request) -> Response:
    """A file, or the part of it that is asked for, as an answer. What could be carried out by a browser is only taken down.
    Raises `Problem` (416)."""
    shown, tag = type in _HARMLESS, f'"{file.digest.hex()}"'
    if ranges.known(request, tag):
        return Response(status_code=304, headers={"ETag": tag})
    part = ranges.asked(request, file.size, tag)
    first, end = (part.first, part.end) if part is not None else (0, file.size)
    headers = {
        **(part.header(file.size) if part is not None else {}),
        "Accept-Ranges": "bytes",
        "Content-Length": str(end - first),
        "Content-Disposition": f"{'inline' if shown else 'attachment'}; filename*=UTF-8''{quote(name, safe='')}",
        "ETag": tag,
    }
    kind = type if shown else "application/octet-stream"
    status = 200 if part is None else 206
    return StreamingResponse(_pieces(parts, file, first, end), status, headers, kind)


async def _pieces(parts: Parts, file: Stored, first: int, end: int) -> AsyncIterator[bytes]:
    left = end - first
    async for piece in files.pieces(parts.database, parts.workspace, file.id, end, first):
        yield piece[:left]
        left -= len(piece)


def _out(file: Stored) -> FileOut:
    return FileOut(file=file.id, name=file.name, type=file.type, size=file.size, created_at=file.whole_at)
