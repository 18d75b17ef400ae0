"""Nothing leaks: a secret is looked for everywhere, in every form."""

import base64
import json
from concurrent.futures import ThreadPoolExecutor
from urllib.parse import quote, quote_plus

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oak_relay.client.errors import Invalid
from oak_relay.vault.blanking import BLANK
from oak_relay.vault.keys import Basic
from oak_relay.vault.sealing import KeyProblem, Sealer, master_key, unwrap, wrap_new
from tests.conftest import Processes, until
from tests.test_service import ASKED

SECRET = "s3cr3t/with+odd=signs&räume-4711"
LEAKS = """
oak: 1
workflow: leaks
steps:
  - step: echoed
    do: http.request
    with: {url: "${ input.url }", method: POST, json: {text: "${ input.text }"}, credential: leaky, repeat: keyed}
  - step: kept
    do: table.add
    with: {table: refunds, row: {message: "${ echoed.body.header } ${ input.text }"}}
  - step: asked
    do: model.answer
    with: {model: careful, prompt: "Hello ${ echoed.body.header }"}
  - step: again
    do: http.request
    with: {url: "${ input.url }", method: POST, json: {text: "${ echoed.body.header }"}, repeat: keyed}
result: {header: "${ echoed.body.header }", length: "${ echoed.body.header | length }", forms: "${ echoed.body }"}
"""


def forms(secret: str) -> set[str]:
    raw = secret.encode()
    pair = Basic(secret=secret, user="office").authorization().headers["Authorization"].removeprefix("Basic ")
    return {secret, quote(secret, safe=""), quote_plus(secret), json.dumps(secret)[1:-1], base64.b64encode(raw).decode(), base64.b64encode(raw).decode().rstrip("="),
            base64.urlsafe_b64encode(raw).decode(), pair}  # fmt: skip


def shown(oak: Processes, run_id: str) -> list[str]:
    """What the service shows of a run and of what it left."""
    token = {"Authorization": f"Bearer {(oak.home / 'cli.token').read_text().strip()}"}
    paths = ("", "/trace", "/journal", "/stream")
    paths = (*(f"runs/{run_id}{path}" for path in paths), "credentials", "events", "runs", "tables/refunds/rows")
    answers = [httpx.get(f"{oak.url}/api/v1/{path}", headers=token, timeout=20).raise_for_status() for path in paths]
    for answer in answers:
        if "json" in answer.headers["content-type"]:
            assert answer.json() is not None
    return [answer.text for answer in answers]


def test_a_secret_appears_nowhere(oak: Processes, echo: str):
    """Rule 8: an outside service sends the secret back in every form; no response, trace, journal, log or column has it,
    nor could an expression get at it."""
    client = oak.client()
    client.put_credential("leaky", kind="basic", user="office", secret=SECRET, test_url=echo)
    client.save(LEAKS)
    said = [client.test_credential("leaky").model_dump_json()]
    run = client.start("leaks", {"url": echo, "text": "nothing of interest"})
    assert run.wait(30).state == "succeeded", run.wait().error
    assert run.result()["length"] == len("Basic ") + len(BLANK)
    said += shown(oak, run.id)
    said.append(oak.log.read_text(errors="replace"))
    tables = oak.rows("SELECT table_name FROM information_schema.tables WHERE table_schema = 'public'")
    for row in tables:
        said += [str(r) for r in oak.rows(f'SELECT t::text FROM "{row[0]}" t')]
    for form in forms(SECRET):
        assert not [text[:200] for text in said if form in text or form[::-1] in text], form
    assert any(BLANK in text for text in said)


@pytest.mark.parametrize("secret", [SECRET, "93017465528"])
def test_what_strangers_send_is_kept_as_it_is_and_blanked_where_it_is_shown(oak: Processes, echo: str, secret: str):
    """They are not told what is secret, nothing they send is corrupted, and JSON stays JSON: also for a secret of digits."""
    client = oak.client()
    client.put_credential("leaky", kind="basic", user="office", secret=secret, hosts=["127.0.0.1"])
    client.save(LEAKS)
    text = f"a guest wrote {secret} into the form"
    given = {"url": echo, "text": text, "n": int(secret) if secret.isdigit() else 1}
    run = client.start("leaks", given)
    assert run.wait(30).state == "succeeded", run.wait().error
    told = shown(oak, run.id)
    assert not [one[:200] for one in told if secret in one]
    assert any("a guest wrote ‹blanked› into the form" in one for one in told)
    kept = oak.sql("SELECT data->>'message' FROM table_row ORDER BY id DESC LIMIT 1")
    assert kept.endswith(text)
    assert secret in oak.sql("SELECT body FROM event ORDER BY id DESC LIMIT 1")


@pytest.fixture(scope="module")
def echo():
    """A service that sends back what it was sent, its credentials in every form."""
    import threading
    from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

    class Echo(BaseHTTPRequestHandler):
        def do_POST(self):
            length = int(self.headers.get("content-length") or 0)
            given = self.headers.get("authorization", "")
            told = sorted(forms(SECRET)) if given else []
            said = {"header": given, "body": self.rfile.read(length).decode(), "forms": told}
            body = json.dumps(said).encode()
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.send_header("X-Echo", quote(given))
            self.end_headers()
            self.wfile.write(body)

        do_GET = do_POST

        def log_message(self, *_):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Echo)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}/"
    server.shutdown()


@given(st.binary(max_size=200), st.text(max_size=20))
def test_what_is_sealed_opens_only_in_its_place(plain, context):
    master = b"k" * 32
    sealer = unwrap(master, wrap_new(master))
    sealed = sealer.seal(plain, context)
    assert sealer.open(sealed, context) == plain
    with pytest.raises(KeyProblem):
        sealer.open(sealed, context + "x")
    with pytest.raises(KeyProblem):
        Sealer(b"j" * 32).open(sealed, context)


def test_the_key_file_must_be_private(tmp_path):
    file = tmp_path / "master.key"
    assert master_key(file) == master_key(file)
    file.chmod(0o644)
    with pytest.raises(KeyProblem, match="chmod 600"):
        master_key(file)
    with pytest.raises(KeyProblem, match="32 bytes"):
        master_key(file, "c2hvcnQ=")


def test_processes_that_begin_at_once_agree_on_one_master_key(tmp_path):
    """The file is there whole or not at all."""
    file = tmp_path / "deep" / "master.key"
    with ThreadPoolExecutor(16) as pool:
        keys = set(pool.map(lambda _: master_key(file), range(64)))
    assert len(keys) == 1
    assert [f.name for f in file.parent.iterdir()] == ["master.key"]
    assert file.stat().st_mode & 0o777 == 0o600


def test_a_credential_is_changed_without_its_secret_but_not_sent_further(oak):
    client = oak.client()
    client.put_credential("changed", kind="bearer", secret="as-it-was-before", hosts=["a.example", "b.example"])
    tested = client.test_credential("changed")
    assert (tested.ok, tested.tried) == (False, False)
    client.put_credential("changed", kind="bearer", hosts=["a.example"], test_url="https://a.example/me")
    [now] = [c for c in client.credentials() if c.name == "changed"]
    assert now.config.hosts == ["a.example"]
    for further in (["a.example", "elsewhere.example"], ["http://a.example"], ["a.example:8443"]):
        with pytest.raises(Invalid, match="must be given again"):
            client.put_credential("changed", kind="bearer", hosts=further)
    with pytest.raises(Invalid):
        client.put_credential("changed", kind="signing")  # of another kind, it is another secret
    with pytest.raises(Invalid):
        client.put_credential("never-there", kind="bearer", hosts=["a.example"])
    client.put_credential("changed", kind="bearer", secret="as-it-is-now-then", hosts=["elsewhere.example"])
    client.remove_credential("changed")


def test_a_failing_address_beside_calls_that_work_says_both(oak):
    client = oak.client()
    given = {"kind": "header", "header": "X-API-Key", "secret": oak.office_key, "hosts": ["127.0.0.1"]}
    client.put_credential("half-right", **given, test_url=f"{oak.standins}/no/such/place")
    assert "But a call" not in client.test_credential("half-right").sentence
    client.save(ASKED.format(url=oak.standins, more="", gives="status"), over=True)
    assert client.start("asks-office", {"credential": "half-right"}).result() == 201
    worked = until(lambda: next(c for c in client.credentials() if c.name == "half-right").last_worked_at)
    tested = client.test_credential("half-right")
    assert not tested.ok
    assert f"But a call with it went well at {worked:%H:%M}" in tested.sentence
    assert "test_url" in tested.fix
    client.put_credential("half-right", **given)  # of what it is now, no call is known
    assert next(c for c in client.credentials() if c.name == "half-right").last_worked_at is None
    client.remove_credential("half-right")


def test_forms_and_errors_use_the_same_words(oak):
    with pytest.raises(Invalid, match=r"Only sent to \(hosts\)"):
        oak.client().put_credential("x", kind="bearer", secret="long enough", hosts=["no place at all"])
    with pytest.raises(Invalid, match=r"Secret \(secret\)"):
        oak.client().put_credential("x", kind="bearer", secret="short")
