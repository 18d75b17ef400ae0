"""What evaluating may cost: fuel that is used by the size of what is looked at and made, before it is done."""

from contextvars import ContextVar
from decimal import Decimal
from typing import NoReturn

from oak_relay.document.errors import StepFailed

FUEL = 250_000
"""What the texts of one step may use together; a unit is well under a microsecond of work."""
LONGEST_TEXT = 1_000_000
LONGEST_NUMBER = 1_000
"""Digits of a number, and the largest exponent either way."""
_BITS = 3322
"""Bits of so many decimal digits."""
_NODES, _LETTERS = 2, 200
"""So many values, or letters, are looked at for one unit."""


class Meter:
    """What one evaluation may use, and which references came out empty."""

    __slots__ = ("empty", "fuel")

    def __init__(self, fuel: int = FUEL) -> None:
        self.fuel = fuel
        self.empty: list[str] = []

    def charge(self, amount: int = 1) -> None:
        """Use fuel. Raises `StepFailed` (`over_limit`) when there is none left."""
        self.fuel -= amount
        if self.fuel < 0:
            spent()

    def weigh(self, value: object) -> None:
        """Use fuel by the size of a value, however deep: what looks at all of it costs so much. Raises `StepFailed`."""
        kind = type(value)
        if kind is str:
            self.charge(len(value) // _LETTERS)  # type: ignore[arg-type]
        elif kind is list or kind is dict or kind is tuple:
            self._weigh(value)

    def count(self, value: object) -> None:
        """Use fuel by how many items or letters a value has: what looks at no more than these costs so much."""
        kind = type(value)
        if kind is list or kind is dict or kind is tuple:
            self.charge(len(value) // _NODES)  # type: ignore[arg-type]
        elif kind is str:
            self.charge(len(value) // _LETTERS)  # type: ignore[arg-type]

    def _weigh(self, value: object) -> None:
        nodes = 0
        most = (self.fuel + 1) * _NODES
        waiting = [value]
        while waiting:
            here = waiting.pop()
            nodes += 1
            if isinstance(here, str):
                nodes += len(here) * _NODES // _LETTERS
            elif isinstance(here, dict):
                waiting.extend(here.values())
                nodes += len(here)
            elif isinstance(here, list | tuple):
                waiting.extend(here)
            if nodes + len(waiting) > most:
                spent()
        self.charge(nodes // _NODES)


METER: ContextVar[Meter] = ContextVar("meter")


def spent() -> NoReturn:
    """There is no fuel left."""
    raise StepFailed("over_limit", "the expression does too much work", fix="make its lists and texts shorter")


def short_text(length: int) -> None:
    """Raises `StepFailed` (`over_limit`) for a text that would be too long, before it is made."""
    if length > LONGEST_TEXT:
        raise StepFailed("over_limit", "the text is too long", fix="use less of it")


def sound_number(value: int | float | Decimal) -> None:
    """Raises `StepFailed` (`invalid`) for a number that is not finite, or has more digits or a larger exponent than any may
    have."""
    if isinstance(value, int):
        sound = value.bit_length() <= _BITS
    elif isinstance(value, Decimal):
        sound = value.is_finite() and len(value.as_tuple().digits) <= LONGEST_NUMBER and _in_bounds(value)
    else:
        sound = value == value and abs(value) != float("inf")
    if not sound:
        raise StepFailed(
            "invalid", f"the expression gives no number of at most {LONGEST_NUMBER:,} digits", fix="use smaller numbers"
        )


def _in_bounds(value: Decimal) -> bool:
    return -LONGEST_NUMBER <= value.adjusted() <= LONGEST_NUMBER
