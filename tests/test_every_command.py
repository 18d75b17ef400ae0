"""Every command as scripts use it: with `--json` and without, in narrow and wide places, with strangers' words in everything, without a
terminal, with the service down and with a wrong token. What it says can be read, and its exit code is the same."""

import argparse
import contextlib
import io
import json
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

import pytest

from oak_relay.cli.commands import parser
from oak_relay.cli.main import main
from tests.conftest import Processes, free_port, seed, seed_agents, until

ODD = "\x1b[31mred\x07 [bold]b[/] \u202egnp.exe 雪の小屋 " + "wide " * 30
CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")
FLOW = """
oak: 1
workflow: odd-{n}
title: {title}
labels: [{title}]
input: {{type: object, properties: {{text: {{type: string, default: {title}}}}}}}
settings: {{type: object, properties: {{crates: {{type: integer, default: 3}}}}}}
subject: "${{ input.text }}"
triggers:
  - {{trigger: daily, schedule: {{cron: "0 4 * * *"}}, input: {{text: daily}}}}
  - {{trigger: order, webhook: {{path: "odd-{n}/order", verify: {{scheme: none}}}}}}
steps:
  - {{step: kept, set: {{line: "${{ settings.crates }} crates, ${{ input.text }}"}}}}
result: "${{ kept.line }}"
"""
ASKS = """
oak: 1
workflow: odd-asks-{n}
input: {{type: object}}
steps:
  - {{step: sure, ask: {{text: {title}, choices: [fill, leave]}}}}
  - {{step: told, do: agent, with: {{model: quick, prompt: "Is it far?", memory: {{conversation: "odd {n}"}}}}}}
result: "${{ sure.choice }}"
"""


@dataclass(frozen=True)
class Place:
    """What commands of one pass are about."""

    n: int
    house: Processes
    folder: Path

    def words(self, text: str) -> list[str]:
        """A command as it is typed: `@` stands for the number of the pass, {…} for what is there."""
        client = self.house.client()
        known: dict[str, Callable[[], str]] = {
            "{file}": lambda: str(self.folder / "flow.yaml"),
            "{asks}": lambda: str(self.folder / "asks.yaml"),
            "{csv}": lambda: str(self.folder / "rows.csv"),
            "{folder}": lambda: str(self.folder / "out"),
            "{odd}": lambda: ODD,
            "{run}": lambda: str(client.runs(workflow=f"odd-{self.n}")[0].id)[-14:],
            "{question}": lambda: str(until(lambda: [q for q in client.tray() if q.workflow == f"odd-asks-{self.n}"])[0].id),
            "{asked}": lambda: str(client.runs(workflow=f"odd-asks-{self.n}")[0].id),
            "{kept}": lambda: str(client.files()[0].file),
            "{token}": lambda: str(next(one.id for one in client.tokens() if one.name == f"t{self.n}")),
            "{standins}": lambda: self.house.standins,
        }  # fmt: skip
        found = []
        for word in text.replace("@", str(self.n)).split():
            for name, value in known.items():
                word = word.replace(name, value()) if name in word else word
            found.append(word)
        return found


SCRIPT: list[tuple[str, int, str]] = [
    ("check {file}", 0, ""), ("check {file} --stored", 0, ""), ("save {file} --on", 0, ""), ("save {asks}", 0, ""),
    ("text odd-@", 0, ""), ("versions odd-@", 0, ""), ("differences odd-@", 0, ""), ("differences odd-@ 1 {file} --lines", 0, ""),
    ("differences odd-@ nowhere.yaml", 1, ""), ("versions nowhere", 5, ""), ("workflows", 0, ""), ("render {file} kept --input {\"text\":\"x\"}", 0, ""),
    ("settings odd-@ crates=5", 0, ""), ("settings odd-@", 0, ""), ("actions", 0, ""), ("actions http.request", 0, ""),
    ("try {file} kept", 0, ""), ("off odd-@", 0, ""), ("on odd-@", 0, ""), ("duplicate odd-@ odd-@-copy", 0, ""),
    ("rename odd-@-copy odd-@-other", 0, ""), ("remove odd-@-other --yes", 0, ""), ("remove odd-@", 2, ""),
    ("start odd-@ --wait", 0, ""), ("runs", 0, ""), ("runs --workflow odd-@ --text crates --limit 1", 0, ""), ("show {run}", 0, ""),
    ("show {run} --full", 0, ""), ("watch {run}", 0, ""), ("journal {run}", 0, ""), ("again {run} --check", 0, ""), ("again {run}", 0, ""),
    ("cancel {run}", 0, ""), ("artifact 0123456789abcdef", 5, ""), ("sample {run} --keep bell", 0, ""), ("sample odd-@", 0, ""),
    ("refused odd-@", 0, ""), ("events --limit 3", 0, ""), ("schedules", 0, ""), ("fire odd-@ daily", 0, ""), ("pause odd-@ daily", 0, ""),
    ("publish larder.filled --data {\"n\":1}", 0, ""), ("start odd-asks-@", 0, ""), ("tray", 0, ""), ("answer {question} fill", 0, ""),
    ("talk {asks} --step told", 0, "Is it far?\n"), ("talk nobody-@", 5, "Hello\n"), ("watch {asked}", 0, ""), ("conversation list", 0, ""), ("conversation show odd-@", 5, ""),
    ("conversation forget odd-@ --yes", 5, ""), ("conversation reply 0123 Hello", 5, ""), ("conversation settle odd-@ 0 again", 6, ""), ("conversation judge odd-@ 0 bad", 6, ""), ("usage", 0, ""), ("usage --by alias", 0, ""),
    ("curl", 0, "curl https://office.example/huts?limit=2 -H 'X-Hut: upper tarn'"), ("curl", 6, "wget x"),
    ("connector operations {standins}/office/api/openapi.json booking", 0, ""), ("connector add c@ {standins}/office/api/openapi.json --take list_*", 0, ""), ("connector list", 0, ""), ("connector show c@", 0, ""), ("connector compare c@", 0, ""), ("connector try c@ list_huts", 1, ""), ("connector remove c@ --yes", 0, ""),
    ("server add s@ --url {standins}/weather", 0, ""), ("server list", 0, ""), ("server test s@", 0, ""), ("server remove s@ --yes", 0, ""),
    ("credential add c@ --kind bearer --host 127.0.0.1 --test-url {standins}/v1/models", 0, "a-long-enough-secret"),
    ("credential list", 0, ""), ("credential test c@", 1, ""), ("credential ready c@", 0, ""), ("credit paid c@ 20", 0, ""), ("credit is c@ 5", 0, ""),
    ("credit list", 0, ""), ("credit forget c@ --yes", 0, ""), ("credential use c@", 0, ""), ("credential remove c@ --yes", 0, ""),
    ("credential add o@ --kind oauth --issuer {standins}/office --field client_id=larkspur-relay --host 127.0.0.1 --scope huts.read", 0, "a-long-enough-secret"),
    ("credential connect o@ --no-wait", 0, ""), ("credential disconnect o@ --yes", 5, ""), ("credential remove o@ --yes", 0, ""),
    ("model add m@ --url {standins}/v1 --model larch-small --credential models", 0, ""), ("model list", 0, ""), ("model test m@", 0, ""),
    ("model connect {standins}/v1 --credential models --model larch-small --name mc@", 0, ""), ("model remove m@ --yes", 0, ""),
    ("table create r@ hut crates:number", 0, ""), ("table add r@", 0, '[{"hut": "Glasswater", "crates": 2}]'), ("table import r@ {csv}", 0, ""),
    ("file add {csv}", 0, ""), ("file list", 0, ""), ("file list --limit 1", 0, ""), ("file show {kept}", 0, ""), ("file address {kept}", 0, ""), ("file get {kept} {csv} --over", 0, ""),
    ("file get {kept} {csv}", 2, ""), ("file show 0123", 6, ""),
    ("table link l@ --database nobody --of stays", 6, ""), ("table link l@", 2, ""), ("table link l@ --file http://127.0.0.1:9/x.csv --key a", 6, ""), ("table list", 0, ""), ("table rows r@", 0, ""), ("table rows r@ --limit 1", 0, ""), ("table rows r@ --where {\"hut\":{\"not\":\"x\"}} --order=-hut --text G --newest", 0, ""), ("table rows r@ --where [", 2, ""), ("table rows r@ --where []", 2, ""), ("table rows r@ --order nothing", 6, ""), ("table export r@", 0, ""), ("table export r@ --kind jsonl", 0, ""), ("table export r@ --kind xlsx", 1, ""), ("table export r@ --kind xlsx --into {csv}.xlsx", 0, ""), ("table import r@ {csv}.xlsx --match hut", 0, ""), ("table remove r@ --yes", 0, ""),
    ("token add t@ --days 1", 0, ""), ("token list", 0, ""), ("token remove {token} --yes", 0, ""), ("session list", 0, ""),
    ("session end 0123 --yes", 5, ""), ("budget set b@ 3", 0, ""), ("budget list", 0, ""), ("budget remove b@ --yes", 0, ""),
    ("missing", 0, ""), ("hold", 0, ""), ("release", 0, ""), ("export {folder} --rows", 0, ""), ("import {folder} --check", 0, ""),
    # What is not there, or is wrong.
    ("show {odd}", 1, ""), ("start {odd}", 5, ""), ("text nowhere", 5, ""), ("check nowhere.yaml", 1, ""), ("save nowhere.yaml", 1, ""),
    ("start odd-@ --input {", 1, ""), ("start odd-@ --input 5", 6, ""), ("rename nowhere other", 5, ""), ("import nowhere", 1, ""),
]  # fmt: skip
HERE = {"up", "serve", "work", "tick", "standins", "password reset", "key rotate", "key finish"}
"""Commands that ask no service."""


def leaves(of: argparse.ArgumentParser, path: tuple[str, ...] = ()) -> Iterator[str]:
    inner = [one for one in of._actions if isinstance(one, argparse._SubParsersAction)]
    if not inner:
        yield " ".join(path)
    for one in inner:
        for name, parsed in one.choices.items():
            yield from leaves(parsed, (*path, name))


COMMANDS = set(leaves(parser()))


def command_of(words: str) -> str:
    first, second, *_ = [*words.split(), ""]
    return f"{first} {second}" if f"{first} {second}" in COMMANDS else first


def test_every_command_is_tried():
    assert COMMANDS - {command_of(words) for words, _, _ in SCRIPT} == HERE


@pytest.fixture(scope="module")
def house(new_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Processes]:
    made = Processes(tmp_path_factory.mktemp("commands"), new_database())
    made.start_all()
    made.start_worker()
    seed(made)
    seed_agents(made)
    client = made.client()
    client.create_table("odd", {"text": "text"})
    client.add_rows("odd", [{"text": ODD}])
    client.add_token(ODD[:100].replace("\x1b", "").replace("\x07", ""))
    yield made
    made.stop()


@pytest.fixture
def typed(house: Processes, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> Any:
    """Types a command; its exit code, and what it says and complains."""

    def type_(words: list[str], given: str = "", **environment: str) -> tuple[int, str, str]:
        for name, value in {"OAK_RELAY_URL": house.url, "OAK_RELAY_DATA_DIR": str(house.home), **environment}.items():
            monkeypatch.setenv(name, value)
        monkeypatch.setattr("sys.stdin", io.StringIO(given))
        try:
            code = main(words)
        except SystemExit as left:  # argparse
            code = int(left.code or 0)
        told = capsys.readouterr()
        assert "Traceback" not in told.err, told.err
        return code, told.out, told.err

    return type_


def prepared(house: Processes, folder: Path, n: int) -> Place:
    title = json.dumps(ODD)
    (folder / "flow.yaml").write_text(FLOW.format(n=n, title=title))
    (folder / "asks.yaml").write_text(ASKS.format(n=n, title=title))
    (folder / "rows.csv").write_text("hut,crates\nUpper Tarn,4\n")
    return Place(n, house, folder)


@pytest.mark.parametrize(
    ("n", "columns", "how"),
    [
        (0, "60", "in turn"),
        pytest.param(1, "60", "never", marks=pytest.mark.long),
        pytest.param(2, "200", "always", marks=pytest.mark.long),
        pytest.param(3, "200", "never", marks=pytest.mark.long),
        pytest.param(4, "60", "always", marks=pytest.mark.long),
    ],
)
def test_a_day_of_commands(house: Processes, typed: Any, tmp_path: Path, n: int, columns: str, how: str):
    place = prepared(house, tmp_path, n)
    for number, (text, expected, given) in enumerate(SCRIPT):
        words, as_json = place.words(text), how == "always" or (how == "in turn" and number % 2 == 0)
        code, out, err = typed([*words, "--json"] if as_json else words, given, COLUMNS=columns)
        assert code == expected, (text, code, out[-500:], err)
        assert not CONTROL.search((out + err).replace("\r\n", "\n")), (
            text,
            CONTROL.search((out + err).replace("\r\n", "\n")),
        )
        if code in (3, 4, 5, 6):
            assert (out, err[:1]) == ("", "✗"), text
        if as_json and out:
            assert readable(out), (text, out[:500])
        if as_json and code == 0:
            assert out.strip(), text


def readable(out: str) -> bool:
    """One JSON text, or one a line where a command goes on telling."""
    try:
        json.loads(out)
    except ValueError:
        with contextlib.suppress(ValueError):
            return all(isinstance(json.loads(line), dict) for line in out.splitlines())
        return False
    return True


def asking(place: Place) -> Iterator[tuple[str, list[str], str]]:
    """Each command that asks the service, once, with words that it understands."""
    seen: set[str] = set()
    for text, code, given in SCRIPT:
        command = command_of(text)
        if command in seen or code == 2 or "nowhere" in text:
            continue
        seen.add(command)
        plain = (
            text.replace("{run}", "0123")
            .replace("{question}", "0123")
            .replace("{asked}", "0123")
            .replace("{token}", "0123")
        )
        yield command, place.words(plain), given


@pytest.mark.parametrize(
    ("as_json", "every"), [(True, 3), *(pytest.param(as_json, 1, marks=pytest.mark.long) for as_json in (True, False))]
)
def test_without_a_service_and_with_a_wrong_token(
    house: Processes, typed: Any, tmp_path: Path, as_json: bool, every: int
):
    place = prepared(house, tmp_path, 9)
    (tmp_path / "out").mkdir()
    (tmp_path / "out" / "workspace.json").write_text('{"oak": 1}')
    down = f"http://127.0.0.1:{free_port()}"
    for command, words, given in islice(asking(place), 0, None, every):
        more = ["--json"] if as_json else []
        code, out, err = typed([*words, *more], given, OAK_RELAY_URL=down, OAK_RELAY_TOKEN="x")
        if command == "check" and code == 0:
            continue  # without --stored it needs nobody
        assert (code, out) == (3, ""), (command, code, out, err)
        assert err.startswith("✗") and "oak-relay up" in err.replace("\n", " "), (command, err)
        code, out, err = typed([*words, *more], given, OAK_RELAY_TOKEN="not-a-token")
        assert (code, out) == (4, ""), (command, code, out, err)
        assert "token is not known" in err.replace("\n", " "), (command, err)
