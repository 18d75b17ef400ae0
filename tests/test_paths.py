"""Paths of entries, and the order in which an effect may be recorded."""

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.engine.entries import Entry
from oak_relay.engine.opened import Opened
from oak_relay.engine.outcomes import Diverged, read_attempts
from oak_relay.engine.paths import EntryPath, is_below, scope_of, told_of, turn_at, turn_of

NAME = st.from_regex(r"[a-z][a-z0-9_]{0,5}", fullmatch=True)
NUMBER = st.integers(0, 999)
INSIDE = st.one_of(
    NUMBER.map(lambda n: f"[{n}]."), NUMBER.map(lambda n: f"[{n}:{n + 100}][{n + 1}]."), st.just("!."), st.just(".")
)
STEPS = st.builds(
    lambda first, more: first + "".join(f"{joint}{name}" for joint, name in more),
    NAME,
    st.lists(st.tuples(INSIDE, NAME), max_size=4),
)
PLACES = st.one_of(
    STEPS,
    st.builds(lambda step, number: f"{step}[{number}]", STEPS, NUMBER),
    st.builds(turn_of, STEPS, NUMBER),
    st.builds(lambda step, turn, tool, call: f"{turn_of(step, turn)}/{tool}[{call}]", STEPS, NUMBER, NAME, NUMBER),
    STEPS.map(lambda step: f"{step}/open"),
)
MARKS = st.sampled_from(["", "end", "once", "unknown1#end", "approval#end"])


@given(PLACES, MARKS, st.integers(1, 5))
def test_a_path_is_read_as_it_was_written(place: str, mark: str, attempt: int):
    text = place + (f"~{attempt}" if attempt > 1 else "") + (f"#{mark}" if mark else "")
    assert EntryPath.parse(text) == EntryPath(place, mark, attempt)
    assert is_below(text, place)


@given(PLACES)
def test_a_place_lies_in_its_parent_and_in_all_that_is_around_it(place: str):
    path = EntryPath(place)
    assert is_below(place, path.parent)
    assert path.parent != place
    assert all(is_below(place, outer) and outer != place for outer in path.around())
    assert is_below(place, scope_of(place))
    seen = place
    while seen:  # whoever goes up comes to the top
        above = EntryPath(seen).parent
        assert len(above) < len(seen)
        seen = above


@given(STEPS, NUMBER, NAME)
def test_what_stands_at_a_place_of_an_agent(step: str, number: int, tool: str):
    turn = turn_of(step, number)
    assert (EntryPath(turn).kind, EntryPath(turn).parent, turn_at(turn)) == ("turn", step, (step, number))
    call = EntryPath(f"{turn}/{tool}[0]")
    assert (call.kind, call.parent, call.name) == ("call", turn, tool)
    assert EntryPath(f"{call.place}.or1").parent == call.place
    assert EntryPath(f"{step}/open").kind == "open"
    assert turn_at(step) is None
    assert turn_at(f"{turn}/{tool}[0]") is None


def test_the_last_mark_is_told_of_what_stands_before_it():
    assert told_of("pay#unknown1#end") == ("pay#unknown1", "end")
    assert EntryPath.parse("pay#unknown1#end").mark == "unknown1#end"


@given(st.lists(st.sampled_from(["a", "b[0].c", "b[0].d", "b[1].c"]), unique=True), st.sampled_from(["b", "b[0]", "a"]))
def test_what_is_taken_back_is_not_open_any_more(asked: list[str], place: str):
    opened = Opened()
    for path in asked:
        opened.take(Entry(path, "opened", 1, "h", {"money": 0.5}))
    opened.take(Entry(f"{place}#withdrawn", "value", body={}))
    assert set(opened.entries) == {path for path in asked if not is_below(path, place)}
    assert not opened.under(place)
    assert set(opened.allotted) == set(asked)  # what they spent is not known yet
    for path in asked:
        opened.take(Entry(f"{path}#spent", "value", body={}))
    assert not opened.allotted


AT = datetime(2031, 4, 5, tzinfo=UTC).isoformat()
FAULT = {"kind": "busy", "message": "later"}
BODIES = {
    "began": ("began", None),
    "ended": ("ended", {"output": 1}),
    "failed": ("ended", {"error": FAULT}),
    "again": ("ended", {"error": FAULT, "again_at": AT}),
    "unknown": ("ended", {"error": FAULT, "unknown": True}),
    "lost": ("lost", {"note": "lost"}),
}
LEGAL = {
    "": {"began", "ended", "failed", "again", "unknown"},
    "began": {"ended", "failed", "again", "unknown", "lost"},
    "again": {"began", "ended", "failed", "again", "unknown"},
    "unknown": {"began", "ended", "failed", "again", "unknown"},
    "lost": {"began", "ended", "failed", "again", "unknown"},
    "ended": set(),
    "failed": set(),
}


@given(st.lists(st.sampled_from(sorted(BODIES)), max_size=8))
def test_an_effect_is_recorded_in_a_legal_order_or_the_run_says_so(kinds: list[str]):
    entries = [Entry("a", BODIES[kind][0], number, "h", BODIES[kind][1]) for number, kind in enumerate(kinds, 1)]
    before, legal = "", True
    for kind in kinds:
        legal = legal and kind in LEGAL[before]
        before = kind
    if not legal:
        with pytest.raises(Diverged, match="where the effect is"):
            read_attempts(entries, "a", "h")
        return
    attempts = read_attempts(entries, "a", "h")
    assert attempts.over == (before in ("ended", "failed"))
    assert (attempts.open is not None) == (before == "began")
    assert (attempts.unsure is not None) == (before in ("lost", "unknown"))


def test_an_effect_of_another_input_diverges():
    with pytest.raises(Diverged, match="another input"):
        read_attempts([Entry("a", "began", 1, "other")], "a", "h")
