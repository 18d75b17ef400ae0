"""Pages of a journal: what a scope of a run wrote in one commit is one row, its entries as JSON text (RFC 8259).

An entry stands in `entries` as `[path, kind, attempt, hash, started, at, body]`; a body that is kept apart is null there
and followed by its reference. `details` holds what only a trace shows, entry by entry. An entry's place is its page times
`MOST` plus its index, so that places grow in the order in which a run wrote.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from typing import Any, Protocol
from uuid import UUID

import asyncpg
import orjson

from oak_relay.document import values
from oak_relay.engine.entries import Entry, EntryKind
from oak_relay.store import artifacts
from oak_relay.store.usage import Used

MOST = 1000
"""Entries of a page."""
LONGEST = 512_000
"""Characters of a page after which the next one begins."""
_BROKEN = '{"error":'
"""How the body of an item begins that failed."""
_OUTCOMES = frozenset({"value", "ended", "closed"})


class Applicable(Protocol):
    """A change of our own records that is made in the commit of its entry (see `store.changes`)."""

    hints: tuple[str, ...]

    def conversation(self) -> str:
        """The key of the conversation that it changes; empty when it changes none."""

    def lock(self) -> str:
        """What it must have for itself; empty when nothing."""

    async def before(self, connection: asyncpg.Connection, workspace: int) -> None:
        """What must be so before any change of the commit is made."""

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: "EntryRow") -> object:
        """Make it; what the entry's body holds as `output`."""


@dataclass(slots=True)
class EntryRow:
    """An entry that is to be written: body and detail as JSON text. `scope` is the innermost item or round it stands in;
    `change` one of our own records in the same commit, whose result is put into the body beside what is `given` there."""

    run_id: UUID
    path: str
    kind: str
    attempt: int
    hash: str
    body: str
    detail: str | None = None
    started: datetime | None = None
    at: datetime | None = None
    scope: str = ""
    steps: int = 0
    attempts: int = 0
    tokens_in: int = 0
    tokens_out: int = 0
    money: Decimal | None = None
    unpriced: int = 0
    change: "Applicable | None" = None
    depth: int = 0
    used: Used | None = None
    result: object = None
    given: Mapping[str, object] | None = None


@dataclass(slots=True)
class Page:
    """Entries of one scope of a run that are written together, under a claim of so many generations."""

    run_id: UUID
    number: int
    generation: int
    scope: str
    entries: list[EntryRow] = field(default_factory=list)

    def place(self, index: int) -> int:
        """The place of an entry in its run."""
        return self.number * MOST + index


COLUMNS = {
    "run_id": "uuid", "page": "int", "generation": "int", "scope": "text", "at": "timestamptz", "count": "int", "outcomes": "int",
    "closes": "text", "broken": "int", "apart": "text", "steps": "int", "attempts": "int", "tokens_in": "bigint", "tokens_out": "bigint",
    "money": "numeric", "unpriced": "int", "entries": "text", "details": "text",
}  # fmt: skip
"""Columns of a page as they are given to a statement, with their types."""
LISTS = frozenset({"closes", "apart"})
"""Those that hold lists of texts, which are given joined by spaces."""


def divide(run_id: UUID, first: int, generation: int, entries: Iterable[EntryRow]) -> list[Page]:
    """Entries of a run as pages numbered from `first` on, one for each scope, more where one would grow too large."""
    pages: list[Page] = []
    open_: dict[str, tuple[Page, int]] = {}
    for entry in entries:
        page, length = open_.get(entry.scope, (None, 0))
        if page is None or len(page.entries) == MOST or length > LONGEST:
            page, length = Page(run_id, first + len(pages), generation, entry.scope), 0
            pages.append(page)
        page.entries.append(entry)
        open_[entry.scope] = page, length + len(entry.body) + len(entry.detail or "")
    return pages


def _closed(path: str) -> str:
    """The place that an entry brings to its end; empty when it ends none."""
    place, _, mark = path.partition("#")
    return place if mark == "end" else ""


def columns(pages: Sequence[Page], pile: artifacts.Pile) -> list[tuple[object, ...]]:
    """The columns of pages in the order of `COLUMNS`; what is large goes onto the pile."""
    rows = [_row(page, pile) for page in pages]
    return list(zip(*rows, strict=True)) if rows else [()] * len(COLUMNS)


def _row(page: Page, pile: artifacts.Pile) -> tuple[object, ...]:
    run_id = page.run_id
    texts: list[str] = []
    details: list[str] = []
    apart: list[str] = []
    closes: list[str] = []
    outcomes = broken = steps = attempts = tokens_in = tokens_out = unpriced = 0
    money: Decimal | None = None
    told = False
    for entry in page.entries:
        head = orjson.dumps([entry.path, entry.kind, entry.attempt, entry.hash, entry.started, entry.at]).decode()[:-1]
        body = pile.place(run_id, entry.body)
        if body is None or body is entry.body:
            texts.append(f"{head},{body}]")
        else:
            apart.append(artifacts.id_of(body))
            texts.append(f"{head},null,{values.dumps(body)}]")
        if entry.detail is None:
            details.append("null")
        else:
            told = True
            detail = pile.place(run_id, entry.detail) or ""
            if detail is not entry.detail:
                apart.append(artifacts.id_of(detail))
                detail = values.dumps(detail)
            details.append(detail)
        if "#" in entry.path and (place := _closed(entry.path)):
            closes.append(place)
        outcomes += entry.kind in _OUTCOMES
        broken += entry.kind == "closed" and entry.body.startswith(_BROKEN)
        steps += entry.steps
        attempts += entry.attempts
        tokens_in += entry.tokens_in
        tokens_out += entry.tokens_out
        unpriced += entry.unpriced
        if entry.money is not None:
            money = entry.money if money is None else money + entry.money
    return (
        run_id, page.number, page.generation, page.scope, page.entries[-1].at, len(page.entries), outcomes,
        " ".join(closes) or None, broken, " ".join(apart) or None, steps, attempts, tokens_in, tokens_out, money, unpriced,
        f"[{','.join(texts)}]", f"[{','.join(details)}]" if told else None,
    )  # fmt: skip


@dataclass(slots=True)
class Stored:
    """An entry as it is read back. Of what is kept apart body and detail are previews, and `large` has the references, by
    `body` and `detail`."""

    seq: int
    path: str
    kind: EntryKind
    attempt: int
    hash: str
    body: object
    detail: Any
    started: datetime | None
    at: datetime | None
    scope: str
    worker_id: UUID | None
    large: dict[str, str] = field(default_factory=dict)

    def as_entry(self, detail: dict[str, object] | None) -> Entry:
        """As the engine and traces know it, with the detail that is to be seen."""
        return Entry(self.path, self.kind, self.attempt, self.hash, self.body, detail, self.started, self.at)


def entries_of(row: Mapping[str, Any]) -> list[Stored]:
    """The entries of a page that was read: a row with `page`, `scope`, `worker_id`, `entries` and `details`."""
    details = values.loads(row["details"]) if row["details"] is not None else None
    found = []
    for index, given in enumerate(values.loads(row["entries"])):
        path, kind, attempt, hash_, started, at, body = given[:7]
        detail = details[index] if details is not None else None
        large = {}
        if len(given) > 7:
            large["body"], body = given[7], artifacts.shown(given[7])
        if isinstance(detail, str):
            large["detail"], detail = detail, artifacts.shown(detail)
        found.append(
            Stored(
                row["page"] * MOST + index, path, kind, attempt, hash_, body, detail, _moment(started), _moment(at),
                row["scope"], row["worker_id"], large,
            )
        )  # fmt: skip
    return found


async def fill(connection: asyncpg.Connection, workspace: int, entries: Iterable[Stored]) -> None:
    """Put what is kept apart into the entries, in the place of its previews."""
    wanted = [entry for entry in entries if entry.large]
    found = await artifacts.whole(connection, workspace, (text for entry in wanted for text in entry.large.values()))
    for entry in wanted:
        for name, text in entry.large.items():
            if text in found:
                setattr(entry, name, values.loads(found[text]))


def _moment(text: str | None) -> datetime | None:
    return None if text is None else datetime.fromisoformat(text)
