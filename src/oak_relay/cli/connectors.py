"""`connector`: connectors made of a description of a service (OpenAPI 3.0, 3.1)."""

import argparse
import fnmatch
import io
import sys
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML

from oak_relay.cli.asking import WrongUse, sure, takes_yes
from oak_relay.cli.output import ERR, OUT, as_line, counted, escaped, moment, plainly, show, table, working
from oak_relay.cli.workflows import given_json
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.client.results import ConnectorDetail, Description, OfferedOperation

_REPEATS = {"safe": "safe", "keyed": "with a key", "unsafe": "never by itself"}
_SHORT = 900_000
"""Bytes that go as a text; a longer description is uploaded as a file."""


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of this command."""
    parser = commands.add_parser(
        "curl",
        help="a curl command as a step; its secret becomes a credential",
        epilog="example: oak-relay curl command.txt; without a file, paste it and end with Ctrl-D",
    )
    parser.add_argument("file", nargs="?", type=Path, help="a file that holds it; standard input when left out")
    parser.set_defaults(run=lambda a: curl_cmd(a, client(a)))
    group = commands.add_parser("connector", help="actions made of a service's description (OpenAPI)").add_subparsers(
        metavar="what", required=True
    )

    def takes(
        name: str, text: str, run: Callable[[argparse.Namespace, Client], int], **more: Any
    ) -> argparse.ArgumentParser:
        parser: argparse.ArgumentParser = group.add_parser(name, help=text, **more)
        parser.set_defaults(run=lambda a: run(a, client(a)))
        return parser

    parser = takes(
        "operations",
        "what a description offers",
        operations_cmd,
        epilog="example: oak-relay connector operations office.yaml booking",
    )
    _takes_description(parser)
    parser.add_argument("words", nargs="*", help="only those whose name, path or title has these words")
    parser = takes(
        "add",
        "make actions of operations, or a new version of what is there",
        add_connector,
        epilog="example: oak-relay connector add office http://office.example/openapi.json --take 'list_*' --take make_booking",
    )
    parser.add_argument("name", help="the part of the actions' names before the dot")
    _takes_description(parser)
    parser.add_argument(
        "--take",
        action="append",
        default=[],
        metavar="NAME",
        help="an operation by its name or key; * stands for any letters",
    )
    parser.add_argument("--all", action="store_true", help="take all operations")
    parser.add_argument("--address", help="where the service is, when the description does not say")
    parser.add_argument("--title", help="what it is called on pages")
    takes("list", "list them", list_connectors)
    _others(takes)


def _others(takes: Callable[..., argparse.ArgumentParser]) -> None:
    """What is done with one that is there."""
    takes("show", "the actions of one, and what uses them", show_connector).add_argument("name")
    parser = takes("compare", "how a newer description differs, and which workflows that touches", compare_connector)
    parser.add_argument("name")
    parser.add_argument(
        "description", nargs="?", help="a file or address; that which it was fetched from when left out"
    )
    parser.add_argument("--credential", help="a stored credential to fetch it with")
    parser = takes(
        "try",
        "carry out one action, really",
        try_action,
        epilog="example: oak-relay connector try office list_huts --with '{\"limit\": 2}'",
    )
    parser.add_argument("name")
    parser.add_argument("action")
    parser.add_argument("--with", dest="given", default="{}", help="what it is given, as JSON; @FILE for a file")
    parser = takes_yes(takes("remove", "forget one with its actions", remove_connector))
    parser.add_argument("name")
    parser.add_argument("--anyway", action="store_true", help="although workflows that are on use it")


def _takes_description(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("description", help="an OpenAPI document (3.0, 3.1): a file, or the address it is fetched from")
    parser.add_argument("--credential", help="a stored credential to fetch it with")


def curl_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """The step that a curl command is, as YAML; it is read from a file, so that its secret stands in no history."""
    if arguments.file is not None and not arguments.file.is_file():
        raise WrongUse(f"{arguments.file} is no file")
    made = client.read_curl(arguments.file.read_text() if arguments.file else sys.stdin.read())
    if not show(made, arguments.json):
        text = io.StringIO()
        yaml = YAML()
        yaml.indent(mapping=2, sequence=4, offset=2)
        yaml.dump([{"step": made.name, "do": made.do, "with": made.fields}], text)
        plainly(text.getvalue().rstrip())
        for note in made.notes:
            ERR.print(f"note: {escaped(note)}")
        if made.credential:
            ERR.print(f"its secret is kept as the credential {escaped(made.credential)}", style="dim")
    return 0


def _source(arguments: argparse.Namespace, client: Client) -> dict[str, object]:
    """What is sent of a description."""
    given = arguments.description
    if given.startswith(("http://", "https://")):
        return {"source": given} | ({"credential": arguments.credential} if arguments.credential else {})
    path = Path(given)
    if not path.is_file():
        raise WrongUse(f"{given} is no file, and no address that begins with http:// or https://")
    if path.stat().st_size > _SHORT:
        return {"file": str(client.add_file(path, "", "application/octet-stream").file)}
    try:
        return {"text": path.read_text(encoding="utf-8-sig")}
    except UnicodeDecodeError:
        raise WrongUse(f"{given} is no text in UTF-8") from None


def operations_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """What a description offers."""
    with working("reading the description …"):
        told = client.read_description(**_source(arguments, client))
    found = [one for one in told.offered if _has(one, arguments.words)]
    if not show([one.model_dump() for one in found] if arguments.words else told, arguments.json):
        OUT.print(f"[bold]{escaped(told.title)}[/] {escaped(told.version)} {escaped(', '.join(told.addresses))}")
        rows = [
            (one.name, one.key, one.title if not one.fault else f"cannot be taken: {one.fault}", _REPEATS[one.repeat])
            for one in found
        ]
        table(("name", "operation", "?what it does", "?repeating"), rows, "None has these words.")
        _notes(told)
        OUT.print(f"take them with: oak-relay connector add {escaped(told.name)} … --take NAME", style="dim")
    return 0


def _has(one: OfferedOperation, words: Iterable[str]) -> bool:
    text = f"{one.name} {one.key} {one.title} {one.group}".lower()
    return all(word.lower() in text for word in words)


def _notes(told: Description) -> None:
    for note in told.notes:
        ERR.print(f"note: {escaped(note)}")


def add_connector(arguments: argparse.Namespace, client: Client) -> int:
    """Make a connector, or a new version of one."""
    source = _source(arguments, client)
    with working("reading the description …"):
        told = client.read_description(**source)
    there = {one.name: one for one in client.every(client.connectors)}
    given: dict[str, Any] = {**source}
    if arguments.all or arguments.take or arguments.name not in there:
        given["operations"] = _chosen(arguments, told)
    given |= {key: value for key, value in (("address", arguments.address), ("title", arguments.title)) if value}
    made = client.put_connector(arguments.name, **given)
    if not show(made, arguments.json):
        _notes(told)
        _show(made)
    return 0


def _chosen(arguments: argparse.Namespace, told: Description) -> list[str]:
    """The keys of the operations that are meant. Raises `OakRelayError`."""
    fine = [one for one in told.offered if not one.fault]
    if arguments.all:
        return [one.key for one in fine]
    if not arguments.take:
        raise WrongUse("say which operations become actions: --take NAME, or --all; see oak-relay connector operations")
    found: dict[str, None] = {}
    for wanted in arguments.take:
        some = [one.key for one in fine if wanted in (one.name, one.key) or fnmatch.fnmatchcase(one.name, wanted)]
        if not some:
            raise OakRelayError(f"the description has no operation {wanted}; see oak-relay connector operations")
        found |= dict.fromkeys(some)
    return list(found)


def list_connectors(arguments: argparse.Namespace, client: Client) -> int:
    """All that bring actions."""
    found = list(client.every(client.connectors))
    if not show(found, arguments.json):
        rows = [
            (one.name, one.title, one.package or one.address, one.version, str(len(one.actions)), one.fault)
            for one in found
        ]
        table(("connector", "title", "from", "?version", ">actions", "?why it cannot be used"), rows, "There is none.")
    return 0


def show_connector(arguments: argparse.Namespace, client: Client) -> int:
    """One that was made of a description."""
    found = client.connector(arguments.name)
    if not show(found, arguments.json):
        _show(found)
        rows = [(str(one.number), one.version, one.author, moment(one.created_at)) for one in found.versions[:10]]
        OUT.print()
        table((">", "its description", "by", "at"), rows, "")
    return 0


def _show(found: ConnectorDetail) -> None:
    OUT.print(
        f"[bold]{escaped(found.name)}[/] {escaped(found.title)}, version {found.number}, at {escaped(found.address)}"
    )
    rows = [
        (one.action.name, one.key, one.action.title, _REPEATS[one.action.repeat], " or ".join(one.sent_as))
        for one in found.operations
    ]
    table(("action", "operation", "?what it does", "?repeating", "?credential"), rows, "It has no action.")
    if found.workflows:
        OUT.print(f"used by {escaped(', '.join(one.name for one in found.workflows))}")


def compare_connector(arguments: argparse.Namespace, client: Client) -> int:
    """How a newer description differs; 1 when something does."""
    source = _source(arguments, client) if arguments.description else {}
    with working("reading the description …"):
        found = client.compare_connector(arguments.name, **source)
    if not show(found, arguments.json):
        for one in found.changed:
            using = f" [dim]used by {escaped(', '.join(w.name for w in one.workflows))}[/]" if one.workflows else ""
            OUT.print(f"[bold]{escaped(one.name)}[/] {escaped(one.key)}{using}")
            for what in one.what:
                OUT.print(f"  {escaped(what)}")
        if not found.changed:
            OUT.print("nothing that is used here is another")
        if found.offered:
            OUT.print(f"it offers {counted(len(found.offered), 'operation')} besides", style="dim")
    return 1 if found.changed else 0


def try_action(arguments: argparse.Namespace, client: Client) -> int:
    """Carry out one action; 1 when it went wrong."""
    given = given_json(arguments.given)
    if not isinstance(given, dict):
        raise WrongUse("what an action is given is a mapping, such as '{\"limit\": 2}'")
    name = arguments.action if "." in arguments.action else f"{arguments.name}.{arguments.action}"
    with working(f"carrying out {name} …"):
        done = client.try_action(arguments.name, name, given)
    if not show(done, arguments.json):
        if done.ok:
            plainly(as_line(done.output))
        else:
            ERR.print(f"[red]✗[/] {escaped(done.kind)}: {escaped(done.sentence)}", soft_wrap=True)
            if done.fix:
                ERR.print(f"  what to do: {escaped(done.fix)}", style="dim", soft_wrap=True)
    return 0 if done.ok else 1


def remove_connector(arguments: argparse.Namespace, client: Client) -> int:
    """Forget one."""
    found = client.connector(arguments.name)
    used = f" {', '.join(one.name for one in found.workflows)} use it." if found.workflows else ""
    sure(arguments, f"Remove {arguments.name} with {counted(len(found.operations), 'action')}?{used}")
    client.remove_connector(arguments.name, arguments.anyway)
    if not show({"removed": arguments.name}, arguments.json):
        OUT.print(f"{escaped(arguments.name)} is gone")
    return 0
