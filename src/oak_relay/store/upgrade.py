"""Migrations as Alembic carries them out; a module of its own because most processes start with nothing to do here."""

from alembic import command
from alembic.config import Config
from sqlalchemy import Connection

from oak_relay.store.revisions import MIGRATIONS


def alembic_config(connection: Connection) -> Config:
    """Alembic's settings for a connection."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["connection"] = connection
    return config


def upgrade(connection: Connection) -> None:
    """Bring the tables to the newest revision."""
    command.upgrade(alembic_config(connection), "head")
