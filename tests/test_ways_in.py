"""Ways in while a workflow is being written: the draft's addresses, and the next event kept as a sample."""

import json
import shlex
import subprocess
import sys
from datetime import UTC, datetime

import httpx
import pytest

from oak_relay.client import Client, NotFound
from oak_relay.client.errors import Invalid
from tests.conftest import SIGNING, Processes, until
from tests.test_hooks import signed

BELL = """
oak: 1
workflow: larder
settings: {properties: {unit: {type: string, default: crates}}}
input: {type: object, required: [hut], properties: {hut: {type: string, examples: [Saint Odo]}, crates: {type: integer, default: 2}}}
triggers:
  - trigger: order
    webhook: {path: larder/order, waits: true, verify: {scheme: signed, credential: larder}}
    input: {hut: "${ event.data.place }", crates: "${ event.data.n }"}
  - {trigger: morning, schedule: {cron: "0 6 * * *", data: {hut: Glasswater}}}
  - {trigger: called, event: {type: larder.empty}}
  - {trigger: row, table: {table: larder_rows}}
  - {trigger: ended, after: {workflow: larder}}
subject: ${ input.hut }
limits: {per_subject: drop}
steps:
  - step: told
    set: {text: "${ input.crates } ${ settings.unit } for ${ input.hut }", by: "${ event.type }", from: "${ event.headers['x-bell'] | default('nobody') }"}
result: ${ told.text }
"""


@pytest.fixture(scope="module")
def larder(oak: Processes) -> Client:
    client = oak.client()
    client.put_credential("larder", kind="signing", secret=SIGNING)
    client.create_table("larder_rows", {"hut": "text"})
    client.save(BELL)
    return client


def drafts(client: Client, workflow: str = "larder") -> dict[str, str]:
    return {t.trigger: t.draft_url for t in client.triggers(workflow)}


def order(place: str, n: int = 3) -> bytes:
    return json.dumps({"place": place, "n": n}).encode()


def test_a_real_sender_drives_the_newest_version_again_and_again(larder: Client):
    url, body = drafts(larder)["order"], order("Upper Tarn")
    headers = signed(body, "msg_draft_1")
    assert [httpx.post(url, content=body, headers=headers).json() for _ in range(2)] == ["3 crates for Upper Tarn"] * 2
    changed = BELL.replace("for ${ input.hut }", "to ${ input.hut }")
    larder.save(changed, 1)
    assert httpx.post(url, content=body, headers=headers).json() == "3 crates to Upper Tarn"
    found = larder.runs(workflow="larder", limit=3)
    assert [r.version for r in found] == [2, 1, 1]
    assert {larder.run(r.id).run.trigger for r in found} == {"order"}
    larder.save(BELL, 2)


def test_each_kind_of_trigger_has_such_an_address(larder: Client):
    for name, body, text in (
        ("morning", None, "2 crates for Glasswater"),
        ("morning", {"hut": "Thistle Col"}, "2 crates for Thistle Col"),
        ("called", {"hut": "Kestrel Notch", "crates": 9}, "9 crates for Kestrel Notch"),
        ("row", {"hut": "Marmot Saddle"}, "2 crates for Marmot Saddle"),
        ("ended", {"hut": "Long Shadow"}, "2 crates for Long Shadow"),
    ):
        answer = httpx.post(drafts(larder)[name], **({} if body is None else {"json": body}))
        assert answer.status_code == 202, answer.text
        until(lambda run=answer.json()["run"]: larder.run(run).run.state == "succeeded")
        assert larder.run(answer.json()["run"]).result == text
    assert httpx.get(drafts(larder)["row"]).status_code == 405


def test_the_request_of_a_draft_is_ready_to_copy(larder: Client):
    for trigger in larder.triggers("larder"):
        text = trigger.request.replace("SECRET=…  # of the credential larder\n", f"SECRET={shlex.quote(SIGNING)}\n")
        done = subprocess.run(
            ["sh", "-e", "-c", text.replace("curl ", "curl -s --fail-with-body ")],
            capture_output=True,
            text=True,
            timeout=60,
        )
        assert done.returncode == 0, (trigger.trigger, text, done.stdout)


def test_who_does_not_know_the_address_reaches_no_draft(larder: Client, oak: Processes):
    url = drafts(larder)["row"]
    head, _, key = url.rpartition("/")
    for other in (
        f"{head}/{key[:-2]}xx",
        url.replace("/row/", "/called/"),
        url.replace("/larder/", "/echo/"),
        f"{head}/",
        f"{oak.url}/drafts/{'x' * 5000}/y/{key}",
        f"{head}/%F0%9F%8C%B2",
    ):
        assert httpx.post(other, json={"hut": "x"}).status_code == 404, other
    assert httpx.post(drafts(larder)["order"], content=order("x")).status_code == 401
    until(lambda: [r for r in larder.refusals("larder") if r.path == "/drafts/larder/order" and r.status == 401])
    assert key not in json.dumps([r.model_dump(mode="json") for r in larder.refusals("larder")])


def test_a_draft_stands_beside_runs_of_the_version_that_is_on(oak: Processes):
    client = oak.client()
    text = "oak: 1\nworkflow: slow-larder\ninput: {type: object}\nsubject: one\nlimits: {per_subject: replace}\ntriggers: [{trigger: go, event: {type: slow.larder}}]\nsteps: [{step: nap, wait: 1h}]\n"
    client.on(client.save(text).workflow)
    real = client.start("slow-larder", {})
    until(lambda: client.run(real.id).run.state == "waiting")
    answer = httpx.post(drafts(client, "slow-larder")["go"], json={})
    assert answer.status_code == 202
    until(lambda: client.run(answer.json()["run"]).run.state == "waiting")
    assert client.run(real.id).run.state == "waiting"


def test_the_next_event_is_kept_while_nothing_is_on(larder: Client, oak: Processes):
    hook, body = f"{oak.url}/hooks/larder/order", order("Upper Tarn", 7)
    headers = {**signed(body, "msg_next"), "X-Bell": "brass"}
    assert httpx.post(hook, content=body, headers=headers).status_code == 404
    larder.keep_next("larder", "order", "seven")
    assert larder.triggers("larder")[0].awaited.sample == "seven"
    before = len(larder.runs(workflow="larder"))
    assert httpx.post(hook, content=b"[", headers=signed(b"[", "msg_odd")).status_code == 400
    assert (
        httpx.post(
            hook, content=body, headers=signed(body, "x", secret="whsec_YW5vdGhlciBzZWNyZXQgYWx0b2dldGhlcg==")
        ).status_code
        == 401
    )
    assert httpx.post(hook, content=body, headers=headers).json() == {"kept": True}
    assert larder.triggers("larder")[0].awaited is None
    assert httpx.post(hook, content=body, headers=headers).status_code == 404
    kept = next(s for s in larder.samples("larder") if s.name == "seven")
    assert kept.event is not None
    assert (kept.value, kept.event.data) == ({"hut": "Upper Tarn", "crates": 7}, {"place": "Upper Tarn", "n": 7})
    assert kept.event.headers["x-bell"] == "brass"
    assert len(larder.runs(workflow="larder")) == before
    tried = larder.try_step(BELL, "told", sample="seven")
    assert tried.result == {"text": "7 crates for Upper Tarn", "by": "webhook", "from": "brass"}
    other = BELL.replace("event.data.n }", "event.data.n + 1 }")  # what is made of the event follows the draft
    assert larder.render(other, "told", sample="seven").input["text"] == "8 crates for Upper Tarn"
    with pytest.raises(NotFound, match="kept event"):
        larder.try_step(BELL, "told", sample="eight")
    with pytest.raises(Invalid, match="cannot be made"):
        larder.try_step(BELL.replace("event.data.n }", "event.data.m.o }"), "told", sample="seven")


def test_what_does_not_fit_is_kept_too_and_so_it_is_while_the_workflow_is_on(larder: Client, oak: Processes):
    hook = f"{oak.url}/hooks/larder/order"
    larder.on("larder")
    try:
        larder.keep_next("larder", "order")
        odd = order("x")[:-1] + b', "n": "many"}'
        assert httpx.post(hook, content=odd, headers=signed(odd, "msg_unfit")).status_code == 422
        assert larder.samples("larder")[0].name == "order"
        assert larder.samples("larder")[0].value == {"hut": "x", "crates": "many"}
        larder.keep_next("larder", "order", "again")
        body = order("Glasswater", 1)
        assert httpx.post(hook, content=body, headers=signed(body, "msg_on")).json() == "1 crates for Glasswater"
        assert larder.samples("larder")[0].name == "again"
        other = b'{"where": "x"}'
        refused = httpx.post(hook, content=other, headers=signed(other, "msg_other"))
        assert refused.status_code == 422
        assert "event.data" not in refused.text  # the document's own words
        until(lambda: [r for r in larder.refusals("larder") if "event.data.place is not there" in r.reason])
    finally:
        larder.off("larder")


def test_the_next_event_at_a_drafts_address_begins_no_run(larder: Client):
    larder.keep_next("larder", "row", "a row")
    before = len(larder.runs(workflow="larder"))
    url = drafts(larder)["row"]
    assert httpx.post(url, json={"hut": 5}).json() == {"kept": True}
    assert httpx.post(url, json={"hut": 5}).status_code == 422
    assert len(larder.runs(workflow="larder")) == before
    larder.keep_next("larder", "row", "a row", 1)
    until(lambda: next(t for t in larder.triggers("larder") if t.trigger == "row").awaited is None)
    larder.keep_next("larder", "row", "a row")
    larder.keep_no_longer("larder", "row")
    assert httpx.post(url, json={"hut": "x"}).json()["run"]
    with pytest.raises(NotFound):
        larder.keep_next("larder", "nobody")


def test_a_sketch_is_reached_by_no_event(larder: Client):
    text = "oak: 1\nworkflow: larder-sketch\ninput: {type: object}\ntriggers: [{trigger: go, event: {type: sketched}}]\nsteps: [{step: later, todo: look it up}]\n"
    larder.save(text)
    answer = httpx.post(drafts(larder, "larder-sketch")["go"], json={})
    assert answer.status_code == 409, answer.text
    larder.keep_next("larder-sketch", "go")
    assert httpx.post(drafts(larder, "larder-sketch")["go"], json={"n": 1}).json() == {"kept": True}


def test_the_command_waits_for_the_next_event(larder: Client, oak: Processes):
    with subprocess.Popen(
        [sys.executable, "-m", "oak_relay.cli", "--url", oak.url, "sample", "larder", "--next", "order", "--keep", "bell", "--json"],
        env=oak.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    ) as waiting:  # fmt: skip
        until(lambda: waiting.poll() is not None or larder.triggers("larder")[0].awaited)
        assert waiting.poll() is None, waiting.communicate()
        body = order("Long Shadow")
        sent = httpx.post(f"{oak.url}/hooks/larder/order", content=body, headers=signed(body, str(datetime.now(UTC))))
        assert sent.json() == {"kept": True}
        out, err = waiting.communicate(timeout=30)
    assert waiting.returncode == 0, err
    assert json.loads(out)["event"]["data"]["place"] == "Long Shadow"
    assert "/drafts/larder/order/" in err
