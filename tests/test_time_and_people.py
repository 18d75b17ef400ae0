"""Schedules, polls, events, rows, ends, child runs, long lists and questions, with real processes."""

import hashlib
import hmac
import json
import signal
from datetime import UTC, datetime, timedelta
from itertools import pairwise

import httpx
import pytest

from oak_relay.client.errors import Problem
from tests.conftest import Processes, free_port, until

PARTS = """
oak: 1
workflow: parts
input: {type: object}
steps:
  - step: rounds
    each: ${ input.items }
    as: n
    width: 20
    failed: keep
    steps:
      - step: kept
        do: table.add
        with: {table: refunds, row: {guest: "guest-${ n }", message: "m"}}
      - {step: no, fail: "not ${ n }", when: "${ n == 7 }"}
    gives: ${ n * 2 }
result: ${ rounds }
"""
CHILD = """
oak: 1
workflow: child
input: {type: object, required: [n], properties: {n: {type: integer}, nap: {type: string}}}
steps:
  - {step: nap, wait: "${ input.nap | default('1ms') }"}
  - {step: no, fail: "odd ${ input.n }", when: "${ input.n % 2 == 1 }"}
result: ${ input.n * 10 }
"""
PARENT = """
oak: 1
workflow: parent
input: {type: object}
steps:
  - step: got
    run: child
    with: {n: "${ input.n }", nap: "${ input.nap | default('1ms') }"}
    on_error: go_on
result: ${ got }
"""
QUESTION = """
oak: 1
workflow: question
input: {type: object}
steps:
  - step: decide
    ask: {at: link, text: "Refund for ${ input.guest }?", choices: [approve, refuse], within: 2d}
  - step: details
    ask:
      text: How much?
      form: {type: object, required: [sum], properties: {sum: {type: number}}}
result: {choice: "${ decide.choice }", by: "${ decide.by }", sum: "${ details.data.sum }"}
"""


def run_of(client, workflow, data=None, **more):
    return client.start(workflow, data or {}, **more)


def live(client, text, **replace):
    for old, new in replace.items():
        text = text.replace(old, new)
    return client.on(client.save(text, over=True).workflow).name


TWICE = """
oak: 1
workflow: twice
input: {type: object}
steps:
  - {step: first, run: changing, with: {}}
  - {step: later, wait: {event: go.on, where: "${ arrived.data == input.n }", within: 1h}}
  - {step: each, each: "${ input.items }", as: i, width: 50, steps: [{step: c, run: changing, with: {}, when: "${ i % 50 == 0 }"}], gives: "${ c }"}
result: "${ [first] + (each | select('string') | list) }"
"""
CHANGING = """
oak: 1
workflow: changing
steps: [{step: nap, wait: 1ms}]
result: one
"""


def test_the_version_of_a_child_is_settled_when_a_run_first_starts_it(oak: Processes):
    """Rule 7: also in the parts of a long list; a new run takes the version that is on by then."""
    client = oak.client()
    for text in (CHANGING, TWICE):
        client.on(client.save(text).workflow)
    old = client.start("twice", {"n": 1, "items": list(range(250))})
    until(lambda: client.run(old.id).run.state == "waiting" and "go.on" in client.run(old.id).why)
    client.save(CHANGING.replace("result: one", "result: two"), over=True)
    client.on("changing", 2)
    new = client.start("twice", {"n": 1, "items": list(range(250))})
    until(lambda: "go.on" in client.run(new.id).why)
    client.publish({"id": "p1", "source": "/test", "type": "go.on", "data": 1})
    for run, word in ((old, "one"), (new, "two")):
        detail = until(lambda run=run: (found := client.run(run.id)).run.over and found)
        assert detail.result == [word] * 6, detail.run.error
    assert oak.sql("SELECT count(*) FROM pin") == 0


MANY = """
oak: 1
workflow: many-early
input: {type: object}
steps:
  - {step: nap, wait: {event: crowd.over, within: 1h}}
  - {step: mine, wait: {event: crowd, where: "${ arrived.data == input.n }", within: 1h}}
result: ${ mine.id }
"""


def test_the_one_early_event_that_fits_is_found_among_very_many(oak: Processes):
    client = oak.client()
    client.on(client.save(MANY).workflow)
    run = client.start("many-early", {"n": 611})
    until(lambda: client.run(run.id).run.state == "waiting")
    events = [{"specversion": "1.0", "id": f"c{n}", "source": "/test", "type": "crowd", "data": n} for n in range(700)]
    kind = {"content-type": "application/cloudevents-batch+json", "authorization": f"Bearer {oak.token}"}
    httpx.post(f"{oak.url}/api/v1/events", content=json.dumps(events), headers=kind, timeout=60).raise_for_status()
    until(lambda: not oak.sql("SELECT count(*) FROM published WHERE handled_at IS NULL"))
    client.publish({"id": "over", "source": "/test", "type": "crowd.over", "data": None})
    detail = until(lambda: (found := client.run(run.id)).run.over and found)
    assert detail.result == "c611"
    assert oak.sql("SELECT max(length(body)) FROM entry WHERE path = 'mine'") < 1000


ROWS = """
oak: 1
workflow: rows
triggers:
  - {trigger: t, table: {table: watched, on: [insert, update, delete], where: "${ arrived.row.hut != 'Thistle Col' }"}}
input: {type: object}
steps: [{step: told, set: {what: "${ input.change } ${ input.row.hut } ${ input.row.bunks }"}}]
result: ${ told.what }
"""
REMOVES = """
oak: 1
workflow: removes
input: {type: object}
steps: [{step: gone, do: table.delete, with: {table: watched, where: {hut: "${ input.hut }"}}}]
result: ${ gone }
"""


def test_rows_added_changed_and_removed_by_anyone_start_what_listens(oak: Processes):
    client = oak.client()
    client.create_table("watched", {"hut": "text", "bunks": "number"})
    for text in (ROWS, REMOVES):
        client.on(client.save(text).workflow)
    told = lambda: sorted(str(client.run(r.id).result) for r in client.runs(workflow="rows", state="succeeded"))  # noqa: E731
    client.add_rows("watched", [{"hut": "Upper Tarn", "bunks": 12}, {"hut": "Thistle Col", "bunks": 4}])
    row = client.rows("watched")[0]
    client.update_row("watched", row.id, {"bunks": 14})
    until(lambda: told() == ["insert Upper Tarn 12", "update Upper Tarn 14"])
    run = client.start("removes", {"hut": "Upper Tarn"})
    until(lambda: client.run(run.id).run.over)
    assert client.run(run.id).result == {"rows": [{"hut": "Upper Tarn", "bunks": 14}], "count": 1}
    until(lambda: "delete Upper Tarn 14" in told())
    client.remove_row("watched", client.rows("watched")[0].id)
    with pytest.raises(Problem):
        client.update_row("watched", row.id, {"bunks": 1})
    assert client.rows("watched") == []
    assert len(told()) == 3


def test_a_long_list_is_walked_in_parts_by_any_worker(oak: Processes):
    client = oak.client()
    live(client, PARTS)
    run = run_of(client, "parts", {"items": list(range(450))})
    result = run.result(60)
    assert [r for r in result if not isinstance(r, dict)] == [n * 2 for n in range(450) if n != 7]
    assert result[7]["error"]["message"] == "not 7"
    assert result[7]["error"]["step"] == "rounds[7].no"
    told = client.trace(run.id)
    [span] = [s for s in told.spans if s.path == "rounds"]
    assert len([s for s in told.spans if s.kind == "part"]) == 5
    assert span.state == "succeeded"
    inside = client.trace(run.id, under="rounds[310]").spans
    assert [s.path for s in inside if s.kind == "step" and s.output] == ["rounds[310].kept"]
    assert client.run(run.id).run.steps > 450
    assert not [r for r in client.runs(workflow="parts") if r.kind == "part"]
    assert len(client.runs(parent=run.id)) == 5


def test_a_child_run_gives_its_result_or_its_error(oak: Processes):
    client = oak.client()
    live(client, CHILD)
    live(client, PARENT)
    assert run_of(client, "parent", {"n": 4}).result() == 40
    run = run_of(client, "parent", {"n": 3})
    assert run.result()["error"]["message"] == "got: odd 3"
    [child] = client.run(run.id).children
    assert (child.state, child.kind, child.parent_id) == ("failed", "child", run.id)
    assert run_of(client, "parent", {"n": "many"}).result()["error"]["kind"] == "invalid"
    missing = live(client, PARENT, child="nobody", parent="orphan")
    assert "no workflow nobody" in run_of(client, missing, {"n": 1}).result()["error"]["message"]


def test_cancelling_a_parent_cancels_its_child(oak: Processes):
    """Rule 17."""
    client = oak.client()
    live(client, CHILD)
    live(client, PARENT)
    run = run_of(client, "parent", {"n": 2, "nap": "1h"})
    until(lambda: client.run(run.id).children and client.run(run.id).children[0].state == "waiting")
    assert "child run" in client.run(run.id).why
    run.cancel()
    assert run.wait().state == "cancelled"
    until(lambda: client.run(run.id).children[0].state == "cancelled")


def test_a_question_is_answered_in_the_tray_and_by_signed_link(oak: Processes):
    client = oak.client()
    live(client, QUESTION)
    run = run_of(client, "question", {"guest": "Ada"})
    [first] = until(lambda: client.tray(run=run.id))
    assert (first.text, first.choices) == ("Refund for Ada?", ["approve", "refuse"])
    assert "waits for a person" in client.run(run.id).why
    link = first.link.rsplit("/", 1)[1]
    assert httpx.get(f"{oak.url}/api/v1/answers/{link}").json()["text"] == "Refund for Ada?"
    assert httpx.get(f"{oak.url}/api/v1/answers/{link[:-2]}xx").status_code == 403
    with pytest.raises(Problem, match="none of the choices"):
        client.answer(first.id, "perhaps")
    assert httpx.post(f"{oak.url}/api/v1/answers/{link}", json={"choice": "approve"}).json() == {"answered": 1}
    with pytest.raises(Problem, match="answered already"):
        client.answer(first.id, "refuse")
    [second] = until(lambda: client.tray(run=run.id))
    with pytest.raises(Problem, match="does not fit the form"):
        client.answer(second.id, data={"sum": "much"})
    assert client.answer(second.id, data={"sum": 12.5}) == 1
    assert run.result() == {"choice": "approve", "by": "who has the link", "sum": 12.5}


def test_questions_of_a_cancelled_run_are_withdrawn(oak: Processes):
    client = oak.client()
    live(client, QUESTION)
    run = run_of(client, "question", {"guest": "Bo"})
    [asked] = until(lambda: client.tray(run=run.id))
    run.cancel()
    assert run.wait().state == "cancelled"
    assert client.tray(run=run.id) == []
    with pytest.raises(Problem, match="withdrawn already"):
        client.answer(asked.id, "approve")


def test_what_nobody_knows_is_asked_together(oak: Processes):
    """Rule 4: unsafe calls whose outcome is unknown; one answer for all alike."""
    client = oak.client()
    text = """
oak: 1
workflow: unsure
input: {type: object}
steps:
  - step: sent
    do: http.request
    with: {method: POST, url: "${ input.office }/replies", credential: office, json: {to: "${ input.n }"}}
result: ${ sent }
"""
    live(client, text)
    oak.fault(service="office", kind="drop", times=3, path="replies")
    runs = [run_of(client, "unsure", {"office": f"{oak.standins}/office", "n": n}) for n in range(3)]
    asked = until(lambda: (q := [q for q in client.tray() if q.workflow == "unsure"]) and len(q) == 3 and q)
    assert {q.alike for q in asked} == {3}
    assert "Did sent (http.request) happen?" in asked[0].text
    assert client.answer(asked[0].id, "it happened", data={"status": 202}, alike=True) == 3
    assert [run.result() for run in runs] == [{"status": 202}] * 3
    [span] = client.trace(runs[0].id).spans
    assert "says: it happened" in span.attempts[0].note


EVENTS = """
oak: 1
workflow: on-event
subject: ${ input.guest }
triggers:
  - trigger: changed
    event: {type: booking.changed, where: "${ arrived.data.nights > 1 }"}
steps:
  - step: told
    emit: {type: booking.noted, data: {guest: "${ input.guest }"}}
result: ${ [event.source, input.nights] }
"""
WAITS = """
oak: 1
workflow: waits-for-event
input: {type: object}
steps:
  - {step: nap, wait: "${ input.nap }"}
  - step: noted
    wait: {event: booking.noted, where: "${ arrived.data.guest == input.guest }", within: "${ 1 }h"}
result: ${ noted.data.guest }
""".replace('"${ 1 }h"', "1h")


def event(kind, data, **more):
    return {
        "specversion": "1.0",
        "id": f"e-{datetime.now().timestamp()}",
        "source": "/office",
        "type": kind,
        "data": data,
        **more,
    }


def test_events_start_runs_and_end_waits_also_early_ones(oak: Processes):
    client = oak.client()
    live(client, EVENTS)
    live(client, WAITS)
    waiting = run_of(client, "waits-for-event", {"guest": "Cleo", "nap": "1ms"})
    late = run_of(client, "waits-for-event", {"guest": "Cleo", "nap": "1500ms"})
    until(lambda: "event booking.noted" in client.run(waiting.id).why)
    given = event("booking.changed", {"guest": "Cleo", "nights": 3})
    assert client.publish(given)[0]["duplicate"] is False
    assert client.publish(given)[0]["duplicate"] is True
    client.publish(event("booking.changed", {"guest": "Cleo", "nights": 1}))  # where does not hold
    assert waiting.result() == "Cleo"
    assert late.result() == "Cleo"  # the event came before it was waited for
    made = client.runs(workflow="on-event")
    assert len(made) == 1
    assert client.run(made[0].id).result == ["/office", 3]


def test_an_event_that_cannot_be_handed_on_does_not_keep_the_others(oak: Processes):
    client = oak.client()
    live(
        client,
        EVENTS,
        **{"on-event": "on-poison", "booking.changed": "booking.poisoned", "booking.noted": "booking.fine"},
    )
    oak.sql("INSERT INTO published (workspace_id, id, kind, topic, source, event_key, body) "
            "VALUES (1, '00000000-0000-7000-8000-000000000001', 'event', 'booking.poisoned', '/x', 'bad', 'no json')")  # fmt: skip
    client.publish(event("booking.poisoned", {"guest": "Eda", "nights": 4}))
    until(lambda: client.runs(workflow="on-poison", state="succeeded"))


def test_events_come_in_in_binary_mode_and_batches(oak: Processes):
    client = oak.client()
    live(
        client,
        EVENTS,
        **{"on-event": "on-binary", "booking.changed": "booking.binary", "booking.noted": "booking.other"},
    )
    headers = {
        "Authorization": f"Bearer {oak.token}",
        "ce-id": "b1",
        "ce-source": "/office",
        "ce-type": "booking.binary",
        "ce-specversion": "1.0",
    }
    url = f"{oak.url}/api/v1/events"
    assert httpx.post(url, json={"guest": "Dov", "nights": 2}, headers=headers).status_code == 202
    batch = [event("booking.binary", {"guest": "Dov", "nights": 5}, id=f"b{n}") for n in (2, 3)]
    kind = {"Authorization": headers["Authorization"], "Content-Type": "application/cloudevents-batch+json"}
    assert len(httpx.post(url, content=json.dumps(batch), headers=kind).json()) == 2
    until(lambda: len([r for r in client.runs(workflow="on-binary", state="succeeded")]) == 3)
    refused = httpx.post(url, content="{}", headers={**kind, "Content-Type": "application/cloudevents+json"})
    assert refused.status_code == 400
    assert "lacks id, source, type" in refused.json()["title"]
    assert httpx.post(url, content="{}", headers=headers | {"ce-type": ""}).status_code == 400
    assert httpx.post(url, content="{}", headers={"Authorization": headers["Authorization"]}).status_code == 415


def test_rows_that_change_and_runs_that_end_start_runs(oak: Processes):
    client = oak.client()
    text = """
oak: 1
workflow: watcher
triggers:
  - {trigger: rows, table: {table: requests, on: [insert, update], where: "${ arrived.row.guest == 'watched' }"}}
  - {trigger: ends, after: {workflow: writer, ended: [failed]}}
steps:
  - {step: a, set: {v: "${ event.type }"}}
result: ${ [a.v, input.change | default(input.state)] }
"""
    writer = """
oak: 1
workflow: writer
input: {type: object}
steps:
  - {step: one, do: table.add, with: {table: requests, row: {guest: "${ input.guest }"}}}
  - {step: two, do: table.upsert, with: {table: requests, match: [guest], row: {guest: "${ input.guest }", kind: other}}}
  - {step: no, fail: no, when: "${ input.fails }"}
result: 1
"""
    live(client, writer)
    live(client, text)
    run_of(client, "writer", {"guest": "watched", "fails": False}).wait()
    run_of(client, "writer", {"guest": "somebody", "fails": True}).wait()
    until(lambda: len(client.runs(workflow="watcher", state="succeeded")) == 3)
    results = sorted(client.run(r.id).result for r in client.runs(workflow="watcher"))
    assert results == [["oak.ended", "failed"], ["oak.row", "insert"], ["oak.row", "update"]]


def test_a_workflow_that_starts_itself_is_stopped(oak: Processes):
    client = oak.client()
    live(client, EVENTS, **{"on-event": "on-itself", "booking.noted": "booking.loop", "booking.changed": "booking.loop",
                            '{guest: "${ input.guest }"}': '{guest: x, nights: 2}', "where:": "source:",
                            '"${ arrived.data.nights > 1 }"': "null"})  # fmt: skip
    client.publish(event("booking.loop", {"guest": "x", "nights": 2}))
    until(lambda: client.runs(workflow="on-itself", state="failed"))
    assert len(client.runs(workflow="on-itself", limit=100)) == 17
    [last] = client.runs(workflow="on-itself", state="failed")
    assert "16 events have caused one another" in last.error.message


SCHEDULE = """
oak: 1
workflow: clockwork
triggers:
  - {trigger: often, schedule: {every: 1s, data: {n: "${ event.time }"}}}
  - {trigger: rarely, schedule: {cron: "0 6 * * 1", zone: Europe/Zurich}}
steps:
  - {step: a, set: {v: "${ input }"}}
result: ${ [event.time, a.v] }
"""


def test_a_schedule_fires_each_occurrence_once_whoever_is_the_clock(lone: Processes):
    client = lone.client()
    live(client, SCHEDULE)
    clocks = [lone.start("tick"), lone.start("tick")]
    lone.start_worker()
    until(lambda: len(client.runs(workflow="clockwork", state="succeeded")) >= 3)
    lone.kill(clocks[0], signal.SIGKILL)
    until(lambda: len(client.runs(workflow="clockwork", state="succeeded")) >= 6)
    keys = [r[0] for r in lone.rows("SELECT event_key FROM event WHERE type = 'oak.time'")]
    assert len(keys) == len(set(keys))
    moments = sorted(datetime.fromisoformat(k) for k in keys)
    assert {b - a for a, b in pairwise(moments)} == {timedelta(seconds=1)}
    assert all(m.microsecond == 0 for m in moments)

    [often, rarely] = client.schedules()
    assert (often.trigger, often.rule, rarely.rule) == ("often", "every 1s", "0 6 * * 1")
    assert len(rarely.occurrences) == 10
    assert {m.weekday() for m in rarely.occurrences} == {0}
    assert client.pause_schedule("clockwork", "often").paused
    until(lambda: not lone.sql("SELECT count(*) FROM queue"))
    count = lone.sql("SELECT count(*) FROM run")
    fired = client.fire("clockwork", "rarely")
    until(lambda: client.run(fired.run).run.state == "succeeded")
    assert lone.sql("SELECT count(*) FROM run") == count + 1


@pytest.mark.parametrize(("missed", "count"), [("none", 0), ("latest", 1), ("all", 4)])
def test_what_was_missed_while_no_clock_ran(lone: Processes, missed, count):
    client = lone.client()
    live(client, SCHEDULE.replace("every: 1s", f"every: 1h, missed: {missed}"))
    lone.sql("UPDATE schedule SET last_at = date_trunc('hour', now()) - interval '4 hours' + interval '1 second', next_at = now() - interval '3 hours' "
             "FROM trigger t WHERE t.id = trigger_id AND t.name = 'often'")  # fmt: skip
    # In the first minute of an hour, the one of this hour is not late.
    counts = {count, 1} if missed == "none" and datetime.now(UTC).minute < 2 else {count}
    lone.start("tick")
    until(lambda: lone.sql("SELECT min(next_at) > now() FROM schedule"))
    assert lone.sql("SELECT count(*) FROM event WHERE type = 'oak.time'") in counts


def test_a_poll_makes_one_run_of_each_new_item_also_across_restarts(lone: Processes):
    client = lone.client()
    text = """
oak: 1
workflow: poller
triggers:
  - trigger: new
    poll: {do: table.find, with: {table: refunds}, every: 1s, items: "${ arrived.rows }", key: "${ arrived.guest }"}
steps:
  - {step: a, set: {v: "${ input.guest }"}}
result: ${ a.v }
"""
    client.add_rows("refunds", [{"guest": "Ada"}, {"guest": "Bo"}])
    live(client, text)
    lone.start_worker()
    clock = lone.start("tick")
    until(lambda: len(client.runs(workflow="poller", state="succeeded")) == 2)
    lone.kill(clock, signal.SIGKILL)
    client.add_rows("refunds", [{"guest": "Bo"}, {"guest": "Cleo"}])
    lone.start("tick")
    until(lambda: len(client.runs(workflow="poller", state="succeeded")) == 3)
    last = lone.sql("SELECT last_at FROM schedule")
    until(lambda: lone.sql("SELECT last_at FROM schedule") > last)
    assert {client.run(r.id).result for r in client.runs(workflow="poller")} == {"Ada", "Bo", "Cleo"}


def test_hooks_take_other_methods_schemes_and_handshakes(oak: Processes):
    client = oak.client()
    secret = "a plain shared secret"
    client.put_credential("plain", kind="signing", secret=secret)
    client.put_credential("gate", kind="basic", user="warden", secret="open sesame")
    text = """
oak: 1
workflow: many-hooks
triggers:
  - trigger: one
    webhook:
      path: many/hmac
      methods: [POST, PUT]
      verify: {scheme: hmac, credential: plain, header: X-Sum, prefix: "sha256=", encoding: hex}
      handshake: {echo: hub.challenge, token: hub.verify_token, credential: plain}
      id: X-Delivery
      waits: true
  - {trigger: two, webhook: {path: many/basic, methods: [GET], verify: {scheme: basic, credential: gate}, waits: true}}
  - {trigger: three, webhook: {path: many/form, waits: true}}
steps:
  - {step: a, set: {v: "${ input }"}}
result: ${ a.v }
"""
    live(client, text)
    url, body = f"{oak.url}/hooks/many", b'{"n": 1}'
    signed = {"X-Sum": "sha256=" + hmac.new(secret.encode(), body, hashlib.sha256).hexdigest(), "X-Delivery": "d1"}
    assert httpx.put(f"{url}/hmac", content=body, headers=signed).json() == {"n": 1}
    assert httpx.post(f"{url}/hmac", content=b'{"n": 2}', headers=signed).status_code == 401
    refused = httpx.request("DELETE", f"{url}/hmac")
    assert (refused.status_code, refused.headers["allow"]) == (405, "POST, PUT")
    asked = {"hub.challenge": "echo me", "hub.verify_token": secret}
    assert httpx.get(f"{url}/hmac", params=asked).text == "echo me"
    assert httpx.get(f"{url}/hmac", params={**asked, "hub.verify_token": "no"}).status_code == 403
    assert httpx.get(f"{url}/basic", params={"hut": "Glasswater"}, auth=("warden", "open sesame")).json() == {
        "hut": "Glasswater"
    }
    assert httpx.get(f"{url}/basic", auth=("warden", "guess again")).status_code == 401
    assert httpx.post(f"{url}/form", data={"hut": "Thistle Col"}).json() == {"hut": "Thistle Col"}


AGAIN = """
oak: 1
workflow: again
input: {type: object}
steps:
  - {step: a, do: table.add, with: {table: refunds, row: {guest: a}}}
  - {step: b, fail: "too few", when: "${ input.n < 5 }"}
  - {step: c, set: {v: "${ [a.id, input.n] }"}}
result: ${ c.v }
"""


def test_a_failed_run_goes_on_from_where_it_failed_with_what_it_had(oak: Processes):
    client = oak.client()
    live(client, AGAIN)
    run = run_of(client, "again", {"n": 1})
    assert run.wait().error.step == "b"
    first = [s.output["id"] for s in client.trace(run.id).spans if s.path == "a"]
    client.save(AGAIN.replace("< 5", "< 1"), over=True)
    assert client.again(run.id, "failure", check=True).version == 1, "the one that is on"
    client.off("again")
    assert client.again(run.id, "failure", check=True).version == 2, "the newest while none is"
    kept = client.again(run.id, "failure", version=2)
    assert (kept.kept, kept.anew) == (["a"], ["b"])
    until(lambda: client.run(kept.run).run.over)
    told = client.run(kept.run)
    assert told.result == [*first, 1]
    assert (told.run.origin_id, told.run.origin_how) == (run.id, "failure")
    assert [r.id for r in client.run(run.id).again] == [kept.run]
    assert client.run(run.id).run.state == "failed"  # what happened is not overwritten


def test_redo_says_what_it_keeps_and_takes_values_by_hand(oak: Processes):
    client = oak.client()
    live(client, AGAIN, again="redone")
    run = run_of(client, "redone", {"n": 7})
    run.result()
    assert client.again(run.id, "c", check=True).anew == ["c"]
    kept = client.again(run.id, "c", values={"a": {"id": "by hand"}})
    until(lambda: client.run(kept.run).run.over)
    assert client.run(kept.run).result == ["by hand", 7]
    again = client.again(run.id, "start", input={"n": 9})
    until(lambda: client.run(again.run).run.over)
    assert client.run(again.run).result[1] == 9
    with pytest.raises(Problem, match="no step nowhere"):
        client.again(run.id, "nowhere")
    with pytest.raises(Problem, match="did not fail"):
        client.again(run.id, "failure")
    assert client.many([run.id, kept.run], "again").done == 2


def test_a_step_is_tried_with_samples_and_changes_nothing(oak: Processes):
    client = oak.client()
    before = oak.sql("SELECT count(*) FROM table_row")
    tried = client.try_step(AGAIN, "a", input={"n": 1})
    assert (tried.state, tried.result["id"]) == ("succeeded", "tried")
    assert oak.sql("SELECT count(*) FROM table_row") == before
    onwards = client.try_step(AGAIN, "b", input={"n": 6}, steps={"a": {"id": "sample"}}, onwards=True)
    assert onwards.result == ["sample", 6]
    assert client.try_step(AGAIN, "b", input={"n": 1}).error.message == "too few"
    asked = client.try_step(QUESTION, "decide", input={"guest": "Ada"})
    assert (asked.state, asked.waits) == ("waiting", "decide")
    live(client, AGAIN, again="sampled")
    run = run_of(client, "sampled", {"n": 8})
    run.result()
    client.keep_sample(run.id, "eight")
    client.keep_sample(run.id, "a row", "a")
    assert [(s.name, s.step) for s in client.samples("sampled")] == [("a row", "a"), ("eight", "")]


def test_a_credentials_rate_is_kept_by_all_workers(lone: Processes):
    client = lone.client()
    client.put_credential(
        "slow-office",
        kind="header",
        header="X-API-Key",
        secret=lone.office_key,
        hosts=["127.0.0.1"],
        rate={"calls": 20, "per": "2s"},
    )
    text = """
oak: 1
workflow: rated
input: {type: object}
steps:
  - step: sent
    do: http.request
    with: {method: PUT, url: "${ input.office }/replies", credential: slow-office, expect: [200, 404, 405], json: {}}
result: 1
"""
    live(client, text)
    for _ in range(2):
        lone.start_worker()
    runs = [run_of(client, "rated", {"office": f"{lone.standins}/office"}) for _ in range(50)]
    until(lambda: lone.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == len(runs), 30)
    moments = [r[0].timestamp() for r in lone.rows("SELECT started_at FROM entry WHERE kind = 'began' ORDER BY 1")]
    most = max(sum(1 for other in moments if 0 <= other - m < 1.9) for m in moments)
    assert most <= 41  # two windows can meet in such a span
    assert moments[-1] - moments[0] >= 3.0
    assert lone.sql("SELECT max(attempt) FROM entry") == 1  # waiting is no failed attempt


def test_the_trace_of_a_caller_goes_through(oak: Processes):
    client = oak.client()
    text = """
oak: 1
workflow: traced
triggers: [{trigger: t, webhook: {path: traced, waits: true}}]
steps:
  - {step: sent, do: http.request, with: {method: POST, url: "OFFICE/replies", credential: office, repeat: keyed, json: {}}}
result: 1
"""
    live(client, text, OFFICE=f"{oak.standins}/office")
    trace = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
    httpx.post(f"{oak.url}/hooks/traced", json={}, headers={"traceparent": trace}).raise_for_status()
    [run] = client.runs(workflow="traced")
    [span] = client.trace(run.id).spans
    sent = span.attempts[0].detail["exchange"]["request"]["headers"]["traceparent"]
    assert sent.startswith("00-0af7651916cd43dd8448eb211c80319c-")
    assert sent[36:52] != "b7ad6b7169203331"


def test_too_much_at_once_is_put_off_before_it_is_taken(lone: Processes):
    for process in lone.running[1:]:
        lone.kill(process, signal.SIGTERM)
    lone.start("serve", OAK_RELAY_BACKLOG="20")
    until(lambda: httpx.get(f"{lone.url}/health/ready").is_success)
    client = lone.client()
    live(client, CHILD, **{"workflow: child": "workflow: flood\ntriggers: [{trigger: t, webhook: {path: flood}}]"})
    until(lambda: httpx.post(f"{lone.url}/hooks/flood", json={"n": 2}).status_code == 429)
    refused = httpx.post(f"{lone.url}/hooks/flood", json={"n": 2})
    assert int(refused.headers["retry-after"]) >= 1
    lone.start_worker()
    until(lambda: httpx.post(f"{lone.url}/hooks/flood", json={"n": 2}).status_code == 202)


def test_events_are_sent_in_both_modes(oak: Processes):
    client = oak.client()
    text = """
oak: 1
workflow: sender
input: {type: object}
steps:
  - {step: one, do: event.send, with: {url: "${ input.url }", type: hut.opened, credential: own, data: {nights: 2, guest: a}}}
  - {step: two, do: event.send, with: {url: "${ input.url }", type: hut.opened, mode: binary, credential: own, data: {nights: 3, guest: b}}}
result: ${ [one.status, two.status] }
"""
    client.put_credential("own", kind="bearer", secret=oak.token, hosts=["127.0.0.1"])
    other = free_port()  # what runs send may not reach the service itself, so it is another one that they reach
    second = oak.start("serve", OAK_RELAY_PORT=str(other))
    until(lambda: httpx.get(f"http://127.0.0.1:{other}/health/ready").is_success, 60)
    live(client, text)
    live(client, EVENTS, **{"on-event": "on-sent", "booking.changed": "hut.opened", "booking.noted": "hut.noted"})
    assert run_of(client, "sender", {"url": f"http://127.0.0.1:{other}/api/v1/events"}).result() == [202, 202]
    until(lambda: len(client.runs(workflow="on-sent", state="succeeded")) == 2)
    client.remove_credential("own", anyway=True)
    oak.kill(second, signal.SIGTERM)


def test_a_database_that_was_set_back_holds_its_runs_until_they_are_let_go(lone: Processes):
    """Rule 19."""
    client = lone.client()
    live(client, CHILD)
    clock = lone.start("tick")
    until(lambda: (lone.home / "database.mark").exists())
    lone.kill(clock, signal.SIGTERM)
    run = run_of(client, "child", {"n": 2})
    lone.sql("UPDATE epoch SET value = '0'")  # as an older backup would say
    lone.start_worker()
    until(lambda: "held after a restore" in client.run(run.id).why)
    assert client.hold(False) == {"released": 1}
    assert run.result() == 20


def test_model_calls_side_by_side_reserve_what_they_may_cost(oak: Processes):
    """Rule 15, with the real price of an alias: one call fits into the limit, two at once do not."""
    client = oak.client()
    client.put_model(
        "dear",
        url=f"{oak.standins}/v1",
        model="larch-small",
        credential="models",
        max_tokens=1000,
        prices={"output": 1000},
    )
    text = """
oak: 1
workflow: dear
limits: {money: 1.5}
steps:
  - step: m
    each: ${ [1, 2] }
    as: n
    width: 2
    failed: keep
    steps: [{step: a, do: model.answer, with: {model: dear, prompt: hello}}]
    gives: fine
result: ${ m }
"""
    oak.fault(service="model", kind="slow", seconds=0.5, times=2)
    result = client.start(live(client, text)).result()
    assert sorted(r if isinstance(r, str) else r["error"]["kind"] for r in result) == ["fine", "over_limit"]


def test_metrics_tell_of_the_queue(oak: Processes):
    text = httpx.get(f"{oak.url}/metrics").text
    assert "oak_runs_ready" in text
    assert "oak_oldest_transaction_seconds" in text
