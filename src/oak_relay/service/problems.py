"""Errors as problem documents (RFC 9457), each with a `kind` of the closed set and a `fix`."""

from collections.abc import Awaitable, Callable, Mapping, Sequence
from typing import Any

import asyncpg
import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import DataError, DBAPIError
from starlette.exceptions import HTTPException
from starlette.routing import Match

from oak_relay.document.errors import ErrorKind, Fault
from oak_relay.document.model_faults import unseen
from oak_relay.document.values import NotJson
from oak_relay.runtime.documents import Busy
from oak_relay.service.blanked import blank
from oak_relay.service.headers import GUARD
from oak_relay.service.routes import every_route
from oak_relay.store.database import DatabaseLost

log = structlog.get_logger()
_OVERVIEW = "see /openapi.json for what there is"
_SHOWN, _TOLD = 200, 2_000
"""Letters of a title and of a detail; what was sent may be long."""
_FEW = 100
"""Faults that are told of one request."""
_STATUS: dict[str, int] = {
    "invalid": 422,
    "denied": 403,
    "missing": 404,
    "busy": 429,
    "unavailable": 503,
    "timeout": 504,
}
_KIND: dict[int, ErrorKind] = {
    400: "invalid", 401: "denied", 403: "denied", 404: "missing", 405: "invalid", 409: "invalid",
    412: "invalid", 413: "too_long", 415: "invalid", 422: "invalid", 428: "invalid", 429: "busy", 503: "unavailable",
}  # fmt: skip


class Problem(Exception):
    """An answer that says what went wrong. `more` are further members of the document; `inside` is what is told of it to
    those whose service it is."""

    inside = ""

    def __init__(self, status: int, title: str, detail: str = "", fix: str = "", *, kind: ErrorKind | None = None,
                 headers: dict[str, str] | None = None, **more: object) -> None:  # fmt: skip
        super().__init__(title)
        self.status = status
        self.headers = headers
        self.content = {
            "type": "about:blank",
            "title": _cut(title, _SHOWN),
            "status": status,
            "detail": _cut(detail or title, _TOLD),
            "kind": kind or _KIND.get(status, "failed"),
            "fix": fix,
            **more,
        }

    def response(self) -> JSONResponse:
        """The answer as it is sent."""
        return JSONResponse(self.content, self.status, self.headers, "application/problem+json")

    def answered(self, request: Request) -> JSONResponse:
        """What a request is answered with."""
        answer = self.response()
        blank(request, answer)
        return answer


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


def missing(what: str, name: str, fix: str = "check the name") -> Problem:
    """404: there is no such thing."""
    return Problem(404, f"no {what} {name}", f"there is no {what} {name}", fix)


async def _problem(request: Request, problem: Problem) -> JSONResponse:
    return problem.answered(request)


async def _http(request: Request, error: HTTPException) -> JSONResponse:
    status, headers = error.status_code, dict(error.headers or {})
    if status in (404, 405):
        taken = _methods(request.app, request)
        if not taken:
            return Problem(404, "there is nothing here", request.url.path[:200], _OVERVIEW).answered(request)
        if request.method not in taken:
            headers["Allow"] = ", ".join(sorted(taken))
            fix = f"send {headers['Allow']}"
            return Problem(405, f"{request.method} is not taken here", fix=fix, headers=headers).answered(request)
    return Problem(status, str(error.detail), fix=_OVERVIEW if status == 404 else "", headers=headers).answered(request)


async def _invalid(request: Request, error: RequestValidationError) -> JSONResponse:
    first = error.errors()[0]
    if first["type"] == "json_invalid":
        why = str(first.get("ctx", {}).get("error", ""))
        return Problem(400, "the body is not JSON", why, "send JSON").answered(request)
    found = [(_place(one["loc"]), _unfit(one)) for one in error.errors()[:_FEW]]
    fields = [{"where": where, "message": what, "fix": fix} for where, (what, fix) in found]
    what, fix = found[0][1]
    return Problem(422, "the request does not fit", what, fix, fields=fields).answered(request)


def _place(loc: Sequence[int | str]) -> str:
    return ".".join(str(part) for part in loc)


def _unfit(one: Mapping[str, Any]) -> tuple[str, str]:
    """What is wrong with a part of a request, without what it is, and what to do."""
    key = _place(one["loc"][1:]) or f"the {one['loc'][0]}"
    return unseen(one["type"], one.get("ctx", {}), key, one["msg"])


async def _failed(request: Request, failed: Fault) -> JSONResponse:
    status = _STATUS.get(failed.kind, 502)
    return Problem(status, failed.message, fix=failed.fix, kind=failed.kind).answered(request)


async def _not_json(request: Request, error: NotJson) -> JSONResponse:
    return Problem(400, "the body is not JSON that can be kept", str(error), "send JSON (RFC 8259)").answered(request)


async def _busy(request: Request, busy: Busy) -> JSONResponse:
    return Problem(429, str(busy), fix="try again in a moment", headers={"Retry-After": "1"}).answered(request)


async def _unkept(request: Request, error: Exception) -> JSONResponse:
    log.warning("value refused by the database", path=request.url.path, reason=str(error)[:300])
    return Problem(
        422, "a value is one that cannot be kept", fix="leave out U+0000, half characters, and numbers without end"
    ).answered(request)


async def _database(request: Request, error: DBAPIError) -> JSONResponse:
    if isinstance(error, DataError) or isinstance(getattr(error.orig, "__cause__", None), asyncpg.DataError):
        return await _unkept(request, error)
    raise error


async def _unexpected(request: Request, error: Exception) -> JSONResponse:
    if isinstance(error, DatabaseLost):
        return Problem(
            503, "the database is not to be reached", fix="try again", headers={"Retry-After": "1"}
        ).answered(request)
    log.error("request failed", path=request.url.path, exc_info=error)
    # This answer is made outside of what sets the headers of all others.
    wrong = Problem(500, "something went wrong here", fix="see the service's log", kind="failed", headers=GUARD)
    return wrong.answered(request)


_ANSWERED: tuple[tuple[type[Exception], Callable[[Request, Any], Awaitable[JSONResponse]]], ...] = (
    (Problem, _problem),
    (HTTPException, _http),
    (RequestValidationError, _invalid),
    (Fault, _failed),
    (NotJson, _not_json),
    (Busy, _busy),
    (DBAPIError, _database),
    (Exception, _unexpected),
    (asyncpg.DataError, _unkept),
    (UnicodeError, _unkept),
    (OverflowError, _unkept),
)


def install(app: FastAPI) -> None:
    """Make every error a problem document."""
    for error, told in _ANSWERED:
        app.add_exception_handler(error, told)


def _methods(app: FastAPI, request: Request) -> set[str]:
    """The methods that are taken at a request's address; the console's pages are at every other one."""
    here: set[str] = set()
    named: set[str] = set()
    for route in every_route(app):
        match, _ = route.matches(request.scope)
        if match is Match.NONE or getattr(route, "name", "") == "console":
            continue
        methods = getattr(route, "methods", None) or ()
        (here if getattr(route, "path", "") == request.url.path else named).update(methods)
    return here or named  # the address itself goes before those with names in them
