"""`Idempotency-Key`: the same request twice is done once; parameters that a route does not have are refused."""

import uuid
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from oak_relay.client import Client
from oak_relay.client.errors import Conflict
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


def changing(client: Client, kind: str):
    """How something of a kind is made, what its tag is, how it is changed under a tag, and removed."""
    if kind == "credential":
        given = {"kind": "bearer", "hosts": ["127.0.0.1"]}
        return (
            lambda: client.put_credential("tagged", secret="first secret", **given),
            lambda: next(c for c in client.credentials() if c.name == "tagged").tag,
            lambda tag: client.put_credential("tagged", tag=tag, secret="other secret", **given),
            lambda tag: client.remove_credential("tagged", tag=tag),
        )
    if kind == "model":
        given = {"url": "http://127.0.0.1:9/v1", "model": "m"}
        return (
            lambda: client.put_model("tagged", unseen=True, **given),
            lambda: next(a for a in client.models() if a.name == "tagged").tag,
            lambda tag: client.put_model("tagged", unseen=True, tag=tag, **{**given, "model": "n"}),
            lambda tag: client.remove_model("tagged", tag=tag),
        )
    if kind == "server":
        return (
            lambda: client.put_server("tagged", url="http://127.0.0.1:9/a"),
            lambda: next(s for s in client.servers() if s.name == "tagged").tag,
            lambda tag: client.put_server("tagged", tag=tag, url="http://127.0.0.1:9/b"),
            lambda tag: client.remove_server("tagged", tag=tag),
        )
    if kind == "budget":
        return (
            lambda: client.put_budget("tagged", 5000),
            lambda: next(b for b in client.budgets() if b.name == "tagged").tag,
            lambda tag: client.put_budget("tagged", 6000, tag=tag),
            lambda tag: client.remove_budget("tagged", tag=tag),
        )
    client.create_table("tagged", {"n": "number"})

    def row():
        return client.rows("tagged")[0]

    return (
        lambda: client.add_rows("tagged", [{"n": 1}]),
        lambda: row().tag,
        lambda tag: client.update_row("tagged", row().id, {"n": 2}, tag=tag),
        lambda tag: client.remove_row("tagged", row().id, tag=tag),
    )


@pytest.mark.parametrize("kind", ["credential", "model", "server", "budget", "row"])
def test_of_two_who_change_the_same_the_second_is_told(client: Client, kind: str):
    make, tag, change, remove = changing(client, kind)
    make()
    first = tag()
    assert tag() == first
    change(first)
    assert tag() != first
    for late in (change, remove):
        with pytest.raises(Conflict, match="changed meanwhile"):
            late(first)
    change(None)
    remove(tag())
    with pytest.raises((StopIteration, IndexError)):
        tag()


def test_settings_have_a_tag(client: Client):
    client.save(
        "oak: 1\nworkflow: set-twice\nsettings: {properties: {fee: {type: number, default: 1}}}\nsteps: [{step: a, set: {x: 1}}]\nresult: 1\n"
    )
    first = client.workflow("set-twice").settings_tag
    client.settings("set-twice", {"fee": 2}, tag=first)
    with pytest.raises(Conflict):
        client.settings("set-twice", {"fee": 3}, tag=first)
    assert client.workflow("set-twice").settings == {"fee": 2}


def test_of_many_who_make_the_same_one_does(oak: Processes, api: httpx.Client):
    body = {"kind": "bearer", "secret": "made at once", "hosts": ["127.0.0.1"]}
    with ThreadPoolExecutor(8) as many:
        sent = many.map(lambda _: api.put("/credentials/at-once", json=body, headers={"If-None-Match": "*"}), range(8))
        assert sorted(answer.status_code for answer in sent) == [200] + [412] * 7
