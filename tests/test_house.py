"""The house rules: layers, types of the migrations, no leftovers."""

import re
import subprocess
import sys
from pathlib import Path

from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.runtime.migration import MigrationContext
from sqlalchemy import text

from oak_relay.store.database import Database, alembic_config
from oak_relay.store.tables import metadata
from tests.conftest import ROOT


def test_the_layers_hold():
    done = subprocess.run(
        [str(Path(sys.executable).parent / "lint-imports"), "--no-cache"],
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stdout[-2000:]


def test_the_code_is_clean():
    for tool in (
        ["ruff", "check", "src", "tests", "bench", "demo"],
        ["ruff", "format", "--check", "src", "tests", "bench", "demo"],
        ["mypy"],
    ):
        done = subprocess.run(
            [str(Path(sys.executable).parent / tool[0]), *tool[1:]],
            cwd=ROOT,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, (done.stdout + done.stderr)[-3000:]


async def test_migrations_give_the_tables_and_go_back(empty_database):
    """Rule 20: every table has a workspace, and what migrations make is what the code means."""
    database = Database(empty_database())
    await database.migrate()
    await database.migrate()  # again does nothing
    async with database.engine.begin() as connection:
        differences = await connection.run_sync(lambda c: compare_metadata(MigrationContext.configure(c), metadata))
        months = re.compile(r"(artifact|event|journal|run)_(\d{4}_\d{2}|rest)")  # partitions belong to their tables
        assert [d for d in differences if not months.search(str(d))] == []
        await connection.run_sync(lambda c: command.downgrade(alembic_config(c), "base"))
        left = await connection.execute(text("SELECT tablename FROM pg_tables WHERE schemaname = 'public'"))
        assert [row[0] for row in left] == ["alembic_version"]
    await database.close()


def test_every_table_belongs_to_a_workspace():
    shared = {"workspace", "worker", "epoch"}  # a worker serves all workspaces, the epoch is the server's
    assert all("workspace_id" in table.c for name, table in metadata.tables.items() if name not in shared)
