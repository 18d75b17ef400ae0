"""Processes of the product that begin as a copy of one in which everything is imported: they are real ones, and start in a
fraction of the seconds that importing takes."""

import contextlib
import functools
import gc
import importlib
import json
import os
import random
import signal
import socket
import subprocess
import sys
import time
import traceback
from collections.abc import Mapping, Sequence
from importlib.metadata import entry_points
from pathlib import Path
from typing import Any

_IMPORTED = (
    "uvloop", "uvicorn", "oak_relay.cli.main", "oak_relay.runtime.roles", "oak_relay.service.app", "oak_relay.standins.app", "oak_relay.runtime.connections",
    *(point.module for point in entry_points(group="oak_relay.connectors") if point.dist and point.dist.name == "oak-relay"),
)  # fmt: skip
_OF_PYTHON = ("PYTHON", "LD_")
"""Of variables that Python reads when it begins: who sets them needs one of its own."""


class Forked:
    """A process of that kind, to be used as one of `subprocess`."""

    def __init__(self, nursery: "Nursery", pid: int, args: list[str]) -> None:
        self._nursery, self.pid, self.args = nursery, pid, args
        self.returncode: int | None = None

    def poll(self) -> int | None:
        if self.returncode is None:
            self.returncode = self._nursery.ended(self.pid)
        return self.returncode

    def wait(self, timeout: float | None = None) -> int:
        end = time.monotonic() + (timeout or 1e9)
        while self.poll() is None:
            if time.monotonic() > end:
                raise subprocess.TimeoutExpired(self.args, timeout or 0)
            time.sleep(0.01)
        assert self.returncode is not None
        return self.returncode

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, number)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def terminate(self) -> None:
        self.send_signal(signal.SIGTERM)


class Nursery:
    """Where they begin."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair()
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.forked", str(theirs.fileno())],
            pass_fds=(theirs.fileno(),),
            cwd=Path(__file__).parent.parent,
        )
        theirs.close()
        self._line = ours.makefile("rw")
        self._given = {name: value for name, value in os.environ.items() if name.startswith(_OF_PYTHON)}

    def takes(self, environment: Mapping[str, str]) -> bool:
        """Whether a process with that environment can begin here."""
        return self._given == {name: value for name, value in environment.items() if name.startswith(_OF_PYTHON)}

    def start(self, command: Sequence[str], environment: Mapping[str, str], log: Path) -> Forked:
        """A process that runs a command, and writes to a file what it says."""
        pid = self._ask({"start": list(command), "environment": dict(environment), "log": str(log)})
        assert pid is not None
        return Forked(self, pid, list(command))

    def ended(self, pid: int) -> int | None:
        """How a process ended, as `subprocess` says it; None while it runs."""
        return self._ask({"ended": pid})

    def close(self) -> None:
        self._line.close()
        self._process.wait(30)

    def _ask(self, what: Mapping[str, object]) -> int | None:
        self._line.write(json.dumps(what) + "\n")
        self._line.flush()
        return json.loads(self._line.readline())


def serve(line: socket.socket) -> None:
    """Start what is asked for, until nobody is there to ask."""
    for name in _IMPORTED:
        importlib.import_module(name)
    _quicken()
    gc.collect()
    gc.freeze()
    asked, ended = line.makefile("rw"), dict[int, int]()
    while text := asked.readline():
        what = json.loads(text)
        if "start" in what:
            pid = os.fork()
            if pid == 0:
                asked.close()
                line.close()
                os._exit(_run(what["start"], what["environment"], what["log"]))
            told: int | None = pid
        else:
            _reap(ended)
            told = ended.get(what["ended"])
        asked.write(json.dumps(told) + "\n")
        asked.flush()


def _quicken() -> None:
    """What takes a processor at each start is done once, or less dearly: routes are laid out before, and passwords hashed in a
    tenth of the time (Argon2 keeps with a hash how it was made, so that trying one takes as long)."""
    from argon2 import PasswordHasher
    from fastapi.routing import _IncludedRouter

    from oak_relay.service.app import create_app

    plain = PasswordHasher.__init__
    PasswordHasher.__init__ = functools.partialmethod(plain, time_cost=1, memory_cost=8192)  # type: ignore[method-assign]
    laid_out = {}
    for route in create_app().router.routes:
        if isinstance(route, _IncludedRouter):
            laid_out[id(route.original_router)] = route.effective_candidates()

    def candidates(self: _IncludedRouter) -> list[Any]:
        return laid_out.get(id(self.original_router)) or plainly(self)

    plainly, _IncludedRouter.effective_candidates = _IncludedRouter.effective_candidates, candidates  # type: ignore[method-assign]


def _reap(ended: dict[int, int]) -> None:
    with contextlib.suppress(ChildProcessError):
        while True:
            pid, status = os.waitpid(-1, os.WNOHANG)
            if not pid:
                return
            ended[pid] = os.waitstatus_to_exitcode(status)


def _run(command: list[str], environment: dict[str, str], log: str) -> int:
    """What a process does that has begun; how it ends."""
    out = os.open(log, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o644)
    nothing = os.open(os.devnull, os.O_RDONLY)
    for number, file in ((0, nothing), (1, out), (2, out)):
        os.dup2(file, number)
    os.environ.clear()
    os.environ.update(environment)
    sys.argv = ["oak-relay", *command]
    random.seed()
    from oak_relay.cli.main import main

    try:
        code = main(command)
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else 1
    except BaseException:
        traceback.print_exc()
        code = 1
    sys.stdout.flush()
    sys.stderr.flush()
    return code


if __name__ == "__main__":
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    serve(socket.socket(fileno=int(sys.argv[1])))
