"""What a walk begins with, how it ends, and what a journal says of one effect."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any, Literal, NamedTuple

from oak_relay.changes import Part
from oak_relay.document.errors import ErrorData, StepFailed
from oak_relay.engine.entries import Entry, EntryKind
from oak_relay.usage import Usage

Scope = dict[str, object]
GIVEN = "given"
"""The hash of an entry whose value a person has put in the place of the recorded one."""


class Start(NamedTuple):
    """What a walk begins with. `worked` is the time already spent working, in seconds; `grace` how long
    a call of a lost worker may still be under way behind its time-out, in seconds; `money` what a parent allows."""

    run_id: str
    scope: Scope
    worked: float = 0.0
    grace: float = 10.0
    money: float | None = None
    part: Part | None = None
    patient: bool = True
    """Whether it may rest until a credential or its credit is there."""

    @property
    def settled(self) -> Mapping[str, object]:
        """The model aliases that the run of a long list has settled for its parts."""
        return {} if self.part is None else self.part.settled


@dataclass(slots=True)
class Spent:
    """Tokens and money of a run so far."""

    input: int = 0
    output: int = 0
    money: Decimal = Decimal(0)
    unpriced: int = 0
    """Calls whose price is not known."""

    def add(self, usage: Usage) -> None:
        """Count what was used in."""
        self.input += usage.input
        self.output += usage.output
        self.money += Decimal(str(usage.paid))
        self.unpriced += usage.unknown


@dataclass(frozen=True, slots=True)
class Finished:
    """The run has ended; `note` is worth knowing though it ended well."""

    state: Literal["succeeded", "failed", "cancelled"]
    result: Any = None
    error: ErrorData | None = None
    note: str = ""

    def as_data(self) -> dict[str, object]:
        """The outcome as steps under `always` see it."""
        return {"state": self.state, "result": self.result, "error": self.error}


@dataclass(frozen=True, slots=True)
class Rested:
    """The run waits; each wake is a path and a moment, None for what another must bring."""

    wakes: tuple[tuple[str, datetime | None], ...]


class Turned(Exception):
    """Root of what turns a walk from its way: no fault of anybody's, and never told to the document."""


class Stopped(Turned):
    """The document ends the run here, well."""

    def __init__(self, result: object) -> None:
        self.result = result


class Cancelled(Turned):
    """The run was cancelled; nothing new is started."""


class Diverged(Turned):
    """The journal holds another input than this walk comes to."""


AttemptState = Literal["fresh", "under way", "unsure", "to be made again", "failed", "done"]
"""How an effect stands: nothing is recorded; an attempt was begun; nobody knows what one did; one failed and there is to be
another; the last one failed; it was done, well or not at all (`skipped`)."""
_NEXT: dict[AttemptState, tuple[EntryKind, ...]] = {
    "fresh": ("began", "ended", "skipped"),
    "under way": ("ended", "lost"),
    "unsure": ("began", "ended"),
    "to be made again": ("began", "ended"),
    "failed": (),
    "done": (),
}
"""What may be recorded next. Anything else was written by no engine of ours."""


@dataclass(slots=True)
class Attempts:
    """What a journal says of one effect."""

    state: AttemptState = "fresh"
    output: object = None
    error: StepFailed | None = None
    again_at: datetime | None = None
    number: int = 0
    failures: int = 0
    open: Entry | None = None
    unsure: int | None = None
    """The attempt of which nobody knows what it did."""
    wanting: int | None = None
    """The attempt that failed for want of a credential or its credit, which is waited for."""

    @property
    def over(self) -> bool:
        """Whether there is to be no further attempt."""
        return self.state in ("failed", "done")

    def take(self, entry: Entry, path: str) -> None:
        """Go on by an entry. Raises `Diverged` for one that cannot follow."""
        if entry.kind not in _NEXT[self.state] and entry.hash != GIVEN:
            raise Diverged(f"{path}: the record has {entry.kind!r} where the effect is {self.state}")
        self.number = max(self.number, entry.attempt)
        self.open, self.wanting = (entry if entry.kind == "began" else None), None
        if entry.kind == "began":
            self.state, self.unsure = "under way", None
        elif entry.kind == "skipped":
            self.state = "done"
        elif entry.kind == "lost":
            self.state, self.unsure, self.error, self.again_at = "unsure", entry.attempt, None, None
        elif "error" not in entry.body:
            self.state, self.output, self.error, self.unsure = "done", entry.body["output"], None, None
        else:
            self._failed(entry)

    def _failed(self, entry: Entry) -> None:
        self.failures += 1
        self.error = StepFailed.from_data(entry.body["error"])
        again = entry.body.get("again_at")
        self.again_at = datetime.fromisoformat(again) if again else None
        self.unsure = entry.attempt if entry.body.get("unknown") else None
        self.state = "failed"
        if self.unsure is not None:
            self.state = "unsure"
        elif again or entry.body.get("waits"):
            self.state = "to be made again"
            self.wanting = entry.attempt if entry.body.get("waits") else None


def read_attempts(entries: Sequence[Entry], path: str, hash_: str) -> Attempts:
    """What the entries of an effect say. Raises `Diverged` when they were made with another input, or cannot follow each
    other."""
    attempts = Attempts()
    for entry in entries:
        if entry.hash not in (hash_, GIVEN) and entry.kind != "skipped":
            raise Diverged(f"{path} was recorded with another input")
        attempts.take(entry, path)
    return attempts
