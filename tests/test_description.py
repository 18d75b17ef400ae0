"""The service answers as its OpenAPI document says, whatever is sent, and takes nothing that the document forbids."""

import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Processes

CONFIG = Path(__file__).with_name("schemathesis.toml")


@pytest.mark.timeout(400)
@pytest.mark.parametrize(
    ("phases", "examples"),
    [("examples,fuzzing", 2), pytest.param("examples,coverage,fuzzing", 4, marks=pytest.mark.long)],
)
def test_every_operation_answers_as_it_is_described(lone: Processes, tmp_path: Path, phases: str, examples: int):
    command = [
        sys.executable, "-m", "schemathesis.cli", "--config-file", str(CONFIG), "run", f"{lone.url}/openapi.json",
        "-H", f"Authorization: Bearer {lone.token}", "--checks", "all", "--phases", phases,
        "--max-examples", str(examples), "--generation-deterministic", "--continue-on-failure", "--request-timeout", "20",
        # Streams have no end, and who signs out or revokes the token would be refused from then on.
        "--exclude-path-regex", "stream$", "--exclude-operation-id", "remove_token", "--no-color",
    ]  # fmt: skip
    found = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert found.returncode == 0, found.stdout[-12_000:] + found.stderr[-2_000:]
    assert "Authentication failed" not in found.stdout
