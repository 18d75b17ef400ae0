"""A connector that came in a package of its own, seen by all who may use one; and what is said of one that is broken."""

import json
import os
import subprocess
import sys
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import expect

from oak_relay.actions.base import Action, Connector, Fields
from oak_relay.actions.catalogue import Catalogue, offer
from oak_relay.client import Invalid
from oak_relay.document.schemas import validator
from tests.browsing import browser, sign_in
from tests.conftest import Processes, seed, until
from tests.office import app, behave, connect

__all__ = ["browser"]

PACKAGE = Path(__file__).parent / "connector"
EXAMPLE = Path(__file__).parents[1] / "examples" / "springs"
KEY = "brass-clapper-9"
FLOW = """
oak: 1
workflow: ring-back
triggers:
  - trigger: rang
    bell: {url: "BELL", credential: tarn-bell, every: 1s}
steps:
  - step: back
    do: bell.ring
    with: {url: "BELL", times: "${ input.times }", credential: tarn-bell}
result: ${ back.rung }
"""


class Tower(BaseHTTPRequestHandler):
    """A bell: who rang, and what was rung back."""

    rang = [{"id": "one", "times": 2}]
    heard: list[tuple[str, int]] = []

    def do_GET(self) -> None:
        if self.path.startswith("/gauge"):
            return self._answer(200, {"litres": 4.5, "boil": self.path == "/gauge?minutes=9"})
        self._answer(200 if self._known() else 401, self.rang)

    def do_POST(self) -> None:
        asked = json.loads(self.rfile.read(int(self.headers["content-length"])))
        self.heard.append((self.headers["x-bell"], asked["times"]))
        self._answer(200 if self._known() else 401, {"rung": asked["times"]})

    def _known(self) -> bool:
        return bool(self.headers["x-bell"] == f"Upper Tarn:{KEY}")

    def _answer(self, status: int, body: object) -> None:
        text = json.dumps(body).encode()
        self.send_response(status)
        self.send_header("content-type", "application/json")
        self.send_header("content-length", str(len(text)))
        self.end_headers()
        self.wfile.write(text)

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture(scope="module")
def bell() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Tower)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}/bell"
    server.shutdown()


@pytest.fixture(scope="module")
def huts(new_database, tmp_path_factory, bell) -> Iterator[Processes]:
    """A service, a worker and a clock in an environment into which the package was installed."""
    there, source = tmp_path_factory.mktemp("installed"), tmp_path_factory.mktemp("source")
    for package in (PACKAGE, EXAMPLE):
        copy = source / package.name
        copy.mkdir()
        for file in (package / "pyproject.toml", *package.glob("*.py")):
            (copy / file.name).write_text(file.read_text())
        install = [
            "install",
            "-q",
            "--no-index",
            "--no-deps",
            "--no-build-isolation",
            "--target",
            str(there),
            str(copy),
        ]
        subprocess.run([sys.executable, "-m", "pip", *install], check=True)
    processes = Processes(tmp_path_factory.mktemp("huts"), new_database())
    processes.environment["PYTHONPATH"] = os.pathsep.join(filter(None, (str(there), os.environ.get("PYTHONPATH"))))
    processes.start_all()
    processes.start_worker()
    processes.start("tick")
    seed(processes)
    processes.client().put_credential("tarn-bell", kind="bell-key", secret=KEY, hut="Upper Tarn", hosts=["127.0.0.1"])
    assert not processes.client().save(FLOW.replace("BELL", bell)).findings
    processes.client().on("ring-back")
    yield processes
    processes.stop()


def told(huts: Processes, path: str) -> list[dict]:
    answer = httpx.get(f"{huts.url}/api/v1/{path}", headers={"Authorization": f"Bearer {huts.token}"})
    return answer.raise_for_status().json()["items"]


def test_a_run_begun_by_its_trigger_uses_its_action_and_its_credential(huts, bell):
    client = huts.client()
    [run] = until(lambda: [r for r in client.runs(workflow="ring-back") if r.state == "succeeded"])
    assert client.run(run.id).result == 2
    assert (f"Upper Tarn:{KEY}", 2) in Tower.heard
    exchange = next(s for s in client.trace(run.id).spans if s.path == "back").attempts[0].detail["exchange"]
    assert KEY not in json.dumps(exchange)
    assert exchange["request"]["credential"] == "tarn-bell"


def test_the_example_of_the_documentation_is_what_is_installed_and_works(huts, bell):
    said = (EXAMPLE.parents[1] / "docs" / "connectors.md").read_text()
    assert (EXAMPLE / "hut_springs.py").read_text() in said
    client = huts.client()
    client.put_credential("gauges", kind="bearer", secret="a-long-gauge-key", hosts=["127.0.0.1"])
    gauge = bell.replace("/bell", "/gauge")
    client.save(
        "oak: 1\nworkflow: springs\ninput: {type: object}\nsteps:\n  - step: tarn\n    do: springs.measure\n"
        f"    with: {{gauge: '{gauge}', minutes: 9, credential: gauges}}\nresult: ${{ tarn.litres if tarn.boil }}\n"
    )
    assert client.start("springs", {}).result() == 4.5


def test_a_credential_of_another_workflow_is_not_used_to_look(huts, bell):
    client = huts.client()
    given = {"kind": "bell-key", "hut": "Upper Tarn", "hosts": ["127.0.0.1"]}
    client.put_credential("tarn-bell", **given, workflows=["another"])
    fault = "SELECT s.fault FROM schedule s JOIN trigger t ON t.id = s.trigger_id WHERE t.kind = 'bell'"
    until(lambda: "not for the workflow ring-back" in (huts.sql(fault) or ""))
    client.put_credential("tarn-bell", **given)
    until(lambda: not huts.sql(fault))


def test_what_was_found_begins_one_run_however_often_it_is_looked_at(huts, bell):
    client = huts.client()
    until(lambda: client.runs(workflow="ring-back"))
    Tower.rang.append({"id": "two", "times": 5})
    until(lambda: len([r for r in client.runs(workflow="ring-back") if r.state == "succeeded"]) == 2)
    looked = huts.sql("SELECT max(last_at) FROM schedule")
    until(lambda: huts.sql("SELECT max(last_at) FROM schedule") > looked)
    assert len(client.runs(workflow="ring-back")) == 2


@pytest.mark.parametrize(
    ("wrong", "instead", "said"),
    [
        ("times: ", "loud: ", "bell.ring has no field loud"),
        ("bell: {url", "bel: {url", "there is no kind of trigger bel"),
        ("every: 1s", "evry: 1s", "evry is not a key"),
        ("every: 1s", "every: soon", "is not a duration"),
        ("credential: tarn-bell}\nresult", "credential: office}\nresult", "office is of kind header"),
        ("credential: tarn-bell, every", "credential: lost, every", "there is no credential lost"),
    ],
)
def test_the_checker_knows_it(huts, bell, wrong, instead, said):
    text = FLOW.replace("BELL", bell)
    assert wrong in text
    with pytest.raises(Invalid) as refused:
        huts.client().save(text.replace(wrong, instead))
    findings = refused.value.findings
    assert any(said in finding.message for finding in findings), findings


def test_an_agent_is_offered_it_without_its_credential(huts, bell):
    text = f"""
oak: 1
workflow: bell-keeper
steps:
  - step: keeper
    do: agent
    with:
      model: quick
      prompt: Ring.
      limits: {{turns: 2}}
      tools: [{{do: bell.ring, with: {{url: "{bell}", credential: tarn-bell, times: {{open: how often}}}}}}]
"""
    [tool] = huts.client().render(text, "keeper", {}, {}).tools
    assert tool.name == "bell_ring"
    assert list(tool.parameters["properties"]) == ["times"]


def test_the_catalogue_tells_of_it_and_of_what_cannot_be_used(huts):
    [action] = [one for one in told(huts, "actions") if one["name"] == "bell.ring"]
    assert (action["credentials"], action["first"]) == (["bell-key"], ["url", "credential"])
    connectors = {one["name"]: one for one in told(huts, "connectors")}
    assert (connectors["bell"]["package"], connectors["bell"]["triggers"]) == ("hut-bell", ["bell"])
    assert connectors["cracked"]["fault"] == "the action http.request is there already"
    assert connectors["http"]["fault"] == ""
    assert "bell" in httpx.get(f"{huts.url}/schema/workflow.json").json()["$defs"]["Trigger"]["properties"]


DESKS = """oak: 1
workflow: desks
steps:
  - step: bookings
    do: office-bookings.do
    with: {{url: "{office}", credential: desk}}
  - step: replied
    do: office-replies.do
    with: {{url: "{office}", credential: desk}}
  - step: whose
    do: office-desk.do
    with: {{url: "{office}", credential: desk}}
result: ${{ whose.email }}
"""


def test_one_consent_serves_three_connectors(huts):
    """It asks for what all of them need; what one of them lacks is named by the checker and by its call, which waits."""
    client, text = huts.client(), DESKS.format(office=f"{huts.standins}/office")
    client.put_credential("desk", **{**app(huts), "scopes": []})
    client.save(text)
    assert client.begin_consent("desk").scopes == ["bookings.read", "replies.write", "huts.read"]
    behave(huts, gives=["bookings.read", "replies.write"])
    connect(client, "desk")
    [finding] = client.check(text).findings
    assert "desk has not the scope huts.read, which office-desk.do needs" in finding.message
    client.on("desks")
    run = client.start("desks")
    until(lambda: client.run(run.id).run.state == "waiting")
    [whose] = [span for span in client.trace(run.id).spans if span.path == "whose"]
    assert "has not the scope huts.read" in whose.attempts[0].error.message
    behave(huts, gives=[])
    connect(client, "desk")
    assert run.result() == "office@larkspur.example"
    assert not client.check(text).findings


def test_the_console_stores_its_credential_and_tells_its_sentences(browser, huts, bell):
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    sign_in(page, huts)
    page.goto(f"{huts.url}/credentials")
    page.get_by_role("button", name="Add credential").click()
    page.get_by_label("Name").fill("valley-bell")
    page.get_by_label("Kind").select_option(label="Key of a hut's bell")
    page.get_by_role("textbox", name="Hut").fill("Valley Head")
    page.locator("input[type=password]").fill("iron-clapper-3")
    page.get_by_role("textbox", name="Only sent to").fill("127.0.0.1")
    page.get_by_role("button", name="Store").click()
    expect(page.get_by_role("row").filter(has_text="valley-bell")).to_contain_text("Key of a hut's bell")
    page.goto(f"{huts.url}/workflows/ring-back")
    expect(page.get_by_text(f"Somebody rings at {bell}").first).to_be_visible()
    expect(page.get_by_text("Ring input.times times at").first).to_be_visible()
    page.close()
    assert huts.sql("SELECT config FROM credential WHERE name = 'valley-bell'").count("Valley Head") == 1


def test_a_service_without_the_package_goes_on_and_says_what_is_missing(huts, bell):
    client = huts.client()
    serve = next(p for p in huts.running if "serve" in p.args)
    huts.kill(serve)
    with_it = huts.environment.pop("PYTHONPATH")
    try:
        huts.start("serve", PYTHONPATH=os.environ.get("PYTHONPATH", ""))
        until(lambda: httpx.get(f"{huts.url}/health/ready").is_success, 60)
        assert "which is not installed" in next(w for w in client.workflows() if w.name == "ring-back").starters[0]
        [schedule] = told(huts, "schedules?workflow=ring-back")
        assert "there is no kind of trigger bell" in schedule["fault"]
        assert {one.name for one in client.credentials()} >= {"tarn-bell", "office"}
        with pytest.raises(Invalid):
            client.save(FLOW.replace("BELL", bell).replace("times: ", "times: 1 # "))
    finally:
        huts.environment["PYTHONPATH"] = with_it


def test_every_example_fits_its_action():
    for action in offer().catalogue:
        if "${" in json.dumps(action.example):
            known = set(action.schema["properties"])
            assert set(action.example) <= known
            assert set(action.schema.get("required", ())) <= set(action.example), action.name
        else:
            action.read(action.example)
        assert set(action.fields_first) <= set(action.schema["properties"]), action.name
        validator(action.schema)


def test_of_two_things_with_one_name_the_first_counts():
    class Empty(Fields):
        pass

    first = Connector("First", [Action("bell.ring", "first", Empty, None)])
    second = Connector("Second", [Action("bell.ring", "second", Empty, None), Action("bell.hang", "", Empty, None)])
    catalogue = Catalogue({"first": first, "second": second})
    assert [action.title for action in catalogue] == ["first"]
    assert catalogue.faults == {"second": "the action bell.ring is there already"}
