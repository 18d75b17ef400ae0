"""Rows of a table as steps find them: by how columns stand to values, in an order, as a model in Python finds them too."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.actions.tables import meant
from oak_relay.capabilities.given import Filter
from oak_relay.client import Client
from oak_relay.document.errors import StepFailed

FIND = """
oak: 1
workflow: finding
input: {type: object}
steps:
  - step: found
    do: table.find
    with: {table: bunks, where: "${ input.where }", order: "${ input.order }"}
  - step: summed
    do: table.total
    with: {table: bunks, where: "${ input.where }", sum: [free]}
result: {huts: "${ found.rows | map(attribute='hut') | list }", free: "${ summed.rows[0].sum.free if summed.rows }"}
"""
ROWS: list[dict[str, Any]] = [
    {"hut": "Upper Tarn", "free": 4, "open": True, "note": "50% wood_shed"},
    {"hut": "Glasswater", "free": 0, "open": True, "note": None},
    {"hut": "Thistle Col", "free": 12.5, "open": False, "note": "Wood is wet"},
    {"hut": "Long Shadow", "open": False, "note": ""},
    {"hut": "Marmot Saddle", "free": 9, "note": "snow"},
]
CASES: list[tuple[dict[str, Any], list[str], list[str]]] = [
    ({"free": {"at_least": 4}}, ["-free"], ["Thistle Col", "Marmot Saddle", "Upper Tarn"]),
    ({"free": {"above": 4, "below": 12}}, [], ["Marmot Saddle"]),
    ({"free": {"at_most": 4}, "open": True}, ["free"], ["Glasswater", "Upper Tarn"]),
    ({"hut": {"in": ["Glasswater", "Nowhere"]}}, [], ["Glasswater"]),
    ({"hut": {"in": []}}, [], []),
    ({"open": {"not": True}}, ["hut"], ["Long Shadow", "Marmot Saddle", "Thistle Col"]),
    ({"note": {"contains": "WOOD"}}, ["hut"], ["Thistle Col", "Upper Tarn"]),
    ({"note": {"contains": "%"}}, [], ["Upper Tarn"]),
    ({"note": {"contains": "d_s"}}, [], ["Upper Tarn"]),
    ({"note": {"begins_with": "Wood"}}, [], ["Thistle Col"]),
    ({"free": {"empty": True}}, [], ["Long Shadow"]),
    ({"note": {"empty": False}}, ["-hut"], ["Upper Tarn", "Thistle Col", "Marmot Saddle", "Long Shadow"]),
    ({"hut": {"above": "M"}}, ["hut"], ["Marmot Saddle", "Thistle Col", "Upper Tarn"]),
    ({"hut": {"above": 3}}, [], []),
    ({}, ["open", "-free"], ["Thistle Col", "Long Shadow", "Upper Tarn", "Glasswater", "Marmot Saddle"]),
]


@pytest.fixture(scope="module")
def bunks(client: Client) -> None:
    client.create_table("bunks", {"hut": "text", "free": "number", "open": "boolean", "note": "text"})
    client.add_rows("bunks", ROWS)
    client.save(FIND)


@pytest.mark.parametrize(("where", "order", "huts"), CASES)
def test_rows_are_found_by_how_columns_stand(client: Client, bunks: None, where: dict[str, Any], order: list[str], huts: list[str]):  # fmt: skip
    found = client.start("finding", {"where": where, "order": order}).result()
    assert found["huts"] == huts
    free = [row["free"] for row in ROWS if row["hut"] in huts and "free" in row]
    assert (found["free"] or 0) == sum(free)


@pytest.mark.parametrize(
    ("where", "order", "said"),
    [
        ({"size": {"above": 1}}, [], "no column size"),
        ({}, ["-size"], "no column size"),
        ({"free": {"in": 3}}, [], "in wants a list"),
        ({"free": {"in": list(range(2000))}}, [], "at most 1,000"),
        ({"free": {"above": None}}, [], "above wants a number"),
        ({"note": {"contains": ""}}, [], "contains wants a text"),
        ({"note": {"contains": "x" * 600}}, [], "at most 500"),
        ({"free": {"empty": "yes"}}, [], "empty wants true or false"),
        ({}, ["free; DROP TABLE run"], "order"),
        ({}, ["hut"] * 9, "order"),
    ],
)
def test_what_cannot_be_found_so_is_said(client: Client, bunks: None, where: dict[str, Any], order: list[str], said: str):  # fmt: skip
    wrong = client.start("finding", {"where": where, "order": order}).wait()
    assert wrong.state == "failed" and said in str(client.run(wrong.id).run.error)


def test_what_hurts_a_database_finds_nothing(client: Client, bunks: None):
    for text in ("\\", "'", "%_\\%", "a\tb", "雪", '"}'):
        assert client.start("finding", {"where": {"note": {"contains": text}}, "order": []}).result()["huts"] == []
        assert client.start("finding", {"where": {"note": {"begins_with": text}}, "order": []}).result()["huts"] == []


def test_a_mapping_that_is_no_way_to_stand_is_a_value():
    assert meant({"a": {"in": [1]}, "b": {"in": [1], "x": 2}, "c": {}}).match == {"b": {"in": [1], "x": 2}, "c": {}}
    assert meant({"a": {"in": [1]}}).filters == (Filter("a", "in", [1]),)


@given(st.dictionaries(st.text(max_size=5), st.recursive(st.none() | st.booleans() | st.integers() | st.text(max_size=5), lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(("in", "not", "above", "empty", "contains", "x")), inner, max_size=3)), max_size=4))  # fmt: skip
def test_anything_is_meant_or_refused(where: dict[str, Any]):
    try:
        found = meant(where)
    except StepFailed as refused:
        assert refused.kind == "invalid"
    else:
        assert {one.column for one in found.filters} | set(found.match) == set(where)
