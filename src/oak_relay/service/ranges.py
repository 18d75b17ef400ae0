"""Parts of a file, as they are asked for (RFC 9110, section 14), and files that are known already (section 13)."""

import re
from dataclasses import dataclass

from fastapi import Request

from oak_relay.service.problems import Problem

_ONE = re.compile(r"bytes=(\d{0,18})-(\d{0,18})")


@dataclass(frozen=True, slots=True)
class Part:
    """Bytes of a file, from one on up to before another."""

    first: int
    end: int

    def header(self, size: int) -> dict[str, str]:
        """The header that tells which part it is."""
        return {"Content-Range": f"bytes {self.first}-{self.end - 1}/{size}"}


def asked(request: Request, size: int, tag: str) -> Part | None:
    """The part of a file of a size that a request asks for; None for all of it, as for several parts at once. Raises `Problem`
    (416) for one that is not there."""
    said = request.headers.get("range", "").strip()
    found = _ONE.fullmatch(said)
    if found is None or (found[1], found[2]) == ("", ""):
        return None
    if request.headers.get("if-range", tag) != tag:
        return None
    if found[1] == "":
        first, end = max(0, size - int(found[2])), size
    else:
        first, end = int(found[1]), min(size, int(found[2]) + 1) if found[2] else size
        if found[2] and int(found[2]) < first:
            return None
    if first >= size or first >= end:
        raise Problem(
            416,
            "this part is not there",
            f"it has {size:,} bytes",
            "ask for less",
            headers={"Content-Range": f"bytes */{size}"},
        )
    return Part(first, end)


def known(request: Request, tag: str) -> bool:
    """Whether who asks has it already, by its tag (`If-None-Match`)."""
    said = request.headers.get("if-none-match", "")
    return said.strip() == "*" or tag in [one.strip().removeprefix("W/") for one in said[:1000].split(",")]
