"""What the sandbox consists of: the Python it holds, and how `bubblewrap` is told to build it."""

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

INSIDE = Path(__file__).with_name("inside.py")
SPACE = 128_000_000
"""Bytes of files that may be there at once."""
_UID = 61_837
"""A user without a name, whom nothing belongs to: who works in the sandbox where the service is root."""
_OLDEST = (3, 11)
_ASKED = (
    "import json,sys,sysconfig;print(json.dumps([sys.version_info[:3],sysconfig.get_path('stdlib'),sys.base_prefix]))"
)


class NoRoom(Exception):
    """Why there is no sandbox on this machine."""


@dataclass(frozen=True, slots=True)
class Room:
    """A sandbox as it is built each time: the program that builds it and its arguments, the Python in it."""

    builder: tuple[str, ...]
    python: str
    version: str
    shown: tuple[str, ...]
    """Files and folders of this machine that are seen in it, for reading alone."""

    def command(self, calls: int, inside: int, told: int) -> list[str]:
        """The command that carries out `inside.py` in it; open descriptors of the list of calls, of that file, and to tell its
        process on."""
        words = [
            *(*self.builder, "--unshare-all", "--unshare-user", "--disable-userns", "--cap-drop", "ALL", "--clearenv"),
            *("--uid", "1000", "--gid", "1000", "--hostname", "hut", "--new-session", "--die-with-parent"),
        ]
        for path in self.shown:
            words += ["--ro-bind", path, path]
        for name in ("lib", "lib64"):
            if os.path.islink(f"/{name}"):
                words += ["--symlink", os.readlink(f"/{name}"), f"/{name}"]
        words += ["--ro-bind-data", str(inside), "/inside.py", "--dev-bind", "/dev/null", "/dev/null"]
        words += ["--size", str(SPACE), "--tmpfs", "/work", "--chdir", "/work", "--remount-ro", "/"]
        words += ["--setenv", "LANG", "C.UTF-8", "--setenv", "HOME", "/work", "--setenv", "TMPDIR", "/work"]
        words += ["--seccomp", str(calls), "--info-fd", str(told)]
        return [*words, self.python, "-I", "-S", "-B", "-X", "utf8", "/inside.py"]


def _as_nobody() -> list[str]:
    """The beginning of a command that root does not carry out itself. Raises `NoRoom`."""
    if os.geteuid() != 0:
        return []
    found = shutil.which("setpriv", path="/usr/bin:/bin")
    if found is None:
        raise NoRoom("setpriv is not installed (Debian: apt-get install util-linux)")
    return [found, f"--reuid={_UID}", f"--regid={_UID}", "--clear-groups", "--inh-caps=-all", "--"]


def found() -> Room:
    """The sandbox of this machine. Raises `NoRoom`. It takes a while."""
    if not sys.platform.startswith("linux"):
        raise NoRoom("it takes Linux")
    bubblewrap = shutil.which("bwrap", path=f"{os.environ.get('PATH', '')}:/usr/bin")
    if bubblewrap is None:
        raise NoRoom("bubblewrap is not installed (Debian: apt-get install bubblewrap)")
    user = _as_nobody()
    for python in dict.fromkeys((shutil.which("python3", path="/usr/bin"), os.path.realpath(sys.executable))):
        if python and (room := _with(user, bubblewrap, os.path.realpath(python))):
            return room
    raise NoRoom("there is no Python 3.11 or newer that another user may run (Debian: apt-get install python3)")


def _with(user: list[str], bubblewrap: str, python: str) -> Room | None:
    """A room with a Python, if anybody may run that."""
    try:
        asked = subprocess.run(
            [*user, python, "-I", "-S", "-c", _ASKED], capture_output=True, timeout=20, check=True, env={}, cwd="/"
        )
        version, library, prefix = json.loads(asked.stdout)
    except (OSError, subprocess.SubprocessError, ValueError):
        return None
    if tuple(version) < _OLDEST:
        return None
    shown = [python, library, *_libraries(prefix)]
    return Room(
        (*user, bubblewrap),
        python,
        ".".join(map(str, version)),
        tuple(dict.fromkeys(p for p in shown if os.path.exists(p))),
    )


def _libraries(prefix: str) -> Sequence[str]:
    """Folders of shared libraries."""
    kind = f"{os.uname().machine}-linux-gnu"
    own = [f"{prefix}/lib"] if prefix not in ("/usr", "/") else []
    there = [f"/usr/lib/{kind}", *(p for p in ("/lib64", "/lib") if not os.path.islink(p))]
    return [*own, *(there if os.path.isdir(f"/usr/lib/{kind}") else ["/usr/lib", *there]), "/usr/lib64"]
