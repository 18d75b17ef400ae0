"""A run has one owner, and one bad thing harms only itself: with real processes, really stuck, killed and set back."""

import contextlib
import os
import pwd
import shutil
import signal
import subprocess
import time
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import asyncpg
import httpx
import pytest
from sqlalchemy import make_url

from oak_relay.client.errors import OakRelayError
from oak_relay.runtime.cluster import Cluster, _bin
from tests.conftest import Processes, Questions, open_up, seed, until
from tests.test_durability import WORK, start_runs
from tests.test_scale_out import as_postgres, open_home  # noqa: F401

SENT = """
oak: 1
workflow: sent
input: {type: object}
steps:
  - step: told
    do: http.request
    timeout: 6s
    with: {method: POST, url: "${ input.office }/replies", credential: office, json: {to: "${ input.n }"}}
result: ${ told.body.id }
"""


@pytest.mark.timeout(120)
def test_hold_and_release_during_a_call_make_no_second_walk(lone: Processes):
    """The walk under the former claim is dropped; what it had under way is asked about, and the run ends once."""
    client = lone.client()
    client.on(client.save(SENT).workflow)
    client.on(client.save(WORK).workflow)
    lone.fault(service="office", kind="slow", seconds=3, times=1, path="replies")
    lone.start_worker()
    [run_id] = start_runs(lone, "sent", 1)
    until(lambda: lone.sql("SELECT count(*) FROM entry WHERE kind = 'began'") == 1)
    until(lambda: lone.received()["faults"] == 0)
    assert client.hold()["held"] == 1
    assert "held after a restore" in client.run(run_id).why
    assert client.hold(False)["released"] == 1
    others = start_runs(lone, "killed-often", 10)  # the worker walks on with all else
    until(lambda: lone.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == len(others) == 10, 40)
    [question] = until(lambda: client.tray(), 40)
    client.answer(question.id, "it happened", {"body": {"id": "reply-1"}})
    until(lambda: client.run(run_id).run.state == "succeeded")
    assert client.run(run_id).result == "reply-1"
    assert lone.worked()[f"{run_id}:told"] <= 1
    kinds = [entry.kind for entry in client.journal(run_id) if entry.path == "told"]
    assert kinds == ["began", "lost"]


@pytest.mark.timeout(120)
def test_a_database_that_refuses_connections_fails_no_run(lone: Processes):
    """For longer than a lease, in the middle of everything."""
    client = lone.client()
    for text in (WORK, SENT):
        client.on(client.save(text).workflow)
    lone.start_worker()
    lone.start("tick")
    start_runs(lone, "killed-often", 60)
    start_runs(lone, "sent", 30)
    until(lambda: sum(lone.worked().values()) >= 20)
    name = make_url(lone.environment["OAK_RELAY_DATABASE_URL"]).database
    admin = Questions(lone.environment["OAK_RELAY_DATABASE_URL"].rsplit("/", 1)[0] + "/postgres")
    admin.ask(f'ALTER DATABASE "{name}" ALLOW_CONNECTIONS false')
    admin.ask("SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = $1", name)
    refused = time.monotonic()
    assert httpx.get(f"{lone.url}/health/ready", timeout=20).status_code == 503
    until(lambda: time.monotonic() - refused > 8)
    admin.ask(f'ALTER DATABASE "{name}" ALLOW_CONNECTIONS true')
    admin.close()
    until(lambda: not lone.sql("SELECT count(*) FROM queue WHERE ready_at < 'infinity' OR worker_id IS NOT NULL"), 60)
    for question in client.tray():  # a call that was under way when its worker lost everything
        client.answer(question.id, "it happened", {"body": {"id": "asked"}})
    until(lambda: not lone.sql("SELECT count(*) FROM queue"), 40)
    assert lone.rows("SELECT state, count(*) AS n FROM run GROUP BY 1") == [("succeeded", 90)]
    assert max(count for key, count in lone.worked().items() if key.endswith(":told") and "killed" not in key) >= 1


RESTED = """
oak: 1
workflow: rested
input: {type: object}
steps: [{step: first, set: {x: 1}}, {step: w, wait: {event: go.on, within: 1h}}]
result: ${ first.x }
"""


@pytest.mark.timeout(120)
def test_claims_whose_record_cannot_be_asked_for_are_given_back(lone: Processes):
    """The connection dies after a claim has landed and before what is recorded was read."""
    client = lone.client()
    client.on(client.save(RESTED).workflow)
    worker = lone.start_worker()
    lone.start("tick")
    held = Questions(lone.environment["OAK_RELAY_DATABASE_URL"])
    try:
        start_runs(lone, "rested", 20)
        until(lambda: lone.sql("SELECT count(*) FROM queue WHERE worker_id IS NULL AND walks > 0") == 20)
        held.ask("BEGIN")
        held.ask("LOCK TABLE journal IN ACCESS EXCLUSIVE MODE")
        client.publish({"id": "p1", "source": "/test", "type": "go.on", "data": 1})
        stopped = """SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity
            WHERE wait_event_type = 'Lock' AND query LIKE '%closed AS MATERIALIZED%'"""
        until(lambda: lone.sql(stopped), 30)
    finally:
        held.close()
    until(lambda: lone.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == 20, 40)
    assert worker.poll() is None


@pytest.fixture
def own(tmp_path: Path) -> Iterator[Processes]:
    """A data directory of its own, for `oak-relay up` with its own PostgreSQL."""
    processes = Processes(tmp_path / "data", "")
    processes.home.mkdir()
    open_up(tmp_path)
    del processes.environment["OAK_RELAY_DATABASE_URL"]
    yield processes
    processes.stop()
    Cluster(processes.home).stop("immediate")


def begun(own: Processes, **more: str) -> subprocess.Popen[bytes]:
    """`up`, once a worker is there."""
    process = own.start("up", **more)
    until(lambda: httpx.get(f"{own.url}/health/ready").json()["workers"] == 1, 90)
    own.questions.close()
    own.questions = Questions(Cluster(own.home).url())
    return process


LONG = """
oak: 1
workflow: long
input: {type: object}
steps:
  - step: rounds
    repeat: {until: "${ false }", most: 12}
    steps: [{step: s, set: {v: 1}}, {step: w, wait: 300ms}]
    gives: ${ s.v }
result: ${ rounds }
"""
STUCK = """
oak: 1
workflow: stuck
input: {type: object}
steps:
  - step: held
    set: {v: "${ input.words | slug }"}
result: ${ held.v }
"""


@pytest.mark.timeout(240)
@pytest.mark.long
def test_a_stuck_worker_is_ended_and_replaced_and_only_its_run_is_set_aside(own: Processes):
    """A call that holds the interpreter: nothing in the process can notice it."""
    lease = 10.0
    begun(own, OAK_RELAY_LEASE=str(lease), PYTHONPATH=str(Path(__file__).parent / "stuck"))
    client = own.client()
    for text in (LONG, STUCK):
        client.on(client.save(text).workflow)
    others = [client.start("long", {}).id for _ in range(20)]
    until(lambda: own.sql("SELECT count(*) FROM queue WHERE worker_id IS NOT NULL") == 20)
    [first] = own.rows("SELECT id FROM worker WHERE role = 'work'")
    stuck = client.start("stuck", {"words": "hold the interpreter"}).id
    until(lambda: own.sql("SELECT count(*) FROM queue WHERE run_id = $1 AND worker_id IS NOT NULL", stuck))
    began = time.monotonic()
    until(lambda: own.sql("SELECT count(*) FROM worker WHERE role = 'work' AND id <> $1", first["id"]))
    assert time.monotonic() - began < 2.5 * lease
    until(lambda: own.sql("SELECT state FROM run WHERE id = $1", stuck) == "set aside", 180)
    until(lambda: own.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == len(others), 60)
    assert "the only one under suspicion" in client.run(stuck).run.error.message
    assert "in _stuck" in own.log.read_text(errors="replace")  # where it stood
    assert client.start("stuck", {"words": "Kestrel Notch"}).result() == "kestrel-notch"


@pytest.mark.long
@pytest.mark.timeout(120)
def test_a_stuck_service_is_ended_and_replaced(own: Processes):
    """It evaluates too. The worker is not troubled by it."""
    up = begun(own, PYTHONPATH=str(Path(__file__).parent / "stuck"))
    client = own.client()
    before = own.rows("SELECT id FROM worker WHERE role = 'work'")
    with pytest.raises(OakRelayError):
        client.try_step(STUCK, "held", {"words": "hold the interpreter"})
    until(lambda: httpx.get(f"{own.url}/health/ready").json()["workers"] == 1, 40)
    assert "in _stuck" in own.log.read_text(errors="replace")
    assert client.try_step(STUCK, "held", {"words": "Kestrel Notch"}).result is not None
    assert own.rows("SELECT id FROM worker WHERE role = 'work'") == before
    assert up.poll() is None


@pytest.mark.timeout(120)
def test_the_own_database_is_started_again_when_it_is_killed(own: Processes):
    """On the same port; whoever was connected goes on."""
    begun(own)
    client = own.client()
    client.on(client.save(LONG).workflow)
    ids = [client.start("long", {}).id for _ in range(20)]
    file = own.home / "postgres" / "postmaster.pid"
    port = (own.home / "postgres.port").read_text()
    for _ in range(2):
        pid = int(file.read_text().split()[0])
        os.kill(pid, signal.SIGKILL)
        until(lambda pid=pid: file.exists() and int(file.read_text().split()[0]) != pid and _answers(own), 40)
    until(lambda: own.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == len(ids), 60)
    assert (own.home / "postgres.port").read_text() == port
    assert "PostgreSQL was gone and runs again" in own.log.read_text(errors="replace")


def _answers(own: Processes) -> bool:
    return bool(own.sql("SELECT 1"))


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting a small disk needs root")
@pytest.mark.timeout(200)
@pytest.mark.long
def test_the_own_database_is_started_again_when_its_full_disk_has_room(own: Processes):
    """Webhooks are refused meanwhile, nothing that was answered is lost, and nobody has to come."""
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=400m", "tmpfs", str(own.home)], check=False)
    if mounted.returncode:
        pytest.skip("no small disk can be mounted here")
    try:
        begun(own)
        client = own.client()
        text = "oak: 1\nworkflow: noted\ninput: {type: object}\ntriggers: [{trigger: t, webhook: {path: noted}}]\nsteps: [{step: a, set: {v: '${ input.n }'}}]\nresult: ${ a.v }\n"
        client.on(client.save(text).workflow)
        filler = own.home / "filler"
        with contextlib.suppress(OSError), filler.open("wb") as out:
            while True:
                out.write(b"\0" * 65536)
        os.truncate(filler, filler.stat().st_size - 4_000_000)
        answered: list[str] = []
        with httpx.Client(base_url=own.url, timeout=3) as http:
            while len(answered) < 2000:
                try:
                    reply = http.post("/hooks/noted", json={"n": len(answered), "fill": "x" * 50_000})
                except httpx.TransportError:
                    break
                if reply.status_code != 202:
                    break
                answered.append(reply.json()["run"])
        assert answered
        assert len(answered) < 2000
        file = own.home / "postgres" / "postmaster.pid"
        before = file.read_text()
        with contextlib.suppress(OSError, asyncpg.PostgresError):  # its log cannot be written on: it gives up
            for _ in range(40):
                own.sql("SELECT pg_switch_wal(), txid_current()")
        until(lambda: not file.exists() or file.read_text() != before, 60)
        filler.unlink()
        try:
            until(lambda: _answers(own), 90)
        except AssertionError:
            logs = [own.log, own.home / "postgres" / "server.log"]
            raise AssertionError("\n".join(log.read_text(errors="replace")[-4000:] for log in logs)) from None
        until(lambda: httpx.post(f"{own.url}/hooks/noted", json={"n": 0}, timeout=15).status_code == 202, 60)
        until(lambda: own.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") >= len(answered) + 1, 60)
        kept = {str(row["id"]) for row in own.rows("SELECT id FROM run WHERE state = 'succeeded'")}
        assert set(answered) <= kept
    finally:
        own.stop()
        Cluster(own.home).stop("immediate")
        subprocess.run(["umount", "-l", str(own.home)], check=False)


BACK = """
oak: 1
workflow: back
input: {type: object}
triggers: [{trigger: t, webhook: {path: back}}]
steps:
  - step: first
    do: http.request
    with: {method: POST, url: "OFFICE/replies", credential: office, repeat: keyed, json: {to: "${ input.n }"}}
  - step: gate
    wait: {event: gate.opened, within: 1h}
  - step: second
    do: http.request
    with: {method: POST, url: "OFFICE/replies", credential: office, repeat: keyed, json: {to: "${ input.n }"}}
result: ${ input.n }
"""


@pytest.mark.timeout(200)
def test_a_restore_under_running_processes_holds_what_was_under_way(tmp_path: Path, open_home: Path):  # noqa: F811
    """Rule 19: a base backup is put in the place of the database while workers, clocks and service go on."""
    home = open_home / "server"
    home.mkdir(mode=0o711)
    server = Cluster(home)
    processes = Processes(tmp_path, server.start())
    try:
        processes.start_all()
        seed(processes)
        client = processes.client()
        client.on(client.save(BACK.replace("OFFICE", f"{processes.standins}/office")).workflow)
        for role in ("work", "work", "tick", "tick"):
            processes.start(role)

        def send(names: list[str]) -> dict[str, str]:
            def one(name: str) -> str:
                reply = httpx.post(f"{processes.url}/hooks/back", json={"n": name}, headers={"webhook-id": name})
                return str(reply.raise_for_status().json()["run"])

            with ThreadPoolExecutor(8) as pool:
                return dict(zip(names, pool.map(one, names), strict=True))

        def waiting(count: int) -> None:
            until(
                lambda: processes.sql("SELECT count(*) FROM queue WHERE worker_id IS NULL AND walks > 0") == count, 60
            )

        before = send([f"before-{n}" for n in range(20)])
        waiting(20)
        backup = open_home / "backup"
        base_backup(server, backup)
        # The mark moves on every second; what came in the very second of the backup could not be told apart.
        mark = processes.sql("SELECT value FROM epoch WHERE name = 'mark'")
        until(lambda: processes.sql("SELECT value FROM epoch WHERE name = 'mark'") > mark + 1)
        later = send([f"later-{n}" for n in range(15)])
        waiting(35)
        client.publish({"type": "gate.opened", "source": "/test", "id": "1"})
        until(lambda: processes.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == 35, 60)

        server.stop("immediate")
        shutil.rmtree(server.data)
        backup.rename(server.data)
        server.start(same_port=True)
        until(lambda: processes.sql("SELECT count(*) FROM queue WHERE held = 'restore'") == 20, 60)
        assert processes.sql("SELECT count(*) FROM run WHERE ended_at IS NOT NULL") == 0
        calls = processes.worked()
        assert client.start(
            "booking-triage", {"message": "Is the path open?", "guest": {"email": "eli@guests.example"}}
        ).result()
        found = until(lambda: (told := client.restore()).count == 15 and told, 30)
        assert found.held == 20
        assert len(client.runs(held=True, limit=50)) == 20
        assert {one.event_key for one in found.missing} == set(later)
        assert {str(one.run) for one in found.missing} == set(later.values())
        client.publish({"type": "gate.opened", "source": "/test", "id": "2"})
        until(lambda: not processes.sql("SELECT count(*) FROM published WHERE handled_at IS NULL"))
        again = {key: count for key, count in processes.worked().items() if count != calls.get(key, 0)}
        assert {key.split(":")[0] for key in again} <= {str(r.id) for r in client.runs(workflow="booking-triage")}

        assert client.hold(False)["released"] == 20
        until(lambda: processes.sql("SELECT count(*) FROM run r JOIN workflow w ON w.id = r.workflow_id "
                                    "WHERE w.name = 'back' AND r.state = 'succeeded'") == 20, 60)  # fmt: skip
        runs = processes.rows(
            "SELECT e.event_key, count(*) AS n FROM event e JOIN run r ON r.event_id = e.id WHERE e.type = 'webhook' GROUP BY 1"
        )
        assert {row["event_key"]: row["n"] for row in runs} == dict.fromkeys(before, 1)
        worked = Counter(processes.worked())
        assert {worked[f"{run}:second"] for run in before.values()} == {
            2
        }  # once before, and once because somebody let them go
        assert {worked[f"{run}:first"] for run in before.values()} == {1}
        assert client.forget_missing() == {"forgotten": 15}
        assert client.restore().count == 0 and not client.runs(held=True)
    finally:
        processes.stop()
        server.stop("immediate")


def base_backup(server: Cluster, target: Path) -> None:
    password = (server.home / "postgres.password").read_text().strip()
    if os.geteuid() == 0:
        owner = pwd.getpwnam("postgres")
        os.chown(target.parent, owner.pw_uid, owner.pw_gid)
    source = f"host=127.0.0.1 port={server._port()} user=oak_relay password={password}"
    tool = str(_bin() / "pg_basebackup")
    subprocess.run(
        as_postgres(tool, "-d", source, "-D", str(target), "-X", "stream", "-c", "fast"), check=True, cwd="/"
    )


BROKEN = {
    "a directory for a zone": "${ now | in_zone('Europe') }",
    "a number that is none": "${ 1e999 | int }",
    "an assertion of a filter": "${ 'some words' | truncate(2) }",
    "a complex number": "${ (0 - 8) ** 0.5 }",
    "a number without end": "${ ('f' * 5000) | int(0, 16) }",
}


@pytest.mark.parametrize("what", BROKEN)
def test_what_an_expression_breaks_is_its_own_steps_failure(oak: Processes, what: str):
    client = oak.client()
    client.save(
        f'oak: 1\nworkflow: broken-words\nsteps:\n  - step: a\n    set: {{v: "{BROKEN[what]}"}}\nresult: ${{ a.v }}\n',
        over=True,
    )
    run = client.start("broken-words").wait(20)
    assert (run.state, run.error.kind) == ("failed", "invalid"), run.error
    assert run.error.step == "a"


def test_a_version_that_cannot_be_compiled_harms_no_other_run(lone: Processes):
    """It is given back, and set aside the third time; what was claimed with it goes on."""
    client = lone.client()
    for text in (WORK, SENT):
        client.on(client.save(text).workflow)
    [bad] = start_runs(lone, "sent", 1)
    others = start_runs(lone, "killed-often", 20)
    lone.sql("UPDATE version SET text = 'oak: [' WHERE id = (SELECT version_id FROM run WHERE id = $1)", bad)
    lone.start_worker()
    until(lambda: lone.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == len(others), 40)
    until(lambda: lone.sql("SELECT state FROM run WHERE id = $1", bad) == "set aside", 60)
    assert "carrying it out broke three times" in client.run(bad).run.error.message


def test_a_name_that_is_too_long_is_not_a_database_that_is_gone(oak: Processes):
    reply = httpx.get(f"{oak.url}/{'x' * 300}", headers={"accept": "text/html"})
    assert reply.status_code == 200  # the console's own page, which says that there is nothing
    assert httpx.get(f"{oak.url}/%00").status_code == 400


def test_an_answer_that_is_none_fails_its_step_and_the_caller_is_told(oak: Processes):
    client = oak.client()
    client.on(
        client.save(
            "oak: 1\nworkflow: odd-answer\ninput: {type: object}\ntriggers: [{trigger: t, webhook: {path: odd-answer, waits: true}}]\n"
            "steps:\n  - step: said\n    reply: {status: '${ input.status }', headers: {X-A: '${ input.value }'}, body: x}\n"
        ).workflow
    )
    for status, value in ((999, "a"), ("ok", "a"), (200, "a\r\nSet-Cookie: b"), (200, "→")):
        reply = httpx.post(f"{oak.url}/hooks/odd-answer", json={"status": status, "value": value}, timeout=20)
        assert reply.status_code == 502
        assert reply.headers["content-type"] == "application/problem+json"
        assert reply.json()["kind"] == "invalid"
    fine = httpx.post(f"{oak.url}/hooks/odd-answer", json={"status": 201, "value": "ä"}, timeout=20)
    assert (fine.status_code, fine.text) == (201, "x")


def test_numbers_keep_their_digits_by_every_way_in(oak: Processes):
    client = oak.client()
    client.save(
        "oak: 1\nworkflow: digits\ninput: {type: object}\nsteps:\n  - step: a\n    set: {v: '${ input.n }'}\nresult: ${ a.v }\n"
    )
    client.on("digits")
    exact = "0.1234567890123456789012345"
    token = {"Authorization": f"Bearer {oak.token}", "Content-Type": "application/json"}

    def post(path: str, body: str) -> httpx.Response:
        return httpx.post(f"{oak.url}/api/v1/{path}", content=body, headers=token, timeout=20).raise_for_status()

    run = post("runs", f'{{"workflow": "digits", "input": {{"n": {exact}}}}}').json()["id"]
    until(lambda: client.run(run).run.over)
    assert f'"result":{exact}' in httpx.get(f"{oak.url}/api/v1/runs/{run}", headers=token).text
    assert str(client.run(run).result) == exact  # the client keeps them too
    assert str(client.start("digits", {"n": client.run(run).result}).result()) == exact
    post("workflows/digits/samples", f'{{"step": "a", "name": "exact", "value": {exact}}}')
    assert str(client.samples("digits")[0].value) == exact
    again = post(f"runs/{run}/again", f'{{"from": "a", "values": {{}}, "input": {{"n": {exact}1}}}}').json()["run"]
    until(lambda: client.run(again).run.over)
    assert str(client.run(again).result) == f"{exact}1"


ONCE = """
oak: 1
workflow: once-only
input: {type: object}
steps:
  - step: told
    once: "${ input.key }"
    do: http.request
    retry: {tries: 1}
    with: {method: POST, url: "${ input.url }", repeat: keyed, json: {n: 1}}
result: ${ told.status if told else 'skipped' }
"""


def test_doing_a_run_again_does_a_failed_once_step_again(oak: Processes, outside: Callable[[list[int]], str]):
    client = oak.client()
    client.save(ONCE, over=True)
    given = {"key": "a key that is " + "long " * 200 + "one", "url": outside([500, 200])}
    failed = client.start("once-only", given)
    assert failed.wait(20).state == "failed"
    other = client.start("once-only", given)
    assert other.result(20) == "skipped"  # it is the first one's, which may still be done again
    again = client.again(failed.id, "start").run
    until(lambda: client.run(again).run.over)
    assert client.run(again).result == 200
    assert (
        client.start("once-only", {**given, "key": given["key"][:-1] + "!"}).result(20) == 200
    )  # another key, to its end
    once_more = client.again(failed.id, "start").run
    until(lambda: client.run(once_more).run.over)
    assert client.run(once_more).result == "skipped"


@pytest.fixture
def outside() -> Iterator[Callable[[list[int]], str]]:
    """A service that answers with these statuses one after the other, the last one for good."""
    import threading
    from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

    servers: list[ThreadingHTTPServer] = []

    def make(statuses: list[int]) -> str:
        left = list(statuses)

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self):
                self.rfile.read(int(self.headers.get("content-length") or 0))
                self.send_response(left.pop(0) if len(left) > 1 else left[0])
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_):
                pass

        server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        servers.append(server)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        return f"http://127.0.0.1:{server.server_port}/"

    yield make
    for server in servers:
        server.shutdown()


@pytest.mark.parametrize(("status", "asked"), [(502, True), (503, True), (504, True), (500, False)])
def test_who_answers_for_another_may_have_reached_it(
    oak: Processes, outside: Callable[[list[int]], str], status: int, asked: bool
):
    client = oak.client()
    client.save(
        SENT.replace("workflow: sent", "workflow: perhaps")
        .replace("${ input.office }/replies", "${ input.url }")
        .replace("credential: office, ", "")
    )
    run = client.start("perhaps", {"url": outside([status]), "n": 1})
    found = until(lambda: run.refresh().over or [q for q in client.tray() if str(q.run_id) == str(run.id)], 20)
    assert (found is not True) == asked
    if asked:
        client.answer(found[0].id, "give up")
    assert run.wait(20).state == "failed"


def test_a_set_that_looks_like_a_choice_breaks_no_trace(oak: Processes):
    client = oak.client()
    lines = {"way": "north", "items": [1], "given": 2, "until": "later", "strands": 3, "rounds": 4, "agent": "x"}
    steps = "\n".join(f"  - step: s_{name}\n    set: {{{name}: {value}}}" for name, value in lines.items())
    text = f"oak: 1\nworkflow: lookalikes\nsteps:\n{steps}\n  - step: t\n    together:\n      value: {{steps: [{{step: a, set: {{x: 1}}}}]}}\n      errors: {{steps: [{{step: b, set: {{x: 1}}}}]}}\nresult: ${{ s_way.way }}\n"
    client.save(text)
    run = client.start("lookalikes")
    assert run.result() == "north"
    told = {span.path: span for span in run.trace().spans}
    assert told["s_way"].output == {"way": "north"}
    assert all(span.state == "succeeded" for span in told.values())
