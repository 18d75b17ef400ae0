"""`model`, `table`, `token`, `session`: what is stored. Secrets come from a prompt, standard input or the environment."""

import argparse
import getpass
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from oak_relay import jsontext
from oak_relay.cli.asking import WrongUse, sure, takes_yes
from oak_relay.cli.files import into_file
from oak_relay.cli.finding import END, found
from oak_relay.cli.output import (
    ERR,
    OUT,
    escaped,
    moment,
    more,
    plainly,
    print_json,
    show,
    show_page,
    shown,
    table,
    working,
)
from oak_relay.cli.workflows import said
from oak_relay.client import Client
from oak_relay.client.errors import Invalid, OakRelayError
from oak_relay.client.results import Can, Test


def add(commands: object, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    _model(group_of(commands, "model", "names for models"), client)
    _table(group_of(commands, "table", "rows kept here"), client)
    _token(group_of(commands, "token", "tokens for clients"), client)
    _session(group_of(commands, "session", "who is signed in"), client)


def group_of(commands: Any, name: str, help: str) -> object:
    """A command that has others in it."""
    return commands.add_parser(name, help=help).add_subparsers(metavar="what", required=True)


def _model(group: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    parser = group.add_parser(
        "connect",
        help="connect one by its address and key; the rest is found out",
        epilog="examples: oak-relay model connect; oak-relay model connect http://127.0.0.1:8080 --name quick; "
        "KEY=… oak-relay model connect https://models.example --key-from KEY --model larch-small --name careful",
        description="Without an address the model servers of the service's machine are listed. A key is asked for when the "
        "server wants one, or read from an environment variable: never from the command line.",
    )
    parser.add_argument("address", nargs="?", help="of the server, with or without its version")
    parser.add_argument("--name", help="of the alias; quick when left out, while there is none of that name")
    parser.add_argument("--model", help="one that it offers; asked for when left out and there are several")
    parser.add_argument("--key-from", metavar="VARIABLE", help="environment variable that holds its key")
    parser.add_argument("--credential", help="a stored credential in the place of a key")
    parser.add_argument("--price-in", type=float, help="money per million tokens read, where the server does not tell")
    parser.add_argument("--price-out", type=float, help="money per million tokens written")
    parser.set_defaults(run=lambda a: connect_model(a, client(a)))
    parser = group.add_parser(
        "add",
        help="store one",
        epilog="example: oak-relay model add quick --url http://127.0.0.1:8471/v1 --model larch-small --credential models",
    )
    parser.add_argument("name")
    parser.add_argument("--url", dest="address", required=True, help="the server's base address, with its version")
    parser.add_argument("--model", required=True, help="the model's name on that server")
    parser.add_argument("--credential")
    parser.add_argument("--price-in", type=float, help="money per million tokens read; left out: not known, 0: free")
    parser.add_argument("--price-cached", type=float, help="of tokens that were cached, if they cost less")
    parser.add_argument("--price-out", type=float, help="money per million tokens written")
    parser.add_argument("--max-tokens", type=int, default=1024)
    parser.add_argument(
        "--fallback", action="append", default=[], help="an alias that is asked when it is not available"
    )
    parser.add_argument(
        "--takes", action="append", default=[], choices=("images", "files"), help="what its model takes beside text"
    )
    parser.add_argument("--unseen", action="store_true", help="also when its server does not offer the model")
    parser.set_defaults(run=lambda a: add_model(a, client(a)))
    group.add_parser("list", help="list them").set_defaults(run=lambda a: list_models(a, client(a)))
    named_by(group, "test", "ask it something trivial", lambda a: tested(a, client(a).test_model))
    named_by(group, "remove", "forget it", lambda a: removed(a, "model alias", client(a).remove_model), asks=True)


def connect_model(arguments: argparse.Namespace, client: Client) -> int:
    """Connect a model; or say what could be connected."""
    if not arguments.address:
        with working("looking for model servers on the service's machine …"):
            found = client.nearby_models()
        if not show(found, arguments.json):
            rows = [(s.url, ", ".join(m.id for m in s.models) or ("asks for a key" if s.keyed else "–")) for s in found]
            table(
                ("server", "offers"),
                rows,
                "No model server answers on the service's machine. Name one: oak-relay model connect ADDRESS",
            )
        return 0
    key = os.environ.get(arguments.key_from, "") if arguments.key_from else ""
    if arguments.key_from and not key:
        ERR.print(f"the environment variable {arguments.key_from} holds nothing")
        return 2
    try:
        server = client.look_at_models(arguments.address, key, arguments.credential)
    except Invalid as refused:
        if refused.kind != "denied" or key or arguments.credential or not sys.stdin.isatty():
            raise
        key = getpass.getpass(f"Key of {arguments.address}: ")
        server = client.look_at_models(arguments.address, key, arguments.credential)
    offered = [m for m in server.models if m.purpose == "chat"] or server.models
    model = arguments.model or (offered[0].id if len(offered) == 1 else _chosen([m.id for m in offered]))
    if model is None:
        ERR.print(f"which model? name one with --model: {', '.join(m.id for m in offered) or 'the server lists none'}")
        return 2
    prices = None
    if arguments.price_in is not None or arguments.price_out is not None:
        prices = {"input": arguments.price_in or 0, "output": arguments.price_out or 0}
    name = arguments.name or _free_name([a.name for a in client.every(client.models)])
    with working(f"finding out what {model} can do …"):
        done = client.connect_model(name, server.url, model, key, arguments.credential, prices)
    if not show(done, arguments.json):
        OUT.print(f"[bold]{escaped(name)}[/] is {escaped(model)} at {escaped(server.url)}")
        if done.credential and key:
            OUT.print(f"its key is the credential [bold]{escaped(done.credential)}[/]")
        OUT.print(f"it said: {escaped(done.test.reply)}")
        for line in abilities(done.alias.config.can):
            OUT.print(f"  {line}")
        if done.alias.config.prices is None:
            OUT.print(
                "[yellow]its price is not known[/], so money cannot be limited where it is used: --price-in and --price-out"
            )
    return 0


def abilities(can: Can) -> list[str]:
    """What a model server can do, a line each."""
    answers = {
        "schema": "takes a JSON Schema for its answer",
        "object": "gives JSON; the schema is told in words",
        "text": "gives text alone; JSON is asked for in words, and read from what it says",
    }
    words = [answers[can.answers]] if can.answers else []
    if can.tools is not None:
        words.append(
            ("calls tools" + (", several at once" if can.parallel else ""))
            if can.tools
            else "knows no tools: they are told in words"
        )
    if can.stream is not None:
        words.append("tells answers while they are written" if can.stream else "gives answers whole")
    if can.usage is not None:
        words.append("counts tokens" if can.usage else "does not count tokens: they are estimated")
    return words


def _chosen(names: list[str]) -> str | None:
    if not sys.stdin.isatty() or not names:
        return None
    for number, name in enumerate(names, 1):
        OUT.print(f"{number:3} {escaped(name)}")
    said = input("Which one? ").strip()
    return names[int(said) - 1] if said.isdigit() and 0 < int(said) <= len(names) else said if said in names else None


def _free_name(taken: list[str]) -> str:
    return next(name for name in ("quick", "careful", *(f"model-{n}" for n in range(1, 10_000))) if name not in taken)


def add_model(arguments: argparse.Namespace, client: Client) -> int:
    """Store a model alias."""
    given_prices = {"input": arguments.price_in, "cached": arguments.price_cached, "output": arguments.price_out}
    prices = {name: price for name, price in given_prices.items() if price is not None} or None
    stored = client.put_model(
        arguments.name,
        url=arguments.address,
        model=arguments.model,
        credential=arguments.credential,
        prices=prices,
        max_tokens=arguments.max_tokens,
        fallbacks=arguments.fallback,
        takes=arguments.takes,
        unseen=arguments.unseen,
    )
    if not show(stored, arguments.json):
        OUT.print(f"{stored.name} is {stored.config.model}. Try it: oak-relay model test {stored.name}")
    return 0


def list_models(arguments: argparse.Namespace, client: Client) -> int:
    """Model aliases with their prices."""
    listed = list(client.every(client.models))
    if not show(listed, arguments.json):
        rows = [
            (
                a.name,
                a.config.model,
                a.config.url,
                a.config.credential or "–",
                *((p.input, p.output) if (p := a.config.prices) else ("unknown", "unknown")),
            )
            for a in listed
        ]
        table(
            ("alias", "model", "server", "credential", ">in /M", ">out /M"),
            rows,
            "No models yet: oak-relay model connect",
        )
    return 0


def _table(group: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    parser = group.add_parser(
        "create", help="make one", epilog="example: oak-relay table create huts name valley bunks:number"
    )
    parser.add_argument("name")
    parser.add_argument("columns", nargs="+", metavar="COLUMN[:TYPE]", help="types: text, number, boolean, any")
    parser.set_defaults(run=lambda a: create_table(a, client(a)))
    group.add_parser("list", help="list them").set_defaults(run=lambda a: list_tables(a, client(a)))
    parser = named_by(group, "rows", "show rows", lambda a: list_rows(a, client(a)))
    parser.epilog = """example: oak-relay table rows huts --where '{"free": {"above": 3}}' --order=-free"""
    parser.add_argument("--text", help="words that a row has")
    parser.add_argument("--newest", action="store_true", help="the newest first")
    parser.add_argument("--where", help="which rows, as in table.find, as JSON")
    parser.add_argument(
        "--order", action="append", default=[], metavar="COLUMN", help="by this column; -COLUMN from the greatest down"
    )
    parser.add_argument("--limit", type=int, default=50)
    parser.add_argument("--after", help="the next page: what the one before says below")
    parser = named_by(group, "add", "add rows from JSON on standard input", lambda a: add_rows(a, client(a)))
    named_by(
        group,
        "remove",
        "remove it with its rows",
        lambda a: removed(a, "table, with all its rows,", client(a).drop_table),
        asks=True,
    )
    parser = named_by(group, "link", "make one whose rows live elsewhere", lambda a: link_table(a, client(a)))
    parser.epilog = "examples: oak-relay table link stays --database ledger --of stays; oak-relay table link bunks --file https://files.example/bunks.xlsx --credential files --key hut"
    parser.add_argument("--database", metavar="CREDENTIAL", help="a database, by its stored credential")
    parser.add_argument("--of", help="the table in it, as stays or stock.stays")
    parser.add_argument("--file", metavar="URL", help="a file on a server (WebDAV): CSV or a workbook")
    parser.add_argument("--credential", help="a stored credential for the file")
    parser.add_argument("--sheet", default="", help="the sheet of a workbook; the first when left out")
    parser.add_argument("--operations", metavar="FILE", help="operations of a connector, as JSON (see docs/tables.md)")
    parser.add_argument(
        "--key", action="append", default=[], metavar="COLUMN", help="columns that tell one row from all others"
    )
    parser = named_by(
        group, "import", "take rows of a file: CSV, JSON Lines, a workbook", lambda a: import_table(a, client(a))
    )
    parser.epilog = "examples: oak-relay table import huts huts.csv --create --check; oak-relay table import huts huts.xlsx --match name"
    parser.add_argument("file", help="a file, or - for standard input")
    parser.add_argument("--create", action="store_true", help="make the table, with the types that are guessed")
    parser.add_argument(
        "--match", action="append", default=[], metavar="COLUMN", help="update rows with the same values there"
    )
    parser.add_argument(
        "--map", action="append", default=[], metavar="HEAD=COLUMN", help="what a head means; HEAD= leaves it out"
    )
    parser.add_argument(
        "--kind", choices=["csv", "jsonl", "xlsx"], default="", help="what it is, where its name does not tell"
    )
    parser.add_argument("--sheet", default="", help="the sheet of a workbook; the first when left out")
    parser.add_argument("--check", action="store_true", help="only show what would be done")
    parser = named_by(group, "export", "print all rows as CSV, or write a file", lambda a: export_table(a, client(a)))
    parser.add_argument("--kind", choices=["csv", "jsonl", "xlsx"], default="csv")
    parser.add_argument("--into", help="a file, in the place of standard output")


def link_table(arguments: argparse.Namespace, client: Client) -> int:
    """Make a table whose rows live elsewhere; show its columns."""
    link: dict[str, object]
    if sum(one is not None for one in (arguments.database, arguments.file, arguments.operations)) != 1:
        raise WrongUse("say where its rows are: --database, --file or --operations")
    if arguments.operations is not None:
        try:
            link = jsontext.loads(Path(arguments.operations).read_text())
        except (OSError, ValueError) as error:
            raise OakRelayError(f"{arguments.operations} cannot be read: {error}") from None
        link = {"kind": "operations", **link} if isinstance(link, dict) else {}
    elif arguments.file is not None:
        link = {"kind": "file", "url": arguments.file, "credential": arguments.credential, "sheet": arguments.sheet}
    else:
        schema, _, name = (arguments.of or arguments.name).rpartition(".")
        link = {"kind": "database", "credential": arguments.database, "schema": schema or "public", "table": name}
    columns = link.pop("columns", None)
    if arguments.key:
        link["key"] = arguments.key
    made = client.link_table(arguments.name, link, columns if isinstance(columns, dict) else None)
    if not show(made, arguments.json):
        told = (made.link or {}).get("key")
        key = (
            ", ".join(map(str, told))
            if isinstance(told, list) and told
            else "none: a row that is added again is there twice"
        )
        listed = ", ".join(f"{c['name']}:{c['type']}" for c in made.columns)
        OUT.print(f"{made.name} is linked: {escaped(listed)}\nkey: {escaped(key)}")
    return 0


def import_table(arguments: argparse.Namespace, client: Client) -> int:
    """Take rows of a file into a table; show what its columns mean."""
    try:
        source = sys.stdin.buffer.read() if arguments.file == "-" else Path(arguments.file)
        mapped = dict(one.partition("=")[::2] for one in arguments.map)
        done = client.import_rows(
            arguments.name,
            source,
            mapped,
            arguments.match,
            arguments.create,
            arguments.check,
            arguments.kind,
            arguments.sheet,
        )
    except OSError as error:
        raise OakRelayError(f"{arguments.file} cannot be read: {error}") from None
    if show(done, arguments.json):
        return 1 if done.faults else 0
    table(
        ("head", "column", "type", "for example"),
        [(c.head, c.name, c.type, ", ".join(c.seen)) for c in done.columns],
        "",
    )
    for fault in done.faults[:20]:
        OUT.print(f"[red]line {fault.line}[/]: {escaped(fault.message)}")
    if arguments.check:
        made = "the table would be made, and " if done.created else ""
        OUT.print(
            f"{made}{done.rows - len(done.faults)} of {done.rows} rows would be taken. Nothing was done: leave --check out."
        )
    else:
        OUT.print(f"{done.added} rows added, {done.updated} updated")
    return 1 if done.faults else 0


def export_table(arguments: argparse.Namespace, client: Client) -> int:
    """Print all rows as CSV (RFC 4180), as JSON, or as another kind of file."""
    if arguments.json and arguments.kind == "csv" and not arguments.into:
        show([row.row for row in client.every(client.rows, arguments.name, limit=1000)], True)
        return 0
    pieces = client.export_rows(arguments.name, arguments.kind)
    if arguments.into:
        into_file(Path(arguments.into), pieces)
        if not show({"path": arguments.into}, arguments.json):
            OUT.print(f"written to {escaped(arguments.into)}")
    elif arguments.kind == "xlsx":
        raise OakRelayError("a workbook is no text: name a file with --into")
    else:
        plainly(b"".join(pieces).decode())
    return 0


def create_table(arguments: argparse.Namespace, client: Client) -> int:
    """Make a table."""
    columns = {name: kind or "text" for name, _, kind in (c.partition(":") for c in arguments.columns)}
    made = client.create_table(arguments.name, columns)
    if not show(made, arguments.json):
        OUT.print(f"{made.name} is there, with {', '.join(columns)}")
    return 0


def list_tables(arguments: argparse.Namespace, client: Client) -> int:
    """Tables kept here."""
    listed = list(client.every(client.tables))
    if not show(listed, arguments.json):
        rows = [(t.name, t.rows, ", ".join(f"{c['name']}:{c['type']}" for c in t.columns)) for t in listed]
        table(("table", ">rows", "columns"), rows, "No tables yet: oak-relay table create NAME COLUMN …")
    return 0


def list_rows(arguments: argparse.Namespace, client: Client) -> int:
    """Rows of a table."""
    try:
        where = jsontext.loads(arguments.where) if arguments.where else {}
    except ValueError as error:
        raise WrongUse(f"--where is no JSON: {error}") from None
    if not isinstance(where, dict):
        raise WrongUse("""--where wants a mapping of columns, as {"free": {"above": 3}}""")
    rows = client.rows(
        arguments.name, arguments.limit, arguments.after, arguments.text, arguments.newest, where, arguments.order
    )
    if not show_page(rows, arguments.json):
        heads = list(dict.fromkeys(key for r in rows for key in r.row))
        table(heads or ["row"], [[_cell(r.row.get(h)) for h in heads] for r in rows], "No rows.")
        more(rows)
    return 0


def add_rows(arguments: argparse.Namespace, client: Client) -> int:
    """Add rows of a file or of standard input, JSON or JSON Lines."""
    try:
        rows = jsontext.loads(sys.stdin.read())
    except ValueError as error:
        raise OakRelayError(f"standard input is not JSON: {error}") from None
    added = client.add_rows(arguments.name, rows if isinstance(rows, list) else [rows])
    if not show(added, arguments.json):
        OUT.print(f"{added['added']} rows added")
    return 0


def _token(group: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    parser = named_by(group, "add", "make one; it is shown this once", lambda a: add_token(a, client(a)))
    parser.add_argument("--days", type=int, help="after how many days it is over; never when left out")
    parser.add_argument(
        "--right",
        action="append",
        metavar="RIGHT",
        help="what it may: read, answer, run, write, store, manage; all when left out",
    )
    parser.add_argument("--workflow", action="append", metavar="NAME", help="the only workflows it is for")
    group.add_parser("list", help="list them").set_defaults(run=lambda a: list_tokens(a, client(a)))
    named_by(group, "remove", "revoke one, by its id or the end of it", lambda a: token_remove(a, client(a)), asks=True)


def _session(group: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    group.add_parser("list", help="list them").set_defaults(run=lambda a: list_sessions(a, client(a)))
    named_by(group, "end", "end one, by its id or the end of it", lambda a: session_end(a, client(a)), asks=True)


def session_end(arguments: argparse.Namespace, client: Client) -> int:
    """End a session: who uses it signs in again."""
    one = found(client.every(client.sessions), arguments.name, "session", "see oak-relay session list")
    return removed(arguments, "session", lambda _: client.end_session(str(one.id)))


def token_remove(arguments: argparse.Namespace, client: Client) -> int:
    """Revoke a token: who uses it is refused from now on."""
    one = found(client.every(client.tokens), arguments.name, "token", "see oak-relay token list")
    return removed(arguments, "token", lambda _: client.remove_token(str(one.id)))


def list_sessions(arguments: argparse.Namespace, client: Client) -> int:
    """Open sessions, and where they were begun."""
    listed = list(client.every(client.sessions))
    if not show(listed, arguments.json):
        rows = [(str(s.id)[-END:], s.address, s.agent, moment(s.created_at), moment(s.last_used_at)) for s in listed]
        table(("session", "from", "browser", "begun", "last used"), rows, "Nobody is signed in.")
    return 0


def add_token(arguments: argparse.Namespace, client: Client) -> int:
    """Make a token; its secret is shown this once."""
    made = client.add_token(arguments.name, arguments.days, arguments.right, arguments.workflow)
    if not show(made, arguments.json):
        OUT.print(f"{made.secret}", markup=False)
        OUT.print("It is not shown again. Use it as OAK_RELAY_TOKEN.", style="dim")
    return 0


def list_tokens(arguments: argparse.Namespace, client: Client) -> int:
    """Tokens without their secrets."""
    listed = list(client.every(client.tokens))
    if not show(listed, arguments.json):
        rows = [
            (
                t.name,
                str(t.id)[-END:],
                ", ".join(t.rights or ["all"]) + (f" of {', '.join(t.workflows)}" if t.workflows else ""),
                moment(t.created_at),
                moment(t.last_used_at),
                moment(t.expires_at) if t.expires_at else "no end",
            )
            for t in listed
        ]
        table(("token", "id", "may", "made", "last used", "until"), rows, "No tokens.")
    return 0


def tested(arguments: argparse.Namespace, test: Callable[[str], Test]) -> int:
    """Show a test and both sides of what was said."""
    with working(f"trying {arguments.name}"):
        found = test(arguments.name)
    if show(found, arguments.json):
        return 0 if found.ok else 1
    OUT.print(f"{'[green]✓[/]' if found.ok else '[red]✗[/]' if found.tried else '–'} ", end="")
    OUT.print(shown(found.sentence), markup=False)
    asked = "\n".join(said(one) for one in found.messages) if isinstance(found.messages, list) else ""
    for word, value in (
        ("asked", asked),
        ("what to do", found.fix),
        ("it said", found.reply),
        ("offered", ", ".join(found.offered)),
    ):
        if value:
            OUT.print(f"[dim]{word}:[/] ", end="")
            OUT.print(shown(value), markup=False)
    for side in ("request", "response"):
        if found.exchange and found.exchange.get(side):
            OUT.print(f"[dim]{side}[/]")
            print_json(found.exchange[side])
    return 0 if found.ok else 1


def removed(arguments: argparse.Namespace, what: str, remove: Callable[[str], None]) -> int:
    """Remove something by its name when that is meant, and say so."""
    sure(arguments, f"Remove the {what} {arguments.name}?")
    remove(arguments.name)
    if not show({"removed": arguments.name}, arguments.json):
        OUT.print(f"{arguments.name} is removed")
    return 0


def named_by(
    group: Any, name: str, help: str, run: Callable[[argparse.Namespace], int], asks: bool = False
) -> argparse.ArgumentParser:
    parser: argparse.ArgumentParser = group.add_parser(name, help=help)
    parser.add_argument("name")
    if asks:
        takes_yes(parser)
    parser.set_defaults(run=run)
    return parser


def secret_from(variable: str | None) -> str:
    if variable:
        if variable not in os.environ:
            raise OakRelayError(f"there is no environment variable {variable}")
        return os.environ[variable]
    if sys.stdin.isatty():
        return getpass.getpass("secret: ")
    return sys.stdin.readline().rstrip("\n")


def test_word(test: dict[str, object] | None, worked: bool = False) -> str:
    if test is None or not test.get("tried", True):
        return "–" if test is None else "[dim]not tried[/]"
    return "[green]✓ works[/]" if test["ok"] else "[yellow]! calls work[/]" if worked else "[red]✗ failed[/]"


def _cell(value: object) -> str:
    return "" if value is None else value if isinstance(value, str) else jsontext.dumps(value)
