"""YAML 1.2 (or JSON) as plain data: order survives, and every value knows its line."""

import re
from dataclasses import dataclass, field
from decimal import Decimal
from time import thread_time
from typing import NoReturn

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedKeyMap, CommentedKeySeq, CommentedMap, CommentedSeq, TaggedScalar
from ruamel.yaml.error import MarkedYAMLError
from ruamel.yaml.events import CollectionEndEvent, CollectionStartEvent
from ruamel.yaml.parser import RoundTripParser

from oak_relay.document import yaml_faults
from oak_relay.document.errors import Fault, Finding, StepFailed
from oak_relay.document.meter import sound_number
from oak_relay.document.yaml_quick import Path, Places, quick

LARGEST = 512 * 1024
_DEEPEST = 60
_VALUES = 25_000
_LINES = 20_000
_SECONDS = 3.0
"""Of a processor, that reading a document may take."""
STEPS = 1_000
_LONGEST_KEY = 500
_NESTED = re.compile(r"(?:[\[{] ?){61}")
"""Brackets that are refused before they are counted: that takes the longer the more there are."""


class Unreadable(Fault, ValueError):
    """The text is not a document; `finding` says where and why."""

    def __init__(self, finding: Finding) -> None:
        super().__init__(finding.message)
        self.finding = finding


@dataclass(frozen=True)
class Source:
    """A parsed document: plain `data`, and where each key or item stands (line, column from 1)."""

    text: str
    data: object
    places: Places = field(default_factory=dict)

    def place(self, path: Path) -> tuple[int, int]:
        """The line and column of a path, or of the nearest one above it."""
        while path and path not in self.places:
            path = path[:-1]
        return self.places.get(path, (1, 1))


def read(text: str) -> Source:
    """Parse a document. Raises `Unreadable`."""
    if len(text) > LARGEST:
        raise Unreadable(Finding(1, 1, f"the document is longer than {LARGEST} characters", "split it in two"))
    if _NESTED.search(text):
        raise Unreadable(Finding(1, 1, f"nested deeper than {_DEEPEST} levels", "flatten the document"))
    if text.count("\n") > _LINES:
        raise Unreadable(Finding(_LINES, 1, f"the document has more than {_LINES:,} lines", "split it in two"))
    if found := quick(text, deepest=_DEEPEST, values=_VALUES, steps=STEPS, longest_key=_LONGEST_KEY):
        return Source(text, *found)
    try:
        tree = _yaml().load(text)
    except Unreadable:
        raise
    except MarkedYAMLError as error:
        raise Unreadable(yaml_faults.finding(error, text)) from None
    except Exception as error:  # of whatever kind: the parser is made for friends
        reason = "it is nested too deeply" if isinstance(error, RecursionError) else "something in it cannot be read"
        raise Unreadable(Finding(1, 1, f"this is not YAML: {reason}", "correct the text")) from None
    reader = _Reader()
    data = reader.plain(tree, ())
    if not isinstance(data, dict):
        raise Unreadable(Finding(1, 1, "a document is a mapping that begins with `oak: 1`", "begin with `oak: 1`"))
    return Source(text, data, reader.places)


def _yaml() -> YAML:
    yaml = YAML(typ="rt", pure=True)
    yaml.Parser = _Parser
    yaml.version = None
    return yaml


_TAGS = frozenset(f"tag:yaml.org,2002:{kind}" for kind in ("str", "int", "float", "bool", "null", "seq", "map")) | {"!"}
"""Of YAML's core schema; others would be read as what they are not."""


class _Parser(RoundTripParser):
    """Ends early with what would take too long to read."""

    def __init__(self, loader: object) -> None:
        super().__init__(loader)
        self._began = thread_time()
        self._events = self._depth = 0

    def get_event(self) -> object:
        event = super().get_event()
        self._events += 1
        self._depth += isinstance(event, CollectionStartEvent) - isinstance(event, CollectionEndEvent)
        line = event.start_mark.line + 1 if event is not None and event.start_mark else 1
        tag = getattr(event, "tag", None)
        if tag is not None and str(tag) not in _TAGS:
            fix = "leave the tag out; texts, numbers, lists and mappings need none"
            raise Unreadable(Finding(line, 1, f"the tag {str(tag)[:80]} means nothing here", fix))
        if self._depth > _DEEPEST:
            raise Unreadable(Finding(line, 1, f"nested deeper than {_DEEPEST} levels", "flatten the document"))
        if self._events > 3 * _VALUES or (self._events % 256 == 0 and thread_time() - self._began > _SECONDS):
            raise Unreadable(Finding(line, 1, "the document takes too long to read", "split it in two"))
        return event


class _Reader:
    """Takes plain data out of a tree of YAML, an alias as what it stands for, and notes where each value stands."""

    def __init__(self) -> None:
        self.places: Places = {(): (1, 1)}
        self.values = 0
        self.steps = 0

    def plain(self, node: object, path: Path) -> object:
        """A value as plain data. Raises `Unreadable` for one that is nested too deep, or holds too much."""
        if len(path) > _DEEPEST:
            self._refuse(path, f"nested deeper than {_DEEPEST} levels", "flatten the document")
        self.values += 1
        if self.values > _VALUES:
            self._refuse(path, f"the document holds more than {_VALUES:,} values, those of aliases too", "split it")
        if isinstance(node, CommentedMap):
            return self._mapping(node, path)
        if isinstance(node, CommentedSeq):
            items = []
            for index, value in enumerate(node):
                here = (*path, index)
                line, column = node.lc.item(index) if index in (node.lc.data or {}) else (node.lc.line, node.lc.col)
                self.places[here] = (line + 1, column + 1)
                items.append(self.plain(value, here))
            return items
        return self._scalar(node, path)

    def _mapping(self, node: CommentedMap, path: Path) -> dict[str, object]:
        plain: dict[str, object] = {}
        for key, value in node.items():
            if isinstance(key, CommentedKeyMap | CommentedKeySeq):
                line, column = node.lc.key(key) if key in (node.lc.data or {}) else (node.lc.line, node.lc.col)
                fix = 'write "${ … }", in quotes, where an expression is meant'
                raise Unreadable(Finding(line + 1, column + 1, "{{ }} holds no expression here", fix))
            name = str(key) if isinstance(key, str) else ("null" if key is None else str(key).lower())
            if len(name) > _LONGEST_KEY:
                self._refuse(path, f"a key has more than {_LONGEST_KEY} letters", "shorten it")
            here = (*path, name)
            line, column = node.lc.key(key) if key in (node.lc.data or {}) else (node.lc.line, node.lc.col)
            self.places[here] = (line + 1, column + 1)
            plain[name] = self.plain(value, here)
        if "step" in plain:
            self.steps += 1
            if self.steps > STEPS:
                self._refuse(path, f"the document has more than {STEPS:,} steps", "make some a workflow of their own")
        return plain

    def _scalar(self, node: object, path: Path) -> object:
        if node is None or isinstance(node, bool):
            return node
        if isinstance(node, str):
            return str(node)
        if isinstance(node, int | float | Decimal):
            return _number(node, path, self.places)
        if hasattr(node, "isoformat"):
            return node.isoformat()
        if isinstance(node, TaggedScalar):
            return str(node.value)
        if hasattr(node, "value"):
            return bool(node)
        return str(node)

    def _refuse(self, path: Path, message: str, fix: str) -> NoReturn:
        while path and path not in self.places:
            path = path[:-1]
        raise Unreadable(Finding(*self.places[path], message, fix))


def _number(node: int | float | Decimal, path: Path, places: Places) -> int | float | Decimal:
    value = int(node) if isinstance(node, int) else float(node) if isinstance(node, float) else node
    try:
        sound_number(value)
    except StepFailed as failed:
        line, column = places.get(path, (1, 1))
        raise Unreadable(Finding(line, column, "this is no number that can be kept", failed.fix)) from None
    return value
