"""What is asked before something is gone."""

import argparse
import sys

from oak_relay.cli.output import ERR, escaped
from oak_relay.client.errors import OakRelayError


class WrongUse(OakRelayError):
    """A command was called in a way that it does not take."""


def takes_yes(parser: argparse.ArgumentParser) -> argparse.ArgumentParser:
    """A command that asks before it does something."""
    parser.add_argument("--yes", "-y", action="store_true", help="do it without asking")
    return parser


def sure(arguments: argparse.Namespace, question: str) -> None:
    """Ask whether it is meant. Raises `WrongUse` where nobody can be asked, and `KeyboardInterrupt` when it is not."""
    if arguments.yes:
        return
    if not sys.stdin.isatty():
        raise WrongUse(f"{question} Nobody can be asked here: say --yes")
    ERR.print(f"{escaped(question)} \\[y/N] ", end="")
    if input().strip().lower() not in ("y", "yes"):
        raise KeyboardInterrupt
