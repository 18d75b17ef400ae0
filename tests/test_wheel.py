"""The wheel holds all it needs: a service starts from it where PostgreSQL is, and says what is missing where it is not."""

import os
import shutil
import subprocess
import sys
import sysconfig
import zipfile
from pathlib import Path

import httpx
import pytest

from tests.conftest import ROOT, free_port, open_up, until

pytestmark = pytest.mark.timeout(240)


@pytest.fixture(scope="module")
def installed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folder of the programs of an environment with the wheel, and with what it depends on from this one."""
    folder = tmp_path_factory.mktemp("wheel")
    pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "-q"]
    source = folder / "source"
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    for name in ("pyproject.toml", "README.md"):
        shutil.copy(ROOT / name, source)
    subprocess.run([*pip, "wheel", "--no-deps", "--no-build-isolation", "-w", folder, source], check=True)
    [wheel] = folder.glob("oak_relay-*.whl")
    names = zipfile.ZipFile(wheel).namelist()
    assert "oak_relay/service/web/index.html" in names
    assert any(name.startswith("oak_relay/service/examples/") for name in names)
    assert not any("tests" in name or name.startswith("demo") for name in names)
    home = folder / "env"
    subprocess.run([sys.executable, "-m", "venv", home], check=True)
    subprocess.run(
        [
            home / "bin" / "python",
            "-m",
            "pip",
            "-q",
            "--disable-pip-version-check",
            "install",
            "--no-deps",
            "--no-index",
            wheel,
        ],
        check=True,
    )
    [packages] = home.glob("lib/python*/site-packages")
    (packages / "beside.pth").write_text(sysconfig.get_paths()["purelib"] + "\n")
    return home / "bin"


def environment(installed: Path, data: Path, **more: str) -> dict[str, str]:
    kept = {name: value for name, value in os.environ.items() if not name.startswith(("OAK_RELAY", "PYTHONPATH"))}
    return {**kept, "PATH": f"{installed}:{os.environ['PATH']}", "OAK_RELAY_DATA_DIR": str(data), **more}


@pytest.mark.long
def test_it_starts_a_service_that_leads_on(installed: Path, tmp_path: Path):
    open_up(tmp_path)
    port = free_port()
    given = environment(
        installed, tmp_path / "data", OAK_RELAY_PORT=str(port), OAK_RELAY_DATABASE_PORT=str(free_port())
    )
    with open(tmp_path / "log", "w+") as log:
        up = subprocess.Popen([installed / "oak-relay", "up"], cwd=tmp_path, env=given, stdout=log, stderr=log)
        try:
            url = f"http://127.0.0.1:{port}"
            until(lambda: httpx.get(f"{url}/health/ready").is_success, 90)
            said = until(lambda: (text := (tmp_path / "log").read_text()) and "password" in text and text, 30)
            assert f"Sign in at {url} as owner with the password" in said
            assert "connect a model, play an example, write a workflow" in said
            password = said.partition("with the password ")[2].split()[0]
            assert "<div id=" in httpx.get(url).text
            with httpx.Client(base_url=url) as http:
                http.post("/api/v1/session", json={"password": password}).raise_for_status()
                names = [one["name"] for one in http.get("/api/v1/examples").json()["items"]]
                assert names[0] == "greet-a-guest"
                played = http.post("/api/v1/examples/greet-a-guest/play").raise_for_status().json()["id"]
                until(lambda: http.get(f"/api/v1/runs/{played}").json()["run"]["state"] == "succeeded")
                refused = http.post("/api/v1/examples/sort-messages/play")
                assert (refused.status_code, refused.json()["fix"]) == (409, "connect a model first")
            own = subprocess.run(
                [installed / "oak-relay", "workflows"],
                cwd=tmp_path,
                env=given,
                capture_output=True,
                text=True,
                check=True,
            )
            assert "greet-a-guest" in own.stdout
            where = "import oak_relay; print(oak_relay.__file__)"
            place = subprocess.run(
                [installed / "python", "-c", where], cwd=tmp_path, env=given, capture_output=True, text=True, check=True
            )
            assert str(installed.parent) in place.stdout
        finally:
            up.terminate()
            up.wait(60)


def test_where_there_is_no_postgresql_it_says_what_to_install(installed: Path, tmp_path: Path):
    nowhere = (
        "import oak_relay.runtime.cluster as cluster; from pathlib import Path; from oak_relay.cli.main import run;"
        "cluster.shutil.which = lambda *_: None;"
        "cluster.Path = lambda *where: Path('/nowhere' if str(where[0]).startswith('/usr/lib/postgresql') else where[0], *where[1:]);"
        "run()"
    )
    given = environment(installed, tmp_path / "data", OAK_RELAY_PORT=str(free_port()))
    done = subprocess.run(
        [installed / "python", "-c", nowhere, "up"], cwd=tmp_path, env=given, capture_output=True, text=True, timeout=60
    )
    assert done.returncode != 0
    said = done.stdout + done.stderr
    assert "apt-get install postgresql" in said
    assert "Traceback" not in said
