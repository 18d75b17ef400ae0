"""`server`: tool servers; `conversation`: what was said."""

import argparse
import re
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from oak_relay.cli.asking import sure, takes_yes
from oak_relay.cli.finding import found
from oak_relay.cli.output import OUT, as_line, escaped, moment, money, show, state, table, working
from oak_relay.cli.trace import spans_tree
from oak_relay.cli.visiting import talk_on_page
from oak_relay.cli.workflows import given_json, text_of
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.client.results import Question, Talked
from oak_relay.engine.paths import EntryPath


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    group = commands.add_parser("server", help="tool servers").add_subparsers(metavar="what", required=True)
    parser = group.add_parser(
        "add", help="store one", epilog="examples: oak-relay server add weather --url https://weather.example/mcp; "
        "oak-relay server add files --command npx some-server /srv/files",
    )  # fmt: skip
    parser.add_argument("name")
    parser.add_argument("--url", dest="address", help="its endpoint (Model Context Protocol, streamable HTTP)")
    parser.add_argument("--credential", help="name of a stored credential")
    parser.add_argument("--command", nargs=argparse.REMAINDER, help="a program and its arguments, spoken to by stdio")
    parser.set_defaults(run=lambda a: add_server(a, client(a)))
    group.add_parser("list", help="list them").set_defaults(run=lambda a: list_servers(a, client(a)))
    for name, what, call in (
        ("test", "connect, and list what it offers", test_server),
        ("remove", "forget it", remove_server),
    ):
        parser = group.add_parser(name, help=what)
        parser.add_argument("name")
        if name == "remove":
            takes_yes(parser)
        parser.set_defaults(run=lambda a, call=call: call(a, client(a)))
    parser = commands.add_parser(
        "talk", help="talk with an agent of a draft, or on a page", epilog="examples: oak-relay talk guest-chat.yaml; oak-relay talk visitors",
        description="With the agent of a draft (a file) nothing is kept; on the page of a workflow that is on (its path) it is a conversation as any visitor has it. Say something and read the answer. /clear begins anew, /retry takes the last answer back and asks again, "
        "/trace shows what was done (of a draft), an empty line or Ctrl-D ends.",
    )  # fmt: skip
    parser.add_argument("file", type=Path, metavar="FILE|PAGE")
    parser.add_argument(
        "--opens", default="", help="what opens a page that is not public: the end of its link, or its password"
    )
    parser.add_argument("--step", default="", help="which agent, where there are several")
    parser.add_argument("--input", help="a sample of the workflow's input, as JSON or a file")
    parser.add_argument("--sample", default="", help="name of a kept event, in the place of --input")
    parser.set_defaults(run=lambda a: talk_cmd(a, client(a)))
    group = commands.add_parser("conversation", help="what was said").add_subparsers(metavar="what", required=True)
    group.add_parser("list", help="the latest first").set_defaults(run=lambda a: list_conversations(a, client(a)))
    for name, what, call in (("show", "what was said in one", show_conversation), ("forget", "remove one", forget)):
        parser = group.add_parser(name, help=what)
        parser.add_argument("key")
        if name == "forget":
            takes_yes(parser)
        parser.set_defaults(run=lambda a, call=call: call(a, client(a)))
    parser = group.add_parser("reply", help="say something in one that was handed over")
    parser.add_argument("question", help="its question's id at the tray, or its end")
    parser.add_argument("text")
    parser.set_defaults(run=lambda a: reply(a, client(a)))
    parser = group.add_parser("judge", help="say whether an answer was good")
    parser.add_argument("key")
    parser.add_argument("seq", type=int, help="its number, as show tells it")
    parser.add_argument("good", choices=["good", "bad", "neither"])
    parser.set_defaults(run=lambda a: judge(a, client(a)))
    parser = group.add_parser("settle", help="say whether a message arrived whose sending was cut off")
    parser.add_argument("key")
    parser.add_argument("seq", type=int, help="its number, as show tells it")
    parser.add_argument("how", choices=["arrived", "again"], help="again: it did not; it is sent again")
    parser.set_defaults(run=lambda a: settle(a, client(a)))


def talk_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Talk with an agent of a draft, line by line, until the input ends; with `--json` a line for each answer."""
    page = str(arguments.file)
    if re.fullmatch(r"[a-z0-9][a-z0-9-]{0,60}", page) and not arguments.file.exists():
        return talk_on_page(client, page, arguments.opens, arguments.json)
    text, data = text_of(arguments.file), given_json(arguments.input) if arguments.input else None
    history: list[list[dict[str, object]]] = [[]]
    said, last = "", None
    while True:
        try:
            line = input("> " if sys.stdin.isatty() else "").strip()
        except EOFError:
            return 0
        if not line:
            return 0
        if line == "/clear":
            history, said, last = [[]], "", None
            if not arguments.json:
                OUT.print("[dim]forgotten[/]")
            continue
        if line == "/trace" and not arguments.json:
            spans_tree(last.spans if last else [], {}, full=True)
            continue
        if line == "/retry":
            if not said:
                continue
            history = history[:-1] or [[]]
            line = said
        said = line
        with working("thinking …"):
            last = client.talk(text, line, history[-1], arguments.step, data, arguments.sample)
        history.append(last.messages)
        if arguments.json:
            print(as_line(last), flush=True)
        else:
            _told(last)


def _told(last: Talked) -> None:
    calls = [s for s in last.spans if s.kind == "call"]
    for call in calls:
        OUT.print(f"[dim]{state(call.state)} {EntryPath(call.path).name}[/]")
    if last.error:
        OUT.print(f"[red]{last.error.kind}[/]: {escaped(last.error.message)}")
    elif last.waits:
        OUT.print(f"[yellow]it would rest at {last.waits}[/]")
    else:
        OUT.print(escaped(last.text))
        for source in last.sources:
            OUT.print(f"[dim]source: {escaped(source.title or source.url)} {escaped(source.url)}[/]")
        if last.why:
            OUT.print(f"[yellow]{escaped(last.why)}[/]")
    OUT.print(f"[dim]{last.tokens} tokens, money {money(last.money)}[/]")


def add_server(arguments: argparse.Namespace, client: Client) -> int:
    """Store a tool server."""
    given = {"url": arguments.address, "credential": arguments.credential, "command": arguments.command or None}
    if bool(arguments.address) == bool(arguments.command):
        raise OakRelayError("give either --url or --command")
    stored = client.put_server(arguments.name, **{k: v for k, v in given.items() if v})
    if not show(stored, arguments.json):
        OUT.print(f"{stored.name} is stored. Try it: oak-relay server test {stored.name}")
    return 0


def list_servers(arguments: argparse.Namespace, client: Client) -> int:
    """Tool servers and where they are."""
    listed = list(client.every(client.servers))
    if not show(listed, arguments.json):
        rows = [(s.name, s.config.url or " ".join(s.config.command or ()), s.config.credential or "–") for s in listed]
        table(("server", "where", "credential"), rows, "No tool servers yet: oak-relay server add NAME --url …")
    return 0


def test_server(arguments: argparse.Namespace, client: Client) -> int:
    """Connect, and show what a tool server offers; exit code 1 when it does not answer."""
    with working("connecting"):
        found = client.test_server(arguments.name)
    if not show(found, arguments.json):
        OUT.print(f"[{'green' if found.ok else 'red'}]{escaped(found.sentence)}[/]")
        if found.fix:
            OUT.print(f"[dim]what to do:[/] {escaped(found.fix)}")
        if found.tools:
            rows = [(tool.name, " ".join(tool.description.split())) for tool in found.tools]
            table(("tool", "what it does"), rows, "")
    return 0 if found.ok else 1


def remove_server(arguments: argparse.Namespace, client: Client) -> int:
    """Forget a tool server."""
    sure(arguments, f"Remove the tool server {arguments.name}?")
    client.remove_server(arguments.name)
    if not show({"removed": arguments.name}, arguments.json):
        OUT.print(f"{arguments.name} is removed")
    return 0


def list_conversations(arguments: argparse.Namespace, client: Client) -> int:
    """Conversations, the latest first."""
    listed = list(client.every(client.conversations))
    if not show(listed, arguments.json):
        rows = [(c.key, c.messages, moment(c.updated_at)) for c in listed]
        table(("conversation", ">messages", "last"), rows, "No conversations. An agent with memory: begins one.")
    return 0


def show_conversation(arguments: argparse.Namespace, client: Client) -> int:
    """What was said in one, with what is known of the person."""
    said = list(client.every(client.conversation, arguments.key))
    about = next((c for c in client.every(client.conversations) if c.key == arguments.key), None)
    if not show(said, arguments.json):
        if about and about.summary:
            OUT.print(f"[dim]in short:[/] {escaped(about.summary)}")
        for name, value in (about.facts if about else {}).items():
            OUT.print(f"[dim]known:[/] {escaped(name)}: {escaped(value)}")
        for one in said:
            calls = ", ".join(c["function"]["name"] for c in one.message.get("tool_calls") or [])
            text = str(one.message.get("content") or "") or f"calls {calls}"
            who = f"{one.role} ({escaped(one.by)})" if one.by else one.role
            state = "" if one.state in (None, "sent") else f" [yellow]{one.state}[/]"
            why = f" [dim]{escaped(one.why)}[/]" if one.why else ""
            OUT.print(f"[dim]{one.seq} {moment(one.at)}[/] [bold]{who}[/]{state} {escaped(text)}{why}")
    return 0


def _handed(given: str, client: Client) -> Question:
    every = (one for one in client.every(client.tray, "open") if one.handed_over)
    return found(every, given, "conversation that was handed over", "see oak-relay tray")


def reply(arguments: argparse.Namespace, client: Client) -> int:
    """Say something in a conversation that was handed over."""
    seq = client.say(_handed(arguments.question, client).id, arguments.text)
    if not show({"seq": seq}, arguments.json):
        OUT.print("said; hand the conversation back with oak-relay answer")
    return 0


def judge(arguments: argparse.Namespace, client: Client) -> int:
    """`conversation judge`."""
    client.judge(arguments.key, arguments.seq, {"good": True, "bad": False}.get(arguments.good))
    if not show({"judged": arguments.seq}, arguments.json):
        print("Noted: it counts for the version that gave this answer.")
    return 0


def settle(arguments: argparse.Namespace, client: Client) -> int:
    """Say whether a message arrived."""
    client.settle(arguments.key, arguments.seq, arguments.how == "arrived")
    if not show({"settled": arguments.seq}, arguments.json):
        OUT.print("noted; what waits behind it goes on")
    return 0


def forget(arguments: argparse.Namespace, client: Client) -> int:
    """Remove a conversation and all that was said."""
    sure(arguments, f"Forget all that was said in {arguments.key}?")
    client.forget(arguments.key)
    if not show({"forgotten": arguments.key}, arguments.json):
        OUT.print(f"{escaped(arguments.key)} is forgotten")
    return 0
