"""The process in which a foreign sheet is read, and in which workbooks are made.

`read KIND SHEET MOST`: the file on standard input; said is a line of JSON for the heads, then lines of some rows each, then a last one.
`edit KIND SHEET`: a line of JSON with the changes, then the file; said is the file as it then is.
`make`: heads and rows as lines of JSON on standard input; said is the workbook.
"""

import io
import resource
import sys
from collections.abc import Iterator, Sequence
from typing import cast

from oak_relay.actions.sheets.formats import BadSheet, Kind, checked, edited, read, workbook
from oak_relay.jsontext import dumps, loads

MEMORY, SECONDS = 1_500_000_000, 240
_ROWS, _LETTERS = 2_000, 1_000_000
LARGEST = 200_000_000


def say(**what: object) -> None:
    """A line of JSON."""
    sys.stdout.buffer.write(dumps(what).encode("utf-8", "replace") + b"\n")
    sys.stdout.buffer.flush()


def told(kind: Kind, sheet: str, most: int) -> None:
    """Say what a file holds."""
    raw = sys.stdin.buffer.read(LARGEST)
    sheets, found = read(kind, io.BytesIO(raw), sheet)
    rows = checked(found, most)
    say(heads=next(rows)[1], sheets=sheets)
    some: list[tuple[int, Sequence[object]]] = []
    letters = count = 0
    for line, cells in rows:
        some.append((line, cells))
        letters += sum(len(cell) if isinstance(cell, str) else 20 for cell in cells)
        if len(some) >= _ROWS or letters >= _LETTERS:
            say(rows=some)
            count, some, letters = count + len(some), [], 0
    if some:
        say(rows=some)
    say(end=count + len(some))


def lines() -> Iterator[list[object]]:
    """What is given."""
    for line in sys.stdin.buffer:
        yield loads(line)


def main() -> None:
    """Do one of them within the limits."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    if sys.argv[1] == "make":
        given = lines()
        made = io.BytesIO()
        workbook([str(head) for head in next(given)], given, made)
        sys.stdout.buffer.write(made.getvalue())
        return
    try:
        if sys.argv[1] == "edit":
            edits = loads(sys.stdin.buffer.readline())
            raw = sys.stdin.buffer.read(LARGEST)
            sys.stdout.buffer.write(edited(cast(Kind, sys.argv[2]), raw, sys.argv[3], edits))
            return
        told(cast(Kind, sys.argv[2]), sys.argv[3], int(sys.argv[4]))
    except BadSheet as error:
        say(fault=str(error), fix=error.fix)
    except UnicodeDecodeError as error:
        say(fault=f"the file is not UTF-8: byte {error.start}", fix="save it as UTF-8")
    except (MemoryError, RecursionError):
        say(fault="the file takes too much to read", fix="send it in parts")


main()
