"""`versions`, `differences`: how a workflow came to be what it is."""

import argparse
from collections.abc import Callable
from difflib import unified_diff
from pathlib import Path
from typing import Any

from oak_relay.cli.output import OUT, escaped, moment, plainly, show, shown, table
from oak_relay.cli.workflows import text_of
from oak_relay.client import Client
from oak_relay.client.results import Difference

_SIGNS = {"added": "[green]+[/]", "removed": "[red]−[/]", "changed": "[yellow]~[/]", "moved": "↕", "renamed": "="}


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser("versions", help="list the versions of a workflow")
    parser.add_argument("workflow")
    parser.set_defaults(run=lambda a: versions_cmd(a, client(a)))
    parser = commands.add_parser(
        "differences", help="tell what differs between two versions, or from a file",
        epilog="examples: oak-relay differences booking-triage; oak-relay differences booking-triage 3 5; "
        "oak-relay differences booking-triage 5 triage.yaml --lines",
        description="Tells in sentences what the second text says otherwise than the first. Without numbers: the newest "
        "version and the one before it; with one: that and the newest.",
    )  # fmt: skip
    parser.add_argument("workflow")
    parser.add_argument("first", nargs="?", help="a version, or a file")
    parser.add_argument("second", nargs="?", help="another version, or a file")
    parser.add_argument("--lines", action="store_true", help="show the lines of text that differ")
    parser.set_defaults(run=lambda a: differences_cmd(a, client(a)))


def versions_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """All versions, the newest first, with who saved them and why."""
    found = client.workflow(arguments.workflow).versions
    if not show(found, arguments.json):
        table(
            (">version", "", "saved", "?by", "remark"),
            [(one.number, "on" if one.on else "", moment(one.created_at), one.author, one.remark) for one in found],
            "No versions.",
        )
    return 0


def differences_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """What differs, in sentences or as lines of text."""
    (first, before), (second, after) = _two(arguments, client)
    if arguments.lines:
        lines = "".join(unified_diff(before.splitlines(keepends=True), after.splitlines(keepends=True), first, second))
        if not show({"first": first, "second": second, "lines": lines}, arguments.json):
            plainly(lines)
        return 0
    found = client.compare(before, after)
    if show({"first": first, "second": second, **found.model_dump(mode="json")}, arguments.json):
        return 0
    OUT.print(f"[dim]from {escaped(first)} to {escaped(second)}[/]")
    for one in found.differences:
        _tell(one)
    if found.more:
        OUT.print(f"and {found.more:,} more")
    if not found.differences:
        OUT.print("they say the same" if before != after else "they are the same")
    return 0


def _two(arguments: argparse.Namespace, client: Client) -> tuple[tuple[str, str], tuple[str, str]]:
    newest = client.workflow(arguments.workflow)
    if arguments.first is None:
        earlier = client.workflow(arguments.workflow, max(1, newest.version - 1))
        return (f"version {earlier.version}", earlier.text), (f"version {newest.version}", newest.text)
    first = _text(arguments.first, arguments.workflow, client)
    if arguments.second is None:
        return first, (f"version {newest.version}", newest.text)
    return first, _text(arguments.second, arguments.workflow, client)


def _text(given: str, workflow: str, client: Client) -> tuple[str, str]:
    if given.isdigit() and not Path(given).is_file():
        return f"version {given}", client.workflow(workflow, int(given)).text
    return given, text_of(Path(given))


def _tell(one: Difference) -> None:
    name = f" [dim]{escaped(one.step)}[/]" if one.step else ""
    was = f" was {escaped(one.before)}" if one.before else ""
    number = f"{one.number}  " if one.number else ""
    OUT.print(f"{_SIGNS.get(one.what, '?')} {one.what}{was}: {number}{escaped(one.sentence)}{name}", soft_wrap=True)
    for field in one.fields:
        OUT.print(shown(f"    {field.name}: {_said(field.before)} → {_said(field.after)}"), style="dim", markup=False)


def _said(value: str | None) -> str:
    return "nothing" if value is None else value
