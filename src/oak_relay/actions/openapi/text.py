"""The text of an OpenAPI document as data: JSON, or YAML with the types of JSON."""

import re
from typing import Any

import yaml

from oak_relay.document.errors import Fault
from oak_relay.jsontext import NotJson, loads

LARGEST = 12_000_000
"""Bytes of a document."""
VALUES = 1_500_000
"""Values in one, those of aliases counted as often as they stand."""
_DEEPEST = 200


class BadDescription(Fault, ValueError):
    """A text that is no OpenAPI document, or one that is too large."""

    kind = "invalid"

    def __init__(self, message: str, fix: str = "give an OpenAPI document (3.0 or 3.1) in JSON or YAML") -> None:
        super().__init__(message)
        self.fix = fix


class _Loader(yaml.CSafeLoader):
    """YAML as JSON has its types: no dates, no `yes` and `no`."""


_Loader.yaml_implicit_resolvers = {}
_PLAIN = (
    ("bool", r"true|True|TRUE|false|False|FALSE", "tTfF"),
    ("int", r"[-+]?[0-9]{1,300}", "-+0123456789"),
    ("float", r"[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]{1,3})?", "-+0123456789."),
    ("null", r"~|null|Null|NULL|", ["~", "n", "N", ""]),
)
for _kind, _pattern, _first in _PLAIN:
    _Loader.add_implicit_resolver(f"tag:yaml.org,2002:{_kind}", re.compile(f"^(?:{_pattern})$"), list(_first))


def _decimal(loader: yaml.CSafeLoader, node: yaml.ScalarNode) -> int:
    return int(loader.construct_scalar(node))


_Loader.add_constructor("tag:yaml.org,2002:int", _decimal)


def data_of(raw: bytes) -> dict[str, Any]:
    """The mapping that a text stands for. Raises `BadDescription`."""
    if len(raw) > LARGEST:
        raise BadDescription(f"the document has more than {LARGEST:,} bytes", "leave out what is not needed")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise BadDescription("the document is not UTF-8") from None
    data = _json(text) if text.lstrip()[:1] in ("{", "[") else _yaml(text)
    if not isinstance(data, dict):
        raise BadDescription("the document is no mapping")
    return data


def _json(text: str) -> Any:
    try:
        return loads(text)
    except NotJson as error:
        try:
            return _yaml(text)  # a mapping in flow style may begin like JSON
        except BadDescription:
            raise BadDescription(f"the document is not JSON: {error}") from None


def _yaml(text: str) -> Any:
    try:
        _bounded(text)
        data = yaml.load(text, _Loader)
        return _keyed(data)
    except BadDescription:
        raise
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark
        where = f", line {mark.line + 1}" if mark else ""
        raise BadDescription(f"the document is not YAML{where}: {error.problem}") from None
    except (yaml.YAMLError, ValueError, TypeError, RecursionError) as error:
        raise BadDescription(f"the document is not YAML: {str(error)[:200] or type(error).__name__}") from None


def _bounded(text: str) -> None:
    """Raises `BadDescription` for what is nested too deep, before it is built up."""
    depth = 0
    for events, event in enumerate(yaml.parse(text, _Loader)):
        if isinstance(event, yaml.CollectionStartEvent):
            depth += 1
        elif isinstance(event, yaml.CollectionEndEvent):
            depth -= 1
        if depth > _DEEPEST:
            raise BadDescription(f"the document is nested more than {_DEEPEST} deep")
        if events > 2 * VALUES:
            raise BadDescription(f"the document holds more than {VALUES:,} values", "leave out what is not needed")


def _keyed(data: Any) -> Any:
    """A copy with texts as keys, an alias as what it stands for. Raises `BadDescription` for one that holds too much, or
    itself."""
    left = VALUES

    def copied(value: Any, depth: int) -> Any:
        nonlocal left
        left -= 1
        if left < 0 or depth > _DEEPEST:
            raise BadDescription(f"the document holds more than {VALUES:,} values, those of aliases too")
        if isinstance(value, dict):
            return {_key(key): copied(inner, depth + 1) for key, inner in value.items()}
        if isinstance(value, list):
            return [copied(inner, depth + 1) for inner in value]
        return value

    return copied(data, 0)


def _key(key: object) -> str:
    if isinstance(key, bool):
        return "true" if key else "false"
    return "" if key is None else str(key)
