"""`usage`: what models cost; `budget`: how much they may."""

import argparse
import csv
import sys
from collections.abc import Callable
from typing import Any

from oak_relay.cli.output import OUT, money, show, table
from oak_relay.client import Client

_GROUPS = ("day", "workflow", "alias", "credential", "source")


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser(
        "usage", help="tokens and money", epilog="example: oak-relay usage --by day --by workflow --since 2031-04-01"
    )
    parser.add_argument("--by", action="append", choices=_GROUPS, help="what to group by (default: day and workflow)")
    parser.add_argument("--since", metavar="DAY", help="the first day, as YYYY-MM-DD")
    parser.add_argument("--until", metavar="DAY", help="the last day")
    parser.add_argument("--workflow", help="only this one")
    parser.add_argument("--csv", action="store_true", help="as CSV")
    parser.set_defaults(run=lambda a: show_usage(a, client(a)))
    group = commands.add_parser("budget", help="how much models may cost").add_subparsers(metavar="what", required=True)
    group.add_parser("list", help="list them").set_defaults(run=lambda a: list_budgets(a, client(a)))
    parser = group.add_parser("set", help="set one", epilog="example: oak-relay budget set office 5.00 --period day")
    parser.add_argument("name")
    parser.add_argument("money", type=float)
    parser.add_argument("--period", choices=["day", "month"], default="day")
    parser.add_argument("--workflow", default="", help="of one workflow; of all when left out")
    parser.set_defaults(run=lambda a: set_budget(a, client(a)))
    parser = group.add_parser("remove", help="remove one")
    parser.add_argument("name")
    parser.set_defaults(run=lambda a: remove_budget(a, client(a)))


def show_usage(arguments: argparse.Namespace, client: Client) -> int:
    """What models used, as a table, JSON or CSV."""
    by = arguments.by or ["day", "workflow"]
    found = client.usage(by, arguments.since, arguments.until, arguments.workflow)
    if show(found, arguments.json):
        return 0
    rows = [
        (*(getattr(u, name) or "–" for name in by), u.calls, u.input, u.cached, u.output, u.money, u.unpriced)
        for u in found
    ]
    if arguments.csv:
        writer = csv.writer(sys.stdout)
        writer.writerow([*by, "calls", "input", "cached", "output", "money", "unpriced"])
        writer.writerows(rows)
        return 0
    shown = [(*row[:-2], money(u.money, u.unpriced)) for row, u in zip(rows, found, strict=True)]
    table((*by, ">calls", ">read", ">cached", ">written", ">money"), shown, "No model was asked in these days.")
    if found:
        OUT.print(
            f"{sum(u.calls for u in found)} calls, money {money(sum(u.money for u in found), sum(u.unpriced for u in found))}",
            style="dim",
        )
    return 0


def list_budgets(arguments: argparse.Namespace, client: Client) -> int:
    """Budgets and how far they are spent."""
    listed = client.budgets()
    if not show(listed, arguments.json):
        rows = [(b.name, b.workflow or "all", b.period, money(b.money), money(b.spent), b.state) for b in listed]
        table(("budget", "of", "per", ">money", ">spent", "state"), rows, "No budgets: oak-relay budget set NAME MONEY")
    return 0


def set_budget(arguments: argparse.Namespace, client: Client) -> int:
    """Set a budget."""
    stored = client.put_budget(arguments.name, arguments.money, arguments.period, arguments.workflow)
    if not show(stored, arguments.json):
        of = stored.workflow or "all workflows"
        OUT.print(f"{stored.name}: {money(stored.money)} a {stored.period} for {of}, {money(stored.spent)} spent")
    return 0


def remove_budget(arguments: argparse.Namespace, client: Client) -> int:
    """Remove a budget."""
    client.remove_budget(arguments.name)
    OUT.print(f"{arguments.name} is removed")
    return 0
