"""The command line of a person at work: what each command says, and what it gives with `--json`."""

import argparse
import io
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import shtab

from oak_relay.cli import commands
from oak_relay.cli.main import main
from oak_relay.cli.output import OUT
from tests.conftest import ROOT, Processes, seed_agents, until

ASKS = """
oak: 1
workflow: cli-asks
input: {type: object}
subject: ${ input.guest }
steps:
  - {step: noted, set: {guest: "${ input.guest }"}}
  - {step: fine, ask: {text: "May ${ noted.guest } have a refund?", choices: [approve, refuse], within: 2h}}
  - step: sum
    ask: {text: How much?, form: {type: object, required: [sum], properties: {sum: {type: number}}}}
result: "${ fine.choice }: ${ sum.data.sum }"
"""
BREAKS = """
oak: 1
workflow: cli-breaks
input: {type: object}
steps:
  - {step: first, set: {n: "${ input.n }"}}
  - {step: second, do: table.find, with: {table: huts, where: {name: "${ first.n }"}}}
  - {step: third, set: {half: "${ 1 / first.n }"}}
result: ${ third.half }
"""
RINGS = """
oak: 1
workflow: cli-rings
triggers: [{trigger: hourly, schedule: {every: 1h}}]
steps: [{step: rung, set: {well: true}}]
result: ${ rung.well }
"""
Run = Callable[..., str]


@pytest.fixture(scope="module")
def ready(oak: Processes) -> Processes:
    seed_agents(oak)
    client = oak.client()
    for text in (ASKS, BREAKS, RINGS):
        client.on(client.save(text).workflow)
    return oak


@pytest.fixture
def run(ready: Processes, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> Run:
    """Gives a command and what is typed; what it says. Fails when it does not end as expected."""
    monkeypatch.setenv("OAK_RELAY_URL", ready.url)
    monkeypatch.setenv("XDG_STATE_HOME", str(ready.home))
    monkeypatch.setenv("OAK_RELAY_DATA_DIR", str(ready.home))
    monkeypatch.setattr(OUT, "_width", 200)
    monkeypatch.setattr(OUT, "_height", 50)

    def typed(*words: str, given: str = "", code: int = 0) -> str:
        monkeypatch.setattr("sys.stdin", io.StringIO(given))
        found = main(list(words))
        told = capsys.readouterr()
        assert found == code, told.err
        assert "Traceback" not in told.err
        return told.out if code == 0 else told.out + told.err

    return typed


def as_json(run: Run, *words: str, **more: Any) -> Any:
    return json.loads(run(*words, "--json", **more))


def started(run: Run, workflow: str, given: Any, *more: str) -> str:
    """The id of a run."""
    return str(as_json(run, "start", workflow, "--input", json.dumps(given), *more)["id"])


def ends(ready: Processes, run_id: str) -> Any:
    return until(lambda: (found := ready.client().run(run_id)).run.over and found, 60)


# People


def test_a_question_is_found_answered_by_choice_and_by_form(run: Run, ready: Processes):
    run_id = started(run, "cli-asks", {"guest": "Ada Fenn"})
    mine = until(lambda: [q for q in as_json(run, "tray") if q["run_id"] == run_id])[0]
    shown = run("tray")
    assert "May Ada Fenn have a refund?" in shown
    assert "approve | refuse" in shown
    assert "answer one: oak-relay answer" in shown
    assert "no open question" in run("answer", "ffffffffffff", "approve", code=5)
    assert "approve" in run("answer", mine["id"], "perhaps", code=6)  # it says what may be answered
    assert run("answer", mine["id"][-12:], "approve", "--text", "with our apologies") == "answered 1 question\n"
    form = until(lambda: [q for q in as_json(run, "tray") if q["run_id"] == run_id])[0]
    assert "form: sum" in run("tray")
    assert "sum" in run("answer", form["id"], "--data", '{"sum": "much"}', code=6)
    assert "not JSON" in run("answer", form["id"], "--data", "{", code=1)
    assert as_json(run, "answer", form["id"], "--data", "-", given='{"sum": 12}') == {"answered": 1}
    assert ends(ready, run_id).result == "approve: 12"
    answered = [q for q in as_json(run, "tray", "--state", "answered") if q["run_id"] == run_id]
    assert {q["answer"].get("choice") for q in answered} == {"approve", None}
    assert "answered" not in run("tray", "--state", "withdrawn")


def test_a_run_that_waits_says_why_and_is_cancelled(run: Run, ready: Processes):
    run_id = started(run, "cli-asks", {"guest": "Bo Larch"})
    until(lambda: ready.client().run(run_id).run.state == "waiting")
    shown = run("show", run_id[-12:])
    assert "waits for an answer" in shown or "waiting" in shown
    assert "Bo Larch" in run("runs", "--state", "waiting", "--subject", "Bo Larch")
    assert run_id in json.dumps(as_json(run, "runs", "--workflow", "cli-asks", "--state", "waiting"))
    assert "asked to stop" in run("cancel", run_id) or ends(ready, run_id)
    assert ends(ready, run_id).run.state == "cancelled"
    assert run("cancel", run_id) == "it has ended already\n"
    assert run("watch", run_id, code=1)


# Done again


def test_a_failed_run_is_looked_at_and_done_again(run: Run, ready: Processes):
    run_id = started(run, "cli-breaks", {"n": 0})
    failed = ends(ready, run_id)
    assert failed.run.state == "failed"
    shown = run("show", run_id, "--full")
    assert "Set half" in shown
    assert "division by zero" in shown
    assert run_id[-12:] in run("runs", "--state", "failed", "--error", "invalid", "--workflow", "cli-breaks")
    assert "from where it failed, with version 1" in run(
        "again", run_id
    )  # it fails at the same step, with what was kept
    told = run("again", run_id, "--from", "third", "--check")
    assert "from third, with version 1" in told
    assert "kept: first, second" in told
    assert "done anew: third" in told
    assert "run " not in told
    both = as_json(run, "again", run_id, run_id, "--from", "start")
    assert [ends(ready, one["run"]).run.state for one in both] == ["failed", "failed"]
    assert run_id[-12:] in run("runs", "--state", "failed", "--unmended", "--workflow", "cli-breaks")
    done = as_json(run, "again", run_id, "--from", "second", "--values", '{"first": {"n": 4}}')
    assert ends(ready, done["run"]).result == 0.25
    other = as_json(run, "again", run_id, "--input", '{"n": 2}')
    assert ends(ready, other["run"]).result == 0.5
    ancestry = run("show", run_id)
    assert "mended later" in ancestry
    assert "again, from where it failed" in ancestry
    assert "again, from a step" in ancestry
    assert "again, from the start" in ancestry
    failures = run("runs", "--state", "failed", "--workflow", "cli-breaks")
    assert "failed mended" in failures
    assert run_id[-12:] not in run("runs", "--state", "failed", "--unmended", "--workflow", "cli-breaks")


def test_samples_are_kept_and_steps_are_tried_with_them(run: Run, ready: Processes, tmp_path: Path):
    run_id = started(run, "cli-breaks", {"n": 4})
    assert ends(ready, run_id).result == 0.25
    assert "No samples" in run("sample", "cli-breaks")
    assert run("sample", run_id, "--keep", "four") == "kept four\n"
    assert run("sample", run_id, "--keep", "first of four", "--step", "first") == "kept first of four\n"
    listed = run("sample", "cli-breaks")
    assert "the event" in listed
    assert "first of four" in listed
    draft = tmp_path / "draft.yaml"
    draft.write_text(BREAKS.replace("1 / first.n", "first.n * 10"))
    tried = as_json(run, "try", str(draft), "third", "--sample", "four", "--steps", '{"first": {"n": 7}}')
    assert (tried["state"], tried["result"]) == ("succeeded", {"half": 70})
    whole = as_json(run, "try", str(draft), "first", "--sample", "four", "--onwards")
    assert whole["result"] == 40
    told = run("try", str(draft), "third", "--steps", '{"first": {}}', code=1)
    assert "n is not there" in told
    assert ready.client().workflow("cli-breaks").versions[0].number == 1  # nothing was saved


# Time and events


def test_schedules_are_shown_paused_and_fired(run: Run, ready: Processes):
    assert "hourly" in run("schedules", "cli-rings", "--next", "2")
    [found] = as_json(run, "schedules", "cli-rings", "--next", "10")
    assert len(found["occurrences"]) == 10
    assert run("pause", "cli-rings", "hourly") == "paused\n"
    assert "paused" in run("schedules", "cli-rings")
    assert run("pause", "cli-rings", "hourly", "--off").startswith("goes on; next ")
    made = as_json(run, "fire", "cli-rings", "hourly")
    assert ends(ready, made["run"]).result is True
    assert run("fire", "cli-rings", "nightly", code=5)


def test_what_others_wrote_is_no_markup_and_no_control_sequence(run: Run):
    guest = "[/x] \x1b[2J[red]Ada"
    run("start", "cli-asks", "--input", json.dumps({"guest": guest}))
    told = "[/x] \N{REPLACEMENT CHARACTER}[2J[red]Ada"
    until(lambda: "May" in run("tray"))
    for words in (("tray",), ("runs", "--workflow", "cli-asks"), ("show", "last")):
        assert told in " ".join(run(*words).split()), words
    run("cancel", "last")


def test_rows_keep_their_digits(run: Run):
    run("table", "create", "cli-weights", "item", "weight:number")
    exact = "0.12345678901234567890123"
    run("table", "add", "cli-weights", given=f'{{"item": "[/b]", "weight": {exact}}}')
    assert run("table", "rows", "cli-weights").split() == ["item", "weight", "[/b]", exact]


def test_events_are_published_once(run: Run):
    words = ("publish", "cli.happened", "--data", '{"n": 1}', "--id", "same", "--subject", "Ada Fenn")
    assert run(*words) == "published: cli.happened same\n"
    assert run(*words) == "came before: cli.happened same\n"
    assert as_json(run, "publish", "cli.happened", "--data", "-", given="[1]")["duplicate"] is False


# Agents


def test_tool_servers_by_command_line(run: Run, ready: Processes):
    assert "oak-relay server test hills" in run("server", "add", "hills", "--url", f"{ready.standins}/weather")
    assert f"{ready.standins}/weather" in run("server", "list")
    tested = run("server", "test", "hills")
    assert "forecast" in tested
    assert "stations" in tested
    assert {t["name"] for t in as_json(run, "server", "test", "hills")["tools"]} == {"forecast", "stations"}
    assert "either --url or --command" in run("server", "add", "nothing", code=1)
    assert run("server", "add", "valley", "--url", "http://127.0.0.1:9/mcp")
    assert "cannot connect" in run("server", "test", "valley", code=1)
    for name in ("hills", "valley"):
        assert run("server", "remove", name, "--yes") == f"{name} is removed\n"
    assert run("server", "test", "hills", code=5)


def test_one_talks_retries_and_clears(run: Run):
    file = str(ROOT / "demo" / "workflows" / "guest-chat.yaml")
    lines = "May I bring a dog to Glasswater?\n/trace\nAnd at Marmot Saddle?\n/retry\n/clear\nAnd at Marmot Saddle?\n\n"
    told = run("talk", file, "--input", '{"guest": "x", "message": ""}', given=lines)
    first, cleared = told.split("forgotten")
    assert "annex of Glasswater" in first
    assert first.count("As I said of Glasswater") == 2  # said, and said again on retrying
    assert first.count("house_rules_find") >= 2  # beside the answer, and in the trace
    assert "tokens, money" in first
    assert "/retry" not in told
    assert cleared.strip()
    assert run("talk", file, given="/retry\n/trace\n") == ""  # nothing was said yet


def test_conversations_are_listed_shown_and_forgotten(run: Run, ready: Processes):
    given = {"guest": "cli@guests.example", "message": "May I bring a dog to Glasswater?"}
    ends(ready, started(run, "guest-chat", given))
    assert "guest cli@guests.example" in run("conversation", "list")
    said = run("conversation", "show", "guest cli@guests.example")
    assert "user May I bring a dog to Glasswater?" in said
    assert "assistant calls house_rules_find" in said
    assert as_json(run, "conversation", "show", "guest cli@guests.example")[0]["role"] == "user"
    assert "is forgotten" in run("conversation", "forget", "guest cli@guests.example", "--yes")
    assert run("conversation", "show", "guest cli@guests.example", code=5)


def test_prompts_are_rendered_before_anything_is_paid(run: Run, tmp_path: Path):
    file = str(ROOT / "demo" / "workflows" / "guest-chat.yaml")
    sample = tmp_path / "event.json"
    sample.write_text('{"guest": "ada.fenn@guests.example", "message": "Is there a stove?"}')
    shown = run("render", file, "reply", "--input", str(sample))
    assert "Is there a stove?" in shown
    assert "house_rules_find" in shown
    assert "How many bunks a hut has. Use it when a guest asks whether bunks are free." in shown


def test_usage_and_budgets_by_command_line(run: Run, ready: Processes):
    given = {"message": "Is breakfast included?", "guest": {"email": "cli@guests.example"}}
    ends(ready, started(run, "booking-triage", given))
    rows = until(lambda: as_json(run, "usage", "--by", "alias", "--workflow", "booking-triage"))
    assert {row["alias"] for row in rows} <= {"quick", "careful"}
    assert all(row["calls"] > 0 and row["money"] > 0 for row in rows)
    assert "booking-triage" in run("usage")
    lines = run("usage", "--by", "alias", "--by", "workflow", "--csv").splitlines()
    assert lines[0] == "alias,workflow,calls,input,cached,output,money,unpriced"
    assert "No model was asked" in run("usage", "--until", "2020-01-01")
    assert run("usage", "--since", "yesterday", code=6)
    assert "cli: 9" in run("budget", "set", "cli", "9000", "--period", "month", "--workflow", "booking-triage")
    assert "month" in run("budget", "list")
    [mine] = [one for one in as_json(run, "budget", "list") if one["name"] == "cli"]
    assert (mine["workflow"], mine["money"]) == ("booking-triage", 9000)
    assert run("budget", "remove", "cli", "--yes") == "cli is removed\n"
    assert run("budget", "remove", "cli", "--yes", code=5)


# Stored things


def test_models_say_what_they_take_and_are_not_mistaken(run: Run, ready: Processes):
    words = ("--url", f"{ready.standins}/v1", "--credential", "models")
    assert run("model", "add", "cli-sees", *words, "--model", "larch-large", "--takes", "images", "--fallback", "quick")
    [mine] = [m for m in as_json(run, "model", "list") if m["name"] == "cli-sees"]
    assert (mine["config"]["takes"], mine["config"]["fallbacks"]) == (["images"], ["quick"])
    assert "larch-large" in run("model", "add", "cli-wrong", *words, "--model", "larch-larg", code=6)
    assert run("model", "add", "cli-wrong", *words, "--model", "larch-larg", "--unseen")
    assert "not offered" in run("model", "test", "cli-wrong", code=1)
    for name in ("cli-sees", "cli-wrong"):
        run("model", "remove", name, "--yes")


def test_documents_are_checked_before_they_are_saved(run: Run, tmp_path: Path):
    file = tmp_path / "wrong.yaml"
    file.write_text(ASKS.replace("noted.guest }", "noted.gest }").replace("workflow: cli-asks", "workflow: cli-wrong"))
    told = run("check", str(file), code=1)
    assert "noted" in told
    assert "gest" in told
    assert run("save", str(file), code=6)
    file.write_text(ASKS.replace("workflow: cli-asks", "workflow: cli-saved"))
    assert run("check", str(file)) is not None
    assert "saved as version 1" in run("save", str(file))
    assert "cli-saved" in run("workflows")
    assert run("on", "cli-saved", "--version", "7", code=5)
    assert run("on", "cli-saved")


# What there is


def test_settings_are_shown_and_adjusted(run: Run, tmp_path: Path):
    file = tmp_path / "adjusted.yaml"
    file.write_text(
        "oak: 1\nworkflow: cli-adjusted\nsettings: {properties: {fee: {type: number, default: 1}, word: {type: string}}}\n"
        "steps: [{step: a, set: {x: '${ settings.fee }'}}]\nresult: ${ a.x }\n"
    )
    run("save", str(file))
    assert "Nothing is adjusted" in run("settings", "cli-adjusted")
    assert as_json(run, "settings", "cli-adjusted", "fee=2.50", "word=slowly") == {"fee": 2.5, "word": "slowly"}
    assert as_json(run, "settings", "cli-adjusted", "word=") == {"fee": 2.5}
    assert "there is fee, word" in run("settings", "cli-adjusted", "fees=2", code=6)
    assert "fee=VALUE" in run("settings", "cli-adjusted", "fee", code=1)
    run("settings", "not-there", code=5)


def test_events_actions_and_journals_are_looked_at(run: Run, ready: Processes):
    run_id = started(run, "cli-breaks", {"n": 2})
    ends(ready, run_id)
    assert "oak.start" in run("events", "--limit", "50")
    assert "http.request" in run("actions")
    assert "needed" in run("actions", "http.request")
    assert "there is no action http.requst" in run("actions", "http.requst", code=1)
    assert "second" in run("journal", run_id[-12:])
    entries = as_json(run, "journal", run_id)
    assert {"first", "second", "third"} <= {entry["path"].split("#")[0] for entry in entries}
    assert run("journal", run_id[9:23]) == run("journal", run_id)  # by any part of its id


def test_broken_files_and_samples_are_sentences(run: Run, tmp_path: Path):
    binary = tmp_path / "binary.yaml"
    binary.write_bytes(b"\xff\xfe\x00")
    for words in (
        ("try", str(tmp_path / "none.yaml"), "a"),
        ("talk", str(tmp_path / "none.yaml")),
        ("render", str(binary), "a"),
        ("save", str(tmp_path)),
        ("export", str(binary)),
        ("import", str(binary)),
        ("start", "cli-breaks", "--input", "{"),
        ("sample", "cli-asks", "--next", "nobody"),
    ):
        said = run(*words, code=5 if words[0] == "sample" else 1)
        assert said.startswith("✗ "), said


def test_help_lists_every_command_once_in_the_order_of_the_work(capsys: pytest.CaptureFixture[str]):
    top = commands.parser()
    every = next(a for a in top._actions if isinstance(a, argparse._SubParsersAction)).choices
    listed = [name for names in commands.GROUPS.values() for name in names.split()]
    assert sorted(listed) == sorted(every)
    with pytest.raises(SystemExit):
        main(["--help"])
    assert capsys.readouterr().out.index("to begin with:") > 0
    assert set(commands.SHELLS) == set(shtab.SUPPORTED_SHELLS)
    for shell in commands.SHELLS:
        with pytest.raises(SystemExit):
            main(["--print-completion", shell])
        assert "duplicate" in capsys.readouterr().out


def test_the_last_run_is_one_that_somebody_began(run: Run, ready: Processes):
    client = ready.client()
    client.save(
        "oak: 1\nworkflow: cli-child\ninput: {type: object}\nsteps: [{step: a, set: {x: 1}}]\nresult: ${ a.x }\n"
    )
    client.save("oak: 1\nworkflow: cli-parent\nsteps: [{step: a, run: cli-child, with: {}}]\nresult: ${ a }\n")
    client.on(
        client.save(
            "oak: 1\nworkflow: cli-heard\ntriggers: [{trigger: t, after: {workflow: cli-parent}}]\nsteps: [{step: a, set: {x: 1}}]\nresult: ${ a.x }\n"
        ).workflow
    )
    run_id = started(run, "cli-parent", {})
    ends(ready, run_id)
    until(lambda: client.runs(workflow="cli-heard", state="succeeded"))
    assert as_json(run, "show", "last")["run"]["run"]["id"] == run_id
