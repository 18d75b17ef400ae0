"""`export`, `import`: what a workspace holds as a folder of files, made to be reviewed and kept in version control. It holds no
secret; what is missing is asked for when it is taken in again."""

import argparse
import getpass
import json
import os
import re
import sys
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from oak_relay import jsontext
from oak_relay.cli.output import ERR, OUT, as_json, escaped, show, shown, working
from oak_relay.cli.workflows import text_of
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.client.results import Result

_ABOUT = "workspace.json"
_NAME = re.compile(r"[a-z][a-z0-9_-]{0,62}")
_AT_ONCE = 400_000
"""Bytes of rows that are sent at once."""
_OURS = frozenset(("secret", "name", "tag", "can"))


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser(
        "export", help="write workflows, and what they need, into a folder", epilog="example: oak-relay export larkspur --rows",
        description="Documents stand there as they were saved, byte for byte, of the newest version; workspace.json holds what is "
        "on, settings, tables and links, models, tool servers, connectors, budgets, and credentials without their secrets.",
    )  # fmt: skip
    parser.add_argument("folder", type=Path)
    parser.add_argument("--rows", action="store_true", help="rows of tables too, as JSON Lines")
    parser.set_defaults(run=lambda a: export_cmd(a, client(a)))
    parser = commands.add_parser(
        "import", help="take in a folder that was exported", epilog="examples: oak-relay import larkspur --check; "
        "OFFICE_SECRET=… oak-relay import larkspur",
        description="What is there already stays as it is, but for documents with --over. The secret of a credential that is "
        "missing is asked for, or read from the variable NAME_SECRET.",
    )  # fmt: skip
    parser.add_argument("folder", type=Path)
    parser.add_argument("--over", action="store_true", help="documents as new versions of those that have another text")
    parser.add_argument("--check", action="store_true", help="only say what would be done")
    parser.set_defaults(run=lambda a: import_cmd(a, client(a)))


def export_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Write the folder; files of documents that are not there any more are removed from it."""
    folder: Path = arguments.folder
    if folder.exists() and any(folder.iterdir()) and not (folder / _ABOUT).exists():
        raise OakRelayError(f"{folder} holds other files; name a folder that is new, empty, or an export")
    documents = folder / "workflows"
    documents.mkdir(parents=True, exist_ok=True)
    flows, written = {}, set()
    with working("exporting …"):
        for workflow in client.every(client.workflows):
            found = client.workflow(workflow.name)
            file = documents / f"{_safe(workflow.name)}.{'json' if found.text.lstrip().startswith('{') else 'yaml'}"
            file.write_bytes(found.text.encode())
            written.add(file)
            flows[workflow.name] = {"on": workflow.on_version is not None, "settings": found.settings}
            if workflow.on_version not in (None, found.version):
                ERR.print(f"! {workflow.name}: version {workflow.on_version} is on, {found.version} is exported")
        for file in documents.glob("*"):
            if file.suffix in (".yaml", ".json") and file not in written:
                file.unlink()
        about = {
            "oak": 1,
            "workflows": flows,
            "credentials": {
                c.name: {"kind": c.kind, "ask": c.secrets, **_plain(c.config)} for c in client.every(client.credentials)
            },
            "models": {m.name: _plain(m.config) for m in client.every(client.models)},
            "servers": {s.name: _plain(s.config) for s in client.every(client.servers)},
            "connectors": {c.name: _described(client, c.name) for c in client.every(client.connectors) if c.address},
            "tables": {t.name: t.columns for t in client.every(client.tables)},
            "links": {t.name: t.link for t in client.every(client.tables) if t.link is not None},
            "budgets": {
                b.name: {"money": b.money, "period": b.period, "workflow": b.workflow, "warn_at": b.warn_at}
                for b in client.every(client.budgets)
            },
        }
        (folder / _ABOUT).write_text(
            json.dumps(json.loads(as_json(about)), indent=2, sort_keys=True, ensure_ascii=False) + "\n"
        )
        if arguments.rows:
            (folder / "tables").mkdir(exist_ok=True)
            for table in client.every(client.tables):
                if table.link is not None:
                    continue  # its rows live elsewhere
                with (folder / "tables" / f"{_safe(table.name)}.jsonl").open("w") as rows:
                    rows.writelines(
                        jsontext.dumps(row.row) + "\n" for row in client.every(client.rows, table.name, limit=1000)
                    )
    counted = {name: len(held) for name, held in about.items() if isinstance(held, dict)}
    if not show({"folder": str(folder), **counted}, arguments.json):
        OUT.print(f"{escaped(str(folder))}: {', '.join(f'{count} {name}' for name, count in counted.items() if count)}")
    return 0


def import_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Take the folder in; exit code 6 when something could not be, or a credential is missing."""
    about = _about(arguments.folder)
    taking = _Taking(client, arguments.check)
    with working("importing …"):
        taking.credentials(about["credentials"])
        taking.each(
            "model",
            about["models"],
            {m.name for m in client.every(client.models)},
            lambda n, c: client.put_model(n, unseen=True, **c),
        )
        taking.each(
            "tool server",
            about["servers"],
            {s.name for s in client.every(client.servers)},
            lambda n, c: client.put_server(n, **c),
        )
        taking.connectors(about["connectors"])
        taking.tables(about["tables"], about["links"], arguments.folder / "tables")
        taking.documents(arguments.folder / "workflows", about["workflows"], arguments.over)
        taking.each(
            "budget",
            about["budgets"],
            {b.name for b in client.every(client.budgets)},
            lambda n, c: client.put_budget(n, **c),
        )
    if not show({"done": taking.done, "there": taking.there, "wrong": taking.wrong}, arguments.json):
        for sign, lines in (("+", taking.done), ("=", taking.there), ("✗", taking.wrong)):
            for line in lines:
                OUT.print(shown(f"{sign} {line}"), markup=False)
        if arguments.check:
            OUT.print("Nothing was done: leave --check out.")
    return 6 if taking.wrong else 0


@dataclass
class _Taking:
    """What was taken in, what was there already, and what went wrong, a line each."""

    client: Client
    check: bool
    done: list[str] = field(default_factory=list)
    there: list[str] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)

    def each(
        self, what: str, given: Mapping[str, Any], known: set[str], put: Callable[[str, dict[str, Any]], object]
    ) -> None:
        """Those that are not there yet."""
        for name, config in given.items():
            if name in known:
                self.there.append(f"{what} {name}")
            else:
                self._do(f"{what} {name}", put, name, config)

    def credentials(self, given: Mapping[str, Any]) -> None:
        """Those that are missing, each with the secret that is asked for."""
        known = {c.name for c in self.client.credentials()}
        for name, about in given.items():
            config = {**about}
            asked: list[str] = config.pop("ask", ["secret"])
            if name in known:
                self.there.append(f"credential {name}")
            elif self.check:
                self.done.append(f"credential {name}, whose secret is asked for")
            elif missing := [field for field in asked if not _filled(config, name, field)]:
                variables = ", ".join(_variable(name, field) for field in missing)
                self.wrong.append(
                    f"credential {name}: its secret is missing; give it in {variables}, or add it by hand"
                )
            else:
                connects = config.get("kind") == "oauth" and config.get("grant", "code") == "code"
                then = f", to be connected: oak-relay credential connect {name}" if connects else ""
                self._do(f"credential {name}{then}", self.client.put_credential, name, **config)

    def connectors(self, given: Mapping[str, Any]) -> None:
        """Connectors of descriptions, read again from where each was fetched."""
        known = {c.name for c in self.client.every(self.client.connectors)}
        for name, config in given.items():
            if name in known:
                self.there.append(f"connector {name}")
            elif not config.get("source"):
                self.wrong.append(f"connector {name}: it was made of a text, which is not here; add it by hand")
            else:
                self._do(f"connector {name}", self.client.put_connector, name, **config)

    def tables(self, given: Mapping[str, Any], links: Mapping[str, Any], files: Path) -> None:
        """Tables that are not there, with their rows where they were exported."""
        known = {t.name: t.columns for t in self.client.tables()}
        for name, columns in given.items():
            if name in known:
                same = known[name] == columns
                (self.there if same else self.wrong).append(
                    f"table {name}" + ("" if same else ": it has other columns")
                )
                continue
            kinds = {c["name"]: c["type"] for c in columns}
            if name in links:
                self._do(f"linked table {name}", self.client.link_table, name, links[name], kinds)
                continue
            self._do(f"table {name}", self.client.create_table, name, kinds)
            file = files / f"{_safe(name)}.jsonl"
            if file.exists():
                self._do(f"rows of {name}", self._rows, name, file)

    def _rows(self, table: str, file: Path) -> None:
        """Add the rows of a file, as many at once as one body takes. Raises `OakRelayError` for a line that is no row."""
        some: list[Mapping[str, object]] = []
        size = 0
        with file.open() as lines:
            for number, line in enumerate(lines, 1):
                try:
                    row = jsontext.loads(line)
                except ValueError as error:
                    raise OakRelayError(f"{file}, line {number}: this is not JSON: {error}") from None
                if not isinstance(row, dict):
                    raise OakRelayError(f"{file}, line {number}: a row is a mapping of columns and values")
                if some and (size + len(line) > _AT_ONCE or len(some) >= 1000):
                    self.client.add_rows(table, some)
                    some, size = [], 0
                some.append(row)
                size += len(line.encode())
        if some:
            self.client.add_rows(table, some)

    def documents(self, folder: Path, given: Mapping[str, Any], over: bool) -> None:
        """Workflows: saved all, and only then adjusted and switched on, as they name each other."""
        known = {w.name: w for w in self.client.workflows()}
        files = sorted(file for file in folder.glob("*") if file.suffix in (".yaml", ".json"))
        for file in files:
            name, text = file.stem, text_of(file)
            if name in known and self.client.workflow(name).text == text:
                self.there.append(f"workflow {name}")
            elif name in known and not over:
                self.wrong.append(f"workflow {name}: another text is there; --over saves this one behind it")
            else:
                self._do(f"workflow {name}", self.client.save, text, over=over)
        for file in files:
            about = given.get(file.stem) or {}
            workflow = known.get(file.stem)
            if about.get("settings") and workflow is None:
                self._do(f"settings of {file.stem}", self.client.settings, file.stem, about["settings"])
            if about.get("on") and (workflow is None or not workflow.on_version):
                self._do(f"{file.stem} on", self.client.on, file.stem)

    def _do(self, what: str, call: Callable[..., object], *given: object, **more: object) -> None:
        try:
            if not self.check:
                call(*given, **more)
            self.done.append(what)
        except OakRelayError as problem:
            self.wrong.append(f"{what}: {problem}")


def _described(client: Client, name: str) -> dict[str, object]:
    """What a connector was read from, and which operations were taken."""
    found = client.connector(name)
    keys = [one.key for one in found.operations]
    return {"title": found.title, "address": found.address, "source": found.source, "operations": keys}


def _about(folder: Path) -> dict[str, dict[str, Any]]:
    file = folder / _ABOUT
    try:
        found = json.loads(text_of(file))
    except ValueError as error:
        raise OakRelayError(f"{file} is not JSON: {error}") from None
    names = ("workflows", "credentials", "models", "servers", "connectors", "tables", "links", "budgets")
    if (
        not isinstance(found, dict)
        or found.get("oak") != 1
        or not all(isinstance(found.get(n, {}), dict) for n in names)
    ):
        raise OakRelayError(f"{file} is no export: it begins with oak: 1, and holds mappings of {', '.join(names)}")
    held = {name: found.get(name, {}) for name in names}
    for name, every in held.items():
        right = _columns if name == "tables" else lambda one: isinstance(one, dict)
        if odd := next((one for one, config in every.items() if not right(config)), None):
            raise OakRelayError(f"{file} is no export: what it says of {odd} under {name} has another form")
    return held


def _columns(given: object) -> bool:
    return isinstance(given, list) and all(isinstance(c, dict) and {"name", "type"} <= c.keys() for c in given)


def _plain(config: Result) -> dict[str, object]:
    """What is stored of something, without what is found out by itself."""
    data = json.loads(as_json(config))
    return {key: value for key, value in data.items() if key not in _OURS and value not in (None, [], {}, "")}


def _safe(name: str) -> str:
    """A name as one of a file. Raises `OakRelayError` for one that could lead elsewhere."""
    if not _NAME.fullmatch(name):
        raise OakRelayError(f"{name!r} is no name of a file")
    return name


def _variable(name: str, field: str) -> str:
    return re.sub(r"\W", "_", f"{name}_{field}").upper()


def _filled(config: dict[str, Any], name: str, field: str) -> bool:
    """Put a secret into its field; whether there is one."""
    secret = os.environ.get(_variable(name, field), "")
    if not secret and sys.stdin.isatty():
        secret = getpass.getpass(f"{field} of the credential {name} (Enter leaves it out): ")
    outer, _, inner = field.partition(".")
    if secret and inner:
        config[outer] = {**config.get(outer, {}), inner: secret}
    elif secret:
        config[outer] = secret
    return bool(secret)
