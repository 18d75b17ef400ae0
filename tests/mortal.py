"""Workers that kill themselves at a chosen write of the record: `python -m tests.mortal FILE`.

Each line on standard input forks one, so that none has to be started from nothing; its process id is printed. FILE
says when it dies, as JSON: `at` the how-manieth commit that holds something of a run begun later than `known`, either
`behind` that commit, or `before` it, which counts only commits with the outcome of a call. Beside it stands how many there
were. It is SIGKILL that ends them."""

import json
import os
import signal
import sys
from pathlib import Path
from typing import Any

import uvloop

from oak_relay.runtime import roles, writer
from oak_relay.runtime.settings import Settings
from oak_relay.store.pages import EntryRow


def mortal(plan: Path) -> None:
    """Let this process die as the plan says."""
    flush, counted, known = writer.JournalWriter._flush, 0, ""

    async def dying(self: writer.JournalWriter, rows: list[Any]) -> list[Any]:
        nonlocal counted, known
        given = json.loads(plan.read_text())  # noqa: ASYNC240
        if given["known"] != known:
            counted, known = 0, given["known"]
        before = given["when"] == "before"
        here = [w.row for w in rows if str(w.row.run_id) > given["known"] and (not before or outcome(w.row))]
        counted += bool(here)
        due = bool(here) and counted == given["at"]
        plan.with_suffix(".count").write_text(str(counted))
        if due and before:
            os.kill(os.getpid(), signal.SIGKILL)
        written = await flush(self, rows)
        if due:
            os.kill(os.getpid(), signal.SIGKILL)
        return written

    writer.JournalWriter._flush = dying  # type: ignore[method-assign]


def outcome(row: Any) -> bool:
    """Whether a row is what a model or a service has answered."""
    return isinstance(row, EntryRow) and row.kind == "ended" and row.change is None and "/turn[" in row.path


def main() -> None:
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # the dead are not to stay
    for _ in sys.stdin:
        child = os.fork()
        if child == 0:
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            os.dup2(2, 1)  # its log is not what is read here
            mortal(Path(sys.argv[1]))
            uvloop.run(roles.work(Settings()))
            os._exit(0)
        print(child, flush=True)


if __name__ == "__main__":
    main()
