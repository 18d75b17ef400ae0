"""The common part of YAML 1.2, read by libyaml: ten times quicker than a reader that keeps comments and names mistakes.

What is not common (tags, anchors, merges, dates, tabs, numbers of other kinds, any mistake) is left to that one: `quick`
then gives nothing. What it gives is what the other one would.
"""

import re
from collections.abc import Iterable

import yaml

Path = tuple[str | int, ...]
Places = dict[Path, tuple[int, int]]

_UNCOMMON = re.compile(
    r"[\t\r\x85\u2028\u2029\ufeff]|[^\x20-\x7e\n\xa0-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]|^[%.]|[|>][-+0-9]*#",
    re.M,
)
"""Characters that readers take in different ways, and lines that begin like a directive or the end of a document."""
_INTEGER = re.compile(r"[-+]?(?:0|[1-9][0-9]{0,14})")
_DECIMAL = re.compile(r"[-+]?(?:0|[1-9][0-9]{0,14})\.[0-9]{1,15}")
_NUMBER_LIKE = re.compile(r"[-+]?0[xobXOB]\w*|[-+.0-9][-+.:_0-9eETtZz ]*|[-+]?\.(?:inf|nan)", re.I)
_WORDS: dict[str, bool | None] = {
    "": None,
    "~": None,
    **{word: None for word in ("null", "Null", "NULL")},
    **{word: True for word in ("true", "True", "TRUE")},
    **{word: False for word in ("false", "False", "FALSE")},
}


class _Uncommon(Exception):
    """Something that is left to the other reader."""


def quick(
    text: str, *, deepest: int, values: int, steps: int, longest_key: int
) -> tuple[dict[str, object], Places] | None:
    """The data of a text, and where each key and item stands (line and column from 1); None for what is not common, wrong, nested
    deeper, or holds more values, steps or longer keys than is allowed."""
    if _UNCOMMON.search(text):
        return None
    reader = _Reader(deepest, values, steps, longest_key)
    try:
        data = reader.document(yaml.parse(text, Loader=yaml.CSafeLoader))
    except (_Uncommon, yaml.YAMLError, UnicodeError):
        return None
    return (data, reader.places) if isinstance(data, dict) else None


class _Reader:
    def __init__(self, deepest: int, values: int, steps: int, longest_key: int) -> None:
        self.places: Places = {(): (1, 1)}
        self._deepest, self._values, self._steps, self._longest = deepest, values, steps, longest_key

    def document(self, given: Iterable[yaml.Event]) -> object:
        self._events = events = iter(given)
        next(events)
        if not isinstance(next(events), yaml.DocumentStartEvent):
            raise _Uncommon
        data = self._value(next(events), (), 0)
        next(events)
        if not isinstance(next(events), yaml.StreamEndEvent):
            raise _Uncommon
        return data

    def _value(self, event: yaml.Event, path: Path, flow: int) -> object:
        self._values -= 1
        if self._values < 0 or len(path) > self._deepest:
            raise _Uncommon
        if isinstance(event, yaml.ScalarEvent):
            return _scalar(event, flow)
        if not isinstance(event, yaml.CollectionStartEvent) or event.anchor is not None or event.tag is not None:
            raise _Uncommon
        if isinstance(event, yaml.MappingStartEvent):
            return self._mapping(path, flow + bool(event.flow_style))
        if isinstance(event, yaml.SequenceStartEvent):
            return self._sequence(path, flow + bool(event.flow_style))
        raise _Uncommon

    def _mapping(self, path: Path, flow: int) -> dict[str, object]:
        found: dict[str, object] = {}
        while not isinstance(event := next(self._events), yaml.MappingEndEvent):
            if not isinstance(event, yaml.ScalarEvent):
                raise _Uncommon
            key = _scalar(event, flow)
            if not isinstance(key, str) or key in found or len(key) > self._longest:
                raise _Uncommon
            here = (*path, key)
            self.places[here] = _place(event)
            found[key] = self._value(next(self._events), here, flow)
        if "step" in found:
            self._steps -= 1
            if self._steps < 0:
                raise _Uncommon
        return found

    def _sequence(self, path: Path, flow: int) -> list[object]:
        found: list[object] = []
        while not isinstance(event := next(self._events), yaml.SequenceEndEvent):
            here = (*path, len(found))
            self.places[here] = _place(event)
            found.append(self._value(event, here, flow))
        return found


def _place(event: yaml.Event) -> tuple[int, int]:
    mark = event.start_mark
    return (mark.line + 1, mark.column + 1) if mark else (1, 1)


def _scalar(event: yaml.ScalarEvent, flow: int) -> str | int | float | bool | None:
    """A scalar by the core schema of YAML 1.2 (10.3.2). Raises `_Uncommon` for what only looks like a number, and for tags."""
    if event.tag is not None or event.anchor is not None:
        raise _Uncommon
    text: str = event.value
    if event.style:
        return text
    if text in ("<<", "=") or (flow and (":" in text or "?" in text)):
        raise _Uncommon
    if text in _WORDS:
        return _WORDS[text]
    if _INTEGER.fullmatch(text):
        return int(text)
    if _DECIMAL.fullmatch(text):
        return float(text)
    if _NUMBER_LIKE.fullmatch(text):
        raise _Uncommon
    return text
