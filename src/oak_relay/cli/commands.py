"""All commands: parsers, and what exit codes mean."""

import argparse
from collections.abc import Sequence

from oak_relay import __version__
from oak_relay.cli import again, agents, folders, lifecycle, people, roles, runs, stored, usage, workflows
from oak_relay.cli.asking import WrongUse
from oak_relay.cli.output import ERR, escaped, shown
from oak_relay.client import Client
from oak_relay.client.errors import Denied, NotFound, OakRelayError, Problem, Unreachable

_CODES = """exit codes: 0 done · 1 a run failed, or mistakes were found · 2 wrong use · 3 no service answers ·
4 not allowed · 5 not there · 6 refused by the service"""


def parser() -> argparse.ArgumentParser:
    """The whole command line."""
    top = argparse.ArgumentParser(
        prog="oak-relay",
        description="Write, run and watch durable workflows.",
        epilog=_CODES,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    top.add_argument("--url", help="the service (environment: OAK_RELAY_URL)")
    top.add_argument("--json", action="store_true", help="machine-readable output")
    top.add_argument("--version", action="version", version=f"oak-relay {__version__}")
    commands = top.add_subparsers(title="commands", metavar="command", required=True)
    roles.add(commands)
    workflows.add(commands, _client)
    lifecycle.add(commands, _client)
    folders.add(commands, _client)
    runs.add(commands, _client)
    again.add(commands, _client)
    agents.add(commands, _client)
    people.add(commands, _client)
    stored.add(commands, _client)
    usage.add(commands, _client)
    _json_everywhere(commands)
    return top


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command; returns its exit code."""
    given = parser().parse_args(arguments)
    try:
        return int(given.run(given))
    except Problem as problem:
        ERR.print(f"[red]✗[/] {escaped(str(problem))}", soft_wrap=True)
        for finding in problem.findings[:20]:
            ERR.print(shown(f"  line {finding.line}: {finding.message} → {finding.fix}"), markup=False, soft_wrap=True)
        if problem.fix:
            ERR.print(shown(f"  what to do: {problem.fix}"), style="dim", markup=False, soft_wrap=True)
        return 4 if isinstance(problem, Denied) else 5 if isinstance(problem, NotFound) else 6
    except Unreachable as error:
        ERR.print(f"[red]✗[/] {escaped(str(error))}", soft_wrap=True)
        return 3
    except WrongUse as error:
        ERR.print(f"[red]✗[/] {escaped(str(error))}", soft_wrap=True)
        return 2
    except OakRelayError as error:
        ERR.print(f"[red]✗[/] {escaped(str(error))}", soft_wrap=True)
        return 1
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:
        return 0


def _client(given: argparse.Namespace) -> Client:
    return Client(given.url)


def _json_everywhere(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """`--json` is understood behind every command too."""
    for sub in commands.choices.values():
        inner = [a for a in sub._actions if isinstance(a, argparse._SubParsersAction)]
        if inner:
            _json_everywhere(inner[0])
        else:
            sub.add_argument("--json", action="store_true", default=argparse.SUPPRESS, help="machine-readable output")
