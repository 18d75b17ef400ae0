"""Tables in terminals of any width: words stay whole, nothing is wider than the terminal, and nothing is lost."""

import io

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rich.console import Console

from oak_relay.cli import output
from oak_relay.cli.output import marked, state, table

RUNS = [
    ("26972882018d", marked(state("failed")), "tell-the-branch", "Ada Fenn of Upper Tarn", "222 ms", 1, 20400),
    ("36972882018d", marked(state("succeeded")), "hello", "–", "1 h 5 min", 1, 0),
]
HEADS = ("run", "state", "workflow", "about", ">took", "?>steps", "?>tokens")


def printed(width: int | None, heads, rows) -> str:
    file = io.StringIO()
    console = Console(
        file=file, width=width or 80, highlight=False, force_terminal=width is not None, color_system=None
    )
    before, output.OUT = output.OUT, console
    try:
        table(heads, rows, "nothing")
    finally:
        output.OUT = before
    return file.getvalue()


@pytest.mark.parametrize("width", [200, 100, 80, 60, 40, 25])
def test_words_stay_whole(width: int, monkeypatch):
    monkeypatch.delenv("COLUMNS", raising=False)
    said = printed(width, HEADS, RUNS)
    assert max(map(len, said.splitlines())) <= max(width, 27)
    for word in ("26972882018d", "failed", "succeeded", "tell-the-branch", "Ada", "Tarn", "min"):
        assert word in said
    assert ("20400" in said) == (width >= 100 or width < 60), (
        "left out where there is no room, told line by line where there is none at all"
    )


def test_what_is_piped_has_a_line_for_each_row(monkeypatch, capsys):
    monkeypatch.delenv("COLUMNS", raising=False)
    monkeypatch.setattr(output, "OUT", Console(highlight=False))
    table(HEADS, RUNS, "nothing")
    lines = capsys.readouterr().out.splitlines()
    assert len(lines) == 3
    assert "Ada Fenn of Upper Tarn" in lines[1]


@given(
    st.lists(st.tuples(st.text(max_size=30), st.text(max_size=30), st.integers()), min_size=1, max_size=4),
    st.integers(10, 120),
)
@settings(max_examples=150)
def test_whatever_rows_hold_they_are_shown(rows, width: int):
    said = printed(width, ("one", "?two", "?>three"), rows)
    assert "\x1b" not in said and "\x07" not in said
    assert said.strip()
