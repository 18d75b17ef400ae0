"""What every process begins with: settings, the database, the vault, the registry, hints, the log."""

import asyncio
import contextlib
import logging
import re
import sys
from collections.abc import AsyncIterator, Callable, MutableMapping
from contextlib import asynccontextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TextIO, cast

import structlog

from oak_relay.actions.catalogue import offer
from oak_relay.runtime.cluster import Cluster
from oak_relay.runtime.hints import Hints
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.settings import Settings
from oak_relay.store import epoch
from oak_relay.store.database import Database
from oak_relay.store.keyring import Keyring
from oak_relay.store.tables import MAIN_WORKSPACE
from oak_relay.store.vault import Vault
from oak_relay.vault.blanking import Blanker
from oak_relay.vault.sealing import master_key

MARK = "database.mark"
"""File in the data directory that tells how far the database had come."""
_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")
log = structlog.get_logger()


@dataclass(frozen=True)
class Base:
    """The common ground of a process."""

    settings: Settings
    database: Database
    registry: Registry
    hints: Hints


def key_file(settings: Settings) -> Path:
    """Where the master key is kept."""
    return settings.key_file or settings.data_dir / "master.key"


def database_url(settings: Settings) -> str:
    """The address of the database; the own cluster is started when none is given."""
    if settings.database_url is not None:
        return settings.database_url.get_secret_value()
    return Cluster(settings.data_dir, settings.database_port).start()


@asynccontextmanager
async def base(settings: Settings, migrate: bool = True) -> AsyncIterator[Base]:
    """The common ground, its tables brought up to date."""
    direct = settings.database_direct_url
    database = Database(
        database_url(settings), pooled=settings.database_pooled, direct=direct.get_secret_value() if direct else None
    )
    database.mark = await asyncio.to_thread(epoch.read, settings.data_dir / MARK)
    try:
        if migrate:
            await database.migrate()
        key = settings.key.get_secret_value() if settings.key else None
        catalogue = offer().catalogue
        file = key_file(settings)
        keyring = await Keyring.open(database, MAIN_WORKSPACE, lambda: master_key(file, key))
        vault = Vault(keyring, catalogue.credentials)
        registry = Registry(database, vault, catalogue)
        _BLANKING.blanker = lambda: registry.now.blanker
        yield Base(settings, database, registry, Hints(database))
    finally:
        await database.close()


class _Lines:
    """Standard error, where a line that cannot be written, as on a full disk, is lost and harms nothing else."""

    def write(self, text: str) -> int:
        with contextlib.suppress(OSError, ValueError):
            sys.stderr.write(text)
        return len(text)

    def flush(self) -> None:
        with contextlib.suppress(OSError, ValueError):
            sys.stderr.flush()


class _Blanking:
    """Blanks what a line of the log says of all that is secret here, and writes control characters as escapes: the last
    that is done to it before it is written."""

    def __init__(self) -> None:
        self.blanker: Callable[[], Blanker] = lambda: Blanker(())

    def __call__(self, _logger: object, _method: str, line: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
        blanker = self.blanker()
        for key, said in line.items():
            shown = blanker.value(said if isinstance(said, str | int | float | None) else repr(said))
            line[key] = _CONTROL.sub(_escaped, shown) if isinstance(shown, str) else shown
        return line


def _escaped(found: re.Match[str]) -> str:
    return f"\\x{ord(found[0]):02x}"


_BLANKING = _Blanking()


class _Handler(logging.Handler):
    """Takes what libraries say into the same lines."""

    def emit(self, record: logging.LogRecord) -> None:
        said = structlog.get_logger(record.name)
        with contextlib.suppress(
            ValueError, TypeError
        ):  # words that do not fit what they are filled with: a library's fault
            said.log(record.levelno, record.getMessage(), exc_info=record.exc_info or None)


def set_up_log(settings: Settings) -> None:
    """Lines on standard error, for people or as JSON."""
    renderer = (
        structlog.processors.JSONRenderer()
        if settings.log_format == "json"
        else structlog.dev.ConsoleRenderer(colors=sys.stderr.isatty())
    )
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            _BLANKING,
            renderer,
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.INFO),
        logger_factory=structlog.PrintLoggerFactory(cast(TextIO, _Lines())),
    )
    logging.basicConfig(handlers=[_Handler()], level=logging.WARNING, force=True)
    for chatty in ("client", "mcp"):  # they log what strangers said; a call that fails tells it where it belongs
        logging.getLogger(chatty).setLevel(logging.CRITICAL + 1)
