"""`runs`, `show`, `watch`, `cancel`."""

import argparse
import re
from collections.abc import Callable
from itertools import islice
from typing import Any

from oak_relay.cli import trace
from oak_relay.cli.finding import found
from oak_relay.cli.output import (
    OUT,
    as_line,
    duration,
    marked,
    moment,
    money,
    more,
    print_json,
    show,
    show_page,
    state,
    table,
)
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.client.results import RunData

_PART = re.compile(r"[0-9a-fA-F-]{1,36}")
"""Of an id (RFC 9562)."""


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser(
        "runs",
        help="list runs, newest first",
        epilog="example: oak-relay runs --state failed --workflow booking-triage",
    )
    parser.add_argument("--workflow")
    parser.add_argument(
        "--state",
        action="append",
        choices=["queued", "running", "waiting", "succeeded", "failed", "cancelled", "set aside"],
    )
    parser.add_argument("--subject", help="what the run is about")
    parser.add_argument("--error", dest="error_kind", help="kind of error")
    parser.add_argument(
        "--unmended", dest="mended", action="store_const", const=False, help="without failures that were mended later"
    )
    parser.add_argument("--held", action="store_const", const=True, help="those that are held after a restore")
    parser.add_argument("--text", help="words of its input, result, error or subject, or a part of its id")
    parser.add_argument("--since", help="a moment in RFC 3339")
    parser.add_argument("--until", help="a moment in RFC 3339")
    parser.add_argument("--after", help="the next page: what the one before says below")
    parser.add_argument("--limit", type=int, default=20)
    parser.set_defaults(run=lambda a: list_cmd(a, client(a)))
    for name, what, call in (
        ("show", "a run and everything it did", show_cmd),
        ("watch", "a run while it moves", watch_cmd),
    ):
        parser = commands.add_parser(name, help=what, epilog=f"example: oak-relay {name} last")
        parser.add_argument("id", help="a run's id, any part of it, or `last`")
        if name == "show":
            parser.add_argument("--full", action="store_true", help="with inputs, outputs and every attempt")
            parser.add_argument("--under", help="only what lies below a path, such as per_hut[137]")
        parser.set_defaults(run=lambda a, call=call: call(a, client(a)))
    parser = commands.add_parser("artifact", help="the whole of a payload of which a trace shows a preview")
    parser.add_argument("id", help="as the trace names it")
    parser.set_defaults(run=lambda a: artifact_cmd(a, client(a)))
    parser = commands.add_parser("cancel", help="stop runs", epilog="example: oak-relay cancel last")
    parser.add_argument("ids", nargs="+", metavar="ID", help="ids, any part of them, or `last`")
    parser.set_defaults(run=lambda a: cancel_cmd(a, client(a)))


def list_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Runs, the newest first."""
    names = ("workflow", "state", "subject", "text", "error_kind", "held", "mended", "since", "until", "after", "limit")
    page = client.runs(**{name: getattr(arguments, name) for name in names})
    if show_page(page, arguments.json):
        return 0
    table(
        ("run", "state", "workflow", "about", "began", ">took", "?>steps", "?>attempts", "?>tokens", "?>money"),
        [
            (str(r.id)[-12:], marked(_state(r)), r.workflow, r.subject or "–", moment(r.created_at), duration(r.seconds), r.steps, r.attempts,
             r.tokens_in + r.tokens_out, money(r.money, r.unpriced))
            for r in page
        ],
        "No runs. Start one: oak-relay start WORKFLOW --input '{…}'",
    )  # fmt: skip
    more(page)
    return 0


def _state(run: RunData) -> str:
    """How a run stands, with what is worth knowing beside it."""
    told = " mended" if run.mended_by else " limited" if run.note else ""
    return state(run.state) + (f"[dim]{told}[/]" if told else "")


def show_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """A run as its script with what happened at each line."""
    run_id = find_run(arguments.id, client)
    detail, traced = client.run(run_id), client.trace(run_id, arguments.under)
    if show({"run": detail.model_dump(mode="json"), "trace": traced.model_dump(mode="json")}, arguments.json):
        return 0
    trace.head(detail)
    OUT.print()
    trace.tree(traced, arguments.full)
    if traced.next is not None:
        OUT.print("[dim]… and more: name a path with --under[/]")
    for one in detail.children[:10]:
        OUT.print(f"[dim]child[/] {state(one.state)} {one.workflow} [dim]{one.id}[/]")
    for one in detail.again[:10]:
        OUT.print(f"[dim]again, {trace.place_of(one)}[/] {state(one.state)} [dim]{one.id}[/]")
    if detail.result is not None:
        OUT.print("\n[dim]result[/]")
        print_json(detail.result)
    return 0


def watch_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """What a run does, as it happens, until its end."""
    last: RunData | None = None
    for item in client.follow(find_run(arguments.id, client)):
        if isinstance(item, RunData):
            last = item
        if arguments.json:
            print(as_line(item), flush=True)
        else:
            OUT.print(trace.line(item))
    return 0 if last and last.state == "succeeded" else 1


def artifact_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """A large payload, whole, to standard output."""
    print(as_line(client.artifact(arguments.id)))
    return 0


def cancel_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Cancel a run; what it began may come to its end."""
    outcomes = {given: client.cancel(find_run(given, client)) for given in arguments.ids}
    if not show({"outcome": next(iter(outcomes.values()))} if len(outcomes) == 1 else outcomes, arguments.json):
        words = {
            "cancelled": "cancelled",
            "asked": "asked to stop; calls that cannot be undone end first",
            "over": "it has ended already",
        }
        for given, outcome in outcomes.items():
            OUT.print(words[outcome] if len(outcomes) == 1 else f"{given}: {words[outcome]}")
    return 0


def find_run(given: str, client: Client) -> str:
    """A run's id from any part of it, or `last`: the latest that a person, a clock or an event from outside began, and that is
    no part of what another run does."""
    if len(given) == 36:
        return given
    if given == "last":
        first = client.runs(limit=100)
        every = islice(client.every(client.runs, limit=100), 2000)
        own = next((one for one in every if one.parent_id is None and not one.depth), None)
        return str(found([own] if own else first[:1], "", "run", "see oak-relay runs").id)
    if not _PART.fullmatch(given):
        raise OakRelayError(f"{given!r} is no part of an id: these have digits, a to f, and -")
    return str(found(client.runs(id=given, limit=10), given, "run", "see oak-relay runs").id)
