"""The house rules: layers, types of the migrations, no leftovers."""

import ast
import contextlib
import io
import logging
import re
import resource
import subprocess
import sys
from pathlib import Path

import pytest
import structlog
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.runtime.migration import MigrationContext
from sqlalchemy import text

from oak_relay.runtime import boot
from oak_relay.runtime.boot import set_up_log
from oak_relay.runtime.cluster import Cluster, ClusterError
from oak_relay.runtime.settings import Settings
from oak_relay.store.database import Database
from oak_relay.store.revisions import NEWEST
from oak_relay.store.tables import metadata
from oak_relay.store.upgrade import alembic_config
from oak_relay.vault.blanking import BLANK, Blanker
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
    async with database.engine.connect() as connection:
        assert await connection.scalar(text("SELECT version_num FROM alembic_version")) == NEWEST
    async with database.engine.begin() as connection:
        differences = await connection.run_sync(lambda c: compare_metadata(MigrationContext.configure(c), metadata))
        months = re.compile(
            r"(artifact|event|failure|file_reference|journal|run)_(\d{4}_\d{2}|rest)"
        )  # partitions belong to their tables
        assert [d for d in differences if not months.search(str(d))] == []
        await connection.run_sync(lambda c: command.downgrade(alembic_config(c), "base"))
        left = await connection.execute(text("SELECT tablename FROM pg_tables WHERE schemaname = 'public'"))
        assert [row[0] for row in left] == ["alembic_version"]
    await database.close()


async def test_what_an_earlier_release_kept_is_brought_along(empty_database):
    database = Database(empty_database())
    await database.migrate()
    flow = "00000000-0000-7000-8000-000000000001"
    async with database.engine.begin() as connection:
        await connection.run_sync(lambda c: command.downgrade(alembic_config(c), "0001"))
        await connection.execute(text(f"INSERT INTO workflow (workspace_id, id, name) VALUES (1, '{flow}', 'kept')"))
        await connection.execute(
            text(
                f"INSERT INTO sample (workspace_id, id, workflow_id, name, value) VALUES (1, '{flow}', '{flow}', 'one', '5')"
            )
        )
    await database.migrate()
    async with database.engine.connect() as connection:
        row = (
            await connection.execute(text("SELECT w.name, w.removed_at, s.value, s.trigger FROM workflow w, sample s"))
        ).one()
        assert tuple(row) == ("kept", None, "5", "")
        assert await connection.scalar(text("SELECT version_num FROM alembic_version")) == NEWEST == "0011"
    await database.close()


async def test_tables_of_a_later_release_are_left_as_they_are(new_database):
    database = Database(new_database())
    async with database.engine.begin() as connection:
        await connection.execute(text("UPDATE alembic_version SET version_num = '9999'"))
    await database.migrate()
    async with database.engine.connect() as connection:
        assert await connection.scalar(text("SELECT version_num FROM alembic_version")) == "9999"
    await database.close()


def test_a_role_loads_nothing_of_the_other_commands():
    probe = "import sys; from oak_relay.cli.main import main; main(['work', '--help'])"
    code = f"import sys, atexit; atexit.register(lambda: print(*sorted(sys.modules), file=sys.stderr)); {probe}"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stderr.split()
    assert "oak_relay.cli.roles" in loaded
    assert not {"oak_relay.client", "alembic", "rich", "sqlalchemy"} & set(loaded)


PROCESSES = {
    "database", "epoch", "history", "locks", "workers", "upgrade", "migrations", "tables", "tries",
}  # fmt: skip
"""Rooms of the store that are about processes, the server or all of it, not about what belongs to a workspace."""
BY_ITSELF = {"people.holder"}
"""A token tells by itself to which workspace it belongs."""


def test_every_function_of_the_store_is_given_the_workspace():
    """Rule 20: who asks the database about a workspace's data says which workspace."""
    without = []
    for file in sorted((ROOT / "src" / "oak_relay" / "store").glob("*.py")):
        if file.stem in PROCESSES or file.stem.startswith("_"):
            continue
        for node in ast.parse(file.read_text()).body:
            if isinstance(node, ast.AsyncFunctionDef) and not node.name.startswith("_"):
                given = [argument.arg for argument in node.args.args]
                name = f"{file.stem}.{node.name}"
                if "workspace" not in given and name not in BY_ITSELF:
                    without.append(name)
    assert without == []
    named = [p for p in (ROOT / "src").rglob("*.py") if "MAIN_WORKSPACE" in p.read_text()]
    assert len(named) <= 4, "a constant stands where the workspace should be given"


def test_functions_are_short_and_public_ones_say_what_a_caller_must_know():
    folder = ROOT / "src" / "oak_relay"
    files = [file for file in folder.rglob("*.py") if "migrations" not in file.parts]
    trees = {file.relative_to(folder): ast.parse(file.read_text()) for file in files}
    functions = [
        (file, node)
        for file, tree in trees.items()
        for node in ast.walk(tree)
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef)
    ]
    long = [f"{file}: {node.name}" for file, node in functions if (node.end_lineno or 0) - node.lineno >= 60]
    assert long == []
    public = [node for _, node in functions if not node.name.startswith("_")]
    assert sum(ast.get_docstring(node) is not None for node in public) / len(public) >= 0.85


def test_every_table_belongs_to_a_workspace():
    shared = {"workspace", "worker", "fence", "epoch", "sign_in"}  # of processes, the server and who is not known yet
    assert all("workspace_id" in table.c for name, table in metadata.tables.items() if name not in shared)


def test_a_log_that_cannot_be_written_harms_nothing_else(monkeypatch):
    """A full disk under standard error: lines are lost, what was to be told of goes on."""
    before = structlog.get_config()
    with open("/dev/full", "w") as full:
        monkeypatch.setattr(sys, "stderr", full)
        try:
            set_up_log(Settings())
            structlog.get_logger().error("not to be written")
        finally:
            structlog.configure(**before)
            monkeypatch.undo()
            with contextlib.suppress(OSError):
                full.close()


def test_a_full_disk_does_not_take_the_port_of_the_own_database(tmp_path):
    """Every start goes by this file: it is kept whole, or as it was."""
    cluster = Cluster(tmp_path)
    cluster._keep_port(41_234)
    _, most = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, most))
    try:
        cluster._keep_port(41_234)  # nothing is to be written
        with pytest.raises(OSError):
            cluster._keep_port(41_235)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))
    assert cluster._port() == 41_234
    (tmp_path / "postgres.port").write_text("")
    with pytest.raises(ClusterError):
        cluster._port()


def test_the_log_holds_no_secret_and_no_control_sequence(monkeypatch):
    """Lines of ours and of libraries, in their texts, their values and their tracebacks."""
    before = structlog.get_config()
    written = io.StringIO()
    monkeypatch.setattr(sys, "stderr", written)
    monkeypatch.setattr(boot._BLANKING, "blanker", lambda: Blanker(["secret-word-123456", "93017465528"]))
    try:
        for form in ("text", "json"):
            set_up_log(Settings(log_format=form))
            log = structlog.get_logger()
            log.warning(
                "told secret-word-123456",
                where={"deep": ["secret\\u002dword-123456"]},
                number=93017465528,
                said="a\x1b[31m\x9b\u202e",
            )
            try:
                raise ValueError("wrong: secret-word-123456 \x1b]0;owned\x07")
            except ValueError:
                log.error("broken", exc_info=True)
                logging.getLogger("a.library").warning("it says %s", "secret-word-123456", exc_info=True)
    finally:
        structlog.configure(**before)
    said = written.getvalue()
    assert "secret-word" not in said.replace("secret\\u002d", "")
    assert "123456" not in said
    assert "93017465528" not in said
    assert said.count(BLANK) + said.count("\\u2039blanked\\u203a") >= 8
    assert not re.search(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202e]", said)
    assert "it says" in said
