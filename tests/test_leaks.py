"""Forty secrets that a service repeats in every form, in every place where it can put something: none is ever shown."""

import base64
import json
import os
import subprocess
import sys
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import quote

import httpx
import pytest
from playwright.sync_api import Browser

from oak_relay.client.errors import Invalid
from oak_relay.vault.blanking import BLANK, LAYERS, Blanker
from tests.browsing import browser, sign_in
from tests.conftest import Processes, until
from tests.hidden import ESCAPES, SECRETS, escaped

HELLO = {
    "protocolVersion": "2025-06-18",
    "capabilities": {"tools": {}},
    "serverInfo": {"name": "tells", "version": "1"},
}
"""How a tool server greets."""

__all__ = ["browser"]
MANY = [*SECRETS, *(f"{kind}{n}-{'ö' if n % 2 else '/'}{n * 7919}" for n, kind in enumerate(["hut key ", "ridge&", 'a"b\\', "%2F+", "x" * 200] * 4))][:40]  # fmt: skip
WAYS = [
    [],
    *([name] for name in ESCAPES),
    ["JSON", "JSON"],
    ["JSON", "percent", "HTML"],
    ["JSON", "JSON", "JSON"],  # and a fourth by the body that holds it
]
FLOW = """
oak: 1
workflow: parrot-{n}
steps:
  - step: echoed
    do: http.request
    with: {{url: "{url}/echo/{n}", credential: secret-{n}}}
  - step: wrong
    do: http.request
    with: {{url: "{url}/wrong/{n}", credential: secret-{n}}}
    retry: {{tries: 1}}
    on_error:
      - {{step: why, set: {{text: "${{ error.message }}"}}}}
  - step: asked
    do: agent
    with:
      model: model-{n}
      prompt: What is it?
      tools: [{{server: server-{n}}}]
      limits: {{turns: 3, calls: 3}}
result: {{said: "${{ asked.text }}", echoed: "${{ echoed }}"}}
"""


@dataclass
class Parrot:
    """A service, a model server, a tool server and a collector of traces that repeat what they are sent as they like."""

    url: str = ""
    collected: list[str] = field(default_factory=list)

    def forms(self, n: int) -> list[str]:
        secret = MANY[n]
        long = len(secret) > 1_000
        told = [escaped(secret, names[:1] if long else names) for names in WAYS]
        return [
            *told,
            base64.b64encode(secret.encode()).decode(),
            base64.b64encode(f"user:{secret}!".encode()).decode(),
        ]

    def said(self, n: int) -> str:
        return " | ".join(self.forms(n))


@pytest.fixture(scope="module")
def parrot() -> Iterator[Parrot]:
    parrot = Parrot()

    class Answers(BaseHTTPRequestHandler):
        def _send(
            self, status: int, body: str, kind: str = "application/json", headers: dict[str, str] | None = None
        ) -> None:
            raw = body.encode()
            self.send_response(status)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(raw)))
            for name, value in (headers or {}).items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(raw)

        def do_GET(self) -> None:
            self.do_POST()

        def do_POST(self) -> None:
            sent = self.rfile.read(int(self.headers.get("content-length") or 0)).decode()
            _, what, which = self.path.split("/", 2)
            n = int("".join(c for c in which.split("/")[0] if c.isdigit()) or 0)
            getattr(self, f"_{what}")(n, sent)

        def _echo(self, n: int, _sent: str) -> None:
            secret = MANY[n]
            odd = {
                "X-Said": quote(secret)[:2_000],
                "X-" + base64.urlsafe_b64encode(secret.encode()).decode().rstrip("=")[:150]: "1",
            }
            body = {
                "forms": parrot.forms(n),
                secret: 1,
                "n": int(secret) if secret.isdigit() else 0,
                "inner": json.dumps({"deep": json.dumps([secret])}),
            }
            self._send(200, json.dumps(body), headers=odd)

        def _wrong(self, n: int, _sent: str) -> None:
            self._send(500, "x" * (290 - n) + parrot.said(n), "text/plain")

        def _traces(self, _n: int, sent: str) -> None:
            parrot.collected.append(sent)
            self._send(200, "{}")

        def _model(self, n: int, sent: str) -> None:
            if not sent:
                self._send(200, json.dumps({"data": [{"id": "m"}, {"id": MANY[n]}]}))
                return
            asked = json.loads(sent)
            if asked["messages"][-1]["role"] == "user" and asked.get("tools"):
                calls = [
                    {
                        "index": 0,
                        "id": "c1",
                        "type": "function",
                        "function": {
                            "name": asked["tools"][0]["function"]["name"],
                            "arguments": json.dumps({"q": MANY[n]}),
                        },
                    }
                ]
                pieces = [{"delta": {"tool_calls": calls}, "finish_reason": "tool_calls"}]
            else:
                text = parrot.said(n)
                pieces = [{"delta": {"content": text[at : at + 7]}} for at in range(0, len(text), 7)]
                pieces.append({"delta": {}, "finish_reason": "stop"})
            lines = [f"data: {json.dumps({'choices': [one]})}\n\n" for one in pieces]
            self._send(200, "".join([*lines, "data: [DONE]\n\n"]), "text/event-stream")

        def _tools(self, n: int, sent: str) -> None:
            asked = json.loads(sent)
            result: dict[str, object] = {**HELLO} if asked["method"] == "initialize" else {}
            if asked["method"] == "tools/list":
                result = {
                    "tools": [
                        {"name": "tell", "description": f"tells {MANY[n]}"[:1_000], "inputSchema": {"type": "object"}}
                    ]
                }
            if asked["method"] == "tools/call":
                result = {
                    "content": [{"type": "text", "text": parrot.said(n)}],
                    "structuredContent": {"told": parrot.forms(n), MANY[n]: 1},
                }
            self._send(200, json.dumps({"jsonrpc": "2.0", "id": asked.get("id", 0), "result": result}))

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Answers)
    parrot.url = f"http://127.0.0.1:{server.server_port}"
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield parrot
    server.shutdown()


def _seen(house: Processes, path: str) -> str:
    answer = httpx.get(f"{house.url}/api/v1/{path}", headers={"Authorization": f"Bearer {house.token}"}, timeout=60)
    assert answer.status_code == 200, (path, answer.text[:300])
    if "json" in answer.headers["content-type"]:
        assert answer.json() is not None
    return answer.text


def _printed(house: Processes, *words: str) -> str:
    """What a command writes to a terminal."""
    done = subprocess.run([sys.executable, "-m", "oak_relay.cli", "--url", house.url, *words], env={**house.environment, "COLUMNS": "200"}, capture_output=True, text=True, timeout=120)  # fmt: skip
    assert done.returncode in (0, 1), done.stderr
    return done.stdout + done.stderr


def _found(text: str, blanker: Blanker) -> list[str]:
    """Secrets in a text, looked for by themselves in each form, and by what blanks."""
    plain = [secret for secret in MANY for names in WAYS[:10] if len(secret) < 1_000 and escaped(secret, names) in text]
    return plain or (["a hidden one"] if blanker.finds(text, LAYERS + 1) else [])


@pytest.mark.parametrize(
    "every", [pytest.param(16, id="a-sixteenth"), pytest.param(1, id="all", marks=pytest.mark.long)]
)
def test_forty_secrets_of_awkward_shapes_are_never_shown(lone: Processes, parrot: Parrot, browser: Browser, every: int):
    """All of them are stored, and looked for wherever something is told; so many go through runs too."""
    house = lone
    blanker = Blanker(MANY)
    house.environment |= {"OAK_RELAY_OTLP_ENDPOINT": f"{parrot.url}/traces/0", "OAK_RELAY_OTLP_CONTENT": "true"}
    client = house.client()
    for n, secret in enumerate(MANY):
        client.put_credential(
            f"secret-{n}", kind="basic", user="office", secret=secret, test_url=f"{parrot.url}/echo/{n}"
        )
        if n % every:
            continue
        client.put_model(f"model-{n}", unseen=True, url=f"{parrot.url}/model/{n}", model="m", credential=f"secret-{n}", stream="always")  # fmt: skip
        client.put_server(f"server-{n}", url=f"{parrot.url}/tools/{n}", credential=f"secret-{n}")
        client.on(client.save(FLOW.format(n=n, url=parrot.url)).workflow)
    house.start_worker()
    runs = {n: client.start(f"parrot-{n}") for n in range(0, len(MANY), every)}
    told = {f"stream of {n}": _seen(house, f"runs/{runs[n].id}/stream") for n in (0, every, 2 * every)}
    for n, run in runs.items():
        assert run.wait(60).state == "succeeded", (MANY[n], run.wait().error)
        result = json.dumps(run.result())
        assert BLANK in run.result()["said"], MANY[n]
        told[f"result of {n}"] = result
        for page in ("", "/trace", "/view", "/record?path=echoed", "/journal", "/stream"):
            told[f"run {n}{page}"] = _seen(house, f"runs/{run.id}{page}")
        if n % 8 == 0:
            told[f"test of {n}"] = client.test_credential(f"secret-{n}").model_dump_json()
            told[f"server {n}"] = client.test_server(f"server-{n}").model_dump_json()
            told[f"model {n}"] = client.test_model(f"model-{n}").model_dump_json()
            told[f"printed {n}"] = _printed(house, "show", str(run.id)[-12:])
    for page in ("runs", "events", "credentials", "models", "servers", "usage", "conversations", "tray", "workflows"):
        told[page] = _seen(house, page)
    page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
    sign_in(page, house)
    for n in range(0, len(MANY), max(8, every)):
        for step in ("echoed", "wrong", "asked"):
            page.goto(f"{house.url}/runs/{runs[n].id}?step={step}", wait_until="networkidle")
            page.evaluate("document.querySelectorAll('details').forEach((one) => (one.open = true))")
            told[f"page of {n}, {step}"] = f"{page.locator('main').inner_text()} {page.content()}"
    for place in ("runs", "workflows", "workflows/parrot-8", "credentials", "models", "usage", "tray", "access"):
        page.goto(f"{house.url}/{place}", wait_until="networkidle")
        told[f"page {place}"] = f"{page.locator('main').inner_text()} {page.content()}"
    page.context.close()
    told["printed runs"] = _printed(house, "runs")
    until(lambda: len(parrot.collected) >= 1)
    told["telemetry"] = "\n".join(parrot.collected)
    told["log"] = house.log.read_text(errors="replace")
    for table in house.rows("SELECT table_name FROM information_schema.tables WHERE table_schema = 'public'"):
        rows = house.rows(f'SELECT t::text FROM "{table[0]}" t')
        told[f"table {table[0]}"] = "\n".join(str(row[0]) for row in rows)
    leaks = {where: found for where, text in told.items() if (found := _found(text, blanker))}
    assert not leaks, {where: (found[:2], told[where][:200]) for where, found in list(leaks.items())[:5]}


@pytest.mark.skipif(not hasattr(os, "fork"), reason="starts programs")
def test_what_a_tool_server_is_given_in_its_environment_is_sealed_and_blanked(lone: Processes, tmp_path):
    program = tmp_path / "tells.py"
    program.write_text(
        "import json, os, sys\n"
        "for line in sys.stdin:\n"
        "    asked = json.loads(line)\n"
        "    if 'id' not in asked: continue\n"
        "    tools = [{'name': 'tell', 'description': os.environ['HUT_KEY'] + str(sorted(os.environ)), 'inputSchema': {'type': 'object'}}]\n"
        f"    told = {HELLO} if asked['method'] == 'initialize' else {{'tools': tools}}\n"
        "    print(json.dumps({'jsonrpc': '2.0', 'id': asked['id'], 'result': told}), flush=True)\n"
    )
    house, client = lone, lone.client()
    house.kill(house.running[-1])
    house.start("serve", OAK_RELAY_PROGRAMS="true", OAK_RELAY_KEEP_IDS_DAYS="29")
    until(lambda: httpx.get(f"{house.url}/health/ready").is_success, 60)
    command = [sys.executable, str(program)]
    client.put_server("tells", command=command, environment={"HUT_KEY": 'old"key\\of the hut'})
    shown = client.test_server("tells").model_dump_json()
    assert BLANK in shown and "hut" not in shown.replace("HUT_KEY", "")
    assert "OAK_RELAY" not in shown, "a program is not given the service's own settings"
    assert client.servers()[-1].config.environment == {"HUT_KEY": BLANK}
    client.put_server("tells", command=command, environment={"HUT_KEY": BLANK, "MORE": "a new key 2031"})
    assert "key" not in client.test_server("tells").tools[0].description.replace(BLANK, "")
    assert "hut" not in house.sql("SELECT string_agg(t::text, ' ') FROM tool_server t")
    client.remove_server("tells")
    told = client.check("oak: 1\nworkflow: a new key 2031\nsteps: []\n").model_dump_json()
    assert "a new key 2031" not in told


def test_a_secret_stays_blanked_when_it_is_replaced_or_removed(oak: Processes):
    client = oak.client()
    flow = (
        "oak: 1\nworkflow: repeats\nsteps:\n  - {step: kept, set: {text: '${ input.text }'}}\nresult: ${ kept.text }\n"
    )
    client.on(client.save(flow).workflow)
    client.put_credential("turning", kind="bearer", secret="first-of-the-keys-2031", hosts=["office.example"])
    client.put_credential("turning", kind="bearer", secret="second-of-the-keys-2032", hosts=["office.example"])
    client.remove_credential("turning")
    run = client.start("repeats", {"text": "first-of-the-keys-2031 and second-of-the-keys-2032"})
    assert run.result() == f"{BLANK} and {BLANK}"
    assert oak.sql("SELECT body FROM event ORDER BY id DESC LIMIT 1") == '{"text":"first-of-the-keys-2031 and second-of-the-keys-2032"}'  # fmt: skip


def test_a_document_holds_no_secret(oak: Processes):
    client = oak.client()
    client.put_credential("in-a-document", kind="bearer", secret="a-key-of-the-hut-2031", hosts=["office.example"])
    flow = "oak: 1\nworkflow: keeps-quiet\nsteps:\n  - {{step: a, set: {{text: '{}'}}}}\nresult: ${{ a.text }}\n"
    for text in ("a-key-of-the-hut-2031", "a\\u002dkey-of-the-hut-2031", BLANK):
        with pytest.raises(Invalid, match="the document holds"):
            client.save(flow.format(text))
    assert client.save(flow.format("a-key-of-another-hut")).version == 1
    client.remove_credential("in-a-document")
