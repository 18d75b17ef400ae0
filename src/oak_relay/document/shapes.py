"""Shapes of values as JSON Schema, and whether a path such as `input.guest.email` can fit one."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from oak_relay.document import values
from oak_relay.document.schemas import Schema, validator

ANY: Schema = {}
EVENT: Schema = {
    "type": "object",
    "properties": {
        "id": {"type": "string"},
        "source": {"type": "string"},
        "type": {"type": "string"},
        "time": {"type": "string"},
        "data": {},
        "headers": {"type": "object"},
        "query": {"type": "object"},
    },
    "additionalProperties": False,
}
CONVERSATION: Schema = {
    "type": "object",
    "properties": {
        "key": {"type": "string"},
        "first": {"type": "boolean"},
        "person": {
            "type": "object",
            "properties": {name: {"type": "string"} for name in ("id", "name", "address", "language")},
            "additionalProperties": False,
        },
        "facts": {"type": "object", "additionalProperties": {"type": "string"}},
    },
    "additionalProperties": False,
}
"""The conversation of a run: its key, whether this is what was said first, who talks, and what is kept of them."""
RUN: Schema = {
    "type": "object",
    "properties": {"id": {"type": "string"}, "subject": {}, "started": {"type": "string"}, "url": {"type": "string"}},
    "additionalProperties": False,
}
ERROR: Schema = {
    "type": "object",
    "properties": {
        "kind": {"type": "string"},
        "message": {"type": "string"},
        "fix": {"type": "string"},
        "reached": {"type": "string"},
        "delay": {"type": "number"},
        "step": {"type": "string"},
    },
    "additionalProperties": False,
}
TOLD: Schema = {
    "type": "object",
    "properties": {"id": {"type": "string"}, "text": {"type": "string"}},
    "additionalProperties": False,
}
QUESTION: Schema = {
    **TOLD,
    "properties": {"id": {"type": "string"}, "text": {"type": "string"}, "link": {"type": "string"}},
}
ASIDE: Schema = {
    "type": "object",
    "properties": {"text": {"type": "string"}, "parts": {"type": "array"}},
    "additionalProperties": False,
}
ANSWERED: Schema = {
    "type": "object",
    "properties": {name: {} for name in ("choice", "data", "text", "by", "at", "expired", "parts")},
    "additionalProperties": False,
}
HANDED_BACK: Schema = {
    "type": "object",
    "properties": {name: {} for name in ("text", "by", "at", "expired")},
    "additionalProperties": False,
}
OUTCOME: Schema = {
    "type": "object",
    "properties": {"state": {"type": "string"}, "result": {}, "error": {}},
    "additionalProperties": False,
}


_HOPS = 20


@dataclass(frozen=True, slots=True)
class Misfit:
    """A key that the shape does not have."""

    owner: str
    key: str
    behind: tuple[str, ...]
    known: tuple[str, ...] = ()
    kind: object = "object"
    """Its type in JSON Schema."""


def misfit(schema: Schema, path: tuple[str, ...], name: str) -> Misfit | None:
    """The first key of `path` that a value of this shape cannot have, or None. Closed shapes only:
    those that list properties and either forbid others or are declared in the document."""
    here = schema
    shown = name
    root = schema
    for index, key in enumerate(path):
        here = resolved(here, root)
        if any(word in here for word in ("anyOf", "oneOf", "allOf", "patternProperties")):
            return None
        kind = here.get("type")
        if kind in ("string", "number", "integer", "boolean", "array") and not _method(kind, key):
            return Misfit(shown, key, path[index + 1 :], kind=kind)
        properties = here.get("properties")
        if not isinstance(properties, Mapping):
            return None
        if key not in properties:
            if here.get("additionalProperties", False) not in (False, None) or key in (
                "items",
                "keys",
                "values",
                "get",
            ):
                return None
            return Misfit(shown, key, path[index + 1 :], tuple(properties))
        here = properties[key] if isinstance(properties[key], Mapping) else ANY
        shown = f"{shown}.{key}"
    return None


def answer_in(text: str, schema: dict[str, object]) -> tuple[object, str]:
    """The data in an answer, and what is wrong with it by a JSON Schema."""
    try:
        data = values.json_in(text)
    except values.NotJson as error:
        return None, f"it is not JSON ({error})"
    return data, validator(schema).fault(data)


def object_of(names: Mapping[str, Schema]) -> Schema:
    """The shape of a mapping with exactly these keys."""
    return {"type": "object", "properties": dict(names), "additionalProperties": False}


def properties(schema: Schema) -> Mapping[str, Schema]:
    """The properties that an object's schema declares; none where that is no mapping of schemas."""
    declared = schema.get("properties")
    found = declared.items() if isinstance(declared, Mapping) else ()
    return {name: one for name, one in found if isinstance(one, Mapping)}


def required(schema: Schema) -> list[str]:
    """The properties that an object must have."""
    named = schema.get("required")
    return [name for name in named if isinstance(name, str)] if isinstance(named, list | tuple) else []


def listed(value: object) -> Sequence[object]:
    """What a list holds; nothing where it is none."""
    return value if isinstance(value, list | tuple) else ()


def defaults(schema: Schema) -> dict[str, object]:
    """The default values that an object's schema declares."""
    return {name: one["default"] for name, one in properties(schema).items() if "default" in one}


Fills = Mapping[str, Mapping[str, object]]
"""By name of a property: the `default` that it is given when it is not there, and what is filled in `inside` of it."""


def fills(schema: Schema) -> Fills:
    """The defaults that a schema declares, also those inside of what it declares."""
    found: dict[str, dict[str, object]] = {}
    for name, one in properties(schema).items():
        inner = fills(one)
        if "default" in one or inner:
            found[name] = ({"default": one["default"]} if "default" in one else {}) | (
                {"inside": inner} if inner else {}
            )
    return found


def filled(what: Fills, value: object) -> object:
    """A value with the defaults in the place of what is not there."""
    if not what or not isinstance(value, Mapping):
        return (
            {name: one["default"] for name, one in what.items() if "default" in one}
            if value is None and what
            else value
        )
    given = dict(value)
    for name, one in what.items():
        if name not in given and "default" in one:
            given[name] = one["default"]
        if "inside" in one and isinstance(given.get(name), Mapping):
            given[name] = filled(one["inside"], given[name])  # type: ignore[arg-type]
    return given


def sample_of(schema: object, depth: int = 0) -> object:
    """A value made from a JSON Schema, which need not be a sound one: its example or default where it has one, else something
    simple."""
    if not isinstance(schema, dict) or depth > 6:
        return None
    if examples := listed(schema.get("examples")):
        return examples[0]
    for key in ("const", "default"):
        if key in schema:
            return schema[key]
    if choices := listed(schema.get("enum")):
        return choices[0]
    kind = schema.get("type")
    if kind == "object" or "properties" in schema:
        declared = schema.get("properties")
        return {k: sample_of(v, depth + 1) for k, v in declared.items()} if isinstance(declared, Mapping) else {}
    if kind == "array":
        return [sample_of(schema.get("items", {}), depth + 1)]
    simple = {"number": 1, "integer": 1, "boolean": True}
    return "someone@guests.example" if schema.get("format") == "email" else simple.get(str(kind), "text")


def resolved(schema: Schema, root: Schema) -> Schema:
    """What a schema refers to within `$defs` of its root; itself where it refers to nothing."""
    for _ in range(_HOPS):
        ref = schema.get("$ref")
        if not (isinstance(ref, str) and ref.startswith("#/$defs/")):
            return schema
        defined = root.get("$defs")
        found = defined.get(ref.removeprefix("#/$defs/"), ANY) if isinstance(defined, Mapping) else ANY
        schema = found if isinstance(found, Mapping) else ANY
    return ANY


def _method(kind: object, key: str) -> bool:
    methods = {
        "string": (
            "upper",
            "lower",
            "strip",
            "lstrip",
            "rstrip",
            "split",
            "splitlines",
            "startswith",
            "endswith",
            "title",
            "capitalize",
            "find",
            "count",
            "removeprefix",
            "removesuffix",
        ),
        "array": ("index", "count"),
    }
    return key in methods.get(str(kind), ())
