"""The crash test, short: real processes killed and frozen at random, the database restarted under them."""

import subprocess
import sys

import pytest

from tests.conftest import ROOT


@pytest.mark.long
@pytest.mark.timeout(230)
def test_nothing_is_lost_or_done_twice_whatever_is_killed():
    """Rules 1 to 6, 9 to 11 and 13, together."""
    command = [
        sys.executable,
        "-m",
        "bench.crash",
        "--minutes",
        "0.2",
        "--events",
        "450",
        "--workers",
        "3",
        "--clocks",
        "2",
    ]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr[-2000:]
