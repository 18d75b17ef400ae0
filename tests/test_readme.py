"""The README is followed literally: its blocks, on a service with the demo's models, print what stands there."""

import os
import re
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

import pytest

from oak_relay.client import NotFound
from tests.conftest import ROOT, Processes

README = (ROOT / "README.md").read_text()
_BLOCK = re.compile(r"^```(\w+)\n(.*?)^```$", re.MULTILINE | re.DOTALL)


def blocks(heading: str) -> list[tuple[str, str]]:
    """The blocks below a heading: their language, and what stands in them."""
    section = README.partition(f"\n## {heading}\n")[2].partition("\n## ")[0]
    return _BLOCK.findall(section)


def follow(found: list[tuple[str, str]], oak: Processes, folder: Path) -> None:
    """Run blocks one after another: what one prints stands below it."""
    environment = {**os.environ, **oak.environment, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
    environment |= {"OAK_RELAY_URL": oak.url, "OAK_RELAY_TOKEN": oak.token, "COLUMNS": "200"}
    said = ""
    for kind, text in found:
        if kind == "text":
            assert shown(said) == shown(text)
            said = ""
        elif kind in ("sh", "python"):
            assert said == "", "what a block prints stands below it"
            command = ["bash", "-e", "-c", text] if kind == "sh" else [sys.executable, "-c", text]
            text = text.replace("http://127.0.0.1:8470", oak.url).replace("export OAK_RELAY_DATA_DIR", "#")
            command[-1] = text
            done = subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True, timeout=120)
            assert done.returncode == 0, (text, done.stdout, done.stderr)
            said = done.stdout


def shown(text: str) -> list[str]:
    """Lines that are there to be read; spaces at their ends are not."""
    return [line.rstrip() for line in text.strip().splitlines() if line.strip()]


def test_the_first_workflow_is_written_as_it_stands_there(oak: Processes, tmp_path: Path):
    with suppress(NotFound):
        oak.client().remove_workflow("hello")  # another test's
    found = blocks("A first workflow in five minutes")
    assert [kind for kind, _ in found].count("text") == 4
    follow(found, oak, tmp_path)


@pytest.mark.parametrize("link", sorted(set(re.findall(r"\]\(((?!http)[^)#]+)\)", README))))
def test_what_it_links_to_is_there(link):
    assert (ROOT / link).exists()


def test_every_setting_it_names_is_one():
    from oak_relay.runtime.settings import Settings

    table = README.partition("| setting")[2].partition("\n\n")[0]
    named = {name.lower() for row in table.splitlines()[2:] for name in re.findall(r"`([A-Z_]+)`", row.split("|")[1])}
    assert named
    assert named <= set(Settings.model_fields)


def test_the_page_about_the_api_is_followed_as_it_stands_there(oak: Processes, tmp_path: Path):
    found = _BLOCK.findall((ROOT / "docs" / "api.md").read_text())
    assert [kind for kind, _ in found].count("text") == 5
    follow(found, oak, tmp_path)
