"""`usage`: what models cost; `budget`: how much they may; `credit`: what was paid in for them."""

import argparse
import csv
import sys
from collections.abc import Callable
from typing import Any

from oak_relay.cli.asking import sure, takes_yes
from oak_relay.cli.output import OUT, moment, money, show, table
from oak_relay.client import Client
from oak_relay.client.results import Credit

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
    parser = takes_yes(group.add_parser("remove", help="remove one"))
    parser.add_argument("name")
    parser.set_defaults(run=lambda a: remove_budget(a, client(a)))
    group = commands.add_parser(
        "credit", help="what was paid in behind credentials, and how long it lasts"
    ).add_subparsers(metavar="what", required=True)
    group.add_parser("list", help="what is left").set_defaults(run=lambda a: list_credits(a, client(a)))
    for name, adds, what in (
        ("paid", True, "so much was paid in, beside what is left; runs that rest for it go on"),
        ("is", False, "so much is in the account now"),
    ):
        parser = group.add_parser(name, help=what, epilog=f"example: oak-relay credit {name} models 20")
        parser.add_argument("credential")
        parser.add_argument("money", type=float)
        parser.set_defaults(run=lambda a, adds=adds: note_credit(a, client(a), adds))
    parser = takes_yes(group.add_parser("forget", help="keep no account of it any more"))
    parser.add_argument("credential")
    parser.set_defaults(run=lambda a: forget_credit(a, client(a)))


def show_usage(arguments: argparse.Namespace, client: Client) -> int:
    """What models used, as a table, JSON or CSV."""
    by = arguments.by or ["day", "workflow"]
    found = list(client.every(client.usage, by, arguments.since, arguments.until, arguments.workflow))
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
    listed = list(client.every(client.budgets))
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
    sure(arguments, f"Remove the budget {arguments.name}?")
    client.remove_budget(arguments.name)
    if not show({"removed": arguments.name}, arguments.json):
        OUT.print(f"{arguments.name} is removed")
    return 0


def list_credits(arguments: argparse.Namespace, client: Client) -> int:
    """What is left in accounts."""
    listed = list(client.every(client.credits))
    if not show(listed, arguments.json):
        rows = [(c.credential, money(c.money), _left(c), money(c.a_day), moment(c.lasts), c.state) for c in listed]
        heads = ("credential", ">there was", ">left", ">a day", "lasts until", "state")
        table(heads, rows, "Nothing was noted: oak-relay credit paid CREDENTIAL MONEY")
    return 0


def note_credit(arguments: argparse.Namespace, client: Client, adds: bool) -> int:
    """Note what was paid in, or what there is."""
    noted = client.note_credit(arguments.credential, arguments.money, adds)
    if not show(noted, arguments.json):
        until = f", at {money(noted.a_day)} a day until {moment(noted.lasts)}" if noted.lasts else ""
        OUT.print(f"{noted.credential}: {_left(noted)} left{until}")
    return 0


def forget_credit(arguments: argparse.Namespace, client: Client) -> int:
    """Keep no account any more."""
    sure(arguments, f"Forget what is noted of {arguments.credential}?")
    client.forget_credit(arguments.credential)
    if not show({"forgotten": arguments.credential}, arguments.json):
        OUT.print(f"nothing is noted of {arguments.credential} any more")
    return 0


def _left(credit: Credit) -> str:
    """What is left; less than that, where calls had no known price."""
    left = money(max(credit.left, 0.0))
    return f"less than {left}" if credit.unpriced else left
