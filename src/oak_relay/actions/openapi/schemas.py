"""Schemas of OpenAPI documents as JSON Schema 2020-12 that stands alone: with all it refers to, in bounds, leniently.

What is given is refused here only where the service would refuse it: of `oneOf` it is enough that one fits, patterns of another
dialect are left out, and what lies too deep may be anything.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal
from urllib.parse import unquote

from oak_relay.actions.openapi import naming
from oak_relay.actions.openapi.shapes import Schema
from oak_relay.document import schemas
from oak_relay.document.shapes import listed

Direction = Literal["in", "out"]
_BUDGETS: tuple[int, ...] = (400, 120, 40)
"""Schemas that one may hold with all it refers to; the smaller ones where it costs too much to look at a value."""
_IN_ONE = 400
_DEEPEST = 30
_TEXT = 400
_HOPS = 30
_NUMBERS = (
    "minimum",
    "maximum",
    "multipleOf",
    "minLength",
    "maxLength",
    "minItems",
    "maxItems",
    "minProperties",
    "maxProperties",
)
_TYPES = ("string", "number", "integer", "boolean", "object", "array", "null")
ANY: Schema = {}
FILE: Schema = {
    "type": "object",
    "title": "File",
    "description": "A file, as a webhook or another step gives it.",
    "properties": {"file": {"type": "string"}},
    "required": ["file"],
}


class Document:
    """A document whose references within itself are followed."""

    def __init__(self, data: Mapping[str, Any]) -> None:
        self.data = data
        self.elsewhere: set[str] = set()
        """References to other documents, which are not followed."""

    def target(self, value: object) -> Any:
        """What a value is, or refers to; an empty mapping where that is nothing."""
        for _ in range(_HOPS):
            if not isinstance(value, Mapping) or not isinstance(value.get("$ref"), str):
                return value
            value = self.at(value["$ref"])
        return {}

    def at(self, ref: str) -> Any:
        """What stands at a pointer (RFC 6901) of the document; an empty mapping where there is nothing."""
        if not ref.startswith("#"):
            if len(self.elsewhere) < 20:
                self.elsewhere.add(ref[:200])
            return {}
        here: Any = self.data
        for part in unquote(ref[1:]).split("/")[1:]:
            part = part.replace("~1", "/").replace("~0", "~")
            if isinstance(here, Mapping):
                here = here.get(part, {})
            elif isinstance(here, list) and part.isdecimal() and len(part) < 9 and int(part) < len(here):
                here = here[int(part)]
            else:
                return {}
        return here


def _outermost(schema: Schema) -> Schema:
    kept: Schema = {name: {} for name in (schema.get("properties") or {})}
    return {"type": "object", "properties": kept} if kept else {}


@dataclass(slots=True)
class _Piece:
    """A schema that was converted by itself: what it refers to, and how many schemas it holds."""

    schema: Schema
    refs: list[str]
    count: int
    cut: bool = False


class Conversion:
    """Schemas of a document for one direction. Each that is referred to is converted once, however many refer to it."""

    def __init__(self, document: Document, direction: Direction) -> None:
        self._document, self._direction = document, direction
        self._names: dict[str, str] = {}
        self._taken: set[str] = set()
        self._known: dict[str, _Piece] = {}
        self._piece = _Piece({}, [], 0)
        self._budgets = _BUDGETS
        self._inlining: list[str] = []

    def alone(self, schema: Schema) -> tuple[Schema, str]:
        """A schema that stands alone and may be used here, and what had to be left out of it, in words."""
        root = self._made(schema)
        for budget in self._budgets:
            found, cut = self._whole(root, budget)
            try:
                schemas.validator(found)
            except schemas.BadSchema:
                continue
            self._budgets = _BUDGETS[_BUDGETS.index(budget) :]  # schemas of one document are alike
            return found, "what lies deep in it may be anything" if cut else ""
        return _outermost(schema), "what is in it may be anything, because its schema is too large to be looked at"

    def _whole(self, root: _Piece, budget: int) -> tuple[Schema, bool]:
        """A schema with what it refers to, the nearest first, and whether something had to be left out."""
        left, cut = budget - root.count, root.cut
        defined: dict[str, Schema] = {}
        waiting, seen = list(root.refs), set(root.refs)
        for ref in waiting:  # grows while it is gone through
            piece = self._known.get(ref)
            if piece is None:
                piece = self._known[ref] = self._made(self._document.at(ref))
            left -= piece.count
            if left < 0:
                defined[self._names[ref]], cut = {}, True
                continue
            cut = cut or piece.cut
            defined[self._names[ref]] = piece.schema
            waiting += [other for other in piece.refs if other not in seen]
            seen.update(piece.refs)
        return ({**root.schema, "$defs": defined} if defined else root.schema), cut

    def _made(self, schema: object) -> _Piece:
        before, self._piece = self._piece, _Piece({}, [], 0)
        try:
            self._piece.schema = self._of(schema, 0)
            return self._piece
        finally:
            self._piece = before

    def _of(self, schema: object, depth: int) -> Schema:
        self._piece.count += 1
        if not isinstance(schema, Mapping):
            return {"not": {}} if schema is False else {}
        if self._piece.count > _IN_ONE or depth > _DEEPEST:
            self._piece.cut = True
            return {}
        if isinstance(ref := schema.get("$ref"), str):
            return self._referred(ref, schema)
        if is_file(schema):
            return {**FILE} if self._direction == "in" else {}
        found: Schema = {}
        self._said(schema, found)
        self._typed(schema, found)
        self._nested(schema, found, depth)
        return self._combined(schema, found, depth)

    def _inlined(self, schema: object, depth: int) -> Schema:
        """A part of an object, what it refers to in its place."""
        ref = schema.get("$ref") if isinstance(schema, Mapping) else None
        if not isinstance(ref, str) or not ref.startswith("#") or ref in self._inlining:
            return self._of(schema, depth)
        self._inlining.append(ref)
        try:
            return self._of(self._document.target(schema), depth)
        finally:
            self._inlining.pop()

    def _referred(self, ref: str, schema: Mapping[str, Any]) -> Schema:
        if not ref.startswith("#"):
            self._document.at(ref)
            return {}
        if ref not in self._names:
            wished = "".join(c if c.isalnum() and c.isascii() else "_" for c in ref.rsplit("/", 1)[-1])[:60]
            self._names[ref] = naming.free(wished or "it", self._taken)
        if ref not in self._piece.refs:
            self._piece.refs.append(ref)
        about = schema.get("description")
        said = {"description": about[:_TEXT]} if isinstance(about, str) else {}
        return {"$ref": f"#/$defs/{self._names[ref]}", **said}

    def _said(self, schema: Mapping[str, Any], found: Schema) -> None:
        for word in ("title", "description", "format"):
            if isinstance(text := schema.get(word), str) and text:
                found[word] = text[:_TEXT]
        for word in ("default", "const"):
            if word in schema and _is_small(schema[word]):
                found[word] = schema[word]
        shown = schema["example"] if "example" in schema else next(iter(listed(schema.get("examples"))), None)
        if shown is not None and _is_small(shown):
            found["examples"] = [shown]
        some = schema.get("enum")
        if isinstance(some, list) and some and len(some) <= 500:
            found["enum"] = list(some)

    def _typed(self, schema: Mapping[str, Any], found: Schema) -> None:
        """Types and bounds; `nullable` and the exclusive bounds of 3.0 as 3.1 says them."""
        kinds = [one for one in _listing(schema.get("type")) if one in _TYPES]
        if schema.get("nullable") is True and kinds and "null" not in kinds:
            kinds.append("null")
        if kinds:
            found["type"] = kinds[0] if len(kinds) == 1 else kinds
        if schema.get("nullable") is True and "enum" in found and None not in found["enum"]:
            found["enum"].append(None)
        for word in _NUMBERS:
            if _is_number(bound := schema.get(word)):
                found[word] = bound
        for word, plain in (("exclusiveMinimum", "minimum"), ("exclusiveMaximum", "maximum")):
            bound = schema.get(word)
            if bound is True and plain in found:
                found[word] = found.pop(plain)
            elif _is_number(bound):
                found[word] = bound
        if schema.get("uniqueItems") is True:
            found["uniqueItems"] = True

    def _nested(self, schema: Mapping[str, Any], found: Schema, depth: int) -> None:
        inner = schema.get("properties")
        hidden: set[str] = set()
        if isinstance(inner, Mapping):
            hidden = {name for name, one in inner.items() if self._hidden(one)}
            found["properties"] = {
                str(name): self._of(one, depth + 1) for name, one in inner.items() if name not in hidden
            }
        needed = [name for name in listed(schema.get("required")) if isinstance(name, str) and name not in hidden]
        if needed and isinstance(schema.get("required"), list):
            found["required"] = list(dict.fromkeys(needed))
        more = schema.get("additionalProperties")
        if more is False:
            found["additionalProperties"] = False
        elif more is True or isinstance(more, Mapping):
            found["additionalProperties"] = self._of(more, depth + 1) or True
        if isinstance(items := schema.get("items"), Mapping):
            found["items"] = self._of(items, depth + 1)
        if isinstance(first := schema.get("prefixItems"), list) and first:
            found["prefixItems"] = [self._of(one, depth + 1) for one in first[:50]]

    def _hidden(self, schema: object) -> bool:
        """Whether a property is not for this direction."""
        word = "readOnly" if self._direction == "in" else "writeOnly"
        told = self._document.target(schema)
        return any(isinstance(one, Mapping) and one.get(word) is True for one in (schema, told))

    def _combined(self, schema: Mapping[str, Any], found: Schema, depth: int) -> Schema:
        for word in ("anyOf", "oneOf"):
            some = schema.get(word)
            if isinstance(some, list) and some:
                ways = [self._of(one, depth + 1) for one in some[:100]]
                if schema.get("nullable") is True:
                    ways.append({"type": "null"})
                found.setdefault("anyOf", ways)
        every = schema.get("allOf")
        if not isinstance(every, list) or not every:
            return found
        parts = [self._inlined(one, depth + 1) for one in every[:50]]
        if len(parts) == 1 and not found.keys() - {"description", "title"}:
            return {**parts[0], **found}
        return _merged([found, *parts]) or {**found, "allOf": parts}


def _merged(parts: list[Schema]) -> Schema | None:
    """Objects that a value must all be as one object, where they are simple; None where they are not."""
    one: Schema = {"type": "object", "properties": {}, "required": []}
    for part in parts:
        if part.get("type", "object") != "object" or part.keys() - {
            "type",
            "properties",
            "required",
            "title",
            "description",
            "examples",
        }:
            return None
        one["properties"] |= part.get("properties", {})
        one["required"] += part.get("required", [])
        one |= {word: part[word] for word in ("title", "description") if word in part and word not in one}
    if not one["required"]:
        del one["required"]
    return one


def is_file(schema: object) -> bool:
    """Whether a schema stands for bytes (OpenAPI 3.0, section 4.7.14; 3.1, section 4.8.14.4)."""
    if not isinstance(schema, Mapping):
        return False
    coded = schema.get("contentMediaType") is not None and "contentEncoding" not in schema
    return schema.get("format") == "binary" or (coded and schema.get("type") in (None, "string"))


def _listing(value: object) -> list[Any]:
    return value if isinstance(value, list) else [value]


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _is_small(value: object) -> bool:
    """Whether a value is one that may stand in a schema as an example."""
    if isinstance(value, str):
        return len(value) <= _TEXT
    if isinstance(value, dict | list):
        return len(str(value)[: 3 * _TEXT]) < 2 * _TEXT
    return True
