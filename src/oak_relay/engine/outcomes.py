"""What a walk begins with, how it ends, and what a journal says of one effect."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any, Literal

from oak_relay.document.errors import StepFailed
from oak_relay.engine.protocols import Entry

Scope = dict[str, Any]


@dataclass(frozen=True, slots=True)
class Start:
    """What a walk begins with. `worked` is the time already spent working, in seconds; `grace` how long
    a call of a lost worker may still be under way behind its time-out, in seconds."""

    run_id: str
    scope: Scope
    worked: float = 0.0
    grace: float = 10.0


@dataclass(slots=True)
class Spent:
    """Tokens and money of a run so far."""

    input: int = 0
    output: int = 0
    money: Decimal = Decimal(0)

    def add(self, usage: dict[str, Any] | None) -> None:
        if usage:
            self.input += int(usage.get("input") or 0)
            self.output += int(usage.get("output") or 0)
            self.money += Decimal(str(usage.get("money") or 0))


@dataclass(frozen=True, slots=True)
class Finished:
    """The run has ended."""

    state: Literal["succeeded", "failed", "cancelled"]
    result: Any = None
    error: dict[str, Any] | None = None


@dataclass(frozen=True, slots=True)
class Rested:
    """The run waits; each wake is a path and a moment."""

    wakes: tuple[tuple[str, datetime], ...]


class Diverged(Exception):
    """The journal holds another input than this walk comes to."""


@dataclass(slots=True)
class Attempts:
    """What a journal says of one effect."""

    done: bool = False
    output: Any = None
    error: StepFailed | None = None
    again_at: datetime | None = None
    number: int = 0
    failures: int = 0
    open: Entry | None = None


def read_attempts(entries: Sequence[Entry], path: str, hash_: str) -> Attempts:
    """What the entries of an effect say. Raises `Diverged` when they were made with another input."""
    state = Attempts()
    for entry in entries:
        if entry.hash != hash_ and entry.kind != "skipped":
            raise Diverged(f"{path} was recorded with another input")
        state.number = max(state.number, entry.attempt)
        if entry.kind == "began":
            state.open = entry
            continue
        state.open = None
        if entry.kind == "lost":
            continue
        if "error" not in entry.body:
            state.done, state.output, state.error = True, entry.body["output"], None
        else:
            state.failures += 1
            state.error = StepFailed.from_data(entry.body["error"])
            again = entry.body.get("again_at")
            state.done, state.again_at = again is None, datetime.fromisoformat(again) if again else None
    return state
