"""What a workspace holds goes into a folder and comes back the same."""

import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import OFFICE_KEY, OFFICE_SECRET, SIGNING, Processes, seed
from tests.office import app

FLOW = """# The ferry's own words, with a comment
oak: 1
workflow: ferry-times
title: "When the ferry goes – ä, 🌲"
settings: {properties: {fee: {type: number, default: 2.50}}}
triggers:
- {trigger: daily,   schedule: {cron: "0 6 * * *"}}   # odd spaces stay
steps:
  - step: told
    set: {text: "${ settings.fee } a head"}
result: ${ told.text }
"""


def command(oak: Processes, *words: str, code: int = 0, **more: str) -> str:
    environment = {**oak.environment, "COLUMNS": "200", **more}
    call = [sys.executable, "-m", "oak_relay.cli", "--url", oak.url, *words]
    done = subprocess.run(call, env=environment, capture_output=True, text=True, timeout=120, stdin=subprocess.DEVNULL)
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout + done.stderr


@pytest.fixture
def two(new_database: Callable[[], str], tmp_path: Path):
    """A workspace that is filled, and one that is empty."""
    both = [Processes(tmp_path / name, new_database()) for name in ("full", "empty")]
    for one in both:
        one.home.mkdir()
        one.start_all()
    seed(both[0])
    yield both
    for one in both:
        one.stop()


def files(folder: Path) -> dict[str, bytes]:
    return {str(f.relative_to(folder)): f.read_bytes() for f in sorted(folder.rglob("*")) if f.is_file()}


def test_what_is_exported_comes_back_the_same(two: list[Processes], tmp_path: Path):
    full, empty = two
    client = full.client()
    client.save(FLOW)
    client.save(
        '{"oak": 1, "workflow": "as-json",\n  "steps": [{"step": "a", "set": {"x": 1.50}}], "result": "${ a.x }"}'
    )
    client.on("ferry-times")
    client.settings("ferry-times", {"fee": 3})
    client.put_budget("office", 12.5, "month", warn_at=0.5)
    client.create_table("odd", {"name": "text", "n": "number", "b": "boolean", "x": "any"})
    odd = [
        {"name": "007", "n": 1, "b": True, "x": {"a": [1, "é\n"]}}, {"name": "", "n": None, "b": False, "x": None},
        {"name": "=1+1", "x": 5}, {"name": "true", "x": "true"}, {"n": 10**30, "x": [None, False]},
    ]  # fmt: skip
    depot = {
        "secrets": {"app": "app-of-the-depot", "token": "token-of-the-depot"},
        "headers": {"X-Key": "{app}:{token}"},
    }
    client.put_credential("depot", kind="fields", **depot, hosts=["127.0.0.1"])
    client.put_credential("desk", **app(full), rate={"calls": 5})
    client.add_rows("odd", [*odd, *({"n": n, "name": "x" * 300} for n in range(2500))])
    source = f"{full.standins}/accounts/api/openapi.json"
    client.put_connector(
        "accounts", source=source, operations=[one.key for one in client.read_description(source=source).offered][:3]
    )
    client.link_table("book", {"kind": "file", "url": f"{full.standins}/accounts/folder/vouchers.xlsx", "credential": "office", "key": ["number"]}, {"number": "text", "amount": "number"})  # fmt: skip
    out = tmp_path / "out"
    said = command(full, "export", str(out), "--rows")
    assert "3 workflows" in said
    first = files(out)
    assert first["workflows/ferry-times.yaml"] == FLOW.encode()
    assert first["workflows/as-json.json"].startswith(b'{"oak": 1, "workflow": "as-json",\n')
    everything = b"".join(first.values())
    assert not [
        secret
        for secret in (OFFICE_KEY, SIGNING, full.token, OFFICE_SECRET, "token-of-the-depot")
        if secret.encode() in everything
    ]
    assert command(full, "export", str(out), "--rows") and files(out) == first, "the same again"

    told = command(empty, "import", str(out), "--check")
    assert "whose secret is asked for" in told
    assert not empty.client().workflows()
    missing = command(empty, "import", str(out), code=6, OFFICE_SECRET=OFFICE_KEY)
    assert "BOOKING_SITE_SECRET" in missing
    assert "credential office" in missing and "DEPOT_SECRETS_APP, DEPOT_SECRETS_TOKEN" in missing
    secrets = {
        "DESK_SECRET": OFFICE_SECRET,
        "DEPOT_SECRETS_APP": "another-app",
        "DEPOT_SECRETS_TOKEN": "another-token",
    } | {"OFFICE_SECRET": OFFICE_KEY, "BOOKING_SITE_SECRET": SIGNING, "MODELS_SECRET": "the-key-of-models"}
    assert "oak-relay credential connect desk" in command(empty, "import", str(out), **secrets)
    again = tmp_path / "again"
    command(empty, "export", str(again), "--rows")
    assert files(again) == first
    assert [row.row for row in empty.client().rows("odd", 5)] == odd
    assert len(list(empty.client().every(empty.client().rows, "odd"))) == 2505
    assert empty.client().workflow("ferry-times").workflow.on_version == 1
    empty.start_worker()
    assert empty.client().start("ferry-times").result() == "3 a head"
    before = empty.sql("SELECT count(*) FROM audit")
    assert "+" not in command(empty, "import", str(out))  # all of it is there
    assert empty.sql("SELECT count(*) FROM audit") == before


def test_what_was_changed_meanwhile_stays_unless_that_is_said(lone: Processes, tmp_path: Path):
    oak, client = lone, lone.client()  # nothing of others is there, which could not be taken in again
    out = tmp_path / "out"
    text = "oak: 1\nworkflow: moored\nsteps: [{step: a, set: {x: %d}}]\nresult: ${ a.x }\n"
    client.save(text % 1)
    command(oak, "export", str(out))
    client.save(text % 2, 1)
    assert "workflow moored: another text is there" in command(oak, "import", str(out), code=6)
    assert client.workflow("moored").text == text % 2
    command(oak, "import", str(out), "--over")
    assert (client.workflow("moored").version, client.workflow("moored").text) == (3, text % 1)
    client.remove_workflow("moored")
    (out / "workflows" / "README.md").write_text("ours")
    command(oak, "export", str(out))
    assert "moored.yaml" not in os.listdir(out / "workflows")
    assert "README.md" in os.listdir(out / "workflows")


@pytest.mark.parametrize(
    ("about", "words"),
    [
        (None, "cannot be read"),
        ("[}", "is not JSON"),
        ("[]", "is no export"),
        ('{"oak": 2}', "is no export"),
        ('{"oak": 1, "tables": []}', "is no export"),
        ('{"oak": 1, "models": {"x": 5}}', "says of x under models"),
        ('{"oak": 1, "tables": {"x": [{"name": "a"}]}}', "says of x under tables"),
        ('{"oak": 1, "tables": {"../../x": [{"name": "a", "type": "text"}]}}', "no name of a file"),
    ],
)
def test_what_is_no_export_is_a_sentence(oak: Processes, tmp_path: Path, about: str | None, words: str):
    if about is not None:
        (tmp_path / "workspace.json").write_text(about)
    said = command(oak, "import", str(tmp_path), code=1)
    assert words in said
    assert "Traceback" not in said


def test_other_files_are_not_written_among(oak: Processes, tmp_path: Path):
    (tmp_path / "letter.txt").write_text("mine")
    assert "holds other files" in command(oak, "export", str(tmp_path), code=1)
    assert [f.name for f in tmp_path.iterdir()] == ["letter.txt"]
    odd = json.dumps({"oak": 1, "models": {"x": {"url": 5}}, "budgets": {"b": {"money": "much"}}})
    (tmp_path / "workspace.json").write_text(odd)
    assert "model x" in command(oak, "import", str(tmp_path), code=6)
