"""What documents say of events, defaults, sketches and questions, through the service and a worker."""

import json
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import httpx
import pytest

from oak_relay.cli.main import main
from oak_relay.client import Client, Run
from oak_relay.client.errors import OakRelayError
from tests.conftest import Processes, until


class Sink:
    """A server that keeps what it is sent."""

    def __init__(self) -> None:
        self.bodies: list[dict] = []
        bodies = self.bodies

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self):
                bodies.append(json.loads(self.rfile.read(int(self.headers["content-length"]))))
                self.send_response(204)
                self.end_headers()

            def log_message(self, *_):
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_port}/"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()


@pytest.fixture
def sink():
    found = Sink()
    yield found
    found.server.shutdown()


def run_of(client: Client, run_id: object) -> Run:
    return client._bound(client.run(str(run_id)).run.model_dump())


def kept(client: Client, text: str) -> str:
    """Save a document and switch it on; its name."""
    name = client.save(text).workflow
    client.on(name)
    return name


ARRIVALS = """
oak: 1
workflow: arrivals
input:
  type: object
  required: [guest]
  properties:
    guest: {type: string}
    nights: {type: integer, default: 2}
    wants: {type: object, default: {}, properties: {board: {type: string, default: half}}}
triggers:
  - trigger: desk
    webhook: {path: arrivals, verify: {scheme: none}}
    input: {guest: "${ event.data.person.name }", hut: "${ event.query.hut | default('any') }"}
  - trigger: heard
    event: {type: guest.arrives}
    input: {guest: "${ event.data }"}
subject: ${ input.guest }-${ input.nights }
steps:
  - step: told
    set: {line: "${ input.guest } stays ${ input.nights }, ${ input.wants.board } board", whole: "${ event.data }"}
result: ${ told }
"""


def test_a_trigger_says_how_its_event_becomes_the_input_and_defaults_are_there(oak: Processes, client: Client):
    kept(client, ARRIVALS)
    body = {"person": {"name": "Ada Fenn"}, "source": "a form"}
    answer = httpx.post(f"{oak.url}/hooks/arrivals?hut=Glasswater", json=body)
    run = run_of(client, answer.json()["run"]).wait()
    assert run.result() == {"line": "Ada Fenn stays 2, half board", "whole": body}
    assert run.refresh().subject == "Ada Fenn-2"
    again = client.again(str(run.id), "start")
    assert run_of(client, again.run).wait().result()["whole"] == body
    client.publish({"id": "a1", "type": "guest.arrives", "source": "/tests", "data": "Bo Hale"})
    until(lambda: client.runs(workflow="arrivals", subject="Bo Hale-2"))


def test_an_event_of_which_no_input_can_be_made_is_refused_or_fails_its_run_and_says_so(oak: Processes, client: Client):
    kept(client, ARRIVALS)
    answer = httpx.post(f"{oak.url}/hooks/arrivals", json={"name": "nobody"})
    assert answer.status_code == 422
    assert "event.data" not in answer.text  # the document's own words are for those who wrote it
    said = "event.data.person is not there; there is name"
    until(lambda: [r for r in client.refusals("arrivals") if said in r.reason])
    wrong = ARRIVALS.replace("workflow: arrivals", "workflow: arrivals-2").replace("path: arrivals", "path: arrivals-2")
    wrong = wrong.replace("guest.arrives", "guest.leaves").replace(
        '"${ event.data }"}\nsubject', '"${ event.data.who }"}\nsubject'
    )
    kept(client, wrong)
    client.publish({"id": "a2", "type": "guest.leaves", "source": "/tests", "data": {"name": "Bo"}})
    [run] = until(lambda: client.runs(workflow="arrivals-2", state=["failed"]))
    assert "heard: in ${ event.data.who }: event.data.who is not there; there is name" in run.error.message


def test_what_is_given_wins_over_defaults_at_any_depth(client: Client):
    kept(client, ARRIVALS)
    given = {"guest": "Ada", "nights": 5, "wants": {"board": "full"}}
    assert client.start("arrivals", given).result()["line"] == "Ada stays 5, full board"
    rendered = client.render(ARRIVALS, "told", {"guest": "Cy"})
    assert rendered.input["line"] == "Cy stays 2, half board"


SKETCH = """
oak: 1
workflow: sketched
triggers: [{trigger: t, webhook: {path: sketched, verify: {scheme: none}}}]
steps:
  - {step: look_up, todo: find the guest in the book of the hut}
  - {step: said, set: {x: "${ look_up }"}}
result: ${ said.x }
"""


def test_a_workflow_with_sketches_is_kept_and_not_begun(oak: Processes, client: Client):
    saved = client.save(SKETCH)
    assert [(f.severity, f.line) for f in client.check(SKETCH).findings] == [("warning", 6)]
    page = client.workflow("sketched")
    assert page.checked.script[0].sentence == "To do: find the guest in the book of the hut"
    for refused in (lambda: client.start("sketched", {}), lambda: client.on(saved.workflow)):
        with pytest.raises(OakRelayError, match="look_up is a sketch"):
            refused()
    parent = "oak: 1\nworkflow: of-sketched\nsteps:\n  - {step: a, run: sketched}\nresult: ${ a }\n"
    client.save(parent)
    run = client.start("of-sketched", {}).wait()
    assert run.state == "failed"
    assert "look_up is a sketch" in run.error.message


LINKED = """
oak: 1
workflow: linked
input: {type: object, required: [at]}
steps:
  - step: decide
    ask:
      at: link
      text: May ${ input.guest } stay another night?
      choices: [yes, no]
      tell:
        - step: sent
          do: http.request
          with: {url: "${ input.at }", method: POST, json: {please: "${ question.text }", at: "${ question.link }"}}
result: "${ decide.choice }, ${ decide.by }"
"""


def test_a_question_gives_its_address_to_the_document_so_that_it_can_be_sent(oak: Processes, client: Client, sink):
    client.save(LINKED.replace("[yes, no]", '["yes", "no"]'), over=True)
    run = client.start("linked", {"guest": "Ada Fenn", "at": sink.url})
    [sent] = until(lambda: sink.bodies)
    assert sent["please"] == "May Ada Fenn stay another night?"
    link = sent["at"].rpartition("/answer/")[2]
    shown = httpx.get(f"{oak.url}/api/v1/answers/{link}").json()
    assert shown["choices"] == ["yes", "no"]
    assert httpx.post(f"{oak.url}/api/v1/answers/{link}", json={"choice": "yes"}).json() == {"answered": 1}
    assert run.wait().result() == "yes, who has the link"
    assert len(sink.bodies) == 1


def test_only_a_question_by_link_has_an_address():
    from oak_relay.actions.catalogue import offer
    from oak_relay.document.check import check

    found = check(LINKED.replace("at: link", "at: tray"), offer().catalogue.world()).findings
    assert [f.message for f in found if f.severity == "error" and "question" in f.message] == ["question has no link"]


def test_a_condition_that_cannot_be_worked_out_fails_its_step_and_says_what_is_there(client: Client):
    text = """
oak: 1
workflow: conditions
input: {type: object}
steps:
  - step: way
    branch:
      - if: ${ input.rows[0].hut == 'Glasswater' }
        steps: [{step: a, set: {x: 1}}]
result: ${ way }
"""
    client.save(text)
    run = client.start("conditions", {"rows": []}).wait()
    assert run.error.step == "way"
    assert "there is no item 0: there are no items" in run.error.message
    [span] = [span for span in client.trace(str(run.id)).spans if span.path == "way"]
    assert span.state == "failed"
    run = client.start("conditions", {"row": []}).wait()
    assert "input.rows is not there; there is row" in run.error.message


def test_documents_that_are_checked_together_know_each_other(tmp_path, capsys, oak: Processes):
    first = "oak: 1\nworkflow: first\nsteps:\n  - {step: a, run: SECOND}\nresult: ${ a }\n"
    (tmp_path / "one.yaml").write_text(first.replace("SECOND", "second-one"))
    (tmp_path / "two.yaml").write_text(
        "oak: 1\nworkflow: second-one\nsteps:\n  - {step: a, set: {x: 1}}\nresult: ${ a }\n"
    )
    assert main(["--json", "check", str(tmp_path)]) == 0
    assert json.loads(capsys.readouterr().out) == []
    (tmp_path / "one.yaml").write_text(first.replace("SECOND", "second-two"))
    main(["--json", "check", str(tmp_path)])
    assert "write second-one" in json.loads(capsys.readouterr().out)[0]["fix"]
    client = oak.client()
    assert any(
        "there is no workflow" in f.message for f in client.check(first.replace("SECOND", "second-one")).findings
    )
    assert not client.check(first.replace("SECOND", "second-one"), beside=["second-one"]).findings


def test_a_reply_is_for_the_caller_that_waits_and_a_stream_for_the_one_that_asks_for_it(oak: Processes, client: Client):
    text = """
oak: 1
workflow: waited
triggers: [{trigger: t, webhook: {path: waited, waits: true, verify: {scheme: none}}}]
input: {type: object}
steps:
  - {step: said, reply: {status: 201, body: {dear: "${ input.name }"}}}
result: {end: "${ input.name }"}
"""
    kept(client, text)
    answer = httpx.post(f"{oak.url}/hooks/waited", json={"name": "Ada"}, timeout=60)
    assert (answer.status_code, answer.json()) == (201, {"dear": "Ada"})
    headers = {"Accept": "text/event-stream"}
    with httpx.stream("POST", f"{oak.url}/hooks/waited", json={"name": "Bo"}, headers=headers, timeout=60) as streamed:
        lines = [line for line in streamed.iter_lines() if line]
    assert lines[-1] == 'data: {"end":"Bo"}'


def test_the_old_ways_to_say_it_are_told():
    from oak_relay.actions.catalogue import offer
    from oak_relay.document.check import check

    world = offer().catalogue.world()
    head = "oak: 1\nworkflow: a\ninput: {type: object}\ntriggers: [{trigger: t, webhook: {path: a, HOW verify: {scheme: none}}}]\n"
    steps = "steps:\n  - {step: x, STEP: {body: 1}}\n"
    answers = check((head + steps).replace("HOW", "").replace("STEP", "answer"), world).findings
    assert (answers[0].line, answers[0].fix) == (6, "write reply")
    waits = check((head + steps).replace("HOW", "answer: result,").replace("STEP", "reply"), world).findings
    assert (waits[0].line, waits[0].fix) == (4, "write waits")
