"""What of an old journal a new run can keep: the old record walked by the new plan, with nothing done."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from oak_relay.changes import Change
from oak_relay.engine.entries import Entry, EntryKind
from oak_relay.engine.memory import MemoryJournal
from oak_relay.engine.outcomes import GIVEN, Finished, Start
from oak_relay.engine.paths import is_below, told_of
from oak_relay.engine.plan import Plan
from oak_relay.engine.protocols import Executor
from oak_relay.engine.rest import Strands
from oak_relay.engine.walk import Walk


@dataclass(frozen=True, slots=True)
class Kept:
    """`entries` are those a new run begins with; `kept` and `anew` are the paths of steps whose outcomes it keeps
    and those of the old run it does not."""

    entries: list[Entry]
    kept: list[str]
    anew: list[str]


class _Record(MemoryJournal):
    """An old journal that notes what is read from it and takes nothing new."""

    def __init__(self, entries: Sequence[Entry], moment: datetime) -> None:
        super().__init__(entries=entries)
        self.clock = moment
        self.read: set[str] = set()

    def entries(self, path: str) -> Sequence[Entry]:
        found = super().entries(path)
        if found:
            self.read.add(path)
        return found

    def add(self, entry: Entry) -> object:
        return entry.body  # what merely follows from kept entries; the new run comes to it by itself

    async def commit(self, entry: Entry, change: Change | None = None) -> object:
        raise AssertionError(f"{entry.path} was about to be done in a replay")

    async def sleep_until(self, moment: datetime) -> None:
        await Strands().rest("", None, [])


async def keep(
    plan: Plan,
    entries: Sequence[Entry],
    executor: Executor,
    start: Start,
    moment: datetime,
    stop: str,
    given: dict[str, object] | None = None,
) -> Kept:
    """Which entries a run of `plan` can begin with so that it goes on at the step `stop` (a path; empty: as far as
    they fit). `given` puts values in the place of what steps at the top gave."""
    given = given or {}
    usable = [_given(e, given) for e in entries if not _undone(e.path, stop)]
    usable += [
        Entry(name, "value", 1, GIVEN, value, {"given": True}, None, moment)
        for name, value in given.items()
        if not any(e.path == name for e in usable)
    ]
    record = _Record(usable, moment)
    walk = Walk(plan, record, executor, start, replaying=True, stop=stop)
    outcome = await walk.walk()
    read = record.read - walk.refused
    if isinstance(outcome, Finished) and outcome.state == "failed" and outcome.error:
        read -= {p for p in read if is_below(p, str(outcome.error.get("step", "?")))}
    closed = [p.removesuffix("#end") for p in read if p.endswith("#end")]
    fits = {e.path for e in usable if e.path in read or any(is_below(e.path, scope) for scope in closed)}
    whole = [e for e in usable if e.path in fits and not _left_open(e, record)]
    steps = {e.path for e in whole if "#" not in e.path}
    every = list(dict.fromkeys(e.path for e in entries if "#" not in e.path and e.path))
    return Kept(whole, [p for p in every if p in steps], [p for p in every if p not in steps])


def _given(entry: Entry, given: dict[str, object]) -> Entry:
    """An entry, or in its place the value a person gives."""
    if entry.path not in given:
        return entry
    value = given[entry.path]
    body = {"output": value} if entry.kind in ("began", "ended", "lost") else value
    kind: EntryKind = "ended" if entry.kind in ("began", "ended", "lost") else "value"
    return entry._replace(kind=kind, hash=GIVEN, body=body, detail={"given": True}, text=None)


def _undone(path: str, stop: str) -> bool:
    """Whether an entry falls with the step that is done again: its own, and the results of what is around it."""
    if not stop:
        return path == "#outcome" or path.startswith("always.")
    if path == "#outcome" or path.startswith("always.") or is_below(path, stop):
        return True
    owner, _, mark = path.partition("#")
    return bool(mark) and mark in ("end", "late", "woke", "withdrawn") and owner != stop and is_below(stop, owner)


def _left_open(entry: Entry, record: _Record) -> bool:
    """What another was asked for and had not given belongs to the old run."""
    owner = entry.path if entry.kind == "opened" or "#" not in entry.path else told_of(entry.path)[0]
    opened = any(e.kind == "opened" for e in MemoryJournal.entries(record, owner))
    return opened and not record.ended(owner)
