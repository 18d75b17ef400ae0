"""Pages of an answer that are asked for one after the other and put together, in bounds."""

from collections.abc import Callable
from typing import Any, Literal, Protocol
from urllib.parse import urljoin, urlsplit

from oak_relay.document import values
from oak_relay.document.errors import StepFailed

TOGETHER, ITEMS, MOST = 16_000_000, 100_000, 1_000
"""Bytes and items of all pages together, and how many pages there may be."""
How = Literal["link", "cursor", "offset", "page"]


class Answered(Protocol):
    """A page as it came: what its `Link` header (RFC 8288) says."""

    @property
    def links(self) -> dict[str | None, dict[str, str]]: ...


class Turning:
    """Pages that are put together. `items` gives those of a page, `mark` the mark or address of the next one that stands in it;
    without `mark` the address is that of the `Link` header."""

    def __init__(self, how: How, items: Callable[[Any], object], mark: Callable[[Any], object] | None) -> None:
        self._how, self._items_of, self._mark_of = how, items, mark
        self.last: Any = None
        self.items: list[Any] = []
        self._had = 0
        self._seen: set[str] = set()
        self._size = self.pages = 0

    def add(self, body: object, size: int) -> None:
        """One page more. Raises `StepFailed`: `wrong_shape` for one without a list of items, `too_long`."""
        found = self._items_of(body)
        if not isinstance(found, list):
            raise StepFailed("wrong_shape", f"page {self.pages + 1} has no list of items", reached="yes")
        self.last, self._had = body, len(found)
        self.items += found
        self._size += size
        self.pages += 1
        if self._size > TOGETHER or len(self.items) > ITEMS:
            raise StepFailed(
                "too_long",
                f"{self.pages} pages together are more than {TOGETHER:,} bytes or {ITEMS:,} items",
                fix="ask for fewer pages",
                reached="yes",
            )

    def address(self, answer: Answered, url: str) -> str | None:
        """Of pages that follow by addresses: that of the next one; None when this was the last. Raises `StepFailed`: `denied` for
        one elsewhere, `wrong_shape` for one that was there before."""
        told = self._mark_of(self.last) if self._mark_of else None
        where = told if isinstance(told, str) and told else answer.links.get("next", {}).get("url")
        if not where:
            return None
        try:
            whole = urljoin(url, str(where))
            elsewhere = urlsplit(whole)[:2] != urlsplit(url)[:2]
        except ValueError as error:
            raise StepFailed("wrong_shape", f"the next page has no address: {error}", reached="yes") from None
        if elsewhere:
            raise StepFailed(
                "denied", f"the next page is elsewhere: {whole[:200]}", fix="ask there by a step of its own"
            )
        return self._fresh(whole)

    def value(self, before: object) -> object | None:
        """Of pages that follow by a value: what is sent for the next one, after `before`; None when this was the last. Raises
        `StepFailed` (`wrong_shape`) for a mark that was there before."""
        if self._how == "cursor":
            mark = self._mark_of(self.last) if self._mark_of else None
            if mark in (None, "", False):
                return None
            self._fresh(values.text_of(mark))
            return mark
        if not self._had:
            return None
        known = isinstance(before, int) and not isinstance(before, bool)
        first = int(str(before)) if known else 0 if self._how == "offset" else 1
        return first + (self._had if self._how == "offset" else 1)

    def _fresh(self, mark: str) -> str:
        if mark in self._seen:
            raise StepFailed("wrong_shape", "the next page is one that was there before", reached="yes")
        self._seen.add(mark)
        return mark
