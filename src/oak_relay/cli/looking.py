"""`settings`, `events`, `actions`, `journal`: what there is, looked at."""

import argparse
from collections.abc import Callable
from typing import Any

from oak_relay import jsontext
from oak_relay.cli.output import OUT, escaped, moment, more, print_json, show, show_page, shown, table
from oak_relay.cli.runs import find_run
from oak_relay.cli.workflows import given_json
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError

_MOST = 60
"""Letters of a value that a list shows."""


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser(
        "settings", help="what a workflow is adjusted with, and to adjust it",
        epilog="examples: oak-relay settings booking-triage; oak-relay settings booking-triage refund_limit=120",
    )  # fmt: skip
    parser.add_argument("workflow")
    parser.add_argument(
        "set", nargs="*", metavar="NAME=VALUE", help="a value as JSON, or else as text; NAME= takes it away"
    )
    parser.set_defaults(run=lambda a: settings_cmd(a, client(a)))
    parser = commands.add_parser(
        "events", help="what came in, newest first", epilog="example: oak-relay events --limit 5"
    )
    parser.add_argument("--limit", type=int, default=20)
    parser.add_argument("--after", help="the next page: what the one before says below")
    parser.set_defaults(run=lambda a: events_cmd(a, client(a)))
    parser = commands.add_parser(
        "actions",
        help="what steps and agents can do",
        epilog="examples: oak-relay actions; oak-relay actions http.request",
    )
    parser.add_argument("name", nargs="?", help="one of them, with its fields")
    parser.set_defaults(run=lambda a: actions_cmd(a, client(a)))
    parser = commands.add_parser(
        "journal", help="what a run has recorded, line by line", epilog="example: oak-relay journal last --json"
    )
    parser.add_argument("id", help="a run's id, any part of it, or `last`")
    parser.set_defaults(run=lambda a: journal_cmd(a, client(a)))


def settings_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Show settings, or adjust some of them."""
    found = client.workflow(arguments.workflow)
    now = dict(found.settings)
    for given in arguments.set:
        name, sign, text = given.partition("=")
        if not sign:
            raise OakRelayError(f"{given} says no value; write {given}=VALUE")
        if text:
            now[name] = _value(text)
        else:
            now.pop(name, None)
    if arguments.set:
        now = dict(client.settings(arguments.workflow, now, tag=found.settings_tag))
    if not show(now, arguments.json):
        if now:
            print_json(now)
        else:
            OUT.print("Nothing is adjusted: what settings: in the document says holds.", style="dim")
    return 0


def _value(text: str) -> object:
    try:
        return given_json(text)
    except OakRelayError:
        return text


def events_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Events with the run that each began."""
    found = client.events(arguments.limit, arguments.after)
    if not show_page(found, arguments.json):
        rows = [(moment(e.at), e.type, e.source, _short(e.data), e.workflow) for e in found]
        table(("at", "type", "source", "?data", "workflow"), rows, "Nothing came in yet.")
        more(found)
    return 0


def actions_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """The catalogue, or one action with its fields."""
    found = list(client.every(client.actions))
    if not arguments.name:
        if not show(found, arguments.json):
            rows = [(a.name, a.title, a.repeat) for a in sorted(found, key=lambda a: a.name)]
            table(("action", "what it does", "?repeating"), rows, "No actions.")
        return 0
    one = next((a for a in found if a.name == arguments.name), None)
    if one is None:
        raise OakRelayError(f"there is no action {arguments.name}; there is {', '.join(sorted(a.name for a in found))}")
    if not show(one, arguments.json):
        OUT.print(f"[bold]{escaped(one.name)}[/] {escaped(one.title)}\n")
        shape: Any = one.input
        needed = shape.get("required") or []
        told = [
            (name, "needed" if name in needed else "", about.get("description", ""))
            for name, about in shape.get("properties", {}).items()
        ]
        table(("field", "", "what it is"), told, "It takes no fields.")
    return 0


def journal_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """A line for each entry; with --json all of it."""
    found = list(client.every(client.journal, find_run(arguments.id, client), limit=1000))
    if not show(found, arguments.json):
        rows = [(str(e.seq), e.path, e.kind, _short(e.body)) for e in found]
        table((">", "path", "kind", "?body"), rows, "Nothing is recorded yet.")
    return 0


def _short(value: object) -> str:
    if value is None:
        return "–"
    text = value if isinstance(value, str) else jsontext.dumps(value)
    return shown(text if len(text) <= _MOST else text[: _MOST - 1] + "…")
