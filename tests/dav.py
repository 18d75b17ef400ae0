"""A server of files (WebDAV), and one that gives no strong entity tag, for linked tables."""

import base64
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from cheroot import wsgi
from wsgidav.wsgidav_app import WsgiDAVApp

USER, PASSWORD = "warden", "seven larches"


@contextmanager
def serving(app: Any) -> Iterator[str]:
    server = wsgi.Server(("127.0.0.1", 0), app, numthreads=20)
    server.prepare()
    threading.Thread(target=server.serve, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.bind_addr[1]}"
    finally:
        server.stop()


@contextmanager
def folder(place: Path) -> Iterator[str]:
    """The address of a server with the files of a folder."""
    app = WsgiDAVApp(
        {
            "provider_mapping": {"/": str(place)},
            "simple_dc": {"user_mapping": {"*": {USER: {"password": PASSWORD}}}},
            "http_authenticator": {"accept_basic": True, "accept_digest": False, "default_to_digest": False},
            "verbose": 0, "logging": {"enable": False},
        }
    )  # fmt: skip
    with serving(app) as url:
        yield url


@contextmanager
def without(place: Path, changed: Callable[[list[tuple[str, str]]], list[tuple[str, str]]]) -> Iterator[str]:
    """The same by a server that has no locks, and changes the headers of its answers."""
    inner = WsgiDAVApp({"provider_mapping": {"/": str(place)}, "simple_dc": {"user_mapping": {"*": True}}, "lock_storage": False, "verbose": 0, "logging": {"enable": False}})  # fmt: skip

    def app(environ: dict[str, Any], start: Any) -> Any:
        return inner(environ, lambda status, headers, *rest: start(status, changed(headers), *rest))

    with serving(app) as url:
        yield url


def basic() -> str:
    return "Basic " + base64.b64encode(f"{USER}:{PASSWORD}".encode()).decode()
