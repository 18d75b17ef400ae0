"""Real processes, really killed: what is accepted finishes, and nothing recorded is done twice."""

import json
import os
import signal
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from oak_relay.runtime.watchdog import LEAST
from tests.conftest import Processes, open_up, until

WORK = """
oak: 1
workflow: killed-often
steps:
  - step: asked
    do: http.request
    with: {method: POST, url: "${ input.office }/replies", credential: office, repeat: keyed, json: {to: "${ input.n }"}}
    retry: {tries: 10, wait: 100ms}
  - step: kept
    do: table.add
    with: {table: refunds, row: {guest: "${ input.n }", message: "${ asked.body.id }"}}
  - step: pause
    wait: 300ms
  - step: told
    do: http.request
    with: {method: POST, url: "${ input.office }/replies", credential: office, repeat: keyed, json: {to: "${ kept.id }"}}
    retry: {tries: 10, wait: 100ms}
  - step: row
    do: table.upsert
    with: {table: requests, match: [guest], row: {guest: "${ input.n }", reply: "${ told.body.id }"}}
result: ${ row.row.reply }
"""


def start_runs(processes: Processes, workflow: str, count: int) -> list[str]:
    client = processes.client()
    data = {"office": f"{processes.standins}/office"}
    with ThreadPoolExecutor(8) as pool:
        return list(pool.map(lambda n: str(client.start(workflow, {**data, "n": f"guest-{n}"}).id), range(count)))


@pytest.mark.long
@pytest.mark.timeout(200)
def test_a_worker_killed_three_times_in_the_middle_of_200_runs(lone: Processes):
    """Rules 1, 3, 4, 5: all end well; recorded steps are not repeated; each call more than one stands in its trace."""
    client = lone.client()
    client.on(client.save(WORK).workflow)
    ids = start_runs(lone, "killed-often", 200)
    for least in (100, 350, 600):
        worker = lone.start_worker(OAK_RELAY_WALKS="300")
        until(
            lambda least=least: sum(lone.worked().values()) >= least or not lone.sql("SELECT count(*) FROM queue"), 60
        )
        lone.kill(worker, signal.SIGKILL)
        if least < 600:
            assert lone.sql("SELECT count(*) FROM queue") > 0, "the kill came too late to mean anything"
    lone.start_worker(OAK_RELAY_WALKS="300")
    until(lambda: not lone.sql("SELECT count(*) FROM queue"), 90)

    assert lone.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == len(ids) == 200
    assert (
        lone.sql("SELECT count(*) FROM table_row r JOIN table_def d ON d.id = r.table_id WHERE d.name = 'refunds'")
        == 200
    )
    assert (
        lone.sql("SELECT count(*) FROM table_row r JOIN table_def d ON d.id = r.table_id WHERE d.name = 'requests'")
        == 200
    )
    twice = lone.rows(
        "SELECT run_id, path FROM entry WHERE kind = 'ended' AND body LIKE '{\"output\"%' GROUP BY 1, 2 HAVING count(*) > 1"
    )
    assert not twice
    worked = lone.worked()
    lost = Counter(
        f"{r['run_id']}:{r['path']}" for r in lone.rows("SELECT run_id, path FROM entry WHERE kind = 'lost'")
    )
    assert len(worked) == 400
    more = {key: count - 1 for key, count in worked.items() if count > 1}
    assert all(lost[key] >= extra for key, extra in more.items()), "a call was repeated that no trace shows"
    assert lost, "no call was in flight at any of the kills"
    shown = client.trace(next(iter(lost)).split(":")[0])
    assert any(a.state == "lost" and "possibly spent" in a.note for s in shown.spans for a in s.attempts)


@pytest.mark.timeout(120)
def test_a_worker_frozen_past_its_lease_cannot_write_when_it_wakes(lone: Processes):
    """Rules 1 and 2: it ends itself, and `up` would put another in its place."""
    client = lone.client()
    client.on(client.save(WORK).workflow)
    lone.fault(service="office", kind="slow", seconds=3, times=5, path="replies")
    worker = lone.start_worker()
    ids = start_runs(lone, "killed-often", 5)
    until(lambda: lone.sql("SELECT count(*) FROM entry WHERE kind = 'began'") == 5)
    os.kill(worker.pid, signal.SIGSTOP)
    stopped = time.monotonic()
    frozen = lone.sql("SELECT id FROM worker")
    other = lone.start_worker()
    until(lambda: lone.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == 5, 40)
    written = lone.sql("SELECT count(*) FROM entry")
    until(lambda: time.monotonic() - stopped > 1.5 * LEAST)
    os.kill(worker.pid, signal.SIGCONT)
    assert worker.wait(20) == -signal.SIGALRM  # the watchdog
    lone.running.remove(worker)
    assert lone.sql("SELECT count(*) FROM entry") == written
    assert not lone.sql("SELECT count(*) FROM entry WHERE worker_id = $1 AND kind = 'ended'", frozen)
    assert other.poll() is None
    assert len(ids) == 5


def test_a_worker_that_is_asked_to_stop_hands_back_its_runs(lone: Processes):
    client = lone.client()
    client.on(client.save(WORK.replace("300ms", "1h")).workflow)
    worker = lone.start_worker()
    [run_id] = start_runs(lone, "killed-often", 1)
    until(lambda: client.run(run_id).run.state == "waiting")
    assert "rests at pause until" in client.run(run_id).why
    lone.kill(worker, signal.SIGTERM)
    assert worker.returncode == 0
    assert lone.sql("SELECT count(*) FROM worker WHERE dead_at IS NULL") == 0
    assert "No worker is running" in client.run(run_id).why
    assert client.cancel(run_id) == "asked"  # the next worker ends it, with what `always` says
    [queued] = start_runs(lone, "killed-often", 1)
    assert client.cancel(queued) == "cancelled"  # it had not begun
    assert client.run(queued).run.state == "cancelled"
    lone.start_worker()
    until(lambda: client.run(run_id).run.state == "cancelled")
    assert client.cancel(run_id) == "over"


@pytest.mark.timeout(120)
def test_the_database_restarted_under_a_worker_costs_a_pause(lone: Processes):
    """Rule 5: connections die in the middle of commits; what landed is compared, not guessed."""
    client = lone.client()
    client.on(client.save(WORK).workflow)
    lone.start_worker()
    start_runs(lone, "killed-often", 60)
    for least in (20, 60, 90):
        until(lambda least=least: sum(lone.worked().values()) >= least)
        lone.sql(
            "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
        )
    until(lambda: lone.sql("SELECT count(*) FROM run WHERE state = 'succeeded'") == 60, 60)
    assert not lone.rows(
        "SELECT 1 FROM entry WHERE kind = 'ended' AND body LIKE '{\"output\"%' GROUP BY run_id, path HAVING count(*) > 1"
    )


LOOKED = """
oak: 1
workflow: looked
input: {type: object}
steps:
  - step: told
    do: http.request
    timeout: 5s
    with:
      method: POST
      url: "OFFICE/replies"
      credential: office
      json: {to: "${ input.guest }"}
      look: {url: "OFFICE/replies/by-key/{idempotency_key}"}
result: ${ told.body }
"""


@pytest.mark.timeout(120)
def test_a_checkable_call_is_looked_up_and_not_asked_about(lone: Processes):
    """Rule 4: a worker dies between the call and its record; one call had happened, the other had not."""
    client = lone.client()
    client.on(client.save(LOOKED.replace("OFFICE", f"{lone.standins}/office")).workflow)
    lone.fault(service="office", kind="slow_after", seconds=20, times=1, path="replies")
    worker = lone.start_worker()
    happened = client.start("looked", {"guest": "one@guests.example"}).id
    until(lambda: sum(lone.worked().values()) == 1)
    lone.fault(service="office", kind="slow", seconds=20, times=1, path="replies")
    not_yet = client.start("looked", {"guest": "two@guests.example"}).id
    until(lambda: lone.sql("SELECT count(*) FROM entry WHERE kind = 'began'") == 2)
    until(lambda: lone.received()["faults"] == 0)
    lone.kill(worker)
    lone.start_worker()
    for run_id in (happened, not_yet):
        until(lambda run_id=run_id: client.run(run_id).run.over, 40)
        assert client.run(run_id).run.state == "succeeded"
    worked = lone.worked()
    assert worked[f"{happened}:told"] == 1
    assert client.run(happened).result == {"id": "reply-1", "to": "one@guests.example"}
    assert len(client.trace(happened).spans[0].attempts) == 1
    assert len(client.trace(not_yet).spans[0].attempts) == 2
    assert client.tray() == []


def test_a_cancelled_run_lets_an_unsafe_call_end(oak: Processes):
    client = oak.client()
    text = WORK.replace("killed-often", "cancelled-late").replace("repeat: keyed", "repeat: unsafe")
    client.on(client.save(text).workflow)
    oak.fault(service="office", kind="slow", seconds=1.5, path="replies")
    run = client.start("cancelled-late", {"office": f"{oak.standins}/office", "n": "late"})
    until(lambda: any(s.state == "running" for s in run.trace().spans))
    assert run.cancel() == "asked"
    ended = run.wait(20)
    assert ended.state == "cancelled"
    [span] = [s for s in run.trace().spans if s.path == "asked"]
    assert span.attempts[0].state == "succeeded"


@pytest.mark.timeout(120)
def test_up_starts_everything_survives_its_own_death_and_stops_in_order(tmp_path):
    """`oak-relay up` with its own PostgreSQL; killed with SIGKILL, the server is left running and used again."""
    processes = Processes(tmp_path / "data", "")
    processes.home.mkdir()
    open_up(tmp_path)
    del processes.environment["OAK_RELAY_DATABASE_URL"]
    try:
        first = processes.start("up")
        until(lambda: httpx.get(f"{processes.url}/health/ready").json()["workers"] == 1, 90)
        assert oct((processes.home / "master.key").stat().st_mode)[-3:] == "600"
        client = processes.client()
        client.save("oak: 1\nworkflow: hello\nsteps:\n  - {step: a, set: {x: 1}}\nresult: ${ a.x }\n")
        assert client.start("hello").result() == 1
        postmaster = int((processes.home / "postgres" / "postmaster.pid").read_text().split()[0])
        processes.kill(first, signal.SIGKILL)
        until(lambda: _refused(processes.url))  # the children notice and go
        os.kill(postmaster, 0)  # still there
        again = processes.start("up")
        until(lambda: httpx.get(f"{processes.url}/health/ready").json()["workers"] == 1, 90)
        assert client.start("hello").result() == 1
        assert int((processes.home / "postgres" / "postmaster.pid").read_text().split()[0]) == postmaster
        processes.kill(again, signal.SIGTERM)
        assert not (processes.home / "postgres" / "postmaster.pid").exists()
    finally:
        processes.stop()
        from oak_relay.runtime.cluster import Cluster

        Cluster(processes.home).stop("immediate")


def _refused(url: str) -> bool:
    """Whether nobody listens there any more; one that is merely slow still does."""
    try:
        httpx.get(f"{url}/health/live", timeout=10)
    except httpx.ConnectError:
        return True
    return False


def test_the_journal_shows_what_was_asked_before_it_was_answered(oak: Processes):
    client = oak.client()
    run = client.start(
        "booking-triage", {"message": "May our dog sleep in the annex?", "guest": {"email": "gil@guests.example"}}
    )
    assert run.wait().state == "succeeded"
    kinds = [(e.path, e.kind) for e in client.journal(run.id)]
    assert kinds.index(("reply", "began")) < kinds.index(("reply", "ended"))
    assert all(json.dumps(e.body) for e in client.journal(run.id))
