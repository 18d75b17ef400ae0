"""The huts' accounts once more, as a workbook in a folder on the web (WebDAV, RFC 4918, class 1): `/accounts/folder/vouchers.xlsx`. It is
written back whole, on the condition that nobody wrote meanwhile (`If-Match`)."""

import asyncio
import hashlib
import io
from collections.abc import Callable, Mapping, Sequence
from typing import Protocol
from xml.sax.saxutils import escape

from fastapi import FastAPI, Request
from fastapi.responses import JSONResponse, Response
from openpyxl import Workbook, load_workbook

from oak_relay.standins.ledger import Ledger

LARGEST = 2_000_000
FILE = "/accounts/folder/vouchers.xlsx"
KIND = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
Rows = list[Mapping[str, object]]


class Kept(Protocol):
    """What the workbook shows."""

    columns: tuple[str, ...]

    def rows(self) -> Rows:
        """All rows as they are."""

    def replace(self, rows: Rows) -> None:
        """Take these rows in the place of all. Raises `ValueError`."""


def add(app: FastAPI, ledger: Ledger, refused: Callable[[Request, str], Response | None], kept: Kept) -> None:
    """Its endpoints."""

    def tag() -> str:
        return f'"{hashlib.sha256(repr(kept.rows()).encode()).hexdigest()[:24]}"'

    @app.api_route(FILE, methods=["GET", "HEAD", "PUT", "OPTIONS", "PROPFIND"], include_in_schema=False)
    @app.api_route("/accounts/folder/", methods=["OPTIONS", "PROPFIND"], include_in_schema=False)
    async def file(request: Request) -> Response:
        writes = request.method == "PUT"
        wrong = refused(request, "accounts.write" if writes else "accounts.read")
        if answer := wrong or await ledger.fault("accounts", request, {}):
            return answer
        if request.method == "OPTIONS":
            answer = Response(headers={"DAV": "1", "Allow": "GET, HEAD, PUT, OPTIONS, PROPFIND"})
        elif request.method == "PROPFIND":
            answer = Response(_listed(request.url.path, tag()), 207, media_type="application/xml")
        elif writes:
            answer = await _put(request, kept, tag)
        else:
            seen, rows = tag(), kept.rows()  # of one moment: others write while the workbook is made
            answer = Response(
                await asyncio.to_thread(_book, kept.columns, rows), media_type=KIND, headers={"ETag": seen}
            )
        ledger.note("accounts", request, {}, answer.status_code)
        await ledger.after("accounts", request)
        return answer


async def _put(request: Request, kept: Kept, tag: Callable[[], str]) -> Response:
    """Take a workbook as the accounts, when they are still what its writer saw."""
    body = bytearray()
    async for piece in request.stream():
        body += piece
        if len(body) > LARGEST:
            return JSONResponse({"message": "the file is too large"}, 413)
    wanted = request.headers.get("if-match")
    if wanted is None:
        return JSONResponse({"message": "say what you saw, by If-Match"}, 428)
    try:
        rows = await asyncio.to_thread(_rows, bytes(body), kept.columns)
    except Exception as error:  # whatever a library says of a file that is none
        return JSONResponse({"message": f"this is no workbook of vouchers: {str(error)[:300]}"}, 422)
    try:
        if wanted != tag():
            return JSONResponse({"message": "the file is another by now"}, 412)
        kept.replace(rows)
    except ValueError as error:
        return JSONResponse({"message": f"these are no vouchers: {str(error)[:300]}"}, 422)
    return Response(status_code=204, headers={"ETag": tag()})


def _book(columns: Sequence[str], rows: Rows) -> bytes:
    book = Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "vouchers"
    sheet.append(list(columns))
    for row in rows:
        sheet.append([row.get(name) for name in columns])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _rows(body: bytes, columns: Sequence[str]) -> Rows:
    sheet = load_workbook(io.BytesIO(body), read_only=True, data_only=True).active
    assert sheet is not None
    lines = sheet.iter_rows(values_only=True)
    heads = [str(head) for head in next(lines, ())]
    if absent := set(columns) - set(heads):
        raise ValueError(f"there is no column {sorted(absent)[0]}")
    return [dict(zip(heads, line, strict=False)) for line in lines if any(cell is not None for cell in line)]


def _listed(path: str, tag: str) -> str:
    """The folder and its file (RFC 4918, 9.1)."""
    found = [
        (FILE, f"<D:resourcetype/><D:getcontenttype>{KIND}</D:getcontenttype><D:getetag>{escape(tag)}</D:getetag>")
    ]
    if path != FILE:
        found.insert(0, (path, "<D:resourcetype><D:collection/></D:resourcetype>"))
    parts = "".join(f"<D:response><D:href>{where}</D:href><D:propstat><D:prop>{what}</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>" for where, what in found)  # fmt: skip
    return f'<?xml version="1.0" encoding="utf-8"?><D:multistatus xmlns:D="DAV:">{parts}</D:multistatus>'
