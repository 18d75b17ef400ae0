"""The OpenAPI document: besides what each resource takes and gives, how it refuses, and who may ask."""

from collections.abc import Iterator
from http import HTTPStatus
from typing import Any

from fastapi import FastAPI
from fastapi.dependencies.models import Dependant
from fastapi.openapi.utils import get_openapi
from fastapi.routing import APIRoute

from oak_relay.document.errors import ERROR_KINDS
from oak_relay.service.parts import COOKIE, caller
from oak_relay.service.routes import every_route

_REFUSALS = (400, 401, 403, 404, 405, 408, 409, 412, 413, 415, 422, 429, 500, 502, 503, 504)
_PROBLEM = {
    "title": "Problem",
    "description": "What went wrong (RFC 9457): a `kind` of the closed set, and a `fix`, what to do.",
    "type": "object",
    "required": ["type", "title", "status", "detail", "kind", "fix"],
    "properties": {
        "type": {"type": "string"},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "detail": {"type": "string"},
        "kind": {"type": "string", "enum": list(ERROR_KINDS)},
        "fix": {"type": "string"},
    },
    "additionalProperties": True,
}
_WAYS_IN = {
    "token": {"type": "http", "scheme": "bearer", "description": "A token made with `oak-relay token add NAME`."},
    "session": {"type": "apiKey", "in": "cookie", "name": COOKIE, "description": "Of the console's own pages."},
}


def describe(app: FastAPI) -> None:
    """Have the application's description say how it refuses, and who may ask."""

    def openapi() -> dict[str, Any]:
        if app.openapi_schema is None:
            app.openapi_schema = _described(app)
        return app.openapi_schema

    app.openapi = openapi  # type: ignore[method-assign]


def _described(app: FastAPI) -> dict[str, Any]:
    schema = get_openapi(title=app.title, version=app.version, description=app.description, routes=app.routes)
    parts = schema.setdefault("components", {})
    parts.setdefault("schemas", {})["Problem"] = _PROBLEM
    for name in ("HTTPValidationError", "ValidationError"):
        parts["schemas"].pop(name, None)
    parts["securitySchemes"] = _WAYS_IN
    for path, method, route in _operations(app):
        operation = schema["paths"][path][method]
        for status in _REFUSALS:
            operation["responses"][str(status)] = {
                "description": HTTPStatus(status).phrase,
                "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
            }
        operation["security"] = [{"token": []}, {"session": []}] if _asks_who(route.dependant) else []
    return schema


def _operations(app: FastAPI) -> Iterator[tuple[str, str, APIRoute]]:
    for route in every_route(app):
        if isinstance(route, APIRoute) and route.include_in_schema:
            for method in route.methods or ():
                yield route.path_format, method.lower(), route


def _asks_who(dependant: Dependant) -> bool:
    """Whether a route wants to know who asks."""
    return any(one.call is caller or _asks_who(one) for one in dependant.dependencies)
