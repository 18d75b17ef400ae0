"""`check`, `render`, `on`, `off`, `workflows`, `start`."""

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from oak_relay import jsontext
from oak_relay.cli.output import (
    ERR,
    OUT,
    duration,
    escaped,
    marked,
    money,
    print_json,
    show,
    shown,
    state,
    table,
    working,
)
from oak_relay.cli.trace import head
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.client.results import Workflow


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser(
        "check", help="find mistakes in documents", epilog="example: oak-relay check workflows/*.yaml",
        description="Find mistakes, each with line, column and what to do. Works without a service; with --stored it also "
        "looks whether models, credentials and tables are there.",
    )  # fmt: skip
    parser.add_argument("files", nargs="+", type=Path, metavar="FILE", help="documents, or folders of them")
    parser.add_argument("--stored", action="store_true", help="ask the service what is stored there")
    parser.set_defaults(run=lambda a: check_cmd(a, client))

    parser = commands.add_parser(
        "render",
        help="show what a step would send",
        epilog="example: oak-relay render triage.yaml kind --input event.json",
    )
    parser.add_argument("file", type=Path)
    parser.add_argument("step")
    parser.add_argument("--input", default="{}", help="JSON, or a file of it")
    parser.add_argument("--sample", default="", help="name of a kept event, in the place of --input")
    parser.add_argument("--steps", default="{}", help="what earlier steps gave: JSON, or a file of it")
    parser.set_defaults(run=lambda a: render_cmd(a, client(a)))

    parser = commands.add_parser(
        "on", help="switch a workflow on with a version", epilog="example: oak-relay on booking-triage --version 4"
    )
    parser.add_argument("workflow")
    parser.add_argument("--version", type=int, dest="number", help="the newest when left out")
    parser.set_defaults(run=lambda a: switch_cmd(a, lambda: client(a).on(a.workflow, a.number)))
    parser = commands.add_parser("off", help="switch a workflow off, so that its triggers start it no longer")
    parser.add_argument("workflow")
    parser.set_defaults(run=lambda a: switch_cmd(a, lambda: client(a).off(a.workflow)))

    commands.add_parser("workflows", help="list workflows").set_defaults(run=lambda a: list_cmd(a, client(a)))

    parser = commands.add_parser(
        "start",
        help="start a run",
        epilog="""example: oak-relay start booking-triage --input '{"message": "…"}' --wait""",
    )
    parser.add_argument("workflow")
    parser.add_argument("--input", default="{}", help="JSON, or a file of it, or - for standard input")
    parser.add_argument("--version", type=int, dest="number")
    parser.add_argument("--key", help="the same key again gives the same run")
    parser.add_argument("--wait", action="store_true", help="wait for its end; exit 1 when it does not succeed")
    parser.set_defaults(run=lambda a: start_cmd(a, client(a)))


def check_cmd(arguments: argparse.Namespace, client: Callable[[argparse.Namespace], Client]) -> int:
    """Check documents, here or with what is stored; exit code 1 when one has a mistake."""
    from oak_relay.actions.catalogue import offer
    from oak_relay.document.check import check, name_of

    files = [f for given in arguments.files for f in (sorted(given.glob("**/*.y*ml")) if given.is_dir() else [given])]
    if not files:
        ERR.print("no documents there")
        return 2
    found: list[dict[str, object]] = []
    texts = {file: text_of(file) for file in files}
    together = frozenset(name for text in texts.values() if (name := name_of(text)))
    world = offer().catalogue.world(workflows=together if len(files) > 1 else None)
    for file, text in texts.items():
        findings = [f.model_dump() for f in client(arguments).check(text, sorted(together)).findings] if arguments.stored else [
            f.as_data() for f in check(text, world).findings
        ]  # fmt: skip
        found += [{"file": str(file), **finding} for finding in findings]
    errors = sum(f["severity"] == "error" for f in found)
    if not show(found, arguments.json):
        for finding in found:
            sign = "[red]✗[/]" if finding["severity"] == "error" else "[yellow]![/]"
            OUT.print(f"{sign} {escaped(str(finding['file']))}:{finding['line']}:{finding['column']}: ", end="")
            OUT.print(shown(f"{finding['message']}. "), end="", markup=False)
            OUT.print(shown(f"→ {finding['fix']}"), style="dim", markup=False)
        OUT.print(
            f"{len(files)} document{'s' if len(files) != 1 else ''}, {errors} mistake{'s' if errors != 1 else ''}, {len(found) - errors} to look at"
        )
    return 1 if errors else 0


def render_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """What a step would send, without sending it."""
    given = given_json(arguments.input), given_json(arguments.steps), arguments.sample
    rendered = client.render(text_of(arguments.file), arguments.step, *given)
    if show(rendered, arguments.json):
        return 0
    OUT.print(f"[bold]{escaped(rendered.step)}[/] {escaped(rendered.action)}")
    for message in rendered.messages or []:
        OUT.print(f"\n[dim]{escaped(str(message['role']))}[/]")
        OUT.print(shown(said(message)), markup=False)
    for tool in rendered.tools:
        fields = ", ".join(tool.parameters.get("properties", {}))
        OUT.print(f"\n[dim]tool[/] {escaped(tool.name)}({escaped(fields)})\n{escaped(tool.description)}")
    if rendered.messages is None:
        print_json(rendered.input)
    if cost := rendered.cost:
        price = "" if cost.money is None else f", {money(cost.money)} at most"
        OUT.print(
            f"[dim]about {cost.tokens:,} tokens to {escaped(cost.model)}, {cost.longest:,} back at most{price}[/]"
        )
    if rendered.empty:
        OUT.print(f"[yellow]came out empty: {', '.join(rendered.empty)}[/]")
    return 0


def said(message: dict[str, Any]) -> str:
    """A message as text: of files their names, of calls what is called."""
    content = message.get("content")
    if isinstance(content, list):
        lines = [part.get("text") or f"({(part.get('file') or {}).get('filename', 'picture')})" for part in content]
        return "\n".join(lines)
    called = ", ".join(call["function"]["name"] for call in message.get("tool_calls") or [])
    return str(content or "") or f"(calls {called})"


def switch_cmd(arguments: argparse.Namespace, call: Callable[[], Workflow]) -> int:
    """Switch a workflow on or off."""
    done = call()
    if not show(done, arguments.json):
        OUT.print(
            f"{done.name} is on with version {done.on_version}. {escaped('; '.join(done.starters))}."
            if done.on_version
            else f"{done.name} is off: nothing starts it by itself."
        )
    return 0


def _switch(workflow: Workflow) -> str:
    if not workflow.on_version:
        return "off"
    newer = f", draft {workflow.latest_version}" if workflow.latest_version > workflow.on_version else ""
    return f"on, version {workflow.on_version}{newer}"


def list_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Workflows and how their last runs went."""
    listed = list(client.every(client.workflows))
    if not show(listed, arguments.json):
        table(
            ("workflow", "state", "?>runs", "last", "?>succeeded", "?>median", "?>money", "?starts by"),
            [
                (w.name, _switch(w), w.runs, marked(state(w.last_state)) if w.last_state else "–",
                 "–" if w.success is None else f"{w.success:.0%}", duration(w.seconds), money(w.money), "; ".join(w.starters))
                for w in listed
            ],
            "No workflows yet. Save one: oak-relay save FILE --on",
        )  # fmt: skip
    return 0


def start_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Start a run, and wait for its end if asked to; exit code 1 when it does not succeed."""
    run = client.start(arguments.workflow, given_json(arguments.input), arguments.number, arguments.key)
    if not arguments.wait:
        if not show(run, arguments.json):
            OUT.print(f"run {run.id} is {run.state}; oak-relay watch {run.id}")
        return 0
    with working(f"{arguments.workflow} runs"):
        ended = run.wait()
    detail = client.run(ended.id)
    if not show(detail, arguments.json):
        head(detail)
        if detail.result is not None:
            print_json(detail.result)
    return 0 if ended.state == "succeeded" else 1


def text_of(file: Path) -> str:
    """What a file holds. Raises `OakRelayError`."""
    try:
        return file.read_text()
    except (OSError, UnicodeDecodeError) as error:
        raise OakRelayError(f"{file} cannot be read: {error}") from None


def given_json(given: str) -> Any:
    """A value given as JSON, as a file of it, or `-` for standard input. Raises `OakRelayError`."""
    text = sys.stdin.read() if given == "-" else given
    if not text.lstrip().startswith(("{", "[", '"')) and Path(text).is_file():
        text = text_of(Path(text))
    try:
        return jsontext.loads(text)
    except ValueError as error:
        raise OakRelayError(f"this is not JSON: {error}") from None
