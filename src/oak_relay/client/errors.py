"""What can go wrong when talking to the service."""

from collections.abc import Mapping

from oak_relay.client import results


class OakRelayError(Exception):
    """Base of all errors of the client."""


class Unreachable(OakRelayError):
    """No service answers at this address."""


class WaitedTooLong(OakRelayError):
    """The run has not ended within the time given."""


class RunFailed(OakRelayError):
    """A run ended otherwise than well; `error` has its kind, message and fix."""

    def __init__(self, state: str, error: results.Error | None) -> None:
        super().__init__(f"the run ended {state}: {error.message if error else ''}")
        self.state = state
        self.error = error


class Problem(OakRelayError):
    """The service refused. `status` is HTTP's; `kind` of the closed set; `fix` what to do; `more` the rest."""

    def __init__(self, status: int, document: Mapping[str, object]) -> None:
        self.status = status
        self.title = str(document.get("title", "the service refused"))
        self.detail = str(document.get("detail", ""))
        self.kind = str(document.get("kind", "failed"))
        self.fix = str(document.get("fix", ""))
        self.more = document
        found = document.get("findings")
        self.findings = [results.Finding.model_validate(one) for one in found] if isinstance(found, list) else []
        detail = f": {self.detail}" if self.detail and self.detail != self.title else ""
        super().__init__(f"{self.title}{detail}")


class Denied(Problem):
    """No valid token, or not allowed."""


class NotFound(Problem):
    """There is no such thing."""


class Invalid(Problem):
    """What was sent does not fit."""


class Conflict(Problem):
    """It stands against what is there, or somebody else was faster."""


class Busy(Problem):
    """Too much at once; try again."""


def problem(status: int, document: Mapping[str, object]) -> Problem:
    """The exception for a problem document."""
    kinds: dict[int, type[Problem]] = {
        400: Invalid, 401: Denied, 403: Denied, 404: NotFound, 409: Conflict, 412: Conflict, 428: Conflict, 413: Invalid, 422: Invalid, 429: Busy,
    }  # fmt: skip
    return kinds.get(status, Problem)(status, document)
