"""Sheets as files: CSV (RFC 4180), JSON Lines, and workbooks (Office Open XML, ECMA-376). What stands in them is read row by row; this
is carried out in a process of its own (`__main__`), since what it reads is foreign."""

import csv
import io
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from itertools import islice
from typing import Any, BinaryIO, Literal, get_args

from oak_relay.jsontext import NotJson, dumps, loads

Kind = Literal["csv", "jsonl", "xlsx"]
KINDS: tuple[str, ...] = get_args(Kind)
MOST_COLUMNS, LONGEST_CELL, MOST_ROWS = 200, 100_000, 200_000
_HEADS = 1_000
"""Lines of JSON whose keys make the heads."""
_SHEET_CELL = 32_767
"""Letters that a cell of a workbook holds (ECMA-376)."""
Read = Iterator[tuple[int, Sequence[object]]]


class BadSheet(Exception):
    """What is wrong with a sheet, and what to do."""

    def __init__(self, message: str, fix: str) -> None:
        super().__init__(message)
        self.fix = fix


def csv_rows(source: io.TextIOBase) -> Read:
    """The rows of CSV, each with the line it begins on, the heads first; commas, semicolons or tabs stand between its cells.
    Raises `BadSheet`."""
    first = source.readline(LONGEST_CELL * 2).removeprefix("\ufeff")
    between = max(",;\t", key=first.count)
    csv.field_size_limit(LONGEST_CELL)
    reader = csv.reader(_again(first, source), delimiter=between, strict=True)
    line = 1
    try:
        for cells in reader:
            if cells and any(cells):
                yield line, cells
            line = reader.line_num + 1
    except csv.Error as error:
        raise BadSheet(
            f"line {reader.line_num}: this is not CSV: {error}",
            "quote cells that hold quotes, commas or line ends (RFC 4180)",
        ) from None


def _again(first: str, source: io.TextIOBase) -> Iterator[str]:
    if first:
        yield first
    yield from source


def json_rows(source: BinaryIO) -> Read:
    """The rows of JSON Lines, a mapping on each; the keys of the first lines are the heads. Raises `BadSheet`."""
    lines = ((number, line) for number, line in enumerate(source, 1) if line.strip())
    first = [(number, _mapping(number, line)) for number, line in islice(lines, _HEADS)]
    heads = list(dict.fromkeys(key for _, row in first for key in row))
    if heads:
        yield 1, heads
    known = set(heads)
    for number, row in first:
        yield number, [row.get(head) for head in heads]
    for number, line in lines:
        row = _mapping(number, line)
        if not row.keys() <= known:
            raise BadSheet(
                f"line {number} has {sorted(row.keys() - known)[0]}, which none of the first {_HEADS:,} lines has",
                "let one of the first lines have it, as null",
            )
        yield number, [row.get(head) for head in heads]


def _mapping(number: int, line: bytes) -> Mapping[str, object]:
    try:
        row = loads(line)
    except NotJson as error:
        raise BadSheet(f"line {number}: this is not JSON: {error}", "write one mapping a line (JSON Lines)") from None
    if not isinstance(row, dict):
        raise BadSheet(f"line {number} is no mapping", 'write one mapping a line, as {"hut": "Glasswater"}')
    return row


def workbook_rows(source: BinaryIO, sheet: str) -> tuple[list[str], Read]:
    """The names of a workbook's sheets, and the rows of one of them, the first when none is named. Raises `BadSheet`."""
    from python_calamine import CalamineWorkbook

    try:
        book = CalamineWorkbook.from_filelike(source)
        names = list(book.sheet_names)
        if sheet and sheet not in names:
            raise BadSheet(f"the workbook has no sheet {sheet}", f"name one of {', '.join(names[:20])}")
        if not names:
            raise BadSheet("the workbook has no sheet", "add one")
        return names, _cells(book.get_sheet_by_name(sheet or names[0]))
    except BadSheet:
        raise
    except Exception as error:
        raise _broken(error) from None


def _broken(error: Exception) -> BadSheet:
    return BadSheet(
        f"this is no workbook that can be read: {str(error)[:200] or type(error).__name__}", "save it as .xlsx"
    )


def _cells(sheet: Any) -> Read:
    try:
        for number, row in enumerate(sheet.iter_rows(), 1):
            cells = [_plain(cell) for cell in row[: MOST_COLUMNS + 1]]
            while cells and cells[-1] is None:
                cells.pop()
            if cells:
                yield number, cells
    except Exception as error:
        raise _broken(error) from None


def _plain(value: object) -> object:
    """A cell's value as JSON has it: days and times as RFC 3339 writes them, whole numbers without a fraction."""
    if isinstance(value, datetime):
        whole = value.time() == time() and value.tzinfo is None
        return value.date().isoformat() if whole else value.isoformat()
    if isinstance(value, date | time):
        return value.isoformat()
    if isinstance(value, timedelta):
        return value.total_seconds()
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return int(value)
    if value == "":
        return None
    return value if isinstance(value, bool | int | float | str) else str(value)


def read(kind: Kind, source: BinaryIO, sheet: str = "") -> tuple[list[str], Read]:
    """The names of the sheets in a file, and the rows of one, the heads first. Raises `BadSheet`, also while they are read."""
    if kind == "xlsx":
        return workbook_rows(source, sheet)
    if kind == "jsonl":
        return [], json_rows(source)
    return [], csv_rows(io.TextIOWrapper(source, encoding="utf-8-sig", newline=""))


def checked(rows: Read, most: int = MOST_ROWS) -> Iterator[tuple[int, Sequence[object]]]:
    """Heads and rows within their bounds: the heads are texts, and no row is wider. Raises `BadSheet`."""
    begun = next(rows, None)
    if begun is None:
        raise BadSheet("the file is empty", "its first line names the columns")
    heads = [cell.strip() if isinstance(cell, str) else "" if cell is None else str(cell) for cell in begun[1]]
    if len(heads) > MOST_COLUMNS or "" in heads:
        lacking = ", one of them not at all" if "" in heads else ""
        raise BadSheet(
            f"the first line names {len(heads)} columns{lacking}", f"name each of them, {MOST_COLUMNS} at most"
        )
    yield begun[0], heads
    for number, (line, cells) in enumerate(rows, 1):
        if number > most:
            raise BadSheet(f"the file has more than {most:,} rows", f"send it in parts of {most:,} at most")
        if len(cells) > len(heads):
            raise BadSheet(f"line {line} has {len(cells)} cells, and there are {len(heads)} columns", "correct it")
        if any(isinstance(cell, str) and len(cell) > LONGEST_CELL for cell in cells):
            raise BadSheet(f"line {line} has a cell of more than {LONGEST_CELL:,} letters", "shorten it")
        yield line, cells


Edit = Mapping[str, Any]
"""A change of a sheet: `set` (a line from 1) or `add` to cells by the place of their column, from 0; `drop` a line."""


def edited(kind: Kind, data: bytes, sheet: str, edits: Sequence[Edit]) -> bytes:
    """A file with some changes of one of its sheets; all else in it stays. Raises `BadSheet`."""
    if kind == "xlsx":
        return _workbook_edited(data, sheet, edits)
    text = data.decode("utf-8-sig")
    mark = "\ufeff" if data.startswith(b"\xef\xbb\xbf") else ""
    first = text.partition("\n")[0]
    between = max(",;\t", key=first.count)
    end = "\r\n" if first.endswith("\r") else "\n"
    rows = list(csv_rows(io.StringIO(text, newline="")))
    wide = len(rows[0][1]) if rows else 0
    lines: dict[int, list[object]] = {line: list(cells) for line, cells in rows}
    added: list[list[object]] = []
    for edit in edits:
        if "drop" in edit:
            lines.pop(edit["drop"], None)
            continue
        cells = lines[edit["set"]] if "set" in edit else []
        cells += [""] * (wide - len(cells))
        for place, value in edit["cells"]:
            cells[place] = "" if value is None else value if isinstance(value, str) else dumps(value)
        if "set" not in edit:
            added.append(cells)
    out = io.StringIO()
    csv.writer(out, delimiter=between, lineterminator=end).writerows([*lines.values(), *added])
    return (mark + out.getvalue()).encode()


def _workbook_edited(data: bytes, sheet: str, edits: Sequence[Edit]) -> bytes:
    from openpyxl import load_workbook
    from python_calamine import CalamineWorkbook

    try:
        read_as = CalamineWorkbook.from_filelike(io.BytesIO(data))
        begins = read_as.get_sheet_by_name(sheet or read_as.sheet_names[0]).start
        left = begins[1] if begins else 0  # what was read begins at the first column that is used
        book = load_workbook(io.BytesIO(data))
        page = book[sheet] if sheet else book.worksheets[0]
        behind = page.max_row
        for edit in (one for one in edits if "drop" not in one):
            line = edit.get("set", 0)
            if not line:
                behind = line = behind + 1
            for place, value in edit["cells"]:
                cell = page.cell(line, left + place + 1)
                cell.value = value if value is None or isinstance(value, bool | int | float | Decimal) else ""
                if isinstance(value, str | list | dict):
                    cell.value = value if isinstance(value, str) else dumps(value)
                    cell.data_type = "s"
        # From below, so that lines stay where they are.
        for line in sorted((edit["drop"] for edit in edits if "drop" in edit), reverse=True):
            page.delete_rows(line)
        out = io.BytesIO()
        book.save(out)
    except Exception as error:
        raise _broken(error) from None
    return out.getvalue()


def workbook(heads: Sequence[str], rows: Iterable[Sequence[object]], into: BinaryIO) -> None:
    """Write a workbook of one sheet. A text stays a text, whatever it begins with. Raises `BadSheet`."""
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE

    book = Workbook(write_only=True)
    sheet = book.create_sheet("rows")

    def cell(value: object) -> object:
        if value is None or isinstance(value, bool | int | float | Decimal):
            return value
        text = ILLEGAL_CHARACTERS_RE.sub("\ufffd", value if isinstance(value, str) else dumps(value))
        if len(text) > _SHEET_CELL:
            raise BadSheet(f"a cell has more than {_SHEET_CELL:,} letters, which no workbook holds", "take CSV")
        made = WriteOnlyCell(sheet, value="")
        made.value, made.data_type = text, "s"
        return made

    sheet.append([cell(head) for head in heads])
    for row in rows:
        sheet.append([cell(value) for value in row])
    book.save(into)
