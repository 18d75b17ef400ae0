"""A run as it is looked at: the same is told as by its whole trace, but a bounded part of it."""

import time
from concurrent.futures import ThreadPoolExecutor

import pytest

from oak_relay.client import Client, Invalid, NotFound, Run
from oak_relay.client.results import Brief, View
from tests.conftest import Processes, until

HUTS = """oak: 1
workflow: viewed
input: {type: object}
steps:
  - step: begin
    set: {word: hut}
  - step: outer
    each: ${ input.outer }
    as: a
    failed: keep
    width: 4
    steps:
      - step: inner
        each: ${ input.inner }
        as: b
        steps:
          - {step: note, set: {text: "${ begin.word ~ ' ' ~ a ~ ' ' ~ b }"}}
          - step: odd
            when: ${ a == 2 and b == 1 }
            fail: the stove of ${ a } is cold
        gives: ${ note.text }
      - step: choice
        branch:
          - if: ${ a > 1 }
            steps:
              - {step: high, set: {x: 1}}
          - else:
              - {step: low, set: {x: 0}}
  - step: again
    repeat: {until: "${ last | default(0) >= 2 }", most: 9}
    steps:
      - {step: round, set: {n: "${ (last | default(0)) + 1 }"}}
    gives: ${ round.n }
  - step: beside
    together:
      left: {steps: [{step: l, set: {x: 1}}]}
      right: {steps: [{step: r, set: {x: 2}}]}
result: ${ outer | length }
"""


def whole(client: Client, run: Run) -> dict[str, object]:
    """Every span of a run by its path."""
    return {span.path: span for span in client.trace(run.id, limit=10_000).spans}


def by_path(view: View) -> dict[str, Brief]:
    return {span.path: span for span in view.spans}


def test_a_view_tells_of_every_path_what_the_whole_trace_tells(client: Client):
    client.save(HUTS, over=True)
    run = client.start("viewed", {"outer": [1, 2, 3], "inner": [0, 1, 2]})
    assert run.result() == 3
    spans = whole(client, run)
    assert len(spans) > 40
    for path, span in spans.items():
        found = by_path(client.view(run.id, path))
        if span.kind == "part":
            continue
        seen = found[path]
        assert (seen.state, seen.kind, seen.line, seen.way, seen.tried) == (
            span.state,
            span.kind,
            span.line,
            span.way,
            len(span.attempts),
        ), path
        told = client.record(run.id, path).span
        assert (told.output, told.error, told.state) == (span.output, span.error, span.state), path


def test_of_a_list_the_item_is_told_that_failed(client: Client):
    client.save(HUTS, over=True)
    run = client.start("viewed", {"outer": [1, 2, 3], "inner": [0, 1, 2]}).wait()
    view = client.view(run.id)
    loops = {loop.path: loop for loop in view.loops}
    assert (loops["outer"].all, loops["outer"].ended, loops["outer"].failed, loops["outer"].chosen) == (3, 3, 1, 1)
    assert (loops["outer[1].inner"].ended, loops["outer[1].inner"].chosen) == (1, 1)
    assert (loops["again"].kind, loops["again"].all, loops["again"].ended) == ("repeat", None, 3)
    found = by_path(view)
    assert found["outer[1].inner[1].odd"].state == "failed" and found["outer[1].inner"].state == "failed"
    assert "stove of 2" in found["outer[1].inner[1].odd"].error.message
    assert found["outer"].state == "succeeded" and "outer[0].inner[0].note" not in found
    assert [item.state for item in client.items(run.id, "outer")] == ["succeeded", "failed", "succeeded"]
    assert [item.index for item in client.items(run.id, "outer", state="failed")] == [1]
    assert [item.label for item in client.items(run.id, "outer[1].inner")] == ["0", "1", "2"]
    assert [item.state for item in client.items(run.id, "outer[1].inner")] == ["succeeded", "failed", "not begun"]
    assert [item.index for item in client.items(run.id, "again", state="succeeded")] == [0, 1, 2]


def test_what_never_was_is_missing(client: Client):
    client.save(HUTS, over=True)
    run = client.start("viewed", {"outer": [], "inner": []})
    assert run.result() == 0
    view = client.view(run.id, "outer[7].inner[3].note")
    assert by_path(view)["outer"].state == "succeeded" and view.loops[0].all == 0
    for path in (
        "nowhere",
        "outer[0]",
        "outer[99999999999999999999]",
        "a/turn[0]",
        "[[[",
        "outer[1:2]",
        "#end",
        "a" + "[0]" * 600,
    ):
        assert client.view(run.id, path).spans
        with pytest.raises(NotFound):
            client.record(run.id, path)
    for path in ("begin", "outer[0].inner", "nowhere[3]"):
        with pytest.raises(NotFound):
            client.items(run.id, path)
    with pytest.raises(Invalid):
        client.view(run.id, "x" * 3000)
    assert client.items(run.id, "outer") == []


LONG = """oak: 1
workflow: viewed-long
input: {type: object}
steps:
  - step: huts
    each: ${ input.huts }
    as: hut
    failed: keep
    width: 8
    steps:
      - step: check
        set: {v: "${ 100 / (hut.n - 237) }"}
        when: ${ hut.n != 5 }
      - step: rooms
        each: ${ [1, 2] }
        as: room
        steps:
          - {step: room_, set: {r: "${ hut.name ~ room }"}}
    gives: ${ hut.n }
result: ${ huts | length }
"""


def test_a_long_list_is_looked_at_over_the_runs_that_walk_its_parts(client: Client):
    client.save(LONG, over=True)
    run = client.start("viewed-long", {"huts": [{"n": n, "name": f"Hut {n}"} for n in range(450)]})
    assert run.result() == 450
    view = client.view(run.id)
    huts = next(loop for loop in view.loops if loop.path == "huts")
    assert (huts.all, huts.ended, huts.failed, huts.chosen) == (450, 450, 1, 237)
    assert by_path(view)["huts[237].check"].state == "failed"
    far = by_path(client.view(run.id, "huts[449].rooms[1].room_"))
    assert far["huts[449].rooms[1].room_"].state == "succeeded" and far["huts"].state == "succeeded"
    assert client.record(run.id, "huts[449].rooms[1].room_").span.output == {"r": "Hut 4492"}
    assert client.record(run.id, "huts[5].check").span.state == "skipped"
    [failed] = client.items(run.id, "huts", state="failed")
    assert (failed.index, failed.path) == (237, "huts[237]") and "Hut 237" in failed.label
    assert [item.index for item in client.items(run.id, "huts", text="hut 44")] == [44, *range(440, 450)]
    page = client.items(run.id, "huts", limit=100, after="400")
    assert [item.index for item in page] == list(range(401, 450)) and page.next is None
    assert [item.label for item in client.items(run.id, "huts[449].rooms")] == ["1", "2"]


def test_a_list_is_looked_at_while_it_is_walked(lone: Processes):
    lone.start_worker()
    client = lone.client()
    client.save(
        "oak: 1\nworkflow: going\nsteps:\n  - step: huts\n    each: ${ [1, 2, 3] }\n    as: hut\n    steps:\n"
        "      - {step: first, set: {x: 1}}\n      - step: asks\n        when: ${ hut == 2 }\n        ask: {text: Is it open?, choices: [yes it is]}\n"
    )
    run = client.start("going")
    [question] = until(lambda: client.tray(run=run.id))
    until(lambda: client.run(run.id).run.state == "waiting")
    view = client.view(run.id)
    assert (view.loops[0].ended, view.loops[0].failed, view.loops[0].chosen) == (1, 0, 1)
    found = by_path(view)
    assert (found["huts"].state, found["huts[1].asks"].state) == ("waiting", "waiting")
    assert [item.state for item in client.items(run.id, "huts")] == ["succeeded", "running", "queued"]
    assert [item.index for item in client.items(run.id, "huts", state="open")] == [1, 2]
    client.answer(question.id, choice="yes it is")
    assert run.wait().state == "succeeded"
    assert client.view(run.id, "huts[2].first").loops[0].ended == 3


def test_secrets_are_found_in_no_item(client: Client):
    client.put_credential("shown-nowhere", kind="bearer", secret="kestrel-secret-9731", hosts=["a.example"])
    client.save(LONG, over=True)
    run = client.start("viewed-long", {"huts": [{"n": 1, "name": "kestrel-secret-9731"}, {"n": 2, "name": "Lantern"}]})
    run.wait()
    until(lambda: "kestrel-secret" not in client.items(run.id, "huts")[0].label)
    assert client.items(run.id, "huts", text="secret-97") == []
    assert [item.index for item in client.items(run.id, "huts", text="lantern")] == [1]


def test_a_large_run_is_looked_at_in_a_moment(client: Client):
    """A bounded part is read and told, wherever one looks."""
    client.save(HUTS, over=True)
    many = list(range(60))
    run = client.start("viewed", {"outer": many, "inner": many}).wait(120)
    for path in ("", "outer[59].inner[59].note"):
        began = time.monotonic()
        view = client.view(run.id, path)
        took = time.monotonic() - began
        assert len(view.spans) < 30 and len(view.model_dump_json()) < 30_000
        assert took < 5
    with ThreadPoolExecutor(8) as several:
        assert all(several.map(lambda n: client.items(run.id, f"outer[{n}].inner", limit=5), range(24)))
