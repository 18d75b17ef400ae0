"""The entry. A process that is started for a role loads nothing of what the other commands need."""

import argparse
import sys
from collections.abc import Sequence

from oak_relay.cli import roles


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; returns its exit code."""
    words = sys.argv[1:] if arguments is None else list(arguments)
    if words[:1] and words[0] in roles.NAMES:
        parser = argparse.ArgumentParser(prog="oak-relay")
        roles.add(parser.add_subparsers(metavar="command", required=True))
        given = parser.parse_args(words)
        try:
            return int(given.run(given))
        except KeyboardInterrupt:
            return 130
    from oak_relay.cli.commands import main as whole

    return whole(words)


def run() -> None:
    """The console script."""
    sys.exit(main())
