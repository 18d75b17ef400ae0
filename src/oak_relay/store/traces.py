"""A journal read by place: a bounded part of it is looked at, however long it is.

Items, rounds and parts of a list or loop end in pages of the scope that the list makes (see `engine.paths.scope_of`); those
written by releases before stand in the scope around it, so that both are looked into.
"""

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from typing import Any
from uuid import UUID

from sqlalchemy import ARRAY, Text, and_, any_, bindparam, case, cast, func, or_, select
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.engine.paths import scope_of
from oak_relay.store import pages
from oak_relay.store.database import raw
from oak_relay.store.pages import Stored
from oak_relay.store.tables import journal, run

_PART = re.compile(r"\[(\d+):(\d+)\]$")
_ITEM = re.compile(r"\[\d+\]")
_DEEPEST = 64
"""Lists within lists in a path, at most."""


@dataclass(frozen=True, slots=True)
class Spent:
    """What was spent below a place."""

    tokens: int = 0
    money: Decimal = Decimal(0)
    unpriced: int = 0
    last: datetime | None = None
    """When something was written there last."""


@dataclass(frozen=True, slots=True)
class PartRun:
    """A run that walks a part of a long list: the items from `first` up to `end`, without that one; `state` None while it has
    not ended."""

    id: UUID
    first: int
    end: int
    state: str | None


@dataclass(slots=True)
class Items:
    """How far the items of a list or the rounds of a loop are: by their numbers those that have ended, and of these those that
    failed."""

    ended: set[int] = field(default_factory=set)
    failed: set[int] = field(default_factory=set)


def _mine(workspace: int, run_id: UUID) -> Any:
    return and_(journal.c.workspace_id == workspace, journal.c.run_id == run_id)


_READ = tuple(journal.c[name] for name in ("page", "scope", "worker_id", "entries", "details"))


async def standing(
    connection: AsyncConnection, workspace: int, run_id: UUID, scopes: Sequence[str], most: int
) -> list[Stored]:
    """The entries that stand in some scopes, in order; `most` pages at most."""
    given = bindparam("scopes", list(scopes), ARRAY(Text))
    query = select(*_READ).where(_mine(workspace, run_id), journal.c.scope == any_(given))
    rows = await connection.execute(query.order_by(journal.c.page).limit(most))
    return [entry for row in rows for entry in pages.entries_of(dict(row._mapping))]


def _ends(places: Iterable[str]) -> Any:
    return cast(list(places), ARRAY(Text))


async def ends(
    connection: AsyncConnection, workspace: int, run_id: UUID, places: Sequence[str]
) -> dict[str, list[Stored]]:
    """The entries that brought some places to their end, by place."""
    query = select(*_READ).where(
        _mine(workspace, run_id), journal.c.closes.is_not(None), journal.c.closes.op("&&")(_ends(places))
    )
    found: dict[str, list[Stored]] = {}
    for row in await connection.execute(query.order_by(journal.c.page)):
        for entry in pages.entries_of(dict(row._mapping)):
            place, _, mark = entry.path.partition("#")
            if mark == "end" and place in places:
                found.setdefault(place, []).append(entry)
    return found


async def below(
    connection: AsyncConnection, workspace: int, run_id: UUID, path: str, most: int, loop: bool
) -> list[Stored]:
    """What stands at a place and within it, in order: the last `most` pages of it. Of a `loop` only what stands at the place
    itself."""
    named = func.strpos(journal.c.entries, f'"{path}') > 0  # as paths stand in pages: they need no escape
    within = and_(journal.c.scope == scope_of(path), named)
    if not loop:
        within = or_(within, func.starts_with(journal.c.scope, path))
    query = select(*_READ).where(_mine(workspace, run_id), within).order_by(journal.c.page.desc()).limit(most)
    rows = list(await connection.execute(query))
    return [entry for row in reversed(rows) for entry in pages.entries_of(dict(row._mapping))]


async def spent(connection: AsyncConnection, workspace: int, run_id: UUID, places: Sequence[str]) -> dict[str, Spent]:
    """What was spent below some places, those of parts of a list with it."""
    if not places:
        return {}
    given = select(func.unnest(_ends(places)).label("place")).subquery()
    rest = func.substr(journal.c.scope, func.length(given.c.place) + 1, 1)
    query = (
        select(
            given.c.place,
            func.sum(journal.c.tokens_in + journal.c.tokens_out),
            func.sum(journal.c.money),
            func.sum(journal.c.unpriced),
            func.max(journal.c.at),
        )
        .select_from(given)
        .join(journal, and_(func.starts_with(journal.c.scope, given.c.place), rest.in_(("", "[", ".", "/", "!"))))
        .where(_mine(workspace, run_id))
        .group_by(given.c.place)
    )
    found = {
        place: Spent(int(tokens or 0), money or Decimal(0), int(unpriced or 0), last)
        for place, tokens, money, unpriced, last in await connection.execute(query)
    }
    for place, more in (await _spent_by_parts(connection, workspace, run_id, places)).items():
        here = found.get(place, Spent())
        last = max((at for at in (here.last, more.last) if at), default=None)
        found[place] = Spent(here.tokens + more.tokens, here.money + more.money, here.unpriced + more.unpriced, last)
    return found


async def _spent_by_parts(
    connection: AsyncConnection, workspace: int, run_id: UUID, places: Sequence[str]
) -> dict[str, Spent]:
    place = func.regexp_replace(run.c.parent_path, r"\[\d+:\d+\]$", "")
    query = (
        select(
            place,
            func.sum(run.c.tokens_in + run.c.tokens_out),
            func.sum(run.c.money),
            func.sum(run.c.unpriced),
            func.max(run.c.ended_at),
        )
        .where(run.c.workspace_id == workspace, run.c.parent_id == run_id, run.c.kind == "part")
        .group_by(place)
    )
    return {
        owner: Spent(int(tokens or 0), money or Decimal(0), int(unpriced or 0), last)
        for owner, tokens, money, unpriced, last in await connection.execute(query)
        if owner in places
    }


async def parts(connection: AsyncConnection, workspace: int, run_id: UUID, loop: str) -> list[PartRun]:
    """The runs that walk parts of a list, in the order of the list."""
    query = select(run.c.id, run.c.parent_path, run.c.state).where(
        run.c.workspace_id == workspace,
        run.c.parent_id == run_id,
        run.c.kind == "part",
        run.c.parent_path.startswith(f"{loop}[", autoescape=True),
    )
    found = []
    for row in await connection.execute(query):
        bounds = _PART.search(row.parent_path)
        if bounds and row.parent_path[: bounds.start()] == loop:
            found.append(PartRun(row.id, int(bounds[1]), int(bounds[2]), row.state))
    return sorted(found, key=lambda part: part.first)


async def items(connection: AsyncConnection, workspace: int, run_ids: Sequence[UUID], loop: str) -> Items:
    """How far a list or loop is, over the runs that walk it."""
    told = or_(journal.c.broken.is_(None), journal.c.broken > 0)
    query = select(journal.c.closes, case((told, journal.c.entries))).where(
        journal.c.workspace_id == workspace,
        journal.c.run_id == any_(cast(list(run_ids), ARRAY(journal.c.run_id.type))),
        journal.c.closes.is_not(None),
        journal.c.scope.in_((loop, scope_of(loop))),
    )
    found = Items()
    for closes, entries in await connection.execute(query):
        found.ended.update(number for place in closes if (number := number_in(place, loop)) is not None)
        if entries is not None:
            row = {"page": 0, "scope": loop, "worker_id": None, "entries": entries, "details": None}
            for entry in pages.entries_of(row):
                number = number_in(entry.path.partition("#")[0], loop)
                if number is not None and isinstance(entry.body, dict) and "error" in entry.body:
                    found.failed.add(number)
    return found


async def begun(connection: AsyncConnection, workspace: int, run_ids: Sequence[UUID], loop: str) -> set[int]:
    """The items or rounds of a list or loop in which something happened."""
    query = (
        select(journal.c.scope)
        .distinct()
        .where(
            journal.c.workspace_id == workspace,
            journal.c.run_id == any_(cast(list(run_ids), ARRAY(journal.c.run_id.type))),
            func.starts_with(journal.c.scope, f"{loop}["),
        )
    )
    numbers = (number_in(scope, loop, True) for (scope,) in await connection.execute(query))
    return {number for number in numbers if number is not None}


async def each_of(
    connection: AsyncConnection, workspace: int, run_ids: Sequence[UUID], loop: str, numbers: Sequence[int]
) -> Mapping[int, Spent]:
    """What was spent in some items or rounds of a list or loop."""
    rest = func.substr(journal.c.scope, len(loop) + 2)
    number = func.split_part(rest, "]", 1)
    query = (
        select(
            number,
            func.sum(journal.c.tokens_in + journal.c.tokens_out),
            func.sum(journal.c.money),
            func.sum(journal.c.unpriced),
            func.max(journal.c.at),
        )
        .where(
            journal.c.workspace_id == workspace,
            journal.c.run_id == any_(cast(list(run_ids), ARRAY(journal.c.run_id.type))),
            func.starts_with(journal.c.scope, f"{loop}["),
            number == any_(_ends(str(one) for one in numbers)),
        )
        .group_by(number)
    )
    return {
        int(one): Spent(int(tokens or 0), money or Decimal(0), int(unpriced or 0), last)
        for one, tokens, money, unpriced, last in await connection.execute(query)
    }


def number_in(place: str, loop: str, inside: bool = False) -> int | None:
    """The number of an item or round of a list or loop from its place, or (`inside`) from any within it; None for another."""
    if not place.startswith(f"{loop}["):
        return None
    found = _ITEM.match(place, len(loop))
    if found is None or (not inside and found.end() != len(place)):
        return None
    return int(place[found.start() + 1 : found.end() - 1])


async def home(connection: AsyncConnection, workspace: int, run_id: UUID, path: str) -> UUID | None:
    """The run in whose journal a place of a run stands: itself, or the one that walks the part of a long list with it; None
    when no part with it was begun."""
    at = 0
    for _ in range(_DEEPEST):
        found = _ITEM.search(path, at)
        if found is None:
            return run_id
        loop, number, at = path[: found.start()], int(found.group()[1:-1]), found.end()
        if "/" in loop:
            return run_id
        some = await parts(connection, workspace, run_id, loop)
        if some:
            within = next((part for part in some if part.first <= number < part.end), None)
            if within is None:
                return None
            run_id = within.id
    return None


async def filled(connection: AsyncConnection, workspace: int, entry: Stored) -> Stored:
    """An entry with what is kept apart of it."""
    await pages.fill(await raw(connection), workspace, [entry])
    return entry
