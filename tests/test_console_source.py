"""The console's own tests, and its house rules: types, lint, and how it is written."""

import os
import re
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


_CLASS = re.compile(r"\.(-?[A-Za-z_][\w-]*)")


def test_what_the_templates_ask_of_the_library_of_components_is_in_what_is_built():
    """Only a part of it is built in; a class that is left out does nothing, and nobody says so."""
    library = (ROOT / "console/node_modules/bootstrap/dist/css/bootstrap.css").read_text()
    built = "".join(file.read_text() for file in (ROOT / "src/oak_relay/service/web/assets").glob("*.css"))
    lacking = set(_CLASS.findall(library)) - set(_CLASS.findall(built))
    assert lacking
    templates = {file: file.read_text() for file in (ROOT / "console/src").rglob("*.vue")}
    asked = {
        (file.name, name)
        for file, text in templates.items()
        for named in re.findall(r'(?<![:\w-])class="([^"]*)"', text)
        for name in named.split()
    }
    assert not [one for one in asked if one[1] in lacking]
