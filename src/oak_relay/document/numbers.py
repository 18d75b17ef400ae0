"""Numbers in what is sent: those of JSON alone, and no text or truth value that could be read as one."""

from typing import Annotated

from pydantic import BeforeValidator


def _no_other(given: object) -> object:
    if isinstance(given, (str, bytes, bool)):
        raise ValueError("a number is expected, and neither text nor true or false")
    return given


Whole = Annotated[int, BeforeValidator(_no_other)]
"""A whole number."""
Number = Annotated[float, BeforeValidator(_no_other)]
"""Any number of JSON."""


def whole(text: str) -> int | None:
    """The number that a text of a few digits is; None for any other text, digits of other scripts too."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= 12 else None
