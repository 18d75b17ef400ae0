"""The client and the service agree: every operation has a call, every field that a call reads is one the service tells, and both
faces of the client are one."""

import inspect
import re
from collections.abc import Iterator
from typing import Any, get_args, get_origin
from uuid import UUID

import pytest
from pydantic import BaseModel, TypeAdapter
from scripts.faces import CLIENT, blocking

from oak_relay.client import AsyncClient, Client, calls
from oak_relay.client.calls import Call
from oak_relay.service.app import create_app
from tests.conftest import Processes

DESCRIBED = create_app().openapi()
OPERATIONS = {
    (method.upper(), path): operation
    for path, every in DESCRIBED["paths"].items()
    if path.startswith("/api/v1/")
    for method, operation in every.items()
}
OTHERS = {("POST", "/api/v1/session"), ("DELETE", "/api/v1/session")}
"""Of browsers alone: they sign in with a password and keep a cookie."""
STREAMS = {
    ("GET", "/api/v1/files/{file_id}/content"),
    ("GET", "/api/v1/files/by-link/{link}"),
    ("GET", "/api/v1/runs/stream"),
    ("GET", "/api/v1/tables/{name}/rows.csv"),
    ("GET", "/api/v1/tables/{name}/rows.jsonl"),
    ("GET", "/api/v1/tables/{name}/rows.xlsx"),
    ("GET", "/api/v1/runs/{run_id}/stream"),
}


def made_up(parameter: inspect.Parameter) -> Any:
    text = str(parameter.annotation)
    for name, value in (
        ("Part", calls.Part()),
        ("list", []),
        ("Sequence", []),
        ("Mapping", {}),
        ("dict", {}),
        ("bool", True),
        ("str", "x"),
        ("float", 1.0),
        ("int", 1),
    ):
        if name in text:
            return value
    return UUID(int=1) if "UUID" in text else None


def every_call() -> Iterator[tuple[str, Call[Any]]]:
    for name, function in inspect.getmembers(calls, inspect.isfunction):
        signature = inspect.signature(function)
        if (
            function.__module__ != calls.__name__
            or name.startswith("_")
            or "Call[" not in str(signature.return_annotation)
        ):
            continue
        if name == "runs":
            yield name, function(calls.Part())
            continue
        yield name, function(**{one.name: made_up(one) for one in signature.parameters.values()})
        if name == "hold":
            yield name, function(False)


CALLS = list(every_call())


def operation_of(call: Call[Any]) -> tuple[str, str] | None:
    """The operation of a call: the one that names most of its path."""
    fitting = [
        (method, path)
        for method, path in OPERATIONS
        if method == call.method and re.fullmatch(re.sub(r"\{[^}]*\}", "[^/]+", path), call.path)
    ]
    return min(fitting, key=lambda one: one[1].count("{"), default=None)


def test_every_operation_has_a_call():
    called = {operation_of(call) for _, call in CALLS}
    assert None not in called, [name for name, call in CALLS if operation_of(call) is None]
    assert set(OPERATIONS) - called - OTHERS - STREAMS == set()


def models_in(kind: Any) -> Iterator[type[BaseModel]]:
    if inspect.isclass(kind) and issubclass(kind, BaseModel):
        yield kind
    for one in get_args(kind):
        yield from models_in(one)


def resolved(schema: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """The shapes of objects that a schema may mean."""
    if "$ref" in schema:
        yield from resolved(DESCRIBED["components"]["schemas"][schema["$ref"].rsplit("/", 1)[1]])
    for part in ("anyOf", "oneOf", "allOf"):
        for one in schema.get(part, []):
            yield from resolved(one)
    if schema.get("type") == "array":
        yield from resolved(schema.get("items", {}))
    if "properties" in schema:
        yield schema


def compare(model: type[BaseModel], schema: dict[str, Any], place: str, seen: set[str]) -> Iterator[str]:
    """Fields that a model wants and a schema does not promise."""
    shape = next(resolved(schema), None)
    if shape is None or f"{model.__name__} {place}" in seen:
        return
    seen.add(f"{model.__name__} {place}")
    for name, field in model.model_fields.items():
        told = field.alias or name
        if told not in shape["properties"]:
            if field.is_required():
                yield f"{place}: {model.__name__}.{told} is never told"
            continue
        for inner in models_in(field.annotation):
            yield from compare(inner, shape["properties"][told], f"{place}.{told}", seen)


@pytest.mark.parametrize(("name", "call"), CALLS, ids=[name for name, _ in CALLS])
def test_what_a_call_reads_is_what_the_service_tells(name: str, call: Call[Any]):
    operation = OPERATIONS[operation_of(call)]  # type: ignore[index]
    known = {p["name"] for p in operation.get("parameters", [])}
    assert set(call.params) <= known, "parameters that it does not take"
    reader = getattr(call.read, "__self__", None)
    adapter = getattr(reader, "items", reader)
    if not isinstance(adapter, TypeAdapter):
        return
    answer = next(found for status, found in operation["responses"].items() if status.startswith("2"))
    schema = next(iter(answer["content"].values()))["schema"]
    if adapter is not reader:
        [page] = resolved(schema)
        assert page["properties"].keys() == {"items", "next"}
        assert {"limit", "after"} <= known
        schema = page["properties"]["items"]
    kind = adapter._type
    assert (get_origin(kind) is list) == (schema.get("type") == "array")
    assert list(fault for model in models_in(kind) for fault in compare(model, schema, name, set())) == []


def test_the_blocking_face_is_made_of_the_other_one():
    assert (CLIENT / "blocking.py").read_text() == blocking(), "make faces"


def test_both_faces_have_everything():
    def face(client: type) -> dict[str, str]:
        members = inspect.getmembers(client, lambda one: inspect.isfunction(one))
        return {name: str(inspect.signature(one)) for name, one in members if not name.startswith("_")}

    ours, theirs = face(Client), face(AsyncClient)
    assert ours.keys() == theirs.keys()
    for name, function in inspect.getmembers(calls, inspect.isfunction):
        if "Call[" in str(inspect.signature(function).return_annotation) and not name.startswith("_"):
            assert name in ours or name in RENAMED, name


RENAMED = {"hold", "put_server", "talk", "answer", "many", "export_rows", "import_rows", "look_at", "connect"}
"""Calls that a face calls otherwise, or more than one method makes."""


def test_what_is_new_is_really_told(oak: Processes):
    client = oak.client()
    assert client.session().by == "token"
    assert "http" in {c.name for c in client.connectors()}
    assert {"bearer", "signing"} <= {k.name for k in client.credential_kinds()}
    assert {"webhook", "schedule"} <= {k.name for k in client.trigger_kinds()}
    assert len(client.coming(cron="0 6 * * *")) == 10
    example = next(e for e in client.examples() if not e.needs_model)
    run = client.play(example.name)
    assert client.why(run.id) == client.run(run.id).why or client.run(run.id).run.over
    client.add_sample(run.workflow, "made up", {"n": 1})
    [sample] = [s for s in client.samples(run.workflow) if s.name == "made up"]
    client.remove_sample(run.workflow, sample.id)
    assert client.usage_csv(["day"]).startswith("day,calls")
