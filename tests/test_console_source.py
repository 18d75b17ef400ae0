"""The console's own tests, and its house rules: types, lint, and how it is written."""

import subprocess

import pytest

from tests.conftest import ROOT


@pytest.mark.parametrize("command", ["test", "lint", pytest.param("format:check", marks=pytest.mark.long)])
def test_the_console_holds_its_rules(command: str):
    quietly = ["nice", "-n", "3", "npm", "run", "--silent", command]  # tests beside it measure how long others wait
    done = subprocess.run(quietly, cwd=ROOT / "console", capture_output=True, text=True)
    assert done.returncode == 0, done.stdout[-4000:] + done.stderr[-2000:]
