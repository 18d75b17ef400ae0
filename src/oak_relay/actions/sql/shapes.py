"""What is told of tables: plainly, and for a prompt, those of the same shape as one."""

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

_ALIKE = 3
"""Tables of one shape that are told as one."""
_NAMES = 60
_TEXT = 30_000


@dataclass(frozen=True, slots=True)
class ColumnTold:
    """A column: its type as the database writes it, whether it may be empty, whether it is part of the key."""

    name: str
    type: str
    empty: bool = True
    key: bool = False
    about: str = ""


@dataclass(frozen=True, slots=True)
class TableTold:
    """A table or view; `rows` as far as the database has counted them."""

    schema: str
    name: str
    rows: int
    view: bool = False
    about: str = ""
    columns: list[ColumnTold] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Folded:
    """Tables of one shape; `pattern` is what their names have in common."""

    pattern: str
    tables: Sequence[TableTold]


def folded(tables: Iterable[TableTold]) -> list[Folded]:
    """Tables of the same shape together, whose names are alike but for a part of them."""
    alike: dict[object, list[TableTold]] = defaultdict(list)
    for table in tables:
        shape = tuple((one.name, one.type) for one in table.columns)
        alike[table.schema, table.view, _stem(table.name), shape].append(table)
    found = []
    for some in alike.values():
        if len(some) >= _ALIKE:
            found.append(Folded(_pattern([one.name for one in some]), some))
        else:
            found += [Folded(one.name, [one]) for one in some]
    return sorted(found, key=lambda one: (one.tables[0].schema, one.pattern))


def _stem(name: str) -> str:
    """What a name begins with: its first word."""
    return re.split(r"[_\-. \d]", name, maxsplit=1)[0]


def _pattern(names: list[str]) -> str:
    front = _common(names)
    back = _common([name[len(front) :][::-1] for name in names])[::-1]
    return f"{front}*{back}"


def _common(names: list[str]) -> str:
    """What all begin with."""
    first, last = min(names), max(names)
    same = next((n for n, (a, b) in enumerate(zip(first, last, strict=False)) if a != b), min(len(first), len(last)))
    return first[:same]


def text(tables: Iterable[TableTold], schemas: Sequence[str]) -> str:
    """What there is, for a prompt."""
    told = "\n\n".join(part for one in folded(tables) for part in _told(one, schemas))
    return told if len(told) <= _TEXT else told[:_TEXT].rsplit("\n", 1)[0] + "\n… (there is more)"


def _told(one: Folded, schemas: Sequence[str]) -> Iterator[str]:
    first = one.tables[0]
    where = "" if first.schema == schemas[0] else f"{first.schema}."
    rows = sum(table.rows for table in one.tables)
    kind = "view" if first.view else "table"
    lines = [f"{kind} {where}{one.pattern}" + (f", about {rows:,} rows" if rows else "")]
    if len(one.tables) > 1:
        names = [f"{where}{table.name}" for table in one.tables]
        more = f" and {len(names) - _NAMES} more" if len(names) > _NAMES else ""
        lines = [
            f"{len(names)} tables of one shape, {where}{one.pattern}"
            + (f", about {rows:,} rows together" if rows else "")
        ]
        lines.append(f"  their names: {', '.join(names[:_NAMES])}{more}")
    if first.about:
        lines.append(f"  {first.about[:300]}")
    for column in first.columns:
        marks = [*(["key"] if column.key else []), *([] if column.empty or column.key else ["never empty"])]
        said = f"  {column.name} {column.type}" + (f" ({', '.join(marks)})" if marks else "")
        lines.append(said + (f": {column.about[:200]}" if column.about else ""))
    yield "\n".join(lines)
