"""An agent of six turns and eight calls whose worker is really killed at every single write of its record."""

import json
import os
import signal
import subprocess
import sys
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from oak_relay.client import Client
from tests.conftest import ROOT, Processes, seed, until

RULES = """
- {when: {system: [round of the huts], turn: 0}, call: [{look_up: {query: <message> north}}, {note: {topic: <message> first}}]}
- {when: {system: [round of the huts], turn: 1}, call: [{look_up: {query: <message> south}}, {note: {topic: <message> second}}]}
- {when: {system: [round of the huts], turn: 2}, call: [{send: {text: <message> one}}]}
- {when: {system: [round of the huts], turn: 3}, call: [{send: {text: <message> two}}, {look_up: {query: <message> west}}]}
- {when: {system: [round of the huts], turn: 4}, call: [{note: {topic: <message> third}}]}
- {when: {system: [round of the huts], turn: 5}, say: All huts are done.}
"""
ROUND = """
oak: 1
workflow: round-of-the-huts
input: {type: object}
steps:
  - step: round
    do: agent
    with:
      model: careful
      brief: You do the round of the huts.
      prompt: ${ input.name }
      tools:
        - {do: web.search, name: look_up, with: {url: "STANDINS/search", query: {open: what to look for}}}
        - {do: table.add, name: note, with: {table: house_rules, row: {topic: {open: what}, rule: noted}}}
        - do: http.request
          name: send
          with: {method: POST, url: "STANDINS/office/replies", credential: office, json: {to: all, text: {open: what to say}}}
      limits: {turns: 8, calls: 10}
result: {text: "${ round.text }", turns: "${ round.turns }", calls: "${ round.calls }"}
"""
SEEN = {"north", "south", "west"}


class Mortals:
    """Workers that die as they are told, and what the outside counted of each run."""

    def __init__(self, oak: Processes, plan: Path) -> None:
        self.oak, self.client, self.plan = oak, oak.client(), plan
        self.known, self.pid = "", 0
        self.runs: dict[str, list[tuple[str, str, bool]]] = {}
        self.apart = 1
        """How many writes the deaths are apart."""
        self.tell(10_000, "behind")
        self.source = subprocess.Popen(
            [sys.executable, "-m", "tests.mortal", str(plan)], cwd=ROOT, env=oak.environment, text=True,
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=oak.log.open("ab"),
        )  # fmt: skip

    def tell(self, at: int, when: str) -> None:
        fresh = self.plan.with_suffix(".new")
        fresh.write_text(json.dumps({"known": self.known, "at": at, "when": when}))
        fresh.replace(self.plan)

    def alive(self) -> bool:
        try:
            os.kill(self.pid, 0)
        except ProcessLookupError:
            return False
        return True

    def worker(self) -> None:
        assert self.source.stdin is not None
        assert self.source.stdout is not None
        self.source.stdin.write("\n")
        self.source.stdin.flush()
        self.pid = int(self.source.stdout.readline())

    def run(self, name: str, at: int, when: str) -> tuple[str, bool]:
        """A run whose worker dies at a write, and is followed by another; its id, and whether one did die. It has ended,
        or rests until what was in flight can be asked about."""
        self.tell(at, when)
        if not self.pid:
            self.worker()
        run_id = str(self.client.start("round-of-the-huts", {"name": name}).id)
        until(lambda: not self.alive() or self.client.run(run_id).run.over, 60)
        died = not self.alive() or int(self.plan.with_suffix(".count").read_text()) >= at
        self.known = run_id
        if died:
            until(lambda: not self.alive())
            # It is gone, so its lease need not be waited for.
            self.tell(at, when)
            self.oak.rows("UPDATE worker SET lease_until = clock_timestamp() WHERE role = 'work' AND dead_at IS NULL")
            self.worker()
        until(lambda: self.client.run(run_id).run.state not in ("running", "queued"), 60)
        return run_id, died

    def every(self, when: str, first: int, apart: int) -> list[tuple[str, str, bool]]:
        """A run for each write at which a worker can die, from the first on and so many apart, and one more: id, name, whether a
        worker died."""
        runs: list[tuple[str, str, bool]] = []
        at = first
        while not runs or runs[-1][2]:
            name = f"{when}{at}"
            run_id, died = self.run(name, at, when)
            runs.append((run_id, name, died))
            at += apart
        return runs

    def ended(self, run_id: str, name: str) -> bool:
        """Wait for the end of a run, which has what it should; whether it had to be asked about. Who is asked looks
        whether the letter has arrived."""
        until(lambda: self.asked(run_id) or self.client.run(run_id).run.over, 90)
        question = self.asked(run_id)
        if question is not None:
            assert "send" in question.text
            arrived = question.path.partition("#")[0] in self.counted(run_id, name)["office"]
            self.client.answer(question.id, "it happened" if arrived else "try again", {"output": {"status": 201}})
            until(lambda: self.client.run(run_id).run.over, 60)
        detail = self.client.run(run_id)
        assert detail.result == {"text": "All huts are done.", "turns": 6, "calls": 8}, detail.run.error
        return question is not None

    def asked(self, run_id: str) -> Any:
        return next((q for q in self.client.tray() if str(q.run_id) == run_id), None)

    def counted(self, run_id: str, name: str) -> dict[str, Counter[str]]:
        """How often each turn, letter, search and note of a run reached the outside, or the table."""
        received = self.oak.received()["received"]
        keys = {"model": Counter[str](), "office": Counter[str]()}
        searched = Counter[str]()
        for one in received:
            key = one["headers"].get("idempotency-key", "")
            if one["service"] in keys and key.startswith(run_id):
                keys[one["service"]][key.partition(":")[2]] += 1
            elif one["service"] == "search" and one["body"]["q"].startswith(f"{name} "):
                searched[one["body"]["q"].rpartition(" ")[2]] += 1
        rows = self.oak.rows("SELECT data->>'topic' FROM table_row WHERE data->>'topic' LIKE $1", f"{name} %")
        return {**keys, "search": searched, "notes": Counter(row[0].rpartition(" ")[2] for row in rows)}

    def stop(self) -> None:
        assert self.source.stdin is not None
        self.source.stdin.close()
        if self.pid and self.alive():
            os.kill(self.pid, signal.SIGKILL)
        self.source.wait(30)


@pytest.fixture(scope="module")
def mortals(
    new_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory, pytestconfig: pytest.Config
) -> Iterator[Mortals]:
    home = tmp_path_factory.mktemp("mortal")
    rules = home / "rules"
    rules.mkdir()
    (rules / "round.yaml").write_text(RULES)
    processes = Processes(home, new_database())
    processes.environment["OAK_RELAY_LEASE"] = (
        "10"  # it is ended by hand when its worker is dead, and never by slowness
    )
    processes.start_all(rules)
    seed(processes)
    client = processes.client()
    client.on(client.save(ROUND.replace("STANDINS", processes.standins)).workflow)
    made = Mortals(processes, home / "plan.json")
    made.apart = apart = 1 if pytestconfig.getoption("--every-write") else 6
    for first, when in enumerate(("behind", "before"), 1):
        made.runs[when] = made.every(
            when, first % apart + 1, apart
        )  # what is asked about comes when a call's time is over: for all at once
    yield made
    made.stop()
    processes.stop()


def once(counted: dict[str, Counter[str]], lost: int) -> None:
    """Nothing was left out, and nothing done twice but a search beside a letter whose worker died: that is shown lost."""
    assert len(counted["model"]) == 6
    assert len(counted["office"]) == 2
    assert set(counted["search"]) == SEEN
    assert set(counted["notes"]) == {"first", "second", "third"}
    assert counted.pop("search").total() - len(SEEN) <= lost
    for found in counted.values():
        assert set(found.values()) == {1}, counted


def lost_in(client: Client, run_id: str) -> list[str]:
    """The notes of attempts that were under way when their worker died."""
    spans = client.trace(run_id).spans
    return [attempt.note for span in spans for attempt in span.attempts if attempt.state == "lost"]


def test_killed_behind_every_single_write_nothing_is_asked_or_done_twice(mortals: Mortals):
    runs = mortals.runs["behind"]
    asked = 0
    for run_id, name, _died in runs:
        asked += mortals.ended(run_id, name)
        once(mortals.counted(run_id, name), len(lost_in(mortals.client, run_id)))
    assert len(runs) > 20 / mortals.apart  # so many writes there are, and a worker died behind each but the last
    assert asked >= 2 or mortals.apart > 1  # behind the intention of each letter nobody can know whether it left


@pytest.mark.long
def test_killed_between_a_reply_and_its_record_one_call_more_at_most_and_letters_are_asked_about(mortals: Mortals):
    runs = mortals.runs["before"]
    asked = 0
    for run_id, name, died in runs:
        asked += mortals.ended(run_id, name)
        counted = mortals.counted(run_id, name)
        assert set(counted["office"].values()) == {1}  # never twice without a word
        assert set(counted["notes"].values()) == {1}
        more = sum(counted["model"].values()) + sum(counted["search"].values()) - 6 - 3
        lost = lost_in(mortals.client, run_id)
        assert more <= len(lost) <= 2
        assert all("possibly spent" in note for note in lost)
        assert bool(lost) == died
    assert asked >= 2 or mortals.apart > 1  # each letter was in flight once
    assert len(runs) > 8 / mortals.apart
