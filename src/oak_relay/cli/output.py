"""How results are shown: readable tables and trees, or JSON."""

import os
import re
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any, Literal

from pydantic import BaseModel
from rich.cells import cell_len
from rich.console import Console
from rich.highlighter import JSONHighlighter
from rich.markup import escape
from rich.table import Table
from rich.text import Text

from oak_relay import jsontext
from oak_relay.client.results import Page

SIGNS = {
    "succeeded": ("✓", "green"), "failed": ("✗", "red"), "running": ("▸", "blue"), "waiting": ("◷", "yellow"),
    "queued": ("·", "yellow"), "cancelled": ("⊘", "dim"), "skipped": ("–", "dim"), "lost": ("?", "yellow"),
    "set aside": ("!", "red"),
}  # fmt: skip
_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")
"""Control characters (ECMA-48), and those that turn the direction of writing (UAX 9)."""
OUT = Console(highlight=False, soft_wrap=True)
ERR = Console(stderr=True, highlight=False)


def as_json(value: object) -> str:
    """JSON of results."""
    return _CONTROL.sub(lambda found: f"\\u{ord(found[0]):04x}", jsontext.pretty(_as_data(value)))


def as_line(value: object) -> str:
    """JSON of results in one line."""
    return _CONTROL.sub(lambda found: f"\\u{ord(found[0]):04x}", jsontext.dumps(_as_data(value)))


def show(value: object, wanted: bool) -> bool:
    """Print JSON if it is wanted; whether it was."""
    if wanted:
        sys.stdout.write(as_json(value) + "\n")
    return wanted


def show_page(page: Page[Any], wanted: bool) -> bool:
    """Print a page of a list as JSON if it is wanted, as the API tells it; whether it was."""
    return show({"items": list(page), "next": page.next}, wanted)


def more(page: Page[Any]) -> None:
    """Say how a list goes on."""
    if page.next is not None:
        OUT.print(f"more: --after {page.next}", style="dim")


def plainly(text: str) -> None:
    """Print a text as it is; to a terminal without what would control it."""
    sys.stdout.write(
        "\n".join(shown(line.removesuffix("\r")) for line in text.split("\n")) if sys.stdout.isatty() else text
    )


def print_json(value: object) -> None:
    """Print a value as JSON, in colour where there is any."""
    OUT.print(JSONHighlighter()(Text(shown(jsontext.pretty(value)))))


def escaped(text: str) -> str:
    """Text of others for a terminal: nothing in it is taken for markup, or for a control sequence (ECMA-48)."""
    return escape(shown(text))


def shown(text: str) -> str:
    """Text of others for a terminal, where markup is not looked for."""
    return _CONTROL.sub("\N{REPLACEMENT CHARACTER}", text)


def table(heads: Sequence[str], rows: Sequence[Sequence[object]], empty: str) -> None:
    """Print rows under heads; heads that begin with `>` are set to the right, and with `?` left out where there is no room. A
    cell of `Text` is shown with its styles, anything else as escaped text. Words stay whole: where columns cannot stand
    beside each other, each row is told line by line. What is piped has a line for each row."""
    if not rows:
        OUT.print(empty, style="dim")
        return
    cells = [[cell if isinstance(cell, Text) else Text(shown(str(cell))) for cell in row] for row in rows]
    columns = [_Column.of(head, [row[n] for row in cells]) for n, head in enumerate(heads)]
    whole = sum(column.whole + _GAP for column in columns)
    width = OUT.width if OUT.is_terminal or "COLUMNS" in os.environ else whole
    kept = list(range(len(columns)))
    while _narrowest(columns, kept, _AT_EASE) > width and any(columns[n].spare for n in kept):
        kept.remove(next(n for n in reversed(kept) if columns[n].spare))
    if _narrowest(columns, kept) > width and len(kept) > 1:
        _one_by_one(columns, cells)
        return
    grid = Table(box=None, pad_edge=False, header_style="bold", show_edge=False)
    room = width - _narrowest(columns, kept)
    given = {}
    for n in sorted(kept, key=lambda n: columns[n].whole - columns[n].least):  # those that want little get it first
        more = max(0, min(columns[n].whole - columns[n].least, room))
        given[n], room = columns[n].least + more, room - more
    for n in kept:
        justify: Literal["right", "left"] = "right" if columns[n].right else "left"
        grid.add_column(Text(columns[n].name), justify=justify, overflow="fold", width=given[n])
    for row in cells:
        grid.add_row(*(row[n] for n in kept))
    (OUT if width <= OUT.width else Console(highlight=False, width=width)).print(grid, crop=False)


_GAP, _AT_EASE = 2, 20


@dataclass(frozen=True, slots=True)
class _Column:
    """How a column is called, the cells that its longest word and its longest text take, and whether it may be left out."""

    name: str
    least: int
    whole: int
    right: bool
    spare: bool

    @classmethod
    def of(cls, head: str, cells: Sequence[Text]) -> "_Column":
        name = shown(head.lstrip("?>"))
        texts = [name, *(line for cell in cells for line in cell.plain.split("\n"))]
        least = max(cell_len(word) for text in texts for word in text.split() or [""])
        return cls(name, least, max(map(cell_len, texts)), ">" in head[:2], head.startswith("?"))


def _narrowest(columns: Sequence[_Column], kept: Sequence[int], ease: int = 0) -> int:
    """Cells that these take beside each other with their words whole, and with `ease` cells for what has more."""
    return sum(max(columns[n].least, min(columns[n].whole, ease)) for n in kept) + _GAP * (len(kept) - 1)


def _one_by_one(columns: Sequence[_Column], cells: Sequence[Sequence[Text]]) -> None:
    """Rows told line by line, each cell behind its head."""
    for number, row in enumerate(cells):
        if number:
            OUT.print()
        for column, cell in zip(columns, row, strict=True):
            OUT.print(Text(f"{column.name}  ", style="dim").append_text(cell))


def marked(text: str) -> Text:
    """A cell of a table that has markup."""
    return Text.from_markup(text)


def state(name: str) -> str:
    """A state as sign and word."""
    sign, style = SIGNS.get(name, ("", ""))
    return f"[{style}]{sign} {name}[/]" if style else name


def duration(seconds: float | None) -> str:
    """`320 ms`, `4.2 s`, `3 min 10 s`, `2 h 5 min`."""
    if seconds is None:
        return "–"
    if seconds < 1:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 60:
        return f"{seconds:.1f} s"
    minutes, rest = divmod(int(seconds), 60)
    return f"{minutes} min {rest} s" if minutes < 60 else f"{minutes // 60} h {minutes % 60} min"


def money(amount: float | None, unpriced: int = 0) -> str:
    """Money with as many places as it needs; `unpriced` calls of models whose price is not known are said too."""
    if unpriced:
        return f"{money(amount)} + {unpriced} unknown" if amount else "unknown"
    if not amount:
        return "–" if amount is None else "0"
    if amount >= 1:
        return f"{amount:.2f}"
    return f"{amount:.4f}" if amount >= 0.0001 else f"{amount:.7f}"


def counted(count: int, what: str) -> str:
    """`1 step`, `3 steps`."""
    return f"{count} {what}" if count == 1 else f"{count} {what}s"


def moment(at: datetime | None) -> str:
    """A moment in the local zone, which is named; of today the time alone."""
    if at is None:
        return "–"
    here = at.astimezone()
    today = here.date() == datetime.now(here.tzinfo).date()
    return here.strftime("%H:%M:%S %Z" if today else "%d %b %H:%M %Z")


@contextmanager
def working(text: str) -> Iterator[None]:
    """A sign of life on standard error while something takes long."""
    if not ERR.is_terminal:
        yield
        return
    with ERR.status(text):
        yield


def _as_data(value: object) -> object:
    if isinstance(value, BaseModel):
        return _as_data(value.model_dump())
    if isinstance(value, dict):
        return {str(k): _as_data(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_as_data(item) for item in value]
    return value if value is None or isinstance(value, bool | int | float | Decimal | str) else _word(value)


def _word(value: object) -> str:
    return value.isoformat() if hasattr(value, "isoformat") else str(value)
