"""Rows as CSV (RFC 4180): what a file holds, which columns it would make, and how its cells become values."""

import csv
import io
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from oak_relay.capabilities.given import Column, ColumnKind
from oak_relay.document import values
from oak_relay.document.errors import StepFailed

_MOST_COLUMNS, _LONGEST_CELL, _GUESSED = 200, 100_000, 200
_NUMBER = re.compile(r"-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d{1,3})?")
_TRUTH = {"true": True, "false": False}


@dataclass(frozen=True, slots=True)
class Sheet:
    """A file's heads and its rows of cells, each with the line it begins on, from 1."""

    heads: tuple[str, ...]
    rows: tuple[tuple[int, tuple[str, ...]], ...]


@dataclass(frozen=True, slots=True)
class Heading:
    """A column of a file, the column of a table that it means, that one's type, and its first cells."""

    head: str
    name: str
    type: ColumnKind
    seen: tuple[str, ...]


def read(text: str) -> Sheet:
    """A file's sheet; commas, semicolons or tabs stand between its cells. Raises `StepFailed` (`invalid`)."""
    text = text.removeprefix("\ufeff")
    first = text.partition("\n")[0]
    between = max(",;\t", key=first.count)
    csv.field_size_limit(_LONGEST_CELL)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=between, strict=True)
    found: list[tuple[int, tuple[str, ...]]] = []
    try:
        line = 1
        for cells in reader:
            if cells and any(cells):
                found.append((line, tuple(cells)))
            line = reader.line_num + 1
    except csv.Error as error:
        message = f"line {reader.line_num}: this is not CSV: {error}"
        raise StepFailed(
            "invalid", message, fix="quote cells that hold quotes, commas or line ends (RFC 4180)"
        ) from None
    if not found:
        raise StepFailed("invalid", "the file is empty", fix="its first line names the columns")
    heads = tuple(cell.strip() for cell in found[0][1])
    if len(heads) > _MOST_COLUMNS or "" in heads:
        raise StepFailed(
            "invalid",
            f"the first line names {len(heads)} columns" + (", one of them not at all" if "" in heads else ""),
            fix=f"name each of them, {_MOST_COLUMNS} at most",
        )
    for line, row in found[1:]:
        if len(row) > len(heads):
            raise StepFailed(
                "invalid", f"line {line} has {len(row)} cells, and there are {len(heads)} columns", fix="correct it"
            )
    return Sheet(heads, tuple(found[1:]))


def headings(sheet: Sheet, known: Iterable[Column], mapped: Mapping[str, str]) -> list[Heading]:
    """What each column of a sheet means: the column of a table that it is mapped to, or of its name; types are the table's,
    or guessed from the cells. A column that is mapped to nothing (an empty name) is left out."""
    types = {column.name: column.type for column in known}
    found = []
    for place, head in enumerate(sheet.heads):
        name = mapped[head] if head in mapped else (head if head in types else named(head))
        if not name:
            continue
        seen = [cells[place] for _, cells in sheet.rows[:_GUESSED] if place < len(cells) and cells[place]]
        found.append(Heading(head, name, types.get(name) or guessed(seen), tuple(seen[:3])))
    return found


def named(head: str) -> str:
    """A column's name made of a head."""
    name = re.sub(r"[^a-z0-9]+", "_", head.lower()).strip("_")[:60]
    return name if name[:1].isalpha() else f"c_{name}".rstrip("_")


def guessed(cells: Sequence[str]) -> ColumnKind:
    """The type that fits all cells: numbers that lose nothing, true and false, or texts."""
    if cells and all(_NUMBER.fullmatch(cell) for cell in cells):
        return "number"
    return "boolean" if cells and all(cell.lower() in _TRUTH for cell in cells) else "text"


def taken(value: object, kind: ColumnKind) -> object:
    """A value for a column: a text that is a number, or true or false, where the column wants one and nothing is lost."""
    if isinstance(value, str) and kind == "number" and _NUMBER.fullmatch(value):
        return values.loads(value)
    if isinstance(value, str) and kind == "boolean" and value.lower() in _TRUTH:
        return _TRUTH[value.lower()]
    return value


def rows(sheet: Sheet, columns: Sequence[Heading]) -> Iterator[tuple[int, dict[str, object]]]:
    """The rows of a sheet, each with its line; an empty cell is null where a number is wanted, and else an empty text."""
    places = {head: place for place, head in enumerate(sheet.heads)}
    for line, cells in sheet.rows:
        row: dict[str, object] = {}
        for one in columns:
            cell = cells[places[one.head]] if places[one.head] < len(cells) else ""
            row[one.name] = taken(cell, one.type) if cell or one.type == "text" else None
        yield line, row


def line(cells: Iterable[object]) -> str:
    """A row as a line of CSV; what is no text as JSON, null as nothing."""
    out = io.StringIO()
    csv.writer(out).writerow([values.text_of(cell) for cell in cells])
    return out.getvalue()
