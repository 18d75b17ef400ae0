"""Things found by a part of their id."""

from collections.abc import Iterable
from typing import Protocol, TypeVar
from uuid import UUID

from oak_relay.client.errors import NotFound, OakRelayError

END = 12
"""Letters of an id that lists show: its end, which differs most."""


class HasId(Protocol):
    @property
    def id(self) -> UUID: ...


T = TypeVar("T", bound=HasId)


def found(among: Iterable[T], given: str, what: str, fix: str) -> T:
    """The one whose id holds what is given. Raises `NotFound`, and `OakRelayError` where it could be several."""
    fitting = [one for one in among if given.lower() in str(one.id)]
    if not fitting:
        raise NotFound(404, {"title": f"no {what} {given}".strip(), "fix": fix})
    if len(fitting) > 1:
        raise OakRelayError(f"{given} could be {len(fitting)} {what}s; give more of the id")
    return fitting[0]
