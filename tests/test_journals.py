"""Journals of earlier revisions are walked again by the engine of today (rule 7).

`python -m tests.test_journals NAME` writes a new one from the documents below; what is there is never written over."""

import asyncio
import json
import sys
from dataclasses import asdict
from datetime import datetime
from pathlib import Path

import pytest

from oak_relay.document.models import Workflow
from oak_relay.engine.entries import Entry
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import Finished, Start
from oak_relay.engine.plan import compile_plan
from oak_relay.engine.walk import Walk
from tests.test_engine import Actions, World, to_the_end

FOLDER = Path(__file__).parent / "journals"
DOCUMENT = {
    "oak": 1, "workflow": "recorded", "result": "${ [first, both, rounds, list, asked.choice, came.data, child, errs.error.kind] }",
    "steps": [
        {"step": "first", "do": "ask", "with": {"v": "${ input.n }"}},
        {"step": "both", "together": {"l": {"steps": [{"step": "x", "wait": "2h"}], "gives": "l"}, "r": {"steps": [{"step": "y", "do": "add", "with": {"v": 1}}], "gives": "${ y.value.v }"}}},
        {"step": "rounds", "repeat": {"until": "${ (last | default(0)) >= 1 }", "most": 5}, "steps": [{"step": "s", "set": {"n": 1}}], "gives": "${ (last | default(0)) + s.n }"},
        {"step": "list", "each": "${ [1, 2, 3] }", "as": "i", "width": 2, "failed": "keep", "steps": [{"step": "z", "do": "ask", "with": {"v": "${ i }"}}], "gives": "${ z.got.v }"},
        {"step": "asked", "ask": {"text": "?", "choices": ["yes", "no"]}},
        {"step": "came", "wait": {"event": "hut.opened"}},
        {"step": "child", "run": "other", "with": {"v": "${ input.n }"}},
        {"step": "errs", "do": "broken", "on_error": "go_on"},
        {"step": "way", "branch": [{"if": "${ input.n > 1 }", "steps": [{"step": "told", "emit": {"type": "hut.told"}}], "gives": 1}, {"else": []}]},
        {"step": "once_only", "once": "k", "do": "mail", "with": {"v": "${ now.year }"}},
    ],
    "always": [{"step": "end", "do": "add", "with": {"v": "${ outcome.state }"}}],
}  # fmt: skip


def walked(document: dict, entries: list[Entry], signals: dict, data: dict, clock: str):
    world = World()
    journal = MemoryJournal(world.apply, entries)
    journal.signals, journal.clock = dict(signals), datetime.fromisoformat(clock)
    plan = compile_plan(Workflow.model_validate(document))
    outcome = asyncio.run(Walk(plan, journal, Actions(world), Start("run", {"input": data, "settings": {}})).walk())
    return outcome, world


def read(file: Path):
    told = json.loads(file.read_text())
    moment = lambda text: datetime.fromisoformat(text) if text else None  # noqa: E731
    entries = [Entry(**{**e, "started": moment(e["started"]), "at": moment(e["at"])}) for e in told["entries"]]
    return told, entries


@pytest.mark.parametrize("file", sorted(FOLDER.glob("*.json")), ids=lambda f: f.stem)
def test_a_recorded_run_comes_to_the_same_end_with_nothing_done(file):
    told, entries = read(file)
    outcome, world = walked(told["document"], entries, told["signals"], told["input"], told["clock"])
    assert isinstance(outcome, Finished)
    assert (outcome.state, outcome.result) == (told["state"], told["result"])
    assert not world.performed
    assert not world.applied


@pytest.mark.parametrize("file", sorted(FOLDER.glob("*.json")), ids=lambda f: f.stem)
def test_a_recorded_run_goes_on_from_any_point(file):
    told, entries = read(file)
    for length in range(len(entries)):
        outcome, _ = walked(told["document"], entries[:length], told["signals"], told["input"], told["clock"])
        assert not (isinstance(outcome, Finished) and (outcome.error or {}).get("kind") == "diverged")


def write(name: str) -> None:
    file = FOLDER / f"{name}.json"
    if file.exists():
        sys.exit(f"{file} is kept as it is; choose another name")
    world, data = World(failures=1), {"n": 3}
    journal = MemoryJournal(world.apply)
    outcome = asyncio.run(to_the_end(compile_plan(Workflow.model_validate(DOCUMENT)), world, journal, data=data))
    told = {"document": DOCUMENT, "input": data, "state": outcome.state, "result": outcome.result, "signals": journal.signals,
            "clock": journal.clock.isoformat(), "entries": [{k: v for k, v in asdict(e).items() if k != "text"} for e in journal.log]}  # fmt: skip
    FOLDER.mkdir(exist_ok=True)
    file.write_text(json.dumps(told, indent=1, default=lambda moment: moment.isoformat()) + "\n")


if __name__ == "__main__":
    write(sys.argv[1])
