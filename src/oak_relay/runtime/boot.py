"""What every process begins with: settings, the database, the vault, the registry, hints, the log."""

import asyncio
import contextlib
import logging
import sys
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from typing import TextIO, cast

import structlog

from oak_relay.actions.catalogue import offer
from oak_relay.runtime.cluster import Cluster
from oak_relay.runtime.hints import Hints
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.settings import Settings
from oak_relay.store import epoch
from oak_relay.store.database import Database
from oak_relay.store.tables import MAIN_WORKSPACE
from oak_relay.store.vault import Vault
from oak_relay.vault.sealing import master_key

MARK = "database.mark"
"""File in the data directory that tells how far the database had come."""
log = structlog.get_logger()


@dataclass(frozen=True)
class Base:
    """The common ground of a process."""

    settings: Settings
    database: Database
    registry: Registry
    hints: Hints


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
        vault = await Vault.open(
            database,
            MAIN_WORKSPACE,
            master_key(settings.key_file or settings.data_dir / "master.key", key),
            catalogue.credentials,
        )
        yield Base(settings, database, Registry(database, vault, catalogue), Hints(database))
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
            renderer,
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.INFO),
        logger_factory=structlog.PrintLoggerFactory(cast(TextIO, _Lines())),
    )
