"""What operations are called here: by the document's own names, in small letters."""

import re

_HUMPS = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")
_OTHERS = re.compile(r"[^a-z0-9]+")
_LONGEST = 60


def slug(text: str, otherwise: str = "it") -> str:
    """A name in small letters, digits and underscores."""
    found = _OTHERS.sub("_", _HUMPS.sub("_", text[:400]).lower()).strip("_")[:_LONGEST].strip("_")
    if not found:
        return otherwise
    return found if found[0].isalpha() else f"n{found}"[:_LONGEST]


def of_operation(method: str, path: str, said: object) -> str:
    """What an operation is called: by its `operationId`, else by its method and path."""
    if isinstance(said, str) and said.strip():
        return slug(said)
    return slug(f"{method.lower()} {path}")


def free(wished: str, taken: set[str]) -> str:
    """A name that is not taken, which then is."""
    name, number = wished, 2
    while name in taken:
        name, number = f"{wished}_{number}", number + 1
    taken.add(name)
    return name


def sentence(text: object, most: int = 120) -> str:
    """The first sentence of a text, on one line."""
    if not isinstance(text, str):
        return ""
    line = " ".join(text[:2_000].split())
    first = re.split(r"(?<=[.!?])\s", line, maxsplit=1)[0]
    short = first if len(first) <= most else f"{first[: most - 1].rsplit(' ', 1)[0]}…"
    return short.rstrip(".")
