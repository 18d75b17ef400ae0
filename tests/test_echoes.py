"""Every action that is given a secret, or a value that holds one, against another side that repeats it in its answers and its errors."""

import base64
import json
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import ClassVar

import httpx
import pytest
from bench.rates import most_within
from sqlalchemy import make_url

from oak_relay.actions.catalogue import offer
from oak_relay.client import Client
from oak_relay.standins.media import recording
from oak_relay.vault.blanking import BLANK
from tests.conftest import Processes
from tests.test_sql import elsewhere

SECRET = 'eleven "larches"/by+the tarn'
FORMS = (SECRET, json.dumps(SECRET)[1:-1], base64.b64encode(SECRET.encode()).decode(), base64.b64encode(f"office:{SECRET}".encode()).decode())  # fmt: skip
DESCRIPTION = {
    "openapi": "3.1.0", "info": {"title": "Echoes", "version": "1"}, "security": [{"key": []}],
    "components": {"securitySchemes": {"key": {"type": "http", "scheme": "basic"}}},
    "paths": {
        "/echo/described": {"get": {"operationId": "told", "responses": {"200": {"description": "What was said."}}}},
        "/wrong/described": {"get": {"operationId": "wrong", "responses": {"200": {"description": "Nothing."}}}},
        "/rows/listed": {"get": {"operationId": "rows", "responses": {"200": {"description": "Rows."}}}},
    },
}  # fmt: skip
STEPS = {
    "http.request": ['{url: "URL/echo/1", credential: echo}', '{url: "URL/wrong/1", credential: echo}'],
    "event.send": ['{url: "URL/wrong/2", type: told, data: "${ input.word }", credential: echo}'],
    "web.search": ['{url: "URL/feed/3", query: huts, credential: echo}', '{url: "URL/wrong/3", query: huts, credential: echo}'],
    "model.transcribe": ['{model: echo-model, url: "URL/sound/4", credential: echo}', '{model: echo-model, url: "URL/wrong/4", credential: echo}'],
    "model.answer": ['{model: echo-model, prompt: "${ input.word }"}', '{model: echo-wrong, prompt: "${ input.word }"}'],
    "model.embed": ["{model: echo-wrong, texts: [hut]}"],
    "conversation.keep": ['{name: told, value: "${ input.word }", conversation: echo}'],
    "model.meant": ['{text: "${ input.word }", choices: {a: [one], b: ["${ input.word }"]}}'],
    "model.label": ["{model: echo-model, text: hut, labels: {a: one, b: two}, otherwise: b}"],
    "model.judge": ["{model: echo-model, question: q, answer: a}"],
    "sql.read": ['{credential: echo-sql, query: "SELECT CAST(:word AS text) AS told", params: {word: "${ input.word }"}}',
                 '{credential: echo-sql, query: "SELECT CAST(:word AS int) AS told", params: {word: "${ input.word }"}}'],
    "sql.change": ['{credential: echo-sql, tables: [echoed], statement: "UPDATE echoed SET told = CAST(:word AS int) WHERE told = 1", params: {word: "${ input.word }"}}'],
    "sql.describe": ["{credential: echo-sql}"],
    "code.python": ['{source: "def run(given):\\n    print(given)\\n    return [given, given[::-1][::-1]]\\n", given: "${ input.word }"}',
                    '{source: "def run(given):\\n    print(given)\\n    raise ValueError(given)\\n", given: "${ input.word }"}'],
    "table.add": ['{table: echo-kept, row: {told: "${ input.word }"}}'],
    "table.find": ['{table: echo-kept, where: {told: "${ input.word }"}}', "{table: echo-file}", "{table: echo-rows}", '{table: echo-kept, where: {"${ input.word }": 1}}'],
    "table.total": ["{table: echo-kept, by: [told]}"],
    "table.upsert": ['{table: echo-kept, row: {told: "${ input.word }"}, match: [told]}'],
    "table.delete": ['{table: echo-kept, where: {told: "${ input.word }"}}'],
    "server.call": ['{server: echo-server, tool: tell, arguments: {word: "${ input.word }"}, repeat: safe}', '{server: echo-server, tool: refuse, arguments: {}, repeat: safe}'],
    "echoes.told": ["{credential: echo}"],
    "echoes.wrong": ["{credential: echo}"],
}  # fmt: skip
"""The `with` of steps by what they do. `agent` is in test_leaks."""


class Echo(BaseHTTPRequestHandler):
    """Says what it was sent to sign in, wherever it can."""

    def do_GET(self) -> None:
        sent = self.headers.get("Authorization", "")
        known = base64.b64decode(sent.removeprefix("Basic ")).decode() if sent.startswith("Basic ") else sent
        word = known.partition(":")[2] or known.removeprefix("Bearer ") or SECRET
        body, kind = json.dumps({"told": [word, sent, known], word: 1}).encode(), "application/json"
        what = self.path.split("/")[1]
        if what == "feed":
            item = {"id": "1", "url": "http://huts.example/1", "title": word, "content_text": f"of {word}, {sent}"}
            body = json.dumps(
                {"version": "https://jsonfeed.org/version/1.1", "title": "huts", "items": [item]}
            ).encode()
        elif what == "rows":
            body = json.dumps([{"told": word, "also": sent}]).encode()
        elif what == "sheet":
            body, kind = f'told,also\n"{word.replace(chr(34), chr(34) * 2)}",{sent}\n'.encode(), "text/csv"
        elif what == "sound":
            body, kind = recording(word), "audio/wav"
        elif what == "model":
            self._read()
            if self.path.endswith("/audio/transcriptions"):
                body = json.dumps({"text": word}).encode()
            else:
                choice = {"message": {"role": "assistant", "content": f"{word}, {sent}"}, "finish_reason": "stop"}
                body = json.dumps({"choices": [choice], "usage": {"prompt_tokens": 1, "completion_tokens": 1}}).encode()
        elif what == "tools":
            body = self._tool(word, sent)
        self._answer(500 if what == "wrong" else 200, body, kind, {"ETag": '"1"', "X-Told": base64.b64encode(word.encode()).decode()})  # fmt: skip

    do_POST = do_LOCK = do_GET

    def _tool(self, word: str, sent: str) -> bytes:
        asked = json.loads(self._read())
        name = (asked.get("params") or {}).get("name")
        tools = [{"name": one, "description": f"says {word}", "inputSchema": {"type": "object"}} for one in ("tell", "refuse")]  # fmt: skip
        result = {
            "initialize": {"protocolVersion": "2025-06-18", "capabilities": {"tools": {}}, "serverInfo": {"name": word, "version": "1"}},
            "tools/list": {"tools": tools},
            "tools/call": {"content": [{"type": "text", "text": f"{word} {sent}"}], "isError": name == "refuse"},
        }.get(asked["method"], {})  # fmt: skip
        return json.dumps({"jsonrpc": "2.0", "id": asked.get("id", 0), "result": result}).encode()

    def _read(self) -> bytes:
        return self.rfile.read(int(self.headers.get("Content-Length") or 0))

    def _answer(self, status: int, body: bytes, kind: str, headers: dict[str, str]) -> None:
        self.send_response(status)
        for name, value in {"Content-Type": kind, "Content-Length": str(len(body)), **headers}.items():
            self.send_header(name, value)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        """Nothing is told."""


@pytest.fixture(scope="module")
def echo(oak: Processes) -> Iterator[str]:
    """The address of who repeats everything, with all that leads there."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), Echo)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_address[1]}"
    client = oak.client()
    client.put_credential("echo", kind="basic", user="office", secret=SECRET, hosts=[url])
    for name, what in (("echo-model", "model"), ("echo-wrong", "wrong")):
        client.put_model(name, unseen=True, url=f"{url}/{what}", model="m", credential="echo", stream="never")
    client.put_server("echo-server", url=f"{url}/tools", credential="echo")
    client.put_connector("echoes", text=json.dumps(DESCRIPTION), address=url, operations=["GET /echo/described", "GET /wrong/described", "GET /rows/listed"])  # fmt: skip
    client.create_table("echo-kept", {"told": "text"})
    client.link_table("echo-file", {"kind": "file", "url": f"{url}/sheet/told.csv", "credential": "echo"})
    client.link_table("echo-rows", {"kind": "operations", "credential": "echo", "list": {"do": "echoes.rows"}})
    own = make_url(oak.environment["OAK_RELAY_DATABASE_URL"])
    quoted = SECRET.replace("'", "''")
    oak.rows(f"CREATE ROLE echo_keeper LOGIN PASSWORD '{quoted}'")
    oak.rows("CREATE TABLE echoed (told int)")
    oak.rows("GRANT SELECT, UPDATE ON echoed TO echo_keeper")
    with elsewhere(own.port or 5432) as port:
        there = own.set(drivername="postgresql", host="127.0.0.1", port=port, username="echo_keeper", password=SECRET)
        client.put_credential("echo-sql", kind="database", url=there.render_as_string(hide_password=False))
        yield url
    server.shutdown()
    oak.rows("DROP TABLE echoed")


def test_every_action_is_here():
    meant = {one.name for one in offer().catalogue if not one.hidden} - {"agent"}
    assert meant == {name for name in STEPS if not name.startswith("echoes.")}


@pytest.mark.parametrize("do", STEPS)
def test_what_is_echoed_is_shown_nowhere(do: str, echo: str, oak: Processes):
    client: Client = oak.client()
    steps = [
        {"step": f"s{n}", "do": do, "with": "WITH", "retry": {"tries": 1}, "on_error": "go_on"}
        for n in range(len(STEPS[do]))
    ]
    lines = json.dumps(
        {"oak": 1, "workflow": f"echo-{do.replace('.', '-')}", "steps": steps, "result": "${ input.word }"}
    )
    for given in STEPS[do]:
        lines = lines.replace('"WITH"', given.replace("URL", echo), 1)
    saved = client.save(lines)
    assert not [one for one in saved.findings if one.severity == "error"], saved.findings
    ended = client.start(saved.workflow, {"word": SECRET}).wait(60)
    head = {"Authorization": f"Bearer {oak.token}"}
    shown = {
        page: httpx.get(f"{oak.url}/api/v1/runs/{ended.id}{page}", headers=head, timeout=30).text
        for page in ("", "/trace", "/view", "/journal", "/stream", *(f"/record?path=s{n}" for n in range(len(steps))))
    }
    shown |= {f"rows of {name}": httpx.get(f"{oak.url}/api/v1/tables/{name}/rows", headers=head).text for name in ("echo-kept", "echo-file", "echo-rows")}  # fmt: skip
    shown["log"] = oak.log.read_text(errors="replace")
    assert ended.state == "succeeded", ended.error
    assert BLANK in shown[""] and BLANK in shown["rows of echo-file"] and BLANK in shown["rows of echo-rows"]
    assert {where: form for where, text in shown.items() for form in FORMS if form in text} == {}


def test_a_filter_does_not_find_what_is_blanked(echo: str, client: Client):
    """Nobody learns a secret that stands in a row by asking which rows begin with a letter of it."""
    client.create_table("echo-asked", {"told": "text", "n": "number"})
    client.add_rows("echo-asked", [{"told": SECRET, "n": 1}, {"told": "eleven huts", "n": 2}])
    for table in ("echo-asked", "echo-file"):
        for where in ({"begins_with": "eleven"}, {"above": "a"}, {"below": "zzz"}, {"contains": "larches"}, {"in": [SECRET]}, {"not": "x"}):  # fmt: skip
            assert [
                row.row.get("n") for row in client.rows(table, where={"told": where}) if BLANK in str(row.row)
            ] == []
        assert not list(client.rows(table, where={"told": SECRET}))
    assert len(client.rows("echo-asked", where={"n": 1})) == 1


class Pages(BaseHTTPRequestHandler):
    """A list in twelve pages, and when each was asked for."""

    asked: ClassVar[list[float]] = []

    def do_GET(self) -> None:
        self.asked.append(time.monotonic())
        number = int(self.path.rpartition("=")[2]) if "=" in self.path else 1
        body = json.dumps({"items": [number] if number <= 12 else []}).encode()
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        """Nothing is told."""


def test_every_page_counts_for_the_limit_of_its_credential(client: Client):
    server = ThreadingHTTPServer(("127.0.0.1", 0), Pages)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    place = f"http://127.0.0.1:{server.server_address[1]}"
    url = f"{place}/list"
    client.put_credential("paged", kind="bearer", secret="twelve-pages-of-huts", hosts=[place], rate={"calls": 8, "per": "10s"})  # fmt: skip
    step = {"step": "all", "do": "http.request", "with": {"url": url, "credential": "paged", "pages": {"items": "$.items", "number": "page", "most": 12}}}  # fmt: skip
    client.save(json.dumps({"oak": 1, "workflow": "paged", "steps": [step], "result": "${ all.body }"}))
    assert client.start("paged", {}).wait(60).result() == list(range(1, 13))
    assert len(Pages.asked) == 12 and most_within(Pages.asked, 9.5) <= 8
    server.shutdown()
