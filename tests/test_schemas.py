"""JSON Schema as it is taken here: exact, within itself, and never long."""

import time
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.document.schemas import BadSchema, validator

TREE = {
    "$defs": {"node": {"type": "object", "properties": {"left": {"$ref": "#/$defs/node"}, "right": {"$ref": "#/$defs/node"}}}},
    "$ref": "#/$defs/node",
}  # fmt: skip


def fault(schema: dict[str, Any], value: Any) -> str:
    return validator(schema).fault(value)


@pytest.mark.parametrize(
    ("schema", "good", "bad", "said"),
    [
        ({"type": "object", "required": ["hut"]}, {"hut": "Tarn"}, {}, "$: hut is missing"),
        ({"properties": {"a": {"items": {"type": "integer"}}}}, {"a": [1]}, {"a": [1, "x"]}, "$.a[1]: "),
        ({"multipleOf": Decimal("0.1")}, Decimal("1.1"), Decimal("1.15"), "multiple"),
        ({"type": "integer", "maximum": 10**40}, 10**40, 10**40 + 1, "at most"),
        ({"uniqueItems": True}, [1, 2], [1, 1.0], "twice"),
        ({"pattern": "^[A-Z]{2}[0-9]+$"}, "GL12", "gl12", "match"),
        (TREE, {"left": {"right": {}}}, {"left": {"right": 5}}, "$.left.right: "),
        ({"$defs": {"n": {"$anchor": "name", "type": "string"}}, "items": {"$ref": "#name"}}, ["x"], [1], "$[0]"),
        ({"const": {"a": [1]}}, {"a": [1]}, {"a": [2]}, "$"),
    ],
)
def test_values_are_told_apart_exactly_and_where(schema, good, bad, said):
    assert fault(schema, good) == ""
    assert said in fault(schema, bad)


def doubling(count: int) -> dict[str, Any]:
    steps = {f"d{n}": {"anyOf": [{"$ref": f"#/$defs/d{n + 1}"}] * 2} for n in range(count)}
    return {"$defs": {**steps, f"d{count}": {"type": "string"}}, "$ref": "#/$defs/d0"}


def nested(key: str, count: int) -> dict[str, Any]:
    schema: dict[str, Any] = {"type": "string"}
    for _ in range(count):
        schema = {key: schema} if key != "properties" else {"properties": {"a": schema}}
    return schema


HOSTILE: dict[str, dict[str, Any]] = {
    "of no such type": {"type": "objct"},
    "required is no list": {"required": "hut"},
    "fetched from an address": {"$ref": "http://127.0.0.1:9/schema.json"},
    "fetched from a file": {"$ref": "file:///etc/passwd"},
    "fetched for its dialect": {"$schema": "http://127.0.0.1:9/dialect"},
    "relative to elsewhere": {"$id": "http://127.0.0.1:9/", "$ref": "other.json"},
    "an id inside": {"properties": {"a": {"$id": "http://127.0.0.1:9/a", "type": "string"}}},
    "not there": {"$ref": "#/$defs/nobody"},
    "dynamic": {"$dynamicAnchor": "x", "properties": {"a": {"$dynamicRef": "#x"}}},
    "to itself": {"$ref": "#"},
    "to itself by two": {"$defs": {"a": {"$ref": "#/$defs/b"}, "b": {"allOf": [{"$ref": "#/$defs/a"}]}}, "$ref": "#/$defs/a"},
    "doubling": doubling(30),
    "doubling by depth": {"properties": {"a": {"anyOf": [{"$ref": "#"}, {"$ref": "#"}]}}},
    "doubling by items": {"items": {"allOf": [{"$ref": "#"}, {"$ref": "#"}]}},
    "doubling by two keywords": {"additionalProperties": {"$ref": "#"}, "patternProperties": {".": {"$ref": "#"}}},
    "many ways at once": {"anyOf": [{"minLength": n} for n in range(1000)]},
    "too deep": nested("properties", 200),
    "too deep by not": nested("not", 3000),
    "too many": {"properties": {f"p{n}": {"type": "string"} for n in range(10_000)}},
    "a pattern that looks back": {"pattern": r"^(a)\1$"},
    "a pattern that looks ahead": {"pattern": "^(?=a)b"},
    "a pattern that grows": {"pattern": "(((a{1,100}){1,100}){1,100}){1,100}"},
    "no step at all": {"multipleOf": Decimal("1e-900")},
    "a step of many digits": {"multipleOf": Decimal("0.1234567890123456789012345678901")},
    "a step beyond all": {"multipleOf": 10**900},
    "no pattern": {"pattern": "("},
    "a name that grows": {"patternProperties": {"((a{1,100}){1,100}){1,100}": {"type": "string"}}},
    "no finite number": {"maximum": float("inf")},
}  # fmt: skip


@pytest.mark.parametrize("name", HOSTILE)
def test_what_would_fetch_or_run_away_is_refused_at_once(name):
    began = time.thread_time()
    with pytest.raises(BadSchema) as refused:
        validator(HOSTILE[name])
    assert time.thread_time() - began < 2
    assert refused.value.fix
    assert len(refused.value.message) < 500


@pytest.mark.parametrize(
    ("schema", "value"),
    [
        ({"pattern": "^(a+)+$"}, "a" * 50_000 + "!"),
        ({"pattern": "^(a|a)*$"}, "a" * 50_000 + "!"),
        ({"uniqueItems": True}, [{"a": [n]} for n in range(50_000)]),
        ({"uniqueItems": True}, [[n, str(n)] for n in range(50_000)]),
        ({"multipleOf": Decimal("1e-30")}, Decimal("1e900")),
        ({"multipleOf": 3}, 10**900),
        ({"contains": {"type": "string"}, "minContains": 2}, list(range(100_000))),
        (TREE, [{"left": {}}] * 50_000),
        ({"enum": ["x" * 1000] * 100}, "x" * 100_000),
    ],
)
def test_large_and_odd_values_are_looked_at_in_little_time(schema, value):
    began = time.thread_time()
    fault(schema, value)
    assert time.thread_time() - began < 2


def test_a_value_that_is_nested_too_deep_is_told_so():
    value: Any = 1
    for _ in range(20_000):
        value = [value]
    assert fault({"items": {"$ref": "#"}}, value)


JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-(10**20), 10**20) | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=3), inner, max_size=3),
    max_leaves=8,
)
WORDS = ["type", "properties", "items", "allOf", "anyOf", "not", "$ref", "$defs", "pattern", "required", "if", "then", "$id",
         "enum", "const", "uniqueItems", "minLength", "prefixItems", "dependentSchemas", "$anchor"]  # fmt: skip
SCHEMAS = st.recursive(
    st.sampled_from(["string", "#", "#/$defs/a", True, False, None, 0, -1, 1e9, ["a"], "(", {}]) | JSON,
    lambda inner: st.dictionaries(st.sampled_from([*WORDS, "a", "b"]), inner, max_size=4) | st.lists(inner, max_size=3),
    max_leaves=12,
)


@given(st.dictionaries(st.sampled_from(WORDS), SCHEMAS, max_size=5), JSON)
@settings(max_examples=400, deadline=1000)
def test_any_mapping_is_a_schema_or_refused_with_a_reason(schema: dict[str, Any], value: Any):
    try:
        checked = validator(schema)
    except BadSchema as refused:
        assert refused.message
    else:
        assert isinstance(checked.fault(value), str)
