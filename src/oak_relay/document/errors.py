"""What can go wrong, in a closed set of kinds, and what the checker finds."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Literal, NotRequired, get_args

from typing_extensions import TypedDict

from oak_relay.usage import NOTHING, Usage

ErrorKind = Literal[
    "invalid",
    "denied",
    "missing",
    "busy",
    "unavailable",
    "timeout",
    "out_of_credit",
    "refused",
    "cut_off",
    "too_long",
    "wrong_shape",
    "over_limit",
    "no_progress",
    "unkept",
    "cancelled",
    "diverged",
    "failed",
]
ERROR_KINDS: tuple[str, ...] = get_args(ErrorKind)
Reached = Literal["no", "maybe", "yes"]


class ErrorData(TypedDict):
    """An error as steps and records see it. `delay` in seconds; `step` and `limit` are paths."""

    kind: ErrorKind
    message: str
    reached: NotRequired[Reached]
    fix: NotRequired[str]
    delay: NotRequired[float]
    step: NotRequired[str]
    limit: NotRequired[str]
    waits_for: NotRequired[str]


class Fault(Exception):
    """Root of what goes wrong for a reason that can be told: a `kind` of the closed set, the message, and a `fix`, what to
    do. Whoever does not know a fault more closely can still tell of it."""

    kind: ErrorKind = "failed"
    fix: str = ""

    @property
    def message(self) -> str:
        """What was attempted, and why it failed."""
        return str(self)


class StepFailed(Fault):
    """A step did not succeed.

    Attributes: `kind` (closed set), `message` (what was attempted and why it failed), `fix` (what to
    do), `reached` (whether the other side saw the request), `delay` (seconds it asked to wait),
    `detail` (requests, replies, messages, for the trace), `usage` (tokens and money spent all the same),
    `step` (the path of the step that failed), `waits_for` (the credential without which, or without whose credit, it cannot
    succeed), `limit` (the path of the step whose limit was reached, empty for the run's).
    """

    def __init__(
        self,
        kind: ErrorKind,
        message: str,
        *,
        fix: str = "",
        reached: Reached = "no",
        delay: float | None = None,
        detail: Mapping[str, object] | None = None,
        usage: Usage = NOTHING,
        step: str = "",
        limit: str = "",
        waits_for: str = "",
    ) -> None:
        super().__init__(message)
        self.kind: ErrorKind = kind
        self._message = message
        self.fix = fix
        self.reached: Reached = reached
        self.delay = delay
        self.detail: Mapping[str, object] = detail or {}
        self.usage = usage
        self.step = step
        self.limit = limit
        self.waits_for = waits_for

    @property
    def message(self) -> str:
        return self._message

    @message.setter
    def message(self, message: str) -> None:
        self._message = message

    def as_data(self) -> ErrorData:
        """The error as steps see it: kind, message, fix, reached, and the delay when there is one."""
        data: ErrorData = {"kind": self.kind, "message": self.message, "reached": self.reached}
        if self.fix:
            data["fix"] = self.fix
        if self.delay is not None:
            data["delay"] = self.delay
        if self.step:
            data["step"] = self.step
        if self.limit:
            data["limit"] = self.limit
        if self.waits_for:
            data["waits_for"] = self.waits_for
        return data

    @classmethod
    def from_data(cls, data: ErrorData) -> "StepFailed":
        """From a record."""
        return cls(
            data["kind"],
            data["message"],
            fix=data.get("fix", ""),
            reached=data.get("reached", "no"),
            delay=data.get("delay"),
            step=data.get("step", ""),
            limit=data.get("limit", ""),
            waits_for=data.get("waits_for", ""),
        )


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing the checker found. `line` and `column` count from 1."""

    line: int
    column: int
    message: str
    fix: str
    severity: Literal["error", "warning"] = "error"
    path: str = ""

    def as_data(self) -> dict[str, object]:
        """As JSON."""
        return asdict(self)
