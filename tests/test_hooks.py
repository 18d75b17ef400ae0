"""Webhooks in: verified, counted once, refused whole, kept as they came."""

import hmac
import json
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta

import httpx
import pytest
from standardwebhooks import Webhook

from oak_relay.client import Client
from tests.conftest import SIGNING, Processes, until

ECHO = """
oak: 1
workflow: echo
triggers:
  - trigger: site
    webhook: {path: echo}
steps:
  - step: kept
    set: {all: "${ input }"}
result: ${ kept.all }
"""
RESULT = """
oak: 1
workflow: answers
triggers:
  - trigger: ask
    webhook: {path: answers, waits: true}
steps:
  - step: early
    when: ${ input.early }
    reply: {status: 201, headers: {x-hut: Glasswater}, body: {hello: "${ input.name }"}}
  - step: no
    when: ${ input.bad }
    fail: there is no such hut
result: {dear: "${ input.name }"}
"""


@pytest.fixture(scope="module")
def url(oak: Processes, client: Client) -> str:
    for text in (ECHO, RESULT):
        client.on(client.save(text).workflow)
    return f"{oak.url}/hooks"


def signed(body: bytes, message_id: str, secret: str = SIGNING, at: datetime | None = None) -> dict[str, str]:
    at = at or datetime.now(UTC)
    return {
        "webhook-id": message_id,
        "webhook-timestamp": str(int(at.timestamp())),
        "webhook-signature": Webhook(secret).sign(message_id, at, body.decode()),
    }


BODY = json.dumps({"message": "Is breakfast included?", "guest": {"email": "hal@guests.example"}}).encode()


def test_a_webhook_sent_twice_makes_one_run(oak, client, url):
    """Rule 11, also when both arrive at once."""
    headers = signed(BODY, "msg_twice")
    with ThreadPoolExecutor(8) as pool:
        answers = list(pool.map(lambda _: httpx.post(f"{url}/bookings", content=BODY, headers=headers), range(16)))
    assert {a.status_code for a in answers} == {202}
    assert len({a.json()["run"] for a in answers}) == 1
    assert sum(not a.json()["duplicate"] for a in answers) == 1
    assert oak.sql("SELECT count(*) FROM event WHERE event_key = 'msg_twice'") == 1


@pytest.mark.parametrize(
    "headers",
    [
        {},
        signed(BODY, "msg_a", secret="whsec_" + "YW5vdGhlciBzZWNyZXQgYWx0b2dldGhlcg=="),
        {**signed(BODY, "msg_b"), "webhook-id": "msg_c"},
        signed(BODY + b" ", "msg_d"),
        signed(BODY, "msg_e", at=datetime.now(UTC) - timedelta(days=1)),
    ],
    ids=["none", "another secret", "another id", "another body", "old"],
)
def test_a_wrong_signature_is_refused_and_makes_no_run(oak, url, headers):
    before = oak.sql("SELECT count(*) FROM run")
    answer = httpx.post(f"{url}/bookings", content=BODY, headers=headers)
    assert answer.status_code == 401
    assert_problem(answer, "denied")
    assert oak.sql("SELECT count(*) FROM run") == before


@pytest.mark.parametrize(
    ("body", "status", "kind"),
    [
        (b"{", 400, "invalid"),
        (b"\xff\xfe", 400, "invalid"),
        (b"NaN", 400, "invalid"),
        (b"[" * 100_000, 413, "too_long"),
        (b'"' + b"x" * 1_000_001 + b'"', 413, "too_long"),
    ],
    ids=["broken", "not utf-8", "nan", "deep", "long"],
)
def test_bad_bodies_are_refused_as_problem_documents(url, body, status, kind):
    answer = httpx.post(f"{url}/echo", content=body)
    assert answer.status_code == status
    assert_problem(answer, kind)


def test_a_long_body_without_its_length_is_refused_too(url):
    answer = httpx.post(f"{url}/echo", content=(b"x" * 100_000 for _ in range(20)))
    assert answer.status_code == 413


def test_what_does_not_fit_the_input_is_refused(url):
    body = json.dumps({"message": "no guest"}).encode()
    answer = httpx.post(f"{url}/bookings", content=body, headers=signed(body, "msg_unfit"))
    assert answer.status_code == 422
    assert_problem(answer, "invalid")
    assert "guest" in answer.json()["detail"]


def test_an_unknown_path_is_a_problem_document(url):
    assert_problem(httpx.post(f"{url}/nowhere"), "missing")


ODD = ['{"a":"\\u0000"}', '{"a":"\\ud800"}', '{"n":123456789012345678901234567890}', '{"n":0.12345678901234567890123}', '{"\\u0000":1}',
       '{"z":1,"a":2}', "[]", '"text"', "null", "7"]  # fmt: skip


@pytest.mark.parametrize("body", ODD)
def test_odd_bodies_come_out_as_they_went_in(oak, client, url, body):
    neighbours = [httpx.post(f"{url}/echo", content=b'{"ok": true}') for _ in range(3)]
    answer = httpx.post(f"{url}/echo", content=body.encode())
    assert answer.status_code == 202
    for given, sent in [(answer, body), *((n, '{"ok":true}') for n in neighbours)]:
        run_id = given.json()["run"]
        until(lambda run_id=run_id: client.run(run_id).run.over)
        assert client.run(run_id).run.state == "succeeded"
        raw = oak.sql("SELECT result FROM run WHERE id = $1::text::uuid", run_id)
        assert raw == sent


def test_text_no_table_can_hold_fails_its_own_run_only(oak, client):
    client.save(
        "oak: 1\nworkflow: odd-row\nsteps:\n  - step: a\n    do: table.add\n    with: {table: refunds, row: {guest: '${ input.g }'}}\n"
    )
    runs = [client.start("odd-row", {"g": g}) for g in ("fine", "a\u0000b", "also fine")]
    ended = [r.wait() for r in runs]
    assert [r.state for r in ended] == ["succeeded", "failed", "succeeded"]
    assert ended[1].error.kind == "invalid"


def test_the_caller_gets_the_runs_answer(url):
    assert httpx.post(f"{url}/answers", json={"name": "Ada", "early": False, "bad": False}).json() == {"dear": "Ada"}
    early = httpx.post(f"{url}/answers", json={"name": "Bo", "early": True, "bad": False})
    assert (early.status_code, early.headers["x-hut"], early.json()) == (201, "Glasswater", {"hello": "Bo"})
    failed = httpx.post(f"{url}/answers", json={"name": "Cleo", "early": False, "bad": True})
    assert failed.status_code == 502
    assert failed.json()["title"] == "the run did not succeed"
    assert "hut" not in failed.text  # what went wrong inside is not the caller's


def test_the_new_on_version_answers_at_once(client, url):
    client.on(client.save(RESULT.replace("{dear:", "{hi:"), over=True).workflow)
    assert httpx.post(f"{url}/answers", json={"name": "Ada", "early": False, "bad": False}).json() == {"hi": "Ada"}
    client.off("answers")
    until(lambda: httpx.post(f"{url}/answers", json={}).status_code == 404)


def assert_problem(answer: httpx.Response, kind: str) -> None:
    assert answer.headers["content-type"] == "application/problem+json"
    problem = answer.json()
    assert problem["kind"] == kind
    assert problem["title"]
    assert problem["fix"]
    assert problem["status"] == answer.status_code


def hooked(client: Client, name: str, webhook: str, steps: str = "[{step: a, set: {x: 1}}]") -> None:
    text = f"oak: 1\nworkflow: {name}\ntriggers:\n  - {{trigger: t, webhook: {{path: {name}, {webhook}}}}}\nsteps: {steps}\nresult: 1\n"
    client.on(client.save(text).workflow)


def test_a_plain_token_in_a_header_proves_a_sender_and_is_kept_by_nobody(oak, client, url):
    client.put_credential("tide-token", kind="signing", secret="a-plain-token-2031")
    hooked(
        client, "by-token", "verify: {scheme: token, header: X-Tide-Token, prefix: 'Token ', credential: tide-token}"
    )
    for wrong in (
        {},
        {"X-Tide-Token": "a-plain-token-2031"},
        {"X-Tide-Token": "Token a-plain-token-2032"},
        {"Authorization": "Token a-plain-token-2031"},
    ):
        assert_problem(httpx.post(f"{url}/by-token", json={}, headers=wrong), "denied")
    sent = httpx.post(
        f"{url}/by-token", json={"hut": 1}, headers={"X-Tide-Token": "Token a-plain-token-2031", "X-Other": "kept"}
    )
    assert sent.status_code == 202
    kept = oak.sql("SELECT meta::text FROM event ORDER BY id DESC LIMIT 1")
    assert "kept" in kept
    assert "a-plain-token-2031" not in kept


def plain(message: str, **headers: str) -> dict[str, str]:
    made = hmac.new(b"a-plain-secret-2031", message.encode(), "sha256").hexdigest()
    return {"X-Signature": f"sha256={made}", **headers}


def test_a_signed_delivery_counts_once_whatever_it_is_called(client, url):
    """An id that is not signed proves nothing; one that is signed is the delivery's."""
    client.put_credential("plain-signing", kind="signing", secret="a-plain-secret-2031")
    hooked(client, "by-body", "verify: {scheme: hmac, prefix: 'sha256=', credential: plain-signing}")
    sent = [
        httpx.post(f"{url}/by-body", content="{}", headers=plain("{}", **{"webhook-id": name})).json()
        for name in ("one", "two")
    ]
    assert [one["duplicate"] for one in sent] == [False, True]
    assert httpx.post(f"{url}/by-body", content='{"a":1}', headers=plain('{"a":1}')).json()["duplicate"] is False
    hooked(
        client,
        "by-id",
        "verify: {scheme: hmac, prefix: 'sha256=', credential: plain-signing, signed: '{id}.{timestamp}.{body}'}",
    )

    def deliver(name: str, stamp: float, called: str | None = None, body: str = "{}") -> httpx.Response:
        headers = plain(f"{name}.{int(stamp)}.{body}", **{"webhook-id": called or name, "X-Timestamp": str(int(stamp))})
        return httpx.post(f"{url}/by-id", content=body, headers=headers)

    now = datetime.now(UTC).timestamp()
    assert deliver("one", now).json()["duplicate"] is False
    assert deliver("one", now + 1).json()["duplicate"] is True
    assert deliver("two", now).json()["duplicate"] is False
    assert deliver("three", now, called="four").status_code == 401
    assert deliver("five", now - 3_000).status_code == 401
    assert deliver("six", now + 3_000).status_code == 401
    assert (
        httpx.post(
            f"{url}/by-id", content="{}", headers=plain(f".{int(now)}.{{}}", **{"X-Timestamp": str(int(now))})
        ).status_code
        == 401
    )


def test_a_tolerance_that_is_none_is_found(client):
    text = "oak: 1\nworkflow: ajar\ntriggers:\n  - {trigger: t, webhook: {path: ajar, verify: {scheme: hmac, credential: booking-site, tolerance: Pzzz}}}\nsteps: [{step: a, set: {x: 1}}]\nresult: ${ a.x }\n"
    assert any("Pzzz" in found.message for found in client.check(text).findings)


def test_an_open_webhook_is_found_by_the_checker(client):
    text = "oak: 1\nworkflow: ajar\ntriggers:\n  - {trigger: t, webhook: {path: ajar%s}}\nsteps: [{step: a, set: {x: 1}}]\nresult: ${ a.x }\n"
    [found] = client.check(text % "").findings
    assert (found.severity, found.line) == ("warning", 4)
    assert "anybody may call /hooks/ajar" in found.message
    assert client.check(text % ", verify: {scheme: none}").findings == []


def test_an_answer_cannot_act_as_the_console(client, url):
    steps = """
  - step: page
    reply:
      status: 200
      headers: {content-type: text/html, set-cookie: "oak_session=evil", clear-site-data: "*", content-security-policy: "default-src *", x-hut: Glasswater}
      body: "<script>fetch('/api/v1/tokens', {method: 'POST'})</script>"
"""
    hooked(client, "a-page", "waits: true, verify: {scheme: none}", steps)
    found = httpx.post(f"{url}/a-page", json={})
    assert found.headers["content-type"].startswith("text/html")
    assert found.headers["x-hut"] == "Glasswater"
    assert found.headers["content-security-policy"].startswith("sandbox; default-src 'none'")
    assert found.headers.get_list("content-security-policy") == [found.headers["content-security-policy"]]
    assert "set-cookie" not in found.headers
    assert "clear-site-data" not in found.headers
