"""`credential`: stored secrets, and apps that are let act for somebody. Secrets come from a prompt, standard input or the
environment, never from the command line."""

import argparse
import getpass
import json
import os
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from oak_relay.cli.asking import sure, takes_yes
from oak_relay.cli.output import ERR, OUT, escaped, marked, moment, show, shown, table
from oak_relay.cli.stored import group_of, named_by, secret_from, test_word, tested
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.client.results import Credential

_LOOK = 1.0
_PROVIDER = ("issuer", "authorize_url", "token_url", "revoke_url", "account_url", "client_id", "way", "named_issuer")


def add(commands: object, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    group: Any = group_of(commands, "credential", "stored secrets")
    parser = group.add_parser(
        "add", help="store one", epilog="examples: oak-relay credential add office --kind header --header X-API-Key; "
        "SECRET=… oak-relay credential add office --kind bearer --secret-from SECRET; pass show office | oak-relay credential add office; "
        "oak-relay credential add desk --kind oauth --client-file client.json --host office.example --scope bookings.read; "
        "oak-relay credential add ledger --kind certificate --from certificate=client.pem --ask key=client.key --host ledger.internal",
        description="The secret is asked for, or read from standard input, or from an environment variable: never from the command line. "
        "Of one that is there already a secret that is left empty stays as it is.",
    )  # fmt: skip
    parser.add_argument("name")
    parser.add_argument(
        "--kind",
        default="bearer",
        help="bearer, header, query, basic, fields, signing, oauth, certificate, mail, database, or one of a connector",
    )
    parser.add_argument(
        "--field",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="what else its kind takes; JSON where it is no text",
    )
    parser.add_argument(
        "--from", dest="files", action="append", default=[], metavar="NAME=FILE", help="a field, from a file"
    )
    parser.add_argument(
        "--ask",
        action="append",
        default=[],
        metavar="NAME[=FILE]",
        help="a secret field, asked for or from a file; secrets.NAME of the kind fields",
    )
    parser.add_argument("--header", help="for header: its name")
    parser.add_argument("--user", help="for basic: the user name")
    parser.add_argument(
        "--host",
        action="append",
        default=[],
        help="where it may be sent: office.example, office.example:8443, http://ledger.internal; without it the host of --test-url",
    )
    parser.add_argument("--test-url", default="", help="a harmless address that answers whoever may use it")
    parser.add_argument("--secret-from", metavar="VARIABLE", help="the environment variable that holds the secret")
    parser.add_argument(
        "--only-for", action="append", default=[], metavar="WORKFLOW", help="the only workflows that may use it"
    )
    parser.add_argument("--client-file", type=Path, metavar="FILE", help="for oauth: what the provider hands out")
    parser.add_argument("--issuer", default="", help="for oauth: the provider, by the address of its metadata")
    parser.add_argument("--scope", action="append", default=[], help="for oauth: what is asked for")
    parser.set_defaults(run=lambda a: add_credential(a, client(a)))
    _others(group, client)


def _others(group: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """What is done with one that is there."""
    group.add_parser("list", help="list them").set_defaults(run=lambda a: list_credentials(a, client(a)))
    named_by(group, "test", "use it once and see both sides", lambda a: tested(a, client(a).test_credential))
    named_by(group, "use", "what uses it", lambda a: use_cmd(a, client(a)))
    parser = named_by(
        group, "connect", "let an OAuth app act for an account, in a browser", lambda a: connect_cmd(a, client(a))
    )
    parser.add_argument("--no-wait", action="store_true", help="do not wait until it is connected")
    named_by(
        group,
        "disconnect",
        "forget its tokens, and tell the provider",
        lambda a: disconnect_cmd(a, client(a)),
        asks=True,
    )
    named_by(group, "ready", "its account has credit again: runs that wait go on", lambda a: ready_cmd(a, client(a)))
    takes_yes(named_by(group, "remove", "forget it", lambda a: remove_cmd(a, client(a))))


def add_credential(arguments: argparse.Namespace, client: Client) -> int:
    """Store a credential; its secrets come from standard input, files, a variable or a prompt."""
    given: dict[str, Any] = {"kind": arguments.kind}
    if arguments.host or arguments.kind not in ("mail", "database"):
        given |= {"hosts": arguments.host, "test_url": arguments.test_url}
    given |= {key: value for key in ("header", "user") if (value := getattr(arguments, key))}
    given |= {"workflows": arguments.only_for} if arguments.only_for else {}
    if arguments.client_file or arguments.issuer:
        given |= _of_provider(arguments, client)
    if arguments.scope:
        given["scopes"] = arguments.scope
    for name, _, value in (one.partition("=") for one in arguments.field):
        given[name] = _value(value)
    for name, _, file in (one.partition("=") for one in arguments.files):
        given[name] = _text(file)
    for name, _, file in (one.partition("=") for one in arguments.ask):
        _put(given, name, _text(file) if file else _asked(name))
    if not arguments.ask and "secret" not in given:
        given["password" if arguments.kind == "mail" else "url" if arguments.kind == "database" else "secret"] = (
            secret_from(arguments.secret_from)
        )
    stored = client.put_credential(arguments.name, **given)
    if not show(stored, arguments.json):
        connects = stored.connection is not None and stored.connection.state == "none"
        then = (
            f"Connect it: oak-relay credential connect {stored.name}"
            if connects
            else f"Try it: oak-relay credential test {stored.name}"
        )
        OUT.print(f"{stored.name} is stored. {then}")
    return 0


def _of_provider(arguments: argparse.Namespace, client: Client) -> dict[str, Any]:
    """An app's fields by its client file or its issuer."""
    file = _text(arguments.client_file) if arguments.client_file else ""
    found = client.look_at_provider(arguments.issuer, file)
    if found.registered is False:
        ERR.print(f"! {arguments.client_file} does not name the redirect address {found.redirect}: register it there")
    app = {name: value for name in _PROVIDER if (value := getattr(found, name))}
    return {**app, **({"secret": secret} if (secret := _client_secret(file)) else {})}


def _client_secret(file: str) -> str:
    try:
        data = json.loads(file) if file else {}
    except ValueError:
        return ""
    places = [data, *(one for one in data.values() if isinstance(one, dict))] if isinstance(data, dict) else []
    return next((one["client_secret"] for one in places if isinstance(one.get("client_secret"), str)), "")


def _value(text: str) -> object:
    """A field's value: JSON where that is a list, a mapping, a number or a truth value; else the text."""
    if text[:1] in ("[", "{") or text in ("true", "false"):
        try:
            return json.loads(text)
        except ValueError:
            return text
    return text


def _text(file: str | Path) -> str:
    try:
        return Path(file).read_text()
    except (OSError, UnicodeDecodeError) as error:
        raise OakRelayError(f"{file} cannot be read: {error}") from None


def _asked(name: str) -> str:
    variable = name.replace(".", "_").upper()
    if variable in os.environ:
        return os.environ[variable]
    return getpass.getpass(f"{name}: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")


def _put(given: dict[str, Any], name: str, value: str) -> None:
    outer, _, inner = name.partition(".")
    if inner:
        given.setdefault(outer, {})[inner] = value
    else:
        given[outer] = value


def list_credentials(arguments: argparse.Namespace, client: Client) -> int:
    """Credentials without their secrets."""
    listed = list(client.every(client.credentials))
    if not show(listed, arguments.json):
        rows = [
            (c.name, c.kind, ", ".join(c.places) or "nobody", moment(c.last_used_at), marked(_standing(c)))
            for c in listed
        ]
        heads = ("credential", "kind", "sent to", "last used", "how it stands")
        table(heads, rows, "No credentials yet: oak-relay credential add NAME")
    return 0


def _standing(one: Credential) -> str:
    connection = one.connection
    if connection is not None and connection.state == "none":
        return "[yellow]not connected[/]"
    if connection is not None and connection.state == "reconnect":
        return "[red]✗ needs reconnecting[/]"
    if connection is not None and connection.since is not None:
        return f"[green]✓ connected[/]{escaped(f' to {connection.account}') if connection.account else ''}"
    return test_word(one.last_test, one.last_worked_at is not None)


def use_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """What uses a credential."""
    use = client.credential_use(arguments.name)
    if show(use, arguments.json):
        return 0
    rows = [("workflow", one.name, "on" if one.on else "off") for one in use.workflows]
    rows += [("model", name, "") for name in use.models] + [("tool server", name, "") for name in use.servers]
    rows += [("mailbox", name, "") for name in use.credentials]
    table(("what", "name", ""), rows, "Nothing uses it.")
    if use.waiting:
        OUT.print(f"{use.waiting} run{'s wait' if use.waiting != 1 else ' waits'} for it")
    return 0


def connect_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Say where to consent, and wait until somebody has."""
    before = _connection(arguments.name, client)
    begun = client.begin_consent(arguments.name)
    if show(begun, arguments.json):
        return 0
    ERR.print("Open this in a browser in which you are signed in to the console:")
    OUT.print(begun.url, soft_wrap=True, markup=False, highlight=False)
    ERR.print(
        f"It asks for {', '.join(begun.scopes) or 'no scope'}. Its provider must know the address {begun.redirect}",
        style="dim",
    )
    ERR.print("A consent counts for whoever began it: sign in as who this token belongs to.", style="dim")
    while not arguments.no_wait:
        now = _connection(arguments.name, client)
        if now is not None and now.state == "ready" and (before is None or now.since != before.since):
            OUT.print(f"{arguments.name} is connected{f' to {now.account}' if now.account else ''}")
            return 0
        time.sleep(_LOOK)
    return 0


def _connection(name: str, client: Client) -> Any:
    found = next((one for one in client.every(client.credentials) if one.name == name), None)
    return found.connection if found is not None else None


def disconnect_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Forget what an app was let do."""
    sure(arguments, f"Disconnect {arguments.name}? Runs that need it wait until it is connected again.")
    client.forget_consent(arguments.name)
    if not show({"disconnected": arguments.name}, arguments.json):
        OUT.print(f"{arguments.name} is disconnected")
    return 0


def remove_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Forget a credential, when that is meant although something uses it."""
    use = client.credential_use(arguments.name)
    sure(arguments, shown(f"Remove the credential {arguments.name}? Of what uses it: {use.sentence}"))
    client.remove_credential(arguments.name, anyway=True)
    if not show({"removed": arguments.name}, arguments.json):
        OUT.print(f"{arguments.name} is removed")
    return 0


def ready_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Say that a credential's account has credit again."""
    ready = client.credential_ready(arguments.name)
    if not show(ready, arguments.json):
        OUT.print(f"{ready.waiting} run{'s' if ready.waiting != 1 else ''} waited for {arguments.name}")
    return 0
