"""What two documents say otherwise, told step by step."""

import copy
import json
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.document.check import check
from oak_relay.document.differences import Difference, differences
from tests.test_check import CATALOGUE


def told(before: dict[str, Any], after: dict[str, Any]) -> list[Difference]:
    world = CATALOGUE.world()
    return differences(check(json.dumps(before), world), check(json.dumps(after), world), world.actions)


def larder() -> dict[str, Any]:
    return {
        "oak": 1,
        "workflow": "larder",
        "triggers": [{"trigger": "daily", "schedule": {"cron": "0 6 * * *"}}],
        "steps": [
            {"step": "count", "set": {"crates": 3}},
            {"step": "ask", "do": "model.answer", "with": {"model": "quick", "prompt": "How many?"}},
            {
                "step": "huts",
                "each": "${ [1] }",
                "steps": [{"step": "one", "set": {"n": 1}}, {"step": "two", "set": {"n": 2}}],
            },
        ],
        "result": "${ count.crates }",
    }


def test_a_field_that_is_another_is_told_with_both():
    after = larder()
    after["steps"][1]["with"] |= {"model": "careful", "temperature": 0}
    [one] = told(larder(), after)
    assert (one.what, one.number, one.step) == ("changed", "2", "ask")
    assert [(field.name, field.before, field.after) for field in one.fields] == [
        ("model", "quick", "careful"),
        ("temperature", None, "0"),
    ]


def test_a_change_inside_of_a_loop_is_of_the_line_inside():
    after = larder()
    after["steps"][2]["steps"][1]["set"]["n"] = 3
    [one] = told(larder(), after)
    assert (one.what, one.number, one.step) == ("changed", "3.2", "two")


def test_steps_that_come_go_move_and_get_another_name():
    after = larder()
    after["steps"][0]["step"] = "counted"
    after["result"] = "${ counted.crates }"
    after["steps"].insert(0, after["steps"].pop(1))
    after["steps"].append({"step": "told", "set": {"x": 1}})
    del after["steps"][2]["steps"][0]
    found = {(one.what, one.step) for one in told(larder(), after)}
    assert found >= {("renamed", "counted"), ("added", "told"), ("removed", "one"), ("changed", "")}
    assert ("changed", "huts") not in found
    out = copy.deepcopy(larder())
    out["steps"].append(out["steps"][2]["steps"].pop())
    assert [(one.what, one.step) for one in told(larder(), out)] == [("moved", "two")]


def test_what_stands_around_the_steps_is_told_by_name():
    after = larder()
    after["triggers"][0]["schedule"]["cron"] = "0 7 * * *"
    after["title"] = "The larder"
    del after["result"]
    found = {one.sentence: (one.what, one.fields) for one in told(larder(), after)}
    assert found["What starts it"][0] == "changed"
    assert found["What starts it"][1][0].name == "triggers.daily.schedule.cron"
    assert found["The title"][0] == "added"
    assert found["What it gives"][0] == "removed"


def test_data_that_looks_like_steps_is_data():
    after = larder()
    before = larder()
    before["steps"][2]["each"], after["steps"][2]["each"] = [{"step": 1}], [{"step": 2}]
    [one] = told(before, after)
    assert (one.what, one.step, one.fields[0].name) == ("changed", "huts", "each")


def test_an_agent_document_is_told_by_its_fields():
    before = {"oak": 1, "agent": "scout", "model": "quick", "prompt": "Look."}
    [one] = told(before, {**before, "prompt": "Look well."})
    assert (one.sentence, one.fields[0].after) == ("Its prompt", "Look well.")


def test_long_texts_are_cut_and_many_fields_counted():
    after = larder()
    after["steps"][0]["set"] = {f"n{n}": "x" * 1000 for n in range(100)}
    [one, *_] = told(larder(), after)
    assert len(one.fields) == 41
    assert all(len(field.after or "") <= 300 for field in one.fields)


NAMES = st.lists(st.sampled_from([f"s{n}" for n in range(8)]), min_size=1, max_size=8, unique=True)


def made(names: list[str], values: list[int]) -> dict[str, Any]:
    steps = [{"step": name, "set": {"x": value}} for name, value in zip(names, values, strict=False)]
    return {"oak": 1, "workflow": "w", "steps": steps}


@settings(max_examples=200)
@given(
    NAMES,
    NAMES,
    st.lists(st.integers(0, 3), min_size=8, max_size=8),
    st.lists(st.integers(0, 3), min_size=8, max_size=8),
)
def test_every_step_is_accounted_for(first: list[str], second: list[str], some: list[int], others: list[int]):
    before, after = made(first, some), made(second, others)
    found = told(before, after)
    assert (not found) == (before == after)
    was, now = ({one["step"]: one["set"]["x"] for one in each["steps"]} for each in (before, after))
    told_of: dict[str, set[str]] = {}
    for one in found:
        told_of.setdefault(one.what, set()).add(one.step)
    renamed = {one.before: one.step for one in found if one.what == "renamed"}
    assert told_of.get("added", set()) | set(renamed.values()) == now.keys() - was.keys()
    assert told_of.get("removed", set()) | set(renamed) == was.keys() - now.keys()
    assert told_of.get("changed", set()) == {name for name in was.keys() & now.keys() if was[name] != now[name]}
