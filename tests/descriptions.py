"""OpenAPI documents as large services publish them, and a server of one of them, of all there is in and around seven huts."""

import json
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from enum import StrEnum
from threading import Thread
from typing import Annotated, Any, Literal

import uvicorn
from fastapi import APIRouter, Depends, FastAPI, File, Form, Header, HTTPException, Query, UploadFile
from fastapi.responses import Response
from fastapi.security import HTTPBearer
from pydantic import BaseModel, Field

KINDS = (
    "bell", "bench", "blanket", "booking", "bridge", "broom", "bunk", "cable", "candle", "card", "chimney", "compass", "crate",
    "donkey", "fence", "flag", "ford", "gate", "goat", "guest", "hut", "kettle", "ladder", "lamp", "lantern", "larder", "meal",
    "member", "mule", "path", "pillow", "quote", "rope", "route", "shelter", "signpost", "sledge", "spring", "stove", "trail",
    "volunteer", "warden",
)  # fmt: skip
KEY = "stock-key-0123456789"


class Part(BaseModel):
    """A part of a thing, which has parts."""

    name: str
    parts: list["Part"] = Field(default_factory=list)


class Wood(BaseModel):
    material: Literal["wood"]
    tree: str


class Steel(BaseModel):
    material: Literal["steel"]
    thickness: float


class Size(StrEnum):
    small = "small"
    large = "large"


class New(BaseModel):
    """What is made."""

    name: str = Field(examples=["Grey Marmot"])
    size: Size = Size.small
    length: float | None = None
    made_of: Annotated[Wood | Steel, Field(discriminator="material")]
    built: Part | None = None
    labels: dict[str, str] = Field(default_factory=dict)


class Thing(New):
    id: str


class Some(BaseModel):
    items: list[Thing]
    next_cursor: str | None = None


class Paper(BaseModel):
    name: str
    size: int
    note: str


def stock(calls: Counter[str]) -> FastAPI:
    """A server of eight operations for each of many kinds of things (3.1); it counts what is called."""
    app = FastAPI(title="Hut Stock", version="7.3", generate_unique_id_function=lambda route: route.name, dependencies=[Depends(HTTPBearer())])  # fmt: skip
    for kind in KINDS:
        app.include_router(_kind(kind, calls), prefix=f"/{kind}s", tags=[kind])
    return app


def _kind(kind: str, calls: Counter[str]) -> APIRouter:
    router, kept, keys = APIRouter(), dict[str, Thing](), dict[str, str]()

    def called(name: str) -> Callable[[], None]:
        return lambda: calls.update([f"{name}_{kind}"])

    def one(id: str) -> Thing:
        if id not in kept:
            raise HTTPException(404, f"there is no {kind} {id}")
        return kept[id]

    @router.get("", name=f"list_{kind}", dependencies=[Depends(called("list"))])
    def every(limit: int = 2, cursor: str | None = None, size: Annotated[list[Size] | None, Query()] = None) -> Some:
        found = [thing for thing in kept.values() if not size or thing.size in size]
        at = int(cursor or 0)
        return Some(items=found[at : at + limit], next_cursor=str(at + limit) if at + limit < len(found) else None)

    @router.post("", status_code=201, name=f"make_{kind}", dependencies=[Depends(called("make"))])
    def make(given: New, idempotency_key: Annotated[str, Header()]) -> Thing:
        thing = Thing(id=keys.setdefault(idempotency_key, f"{kind}-{len(keys) + 1}"), **given.model_dump())
        return kept.setdefault(thing.id, thing)

    @router.get("/{id}", name=f"show_{kind}", dependencies=[Depends(called("show"))])
    def show(id: str) -> Thing:
        return one(id)

    @router.put("/{id}", name=f"replace_{kind}", dependencies=[Depends(called("replace"))])
    def replace(id: str, given: New) -> Thing:
        kept[id] = Thing(id=one(id).id, **given.model_dump())
        return kept[id]

    @router.post("/{id}/papers", name=f"hand_in_{kind}", dependencies=[Depends(called("hand_in"))])
    async def hand_in(id: str, paper: Annotated[UploadFile, File()], note: Annotated[str, Form()] = "") -> Paper:
        return Paper(name=paper.filename or one(id).name, size=len(await paper.read()), note=note)

    @router.get("/{id}/picture", name=f"picture_{kind}", response_class=Response, dependencies=[Depends(called("picture"))], responses={200: {"content": {"image/png": {"schema": {"type": "string", "format": "binary"}}}}})  # fmt: skip
    def picture(id: str) -> Response:
        return Response(b"\x89PNG " + one(id).name.encode(), media_type="image/png")

    @router.get("/{id}/log", name=f"log_{kind}", dependencies=[Depends(called("log"))])
    def log(id: str, offset: int = 0, limit: int = 3) -> list[str]:
        return [f"{one(id).id} line {n}" for n in range(7)][offset : offset + limit]

    @router.delete("/{id}", status_code=204, name=f"remove_{kind}", dependencies=[Depends(called("remove"))])
    def remove(id: str) -> None:
        kept.pop(one(id).id)

    return router


@contextmanager
def served(app: FastAPI, port: int) -> Iterator[str]:
    """A server on loopback; its address."""
    server = uvicorn.Server(uvicorn.Config(app, "127.0.0.1", port, log_level="error"))
    thread = Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        thread.join(0.02)
    try:
        yield f"http://127.0.0.1:{port}"
    finally:
        server.should_exit = True
        thread.join(10)


def classic() -> dict[str, Any]:
    """Version 3.0 as one finds it: parameters, answers and bodies shared by reference, inheritance, `nullable`, discriminators, filters as
    deep objects, pages by link, mark, offset and number, a key in the address."""
    paths: dict[str, Any] = {}
    for n, kind in enumerate(KINDS):
        ref = {"$ref": f"#/components/schemas/{kind.title()}"}
        many = {
            "allOf": [
                {"$ref": "#/components/schemas/Envelope"},
                {"type": "object", "properties": {"data": {"type": "array", "items": ref}}},
            ]
        }
        pages: list[Any] = [
            [{"$ref": "#/components/parameters/offset"}, {"$ref": "#/components/parameters/limit"}],
            [{"$ref": "#/components/parameters/page"}],
            [{"$ref": "#/components/parameters/after"}],
            [],
        ]
        answer = {"description": "Fine", "content": {"application/json": {"schema": many}}}
        if n % 4 == 3:
            answer["headers"] = {"Link": {"schema": {"type": "string"}}}
        paths[f"/v2/{kind}s"] = {
            "get": {
                "operationId": f"{kind}s/list",
                "tags": [kind],
                "summary": f"List every {kind}",
                "parameters": [*pages[n % 4], {"$ref": "#/components/parameters/filter"}],
                "responses": {"200": answer},
            },
            "post": {
                "operationId": f"{kind.title()}Controller.create",
                "requestBody": {"$ref": f"#/components/requestBodies/{kind.title()}"},
                "responses": {
                    "201": {"$ref": f"#/components/responses/{kind.title()}"},
                    "422": {"$ref": "#/components/responses/Wrong"},
                },
            },
        }
        paths[f"/v2/{kind}s/{{{kind}_id}}"] = {
            "parameters": [
                {"name": f"{kind}_id", "in": "path", "required": True, "schema": {"type": "integer", "format": "int64"}}
            ],
            **{
                method: {
                    "operationId": f"{kind}s/{method}",
                    "responses": {"200": {"$ref": f"#/components/responses/{kind.title()}"}},
                }
                for method in ("get", "delete")
            },
            "patch": {
                "operationId": f"{kind}s/patch",
                "requestBody": {"content": {"application/x-www-form-urlencoded": {"schema": ref}}},
                "responses": {"204": {"description": "Done"}},
            },
        }
        paths[f"/v2/{kind}s/{{{kind}_id}}/files/{{name}}"] = {
            "put": {"parameters": [{"name": f"{kind}_id", "in": "path", "required": True, "schema": {"type": "integer"}}, {"name": "name", "in": "path", "required": True, "schema": {"type": "string"}}], "requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}, "responses": {"default": {"description": "Fine"}}},
            "get": {"parameters": [{"name": f"{kind}_id", "in": "path", "required": True, "schema": {"type": "integer"}}, {"name": "name", "in": "path", "required": True, "schema": {"type": "string"}}], "responses": {"200": {"description": "It", "content": {"application/pdf": {"schema": {"type": "string", "format": "binary"}}}}}},
        }  # fmt: skip
    schemas: dict[str, Any] = {
        "Envelope": {
            "type": "object",
            "properties": {
                "meta": {"type": "object", "properties": {"next_cursor": {"type": "string", "nullable": True}}},
                "links": {
                    "type": "object",
                    "properties": {"next": {"type": "string", "format": "uri", "nullable": True}},
                },
            },
        },
        "Base": {
            "type": "object",
            "required": ["id"],
            "properties": {
                "id": {"type": "integer", "readOnly": True},
                "secret": {"type": "string", "writeOnly": True},
                "kind": {"type": "string"},
            },
            "discriminator": {"propertyName": "kind"},
        },
        "Error": {
            "type": "object",
            "properties": {"message": {"type": "string"}, "caused_by": {"$ref": "#/components/schemas/Error"}},
        },
    }
    for kind, other in zip(KINDS, KINDS[1:] + KINDS[:1], strict=True):
        schemas[kind.title()] = {
            "allOf": [
                {"$ref": "#/components/schemas/Base"},
                {
                    "type": "object",
                    "required": ["name"],
                    "properties": {
                        "name": {"type": "string", "minLength": 1, "pattern": "^(?!x)"},
                        "weight": {"type": "number", "minimum": 0, "exclusiveMinimum": True, "nullable": True},
                        "beside": {"$ref": f"#/components/schemas/{other.title()}"},
                        "above": {
                            "oneOf": [
                                {"$ref": f"#/components/schemas/{kind.title()}"},
                                {"type": "string", "format": "uuid"},
                            ],
                            "nullable": True,
                        },
                    },
                },
            ]
        }
    parameters = {
        "offset": {"name": "offset", "in": "query", "schema": {"type": "integer"}},
        "limit": {"name": "limit", "in": "query", "schema": {"type": "integer", "maximum": 100}},
        "page": {"name": "page", "in": "query", "schema": {"type": "integer"}},
        "after": {"name": "after", "in": "query", "schema": {"type": "string"}},
        "filter": {
            "name": "filter",
            "in": "query",
            "style": "deepObject",
            "explode": True,
            "schema": {"type": "object", "properties": {"name": {"type": "string"}, "weight": {"type": "object"}}},
        },
    }
    return {
        "openapi": "3.0.3",
        "info": {"title": "Huts Registry", "version": "2024-06"},
        "servers": [{"url": "https://{region}.registry.example/api", "variables": {"region": {"default": "north", "enum": ["north", "south"]}}}],
        "security": [{"key": []}],
        "paths": paths,
        "components": {
            "schemas": schemas,
            "parameters": parameters,
            "requestBodies": {kind.title(): {"required": True, "content": {"application/json": {"schema": {"$ref": f"#/components/schemas/{kind.title()}"}}}} for kind in KINDS},
            "responses": {**{kind.title(): {"description": "It", "content": {"application/json": {"schema": {"$ref": f"#/components/schemas/{kind.title()}"}}}} for kind in KINDS}, "Wrong": {"description": "No", "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Error"}}}}},
            "securitySchemes": {"key": {"type": "apiKey", "in": "query", "name": "api_key"}},
        },
    }  # fmt: skip


def sprawling(count: int = 520) -> dict[str, Any]:
    """Version 3.1 with hundreds of schemas that all refer to each other, odd and equal names, and references that lead nowhere."""
    schemas = {
        f"Thing{n}": {
            "type": ["object", "null"],
            "description": "A thing. " * 40,
            "properties": {
                **{f"to_{m}": {"$ref": f"#/components/schemas/Thing{(n * 7 + m * 13) % 400}"} for m in range(12)},
                "either": {"oneOf": [{"$ref": f"#/components/schemas/Thing{(n + m) % 400}"} for m in range(6)]},
                "any": {"anyOf": [{"type": "string"}, {"$ref": f"#/components/schemas/Thing{n}"}]},
                "price": {"type": "number", "exclusiveMinimum": 0},
                "nobody": {"$ref": "#/components/schemas/Nobody"},
                "elsewhere": {"$ref": "https://elsewhere.example/things.yaml#/Thing"},
            },
            "patternProperties": {"^x-": {"type": "string"}},
        }
        for n in range(400)
    }
    paths = {}
    for n in range(count):
        ref = {"$ref": f"#/components/schemas/Thing{n % 400}"}
        paths[f"/odd path/{n}/{{a.b[c]}}"] = {
            "post": {
                **({"operationId": "Same Name!"} if n % 5 == 0 else {"operationId": f"雪{n}"} if n % 5 == 1 else {}),
                "parameters": [{"name": "a.b[c]", "in": "path", "required": True, "schema": {"type": "string"}}, {"name": "body", "in": "query", "schema": {"type": "string"}}, {"name": "X-Odd", "in": "header", "schema": {"type": "array", "items": {"type": "string"}}}, {"name": "crumb", "in": "cookie", "schema": {"type": "string"}}],
                "requestBody": {"content": {"application/vnd.thing+json": {"schema": ref}}},
                "responses": {"2XX": {"description": "Fine", "content": {"application/json": {"schema": {"type": "array", "items": ref}}}}},
                "security": [{"app": ["things.write"]}, {"app": [], "key": []}],
            }
        }  # fmt: skip
    schemes = {
        "app": {"type": "oauth2", "flows": {"clientCredentials": {"tokenUrl": "/token", "scopes": {}}}},
        "key": {"type": "apiKey", "in": "header", "name": "X-Key"},
    }
    return {
        "openapi": "3.1.0",
        "info": {"title": "雪の小屋", "version": "1"},
        "servers": [{"url": "/things"}],
        "paths": paths,
        "components": {"schemas": schemas, "securitySchemes": schemes},
    }


def as_json(document: dict[str, Any]) -> bytes:
    return json.dumps(document).encode()
