"""Expressions and paths that would compute for long or fill the memory: refused in little time, each for its reason."""

import resource
import time
from decimal import Decimal
from typing import Any

import pytest

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import BadExpression, Template
from oak_relay.document.meter import METER, Meter
from oak_relay.document.paths import find

LITTLE = 2.0
"""Seconds of one processor, of one as slow as can be met: half a second is usual, and unlimited work took minutes."""
BIG = "a" * 900_000
LIST = list(range(100_000))
ROWS = [{"hut": f"h{n}", "n": n, "tags": ["x", "y"]} for n in range(20_000)]
DEEP: list[Any] = []
for _ in range(150):
    DEEP = [DEEP]
SAME = [n * (2**61 - 1) for n in range(1, 20_000)]
SCOPE = {
    "big": BIG, "list": LIST, "rows": ROWS, "deep": DEEP, "same": SAME, "texts": ["x" * 1000] * 900, "huge": 10**999,
    "tiny": Decimal("1e-1000"), "vast": Decimal("9e1000"), "nought": Decimal("0e-1000"), "number": 5, "text": "Upper Tarn", "nested": [[[0] * 100] * 100],
    "nothing": None, "brackets": "[" * 60_000, "stars": "*a " * 20_000, "ticks": "`a " * 20_000, "pairs": [[n] for n in range(20_000)],
}  # fmt: skip
TOO_MUCH = [
    # Texts that grow
    "${ big * 10 }", "${ 10 * big }", "${ big + big + big }", "${ (big ~ big) ~ (big ~ big) }", "${ big | replace('a', big) }",
    "${ big | replace('', big) }", "${ texts | join(big) }", "${ list | join(texts | join) }", "${ [big, big, big] | join }",
    "${ ([big] * 1000) | string }", "${ ([big] * 1000) ~ '' }", "${ ([rows] * 900) | json }", "%% for a in list\n${ big }\n%% endfor\n",
    "%% for a in list\n${ text * 1000 }\n%% endfor\n", "${ rows | map('string') | join | replace('h', big) }", "${ big * (number * number * number * number * number * number) }",
    # Lists that grow
    "${ [[[0] * 200] * 200] * 200 }", "${ [[[[0] * 100] * 100] * 100] * 100 }", "${ list * 100 }", "${ (1, 2, 3) * 10000000 }", "${ ((0,) * 1000,) * 100000 }",
    "${ [list] * 100000 }", "${ ([[list] * 1000] * 1000) | json }", "${ ([list] * 1000) | list | json }", "${ (list + list + list) * 10 }", "${ [rows] * 1000 }",
    "${ {'a': [rows] * 1000} }", "${ big | list | list | list | list | list }", "${ [big | list] * 1000 }", "${ ([texts] * 1000) | map('join') | join }",
    # Loops
    "%% for a in list\n%% for b in list\nx\n%% endfor\n%% endfor\n", "%% for a in rows\n%% for b in rows\n%% if a == b\nx\n%% endif\n%% endfor\n%% endfor\n",
    "${ list | map('string') | map('replace', '1', big) | list }", "${ list | select('in', list) | list }", "${ list | reject('in', list) | list }",
    "${ rows | selectattr('n', 'in', list) | list }", "${ list | map('jsonpath', '$') | list }", "${ texts | map('json') | map('from_json') | map('json') | join(big) }",
    # Comparisons of what is large
    "${ [list] * 1000 == [list] * 1000 }", "%% for a in list\n%% if rows == rows\nx\n%% endif\n%% endfor\n", "%% for a in list\n%% if big in big\nx\n%% endif\n%% endfor\n",
    "%% for a in list\n%% if a in list\nx\n%% endif\n%% endfor\n", "%% for a in list\n${ list.index(99999) }\n%% endfor\n", "%% for a in list\n${ list.count(a) }\n%% endfor\n",
    "%% for a in list\n${ big.count('a') }\n%% endfor\n", "%% for a in list\n${ big.split('a') | length }\n%% endfor\n", "%% for a in list\n${ rows | length }${ rows | sort(attribute='n') | length }\n%% endfor\n",
    "%% for a in list\n${ list | sum }\n%% endfor\n", "%% for a in list\n${ big | upper | length }\n%% endfor\n", "%% for a in list\n${ list | min }\n%% endfor\n",
    # Numbers
    "${ number ** 99999999 }", "${ 1000001 ** 60 }", "${ 9 ** 9 ** 9 }", "${ huge * huge * huge * huge * huge * huge * huge }", "${ 10 ** 64 ** 2 }",
    # JSONPath
    "${ rows | jsonpath('$..*..*..*') }", "${ nested | jsonpath('$..*..*..*..*..*') }", "${ rows | jsonpath('$[?count($..*) > 1]') }", 
    "${ list | jsonpath('$[*,*,*,*,*,*,*,*,*,*]') }", "${ rows | jsonpath('$[*,*,*][*,*,*][*,*,*]') }", "${ rows | jsonpath('$[?$ == $]') }",
    # Markdown and files
    "${ big | plain }", "${ rows | csv | plain }",
]  # fmt: skip
WRONG = [
    "${ huge * 100 }", "${ vast * 100 }", "${ tiny / 1000 }", "${ vast + number * 1.5 }", "${ huge * 1.5 }", "${ number / 0 }", "${ vast ** 2 }", "${ 2.5 ** 64 ** 2 }",
    "${ number | round(1000000000) }", "${ number | round(-1000000000, 'floor') }", "${ number | round(301, 'ceil') }", "${ text | round }", "${ number | round(2, 'up') }",
    "${ pairs | sum(start=[]) }", "${ texts | sum }", "${ rows | sum }", "${ [1e300, 1e300] | map('round', -300) | sum(start=vast) }",
    "${ text % number }", "${ '%1000000000d' % number }", "${ '%s' % text }", "${ now | date('%Y' * 1000) }", "${ '2031-04-05' | date('x' * 101) }", "${ '2031-04-05' | in_zone('E' * 100000) }",
    "${ '2031-04-05' | in_zone('../../etc/passwd') }", "${ rows | jsonpath('$[?@.hut =~ /(a+)+$/]') }", "${ rows | jsonpath('$' ~ '[0]' * 1000) }", "${ rows | jsonpath('$[') }",
    "${ rows | jsonpath('$[?' ~ '(' * 490 ~ '@.n' ~ ')' * 490 ~ ']') }", "${ '1e999999999' | from_json }", "${ ('9' * 5000) | from_json }", "${ ('[' * 5000) | from_json }", "${ ('[' * 300 ~ ']' * 300) | from_json }",
    "${ list | batch(1) }", "${ text.format(number) }", "${ text.center(1000000000) }", "${ text.ljust(1000000000) }", "${ text.zfill(1000000000) }", "${ text.join(list) }", "${ text.replace('a', big) }", "${ text.encode() }",
    "${ range(1000000000) }", "${ lipsum(1000) }", "${ cycler(1) }", "${ text.__class__ }", "${ list.__len__() }", "${ rows | attr('__class__') }", "${ rows | map(attribute='__class__') | list | json }",
]  # fmt: skip
FINE = {
    "${ rows | map(attribute='n') | sum }": sum(range(20_000)),
    "${ rows | selectattr('n', 'lt', 3) | map(attribute='hut') | join(', ') }": "h0, h1, h2",
    "${ same | unique | length }": len(SAME),
    "${ pairs | unique | length }": 20_000,
    "${ ['b', 'B', 'a'] | unique | join }": "ba",
    "${ big | length }": len(BIG),
    "${ text | replace('Tarn', 'Fell') | upper }": "UPPER FELL",
    "${ rows | jsonpath('$[?@.n < 2].hut') }": ["h0", "h1"],
    "${ rows[:5000] | jsonpath('$[?search(@.hut, \"^h499[0-9]$\")].n') | length }": 10,
    "${ [1.25, 2] | sum | round(1) }": 3.2,
    "${ 7.45 | round(1, 'floor') }": 7.4,
    "${ 5 | round(-1, 'ceil') }": 10,
    "${ deep | json | length }": 302,
    "${ vast > number }": True,
    "${ huge - huge + number }": 5,
    "${ list | list | length }": 100_000,
}


def render(text: str) -> Any:
    return Template(text).render(SCOPE)


def measured(text: str) -> tuple[Any, float, float]:
    """What it gives (or its failure), seconds, and MB by which the process grew at its largest."""
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    began = time.thread_time()
    try:
        found = render(text)
    except (StepFailed, BadExpression) as failed:
        found = failed
    took = time.thread_time() - began
    return found, took, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024


@pytest.mark.parametrize("text", TOO_MUCH)
def test_what_would_do_too_much_is_ended_in_little_time(text):
    found, took, grown = measured(text)
    assert isinstance(found, StepFailed), values.dumps(found)[:100]
    assert found.kind == "over_limit", found
    assert took < LITTLE
    assert grown < 100


@pytest.mark.parametrize("text", WRONG)
def test_what_makes_no_sense_is_refused_in_little_time(text):
    found, took, grown = measured(text)
    assert isinstance(found, StepFailed | BadExpression), values.dumps(found)[:100]
    assert found.kind in ("invalid", "over_limit", "missing")
    assert len(found.message) < 600
    assert took < LITTLE
    assert grown < 100


@pytest.mark.parametrize(("text", "expected"), FINE.items())
def test_what_is_large_and_sound_still_works(text, expected):
    found, took, _ = measured(text)
    assert found == expected
    assert took < LITTLE


@pytest.mark.parametrize("name", ["brackets", "stars", "ticks"])
def test_markdown_that_is_made_to_be_slow_is_not(name):
    _, took, grown = measured(f"${{ {name}[:49000] | plain | length }}")
    assert took < 4 * LITTLE  # quadratic ones took minutes
    assert grown < 100


def test_the_texts_of_one_step_share_what_they_may_use():
    step = Template({f"field_{n}": "${ rows | map(attribute='hut') | join }" for n in range(1000)})
    began = time.thread_time()
    with pytest.raises(StepFailed, match="too much work"):
        step.render(SCOPE)
    assert time.thread_time() - began < LITTLE
    with pytest.raises(StepFailed, match="too much work"):
        Template({f"field_{n}": "${ big }" for n in range(1000)}).render(SCOPE)


@pytest.mark.parametrize(
    "text",
    ["${ " + "(" * 5000 + "1" + ")" * 5000 + " }", "${ 1" + " + 1" * 20_000 + " }", "${ a" + " | upper" * 6_000 + " }", "${ a" + ".b" * 20_000 + " }",
     "${ " + "not " * 10_000 + "a }", "${ " + "-" * 20_000 + "1 }", "${ " + "[" * 3000 + "]" * 3000 + " }", "%% if a\n" * 2000 + "x" + "\n%% endif" * 2000,
     "${ " + "{'a': " * 3000 + "1" + "}" * 3000 + " }", "${ a" + "[0]" * 15_000 + " }", "${ " + " ~ ".join(["a"] * 10_000) + " }", "${ '" + "x" * 60_000 + "' }"],
)  # fmt: skip
def test_texts_that_are_made_to_break_the_compiler_are_refused(text):
    began = time.thread_time()
    try:
        Template(text).render({"a": "x"})
    except (BadExpression, StepFailed) as refused:
        assert refused.message
    assert time.thread_time() - began < 3 * LITTLE


@pytest.mark.parametrize(
    ("path", "kind"),
    [("$..*..*..*", "over_limit"), ("$[?match(@.hut, '(a+)+$')]", None), ("$[?search(@.hut, '(h|h)*$')].n", None), ("$" + "..*" * 300, "over_limit"),
     ("$[?@..* == @..*]", "invalid"), ("$[?value(@..n) == 5]", None), ("$['" + "x" * 2000 + "']", "invalid"), ("$[::0]", None), ("$[9007199254740993]", "invalid")],
)  # fmt: skip
def test_paths_outside_of_expressions_are_on_a_meter_of_their_own(path, kind):
    assert METER.get(None) is None
    began = time.thread_time()
    try:
        find(path, ROWS[:2000])
        assert kind is None
    except StepFailed as failed:
        assert failed.kind == kind, failed.message
    assert time.thread_time() - began < LITTLE
    assert METER.get(None) is None


def test_a_pattern_with_many_ways_is_looked_for_in_one_pass():
    began = time.thread_time()
    token = METER.set(Meter(5_000_000))
    try:
        assert find("$[?match(@, '(a+)+b')]", ["a" * 100_000] * 10) == []
    finally:
        METER.reset(token)
    assert time.thread_time() - began < LITTLE


@pytest.mark.parametrize(
    "path",
    ["", "$[", "$[5e5::]", "$[5555e555552786812::]", "$[?@.a == 1e99999]", "$" + "[0]" * 340, "$.a[?search(@, '(')]"],
)
def test_a_path_that_is_none_is_a_failure_of_its_own_kind(path):
    """However it is wrong: also where the library's own error cannot be printed, or is of another kind."""
    try:
        find(path, {"a": ["b"]})
    except StepFailed as failed:
        assert failed.kind in ("invalid", "over_limit")
        assert len(failed.message) < 500
