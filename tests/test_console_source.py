"""The console's own tests, and its house rules: types, lint, and how it is written."""

import os
import subprocess

import pytest

from tests.conftest import ROOT


@pytest.mark.parametrize(
    ("command", "seed"),
    [
        ("test", "7"),
        ("lint", ""),
        *(pytest.param(command, "", marks=pytest.mark.long) for command in ("test", "format:check")),
    ],
)
def test_the_console_holds_its_rules(command: str, seed: str):
    quietly = ["nice", "-n", "3", "npm", "run", "--silent", command]  # tests beside it measure how long others wait
    done = subprocess.run(
        quietly, cwd=ROOT / "console", env={**os.environ, "OAK_RELAY_SEED": seed}, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stdout[-8000:] + done.stderr[-2000:]
