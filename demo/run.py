"""Starts the service with demo data and stand-ins; with --once runs the example to its end and says how it went."""

import argparse
import base64
import contextlib
import json
import os
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import parse_qsl, urlsplit

import httpx
import nights
from rich.console import Console
from rich.table import Table

from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.standins.media import picture, recording

HERE = Path(__file__).parent
OUT = Console(highlight=False, width=None if sys.stdout.isatty() else 130)
DATA = json.loads((HERE / "data.json").read_text())


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--once", action="store_true", help="run to the end, print a summary, stop")
    parser.add_argument("--data", type=Path, help="data directory (default: data/demo, or a temporary one with --once)")
    given = parser.parse_args()
    home = given.data or Path("data") / ("demo-once" if given.once else "demo")
    if given.once and home.exists():
        stop_cluster(home)
        shutil.rmtree(home)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    home.mkdir(parents=True, exist_ok=True)
    keys = demo_keys(home)
    port, outside = free_port(8470), free_port(8471)
    url, standins = f"http://127.0.0.1:{port}", f"http://127.0.0.1:{outside}"
    environment = {
        **os.environ, "OAK_RELAY_DATA_DIR": str(home), "OAK_RELAY_PORT": str(port), "OAK_RELAY_FIRST_PASSWORD": keys["password"],
        "STANDIN_MODEL_KEY": keys["model"], "STANDIN_OFFICE_KEY": keys["office"], "STANDIN_SIGNING_SECRET": keys["signing"],
        "STANDIN_OFFICE_SECRET": keys["app"], "STANDIN_REDIRECTS": f"{url}/connect/back", "STANDIN_HOOK_URL": f"{url}/hooks/bookings",
        "STANDIN_MESSENGER_KEY": keys["messenger"], "STANDIN_MESSENGER_SECRET": keys["line"], "STANDIN_MESSENGER_URL": f"{url}/channels/warden-line",
    }  # fmt: skip
    with (
        contextlib.ExitStack() as stack,
        process(["standins", "--port", str(outside), "--rules", str(HERE / "model")], environment),
        process(["up"], environment) as up,
    ):
        wait_ready(url, standins, up)
        client = Client(url, (home / "cli.token").read_text().strip())
        stack.callback(nights.stop, home)
        client.put_credential("nights", kind="database", url=nights.start(home, keys["nights"]))
        seed(client, keys, standins)
        httpx.post(f"{standins}/office/oauth/behave", json={"expire": given.once}, trust_env=False).raise_for_status()
        sent = send_requests(standins)
        agents = start_agents(client)
        photographed = send_picture(url, keys)
        chat(url, DATA["chat"][:-1])
        wardens_write(standins, f"{url}/channels/warden-line")
        if given.once:
            decide(client)
            take_over(client, "warden-line", OFFICE, "a new lantern is on its way")
            visited = visit(url, "first-visit", DATA["visit"])
            visit(url, "visitors", DATA["guest"])
            take_over(client, "visitors", DESK, "the scarf was found")
            agents["path-reports"] = photographed
            for run_id in (*sent, *agents.values()):
                wait_end(client, run_id)
            kill_all(up)
            wait_ready(url, standins, up)
        chat(url, DATA["chat"][-1:])
        if given.once:
            return summarise(client, sent, agents, standins, visited)
        explain(url, standins, keys, home)
        with contextlib.suppress(KeyboardInterrupt):
            up.wait()
    return 0


def demo_keys(home: Path) -> dict[str, str]:
    """Secrets of this demo, made on its first start."""
    file = home / "demo.keys"
    kept = json.loads(file.read_text()) if file.exists() else {}
    file.touch(mode=0o600)
    signing = "whsec_" + base64.b64encode(secrets.token_bytes(24)).decode()
    line = "whsec_" + base64.b64encode(secrets.token_bytes(24)).decode()
    new = {"messenger": "mk-" + secrets.token_hex(16), "line": line, "password": secrets.token_urlsafe(9), "model": "mk-" + secrets.token_hex(16), "signing": signing,
           "office": "ok-" + secrets.token_hex(16), "nights": secrets.token_hex(16), "app": "os-" + secrets.token_hex(16)}  # fmt: skip
    file.write_text(json.dumps({**new, **kept}))
    return {**new, **kept}


@contextlib.contextmanager
def process(arguments: list[str], environment: dict[str, str]) -> Iterator[subprocess.Popen[bytes]]:
    started = subprocess.Popen([sys.executable, "-m", "oak_relay.cli", *arguments], env=environment)
    try:
        yield started
    finally:
        started.send_signal(signal.SIGTERM)
        started.wait(timeout=40)


def wait_ready(url: str, standins: str, up: subprocess.Popen[bytes]) -> None:
    """Return when the service, a worker and the stand-ins answer."""
    deadline = time.monotonic() + 90
    while True:
        with contextlib.suppress(httpx.TransportError):
            ready = httpx.get(f"{url}/health/ready", trust_env=False)
            if (
                ready.status_code == 200
                and ready.json()["workers"]
                and httpx.get(f"{standins}/received.json", trust_env=False).is_success
            ):
                return
        if up.poll() is not None or time.monotonic() > deadline:
            sys.exit("the service did not start; see above")
        time.sleep(0.1)


def seed(client: Client, keys: dict[str, str], standins: str) -> None:
    """Credentials, models, tables and workflows of the demo; what is there already is kept or renewed."""
    client.put_credential("booking-site", kind="signing", secret=keys["signing"])
    connect_office(client, keys, standins)
    client.put_credential(
        "models", kind="bearer", secret=keys["model"], hosts=["127.0.0.1"], test_url=f"{standins}/v1/models"
    )
    client.put_model(
        "quick", url=f"{standins}/v1", model="larch-small", credential="models", prices={"input": 0.2, "output": 0.8}
    )
    client.put_model(
        "careful", url=f"{standins}/v1", model="larch-large", credential="models", prices={"input": 3, "output": 12}
    )
    client.put_model(
        "seeing",
        url=f"{standins}/v1",
        model="larch-large",
        credential="models",
        prices={"input": 3, "output": 12},
        takes=["images"],
    )
    place = standins.removeprefix("http://")
    client.put_credential("messenger", kind="bearer", secret=keys["messenger"], hosts=[f"http://{place}"])
    client.put_credential("messenger-signing", kind="signing", secret=keys["line"])
    client.put_credential("forms", kind="signing", secret=keys["office"])
    client.put_server("weather-station", url=f"{standins}/weather")
    if "office" not in {one.name for one in client.every(client.connectors)}:
        source = f"{standins}/office/api/openapi.json"
        offered = client.read_description(source=source).offered
        client.put_connector("office", source=source, operations=[one.key for one in offered])
    known = {table.name for table in client.tables()}
    if "vouchers" not in known:
        link_accounts(client, standins)
    if not client.rows("vouchers", limit=1):
        client.add_rows("vouchers", DATA["vouchers"])
    for name, columns in DATA["tables"].items():
        if name not in known:
            client.create_table(name, columns)
            if name in DATA["rows"]:
                client.add_rows(name, DATA["rows"][name])
    live = {w.name: w.on_version for w in client.workflows()}
    files = sorted((HERE / "workflows").glob("*.yaml"), key=lambda f: (f.stem not in FIRST, f.stem))
    for file in files:
        saved = (
            client.save(file.read_text().replace("http://127.0.0.1:8471", standins)) if file.stem not in live else None
        )
        if saved or not live.get(file.stem):
            client.on(file.stem)
    for name in ("booking-triage", "route-briefing", "reply-screen"):
        client.settings(name, {"office": f"{standins}/office"})
    for name in ("morning-conditions", "path-scout"):
        client.settings(name, {"search": f"{standins}/search"})


def link_accounts(client: Client, standins: str) -> None:
    """The accounts' vouchers as two linked tables: behind the operations of their description, and in a workbook on the web."""
    source = f"{standins}/accounts/api/openapi.json"
    client.put_connector(
        "accounts", source=source, operations=[o.key for o in client.read_description(source=source).offered]
    )
    changed = {"number": "${ old.number }", "if-match": "${ old.version }"}
    operations = {
        "list": {"do": "accounts.list_vouchers", "with": {"limit": 100, "pages": 50}, "rows": "$.items"},
        "add": {"do": "accounts.add_voucher", "with": {"body": "${ row }"}},
        "change": {
            "do": "accounts.change_voucher",
            "with": {**changed, "body": {name: f"${{ row.{name} }}" for name in VOUCHER}},
        },
        "remove": {"do": "accounts.remove_voucher", "with": changed},
    }
    link = {"kind": "operations", "credential": "office", "key": ["number"], **operations}
    client.link_table("vouchers", link, {**VOUCHER, "version": "text"})
    book = {
        "kind": "file",
        "url": f"{standins}/accounts/folder/vouchers.xlsx",
        "credential": "office",
        "key": ["number"],
    }
    client.link_table("voucher_book", book, VOUCHER)


def connect_office(client: Client, keys: dict[str, str], standins: str) -> None:
    """The booking office is an OAuth app, and somebody of the office consents: on its page, as a browser would."""
    known = client.look_at_provider(issuer=f"{standins}/office")
    fields = ("issuer", "authorize_url", "token_url", "revoke_url", "account_url", "way", "named_issuer")
    app = {name: getattr(known, name) for name in fields}
    app |= {
        "client_id": "larkspur-relay",
        "secret": keys["app"],
        "scopes": ["bookings.read", "replies.write", "accounts.read", "accounts.write"],
    }
    place = standins.removeprefix("http://")
    stored = client.put_credential("office", kind="oauth", **app, hosts=[place], test_url=f"{standins}/office/me")
    if stored.connection is not None and stored.connection.state == "ready" and not stored.connection.lacking:
        return
    page = client.begin_consent("office").url
    form = dict(parse_qsl(urlsplit(page).query))
    answer = httpx.post(page.partition("?")[0], data={**form, "say": "yes"}, trust_env=False)
    client.finish_consent(**dict(parse_qsl(urlsplit(answer.headers["location"]).query)))


def start_agents(client: Client) -> dict[str, str]:
    """The conditions of all huts, a briefing that waits for its approval and a judged answer; the ids of their runs by
    name. The letter of the briefing is left in the tray."""
    given = {
        "morning-conditions": None,
        "route-briefing": {"huts": ["Thistle Col", "Glasswater"], "guest": "cleo.moss@guests.example"},
        "reply-screen": DATA["judged"],
        "bunk-analyst": {"question": "How many nights and meals had Glasswater and Upper Tarn in July 2030?"},
    }
    return {
        name: str(client.start(name, data).id) if data else str(client.start(name).id) for name, data in given.items()
    }


def chat(url: str, messages: list[str]) -> None:
    """A guest writes, one message after the other's answer."""
    with httpx.Client(base_url=url, trust_env=False, timeout=60) as guest:
        for message in messages:
            body = {"guest": "ada.fenn@guests.example", "message": message}
            guest.post("/hooks/guest-chat", json=body).raise_for_status()


def wardens_write(standins: str, address: str) -> None:
    """Three wardens write to the line, one of them by a voice note; the service asks for an echo first."""
    with httpx.Client(base_url=f"{standins}/messenger", trust_env=False, timeout=60) as outside:
        answer = outside.post("/webhook", json={"url": address}).json()
        if not answer["ok"]:
            sys.exit("the channel did not answer the handshake")
        for one in DATA["wardens"]:
            said = {"name": one["name"], "text": one.get("text", "")}
            if "voice" in one:
                note = base64.b64encode(recording(one["voice"])).decode()
                said |= {"type": "voice", "file": note, "file_type": "audio/wav", "file_name": "note.wav"}
            outside.post(f"/chats/{one['chat']}", json=said).raise_for_status()


def take_over(client: Client, workflow: str, text: str, word: str) -> None:
    """Somebody of the office writes to whom the agent could not help, and hands the conversation back."""
    deadline = time.monotonic() + 60
    while not (waiting := [q for q in client.tray() if q.handed_over and q.workflow == workflow]):
        if time.monotonic() > deadline:
            sys.exit(f"no conversation of {workflow} was handed over")
        time.sleep(0.05)
    client.say(waiting[0].id, text)
    client.answer(waiting[0].id, text=word)


OFFICE = "The office here: a new lantern comes up with the next mule."
DESK = "Good day, this is the office. Your scarf is here."


def visit(url: str, path: str, texts: list[str]) -> list[str]:
    """Somebody writes on a page, one message after the other's answer; what they were told."""
    key = secrets.token_urlsafe(24)
    with httpx.Client(base_url=f"{url}/talk/{path}", headers={"X-Visitor": key}, trust_env=False, timeout=60) as page:
        for count, text in enumerate(texts, 1):
            page.post("/messages", json={"id": f"m{count}", "text": text}).raise_for_status()
            deadline = time.monotonic() + 30
            while True:
                said = page.get("/messages").raise_for_status().json()["items"]
                if said[-1]["side"] == "us" and sum(one["side"] == "them" for one in said) == count:
                    time.sleep(0.3)  # one more may follow
                    if page.get("/messages").json()["items"][-1]["seq"] == said[-1]["seq"]:
                        break
                if time.monotonic() > deadline:
                    sys.exit(f"nobody answered {text!r} on the page {path}")
                time.sleep(0.05)
    return [one["text"] for one in said if one["side"] == "us"]


def kill_all(up: subprocess.Popen[bytes]) -> None:
    """Service, clock and workers die as in a power cut; `up` starts them again."""
    for child in Path(f"/proc/{up.pid}/task/{up.pid}/children").read_text().split():
        os.kill(int(child), signal.SIGKILL)


def send_requests(standins: str) -> list[str]:
    """Four guests write; the model is once too busy and the office is once out of order. Returns the run ids."""
    runs = []
    with httpx.Client(base_url=standins, trust_env=False, timeout=60) as outside:
        outside.post("/faults", json={"service": "model", "status": 429, "retry_after": 1}).raise_for_status()
        outside.post("/faults", json={"service": "office", "status": 503, "path": "replies"}).raise_for_status()
        for request in DATA["requests"]:
            for _ in range(2):  # each is delivered twice, as senders do; it counts once
                answer = outside.post("/office/requests", params={"id": f"{request['id']}_{RUN}"}, json=request["body"])
                answer.raise_for_status()
            runs.append(answer.json()["run"])
            if not answer.json()["duplicate"]:
                sys.exit("a webhook sent twice made two runs")
    return runs


PICTURE = "- the path is not free, a larch lies across the path"
"""What the picture shows that a guest took."""


def send_picture(url: str, keys: dict[str, str]) -> str:
    """A guest sends a picture of a path by a form; the id of its run."""
    answer = httpx.post(
        f"{url}/hooks/path-reports",
        data={"guest": "cleo.moss@guests.example", "place": "Marmot Saddle"},
        files={"picture": ("path to Marmot Saddle.png", picture(PICTURE), "image/png")},
        headers={"X-Form-Key": keys["office"]},
        trust_env=False,
    )
    answer.raise_for_status()
    return str(answer.json()["run"])


def decide(client: Client) -> None:
    """What a person of the office would do: approve the refund, and the letter with a change of their own."""
    deadline = time.monotonic() + 60
    while len(waiting := {q.workflow: q for q in client.tray() if not q.handed_over}) < 2:
        if time.monotonic() > deadline:
            sys.exit("no refund or no letter came to the tray")
        time.sleep(0.05)
    client.answer(waiting["booking-triage"].id, "approve", text="with our apologies")
    client.answer(waiting["route-briefing"].id, "approve", {"text": LETTER})


def summarise(client: Client, sent: list[str], agents: dict[str, str], standins: str, visited: list[str]) -> int:
    """Wait for the runs, print how they went, and say whether every part did what it should."""
    grid = Table(box=None, pad_edge=False, header_style="bold")
    for head in ("run", "about", "state", "kind", "steps", "attempts", "tokens", "money", "took"):
        grid.add_column(head)
    kinds: list[str] = []
    failed: list[str] = []
    retried: set[int] = set()
    for run_id in sent:
        detail = wait_end(client, run_id)
        run = detail.run
        kinds.append((detail.result or {}).get("kind", "–"))
        grid.add_row(run_id[-12:], run.subject, run.state, kinds[-1], str(run.steps), str(run.attempts), str(run.tokens_in + run.tokens_out),
                     f"{run.money:.6f}", f"{run.seconds:.2f} s")  # fmt: skip
        if run.state != "succeeded":
            failed.append(f"{run_id} ended {run.state}: {run.error}")
        for span in client.trace(run_id).spans:
            for attempt in span.attempts:
                status = (((attempt.detail or {}).get("exchange") or {}).get("response") or {}).get("status")
                turns = (attempt.detail or {}).get("turns") or [{}]
                status = status or ((turns[-1].get("exchange") or {}).get("response") or {}).get("status")
                if attempt.state == "failed" and span.state == "succeeded":
                    retried.add(status)
    ended = {name: wait_end(client, run_id) for name, run_id in agents.items()}
    talks = client.runs(workflow="guest-chat")
    for name, detail in [*ended.items(), *(("guest-chat", client.run(run.id)) for run in reversed(talks))]:
        run = detail.run
        grid.add_row(str(run.id)[-12:], run.subject, run.state, name, str(run.steps), str(run.attempts), str(run.tokens_in + run.tokens_out),
                     f"{run.money:.6f}", f"{run.seconds or 0:.2f} s")  # fmt: skip
        if run.state != "succeeded":
            failed.append(f"{name} ended {run.state}: {run.error}")
    OUT.print(grid)
    conditions = [row.row for row in client.rows("conditions")]
    said = [
        m.message.get("content") for m in client.conversation("guest ada.fenn@guests.example") if m.role == "assistant"
    ]
    received = httpx.get(f"{standins}/received.json", trust_env=False).json()
    office = httpx.get(f"{standins}/office/oauth/state.json", trust_env=False).json()
    letters = [
        r["body"]["text"]
        for r in received["received"]
        if r["service"] == "office" and r["body"].get("about") == "route"
    ]
    huts = client.try_action("office", "office.list_huts", {"credential": "office"})
    client.add_rows(
        "voucher_book",
        [{"number": "V-2031-0101", "hut": "upper_tarn", "what": "a lantern", "amount": 18.5, "night": "2031-07-09"}],
    )
    entered = client.rows("vouchers", where={"number": "V-2031-0101"})
    chats = httpx.get(f"{standins}/messenger/chats.json", trust_env=False).json()["chats"]
    told = {name: [one["text"] for one in lines if one["side"] == "hut"] for name, lines in chats.items()}
    checks = {
        "four runs from eight deliveries, all succeeded": not failed and len(set(sent)) == 4,
        "labels are question, refund, question, other": kinds == ["question", "refund", "question", "other"],
        "a 429 and a 503 were met, retried and stand in the trace": {429, 503} <= retried,
        "the table requests has a row per guest": len({r.row["guest"] for r in client.rows("requests")}) == 4,
        "the refund is noted, and was approved in the tray": len(client.rows("refunds")) >= 1
        and {q.answer["choice"] for q in client.tray("answered") if q.conversation is None} == {"approve"},
        "the office got each reply once": max(received["worked"].values()) == 1,
        "conditions of seven huts, each with its sources": len(conditions) == 7
        and all(row["sources"].startswith("https://") and row["hut"] in row["summary"] for row in conditions),
        "service and workers were killed, and a follow-up question was understood from what was said before": "As I said of Glasswater"
        in str(said[-1]),
        "the letter that left is the one a person had changed": letters == [LETTER],
        "an answer was judged before it left": (ended["reply-screen"].result or {}).get("outcome")
        == "gone down the valley",
        "a model looked at a picture, which is kept as it came": "a larch lies across the path"
        in str((ended["path-reports"].result or {}).get("seen"))
        and _pictures(client) == [picture(PICTURE)],
        "the office took its token back, and got it refreshed by one process": office.get("refreshed") == 1
        and "reused" not in office,
        "the office's huts are told by an action made of its description": len(huts.output or ()) == 7,
        "a question was answered from 805,000 nights by a SELECT that was checked first, and is logged with its first try": (
            "| Glasswater | " in str((ended["bunk-analyst"].result or {}).get("text"))
            and [bool(row.row["fault"]) for row in client.rows("night_questions")] == [True, False]
        ),
        "a voucher written into the accounts' workbook is told by their operations": [
            row.row["amount"] for row in entered
        ]
        == [18.5]
        and len(client.rows("vouchers")) == len(DATA["vouchers"]) + 1,
        "wardens were answered by message, by voice note, and by the office where the agent knew nothing": (
            "boiled" in told["runa"][0]
            and "annex" in told["tove"][0]
            and told["sol"] == ["I bring somebody from the office.", OFFICE]
        ),
        "a member got a hut card once, found the way to a first night by words, and is known when they come back": (
            len(client.rows("hut_cards")) == 1
            and [row.row for row in client.rows("first_nights")]
            == [{"member": "LH-2207", "wish": "Glasswater on the 14th of July"}]
            and "released already (you are at: first night)" in visited[-1]
        ),
        "a guest on the page was answered, asked for bunks piece by piece with a question in between, and spoke with a person": _guest(
            client
        ),
        "money is counted": all(client.run(run_id).run.money > 0 for run_id in sent),
    }
    for what, well in checks.items():
        OUT.print(f"{'[green]✓[/]' if well else '[red]✗[/]'} {what}")
    for line in failed:
        OUT.print(line, style="red")
    return 0 if all(checks.values()) else 1


def _guest(client: Client) -> bool:
    """Whether a guest on the page was told what they should have been."""
    [talk] = [one for one in client.every(client.conversations) if one.key.startswith("visitors ")]
    deadline = time.monotonic() + 30
    while True:
        lines = client.conversation(talk.key)
        told = [str(one.message["content"]) for one in lines if one.role == "assistant"]
        if told[-1].startswith("I am back") or time.monotonic() > deadline:
            break
        time.sleep(0.05)
    wanted = ["annex", "At which hut?", "For which night?", "boiled", "For which night?", "How many of you?", "How many of you?", "Noted: 3 at Glasswater on 2031-07-14.", "somebody from the office", DESK, "the scarf was found"]  # fmt: skip
    rows = [(row.row["hut"], row.row["night"], row.row["guests"]) for row in client.rows("stay_wishes")]
    for one, text in zip(wanted, told, strict=False):
        if one not in text:
            OUT.print(f"the guest was told {text!r}, not {one!r}", style="red")
    return (
        len(told) == len(wanted)
        and all(one in text for one, text in zip(wanted, told, strict=True))
        and rows == [("Glasswater", "2031-07-14", 3)]
    )


def _pictures(client: Client) -> list[bytes]:
    """The pictures of the reports of paths."""
    rows = client.rows("path_reports")
    return [b"".join(client.read_file(row.row["picture"]["file"])) for row in rows]


def wait_end(client: Client, run_id: str):
    deadline = time.monotonic() + 60
    while True:
        detail = client.run(run_id)
        if detail.run.over or time.monotonic() > deadline:
            return detail
        time.sleep(0.05)


def explain(url: str, standins: str, keys: dict[str, str], home: Path) -> None:
    """Where to look, how to sign in, what to try."""
    body = json.dumps(
        {
            "message": "Do I have to boil the water at Thistle Col?",
            "guest": {"name": "Ewa Thorn", "email": "ewa.thorn@guests.example"},
        }
    )
    OUT.print(f"""
[bold]Oak Relay is ready.[/]  Stop it with Ctrl-C.

  console    {url}   sign in as [bold]owner[/] with the password [bold]{keys["password"]}[/]
  outside    {standins}/received   what the stand-ins for model and booking office were sent
  guests     {url}/talk/visitors   a page on which visitors talk
  wardens    {standins}/messenger   a messaging service on which you play a warden

Four guests have written already. One answer met a busy model (429), one an office out of order (503): see Runs.
One wants money back: its run waits for you in the Tray. So does a letter that an agent wants to send, and a warden whom
nobody could help.
Let another guest write, and watch Runs:

  curl -X POST '{standins}/office/requests' -H 'Content-Type: application/json' \\
    -d '{body}'

On the command line (in another terminal, here):

  export OAK_RELAY_URL={url} OAK_RELAY_DATA_DIR={home}
  .venv/bin/oak-relay runs
  .venv/bin/oak-relay show last
""", soft_wrap=True, markup=True)  # fmt: skip


def free_port(wanted: int) -> int:
    """The wanted port, or any free one."""
    for port in (wanted, 0):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return int(probe.getsockname()[1])
    raise OSError("no free port")


def stop_cluster(home: Path) -> None:
    """Stop a database that an earlier demo left behind."""
    from oak_relay.runtime.cluster import Cluster

    if (home / "postgres").exists():
        Cluster(home).stop("immediate")
    if (home / "nights" / "postgres").exists():
        Cluster(home / "nights").stop("immediate")


RUN = secrets.token_hex(4)
VOUCHER = {"number": "text", "hut": "text", "what": "text", "amount": "number", "night": "text"}
FIRST = ("bunk-availability", "bunk-query", "path-scout")
LETTER = "Dear Cleo, both huts are open; on Thistle Col wait until ten, the path is icy."
if __name__ == "__main__":
    try:
        sys.exit(main())
    except OakRelayError as error:
        sys.exit(f"{error}")
