"""Who may talk on a page, and how much is taken of them.

A page is that of a workflow that is on; or, for whoever has the key of a draft, that of the newest version of one, on or not, whose
conversations are apart from all others.
"""

import hashlib
import time
from collections import OrderedDict, deque
from dataclasses import dataclass, field, replace
from ipaddress import IPv6Address, ip_address
from typing import Annotated, Any
from urllib.parse import unquote

from fastapi import Header, Path, Request

from oak_relay.engine.plan import Plan
from oak_relay.runtime.intake import RunTemplate, Target
from oak_relay.service.hearing import nobody, talked
from oak_relay.service.parts import Parts
from oak_relay.service.problems import Problem
from oak_relay.service.receiving import draft_way
from oak_relay.store import workflows
from oak_relay.store.database import raw
from oak_relay.triggers.conversation import PAGE, Conversation, signed_draft, signed_page
from oak_relay.vault.kinds import SecretSent, same_token

_SPAN = 60.0
"""Seconds within which messages count for how many a page takes."""
Where = Annotated[str, Path(max_length=61, pattern=r"^[a-z0-9][a-z0-9-]*$", description="The page.")]
Visitor = Annotated[
    str,
    Header(
        alias="X-Visitor",
        pattern=r"^[A-Za-z0-9_-]{22,100}$",
        description="Who talks: a random key that the page keeps.",
    ),
]


PageKey = Annotated[
    str,
    Header(
        alias="X-Page-Key",
        max_length=500,
        description="What opens a page that is not public: the end of its link, or its password.",
    ),
]


@dataclass(slots=True)
class Allowed:
    """How much is taken of whom, as far as a process knows; of the many that came once the oldest are forgotten."""

    _came: OrderedDict[str, deque[float]] = field(default_factory=OrderedDict)

    def take(self, who: str, most: int, count: bool = True) -> float:
        """Seconds until one more is taken; zero when it is taken now, and counted."""
        now = time.monotonic()
        came = self._came.setdefault(who, deque())
        self._came.move_to_end(who)
        while came and now - came[0] > _SPAN:
            came.popleft()
        if len(came) >= most:
            return _SPAN - (now - came[0])
        if count:
            came.append(now)
        if len(self._came) > 50_000:
            self._came.popitem(last=False)
        return 0.0


_ADDRESSES, _PAGES, _WRONG = Allowed(), Allowed(), Allowed()
_TRIES = 10
"""Wrong keys of one address within the same time."""


@dataclass(frozen=True, slots=True)
class Opened:
    """A page that somebody may talk on; `draft` is the version of one that is tried, with where what is said there goes to."""

    path: str
    title: str
    given: Conversation
    draft: int = 0
    target: Target | None = None
    plan: Plan | None = None

    def key(self, visitor: str) -> str:
        """The key of a visitor's conversation."""
        key = f"{self.path} {person_of(visitor)[:16]}"
        return f"draft {key}" if self.draft else key


DRAFT = "draft:"
"""What the key of a draft begins with; the workflow's name and what is signed stand behind."""


async def opened(parts: Parts, path: str, request: Request, key: str) -> Opened:
    """The page that a key opens. Raises `Problem`."""
    if key.startswith(DRAFT):
        return await _draft(parts, path, key.removeprefix(DRAFT))
    row, given = await given_of(parts, path)
    page = Opened(path, given.title or row.title or path, given)
    if given.open_to == "public":
        return page
    who = f"{path} {network(request.client.host if request.client else '')}"
    if (wait := _WRONG.take(who, _TRIES, count=False)) > 0:
        raise Problem(429, "too many wrong tries", fix="wait a little", headers={"Retry-After": str(int(wait) + 1)})
    if given.open_to == "link":
        opens = parts.registry.vault.signed(signed_page(row.workflow_id, path), key)
    else:
        key = unquote(key)  # it may hold letters that no header carries
        stored = (await parts.registry.fresh()).credentials.get(given.password or "")
        opens = isinstance(stored, SecretSent) and same_token(key, stored.reveal())
    if not opens:
        if key:
            _WRONG.take(who, _TRIES)
        word = "opens by its whole link alone" if given.open_to == "link" else "asks for a password"
        raise Problem(401, f"this page {word}", given.open_to, "ask whoever gave you the address")
    return page


async def _draft(parts: Parts, path: str, key: str) -> Opened:
    """The page of a workflow's newest version. Raises `Problem`."""
    name, _, proof = key.partition(":")
    async with parts.database.connect() as connection:
        row = await workflows.by_name(connection, parts.workspace, name) if 0 < len(name) <= 100 else None
        if row is None or not parts.registry.vault.signed(signed_draft(row.id, path), proof):
            raise nobody(f"/talk/{path}")
        newest = await workflows.one_version(connection, parts.workspace, row.id, None)
        assert newest is not None
        plan, document = await parts.registry.plan(await raw(connection), newest.id)
        for trigger in document.triggers:
            way = await draft_way(parts, connection, newest, trigger.trigger, f"/talk/{path}")
            if (
                way is not None
                and isinstance(way.given, Conversation)
                and (way.given.channel, way.given.path) == (PAGE, path)
            ):
                target = replace(way.target, template=replace(way.target.template, policy=RunTemplate.of(plan).policy))
                return Opened(path, way.given.title or document.title or path, way.given, newest.number, target, plan)
    raise nobody(f"/talk/{path}")


def paced(request: Request, page: Opened) -> None:
    """One more message of an address, and of a page. Raises `Problem`."""
    who, pace, path = network(request.client.host if request.client else ""), page.given.pace, page.path
    for allowed, name, most in ((_ADDRESSES, f"{path} {who}", pace.address), (_PAGES, path, pace.page)):
        if (wait := allowed.take(name, most)) > 0:
            raise Problem(
                429, "that is too much at once", fix="wait a little", headers={"Retry-After": str(int(wait) + 1)}
            )


async def given_of(parts: Parts, path: str) -> tuple[Any, Conversation]:
    """The trigger of a page, and what it says. Raises `Problem`."""
    row, given = await talked(parts, path)
    if given.channel != PAGE:
        raise nobody(f"/talk/{path}")
    return row, given


def person_of(visitor: str) -> str:
    """Who visits, by a name from which the key is not found."""
    return hashlib.sha256(f"visitor {visitor}".encode()).hexdigest()[:32]


def network(address: str) -> str:
    """Whom an address counts for: itself, or its network of 64 bits (IPv6, RFC 6177)."""
    try:
        known = ip_address(address)
    except ValueError:
        return address[:60]
    return str(known) if not isinstance(known, IPv6Address) else str(int(known) >> 64)
