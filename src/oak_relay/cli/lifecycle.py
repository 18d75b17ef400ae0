"""`save`, `text`, `rename`, `duplicate`, `remove`: workflows come, change and go. What a file was made from is remembered, so
that nobody's newer version is saved over unseen."""

import argparse
import json
import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from oak_relay.cli.asking import sure, takes_yes
from oak_relay.cli.output import ERR, OUT, escaped, plainly, show, shown
from oak_relay.cli.workflows import text_of
from oak_relay.client import Client
from oak_relay.client.errors import Conflict
from oak_relay.client.results import Saved


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser(
        "save", help="save documents: new workflows, or new versions of those they were made from",
        epilog="examples: oak-relay save triage.yaml --on; oak-relay save triage.yaml --over 7",
        description="Where somebody else has saved a version since, the text here is not saved over it: look at it with "
        "`oak-relay text`, and say --over with its number to save all the same.",
    )  # fmt: skip
    parser.add_argument("files", nargs="+", type=Path, metavar="FILE")
    parser.add_argument("--on", action="store_true", help="switch it on with the new version at once")
    parser.add_argument("--over", type=int, metavar="VERSION", help="the newest version, over which it is saved")
    parser.add_argument("--remark", default="", help="what is new in it, for the list of versions")
    parser.set_defaults(run=lambda a: save_cmd(a, client(a)))
    parser = commands.add_parser(
        "text", help="print a workflow's document", epilog="example: oak-relay text booking-triage > triage.yaml"
    )
    parser.add_argument("workflow")
    parser.add_argument("--version", type=int, dest="number", help="the newest when left out")
    parser.set_defaults(run=lambda a: text_cmd(a, client(a)))
    for name, what, run in (
        ("rename", "give a workflow another name", rename_cmd),
        ("duplicate", "make a workflow of another name of one", duplicate_cmd),
    ):
        parser = commands.add_parser(name, help=what, epilog=f"example: oak-relay {name} booking-triage triage")
        parser.add_argument("workflow")
        parser.add_argument("other", metavar="NAME")
        parser.set_defaults(run=lambda a, run=run: run(a, client(a)))
    parser = takes_yes(commands.add_parser("remove", help="remove a workflow; its runs stay"))
    parser.add_argument("workflow")
    parser.set_defaults(run=lambda a: remove_cmd(a, client(a)))


def save_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Save documents, and switch them on if asked to; exit code 6 when somebody else has saved one since."""
    saved, bases, code = [], _Bases(client.url), 0
    for file in arguments.files:
        try:
            done = _saved(client, bases, text_of(file), arguments.over, arguments.remark)
        except Conflict as conflict:
            ERR.print(f"[red]✗[/] {escaped(str(file))}: {escaped(str(conflict))}", soft_wrap=True)
            ERR.print(
                shown(f"  what to do: {_way_out(conflict, bases, file)}"), style="dim", markup=False, soft_wrap=True
            )
            code = 6
            continue
        saved.append(done)
        on = client.on(done.workflow, done.version) if arguments.on else None
        if not arguments.json:
            word = "saved as" if done.new else "is already"
            OUT.print(f"{done.workflow} {word} version {done.version}{', on' if on else ', a draft'}")
            for finding in done.findings:
                OUT.print(
                    shown(f"  ! {file}:{finding.line}: {finding.message} → {finding.fix}"), markup=False, soft_wrap=True
                )
    show(saved, arguments.json)
    return code


def _saved(client: Client, bases: "_Bases", text: str, over: int | None, remark: str) -> Saved:
    from oak_relay.document.check import name_of

    name = name_of(text) or ""
    base = bases.of(name) if over is None else over
    try:
        done = client.save(text, base, remark=remark)
    except Conflict as conflict:
        if over is not None or conflict.more.get("latest"):
            raise
        done = client.save(text, remark=remark)  # what was there once is not there any more
    bases.keep(done.workflow, done.version)
    return done


def _way_out(conflict: Conflict, bases: "_Bases", file: Path) -> str:
    latest, name = conflict.more.get("latest"), str(conflict.title).split(" ")[0]
    if not latest:
        return conflict.fix
    made = f" It was made from version {bases.of(name)}." if bases.of(name) else ""
    return (
        f"look at what is there: oak-relay text {name}. To save over it: oak-relay save {file} --over {latest}.{made}"
    )


def text_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Print a document as it is; what is saved later is taken for made from it."""
    found = client.workflow(arguments.workflow, arguments.number)
    _Bases(client.url).keep(found.workflow.name, found.version)
    if not show({"workflow": found.workflow.name, "version": found.version, "text": found.text}, arguments.json):
        plainly(found.text)
    return 0


def rename_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Give a workflow another name, and say what names it still."""
    done = client.rename(arguments.workflow, arguments.other)
    _Bases(client.url).keep(done.workflow, done.version)
    if not show(done, arguments.json):
        OUT.print(f"{arguments.workflow} is {done.workflow} now, by version {done.version}")
        if done.referring:
            OUT.print(f"[yellow]![/] still named as before in {', '.join(done.referring)}")
    return 0


def duplicate_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Make a workflow of another."""
    done = client.duplicate(arguments.workflow, arguments.other)
    _Bases(client.url).keep(done.workflow, done.version)
    if not show(done, arguments.json):
        OUT.print(f"{done.workflow} is there with version {done.version}, a draft")
    return 0


def remove_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Remove a workflow."""
    sure(arguments, f"Remove the workflow {arguments.workflow} and its samples? Its runs stay.")
    client.remove_workflow(arguments.workflow)
    if not show({"removed": arguments.workflow}, arguments.json):
        OUT.print(f"{arguments.workflow} is removed")
    return 0


class _Bases:
    """The versions that texts on this machine were made from, of one service; kept between commands as well as can be."""

    def __init__(self, url: str) -> None:
        home = os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state"
        self._file, self._url = Path(home) / "oak-relay" / "bases.json", url

    def of(self, name: str) -> int | None:
        """The version that a workflow's text was made from, None when that is not known."""
        found = self._all().get(self._url, {}).get(name)
        return found if isinstance(found, int) else None

    def keep(self, name: str, version: int) -> None:
        """A workflow's text is that version, or is made from it."""
        every = self._all()
        every.setdefault(self._url, {})[name] = version
        with suppress(OSError):
            self._file.parent.mkdir(parents=True, exist_ok=True)
            fresh = self._file.with_suffix(f".{os.getpid()}")
            fresh.write_text(json.dumps(every))
            fresh.replace(self._file)

    def _all(self) -> dict[str, dict[str, object]]:
        with suppress(OSError, ValueError):
            found = json.loads(self._file.read_text())
            if isinstance(found, dict) and all(isinstance(one, dict) for one in found.values()):
                return found
        return {}
