"""`file`: files that are kept by the service."""

import argparse
import sys
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from oak_relay.cli.asking import WrongUse
from oak_relay.cli.output import ERR, OUT, escaped, moment, more, show, show_page, table
from oak_relay.client import Client
from oak_relay.client.results import File


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of this command."""
    group = commands.add_parser("file", help="files that runs are given and give").add_subparsers(
        metavar="what", required=True
    )
    parser = group.add_parser(
        "add", help="keep one", epilog="example: oak-relay file add hut.jpg; its value is what a workflow is given"
    )
    parser.add_argument("path", type=Path, help="- for standard input")
    parser.add_argument("--name", default="", help="what it is called, when otherwise than here")
    parser.add_argument("--type", default="", help="its media type, when its name does not tell")
    parser.set_defaults(run=lambda a: add_file(a, client(a)))
    parser = group.add_parser("list", help="list them, the newest first")
    parser.add_argument("--limit", type=int, default=50)
    parser.add_argument("--after", help="the next page: what the one before says below")
    parser.set_defaults(run=lambda a: list_files(a, client(a)))
    parser = group.add_parser("show", help="what is known of one, and which runs hold it")
    parser.add_argument("id")
    parser.set_defaults(run=lambda a: show_file(a, client(a)))
    parser = group.add_parser("get", help="write one to this machine")
    parser.add_argument("id")
    parser.add_argument(
        "path", nargs="?", type=Path, help="where to; under its own name when left out, - for standard output"
    )
    parser.add_argument("--over", action="store_true", help="also over a file that is there")
    parser.set_defaults(run=lambda a: get_file(a, client(a)))
    parser = group.add_parser("address", help="an address at which it is read without signing in, for a while")
    parser.add_argument("id")
    parser.add_argument("--minutes", type=int, default=60)
    parser.set_defaults(run=lambda a: address_cmd(a, client(a)))


def address_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Make an address of a file for whoever is given it."""
    made = client.file_address(arguments.id, arguments.minutes)
    if not show(made, arguments.json):
        OUT.print(made.url, soft_wrap=True, markup=False, highlight=False)
        ERR.print(f"until {moment(made.until)}; whoever has it has the file", style="dim")
    return 0


def add_file(arguments: argparse.Namespace, client: Client) -> int:
    """Keep a file of this machine, or standard input."""
    path: Path = arguments.path
    if str(path) == "-":
        source: Any = iter(lambda: sys.stdin.buffer.read(256 * 1024), b"")
        kept = client.add_file(source, arguments.name or "file", arguments.type)
    else:
        if not path.is_file():
            raise WrongUse(f"{path} is no file")
        kept = client.add_file(path, arguments.name, arguments.type)
    if not show(kept, arguments.json):
        OUT.print(f"{escaped(kept.name)} is kept, {_size(kept.size)} of {escaped(kept.type)}: {kept.file}")
    return 0


def list_files(arguments: argparse.Namespace, client: Client) -> int:
    """Files, the newest first."""
    page = client.files(arguments.limit, arguments.after)
    if not show_page(page, arguments.json):
        rows = [(str(one.file), one.name, one.type, _size(one.size), moment(one.created_at)) for one in page]
        table(("file", "name", "type", "size", "kept"), rows, "No files yet: oak-relay file add PATH")
        more(page)
    return 0


def show_file(arguments: argparse.Namespace, client: Client) -> int:
    """What is known of a file."""
    found = client.file(arguments.id)
    if not show(found, arguments.json):
        OUT.print(
            f"{escaped(found.name)}, {_size(found.size)} of {escaped(found.type)}, kept {moment(found.created_at)}"
        )
        OUT.print(f"SHA-256 {found.digest}", style="dim", soft_wrap=True)
        for run in found.runs:
            OUT.print(f"held by the run {run}")
        for row in found.rows:
            OUT.print(f"held by a row of the table {escaped(row.table)}: {row.row}")
        for one in found.samples:
            OUT.print(f"held by the sample {escaped(one.sample)} of {escaped(one.workflow)}")
        if not (found.runs or found.rows or found.samples):
            OUT.print("Nothing holds it: it goes when that is so for two days.")
    return 0


def into_file(path: Path, pieces: Iterable[bytes]) -> None:
    """Write a file, whole or not at all."""
    fresh = path.with_name(f".{path.name}.coming")
    try:
        with fresh.open("wb") as opened:
            for piece in pieces:
                opened.write(piece)
        fresh.replace(path)
    finally:
        fresh.unlink(missing_ok=True)


def get_file(arguments: argparse.Namespace, client: Client) -> int:
    """Write a file to this machine; whole or not at all."""
    known: File = client.file(arguments.id)
    path: Path = arguments.path or Path(_name(known.name))
    if str(path) == "-":
        for piece in client.read_file(known.file):
            sys.stdout.buffer.write(piece)
        sys.stdout.buffer.flush()
        return 0
    if path.is_dir():
        path = path / _name(known.name)
    if path.exists() and not arguments.over:
        raise WrongUse(f"{path} is there already; say --over, or another place")
    into_file(path, client.read_file(known.file))
    if not show({"path": str(path), "size": known.size}, arguments.json):
        OUT.print(f"{escaped(str(path))}: {_size(known.size)}")
    return 0


def _name(told: str) -> str:
    """A file's name as it may stand in a folder here."""
    name = Path(told.replace("\\", "/")).name
    return name if name.strip(".") and "\0" not in name else "file"


def _size(size: int) -> str:
    return (
        f"{size:,} bytes"
        if size < 10_000
        else f"{size / 1000:,.0f} kB"
        if size < 10_000_000
        else f"{size / 1e6:,.0f} MB"
    )
