"""Migrations as Alembic carries them out; a module of its own because most processes start with nothing to do here."""

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Connection

MIGRATIONS = Path(__file__).parent / "migrations"


def alembic_config(connection: Connection) -> Config:
    """Alembic's settings for a connection."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.attributes["connection"] = connection
    return config


def upgrade(connection: Connection) -> None:
    """Bring the tables to the newest revision."""
    command.upgrade(alembic_config(connection), "head")
