"""What is wrong with a value by a model of the language, and what to write instead, in sentences of our own."""

import re
import types
from collections.abc import Mapping
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel, TypeAdapter, ValidationError
from pydantic.fields import FieldInfo

from oak_relay.document.habits import WORDS, instead, nearest
from oak_relay.document.misfits import as_list, shown
from oak_relay.document.words import OURS

_TYPES = {
    "string": "a text",
    "int": "a whole number",
    "float": "a number",
    "bool": "true or false",
    "list": "a list",
    "dict": "a mapping",
    "model": "a mapping",
}
_BOUNDS = {
    "greater_than_equal": "{ge} or more",
    "greater_than": "more than {gt}",
    "less_than_equal": "{le} or less",
    "less_than": "less than {lt}",
    "too_short": "{min_length} or more of them",
    "too_long": "{max_length} of them or fewer",
    "string_too_short": "a text of {min_length} letters or more",
    "string_too_long": "a text of {max_length} letters or fewer",
}
_PLAIN = re.compile(r"\^(?:\[([A-Za-z0-9_-]+)\])?\[((?:[a-z]-[a-z]|A-Z|0-9|[^\]\\^])+)\](?:[+*]|\{\d+(?:,(\d+))?\})\$")
_UNITS = {"second": "s", "sec": "s", "minute": "m", "min": "m", "hour": "h", "day": "d", "millisecond": "ms"}


def sentence(kind: str, said: Mapping[str, Any], value: object, field: FieldInfo | None, key: str) -> tuple[str, str]:
    """What is wrong with a value under a key, and what to do: of a fault that pydantic calls `kind`, with what it says of it
    (its `ctx`), for the field of a model where that is known."""
    subject = f"{key}: " if key else ""
    if kind == "duration" or (is_duration(field) and kind in ("string_pattern_mismatch", "string_type", OURS)):
        return f"{subject}{shown(value)} is not a duration", f"write {_duration(value)}"
    if kind == "string_pattern_mismatch":
        return f"{subject}{shown(value)} is not written as it must be", _named(value, str(said.get("pattern", "")))
    if kind == "literal_error" or (words := _words(field)):
        known = words if kind != "literal_error" else _words(field) or _quoted(str(said.get("expected", "")))
        meant = nearest(value, known, WORDS) if isinstance(value, str) else None
        fix = f"write {meant}" if meant else f"write {' or '.join(known)}"
        if _takes_steps(field) and not meant:
            fix += ", or a list of steps"
        return f"{subject}{shown(value)} is not one of {', '.join(known)}", fix
    expected = next((words for name, words in _TYPES.items() if kind.startswith(name)), None)
    if expected and kind.split("_")[-1] in ("type", "parsing", "from_float", "float"):
        return f"{subject}{expected} is expected, not {shown(value)}", _instead(expected, value, field, key)
    if bound := _bound(kind, said):
        return f"{subject}{shown(value)} is not {bound}", f"give {bound}"
    return f"{subject}{shown(value)} cannot stand here", "give a value of the right form"


def unseen(kind: str, said: Mapping[str, Any], key: str, message: str) -> tuple[str, str]:
    """What is wrong with a value that is not to be shown, because it may be a secret, and what to do: of a fault that pydantic
    calls `kind` and tells by `message`, with what it says of it (its `ctx`)."""
    if kind == "missing":
        return f"{key} is missing", f"give {key}"
    if kind == "extra_forbidden":
        return f"there is no {key}", "leave it out"
    if kind == OURS:
        return f"{key}: {said['reason']}", str(said["fix"])
    if kind == "value_error":
        return f"{key}: {message.removeprefix('Value error, ')}", f"correct {key}"
    if kind == "string_pattern_mismatch":
        return f"{key} is not written as it must be", _letters(str(said.get("pattern", "")))
    if kind == "literal_error":
        known = _quoted(str(said.get("expected", "")))
        return f"{key} is not one of {', '.join(known)}", f"write {' or '.join(known)}"
    expected = next((words for name, words in _TYPES.items() if kind.startswith(name)), None)
    if expected and kind.split("_")[-1] in ("type", "parsing", "from_float", "float"):
        return f"{key}: {expected} is expected", f"give {expected}"
    if bound := _bound(kind, said):
        return f"{key} is not {bound}", f"give {bound}"
    return f"{key}: {message}", f"correct {key}"


def first(error: ValidationError, model: type[BaseModel]) -> tuple[str, str, str]:
    """The first thing that is wrong with a value by a model: where in it, what, and what to do."""
    problem = error.errors(include_url=False)[0]
    loc = [str(part) for part in problem["loc"]]
    where, kind, said = ".".join(loc), problem["type"], problem.get("ctx", {})
    field = next((f for n, f in model.model_fields.items() if loc and loc[0] in (n, f.alias)), None)
    if kind == "missing":
        return where, f"{loc[-1] if loc else 'something'} is missing", f"add {loc[-1] if loc else 'it'}:"
    if kind == "extra_forbidden":
        known = [f.alias or n for n, f in model.model_fields.items()] if len(loc) == 1 else []
        return where, f"there is no field {where}", instead(loc[-1], known) if known else "leave it out"
    if kind == OURS:
        return where, str(said["reason"]), str(said["fix"])
    if kind == "value_error":
        return where, problem["msg"].removeprefix("Value error, "), "correct the value"
    message, fix = sentence(kind, said, problem["input"], field if len(loc) == 1 else None, "")
    return where, message, fix


def example(model: type[BaseModel], value: object = None) -> str:
    """How a mapping of a model looks, with a value that was given in its place."""
    told = getattr(model, "EXAMPLE", "")
    if told and value is None:
        return str(told)
    if told and not isinstance(value, dict | list) and "NAME" in told and str(value).replace("-", "").isalnum():
        return str(told).replace("NAME", str(value))
    needed = {n: f for n, f in model.model_fields.items() if f.is_required()}
    for name, field in needed.items() or model.model_fields.items():
        if value is not None and not isinstance(value, dict | list) and _fits(field, value):
            rest = "".join(f", {f.alias or n}: …" for n, f in needed.items() if n != name)
            return f"{{{field.alias or name}: {_scalar(value)}{rest}}}"
    if told:
        return str(told)
    return "{" + ", ".join(f"{f.alias or n}: …" for n, f in (needed or model.model_fields).items()) + "}"


def model_of(annotation: Any) -> type[BaseModel] | None:
    """The model that an annotation asks for, in a list, a mapping or a choice too; None where there is none or several."""
    found = {one for one in _flat(annotation) if isinstance(one, type) and issubclass(one, BaseModel)}
    return found.pop() if len(found) == 1 else None


def _flat(annotation: Any) -> list[Any]:
    if get_origin(annotation) is Annotated:
        return _flat(get_args(annotation)[0])
    if get_origin(annotation) in (Union, types.UnionType, list, dict):
        return [one for inner in get_args(annotation) for one in _flat(inner)]
    return [annotation]


def is_duration(field: FieldInfo | None) -> bool:
    """Whether a field holds a duration."""
    return field is not None and "(ms|s|m|h|d)" in repr((field.annotation, field.metadata))


def _duration(value: object) -> str:
    return duration_of(value) or "500ms, 30s, 5m, 2h, 3d or PT5M"


def duration_of(value: object) -> str:
    """How a duration is written that is meant by a value; empty where none is."""
    text = str(value).strip()
    number = "".join(c for c in text if c.isdigit() or c == ".").strip(".")
    unit = text.removeprefix(number).strip().lower().rstrip("s")
    if number and not isinstance(value, dict | list) and text.startswith(number):
        if not unit:
            return f"{number}s for seconds, {number}m for minutes, {number}h for hours"
        for name, short in _UNITS.items():
            if unit == name:
                return f"{number}{short}"
    if isinstance(value, dict) and len(value) == 1:
        [(name, count)] = value.items()
        of = _UNITS.get(str(name).lower().rstrip("s"))
        if of and isinstance(count, int | float):
            return f"{count}{of}"
    return ""


def _named(value: object, pattern: str) -> str:
    joint = "_" if "_]" in pattern else "-"
    words = "".join(c if c.isalnum() and c.isascii() else " " for c in str(value).lower()).split()
    made = joint.join(words)
    allowed = f"lower-case letters, digits and {joint}"
    return f"write {made}: {allowed}" if made and made[0].isalpha() else f"use {allowed}, a letter first"


def _letters(pattern: str) -> str:
    """What may be written by a pattern of the form `^[…][…]{1,60}$`."""
    plain = _PLAIN.fullmatch(pattern)
    if pattern == r"\S":
        return "write more than spaces"
    head, rest, most = plain.groups() if plain else (None, "", None)
    joints = re.sub("a-z|A-Z|0-9", "", rest)
    if not rest or "-" in joints[:-1]:
        return f"write what matches {pattern}"
    letters = "letters" if "A-Z" in rest else "lower-case letters"
    marks = [letters, *(["digits"] if "0-9" in rest else []), *joints]
    told = f"use {', '.join(marks[:-1])} and {marks[-1]}" if marks[1:] else f"use {letters}"
    start = "" if head is None else ", a letter first" if "0-9" not in head else ", a letter or digit first"
    return f"{told}{start}" + (f"; {int(most) + (head is not None)} at most" if most else "")


def _bound(kind: str, said: Mapping[str, Any]) -> str:
    """What a value must be that is too much or too little."""
    form = _BOUNDS.get(kind, "")
    return form.format(**said) if form else ""


def _words(field: FieldInfo | None) -> list[str]:
    if field is None:
        return []
    return [str(word) for one in _flat(field.annotation) if get_origin(one) is Literal for word in get_args(one)]


def _quoted(expected: str) -> list[str]:
    return [part.strip(" '") for part in expected.replace(" or ", ", ").split(",") if part.strip()]


def _takes_steps(field: FieldInfo | None) -> bool:
    return field is not None and any(get_origin(one) is list for one in get_args(field.annotation))


def _instead(expected: str, value: object, field: FieldInfo | None, key: str) -> str:
    model = model_of(field.annotation) if field is not None else None
    inside = example(model, value) if model else ""
    if expected == "a mapping":
        return (
            f"write {key}: {inside}" if model and key else f"write {inside}" if model else "write NAME: VALUE below it"
        )
    if expected == "a list" and model:
        return f"put a - before each of them: - {example(model)[1:-1]}"
    if expected == "a list" and isinstance(value, str):
        return f"write {as_list(value)}"
    if expected == "a list":
        return "put a - before each of them"
    if expected == "a text" and isinstance(value, int | float):
        return f'write "{shown(value)}"'
    number = "".join(c for c in str(value) if c.isdigit() or c == ".").strip(".")
    if expected in ("a number", "a whole number") and isinstance(value, str) and number:
        return f"write {number}, without a unit"
    return f"give {expected}"


def _fits(field: FieldInfo, value: object) -> bool:
    annotation: Any = field.annotation
    for one in field.metadata:
        annotation = Annotated[annotation, one]
    try:
        TypeAdapter(annotation).validate_python(value, strict=True)
    except ValidationError:
        return False
    return True


def _scalar(value: object) -> str:
    text = shown(value)
    if isinstance(value, str) and value.replace("-", "").replace("_", "").replace(" ", "").isalnum():
        return value
    return text
