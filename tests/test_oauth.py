"""OAuth apps: consent, tokens that are refreshed by one process, and whatever a provider does."""

import asyncio
import contextlib
import json
import signal
import time
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.client import Run
from oak_relay.client.errors import Invalid, OakRelayError
from oak_relay.vault import oauth
from oak_relay.vault.oauth import Begun, Nonsense, OAuth, client_file, denied_of, provider_of, tokens_of
from tests.conftest import OFFICE_SECRET, Processes, until
from tests.office import app, behave, connect, said, settled

FLOW = """oak: 1
workflow: {name}
steps:
  - step: hello
    do: http.request
    with: {{method: POST, url: "{office}/replies", json: {{to: a}}, credential: {credential}, repeat: keyed}}
    retry: {{tries: 4, wait: 1s}}
result: ${{ hello.body.id }}
"""


def flow(oak: Processes, name: str, credential: str) -> str:
    """A workflow that replies to somebody, switched on."""
    client = oak.client()
    client.save(FLOW.format(name=name, office=f"{oak.standins}/office", credential=credential), over=True)
    client.on(name)
    return name


@pytest.fixture
def desk(lone: Processes) -> Processes:
    """A service with a worker and a clock, and the office connected as `desk`."""
    lone.start_worker()
    lone.start("tick")
    client = lone.client()
    client.put_credential("desk", **app(lone))
    flow(lone, "hello", "desk")
    connect(client, "desk")
    return lone


def state(oak: Processes) -> dict[str, int]:
    """What the office did so far."""
    return dict(httpx.get(f"{oak.standins}/office/oauth/state.json").json())


def waits(oak: Processes, run: object) -> bool:
    """Whether a run rests."""
    return oak.client().run(run.id).run.state == "waiting"  # type: ignore[attr-defined]


# Consent


def test_a_run_waits_for_a_consent_and_goes_on_by_itself(lone: Processes):
    lone.start_worker()
    lone.start("tick")
    client = lone.client()
    client.put_credential("desk", **app(lone))
    assert "not connected yet" in str(
        client.check(FLOW.format(name="x", office="http://a.example", credential="desk")).findings
    )
    settled(lone)
    run = client.start(flow(lone, "hello", "desk"))
    until(lambda: client.credential_use("desk").waiting)
    assert waits(lone, run)
    tested = client.test_credential("desk")
    assert not tested.ok and "nobody has consented" in tested.sentence
    done = connect(client, "desk")
    assert (done.waiting, done.credential.connection.account) == (1, "office@larkspur.example")
    assert run.result() == "reply-1"
    tested = client.test_credential("desk")
    assert tested.ok and "reply to guests" in tested.may
    assert not client.check(FLOW.format(name="x", office="http://a.example", credential="desk")).findings
    use = client.credential_use("desk")
    assert [(one.name, one.on) for one in use.workflows] == [("hello", True)]
    assert use.would_stop and "hello is on" in use.sentence and use.runs[0].workflow == "hello"


def test_what_somebody_made_up_connects_nothing(lone: Processes):
    client = lone.client()
    client.put_credential("desk", **app(lone))
    other = client.add_token("other-hand", None, None, None)
    with pytest.raises(Invalid, match="nothing was begun"):
        client.finish_consent(state="forged-state-of-somebody", code="made-up")
    back = said(client.begin_consent("desk").url)
    with pytest.raises(Invalid, match="another provider"):
        client.finish_consent(**{**back, "iss": "https://elsewhere.example"})
    with pytest.raises(Invalid, match="nothing was begun"):  # it counted once
        client.finish_consent(**back)
    back = said(client.begin_consent("desk").url)
    without = {key: value for key, value in back.items() if key != "iss"}
    with pytest.raises(Invalid, match="another provider"):
        client.finish_consent(**without)
    back = said(client.begin_consent("desk").url, "no")
    with pytest.raises(Invalid, match="there was no consent"):
        client.finish_consent(**back)
    back = said(client.begin_consent("desk").url)
    with pytest.raises(Invalid, match=r"used, is too old"):
        client.finish_consent(**{**back, "code": "another-code"})
    assert client.credentials() and next(c for c in client.credentials() if c.name == "desk").connection.state == "none"
    assert other.secret


def test_who_did_not_begin_does_not_finish(lone: Processes):
    client = lone.client()
    client.put_credential("desk", **app(lone))
    lone.rows(
        "INSERT INTO member (workspace_id, id, name, role, password_hash) "
        "SELECT workspace_id, gen_random_uuid(), 'other', role, password_hash FROM member WHERE name = 'owner'"
    )
    back = said(client.begin_consent("desk").url)
    with httpx.Client(base_url=lone.url) as browser:  # somebody else, signed in
        signed = browser.post("/api/v1/session", json={"name": "other", "password": lone.password})
        assert signed.is_success
        answer = browser.post("/api/v1/consents", json=back, headers={"Sec-Fetch-Site": "same-origin"})
    assert answer.status_code == 403 and "somebody else" in answer.text


def test_a_redirect_that_is_not_registered_leads_nowhere(lone: Processes):
    client = lone.client()
    client.put_credential("desk", **app(lone))
    begun = client.begin_consent("desk")
    query = {name: found[0] for name, found in parse_qs(urlsplit(begun.url).query).items()}
    assert query["code_challenge_method"] == "S256" and len(query["state"]) > 40
    wrong = {**query, "redirect_uri": "http://elsewhere.example/back"}
    page = httpx.get(begun.url.partition("?")[0], params=wrong)
    assert page.status_code == 400 and "not registered" in page.text and "location" not in page.headers


def test_only_what_was_given_may_be_done_and_what_is_missing_is_asked_for_next(desk: Processes):
    client = desk.client()
    behave(desk, gives=["bookings.read"])
    assert "was not given replies.write" in connect(client, "desk").sentence

    def failed() -> Run | None:
        """A worker may believe what was consented to before until it heard otherwise."""
        run = client.start("hello").wait()
        return run if run.state == "failed" else None

    assert "has not the scope replies.write" in until(failed).error.message
    connection = next(c for c in client.credentials() if c.name == "desk").connection
    assert connection.scopes == ["bookings.read"] and connection.lacking == ["replies.write"]
    client.put_credential("desk", **{**app(desk), "scopes": ["bookings.read"], "secret": ""})
    assert client.begin_consent("desk").scopes == ["bookings.read", "replies.write"]
    behave(desk, gives=[])
    connect(client, "desk")
    assert client.start("hello").result() == "reply-1"


# Tokens


def test_a_token_that_ends_in_the_middle_of_a_run_is_refreshed(desk: Processes):
    client = desk.client()
    assert client.start("hello").result()
    behave(desk, expire=True)  # it is over earlier than was said
    assert client.start("hello").result()
    assert state(desk)["refreshed"] == 1
    behave(desk, lifetime=1)
    behave(desk, expire=True)
    for _ in range(3):
        assert client.start("hello").result()
        time.sleep(1.1)  # its token is over by the clock, as was said
    assert "reused" not in state(desk)


@pytest.mark.long
def test_one_of_four_workers_refreshes_under_load(desk: Processes):
    for _ in range(3):
        desk.start_worker()
    client = desk.client()
    behave(desk, lifetime=2)
    behave(desk, expire=True)
    began = time.monotonic()
    runs = []
    while time.monotonic() - began < 8:
        runs += [client.start("hello") for _ in range(20)]
    assert all(run.wait(60).state == "succeeded" for run in runs)
    took, told = time.monotonic() - began, state(desk)
    # Each holds two seconds, and is replaced a little before its end: so often and no more, however many ask for it.
    assert 2 <= told["refreshed"] <= took / 1.3 + 3, (told, took, len(runs))
    assert "reused" not in told
    print(f"{len(runs)} runs in {took:.1f} s by 4 workers: {told['refreshed']} refreshes")


def test_a_consent_that_was_withdrawn_rests_runs_until_it_is_given_again(desk: Processes):
    client = desk.client()
    assert client.start("hello").result()
    settled(desk)
    behave(desk, withdraw=True)
    run = client.start("hello")
    [broken] = until(lambda: [one for one in client.broken_credentials() if one.waiting])
    assert (broken.credential, broken.by, broken.waiting) == ("desk", "this machine", 1)
    assert "does not take the consent any more" in broken.why
    asked = state(desk)["asked refresh_token"]
    again = client.start("hello")  # it is not asked for each of them
    until(lambda: waits(desk, again))
    assert state(desk)["asked refresh_token"] == asked
    assert connect(client, "desk").waiting == 2
    assert run.result() and again.result()
    assert not client.broken_credentials()


@pytest.mark.parametrize("rotates", [True, pytest.param(False, marks=pytest.mark.long)])
def test_a_worker_that_dies_between_the_reply_and_the_commit(desk: Processes, rotates: bool):
    """The provider has replaced its refresh token, and nobody knows by what: it is tried once more, then says why."""
    client = desk.client()
    behave(desk, rotates=rotates, lifetime=3600)
    behave(desk, expire=True)
    desk.fault(service="provider", kind="slow_after", path="token", seconds=5)
    [worker] = [process for process in desk.running if "work" in process.args]
    run = client.start("hello")
    until(lambda: state(desk).get("refreshed"))  # the work is done there, the reply is held back
    desk.kill(worker, signal.SIGKILL)
    desk.start_worker()
    if not rotates:
        assert run.result(60)
        assert state(desk)["refreshed"] == 2
        return
    [broken] = until(lambda: client.broken_credentials(), 60)
    assert "cut off" in broken.why and "used before" in broken.why
    assert state(desk)["reused"] == 1, "it was tried once"
    until(lambda: waits(desk, run))
    connect(client, "desk")
    assert run.result()


def test_a_reply_that_is_lost(desk: Processes):
    client = desk.client()
    behave(desk, expire=True)
    desk.fault(service="provider", kind="drop_after", path="token")
    run = client.start("hello")
    [broken] = until(lambda: client.broken_credentials(), 60)
    assert "cut off" in broken.why
    connect(client, "desk")
    assert run.wait(30).state in ("succeeded", "failed")
    assert client.start("hello").result()


def test_a_provider_that_is_away_slow_or_answers_nonsense(desk: Processes):
    """A token that holds still is used; without one calls fail as what may be tried again."""
    client = desk.client()
    behave(desk, rotates=False)
    behave(desk, expire=True)
    desk.fault(service="provider", status=503, retry_after=1)
    assert client.start("hello").result(), "tried again, and it was there"
    behave(desk, expire=True)
    desk.fault(service="provider", kind="slow", seconds=3)
    assert client.start("hello").result(), "it was waited for"
    behave(desk, expire=True, nonsense=1)
    assert client.start("hello").result(60), "what made no sense was asked again"
    assert not client.broken_credentials()
    # Ahead of its end nobody waits for a provider that is slow.
    behave(desk, lifetime=60)
    behave(desk, expire=True)
    assert client.start("hello").result()
    desk.rows(
        "UPDATE consent SET expires_at = now() + interval '5 s', refreshed_at = now() - interval '50 s', retry_at = NULL, account = account || ' '"
    )
    until(lambda: desk.sql("SELECT parts->>'consent' FROM generation"))
    time.sleep(2.1)  # until every process has heard of it
    before = state(desk)["refreshed"]
    desk.fault(service="provider", kind="slow", seconds=6)
    began = time.monotonic()
    assert client.start("hello").result()
    assert time.monotonic() - began < 5
    until(lambda: state(desk)["refreshed"] > before)


def test_tokens_go_where_they_may_and_to_no_other_provider(desk: Processes):
    client = desk.client()
    own = {key: value for key, value in app(desk).items() if key != "secret"}
    elsewhere = f"http://localhost:{desk.outside}/office/replies"
    client.save(FLOW.format(name="else", office=elsewhere.removesuffix("/replies"), credential="desk"), over=True)
    client.on("else")
    ended = client.start("else").wait()
    assert ended.state == "failed" and "may only be sent to" in ended.error.message
    for wider in (
        {"hosts": ["127.0.0.1", "elsewhere.example"]},
        {"token_url": "http://127.0.0.1:1/token"},
        {"revoke_url": "https://elsewhere.example/r"},
    ):
        with pytest.raises(Invalid, match="must be given again"):
            client.put_credential("desk", **{**own, **wider})
    client.put_credential("desk", **{**own, "scopes": ["bookings.read"]})
    assert next(c for c in client.credentials() if c.name == "desk").connection.state == "ready", (
        "what was consented to stays"
    )
    client.put_credential("desk", **{**app(desk), "token_url": f"{desk.standins}/office/oauth/other"})
    assert next(c for c in client.credentials() if c.name == "desk").connection.state == "none", (
        "of another app it does not"
    )


def test_what_was_disconnected_is_taken_back_and_one_in_use_is_not_removed_by_mistake(desk: Processes):
    client = desk.client()
    with pytest.raises(OakRelayError, match="in use"):
        client.remove_credential("desk")
    client.forget_consent("desk")
    assert state(desk)["revoked"] == 1
    connect(client, "desk")
    client.remove_credential("desk", anyway=True)
    assert state(desk)["revoked"] == 2
    assert desk.sql("SELECT count(*) FROM consent") == 0


def test_a_secret_that_was_wrong_is_given_again_and_nobody_consents_anew(desk: Processes):
    client = desk.client()
    assert client.start("hello").result()
    client.put_credential("desk", **{**app(desk), "secret": "not-the-secret-there"})
    settled(desk)
    behave(desk, expire=True)
    run = client.start("hello")
    [broken] = until(lambda: [one for one in client.broken_credentials() if one.waiting])
    assert "does not know the app" in broken.why
    client.put_credential("desk", **app(desk))
    assert run.result()
    assert not client.broken_credentials() and state(desk)["consents"] == 1


def test_an_app_that_acts_for_itself_needs_nobody(lone: Processes):
    lone.start_worker()
    client = lone.client()
    client.put_credential("machine", **app(lone, grant="client", authorize_url="", way="post"))
    assert client.start(flow(lone, "alone", "machine")).result()
    assert client.test_credential("machine").ok
    with pytest.raises(OakRelayError, match="acts for itself"):
        client.begin_consent("machine")
    behave(lone, expire=True)
    assert client.start("alone").result()
    assert state(lone)["asked client_credentials"] == 2
    client.put_credential(
        "machine", **app(lone, grant="client", authorize_url="", way="post", secret="not-the-secret-there")
    )
    behave(lone, expire=True)
    lone.start("tick")
    settled(lone)
    run = client.start("alone")
    until(lambda: client.credential_use("machine").waiting)
    assert not client.broken_credentials()
    client.put_credential("machine", **app(lone, grant="client", authorize_url="", way="post"))
    assert run.result()


def test_tokens_appear_nowhere_and_leave_the_list_after_a_day(desk: Processes):
    client = desk.client()
    told = [client.test_credential("desk").model_dump_json()]
    tokens = set()
    for _ in range(3):
        behave(desk, expire=True)
        run = client.start("hello")
        assert run.result()
        told.append(client.trace(run.id).model_dump_json())
    held = asyncio.run(_held(desk))
    tokens |= held
    told += [
        httpx.get(f"{desk.url}/api/v1/{path}", headers={"Authorization": f"Bearer {desk.token}"}).text
        for path in ("credentials", "tray/connections", "runs")
    ]
    told.append(desk.log.read_text(errors="replace"))
    for row in desk.rows("SELECT table_name FROM information_schema.tables WHERE table_schema = 'public'"):
        told += [str(one) for one in desk.rows(f'SELECT t::text FROM "{row[0]}" t')]
    assert len(tokens) >= 6
    assert not [text[:100] for text in told for token in tokens if token in text or token[:30] in text]
    assert desk.sql("SELECT count(*) FROM past_secret WHERE until < now() + interval '26 hours'") >= 5
    desk.rows("UPDATE past_secret SET until = now() - interval '1 s' WHERE until IS NOT NULL")
    desk.start("tick")  # which sweeps when it begins
    until(lambda: not desk.sql("SELECT count(*) FROM past_secret WHERE until IS NOT NULL"))


async def _held(oak: Processes) -> set[str]:
    """The tokens that are stored, and those that were."""
    from sqlalchemy import select

    from oak_relay.store import consents
    from oak_relay.store.database import Database
    from oak_relay.store.keyring import Keyring
    from oak_relay.store.tables import past_secret
    from oak_relay.vault.sealing import master_key

    database = Database(oak.environment["OAK_RELAY_DATABASE_URL"])
    keyring = await Keyring.open(database, 1, lambda: master_key(oak.home / "master.key"))
    async with database.connect() as connection:
        one = await consents.one(connection, 1, "desk", keyring)
        past = (await connection.execute(select(past_secret).where(past_secret.c.until.is_not(None)))).all()
    await database.close()
    assert one is not None
    return {*one.secrets, *(keyring.open_sealed(row.sealed, f"past/1/{row.digest}").decode() for row in past)}


# An app by what its provider tells


def test_an_app_is_read_from_its_client_file_or_its_issuer(lone: Processes):
    client = lone.client()
    file = httpx.get(f"{lone.standins}/office/oauth/client.json").text
    by_file = client.look_at_provider(file=file)
    assert (by_file.client_id, by_file.registered) == ("larkspur-relay", True)
    assert OFFICE_SECRET not in by_file.model_dump_json()
    by_issuer = client.look_at_provider(issuer=f"{lone.standins}/office")
    assert by_issuer.token_url == by_file.token_url and by_issuer.named_issuer and "replies.write" in by_issuer.scopes
    for wrong in ("nonsense", "[1]", '{"web": 5}', '{"web": {"client_id": 7}}', "{" * 5000):
        with pytest.raises(Invalid):
            client.look_at_provider(file=wrong)
    with pytest.raises(Invalid, match="tells nothing"):
        client.look_at_provider(issuer=f"{lone.standins}/nowhere")


def test_metadata_of_another_issuer_are_not_believed():
    told = {"issuer": "https://b.example", "token_endpoint": "https://b.example/t"}
    with pytest.raises(Nonsense, match=r"b\.example"):
        provider_of(json.dumps(told).encode(), "https://a.example")
    with pytest.raises(Nonsense, match="PKCE"):
        provider_of(json.dumps({**told, "code_challenge_methods_supported": ["plain"]}).encode(), "https://b.example")


@settings(max_examples=300)
@given(
    st.one_of(
        st.binary(max_size=300),
        st.recursive(
            st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=30),
            lambda inner: (
                st.lists(inner, max_size=3)
                | st.dictionaries(
                    st.sampled_from(
                        ["access_token", "refresh_token", "expires_in", "scope", "id_token", "error", "token_type", "x"]
                    ),
                    inner,
                    max_size=5,
                )
            ),
        ).map(lambda value: json.dumps(value).encode()),
    )
)
def test_whatever_a_provider_answers_is_tokens_an_error_or_nonsense(body: bytes):
    with contextlib.suppress(Nonsense):
        found = tokens_of(body)
        assert found.access and (found.seconds is None or 0 <= found.seconds < 1e9)
    denied = denied_of(body)
    assert denied is None or len(str(denied)) < 500
    with contextlib.suppress(Nonsense):
        assert client_file(body.decode("utf-8", "replace")).client_id


@pytest.mark.parametrize(
    "more",
    [{"authorize_url": ""}, {"grant": "client", "secret": None}, {"scopes": ["two words"]}, {"extra": {"state": "mine"}}, {"token_url": "ftp://a.example"},
     {"hosts": [], "test_url": ""}, {"client_id": ""}, {"secret": "short"}],
)  # fmt: skip
def test_an_app_that_cannot_work_is_refused(more):
    whole = {
        "authorize_url": "https://a.example/a",
        "token_url": "https://a.example/t",
        "client_id": "c",
        "secret": "long-enough-1",
        "hosts": ["a.example"],
    }
    OAuth(**whole)
    with pytest.raises(ValueError):
        OAuth(**{**whole, **more})


def test_every_consent_is_begun_with_what_nobody_can_guess():
    begun = {Begun.new().state for _ in range(100)}
    assert len(begun) == 100
    assert oauth.LARGEST < 1_000_000
