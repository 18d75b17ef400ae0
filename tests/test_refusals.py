"""What webhooks refuse is listed for those who build them; outside, nothing of the inside is told."""

import json
import shlex
import subprocess

import httpx
import pytest

from oak_relay.client import Client
from tests.conftest import OFFICE_KEY, SIGNING, Processes, until

GATE = """
oak: 1
workflow: gated
input: {type: object, required: [name], properties: {name: {type: string}}}
triggers:
  - {trigger: one, webhook: {path: gated, verify: {scheme: token, credential: gate, header: X-Gate}}}
  - {trigger: two, webhook: {path: gated/lost, waits: true, verify: {scheme: token, credential: never-stored}}}
  - {trigger: three, webhook: {path: gated/fails, waits: true, verify: {scheme: none}}}
steps:
  - step: inside
    do: http.request
    with: {url: "http://127.0.0.1:9/secret-place", credential: office}
    retry: {tries: 1}
result: ${ inside.body }
"""


@pytest.fixture(scope="module")
def gated(oak: Processes) -> Processes:
    client = oak.client()
    client.put_credential("gate", kind="bearer", secret="a-gate-of-iron", hosts=["127.0.0.1"])
    client.put_credential("never-stored", kind="bearer", secret="gone-in-a-minute", hosts=["127.0.0.1"])
    client.on(client.save(GATE).workflow)
    client.remove_credential("never-stored", anyway=True)
    return oak


def refused(oak: Processes, count: int = 1) -> list[dict]:
    headers = {"Authorization": f"Bearer {oak.token}"}

    def listed() -> list[dict] | None:
        answer = httpx.get(f"{oak.url}/api/v1/workflows/gated/refusals", headers=headers)
        assert answer.is_success, answer.text
        found = answer.json()["items"]
        return found if len(found) >= count else None

    return until(listed)


def test_deliveries_that_are_refused_are_listed_with_their_reason(gated: Processes):
    url, ours = f"{gated.url}/hooks/gated", {"X-Gate": "a-gate-of-iron"}
    agent = {"User-Agent": "hut bell/2 <b>"}
    assert httpx.post(url, json={"name": "x"}, headers={"X-Gate": "a-gate-of-tin"}).status_code == 401
    assert httpx.get(url, headers=ours).status_code == 405
    assert httpx.post(url, content=b"{", headers={**ours, "Content-Type": "application/json"}).status_code == 400
    assert httpx.post(url, json={"nome": "x"}, headers={**ours, **agent}).status_code == 422
    assert httpx.post(url, content=b"x" * 2_000_000, headers=ours).status_code == 413
    found = refused(gated, 4)
    by_status = {one["status"]: one for one in found}
    assert {401, 405, 400, 422} <= set(by_status)
    assert "name is missing" in by_status[422]["reason"]
    assert by_status[401]["reason"].startswith("the token is wrong")
    assert {one["source"] for one in found} == {"127.0.0.1"}
    assert "a-gate-of" not in json.dumps(found)


def test_outside_nothing_of_the_inside_is_told(gated: Processes, client: Client):
    lost = httpx.post(f"{gated.url}/hooks/gated/lost", json={"name": "x"}, headers={"X-Signature": "y"})
    assert lost.status_code == 503
    assert "never-stored" not in lost.text
    until(lambda: "there is no credential never-stored" in json.dumps(refused(gated)))
    failing = httpx.post(f"{gated.url}/hooks/gated/fails", json={"name": "x"}, timeout=60)
    assert failing.status_code == 502
    for told in ("127.0.0.1:9", "secret-place", "office", OFFICE_KEY):
        assert told not in failing.text
    run = failing.json()["run"]
    assert "secret-place" in client.run(run).run.error.message
    headers = {"Accept": "text/event-stream"}
    streamed = httpx.post(f"{gated.url}/hooks/gated/fails", json={"name": "x"}, headers=headers, timeout=60).text
    assert "event: error" in streamed
    assert "secret-place" not in streamed


SIGNED = """
oak: 1
workflow: ready-to-copy
input: {type: object, required: [name], properties: {name: {type: string, examples: ["Ada O'Fenn"]}}}
triggers:
  - {trigger: a, webhook: {path: copy/signed, verify: {scheme: signed, credential: copied}}}
  - {trigger: b, webhook: {path: copy/hmac, verify: {scheme: hmac, credential: copied-plain, header: X-Sign, prefix: "sha256=", signed: "{timestamp}.{id}.{body}"}}}
  - {trigger: c, webhook: {path: copy/hex, verify: {scheme: hmac, credential: copied-plain, encoding: base64, digest: sha512}}}
  - {trigger: d, webhook: {path: copy/token, verify: {scheme: token, credential: copied-token, header: X-Gate}}}
  - {trigger: e, webhook: {path: copy/bearer, waits: true, verify: {scheme: bearer, credential: copied-token}}}
  - {trigger: f, webhook: {path: copy/open, verify: {scheme: none}}}
  - {trigger: g, webhook: {path: copy/hands, verify: {scheme: none}, handshake: {token: hub.verify_token, credential: copied-token}}}
steps: [{step: a, set: {x: "${ input.name }"}}]
result: ${ a.x }
"""


def test_a_request_that_is_copied_is_taken(oak: Processes, client: Client):
    client.put_credential("copied", kind="signing", secret=SIGNING)
    client.put_credential("copied-plain", kind="signing", secret="plain secret with ' and $HOME")
    client.put_credential("copied-token", kind="bearer", secret="a-token-to-copy", hosts=["127.0.0.1"])
    client.on(client.save(SIGNED).workflow)
    secrets = {"copied": SIGNING, "copied-plain": "plain secret with ' and $HOME", "copied-token": "a-token-to-copy"}
    hooks = client.workflow("ready-to-copy").checked.model_dump()["hooks"]
    assert len(hooks) == 7
    for hook in hooks:
        text = hook["request"]
        for name, secret in secrets.items():
            text = text.replace(f"SECRET=…  # of the credential {name}\n", f"SECRET={shlex.quote(secret)}\n")
        text = text.replace("curl ", "curl -s --fail-with-body ").replace('$SECRET"  # the', 'a-token-to-copy"  # the')
        done = subprocess.run(["sh", "-e", "-c", text], capture_output=True, text=True, timeout=60)
        assert done.returncode == 0, (hook["path"], text, done.stdout)
        assert ("run" in done.stdout) != hook["waits"]
        assert "handshake" not in text or done.stdout.startswith("hello")


NAP = "oak: 1\nworkflow: naps\ninput: {type: object}\nsteps: [{step: nap, wait: '${ input.nap }'}]\nresult: done\n"


@pytest.mark.parametrize(
    ("prefer", "nap", "state", "result"),
    [
        ("wait=20", "50ms", "succeeded", "done"),
        ('respond-async, wait="20"', "50ms", "succeeded", "done"),
        ("wait=1", "1h", "waiting", None),
        ("return=minimal", "1h", None, None),
    ],
)
def test_who_starts_a_run_may_wait_for_it(oak: Processes, client: Client, prefer, nap, state, result):
    client.save(NAP)
    headers = {"Authorization": f"Bearer {oak.token}", "Prefer": prefer}
    body = {"workflow": "naps", "input": {"nap": nap}}
    answer = httpx.post(f"{oak.url}/api/v1/runs", json=body, headers=headers, timeout=60)
    assert answer.status_code == 201
    assert answer.json()["result"] == result
    assert state is None or answer.json()["state"] == state
    assert ("preference-applied" in answer.headers) == ("wait" in prefer)


def test_a_flood_of_refusals_is_bounded(gated: Processes):
    with httpx.Client() as http:
        for _ in range(700):
            http.post(f"{gated.url}/hooks/gated", json={}, headers={"X-Gate": "no", "User-Agent": "n" * 3000})
    ours = "SELECT count(*) FROM refusal r JOIN workflow w ON w.id = r.workflow_id WHERE w.name = 'gated'"
    until(lambda: gated.sql(ours) > 100)
    assert gated.sql(ours) <= 501
    assert gated.sql("SELECT max(length(agent)) FROM refusal") <= 200
