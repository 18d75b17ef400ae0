"""What the cells of a sheet mean: which columns it would make, and how cells become values."""

import csv
import io
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from oak_relay.capabilities.given import Column, ColumnKind
from oak_relay.document import values

_GUESSED = 200
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]{1,3})?")
_TRUTH = {"true": True, "false": False}


Rows = Sequence[tuple[int, Sequence[object]]]
"""Rows of cells, each with its line, from 1. Cells of CSV are texts; null is an empty one."""


@dataclass(frozen=True, slots=True)
class Heading:
    """A column of a file, the column of a table that it means, that one's type, and its first cells."""

    head: str
    name: str
    type: ColumnKind
    seen: tuple[str, ...]


def headings(heads: Sequence[str], first: Rows, known: Iterable[Column], mapped: Mapping[str, str]) -> list[Heading]:
    """What each column of a sheet means: the column of a table that it is mapped to, or of its name; types are the table's,
    or guessed from the cells of the first rows. A column that is mapped to nothing (an empty name) is left out."""
    types = {column.name: column.type for column in known}
    found = []
    for place, head in enumerate(heads):
        name = mapped[head] if head in mapped else (head if head in types else named(head))
        if not name:
            continue
        seen = [cells[place] for _, cells in first[:_GUESSED] if place < len(cells) and cells[place] not in ("", None)]
        found.append(Heading(head, name, types.get(name) or guessed(seen), tuple(map(values.text_of, seen[:3]))))
    return found


def named(head: str) -> str:
    """A column's name made of a head."""
    name = re.sub(r"[^a-z0-9]+", "_", head.lower()).strip("_")[:60]
    return name if name[:1].isalpha() else f"c_{name}".rstrip("_")


def guessed(cells: Sequence[object]) -> ColumnKind:
    """The type that fits all cells: numbers that lose nothing, true and false, texts, or any values."""
    texts = [cell for cell in cells if isinstance(cell, str)]
    if len(texts) == len(cells):
        if cells and all(_number(cell) is not None for cell in texts):
            return "number"
        return "boolean" if cells and all(cell.lower() in _TRUTH for cell in texts) else "text"
    return told(cells)


def _number(text: str) -> object:
    """The number that a text is, where it is one of JSON that is not too large to compute with."""
    try:
        return values.loads(text) if _NUMBER.fullmatch(text) else None
    except values.NotJson:
        return None


def told(cells: Sequence[object]) -> ColumnKind:
    """The type that cells have whose types are known."""
    if cells and all(isinstance(cell, str) for cell in cells):
        return "text"
    if not cells or any(isinstance(cell, str | list | dict) or cell is None for cell in cells):
        return "any"
    truths = sum(isinstance(cell, bool) for cell in cells)
    return "boolean" if truths == len(cells) else "any" if truths else "number"


def taken(value: object, kind: ColumnKind) -> object:
    """A value for a column: a text that is a number, or true or false, where the column wants one and nothing is lost."""
    if isinstance(value, str) and kind == "number":
        number = _number(value)
        return value if number is None else number
    if isinstance(value, str) and kind == "boolean" and value.lower() in _TRUTH:
        return _TRUTH[value.lower()]
    return value


def rows(heads: Sequence[str], given: Rows, columns: Sequence[Heading]) -> Iterator[tuple[int, dict[str, object]]]:
    """Rows of a sheet as rows of a table, each with its line; an empty cell is null where a number is wanted, and else an empty
    text; a number is a text where one is wanted."""
    places = {head: place for place, head in enumerate(heads)}
    for line, cells in given:
        row: dict[str, object] = {}
        for one in columns:
            cell = cells[places[one.head]] if places[one.head] < len(cells) else ""
            if cell in ("", None):
                row[one.name] = "" if one.type == "text" else None
            elif one.type == "text" and not isinstance(cell, str | list | dict):
                row[one.name] = values.text_of(cell)
            else:
                row[one.name] = taken(cell, one.type)
        yield line, row


def line(cells: Iterable[object]) -> str:
    """A row as a line of CSV; what is no text as JSON, null as nothing."""
    out = io.StringIO()
    csv.writer(out).writerow([values.text_of(cell) for cell in cells])
    return out.getvalue()
