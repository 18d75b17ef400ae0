"""The two things a walk knows of the world: a journal and an executor."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Literal, NamedTuple, Protocol

from oak_relay.changes import Change
from oak_relay.engine.purse import Draw
from oak_relay.usage import NOTHING, Usage

Detail = Mapping[str, object]
"""What only a trace shows."""
EntryKind = Literal["value", "began", "ended", "lost", "skipped", "opened", "closed"]
Repeat = Literal["safe", "keyed", "checkable", "unsafe"]
Reach = Literal["outside", "read", "local"]


class Entry(NamedTuple):
    """One line of a journal.

    Of the kinds, `value` is what was computed or chosen, `began`/`ended`/`lost` an attempt at an action, `opened`
    something that another is asked for (a child run, an answer, an event), `closed` the result of a scope whose
    inner entries are no longer needed. `path` names the effect, `attempt` counts from 1, `hash` covers step and rendered input, `body` is
    what the engine goes on with, `detail` only what a trace shows, `started`/`at` when it began and ended.
    `text` and `shown` are body and detail as canonical JSON where they are at hand.
    """

    path: str
    kind: EntryKind
    attempt: int = 0
    hash: str = ""
    body: Any = None
    detail: Detail | None = None
    started: datetime | None = None
    at: datetime | None = None
    text: str | None = None
    shown: str | None = None


@dataclass(frozen=True, slots=True)
class Call:
    """An action to perform. `key` is stable across attempts; `timeout` is in seconds; `draw` is what money its requests
    draw on; `settled` the model aliases that the run has settled, by name."""

    action: str
    input: dict[str, Any]
    path: str
    attempt: int
    key: str
    timeout: float
    draw: Draw | None = None
    settled: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Outcome:
    """What an action gave; `detail` is for the trace."""

    output: Any
    detail: Detail = field(default_factory=dict)
    usage: Usage = NOTHING


@dataclass(frozen=True, slots=True)
class Manner:
    """What repeating an action means, where it reaches, and how long one attempt may take (seconds); `model` is the model
    alias it asks, empty for none."""

    repeat: Repeat
    reach: Reach
    timeout: float = 60.0
    model: str = ""


class Journal(Protocol):
    """The durable record of one run."""

    def entries(self, path: str) -> Sequence[Entry]:
        """What is recorded under a path, oldest first."""

    def add(self, entry: Entry) -> Any:
        """Record something that follows from what is recorded already, without waiting for the commit.
        Returns the body as stored. Order is kept: a later `commit` makes it durable first."""

    async def commit(self, entry: Entry, change: Change | None = None) -> Any:
        """Record, and return the body as stored once it is durable. With a change of our own records the body
        holds its result as `output`. Raises `StepFailed` when the change is refused."""

    def signal(self, path: str) -> Any:
        """What has arrived from outside for a path that was opened; None while nothing has."""

    async def arrival(self, path: str) -> None:
        """Return when something has arrived for that path."""

    @property
    def full(self) -> bool:
        """Whether so much waits to be written that a walk should wait, by `room`."""

    async def room(self) -> None:
        """Return when more may be added."""

    def opened(self) -> Mapping[str, Entry]:
        """What was opened and has neither ended nor been taken back, by path."""

    def allotted(self) -> Mapping[str, float]:
        """The money that was allotted to child runs of which it is not known yet what they spent, by path."""

    def open_under(self, prefix: str) -> bool:
        """Whether something was opened below a path (or is it) and has not ended yet, as far as is recorded."""

    def now(self) -> datetime:
        """The time, zoned."""

    def random(self) -> float:
        """A number from 0 to 1, for spreading waits."""

    async def sleep_until(self, moment: datetime) -> None:
        """Return at that moment."""


class Executor(Protocol):
    """Performs actions."""

    def manner(self, action: str, input: dict[str, Any]) -> Manner:
        """How this action, with this input, behaves. Raises `StepFailed` (`missing`) for an unknown one."""

    async def change(self, call: Call) -> Change:
        """The change that an action makes which reaches no further than our records. Raises `StepFailed`."""

    async def admit(self, call: Call) -> float:
        """Seconds to wait before this call may be made; 0 when it may be made now."""

    async def worst(self, call: Call) -> float | None:
        """The most money the first request of this call may cost; None when nobody knows. Raises `StepFailed`."""

    async def settle(self, model: str) -> Mapping[str, Any]:
        """A model alias and its fallbacks as they stand now, by name; empty when there is none of that name."""

    async def perform(self, call: Call) -> Outcome:
        """Carry it out. Raises `StepFailed`."""

    async def happened(self, call: Call) -> Outcome | None:
        """Of a checkable action: what it gave if it happened, None if it did not. Raises `StepFailed`."""
