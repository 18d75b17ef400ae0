"""All commands: parsers, and what exit codes mean."""

import argparse
import textwrap
from collections.abc import Generator, Sequence

from oak_relay import __version__
from oak_relay.cli import (
    again,
    agents,
    connectors,
    credentials,
    files,
    folders,
    lifecycle,
    looking,
    people,
    roles,
    runs,
    stored,
    usage,
    versions,
    workflows,
)
from oak_relay.cli.asking import WrongUse
from oak_relay.cli.output import ERR, escaped, shown
from oak_relay.client import Client
from oak_relay.client.errors import Denied, NotFound, OakRelayError, Problem, Unreachable

_CODES = """exit codes: 0 done · 1 a run failed, or mistakes were found · 2 wrong use · 3 no service answers ·
4 not allowed · 5 not there · 6 refused by the service"""


class _Grouped(argparse.RawDescriptionHelpFormatter):
    """Lists no commands: they stand in groups below."""

    def _iter_indented_subactions(self, action: argparse.Action) -> Generator[argparse.Action, None, None]:
        yield from ()


SHELLS = ("bash", "zsh", "tcsh", "fish", "powershell")


class _Completion(argparse.Action):
    """Prints a script for a shell, which is made only when it is asked for: what makes it takes its time to load."""

    def __call__(self, parser: argparse.ArgumentParser, _: object, shell: object, option: str | None = None) -> None:
        from shtab import complete

        print(complete(parser, str(shell)))
        parser.exit()


def parser() -> argparse.ArgumentParser:
    """The whole command line."""
    top = argparse.ArgumentParser(
        prog="oak-relay", description="Write, run and watch durable workflows.", formatter_class=_Grouped
    )
    top.add_argument("--url", help="the service (environment: OAK_RELAY_URL)")
    top.add_argument("--json", action="store_true", help="machine-readable output")
    top.add_argument("--version", action="version", version=f"oak-relay {__version__}")
    commands = top.add_subparsers(metavar="command", required=True, help="see below; each has its own --help")
    roles.add(commands)
    workflows.add(commands, _client)
    lifecycle.add(commands, _client)
    versions.add(commands, _client)
    folders.add(commands, _client)
    runs.add(commands, _client)
    again.add(commands, _client)
    agents.add(commands, _client)
    people.add(commands, _client)
    credentials.add(commands, _client)
    stored.add(commands, _client)
    files.add(commands, _client)
    connectors.add(commands, _client)
    usage.add(commands, _client)
    looking.add(commands, _client)
    _json_everywhere(commands)
    top.add_argument(
        "--print-completion", action=_Completion, choices=SHELLS, help="a script for a shell that completes commands"
    )
    top.epilog = f"{_grouped(commands)}\n\n{_CODES}"
    return top


GROUPS = {
    "to begin with": "up credential model server connector password key",
    "to write": "workflows check render save text versions differences on off settings actions curl rename duplicate remove export import",
    "to try": "try talk sample refused",
    "to run": "start publish events schedules fire pause tray answer",
    "to watch and mend": "runs show watch journal artifact again cancel",
    "what is kept": "table file conversation usage budget credit token session",
    "several processes, and after a restore": "serve work tick standins hold release missing",
}
"""Commands in the order of the work."""


def _grouped(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> str:
    """What each command does, in groups."""
    helps = {action.dest: action.help or "" for action in commands._choices_actions}
    lines: list[str] = []
    for group, names in GROUPS.items():
        lines += ["", f"{group}:"]
        for name in names.split():
            first, *more = textwrap.wrap(helps[name], 62)
            lines += [f"  {name:<13} {first}", *(" " * 16 + line for line in more)]
    return "\n".join(lines).strip("\n")


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
    except OSError as error:
        said = f"{error.filename or 'a file'}: {error.strerror or error}"
        ERR.print(f"[red]✗[/] {escaped(said)}", soft_wrap=True)
        return 1


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
