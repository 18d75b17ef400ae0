"""Agents with real processes: the demo's workflows, conversations across a restart, tool servers, approvals."""

import base64
import json
import signal
import sys
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import httpx
import pytest

from oak_relay.client import Client
from oak_relay.client.errors import Invalid, NotFound, Problem
from oak_relay.standins.media import picture, recording
from tests.conftest import ROOT, Processes, seed_agents, until


@pytest.fixture(scope="module")
def ready(oak: Processes) -> Processes:
    seed_agents(oak)
    return oak


def ended(processes: Processes, run_id):
    return until(lambda: (found := processes.client().run(run_id)).run.over and found, 60)


def test_morning_conditions_writes_seven_rows_each_with_its_sources(ready: Processes):
    client = ready.client()
    detail = ended(ready, client.start("morning-conditions").id)
    assert detail.run.state == "succeeded", detail.run.error
    assert detail.result == 7
    rows = [r.row for r in client.rows("conditions")]
    assert len(rows) == 7
    for row in rows:
        assert row["hut"] in row["summary"]
        assert row["sources"].startswith("https://")
        assert row["sky"]
    trace = client.trace(detail.run.id)
    spans = {s.path: s for s in trace.spans}
    first = spans["per_hut[0].findings/turn[0]"]
    assert {c["name"] for c in first.output["calls"]} == {"look_up", "forecast"}
    assert first.output["reasoning"].startswith("The path and the weather")
    assert spans["per_hut[0].findings/turn[0]/forecast[0]"].input["arguments"] == {"hut": "Kestrel Notch"}
    assert spans["per_hut[0].findings"].tokens > 0
    sent = client.messages(detail.run.id, "per_hut[0].findings/turn[1]")
    assert [m["role"] for m in sent["messages"]] == ["system", "user", "assistant", "tool", "tool"]
    assert [t["name"] for t in sent["tools"]] == ["look_up", "forecast"]
    assert "hut" not in sent["tools"][1]["parameters"]["properties"]
    assert "It is " in sent["messages"][0]["content"]
    with pytest.raises(NotFound):
        client.messages(detail.run.id, "per_hut[0].findings/turn[9]")


def chat(processes: Processes, message: str, guest: str = "ada.fenn@guests.example") -> str:
    reply = httpx.post(f"{processes.url}/hooks/guest-chat", json={"guest": guest, "message": message}, timeout=60)
    return reply.raise_for_status().json()["reply"]


def test_follow_up_questions_are_understood_across_a_restart(lone: Processes):
    """Nothing of a conversation is lost when service and workers are killed."""
    lone.start_worker()
    seed_agents(lone)
    assert "annex of Glasswater" in chat(lone, "May I bring a dog to Glasswater?")
    assert "36 bunks" in chat(lone, "How many bunks are free at Upper Tarn?")
    for process in list(lone.running)[1:]:  # all but the stand-ins
        lone.kill(process, signal.SIGKILL)
    lone.start("serve")
    until(lambda: httpx.get(f"{lone.url}/health/ready").is_success, 60)
    lone.start_worker()
    assert "As I said of Glasswater" in chat(lone, "And at Marmot Saddle?")
    client = lone.client()
    said = client.conversation("guest ada.fenn@guests.example")
    assert [m.role for m in said] == [*["user", "assistant", "tool", "assistant"] * 2, "user", "assistant"]
    assert client.conversations()[0].messages == 10
    last = client.messages(str(said[-1].run_id), "reply/turn[0]")
    assert next(m["content"] for m in last["messages"] if m["role"] == "user") == "May I bring a dog to Glasswater?"
    client.forget("guest ada.fenn@guests.example")
    with pytest.raises(NotFound):
        client.conversation("guest ada.fenn@guests.example")
    assert "As I said" not in chat(lone, "And at the other one?")


def test_messages_of_one_guest_at_once_are_kept_in_order(ready: Processes):
    client = ready.client()
    runs = [client.start("guest-chat", {"guest": "many@guests.example", "message": f"hello {n}"}) for n in range(6)]
    for run in runs:
        assert ended(ready, run.id).run.state == "succeeded"
    said = client.conversation("guest many@guests.example")
    assert [m.message["content"] for m in said if m.role == "user"] == [f"hello {n}" for n in range(6)]


def test_a_letter_is_approved_by_a_person_who_changed_it(ready: Processes):
    client = ready.client()
    run = client.start("route-briefing", {"huts": ["Thistle Col", "Glasswater"], "guest": "cleo.moss@guests.example"})
    question = until(lambda: next((q for q in client.tray() if q.run_id == run.id), None), 60)
    assert "send_letter" in question.text
    assert question.input["with"]["json"]["to"] == "cleo.moss@guests.example"
    client.answer(question.id, "approve", {"text": "Dear Cleo, wait until ten on Thistle Col."})
    detail = ended(ready, run.id)
    assert detail.run.state == "succeeded", detail.run.error
    assert detail.result["text"] == "The briefing is written and sent."
    sent = [
        r["body"]
        for r in ready.received()["received"]
        if r["service"] == "office" and r["body"].get("about") == "route"
    ]
    assert sent[-1]["text"] == "Dear Cleo, wait until ten on Thistle Col."
    spans = {s.path: s for s in client.trace(run.id).spans}
    letter = spans["briefing/turn[1]/send_letter[0]"]
    assert letter.note == "approved by this machine with changed arguments"  # whose token answered
    assert len(detail.children) == 2  # the scout was asked about two huts, as runs of its own
    assert detail.children[0].workflow == "path-scout"
    assert {s["url"] for s in detail.result["sources"]} >= {
        "https://paths.example/thistle-col",
        "https://paths.example/glasswater",
    }
    assert detail.run.money >= sum(child.money for child in detail.children) > 0


def test_a_letter_is_refused_and_the_agent_says_so(ready: Processes):
    client = ready.client()
    run = client.start("route-briefing", {"huts": ["Thistle Col", "Glasswater"], "guest": "bo.larch@guests.example"})
    question = until(lambda: next((q for q in client.tray() if q.run_id == run.id), None), 60)
    client.answer(question.id, "refuse", text="he wrote that he is not coming")
    detail = ended(ready, run.id)
    assert "not sent" in detail.result["text"]
    spans = {s.path: s for s in client.trace(run.id).spans}
    assert "he wrote that he is not coming" in spans["briefing/turn[1]/send_letter[0]"].note


@pytest.mark.parametrize(
    ("answer", "outcome"),
    [("Breakfast is included in every hut.", "gone down the valley"), ("Hm.", "laid on the desk")],
)
def test_an_answer_is_judged_before_it_leaves(ready: Processes, answer: str, outcome: str):
    client = ready.client()
    given = {"guest": "bo.larch@guests.example", "question": "Is breakfast included?", "answer": answer}
    detail = ended(ready, client.start("reply-screen", given).id)
    assert detail.run.state == "succeeded", detail.run.error
    assert detail.result["outcome"] == outcome


def test_a_tool_server_is_tested_and_a_wrong_one_says_why(ready: Processes):
    client = ready.client()
    found = client.test_server("weather-station")
    assert found.ok
    assert [t.name for t in found.tools] == ["forecast", "stations"]
    client.put_server("nowhere", url="http://127.0.0.1:9/mcp")
    wrong = client.test_server("nowhere")
    assert not wrong.ok
    assert "cannot connect" in wrong.sentence
    client.remove_server("nowhere")
    with pytest.raises(NotFound):
        client.test_server("nowhere")


def test_documents_with_agents_are_checked(ready: Processes):
    client = ready.client()
    text = (ROOT / "demo" / "workflows" / "morning-conditions.yaml").read_text()
    wrong = text.replace("server: weather-station", "server: weather-statoin").replace("query: {open", "qeury: {open")
    with pytest.raises(Invalid) as refused:
        client.save(wrong)
    said = str(refused.value)
    assert "there is no tool server weather-statoin" in said or "2 mistakes" in said or "3 mistakes" in said
    endless = "oak: 1\nworkflow: endless\nsteps: [{step: a, do: agent, with: {model: quick, prompt: hi, tools: [{table: huts}]}}]\nresult: ${ a.text }\n"
    assert any("without limits" in f.message for f in client.save(endless).findings)
    agent = Path(ROOT / "demo" / "workflows" / "path-scout.yaml").read_text()
    with pytest.raises(Invalid) as refused:
        client.save(agent.replace("model: careful", "model: carefull"))
    assert "carefull" in json.dumps(str(refused.value))


STREAMED = """
oak: 1
workflow: streamed
input: {type: object}
triggers: [{trigger: t, webhook: {path: streamed, waits: true, verify: {scheme: none}}}]
steps:
  - {step: nap, wait: {event: listened.to, where: "${ arrived.data == input.say }", within: 1h}}
  - {step: reply, do: model.answer, with: {model: careful, prompt: "${ input.say }"}, retry: {tries: 3, wait: 100ms}}
result: ${ reply.text }
"""


def events_of(client: Client, url: str, body: dict) -> list[tuple[str, dict]]:
    """What a hook tells that streams its answer; the run goes on once it is known that somebody listens."""
    found: list[tuple[str, dict]] = []
    with httpx.stream("POST", url, json=body, headers={"Accept": "text/event-stream"}, timeout=60) as response:
        name = ""
        for line in response.iter_lines():
            if line.startswith("event: "):
                name = line[7:]
            elif line.startswith("data: "):
                found.append((name, json.loads(line[6:])))
                if name == "run":
                    client.publish({"id": body["say"], "type": "listened.to", "source": "/tests", "data": body["say"]})
    return found


def test_an_answer_is_told_while_it_is_written_and_nothing_passes_a_judge(ready: Processes):
    """Rule 16: pieces carry the attempt; what is judged before it leaves is not streamed."""
    client = ready.client()
    client.on(client.save(STREAMED).workflow)
    ready.fault(service="model", kind="cut_stream", times=1)
    told = events_of(client, f"{ready.url}/hooks/streamed", {"say": "hello there"})
    kinds = [name for name, _ in told]
    assert kinds[0] == "run"
    assert told[-1] == ("result", "Hello from the model stand-in.")
    again = kinds.index("again")  # the first attempt broke off in the middle: who listens is told to begin anew
    assert "".join(data["text"] for name, data in told[:again] if name == "piece") == "Hello "
    written = "".join(data["text"] for name, data in told[again:] if name == "piece")
    assert "Hello from the model stand-in.".startswith(written)
    judged = (
        STREAMED.replace("workflow: streamed", "workflow: judged")
        .replace("path: streamed", "path: judged")
        .replace(
            "result: ",
            "  - {step: fine, do: model.judge, with: {model: quick, question: Is it kind?, answer: '${ reply.text }'}}\nresult: ",
        )
    )
    client.on(client.save(judged).workflow)
    told = events_of(client, f"{ready.url}/hooks/judged", {"say": "hello again"})
    assert [name for name, _ in told] == ["run", "result"]


def test_what_models_cost_is_summed_and_a_budget_stops_them(lone: Processes):
    """By day, workflow, model, credential and who began it; as CSV too; an event warns, a spent budget stops."""
    lone.start_worker()
    lone.start("tick")
    client = lone.client()
    client.on(client.save(WARNED).workflow)
    client.on(client.save(ASKS).workflow)
    runs = [ended(lone, client.start("asks", {"n": n}).id).run for n in range(3)]
    assert {run.state for run in runs} == {"succeeded"}
    total = client.usage()[0]
    assert (total.calls, total.input + total.output) == (3, sum(r.tokens_in + r.tokens_out for r in runs))
    assert total.money == pytest.approx(sum(run.money for run in runs))
    until(lambda: lone.sql("SELECT count(*) FROM spent") == 0)  # summed up by the clock
    [row] = client.usage(["workflow", "alias", "credential", "source", "day"])
    assert (row.workflow, row.alias, row.credential, row.source, row.calls) == (
        "asks",
        "careful",
        "models",
        "/members/this machine",
        3,
    )
    assert client.usage(since="2031-01-01")[0].calls == 0
    text = httpx.get(
        f"{lone.url}/api/v1/usage.csv",
        params={"by": ["workflow", "alias"]},
        headers={"authorization": f"Bearer {lone.token}"},
    ).text
    assert text.splitlines()[0] == "workflow,alias,calls,input,cached,output,money,unpriced"
    assert text.splitlines()[1].startswith("asks,careful,3,")
    client.put_budget("small", total.money * 1.5, workflow="asks")
    assert client.budgets()[0].state == "within"
    ended(lone, client.start("asks", {"n": 4}).id)
    ended(lone, client.start("asks", {"n": 5}).id)
    until(lambda: client.budgets()[0].state == "spent")
    until(lambda: client.runs(workflow="warned", state="succeeded"))
    assert client.run(client.runs(workflow="warned")[0].id).result.startswith("small ")
    refused = until(lambda: (found := ended(lone, client.start("asks", {"n": 6}).id)).run.state == "failed" and found)
    assert refused.run.error.kind == "over_limit"
    assert "the budget small is spent" in refused.run.error.message
    one, before = total.money / 3, client.budgets()[0].spent
    client.put_budget("small", before + 6 * one, workflow="asks")
    until(lambda: ended(lone, client.start("asks", {"n": 7}).id).run.state == "succeeded")
    many = [ended(lone, id) for id in [client.start("asks", {"n": n}).id for n in range(10, 50)]]  # all at once
    assert {"failed", "succeeded"} == {one.run.state for one in many}
    assert before + 4 * one <= client.usage(["workflow"], workflow="asks")[0].money <= before + 8 * one
    client.remove_budget("small")
    until(lambda: ended(lone, client.start("asks", {"n": 7}).id).run.state == "succeeded")


ASKS = """
oak: 1
workflow: asks
input: {type: object}
steps: [{step: a, do: model.answer, with: {model: careful, prompt: "hello ${ input.n }"}}]
result: ${ a.text }
"""
WARNED = """
oak: 1
workflow: warned
triggers: [{trigger: t, event: {type: oak.budget}}]
steps: [{step: told, set: {what: "${ event.data.name } ${ event.data.state }"}}]
result: ${ told.what }
"""


class Collector:
    """Keeps the spans that are sent to it (OTLP over HTTP, JSON)."""

    def __init__(self) -> None:
        self.spans: list[dict] = []
        self.refuse = 1
        collector = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = json.loads(self.rfile.read(int(self.headers["content-length"])))
                if collector.refuse:
                    collector.refuse -= 1
                    self.send_response(503)
                else:
                    collector.spans += [
                        s for r in body["resourceSpans"] for scope in r["scopeSpans"] for s in scope["spans"]
                    ]
                    self.send_response(200)
                self.end_headers()

            def log_message(self, *_: object) -> None:
                """Nothing is printed."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_port}/v1/traces"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()


def test_traces_go_to_a_collector_with_the_names_of_the_conventions(lone: Processes):
    """One trace with the caller's id, also for child runs; a collector that is out of order for a moment loses nothing."""
    collector = Collector()
    seed_agents(lone)
    lone.start_worker(OAK_RELAY_OTLP_ENDPOINT=collector.url)
    client = lone.client()
    trace = "4bf92f3577b34da6a3ce929d0e0e4736"
    reply = httpx.post(
        f"{lone.url}/hooks/guest-chat", json={"guest": "ada", "message": "How many bunks are free at Upper Tarn?"},
        headers={"traceparent": f"00-{trace}-00f067aa0ba902b7-01"}, timeout=60,
    )  # fmt: skip
    assert "36 bunks" in reply.json()["reply"]
    until(lambda: sum(s["name"].startswith("run ") for s in collector.spans) == 2)
    assert {s["traceId"] for s in collector.spans} == {trace}
    by_name = {s["name"]: s for s in collector.spans}
    values = {name: {a["key"]: next(iter(a["value"].values())) for a in s["attributes"]} for name, s in by_name.items()}
    assert by_name["run guest-chat"]["parentSpanId"] == "00f067aa0ba902b7"
    assert values["invoke_agent reply"]["gen_ai.conversation.id"] == "guest ada"
    chat = values["chat larch-large"]
    assert chat["gen_ai.operation.name"] == "chat"
    assert int(chat["gen_ai.usage.input_tokens"]) > 0
    assert "gen_ai.output.messages" not in chat
    tool = by_name["execute_tool bunk_availability"]
    turn = next(s for s in collector.spans if s["spanId"] == tool["parentSpanId"])
    assert turn["name"] == "chat larch-large"
    assert by_name["run bunk-availability"]["parentSpanId"] == tool["spanId"]
    assert all(int(s["endTimeUnixNano"]) >= int(s["startTimeUnixNano"]) > 10**18 for s in collector.spans)
    ids = {s["spanId"] for s in collector.spans}
    assert len(ids) == len(collector.spans)
    assert all(s["parentSpanId"] in {*ids, "00f067aa0ba902b7"} for s in collector.spans)
    assert client.runs(workflow="guest-chat")[0].state == "succeeded"
    collector.server.shutdown()


def test_one_talks_with_an_agent_of_a_draft_and_nothing_is_kept(ready: Processes):
    client = ready.client()
    text = (ROOT / "demo" / "workflows" / "guest-chat.yaml").read_text()
    before = len(client.conversations(limit=500)), ready.sql("SELECT count(*) FROM run")
    first = client.talk(text, "May I bring a dog to Glasswater?", input={"guest": "x", "message": ""})
    assert "annex of Glasswater" in first.text
    assert [m["role"] for m in first.messages] == ["user", "assistant", "tool", "assistant"]
    assert [s.kind for s in first.spans] == ["step", "open", "turn", "call", "turn"]
    assert first.tokens > 0
    assert first.money > 0
    second = client.talk(text, "And at Marmot Saddle?", first.messages, input={"guest": "x", "message": ""})
    assert "As I said of Glasswater" in second.text
    retried = client.talk(
        text, "How many bunks are free at Upper Tarn?", first.messages, input={"guest": "x", "message": ""}
    )
    assert "starts no other run" in str(retried.spans[-2].error) or retried.text
    assert (len(client.conversations(limit=500)), ready.sql("SELECT count(*) FROM run")) == before
    counted = client.usage(["workflow"], workflow="guest-chat")[0].calls
    client.talk(text, "hello", input={"guest": "x", "message": ""})
    assert (
        client.usage(["workflow"], workflow="guest-chat")[0].calls == counted + 1
    )  # what it costs counts all the same
    wrong = client.talk(text, "${ nothing }", input={"guest": "x", "message": ""})  # what is said is no expression
    assert wrong.error is None
    with pytest.raises(Invalid, match="no agent"):
        client.talk("oak: 1\nworkflow: w\nsteps: [{step: a, wait: 1s}]\n", "hello")


def test_what_an_agent_would_be_sent_is_shown_before_paying(ready: Processes):
    client = ready.client()
    asked = len(ready.received()["received"])
    text = (ROOT / "demo" / "workflows" / "guest-chat.yaml").read_text()
    shown = client.render(text, "reply", {"guest": "x", "message": "May I?"})
    assert [m["role"] for m in shown.messages] == ["system", "user"]
    assert "house rules" in shown.messages[0]["content"]
    assert shown.messages[1]["content"] == "May I?"
    assert [t.name for t in shown.tools] == ["house_rules_find", "bunk_availability"]
    assert shown.tools[0].parameters["properties"]["where"]["properties"].keys() == {"topic", "rule"}
    assert len([r for r in ready.received()["received"] if r["service"] == "model"][asked:]) == 0


def test_a_model_that_is_not_offered_is_refused_with_the_nearest(ready: Processes):
    client = ready.client()
    with pytest.raises(Invalid, match="larch-small"):
        client.put_model("typo", url=f"{ready.standins}/v1", model="larch-smal", credential="models")
    with pytest.raises(NotFound):
        client.put_model(
            "fell", url=f"{ready.standins}/v1", model="larch-small", credential="models", fallbacks=["nobody"]
        )
    client.put_model("later", url="http://127.0.0.1:9/v1", model="anything")  # its server does not answer: let through


LABELS = """
oak: 1
workflow: labels-or-none
input: {type: object}
steps:
  - step: kind
    do: model.label
    with:
      model: quick
      text: ${ input.text }
      labels: {lost: {means: something was left behind, examples: [my scarf is gone]}, thanks: says thank you}
      otherwise: neither
result: ${ kind }
"""


def test_a_label_may_be_none_of_these_and_says_how_sure_it_is(ready: Processes):
    client = ready.client()
    client.on(client.save(LABELS).workflow)
    found = ended(ready, client.start("labels-or-none", {"text": "I left my scarf behind"}).id).result
    assert (found["label"], found["confidence"]) == ("lost", 0.9)
    assert ended(ready, client.start("labels-or-none", {"text": "xyz"}).id).result["label"] == "neither"


SENSES = """
oak: 1
workflow: senses
input: {type: object}
steps:
  - {step: heard, do: model.transcribe, with: {model: quick, audio: "${ input.audio }"}}
  - {step: near, do: model.embed, with: {model: quick, texts: ["${ heard.text }", "dogs at Glasswater", "trains"]}}
result: {text: "${ heard.text }", vectors: "${ near.vectors }", money: "${ heard.money + near.money }"}
"""


def test_speech_becomes_text_and_texts_become_vectors(ready: Processes):
    client = ready.client()
    client.on(client.save(SENSES).workflow)
    audio = base64.b64encode(recording("May my dogs sleep at Glasswater?")).decode()
    found = ended(ready, client.start("senses", {"audio": audio}).id)
    assert found.run.state == "succeeded", found.run.error
    assert found.result["text"] == "May my dogs sleep at Glasswater?"
    first, near, far = found.result["vectors"]
    closeness = lambda one: sum(a * b for a, b in zip(first, one, strict=True))  # noqa: E731
    assert closeness(near) > closeness(far)
    assert found.run.money == pytest.approx(found.result["money"])
    wrong = ended(ready, client.start("senses", {"audio": "no base64!"}).id)
    assert wrong.run.error.kind == "invalid"


SEEN = """
oak: 1
workflow: path-photos
input: {type: object}
steps:
  - step: seen
    do: model.answer
    with: {model: seeing, prompt: "Is the path free?", files: [{data: "${ input.photo }", name: photo.png}]}
  - step: judged
    do: agent
    with:
      model: seeing
      prompt: Does anything lie across the path?
      files: [{data: "${ input.photo }", name: photo.png}]
      memory: {conversation: path photos}
result: {text: "${ seen.text }", judged: "${ judged.text }"}
"""


def test_models_and_agents_look_at_pictures(ready: Processes):
    client = ready.client()
    alias = {"url": f"{ready.standins}/v1", "model": "larch-large", "credential": "models"}
    client.put_model("seeing", **alias, takes=["images"])
    client.on(client.save(SEEN).workflow)
    photo = base64.b64encode(picture("- the path is not free, a larch lies across the path")).decode()
    found = ended(ready, client.start("path-photos", {"photo": photo}).id)
    assert found.run.state == "succeeded", found.run.error
    assert "a larch lies across the path" in found.result["text"]
    assert "a larch lies across the path" in found.result["judged"]
    sent = client.messages(found.run.id, "judged/turn[0]")["messages"][-1]["content"]
    assert sent[1]["image_url"]["url"].endswith(" bytes)")
    said = client.conversation("path photos")
    assert said[0].message["content"] == "Does anything lie across the path?\n\n(1 file was shown)"
    assert photo not in json.dumps(
        [a.detail.get("turns") for span in client.trace(found.run.id).spans for a in span.attempts]
    )
    kept = client.add_file(base64.b64decode(photo), "photo.png")
    text = SEEN.replace("path-photos", "path-files").replace(
        '{data: "${ input.photo }", name: photo.png}', '{file: "${ input.photo }"}'
    )
    client.on(client.save(text).workflow)
    found = ended(ready, client.start("path-files", {"photo": kept.value}).id)
    assert found.run.state == "succeeded", found.run.error
    assert "a larch lies across the path" in found.result["text"]
    assert "a larch lies across the path" in found.result["judged"]
    written = [one.model_dump_json() for one in client.every(client.journal, found.run.id)]
    assert photo[:60] not in "".join([*written, client.trace(found.run.id).model_dump_json()])
    assert client.file(kept.file).runs[0] == found.run.id
    client.put_model("seeing", **alias)  # the same model, of which nobody says that it sees
    blind = ended(ready, client.start("path-photos", {"photo": photo}).id).run.error
    assert (blind.kind, blind.step) == ("invalid", "seen")
    assert "takes no images" in blind.message


PROGRAM = """
import json, sys
for line in sys.stdin:
    asked = json.loads(line)
    if "id" not in asked:
        continue
    if asked["method"] == "initialize":
        told = {"protocolVersion": "2025-06-18", "capabilities": {"tools": {}}, "serverInfo": {"name": "bell", "version": "1"}}
    elif asked["method"] == "tools/list" and not asked["params"].get("cursor"):
        told = {"tools": [{"name": "ring", "description": "Ring the bell of a hut", "inputSchema": {"type": "object", "required": ["hut"],
                "properties": {"hut": {"type": "string"}}}}], "nextCursor": "more"}
    elif asked["method"] == "tools/list":
        told = {"tools": [{"name": "silence", "description": "No bell", "inputSchema": {"type": "object"}}]}
    else:
        hut = asked["params"]["arguments"]["hut"]
        told = {"content": [{"type": "text", "text": "The bell of " + hut + " rang"}]} if hut != "Nowhere" else {"content": [], "isError": True}
    print(json.dumps({"jsonrpc": "2.0", "method": "notifications/message", "params": {}}), flush=True)
    print(json.dumps({"jsonrpc": "2.0", "id": asked["id"], "result": told}), flush=True)
"""
RINGS = """
oak: 1
workflow: rings
input: {type: object}
steps: [{step: rung, do: server.call, with: {server: bell, tool: ring, arguments: {hut: "${ input.hut }"}}}]
result: ${ rung }
"""


def test_a_tool_server_may_be_a_program_where_that_is_allowed(ready: Processes, lone: Processes, tmp_path: Path):
    script = tmp_path / "bell.py"
    script.write_text(PROGRAM)
    with pytest.raises(Problem, match="starts no programs"):
        ready.client().put_server("bell", command=[sys.executable, str(script)])
    lone.kill(lone.running[1])
    lone.environment["OAK_RELAY_PROGRAMS"] = "true"
    lone.start("serve")
    until(lambda: httpx.get(f"{lone.url}/health/ready").is_success, 60)
    lone.start_worker()
    client = lone.client()
    client.put_server("bell", command=[sys.executable, str(script)])
    assert [t.name for t in client.test_server("bell").tools] == ["ring", "silence"]
    client.save(RINGS)
    assert ended(lone, client.start("rings", {"hut": "Glasswater"}).id).result == "The bell of Glasswater rang"
    failed = ended(lone, client.start("rings", {"hut": "Nowhere"}).id).run.error
    assert failed.message.startswith("bell.ring")
    client.put_server("bell", command=["/no/such/program"])
    assert "cannot be started" in client.test_server("bell").sentence


LONG = """
oak: 1
workflow: long-talk
input: {type: object}
subject: ${ input.guest }
steps:
  - step: reply
    do: agent
    with:
      model: careful
      prompt: ${ input.say }
      memory: {conversation: "long ${ input.guest }", turns: 2, summary: true, facts: true}
result: ${ reply.text }
"""


def test_what_is_long_ago_is_kept_in_short_and_facts_are_kept(ready: Processes):
    client = ready.client()
    client.on(client.save(LONG).workflow)

    def say(text: str) -> Any:
        return ended(ready, client.start("long-talk", {"guest": "ada", "say": text}).id)

    say("hello, my name is Ada")
    for n in range(4):
        say(f"hello number {n}")
    about = next(c for c in client.conversations(limit=500) if c.key == "long ada")
    assert about.facts == {"name": "Ada"}
    assert "my name is Ada" in about.summary
    assert "number 0" in about.summary
    assert "number 1" not in about.summary
    assert about.summary.count("The summary so far:") >= 1  # each time only what fell out of the window was folded in
    detail = say("what is my name?")
    assert detail.result == "Your name is Ada."
    sent = client.messages(detail.run.id, "reply/turn[0]")
    assert len([m for m in sent["messages"] if m["role"] == "user"]) == 3
    assert "Earlier in this conversation: In short:" in sent["messages"][0]["content"]
    opened = next(s for s in client.trace(detail.run.id).spans if s.kind == "open")
    assert opened.tokens > 0  # what the summary cost counts
    client.forget("long ada")
    assert ready.sql("SELECT count(*) FROM fact") == 0
