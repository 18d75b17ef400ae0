"""The service on loopback, through its client, its command line and plain HTTP."""

import json
import re
import subprocess
import sys
from pathlib import Path

import httpx
import pytest

from oak_relay.cli.main import main
from oak_relay.client import AsyncClient, Client, Conflict, Denied, Invalid, NotFound, RunFailed, Unreachable
from oak_relay.client.results import RunData, Span
from tests.conftest import ROOT, Processes, until

HELLO = """
oak: 1
workflow: hello
title: Says hello
input: {type: object, required: [name], properties: {name: {type: string, examples: [Ada Fenn]}}}
settings: {properties: {word: {type: string, default: Welcome}}}
subject: ${ input.name }
steps:
  - step: greeting
    set: {text: "${ settings.word }, ${ input.name }."}
result: ${ greeting.text }
"""


@pytest.fixture
def hello(client: Client) -> str:
    return client.on(client.save(HELLO, over=True).workflow).name


def cli(oak: Processes, *arguments: str, given: str = "") -> subprocess.CompletedProcess[str]:
    environment = {**oak.environment, "OAK_RELAY_URL": oak.url, "COLUMNS": "150"}
    return subprocess.run([sys.executable, "-m", "oak_relay.cli", *arguments], env=environment, input=given, capture_output=True, text=True, check=False)  # fmt: skip


# Workflows


def test_saving_gives_versions_and_the_same_text_none(client, hello):
    first = client.workflow(hello).version
    assert client.save(HELLO).new is False
    again = client.save(HELLO.replace("Says hello", "Says hello well"), first)
    assert (again.new, again.version) == (True, first + 1)
    with pytest.raises(Conflict, match=f"version {first + 1}, saved by this machine, is the newest"):
        client.save(HELLO.replace("Says hello", "Says hello badly"), expected=first)
    assert client.workflow(hello, first).text == HELLO


def test_a_document_with_mistakes_is_refused_with_all_of_them(client):
    with pytest.raises(Invalid) as caught:
        client.save(HELLO.replace("set: {", "sett: {").replace("title:", "titel:"))
    assert {f.line for f in caught.value.findings} == {4, 10}


def test_settings_reach_runs_and_must_fit(client, hello):
    client.settings(hello, {"word": "Good morning"})
    assert client.start(hello, {"name": "Ada"}).result() == "Good morning, Ada."
    with pytest.raises(Invalid, match="do not fit"):
        client.settings(hello, {"word": 3})
    with pytest.raises(Invalid, match="no setting"):
        client.settings(hello, {"words": "x"})
    client.settings(hello, {})


def test_render_shows_a_prompt_before_anything_is_sent(oak, client):
    before = sum(oak.worked().values())
    text = (ROOT / "demo" / "workflows" / "booking-triage.yaml").read_text()
    sample = {"message": "Is breakfast included?", "guest": {"email": "ida@guests.example"}}
    steps = {"rules": {"rows": [{"rule": "Breakfast is included."}]}}
    shown = client.render(text, "draft", sample, steps)
    assert [m["role"] for m in shown.messages] == ["system", "user"]
    assert "- Breakfast is included.\n" in shown.messages[0]["content"]
    assert sum(oak.worked().values()) == before


def test_two_workflows_cannot_share_a_webhook_path(client):
    hook = "triggers:\n  - trigger: site\n    webhook: {path: shared}\n"
    client.on(
        client.save(
            HELLO.replace("workflow: hello", "workflow: first-hook").replace("settings:", hook + "settings:")
        ).workflow
    )
    client.save(HELLO.replace("workflow: hello", "workflow: second-hook").replace("settings:", hook + "settings:"))
    with pytest.raises(Conflict, match="first-hook"):
        client.on("second-hook")


# Runs


def test_a_run_from_start_to_trace(client, hello):
    run = client.start(hello, {"name": "Ada"}, key="once-only")
    assert client.start(hello, {"name": "Ada"}, key="once-only").id == run.id
    ended = run.wait()
    assert (ended.state, ended.subject, ended.steps) == ("succeeded", "Ada", 1)
    detail = client.run(run.id)
    assert detail.result == "Welcome, Ada."
    assert detail.why == ""
    assert [s.path for s in run.trace().spans] == ["greeting"]


def test_input_that_does_not_fit_is_refused(client, hello):
    with pytest.raises(Invalid, match="name"):
        client.start(hello, {})


def test_runs_are_listed_by_filter_and_page_stably(client, hello):
    ids = [client.start(hello, {"name": "Paging"}).wait().id for _ in range(5)]
    first = client.runs(workflow=hello, subject="Paging", limit=2)
    client.start(hello, {"name": "Paging"}).wait()  # a newcomer does not shift later pages
    second = client.runs(workflow=hello, subject="Paging", limit=2, after=first.next)
    assert [r.id for r in (*first, *second)] == ids[::-1][:4]
    assert all(r.state == "failed" for r in client.runs(state="failed"))


def test_following_a_run_tells_its_spans_and_its_end(client):
    client.save(
        HELLO.replace("workflow: hello", "workflow: slow-hello").replace(
            "steps:\n", "steps:\n  - step: pause\n    wait: 700ms\n"
        )
    )
    heard = list(client.start("slow-hello", {"name": "Bo"}).follow())
    assert {s.path for s in heard if isinstance(s, Span)} == {"pause", "greeting"}
    last = heard[-1]
    assert isinstance(last, RunData)
    assert last.state == "succeeded"


def test_a_failed_run_says_why(client):
    client.save("oak: 1\nworkflow: fails\nsteps:\n  - step: no\n    fail: there is no hut ${ input.hut }\n")
    with pytest.raises(RunFailed, match="there is no hut Nowhere") as caught:
        client.start("fails", {"hut": "Nowhere"}).result()
    assert caught.value.state == "failed"


def test_once_means_once_ever(client):
    text = "oak: 1\nworkflow: once-only\nsteps:\n  - step: gift\n    once: ${ input.who }\n    do: table.add\n    with: {table: refunds, row: {guest: '${ input.who }'}}\nresult: ${ gift.id | default('had it') if gift else 'had it' }\n"  # fmt: skip
    client.save(text, over=True)
    results = [client.start("once-only", {"who": who}).result() for who in ("Una", "Una", "Vic")]
    assert [r == "had it" for r in results] == [False, True, False]


def test_upserts_at_once_make_one_row(client):
    """Rule 5: local writes are sorted by key; a match is updated, not doubled."""
    client.create_table("counted", {"guest": "text", "n": "number"})
    client.add_rows("counted", [{"guest": "Ada", "n": -1}])
    client.save("oak: 1\nworkflow: counts-at-once\nsteps:\n  - step: row\n    do: table.upsert\n    with: {table: counted, match: [guest], row: {guest: '${ input.g }', n: '${ input.n }'}}\n")  # fmt: skip
    started = [client.start("counts-at-once", {"g": g, "n": n}) for n in range(10) for g in ("Ada", "Bo")]
    assert {r.wait().state for r in started} == {"succeeded"}
    assert sorted(r.row["guest"] for r in client.rows("counted")) == ["Ada", "Bo"]


def test_a_model_call_beyond_the_runs_money_is_not_made(oak, client):
    before = sum(oak.worked().values())
    client.save(
        "oak: 1\nworkflow: poor\nlimits: {money: 0.000001}\nsteps:\n  - step: a\n    do: model.answer\n    with: {model: careful, prompt: Hello}\n"
    )
    ended = client.start("poor").wait()
    assert ended.error.kind == "over_limit"
    assert sum(oak.worked().values()) == before


def test_a_flood_of_answers_is_labelled_out_of_a_closed_set(client):
    client.save("oak: 1\nworkflow: labels\nsteps:\n  - step: kind\n    do: model.label\n    with: {model: quick, text: '${ input.text }', labels: {content: is glad and thankful, discontent: is angry or sad}}\nresult: ${ kind.label }\n")  # fmt: skip
    assert client.start("labels", {"text": "I am angry about the cold soup"}).result() == "discontent"


ASKED = """
oak: 1
workflow: asks-office
steps:
  - step: a
    do: http.request
    with:
      url: {url}/office/replies
      method: POST
      json: {{to: x}}
      repeat: keyed
      credential: ${{ input.credential }}
    {more}
result: ${{ a.{gives} }}
"""


def waits_for(client, run, name):
    return until(lambda: f"It waits for the credential {name}," in client.run(run.id).why)


def test_a_run_waits_for_credit_and_goes_on_when_somebody_says_so(oak, client):
    client.save(ASKED.format(url=oak.standins, more="", gives="status"), over=True)
    oak.fault(service="office", status=402)
    run = client.start("asks-office", {"credential": "office"})
    waits_for(client, run, "office")
    span = next(s for s in client.trace(run.id).spans if s.path == "a")
    assert (span.state, span.attempts[0].error.kind) == ("waiting", "out_of_credit")
    assert client.run(run.id).run.state == "waiting"
    assert client.credential_ready("office").waiting == 1
    assert run.result() == 201
    assert [a.state for s in client.trace(run.id).spans for a in s.attempts] == ["failed", "succeeded"]
    assert client.credential_ready("office").waiting == 0


def test_a_run_waits_for_a_credential_that_is_missing_until_it_is_stored(oak, client):
    client.save(ASKED.format(url=oak.standins, more="", gives="status"), over=True)
    run = client.start("asks-office", {"credential": "not-yet"})
    waits_for(client, run, "not-yet")
    client.put_credential("not-yet", kind="header", header="X-API-Key", secret=oak.office_key, hosts=["127.0.0.1"])
    assert run.result() == 201
    client.remove_credential("not-yet")


def test_a_run_that_waits_for_a_credential_can_be_cancelled(oak, client):
    client.save(ASKED.format(url=oak.standins, more="", gives="status"), over=True)
    run = client.start("asks-office", {"credential": "never"})
    waits_for(client, run, "never")
    run.cancel()
    assert run.wait().state == "cancelled"
    assert client.credential_ready("never").waiting == 0


def test_who_handles_errors_gets_the_want_of_credit_too(oak, client):
    client.save(ASKED.format(url=oak.standins, more="on_error: go_on", gives="error.kind"), over=True)
    oak.fault(service="office", status=402)
    assert client.start("asks-office", {"credential": "office"}).result() == "out_of_credit"
    tried = client.try_step(
        ASKED.format(url=oak.standins, more="", gives="status"), "a", input={"credential": "nowhere"}
    )
    assert (tried.state, tried.error.kind) == ("failed", "missing")


@pytest.mark.parametrize(
    ("fault", "kind", "words"),
    [
        ({"status": 404, "path": "replies"}, "missing", "404"),
        ({"status": 500, "times": 3}, "unavailable", "500"),
        ({"kind": "drop", "times": 3}, "unavailable", "connection broke"),
    ],
)
def test_failures_outside_have_their_kind_and_the_services_words(oak, client, fault, kind, words):
    client.save(f"oak: 1\nworkflow: calls\nsteps:\n  - step: a\n    do: http.request\n    with: {{url: '{oak.standins}/office/replies', method: POST, json: {{to: x}}, credential: office, repeat: keyed}}\n    retry: {{wait: 10ms}}\n")  # fmt: skip
    oak.fault(**{"service": "office", **fault})
    ended = client.start("calls").wait()
    assert ended.error.kind == kind
    assert words in ended.error.message
    assert ended.error.fix


# What is stored


def test_a_credentials_test_shows_both_sides_without_the_secret(client, oak):
    found = client.test_credential("office")
    assert found.ok
    assert found.exchange["response"]["status"] == 200
    client.put_credential(
        "wrong", kind="header", header="X-API-Key", secret="not-the-right-key", test_url=f"{oak.standins}/office/me"
    )
    wrong = client.test_credential("wrong")
    assert not wrong.ok
    assert "unknown API key" in wrong.sentence
    assert "not-the-right-key" not in wrong.model_dump_json()


def test_a_signing_secret_is_tried_by_signing(client):
    found = client.test_credential("booking-site")
    assert (found.ok, found.exchange) == (True, None)
    assert "signed" in found.sentence


def test_a_credential_is_only_sent_to_its_hosts(client):
    client.save(
        "oak: 1\nworkflow: elsewhere\nsteps:\n  - step: a\n    do: http.request\n    with: {url: 'http://localhost:1/', credential: office}\n"
    )
    assert client.start("elsewhere").wait().error.kind == "denied"


def test_short_secrets_are_refused(client):
    with pytest.raises(Invalid, match="at least 8"):
        client.put_credential("short", kind="bearer", secret="1234567")


def test_a_models_test_lists_what_is_offered_and_an_answer(client, oak):
    found = client.test_model("quick")
    assert (found.ok, found.offered) == (True, ["larch-large", "larch-small"])
    assert found.reply
    client.put_model("gone", url=f"{oak.standins}/v1", model="larch-smal", credential="models", unseen=True)
    assert "nearest: larch-small" in client.test_model("gone").sentence
    client.remove_model("gone")


# Access


@pytest.mark.parametrize(
    "path", ["workflows", "runs", "credentials", "models", "tables", "actions", "events", "tokens", "session"]
)
def test_nothing_is_told_without_a_token(oak, path):
    answer = httpx.get(f"{oak.url}/api/v1/{path}")
    assert answer.status_code == 401
    assert answer.headers["content-type"] == "application/problem+json"


def test_sign_in_and_what_another_site_may_not_do(oak):
    with httpx.Client(base_url=oak.url) as browser:
        assert browser.post("/api/v1/session", json={"password": "wrong"}).status_code == 401
        signed_in = browser.post("/api/v1/session", json={"password": oak.password})
        assert "httponly" in signed_in.headers["set-cookie"].lower()
        assert "samesite=strict" in signed_in.headers["set-cookie"].lower()
        assert browser.get("/api/v1/session").json()["by"] == "session"
        body = {"name": "stolen"}
        for headers in ({"Origin": "https://elsewhere.example"}, {"Sec-Fetch-Site": "cross-site"}):
            assert browser.post("/api/v1/tokens", json=body, headers=headers).status_code == 403
        assert browser.post("/api/v1/tokens", json=body, headers={"Origin": oak.url}).status_code == 201
        assert browser.delete("/api/v1/session").status_code == 204
        assert browser.get("/api/v1/session").status_code == 401


def test_tokens_work_until_they_are_revoked(oak, client):
    made = client.add_token("for a test")
    other = Client(oak.url, made.secret)
    assert other.workflows()
    client.remove_token(str(made.id))
    with pytest.raises(Denied):
        other.workflows()


def test_the_description_is_there_and_nothing_is_left_in_the_console_path(oak):
    described = httpx.get(f"{oak.url}/openapi.json").json()
    assert "/hooks/{path}" in described["paths"]
    assert httpx.get(f"{oak.url}/schema/workflow.json").json()["title"] == "Oak Relay workflow"
    page = httpx.get(f"{oak.url}/workflows/anything")
    assert page.status_code == 200
    assert "frame-ancestors 'none'" in page.headers["content-security-policy"]
    assert httpx.get(f"{oak.url}/..%2f..%2fpyproject.toml").text == page.text


@pytest.mark.parametrize(("path", "body", "what", "fix"), [
    ("/tables", {"name": "huts_odd", "columns": [{"name": "bunks=number"}]}, "columns.0.name is not written as it must be", "use lower-case letters, digits and _, a letter first; 61 at most"),
    ("/tables", {"name": "huts_odd", "columns": [{"name": "bunks", "type": "time"}]}, "columns.0.type is not one of text, number, boolean, any", "write text or number or boolean or any"),
    ("/tables", {"columns": [{"name": "bunks"}]}, "name is missing", "give name"),
    ("/tables", {"name": "huts_odd", "column": []}, "there is no column", "leave it out"),
    ("/tables", {"name": "huts_odd"}, "the body: give columns, or a link", "correct the body"),
    ("/runs", {"workflow": "hello", "version": "second"}, "version: a number is expected, and neither text nor true or false", "correct version"),
    ("/runs", {"workflow": "hello", "version": 0}, "version is not 1 or more", "give 1 or more"),
    ("/password", {"old": "a-secret-word", "new": ["another-secret"]}, "new: a text is expected", "give a text"),
])  # fmt: skip
def test_a_request_that_does_not_fit_is_told_what_and_what_to_do_and_not_what_it_held(oak, path, body, what, fix):
    mine = {"Authorization": f"Bearer {oak.token}"}
    answer = httpx.post(f"{oak.url}/api/v1{path}", json=body, headers=mine)
    told = answer.json()
    assert (answer.status_code, told["detail"], told["fix"]) == (422, what, fix)
    assert told["fields"][0]["message"] == what
    assert "secret" not in answer.text


def test_of_a_request_with_very_many_faults_some_are_told(oak):
    body = {"workflow": "hello", **{f"odd_{n}": n for n in range(30_000)}}
    answer = httpx.post(f"{oak.url}/api/v1/runs", json=body, headers={"Authorization": f"Bearer {oak.token}"})
    assert (answer.status_code, len(answer.json()["fields"])) == (422, 100)


# The client


async def test_the_async_client_does_the_same(oak, hello):
    token = (oak.home / "cli.token").read_text().strip()
    async with AsyncClient(oak.url, token) as client:
        run = await client.start(hello, {"name": "Ada"})
        assert await run.result() == "Welcome, Ada."
        assert [item async for item in run.follow()]
        with pytest.raises(NotFound):
            await client.workflow("nowhere")


def test_the_client_names_what_is_wrong():
    with pytest.raises(Unreachable, match="oak-relay up"):
        list(Client("http://127.0.0.1:9", "x").read_file("01234567"))
    with pytest.raises(Unreachable, match="oak-relay up"):
        Client("http://127.0.0.1:9", "x").workflows()


# The command line


def test_the_command_line_from_file_to_trace(oak, tmp_path):
    file = tmp_path / "hello.yaml"
    file.write_text(HELLO.replace("workflow: hello", "workflow: from-file"))
    assert "saved as version 1, on" in cli(oak, "save", str(file), "--on").stdout
    started = cli(oak, "start", "from-file", "--input", '{"name": "Ada"}', "--wait")
    assert started.returncode == 0, started.stderr
    assert "Welcome, Ada." in started.stdout
    shown = cli(oak, "show", "last", "--full").stdout
    assert "1 Set text" in shown
    assert "succeeded" in shown
    listed = json.loads(cli(oak, "runs", "--workflow", "from-file", "--json").stdout)
    assert listed["items"][0]["state"] == "succeeded"
    assert "from-file" in cli(oak, "workflows").stdout
    assert cli(oak, "watch", listed["items"][0]["id"]).returncode == 0


def test_secrets_come_by_standard_input_and_are_not_shown(oak):
    added = cli(
        oak, "credential", "add", "piped", "--kind", "bearer", "--host", "office.example", given="a-very-secret-word\n"
    )
    assert added.returncode == 0, added.stderr
    assert "a-very-secret-word" not in cli(oak, "credential", "list", "--json").stdout
    assert "--secret " not in cli(oak, "credential", "add", "--help").stdout
    assert cli(oak, "credential", "remove", "piped", "--yes").returncode == 0


def test_tables_models_and_tokens_by_command_line(oak):
    assert cli(oak, "table", "create", "sheds", "name", "size:number").returncode == 0
    assert "1 rows added" in cli(oak, "table", "add", "sheds", given='{"name": "Wood shed", "size": 3}').stdout
    assert "Wood shed" in cli(oak, "table", "rows", "sheds").stdout
    assert "larch-small" in cli(oak, "model", "list").stdout
    assert "✓" in cli(oak, "model", "test", "quick").stdout
    token = cli(oak, "token", "add", "by hand").stdout.splitlines()[0]
    assert re.fullmatch(r"oak_[\w-]{43}", token)


@pytest.mark.parametrize(
    ("arguments", "code"),
    [(["runs", "--url-x"], 2), (["show", "00000000-0000-7000-8000-000000000000"], 5), (["start", "nowhere"], 5), (["--url", "http://127.0.0.1:9", "runs"], 1),
     (["start", "hello", "--input", "{"], 1)],
)  # fmt: skip
def test_exit_codes_mean_something(oak, hello, arguments, code):
    done = cli(oak, *arguments)
    assert done.returncode == code
    assert "Traceback" not in done.stderr


def test_help_has_examples(capsys):
    with pytest.raises(SystemExit):
        main(["runs", "--help"])
    assert "example:" in capsys.readouterr().out


def test_files_kept_private(oak):
    for name in ("cli.token", "master.key"):
        assert Path(oak.home / name).stat().st_mode & 0o077 == 0
    assert until(lambda: httpx.get(f"{oak.url}/health/ready").json()["workers"]) == 1
