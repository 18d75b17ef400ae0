"""Canonical JSON: whatever goes in comes out."""

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.document import durations, values

texts = st.text(alphabet=st.characters(min_codepoint=0, max_codepoint=0x10FFFF, exclude_categories=()), max_size=20)
plain = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | texts,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(texts, inner, max_size=4),
    max_leaves=12,
)


@given(plain)
def test_values_survive_a_round_trip(value):
    assert values.loads(values.dumps(value)) == value


@given(st.dictionaries(st.text(max_size=5), st.integers(), max_size=8))
def test_order_of_keys_is_kept(value):
    assert list(values.loads(values.dumps(value))) == list(value)


@given(st.from_regex(r"-?[1-9][0-9]{0,40}\.[0-9]{1,40}", fullmatch=True))
def test_every_digit_of_a_number_is_kept(text):
    again = values.loads(values.dumps(values.loads(text)))
    assert (again if isinstance(again, Decimal) else Decimal(repr(again))) == Decimal(text)


@pytest.mark.parametrize(
    "text", ['"\\u0000"', '"\\ud800"', "123456789012345678901234567890", "1e400", '{"a":1.10}', '"\\ud83d\\ude00"']
)
def test_odd_json_is_kept(text):
    assert values.loads(values.dumps(values.loads(text))) == values.loads(text)


@pytest.mark.parametrize("text", ["NaN", "Infinity", "{", "", "[1,]", "1" * 5000, "[" * 5000, b"\xff", "'a'"])
def test_what_is_no_json_is_refused(text):
    with pytest.raises(values.NotJson):
        values.loads(text)


@given(st.from_regex(r"-?(0|[1-9][0-9]{0,12})(\.[0-9]{1,12})?[eE][-+]?[0-9]{1,4}", fullmatch=True))
def test_a_number_is_refused_or_can_be_read_again(text):
    try:
        value = values.loads(text)
    except values.NotJson:
        return
    again = values.dumps(value)
    assert values.loads(again) == value
    assert values.dumps(values.loads(again)) == again


@pytest.mark.parametrize("text", ["111e999", "0.01e-999", "0.00e-999", "99e1000", "1e1001", "1e-1001"])
def test_a_number_whose_own_writing_is_beyond_the_bounds_is_refused(text):
    with pytest.raises(values.NotJson):
        values.loads(text)


@given(texts)
def test_storable_text_holds_nothing_a_column_refuses(text):
    safe = values.storable_text(text)
    assert "\0" not in safe
    safe.encode()
    assert not values.unstorable({"a": [safe]})


@pytest.mark.parametrize(("text", "seconds"), [("500ms", 0.5), ("30s", 30), ("5m", 300), ("2h", 7200), ("3d", 259200), ("PT5M", 300), ("P1DT1H", 90000), ("P1W", 604800)])  # fmt: skip
def test_durations(text, seconds):
    assert durations.seconds(text) == seconds


@pytest.mark.parametrize("text", ["", "5", "5 m", "P", "PT", "-5m", "5y", "9999999d"])
def test_what_is_no_duration_is_refused(text):
    with pytest.raises(ValueError, match=r"duration|ten years"):
        durations.seconds(text)
