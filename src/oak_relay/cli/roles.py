"""`up`, `serve`, `work`, `tick`, `standins`: the processes.

What they need is imported when they run, so that the other commands start fast."""

import argparse
import asyncio
import gc
import os
import socket
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from oak_relay.runtime.settings import Settings


NAMES = ("up", "serve", "work", "tick", "standins", "password", "key")


def add(commands: Any) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser(
        "up", help="start everything: database, service and workers", description=up_cmd.__doc__
    )
    parser.add_argument("--workers", type=int, help="worker processes (setting: workers)")
    parser.set_defaults(run=up_cmd)
    commands.add_parser("serve", help="start the service alone", description=serve_cmd.__doc__).set_defaults(
        run=serve_cmd
    )
    commands.add_parser("work", help="start one worker alone", description=work_cmd.__doc__).set_defaults(run=work_cmd)
    commands.add_parser("tick", help="start one clock alone", description=tick_cmd.__doc__).set_defaults(run=tick_cmd)
    parser = commands.add_parser("standins", help="start the simulated outside world", description=standins_cmd.__doc__)
    parser.add_argument("--port", type=int, default=8471)
    parser.add_argument("--rules", default="demo/model", help="folder with the model stand-in's rules")
    parser.set_defaults(run=standins_cmd)
    parser = commands.add_parser("password", help="another password, on the service's own machine")
    parser = parser.add_subparsers(metavar="what", required=True).add_parser(
        "reset", help="make a new one and print it", description=password_cmd.__doc__
    )
    parser.add_argument("name", nargs="?", default="owner")
    parser.set_defaults(run=password_cmd)
    parser = commands.add_parser("key", help="another master key, on the service's own machine")
    group = parser.add_subparsers(metavar="what", required=True)
    parser = group.add_parser("rotate", help="replace it while everything runs", description=rotate_cmd.__doc__)
    parser.add_argument(
        "--new-key-from", metavar="VARIABLE", help="the next key, where OAK_RELAY_KEY gives the present one"
    )
    parser.add_argument(
        "--later",
        action="store_true",
        help="other machines have copies of the key file: finish when they have the new one",
    )
    parser.set_defaults(run=rotate_cmd)
    parser = group.add_parser("finish", help="the former key opens nothing any more", description=finish_cmd.__doc__)
    parser.set_defaults(run=finish_cmd)


def up_cmd(arguments: argparse.Namespace) -> int:
    """Start the database, the service and the workers, and keep them running until Ctrl-C."""
    from oak_relay.runtime.roles import up

    def start(settings: "Settings") -> int:
        if _taken(settings.host, settings.port):
            _say(f"[red]Port {settings.port} on {settings.host} is taken.[/] Set OAK_RELAY_PORT to another one.")
            return 1
        return asyncio.run(up(settings, settings.workers if arguments.workers is None else arguments.workers))

    return _with_settings(start)


def serve_cmd(_: argparse.Namespace) -> int:
    """Serve the API, the webhooks and the console."""
    import uvloop

    return _with_settings(lambda settings: uvloop.run(_serve(settings)))


def work_cmd(_: argparse.Namespace) -> int:
    """Walk runs until told to stop."""
    import uvloop

    from oak_relay.runtime.roles import work

    def start(settings: "Settings") -> None:
        _settle_memory()
        uvloop.run(work(settings))

    return _with_settings(start)


def tick_cmd(_: argparse.Namespace) -> int:
    """Fire schedules, look for new items, hand on events until told to stop."""
    import uvloop

    from oak_relay.runtime.roles import tick

    return _with_settings(lambda settings: uvloop.run(tick(settings)))


def password_cmd(arguments: argparse.Namespace) -> int:
    """Give somebody a new password and print it; all its sessions are ended, and wrong tries are forgotten. Works on the
    data directory or the database that the settings name, whether the service runs or not."""
    from oak_relay.runtime.passwords import reset

    def run(settings: "Settings") -> int:
        password = asyncio.run(reset(settings, arguments.name))
        if password is None:
            _say(f"[red]Nobody is called {arguments.name!r}.[/]")
            return 5
        sys.stdout.write(f"{password}\n")
        return 0

    return _with_settings(lambda settings: _with_database(settings, run))


def rotate_cmd(arguments: argparse.Namespace) -> int:
    """Make a new master key and seal every secret anew with it, whether the service runs or not. Stopped in between, it goes on
    when it is begun again. A key that is kept in a file is replaced there; where OAK_RELAY_KEY gives it, name the variable with
    the next one, give that to all processes, then finish."""
    from oak_relay.runtime.rotation import rotate

    def run(settings: "Settings") -> int:
        name = arguments.new_key_from
        if name and name not in os.environ:
            _say(f"[red]There is no environment variable {name}.[/]")
            return 2
        done = asyncio.run(rotate(settings, os.environ[name] if name else None, arguments.later))
        then = (
            "The former key opens nothing any more."
            if done.finished
            else ("Give the new key to all machines and processes; when they have it: oak-relay key finish")
        )
        sys.stdout.write(f"{done.sealed} secrets are sealed anew. {then}\n")
        return 0

    return _with_settings(lambda settings: _with_database(settings, run))


def finish_cmd(_: argparse.Namespace) -> int:
    """Once all processes have the new master key: the former one opens nothing any more."""
    from oak_relay.runtime.rotation import finish

    def run(settings: "Settings") -> int:
        asyncio.run(finish(settings))
        sys.stdout.write("The former key opens nothing any more.\n")
        return 0

    return _with_settings(lambda settings: _with_database(settings, run))


def _with_database(settings: "Settings", run: "Callable[[Settings], int]") -> int:
    """Do something on the database that the settings name, started for that alone where the service does not run."""
    from oak_relay.runtime.cluster import Cluster

    cluster = None if settings.database_url else Cluster(settings.data_dir, settings.database_port)
    if cluster is not None and not (cluster.data / "PG_VERSION").exists():
        _say(
            f"[red]There is no database in {settings.data_dir}.[/] Set OAK_RELAY_DATA_DIR to where the service keeps its data."
        )
        return 1
    ran = cluster is None or cluster.runs()
    try:
        return run(settings)
    finally:
        if cluster is not None and not ran:
            cluster.stop()


def _with_settings(start: "Callable[[Settings], int | None]") -> int:
    """Run a role; what keeps it from starting is said without a traceback."""
    from pydantic import ValidationError

    from oak_relay.runtime.boot import set_up_log
    from oak_relay.runtime.cluster import ClusterError
    from oak_relay.runtime.settings import Settings
    from oak_relay.store.database import DatabaseLost
    from oak_relay.vault.sealing import KeyProblem

    try:
        settings = Settings()
        set_up_log(settings)
        return start(settings) or 0
    except ValidationError as error:
        for problem in error.errors():
            _say(f"[red]OAK_RELAY_{str(problem['loc'][0]).upper()}:[/] {problem['msg']}")
        return 2
    except (ClusterError, KeyProblem, DatabaseLost) as error:
        _say(f"[red]{error}[/]")
        return 1


def standins_cmd(arguments: argparse.Namespace) -> int:
    """Start the model, the booking office and their page of what they received, on loopback."""
    import uvicorn

    from oak_relay.standins.app import create_app

    _say(f"Stand-ins at http://127.0.0.1:{arguments.port} (what they received: /received)")
    uvicorn.run(create_app(arguments.rules), host="127.0.0.1", port=arguments.port, log_level="warning")
    return 0


async def _serve(settings: "Settings") -> None:
    import uvicorn

    from oak_relay.runtime.boot import base
    from oak_relay.runtime.roles import watch_parent
    from oak_relay.service.app import create_app
    from oak_relay.service.connections import GuardedProtocol

    async with base(settings) as ground:
        app = create_app(ground, lambda line: print(line, file=sys.stderr, flush=True))
        config = uvicorn.Config(
            app, host=settings.host, port=settings.port, loop="uvloop", http=GuardedProtocol, log_level="warning",
            access_log=False, timeout_graceful_shutdown=5, server_header=False, log_config=None,
            proxy_headers=bool(settings.proxies), forwarded_allow_ips=settings.proxies,
        )  # fmt: skip
        server = uvicorn.Server(config)
        _settle_memory()
        watch_parent(lambda: setattr(server, "should_exit", True))
        await server.serve()


def _settle_memory() -> None:
    """What is loaded stays: the collector need not look at it again, and looks less often at the rest."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)


def _say(line: str) -> None:
    from oak_relay.cli.output import ERR

    ERR.print(line)


def _taken(host: str, port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError:
            return True
    return False
