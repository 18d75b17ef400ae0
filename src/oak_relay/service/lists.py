"""Lists: every one comes in pages of one form, `{"items": […], "next": …}`, and goes on behind its `next`.

Pages are cut by the keys of what is listed, not by counting, so that they are stable while something is added.
"""

import re
from base64 import urlsafe_b64decode, urlsafe_b64encode
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Annotated, Any, Generic, TypeVar
from uuid import UUID

from fastapi import Depends, Query
from pydantic import BaseModel, Field

from oak_relay.document import values
from oak_relay.service.problems import Problem

T = TypeVar("T")
R = TypeVar("R")
_NUMBER = re.compile(r"-?[0-9]{1,15}")
MOST = 1000
"""Entries of a page, at most."""


class Page(BaseModel, Generic[T]):
    """A part of a list."""

    items: list[T]
    next: str | None = Field(None, description="Give as `after` for the next page; null at the end.")


@dataclass(frozen=True, slots=True)
class Asked:
    """Which part of a list is asked for: `limit` entries at most, behind the one that `after` tells."""

    limit: int
    after: str | None = None

    def id(self) -> UUID | None:
        """The id behind which the page begins. Raises `Problem`."""
        if self.after is None:
            return None
        try:
            return UUID(self.after)
        except ValueError:
            raise _odd(self.after) from None

    def number(self) -> int:
        """The number behind which the page begins, -1 at the start. Raises `Problem`."""
        if self.after is None:
            return -1
        if not _NUMBER.fullmatch(self.after):
            raise _odd(self.after)
        return int(self.after)

    def key(self, *kinds: type) -> list[Any] | None:
        """The values behind which the page begins, one of each kind. Raises `Problem`."""
        if self.after is None:
            return None
        try:
            found = values.loads(urlsafe_b64decode(self.after.encode() + b"=="))
            if not isinstance(found, list) or len(found) != len(kinds):
                raise ValueError
            return [_of(kind, one) for kind, one in zip(kinds, found, strict=True)]
        except (ValueError, TypeError):
            raise _odd(self.after) from None


def _of(kind: type, given: object) -> object:
    if kind is datetime and isinstance(given, str):
        moment = datetime.fromisoformat(given)
        if moment.tzinfo is None:
            raise ValueError
        return moment
    if not isinstance(given, kind):
        raise TypeError
    return given


def _odd(after: str) -> Problem:
    return Problem(422, f"after: {after[:80]!r} leads into another list", fix="give the `next` of the page before")


def cursor(*key: object) -> str:
    """Where a page ends whose last entry has this key (of texts, numbers and moments)."""
    plain = [one.isoformat() if isinstance(one, datetime) else one for one in key]
    return urlsafe_b64encode(values.dumps(plain).encode()).decode().rstrip("=")


def _asked(
    limit: Annotated[int, Query(ge=1, le=MOST, description="Entries of the page, at most.")] = 100,
    after: Annotated[str | None, Query(max_length=2000, description="The `next` of the page before.")] = None,
) -> Asked:
    return Asked(limit, after)


Asks = Annotated[Asked, Depends(_asked)]


def page(found: Sequence[R], asked: Asked, key: Callable[[R], object], shown: Callable[[R], T]) -> Page[T]:
    """A page of what was looked up behind `after`, one more than its limit where there is more."""
    kept = found[: asked.limit]
    ends = kept[-1] if len(found) > asked.limit else None
    return Page(items=[shown(one) for one in kept], next=None if ends is None else str(key(ends)))


def cut(every: Iterable[R], asked: Asked, name: Callable[[R], str], shown: Callable[[R], T]) -> Page[T]:
    """A page of things that are all at hand and in the order of their names."""
    behind = [one for one in every if asked.after is None or name(one) > asked.after]
    return page(behind, asked, name, shown)


def following(every: Sequence[R], asked: Asked, key: Callable[[R], str], shown: Callable[[R], T]) -> Page[T]:
    """A page of things that are all at hand in an order of their own. Raises `Problem` when the one behind which it begins is
    not there any more."""
    first = next((n + 1 for n, one in enumerate(every) if key(one) == asked.after), 0)
    if asked.after is not None and not first:
        raise _odd(asked.after)
    return page(every[first:], asked, key, shown)
