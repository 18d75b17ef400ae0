"""Expressions: typed, guarded, clear about what is missing."""

from dataclasses import replace
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import BadExpression, Template, compile_text

SCOPE = {
    "input": {"guest": {"email": "ada@guests.example"}, "items": 3, "nights": [2, 5], "none": None, "text": "12"},
    "huts": [{"name": "Upper Tarn", "bunks": 36}, {"name": "Glasswater", "bunks": 40}],
    "now": datetime(2031, 4, 5, 6, 30, tzinfo=UTC),
}


def value(text, **more):
    return compile_text(text).value({**SCOPE, **more})


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("${ input.text }", "12"),
        ("${ input.items }", 3),  # the key, not the method
        ("${ input.nights }", [2, 5]),
        ("${ input.nights[1] + 1 }", 6),
        ("n: ${ input.nights[0] }, ${ true }, ${ none }.", "n: 2, true, ."),
        ("${ {'a': {'b': 1}} }", {"a": {"b": 1}}),
        ("${ input.a.b.c | default('none') }", "none"),
        ("${ input.guest.email.upper() }", "ADA@GUESTS.EXAMPLE"),
        ("${ 'a' ~ 1 ~ true }", "a1true"),
        ("\\${ input } and {{ braces }} {% mean %} nothing", "${ input } and {{ braces }} {% mean %} nothing"),
        ("${ huts | map(attribute='name') | list }", ["Upper Tarn", "Glasswater"]),
        ("${ huts | selectattr('bunks', 'gt', 38) | map(attribute='name') | first }", "Glasswater"),
        ("%% for hut in huts\n- ${ hut.name }\n%% endfor\nend", "- Upper Tarn\n- Glasswater\nend"),
        ("${ 'yes' if input.items > 2 else 'no' }", "yes"),
        ("${ huts | jsonpath('$[?@.bunks > 38].name') }", ["Glasswater"]),
        ("${ '[1, 2]' | from_json }", [1, 2]),
        ("${ huts | csv }", "name,bunks\r\nUpper Tarn,36\r\nGlasswater,40\r\n"),
        ("${ '**bold** [link](x)' | plain }", "bold link"),
        ("${ now | in_zone('Europe/Zurich') | date('%H:%M') }", "08:30"),
        ('${ "Saint Odo\'s Rest" | slug }', "saint-odo-s-rest"),
        ("${ 'abcdefghij' | mask }", "••••••ghij"),
    ],
)
def test_expressions(text, expected):
    assert value(text) == expected


def test_what_is_missing_is_named_with_what_there_is():
    with pytest.raises(StepFailed, match=r"input\.guest\.mail is not there; there is email") as caught:
        value("Dear ${ input.guest.mail }")
    assert caught.value.kind == "missing"


def test_references_that_came_out_empty_are_collected():
    empty: list[str] = []
    compile_text("${ input.none }${ input.gone | default('') }").value(SCOPE, empty)
    assert set(empty) == {"input.none", "input.gone"}


@pytest.mark.parametrize(
    "text",
    ["${ ''.__class__ }", "${ input['__class__'].mro() }", "${ huts.append(1) }", "${ input.guest.email.format(1) }", "${ 2 ** 9999999 }",
     "${ 'x' * 99999999999 }", "${ '%99999999d' % 1 }", "${ 1 / 0 }", "${ 1e308 * 10 }", "${ [1] * 99999999 }", "${ huts.pop }"],
)  # fmt: skip
def test_what_is_dangerous_fails_when_used(text):
    with pytest.raises(StepFailed):
        value(text)


@pytest.mark.parametrize(
    "text",
    ["${ range(3) }", "${ lipsum() }", "${ self }${", "${ x | random }", "${ x | attr('y') }", "%% include 'x'", "%% macro f()\n%% endmacro",
     "%% import 'x' as y", "${ }", "${ a b }", "${ _x }", "%% for x in y recursive\n%% endfor"],
)  # fmt: skip
def test_what_is_not_in_the_language_does_not_compile(text):
    with pytest.raises(BadExpression):
        compile_text(text)


def test_loops_run_out_of_fuel():
    text = "%% for a in x\n%% for b in x\n%% for c in x\n.\n%% endfor\n%% endfor\n%% endfor\n"
    with pytest.raises(StepFailed, match="too much work"):
        value(text, x=list(range(200)))


def test_texts_have_an_end():
    with pytest.raises(StepFailed, match="too long"):
        value("${ a ~ a ~ a }", a="x" * 500_000)


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(),
        lambda i: st.lists(i, max_size=3) | st.dictionaries(st.text(), i, max_size=3),
    )
)
def test_a_whole_expression_keeps_its_value(given_value):
    assert Template({"a": ["${ x }"]}).render({"x": given_value}) == {"a": [given_value]}


@given(st.text())
def test_any_text_compiles_or_says_why(text):
    try:
        compile_text(text)
    except BadExpression as error:
        assert str(error)


def test_names_and_paths_are_known():
    expression = compile_text("${ kind.label == 'x' and huts[0].name and kind.get('a') }")
    assert expression.names == {"kind", "huts"}
    assert ("kind", "label") in expression.references()


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("${ input.items | default([]) }", []),
        ("${ input['values'] | default('none') }", "none"),
        ("${ have.items | length }", 2),
        ("${ have.items[0] }", 1),
        ("${ input.items() | list | length }", 1),
        ("${ input.get('a', 5) }", 1),
        ("${ input.get('b', have.keys | default(7)) }", 7),
        ("${ [input.keys | default(3)] }", [3]),
    ],
)
def test_a_key_that_is_called_like_a_method_is_a_key_unless_it_is_called(text, value):
    assert compile_text(text).value({"input": {"a": 1}, "have": {"items": [1, 2]}}) == value


_SAID = st.one_of(st.text(max_size=5), st.text(min_size=999, max_size=1001), st.integers(), st.booleans(), st.none(), st.floats(),
                  st.lists(st.integers(), max_size=2), st.dictionaries(st.sampled_from(["hut", "name"]), st.integers(), max_size=2))  # fmt: skip
_SCOPES = st.dictionaries(
    st.sampled_from(["guest", "input"]), st.dictionaries(st.sampled_from(["name", "hut", "items"]), _SAID)
)
_WORDS = st.sampled_from(
    [
        "Dear ",
        "${ guest.name }",
        "${ input.hut }",
        "${ input['name'] }",
        "${ guest }",
        "\\${",
        " \n",
        "${ guest.items }",
        "é",
    ]
)


@given(st.lists(_WORDS, min_size=1, max_size=6), _SCOPES)
def test_the_short_way_gives_what_the_long_one_gives(words, scope):
    """References and words between them are joined without the template engine, where that makes no difference."""
    short = compile_text("".join(words))
    long = replace(short, parts=(), path=None)

    def outcome(expression):
        empty = []
        try:
            return expression.value(scope, empty), empty
        except StepFailed as failed:
            return failed.kind, failed.message

    assert outcome(short) == outcome(long)


def test_an_escape_is_the_documents_and_data_stay_as_they_are():
    odd = {"guest": {"name": "\ufdd0 Ada"}}
    for text in ("Dear ${ guest.name }", "${ 'Dear ' ~ guest.name }", "Dear ${ guest.name | trim }"):
        assert compile_text(text).value(odd) == "Dear \ufdd0 Ada"
    assert value("write \\${ name } for ${ input.text | upper }") == "write ${ name } for 12"
    assert value("${ 'write \\${' }") == "write ${"
