"""What is wrong with a value by a JSON Schema, and what to do, in sentences of our own."""

from collections.abc import Mapping, Sequence

import jsonschema_rs

from oak_relay.document.habits import TYPES, instead, nearest
from oak_relay.document.numbers import whole
from oak_relay.jsontext import dumps

_SHOWN, _LISTED, _FEW = 300, 20, 40
KINDS = {
    "string": "a text",
    "integer": "a whole number",
    "number": "a number",
    "boolean": "true or false",
    "array": "a list",
    "object": "a mapping",
    "null": "null",
}
"""What the types of JSON Schema are called."""
_BOUNDS = {
    "minimum": "at least {}",
    "maximum": "at most {}",
    "exclusiveMinimum": "more than {}",
    "exclusiveMaximum": "less than {}",
    "multipleOf": "a multiple of {}",
    "minLength": "a text of at least {} letters",
    "maxLength": "a text of at most {} letters",
    "minItems": "a list of at least {} items",
    "maxItems": "a list of at most {} items",
    "minProperties": "a mapping of at least {} keys",
    "maxProperties": "a mapping of at most {} keys",
}


def shown(value: object, most: int = 60) -> str:
    """A value as JSON, cut; of one that holds much, how much."""
    if isinstance(value, list | dict) and _holds(value) > _FEW:
        what = "items" if isinstance(value, list) else "keys"
        return f"a {'list' if isinstance(value, list) else 'mapping'} of {len(value):,} {what}"
    try:
        text = dumps(value[: most + 1] if isinstance(value, str) else value)
    except ValueError:
        text = str(value)
    return text if len(text) <= most else f"{text[:most]}…"


def _holds(value: object) -> int:
    """How many values a value holds, as far as it matters."""
    count, waiting = 0, [value]
    while waiting and count <= _FEW:
        one = waiting.pop()
        inner = (
            one if isinstance(one, list) else list(one.values()) if isinstance(one, dict) and len(one) <= _FEW else []
        )
        count += len(one) if isinstance(one, list | dict) else 0
        waiting += inner[: _FEW + 1]
    return count


def listed(values: Sequence[object]) -> str:
    """The first of some values, as a list in a sentence."""
    words = [str(value) if isinstance(value, str) else shown(value) for value in values[:_LISTED]]
    return ", ".join(words) + (", …" if len(values) > _LISTED else "")


def sentence(error: jsonschema_rs.ValidationError, schema: Mapping[str, object] | None = None) -> tuple[str, str]:
    """What is wrong by a schema, and what to do about it."""
    message, fix = _sentence(error)
    if schema is not None and error.kind.name == "additionalProperties":
        odd = str(error.kind.as_dict()["unexpected"][0])
        known = [
            name
            for name in _declared(schema, error.schema_path)
            if not isinstance(error.instance, Mapping) or name not in error.instance
        ]
        fix = instead(odd, known, "here may stand") if known else fix
    return message[:_SHOWN], fix[:_SHOWN]


def _declared(schema: Mapping[str, object], path: Sequence[str | int]) -> list[str]:
    """The properties that are declared beside the rule at a path of a schema."""
    here: object = schema
    for part in path[:-1]:
        if part == "$ref" and isinstance(here, Mapping):
            here, parts = schema, [one for one in str(here.get("$ref")).removeprefix("#").split("/") if one]
        else:
            parts = [str(part)]
        for one in parts:
            if isinstance(here, Mapping):
                here = here.get(one)
            elif isinstance(here, list) and (index := whole(one)) is not None and index < len(here):
                here = here[index]
    found = here.get("properties") if isinstance(here, Mapping) else None
    return [str(name) for name in found] if isinstance(found, Mapping) else []


def _sentence(error: jsonschema_rs.ValidationError) -> tuple[str, str]:
    name, said, value = error.kind.name, error.kind.as_dict(), error.instance
    if name == "type":
        return _type(said["types"], value)
    if name == "required":
        return f"{said['property']} is missing", f"add {said['property']}:"
    if name in ("additionalProperties", "unevaluatedProperties"):
        odd = [str(one) for one in said["unexpected"]]
        return f"{listed(odd)} {'is' if len(odd) == 1 else 'are'} not known here", "correct the name, or leave it out"
    if name == "enum":
        near = nearest(value, [one for one in said["options"] if isinstance(one, str)], {})
        fix = f"write {near}" if near else f"write one of {listed(said['options'])}"
        return f"{shown(value)} is none of {listed(said['options'])}", fix
    if name == "const":
        return f"{shown(value)} is not {shown(said['expected_value'])}", f"write {shown(said['expected_value'])}"
    if name in _BOUNDS:
        bound = _BOUNDS[name].format(next(iter(said.values())))
        return f"{shown(value)} is not {bound}", f"give {bound}"
    if name == "uniqueItems":
        return "the list holds something twice", "leave one of the two out"
    if name == "pattern":
        return f"{shown(value)} does not match {said['pattern']}", "give a text of that form"
    if name in ("anyOf", "oneOf") and (found := _either(said)):
        return _type(found, value)
    if name == "oneOf":
        return f"{shown(value)} fits none, or more than one, of the forms it may have", "see the schema's oneOf"
    if name == "anyOf":
        return f"{shown(value)} has none of the forms it may have", "see the schema's anyOf"
    return f"{shown(value)} is refused by {name}", f"see {name} in the schema"


def _either(said: dict[str, object]) -> list[str]:
    """The types that any of some schemas asks for, where that is all they ask for."""
    found: list[str] = []
    context = said.get("context")
    for errors in context if isinstance(context, list) else ():
        if len(errors) != 1 or errors[0].kind.name != "type" or errors[0].instance_path:
            return []
        found += errors[0].kind.as_dict()["types"]
    return found


def _type(types: Sequence[str], value: object) -> tuple[str, str]:
    kinds = " or ".join(KINDS.get(one, one) for one in types)
    if types == ["array"] and isinstance(value, str):
        fix = f"write {as_list(value)}"
    elif "string" in types and isinstance(value, int | float) and not isinstance(value, bool):
        fix = f'write "{shown(value)}"'
    else:
        fix = f"give {kinds}"
    return f"{kinds} is expected, not {shown(value)}", fix


def as_list(text: str) -> str:
    """What was written with commas, as a list."""
    return f"[{', '.join(part.strip() for part in text.split(','))}]"


def of_a_schema(error: jsonschema_rs.ValidationError) -> tuple[str, str]:
    """What is wrong with a JSON Schema, by the schema of schemas, and what to do about it."""
    path, value = list(error.instance_path), error.instance
    last = path[-1] if path else ""
    if last == "type" and isinstance(value, str):
        near = nearest(value, KINDS, TYPES)
        fix = f"write {near}" if near else f"write one of {', '.join(KINDS)}"
        return f"there is no type {shown(value)} in JSON Schema", fix
    if last == "required" and isinstance(value, bool):
        name = str(path[-2]) if len(path) > 1 else "NAME"
        return (
            "required is a list of names, and stands beside properties",
            f"leave it out here, and write required: [{name}] beside properties" if value else "leave it out",
        )
    if last == "required" and isinstance(value, str):
        return "required is a list of names", f"write {as_list(value)}"
    if isinstance(value, str) and error.kind.name == "type":
        near = nearest(value, KINDS, TYPES) or "string"
        return f"{last or 'this'} needs a schema, not {shown(value)}", f"write {{type: {near}}}"
    message, fix = sentence(error)
    return f"this is not JSON Schema: {message}", fix
