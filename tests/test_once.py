"""`Idempotency-Key`: the same request twice is done once; parameters that a route does not have are refused."""

import uuid
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from oak_relay.client import Client
from tests.conftest import Processes, until


@pytest.fixture(scope="module")
def api(oak: Processes) -> httpx.Client:
    return httpx.Client(base_url=f"{oak.url}/api/v1", headers={"Authorization": f"Bearer {oak.token}"}, timeout=60)


def keyed(api: httpx.Client, path: str, body: object, key: str) -> httpx.Response:
    return api.post(path, json=body, headers={"Idempotency-Key": key})


def test_the_same_request_again_gives_the_same_answer_and_does_nothing(api: httpx.Client, oak: Processes):
    key, body = str(uuid.uuid4()), {"name": "nightly"}
    first, second = keyed(api, "/tokens", body, key), keyed(api, "/tokens", body, key)
    assert (first.status_code, second.status_code) == (201, 201)
    assert first.json() == second.json()
    assert second.headers["idempotency-replayed"] == "true"
    assert oak.sql("SELECT count(*) FROM token WHERE name = 'nightly'") == 1
    secret = first.json()["secret"]
    assert all(
        secret.encode() not in bytes(row[0]) for row in oak.rows("SELECT answer FROM answered WHERE answer IS NOT NULL")
    )
    other = keyed(api, "/tokens", {"name": "weekly"}, key)
    assert (other.status_code, "another body" in other.text) == (422, True)
    assert (
        keyed(api, "/tables", {"name": "of_a_key", "columns": [{"name": "a", "type": "text"}]}, key).status_code == 201
    )  # elsewhere it is another
    assert (
        keyed(
            api, "/tables", {"name": "of_a_key", "columns": [{"name": "a", "type": "text"}]}, str(uuid.uuid4())
        ).status_code
        == 409
    )


def test_of_many_at_once_one_is_done(api: httpx.Client, oak: Processes, client: Client):
    client.create_table("many_keys", {"a": "number"})
    key = str(uuid.uuid4())
    with ThreadPoolExecutor(12) as many:
        found = list(many.map(lambda _: keyed(api, "/tables/many_keys/rows", {"rows": [{"a": 1}]}, key), range(24)))
    assert {answer.status_code for answer in found} <= {201, 409}
    assert len(client.rows("many_keys")) == 1
    again = until(
        lambda: (a := keyed(api, "/tables/many_keys/rows", {"rows": [{"a": 1}]}, key)).status_code == 201 and a
    )
    assert again.headers["idempotency-replayed"] == "true"


def test_what_was_refused_may_be_sent_again(api: httpx.Client):
    key, text = str(uuid.uuid4()), "oak: 1\nworkflow: keyed-flow\nsteps: [{step: a, set: {x: 1}}]\nresult: ${ a.x }\n"
    assert keyed(api, "/workflows/keyed-flow/duplicate", {"name": "keyed-two"}, key).status_code == 404
    assert keyed(api, "/workflows", {"text": text}, str(uuid.uuid4())).status_code == 201
    assert keyed(api, "/workflows/keyed-flow/duplicate", {"name": "keyed-two"}, key).status_code == 201
    again = keyed(api, "/workflows/keyed-flow/duplicate", {"name": "keyed-two"}, key)
    assert (again.status_code, again.json()["workflow"]) == (201, "keyed-two")


def test_what_was_cut_off_is_not_known(api: httpx.Client, oak: Processes):
    key, body = str(uuid.uuid4()), {"name": "cut-off"}
    assert keyed(api, "/tokens", body, key).status_code == 201
    oak.rows(
        "UPDATE answered SET status = NULL, answer = NULL, at = now() WHERE key = (SELECT key FROM answered ORDER BY at DESC LIMIT 1)"
    )
    under_way = keyed(api, "/tokens", body, key)
    assert (under_way.status_code, under_way.headers["retry-after"]) == (409, "1")
    oak.rows("UPDATE answered SET at = now() - interval '5 minutes' WHERE status IS NULL")
    assert "not known" in keyed(api, "/tokens", body, key).json()["title"]
    oak.rows("UPDATE answered SET at = now() - interval '2 days' WHERE status IS NULL")
    assert keyed(api, "/tokens", body, key).status_code == 201
    assert oak.sql("SELECT count(*) FROM token WHERE name = 'cut-off'") == 2


@pytest.mark.parametrize("key", ["", "x" * 201, "tab\there", "ü" * 150])
def test_what_is_no_key_is_refused(api: httpx.Client, key: str):
    sent = {"Idempotency-Key": key.encode("latin-1", "replace")}
    answer = api.post("/tokens", json={"name": "never"}, headers=sent)  # type: ignore[arg-type]
    assert answer.status_code == (201 if key.startswith("ü") else 400)


def test_a_stranger_leaves_nothing_behind(oak: Processes):
    before = oak.sql("SELECT count(*) FROM answered")
    answer = httpx.post(
        f"{oak.url}/api/v1/tokens", json={"name": "x"}, headers={"Idempotency-Key": "k", "Authorization": "Bearer no"}
    )
    assert answer.status_code == 401
    assert oak.sql("SELECT count(*) FROM answered") == before


def test_a_run_begun_by_another_body_under_its_key_is_refused(api: httpx.Client, client: Client):
    client.save(
        "oak: 1\nworkflow: keyed-run\ninput: {type: object}\nsteps: [{step: a, set: {x: 1}}]\nresult: ${ a.x }\n"
    )
    key = str(uuid.uuid4())
    first = keyed(api, "/runs", {"workflow": "keyed-run", "input": {"n": 1}}, key)
    second = keyed(api, "/runs", {"workflow": "keyed-run", "input": {"n": 1}}, key)
    assert (first.status_code, second.status_code) == (201, 200)
    assert first.json()["id"] == second.json()["id"]
    assert keyed(api, "/runs", {"workflow": "keyed-run", "input": {"n": 2}}, key).status_code == 422


@pytest.mark.parametrize(
    "path", ["/runs?stat=failed", "/workflows?limit=5&x=1", "/usage?by=day&bye=1", "/tables/none/rows?limt=1"]
)
def test_parameters_that_are_not_there_are_refused(api: httpx.Client, path: str):
    answer = api.get(path)
    assert answer.status_code == 422
    assert answer.json()["title"].startswith("there is no parameter")
