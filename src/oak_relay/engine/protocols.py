"""What a walk knows of the world: a journal and an executor, each a few small capabilities."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from types import MappingProxyType
from typing import Any, Literal, NamedTuple, Protocol

from oak_relay.changes import Change
from oak_relay.engine.entries import Detail, Entry
from oak_relay.engine.opened import Opened
from oak_relay.engine.purse import Draw
from oak_relay.usage import NOTHING, Usage

Repeat = Literal["safe", "keyed", "checkable", "unsafe"]
Reach = Literal["outside", "read", "local"]


_NOTHING: Mapping[str, Any] = MappingProxyType({})


class Call(NamedTuple):
    """An action to perform. `key` is stable across attempts; `timeout` is in seconds; `draw` is what money its requests
    draw on; `settled` the model aliases that the run has settled, by name."""

    action: str
    input: dict[str, object]
    path: str
    attempt: int
    key: str
    timeout: float
    draw: Draw | None = None
    settled: Mapping[str, Any] = _NOTHING


class Outcome(NamedTuple):
    """What an action gave; `detail` is for the trace."""

    output: object
    detail: Detail = _NOTHING
    usage: Usage = NOTHING


class Manner(NamedTuple):
    """What repeating an action means, where it reaches, and how long one attempt may take (seconds); `model` is the model
    alias it asks, empty for none."""

    repeat: Repeat
    reach: Reach
    timeout: float = 60.0
    model: str = ""


class Clock(Protocol):
    """Time and chance, as a walk sees them."""

    def now(self) -> datetime:
        """The time, zoned."""

    def random(self) -> float:
        """A number from 0 to 1, for spreading waits."""

    async def sleep_until(self, moment: datetime) -> None:
        """Return at that moment."""


class Arrivals(Protocol):
    """What others bring."""

    def signal(self, path: str) -> object:
        """What has arrived from outside for a path that was opened; None while nothing has."""

    async def arrival(self, path: str) -> None:
        """Return when something has arrived for that path."""


class Record(Protocol):
    """What has been done, and a way to add to it."""

    @property
    def open(self) -> Opened:
        """What was asked of others and is open still."""

    def entries(self, path: str) -> Sequence[Entry]:
        """What is recorded under a path, oldest first."""

    def add(self, entry: Entry) -> Any:
        """Record something that follows from what is recorded already, or may be had again, without waiting for the commit.
        Returns the body as stored. Order is kept: a later `commit` makes it durable first."""

    async def commit(self, entry: Entry, change: Change | None = None) -> Any:
        """Record, and return the body as stored once it is durable. With a change of our own records the body
        holds its result as `output`. Raises `StepFailed` when the change is refused."""

    @property
    def full(self) -> bool:
        """Whether so much waits to be written that a walk should wait, by `room`."""

    async def room(self) -> None:
        """Return when more may be added."""


class Journal(Record, Arrivals, Clock, Protocol):
    """The durable record of one run."""


class Performs(Protocol):
    """Carries out calls of actions."""

    def manner(self, action: str, input: Mapping[str, object]) -> Manner:
        """How this action, with this input, behaves. Raises `StepFailed` (`missing`) for an unknown one."""

    async def admit(self, call: Call) -> float:
        """Seconds to wait before this call may be made; 0 when it may be made now."""

    async def perform(self, call: Call) -> Outcome:
        """Carry it out. Raises `StepFailed`."""

    async def happened(self, call: Call) -> Outcome | None:
        """Of a checkable action: what it gave if it happened, None if it did not. Raises `StepFailed`."""


class Changes(Protocol):
    """Says what actions change of our own records."""

    async def change(self, call: Call) -> Change:
        """The change that an action makes which reaches no further than our records. Raises `StepFailed`."""


class Prices(Protocol):
    """Knows models and what asking them may cost."""

    async def worst(self, call: Call) -> float | None:
        """The most money the first request of this call may cost; None when nobody knows. Raises `StepFailed`."""

    async def settle(self, model: str) -> Mapping[str, object]:
        """A model alias and its fallbacks as they stand now, by name; empty when there is none of that name."""


class Links(Protocol):
    """Knows where questions may be answered."""

    def link(self, question: str) -> str:
        """The address by which whoever has it may answer a question, given by its id."""


class Executor(Performs, Changes, Prices, Links, Protocol):
    """All that a walk has done for it."""
