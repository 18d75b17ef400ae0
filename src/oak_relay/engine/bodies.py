"""What entries say of how something ended: an item of a list, a child run."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, TypedDict

from oak_relay.document.errors import ErrorData, ErrorKind, StepFailed
from oak_relay.usage import Usage


class ItemEnd(TypedDict, total=False):
    """What an item of a list gave: its `value`, or its `error` where failures are kept."""

    value: object
    error: ErrorData


@dataclass(frozen=True, slots=True)
class ChildEnd:
    """How a child run ended, and what it has used."""

    state: str
    result: object
    error: ErrorData | None
    usage: Usage

    @classmethod
    def read(cls, data: Mapping[str, Any]) -> "ChildEnd":
        """From what its end was told with."""
        return cls(data["state"], data.get("result"), data.get("error"), Usage.read(data.get("usage")))

    def failure(self, name: str, path: str) -> StepFailed:
        """The error of the step at a path that started it."""
        error = self.error or ErrorData(kind="failed", message=f"the run ended {self.state}")
        kind: ErrorKind = "cancelled" if self.state == "cancelled" else error["kind"]
        message = f"{name}: {error['message']}"
        return StepFailed(kind, message, fix=error.get("fix", ""), reached="yes", step=path)
