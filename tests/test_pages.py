"""Pages of entries: what goes in comes back, in its order, and none grows too large."""

from itertools import groupby
from typing import Any
from uuid import UUID

from hypothesis import given
from hypothesis import strategies as st

from oak_relay.document import values
from oak_relay.runtime.hints import Hints
from oak_relay.store import arrays, artifacts, journal, pages
from oak_relay.store.pages import COLUMNS, EntryRow, columns, divide, entries_of
from tests.test_store import connection, database, page  # noqa: F401

RUN = UUID(int=7)
SCOPES = st.sampled_from(["", "list[0]", "list[1]", "found/turn[0]"])
TEXTS = st.text(max_size=20) | st.sampled_from(["\x00", "\ud800", '"', "\\", "❄"])
ROWS = st.lists(st.tuples(SCOPES, TEXTS, st.none() | TEXTS), min_size=1, max_size=30)


def rows_of(given_: list[tuple[str, str, str | None]]) -> list[EntryRow]:
    return [
        EntryRow(RUN, f"p{n}", "value", 1, "abc", values.dumps(text), None if more is None else values.dumps({"input": more}),
                 scope=scope, steps=1)
        for n, (scope, text, more) in enumerate(given_)
    ]  # fmt: skip


def read(made: list[pages.Page]) -> list[dict[str, Any]]:
    given_ = columns(made, artifacts.Pile())
    return [{**dict(zip(COLUMNS, row, strict=True)), "worker_id": None} for row in zip(*given_, strict=True)]


@given(ROWS, st.integers(0, 5))
def test_entries_come_back_as_they_went_in_scope_by_scope(given_: list[tuple[str, str, str | None]], first: int):
    rows = rows_of(given_)
    made = divide(RUN, first, 3, rows)
    assert [one.number for one in made] == list(range(first, first + len(made)))
    back = [entry for row in read(made) for entry in entries_of(row)]
    assert [entry.seq for entry in back] == sorted({entry.seq for entry in back})
    wanted = sorted(rows, key=lambda row: [one.scope for one in made].index(row.scope))
    assert [(e.path, e.scope, e.body, e.detail) for e in back] == [
        (row.path, row.scope, values.loads(row.body), None if row.detail is None else values.loads(row.detail))
        for row in wanted
    ]
    assert sum(row["steps"] for row in read(made)) == sum(row["outcomes"] for row in read(made)) == len(rows)


def test_a_page_has_a_bound_in_entries_and_in_length(monkeypatch):
    monkeypatch.setattr(pages, "MOST", 3)
    monkeypatch.setattr(pages, "LONGEST", 50)
    many = divide(RUN, 0, 1, rows_of([("", "x", None)] * 8))
    assert [len(one.entries) for one in many] == [3, 3, 2]
    long = divide(RUN, 0, 1, rows_of([("", "x" * 60, None), ("", "y", None), ("a[0]", "z", None)]))
    assert [(one.scope, len(one.entries)) for one in long] == [("", 1), ("", 1), ("a[0]", 1)]


def test_a_page_says_which_scopes_its_entries_close():
    closing = [EntryRow(RUN, f"list[{n}]#end", "closed", 0, "", "1") for n in range(3)]
    [row] = read(divide(RUN, 0, 1, closing))
    assert row["closes"] == "list[0] list[1] list[2]"


async def test_the_view_shows_what_sql_cannot_hold(database, connection):  # noqa: F811
    """One text with U+0000 does not keep the others from being looked at."""
    odd = page(UUID(int=1), body=values.dumps({"a": "\x00", "b": "\ud800", "c": "❄"}), detail='{"input":"\\u0000"}')
    given_ = columns([odd, page(UUID(int=2))], artifacts.Pile())
    await connection.execute(journal.SEED, 1, *arrays.given(COLUMNS, given_))
    found = await connection.fetch("SELECT path, kind, body, detail FROM entry ORDER BY run_id")
    assert [row["kind"] for row in found] == ["value", "value"]
    assert values.loads(found[0]["body"]) == {"a": "\ufffd", "b": "\ufffd", "c": "❄"}


def test_runs_that_change_are_told_of_only_while_somebody_watches():
    hints = Hints(None)  # type: ignore[arg-type]
    hints.changed(RUN)
    assert not hints._topics
    hints._receive(None, 0, "", "watching")
    hints.changed(RUN)
    assert list(hints._topics) == [f"run:{RUN}"]


def test_scopes_of_neighbours_are_not_mixed():
    made = divide(RUN, 0, 1, rows_of([("list[0]", "a", None), ("list[1]", "b", None), ("list[0]", "c", None)]))
    assert [[entry.path for entry in one.entries] for one in made] == [["p0", "p2"], ["p1"]]
    assert [scope for scope, _ in groupby(made, key=lambda one: one.scope)] == ["list[0]", "list[1]"]
