"""Two readers of one language: the quick one gives what the thorough one gives, or nothing."""

import time
from importlib import resources

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from oak_relay.document import text as texts
from oak_relay.document.text import Source, Unreadable, read
from oak_relay.document.yaml_quick import quick

LIMITS = {"deepest": 60, "values": 25_000, "steps": 1_000, "longest_key": 500}


def thorough(text: str) -> Source:
    """What the reader says that is asked where the quick one gives nothing."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(texts, "quick", lambda *_, **__: None)
        return read(text)


WORDS = [
    "a",
    "b: ",
    "- ",
    "\n",
    "\n  ",
    "\n    ",
    " ",
    "#",
    "# c",
    "|",
    "|-",
    "|+",
    ">",
    ">-",
    "|2",
    "'",
    '"',
    "''",
    "\\n",
    "\\",
]
SIGNS = [
    "[",
    "]",
    "{",
    "}",
    ",",
    ":",
    "? ",
    "!",
    "&a",
    "*a",
    "~",
    "%",
    "@",
    "`",
    "<<",
    "<",
    "=",
    "...",
    "---",
    "- - ",
    "\t",
    "\r\n",
]
VALUES = [
    "null",
    "true",
    "yes",
    "12",
    "1.5",
    "-3",
    "0x1f",
    "007",
    "1_000",
    "1e3",
    "2024-01-01",
    "12:30",
    "é",
    "${ x }",
    "http://x/y",
]
BLOCKS = ["x: y", "k: |\n   text\n   more\n", "z: >\n  f\n  g\n\n  h\n"]
PIECES = st.lists(st.sampled_from(WORDS + SIGNS + VALUES + BLOCKS), max_size=25).map("".join)
HEADS = st.sampled_from(["", "oak: 1\n", "oak: 1\nsteps:\n  - step: a\n", "a:\n"])


@settings(max_examples=500, suppress_health_check=list(HealthCheck))
@given(HEADS, PIECES)
@example("a:\n", "|#")
@example("", "b: <<")
def test_what_the_quick_reader_takes_it_reads_as_the_thorough_one_does(head: str, pieces: str):
    found = quick(head + pieces, **LIMITS)
    if found is not None:
        slow = thorough(head + pieces)
        assert found == (slow.data, slow.places)


def test_the_examples_are_read_quickly_and_alike():
    for path in resources.files("oak_relay.service").joinpath("examples").iterdir():
        found = quick(path.read_text(), **LIMITS)
        slow = thorough(path.read_text())
        assert found == (slow.data, slow.places), path.name


@pytest.mark.parametrize(
    "text",
    [
        "a: &x 1\nb: *x",
        "a: !t 1",
        "a: 1\na: 2",
        "a: 2024-01-01",
        "a: 0x1f",
        "<<: {}",
        "\ta: 1",
        "a: [",
        "- a",
        "--- \na: 1\n---\nb: 2",
    ],
)
def test_what_is_not_common_is_left_to_the_thorough_one(text: str):
    assert quick(text, **LIMITS) is None


def test_too_much_is_left_to_the_one_that_says_where():
    assert quick("a: [1, 2]", **{**LIMITS, "values": 3}) is None
    assert quick("a: {b: {c: 1}}", **{**LIMITS, "deepest": 2}) is None
    assert quick("a:\n  - step: x\n  - step: y", **{**LIMITS, "steps": 1}) is None
    with pytest.raises(Unreadable, match="more than 1,000 steps"):
        read("oak: 1\nsteps:\n" + "  - step: x\n" * 1_001)


def test_a_long_document_is_read_many_times_quicker():
    text = "oak: 1\nsteps:\n" + "".join(
        f'  - step: s{n}\n    set:\n      value: "${{ input.n + {n} }}"\n' for n in range(200)
    )
    slow, fast = min(timed(thorough, text) for _ in range(2)), min(timed(read, text) for _ in range(3))
    assert read(text).data == thorough(text).data
    assert fast < slow / 4


def timed(reader, text: str) -> float:
    began = time.thread_time()
    reader(text)
    return time.thread_time() - began
