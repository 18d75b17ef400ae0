"""What a change asks of what is there: `If-Match` and `If-None-Match` with strong entity tags (RFC 9110, 13.1)."""

import re
from dataclasses import dataclass
from typing import Annotated

from fastapi import Depends, Header

from oak_relay.service.problems import Problem

_TAG = re.compile(r'"([\x21\x23-\x7e]*)"')


@dataclass(frozen=True, slots=True)
class Asked:
    """`match` are the tags of which one must be that of what is there, None where nothing is asked; `*` stands for whatever is
    there. `new`: nothing may be there."""

    match: frozenset[str] | None = None
    new: bool = False

    @property
    def whatever(self) -> bool:
        """Whether whatever is there may be replaced."""
        return self.match is not None and "*" in self.match

    def fits(self, tag: str | None) -> bool:
        """Whether it may be done to what has a tag, None where nothing is there."""
        if tag is None:
            return self.match is None
        return not self.new and (self.match is None or self.whatever or tag in self.match)

    def check(self, tag: str | None, what: str) -> None:
        """Raises `Problem` (412) when it may not be done to `what`, which has a tag."""
        if not self.fits(tag):
            raise changed(what, tag)


def changed(what: str, tag: str | None) -> Problem:
    """412: it is another than the one that was meant."""
    detail = f"there is no {what}" if tag is None else f"{what} is another now"
    fix = "make it anew" if tag is None else "read it again, and bring your change into it"
    return Problem(412, "it was changed meanwhile", detail, fix)


def asked(
    if_match: Annotated[
        str | None, Header(max_length=1000, description="The ETag of what is changed; `*` whatever is there.")
    ] = None,
    if_none_match: Annotated[
        str | None, Header(max_length=1000, description="`*`: only where nothing is there.")
    ] = None,
) -> Asked:
    """What a request asks for. Raises `Problem` (400)."""
    return Asked(_tags(if_match), _new(if_none_match))


Preconditions = Annotated[Asked, Depends(asked)]


def _tags(text: str | None) -> frozenset[str] | None:
    if text is None:
        return None
    if text.strip() == "*":
        return frozenset("*")
    tags = _TAG.findall(text)
    if not tags or "W/" in text:
        raise Problem(400, "If-Match is no list of strong tags", text, 'send the ETag as it was given: "7"')
    return frozenset(tags)


def _new(text: str | None) -> bool:
    if text is not None and text.strip() != "*":
        raise Problem(400, "If-None-Match is taken as * alone", text, "send *, or leave it out")
    return text is not None


def etag(tag: object) -> dict[str, str]:
    """The header that gives a tag."""
    return {"ETag": f'"{tag}"'}
