"""`/api/v1/runs/{run_id}/view`, `items`, `record`: a run as it is looked at, a bounded part at once, whatever its size."""

import asyncio
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal
from uuid import UUID

from fastapi import APIRouter, Query, Response
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.document import values
from oak_relay.document.errors import ErrorData
from oak_relay.document.script import script
from oak_relay.engine.entries import Entry
from oak_relay.engine.paths import is_below, scope_of
from oak_relay.engine.trace import Attempt, Span, Within, spans
from oak_relay.service import exact
from oak_relay.service.lists import Asks, Page, page
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.problems import missing
from oak_relay.service.runs import entry_shown, run_out, spans_out
from oak_relay.service.shapes import (
    BriefAttemptOut,
    BriefErrorOut,
    BriefOut,
    ItemOut,
    LineOut,
    LoopOut,
    RecordOut,
    ViewOut,
)
from oak_relay.store import runs, traces
from oak_relay.store.database import raw
from oak_relay.store.pages import Stored
from oak_relay.store.traces import Items, Spent

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/runs/{run_id:uuid}", tags=["runs"])
_PAGES, _INSIDE = 4_000, 400
"""Pages of a journal that are read for the scopes of one level, and for what lies in an agent: its last ones."""
_OPEN = 64
"""Items under way into which is looked, to see how each stands."""
_ATTEMPTS = 20
_INNER = 300
_BRIEF = 300
_LABEL = 120
Path = Annotated[str, Query(max_length=2000, description="A path, such as per_hut[137].findings.")]


@dataclass(slots=True)
class _Loop:
    """A list or loop that was met: where it stands, which runs walk it, and what is chosen of it."""

    path: str
    kind: str
    home: UUID
    all: int | None
    over: bool = False
    items: Items = field(default_factory=Items)
    broken: dict[int, ErrorData] = field(default_factory=dict)
    """Items that failed without coming to their end, and why."""
    chosen: int = 0
    runs: list[UUID] = field(default_factory=list)


@dataclass(slots=True)
class Looked:
    """What was read of a run: its entries, the lists and loops in it, and what is known of spans that are told in part."""

    entries: list[Stored] = field(default_factory=list)
    loops: list[_Loop] = field(default_factory=list)
    within: dict[str, Within] = field(default_factory=dict)


class Looker:
    """Looks at one run in one reading of the database."""

    def __init__(self, connection: AsyncConnection, workspace: int, row: Any, at: str) -> None:
        self._connection, self._workspace, self._row, self._at = connection, workspace, row, at
        error = values.loads(row.error) if row.error else None
        self._failed_at = str(error.get("step", "")) if isinstance(error, dict) else ""
        self.over = row.state in runs.OVER

    async def look(self) -> Looked:
        """What stands at the top and in the chosen item of each list and loop."""
        found, scopes = Looked(), {self._row.id: [""]}
        agents: dict[UUID, list[str]] = defaultdict(list)
        while scopes:
            inner: dict[UUID, list[str]] = defaultdict(list)
            for run_id, some in scopes.items():
                there = await traces.standing(self._connection, self._workspace, run_id, some, _PAGES)
                found.entries += there
                for loop in self.loops(there, run_id):
                    await self.choose(loop)
                    found.loops.append(loop)
                    if loop.chosen in loop.items.ended or loop.all != 0:
                        home = await self._home(loop, loop.chosen)
                        if home is not None:
                            inner[home].append(f"{loop.path}[{loop.chosen}]")
                some_agents = [e.path for e in there if _kind(e) == "agent"]
                await self._agents(found, there, run_id, some_agents)
                agents[run_id] += some_agents
            for run_id, some in inner.items():
                ended = await traces.ends(self._connection, self._workspace, run_id, some)
                found.entries += (entry for entries in ended.values() for entry in entries)
            scopes = dict(inner)
        for run_id in {*agents, *(loop.home for loop in found.loops)}:
            await self._sums(found, run_id, agents[run_id])
        return found

    def loops(self, entries: Iterable[Stored], home: UUID) -> list[_Loop]:
        """The lists and loops that begin among some entries."""
        ended = {e.path.removesuffix("#end") for e in entries if e.path.endswith("#end")}
        return [
            _Loop(e.path, kind, home, _count(e), e.path in ended)
            for e in entries
            if (kind := _kind(e)) in ("each", "repeat")
        ]

    async def choose(self, loop: _Loop) -> None:
        """How far it is, and which of its items is shown: the one that is asked for, the one that failed, the one under way, or
        the first."""
        parts = (
            await traces.parts(self._connection, self._workspace, loop.home, loop.path) if loop.kind == "each" else []
        )
        loop.runs = [part.id for part in parts] or [loop.home]
        loop.items = await traces.items(self._connection, self._workspace, loop.runs, loop.path)
        open_: set[int] = set()
        if not loop.over:
            last = loop.runs[-1:] if parts and self.over else loop.runs[:_OPEN]
            open_ = await traces.begun(self._connection, self._workspace, last, loop.path) - loop.items.ended
            if self.over:
                loop.broken = await self._broken(loop, sorted(open_)[:_OPEN])
                loop.items.failed |= set(loop.broken)
        asked = traces.number_in(self._at, loop.path, True)
        broken = traces.number_in(self._failed_at, loop.path, True)
        if asked is not None and not (loop.all is not None and asked >= loop.all):
            loop.chosen = asked
        elif broken is not None:
            loop.chosen = broken
        else:
            loop.chosen = min(loop.items.failed, default=min(open_, default=0))

    async def _broken(self, loop: _Loop, numbers: Sequence[int]) -> dict[int, ErrorData]:
        """Of items that never came to their end those in which something failed, and how."""
        found: dict[int, ErrorData] = {}
        for run_id in loop.runs:
            scopes = [f"{loop.path}[{number}]" for number in numbers]
            there = await traces.standing(self._connection, self._workspace, run_id, scopes, _PAGES)
            for span in spans(entries_of(there), True):
                number = traces.number_in(span.path, loop.path)
                if number is not None and span.state == "failed":
                    found[number] = span.error or ErrorData(kind="failed", message="")
        return found

    async def _home(self, loop: _Loop, number: int) -> UUID | None:
        if loop.runs == [loop.home]:
            return loop.home
        return await traces.home(self._connection, self._workspace, loop.home, f"{loop.path}[{number}]")

    async def _agents(self, found: Looked, there: Sequence[Stored], run_id: UUID, agents: Sequence[str]) -> None:
        """Agents that have not come to their end stand as what they do last does."""
        ended = {e.path for e in there if e.path.endswith("#end")}
        for path in agents:
            if f"{path}#end" not in ended:
                inside = await traces.below(self._connection, self._workspace, run_id, path, _INSIDE, False)
                told = next((s for s in spans(entries_of(inside), self.over) if s.path == path), None)
                if told is not None:
                    found.within[path] = Within(state=told.state)

    async def _sums(self, found: Looked, run_id: UUID, agents: Sequence[str]) -> None:
        """What was spent in agents and loops of a run, and how these stand."""
        loops = {loop.path: loop for loop in found.loops if loop.home == run_id}
        spent = await traces.spent(self._connection, self._workspace, run_id, [*loops, *agents])
        for path in (*loops, *agents):
            told = found.within.get(path, Within(state="succeeded"))
            if path in loops:
                told = self.standing(loops[path])
            one = spent.get(path, Spent())
            found.within[path] = Within(one.tokens, one.money, one.unpriced, one.last, told.state, told.error)

    def standing(self, loop: _Loop) -> Within:
        """How a list or loop stands that has not come to its end."""
        if not self.over:
            return Within(state="waiting" if self._row.state == "waiting" else "running")
        broken = min(loop.broken, default=None)
        return Within(state="cancelled") if broken is None else Within(state="failed", error=loop.broken[broken])


def _kind(entry: Stored) -> str:
    """What kind of step goes on behind an entry; empty behind most."""
    return str((entry.detail or {}).get("kind", "")) if "#" not in entry.path else ""


def _count(entry: Stored) -> int | None:
    """How many items a list has, as far as an entry tells it."""
    told = (entry.detail or {}).get("count")
    if isinstance(told, int):
        return told
    given = entry.body.get("items") if isinstance(entry.body, dict) else None
    return len(given) if isinstance(given, list) and not entry.large else None


def entries_of(stored: Iterable[Stored]) -> list[Entry]:
    """Stored entries as they may be shown."""
    return [entry_shown(one) for one in stored]


async def _one(connection: AsyncConnection, parts: Parts, run_id: UUID) -> Any:
    row = await runs.one(connection, parts.workspace, run_id)
    if row is None:
        raise missing("run", str(run_id))
    return row


@router.get("/view", response_model=ViewOut)
async def view_run(run_id: UUID, parts: PartsDep, _: CallerDep, at: Path = "") -> Response:
    """The script of a run's version with what happened at each line: in brief, and of each list and loop in one item: the one in
    which `at` lies, else the one that failed, the one under way, or the first. As much is told of a large run as of a small
    one."""
    async with parts.database.connect() as connection:
        row = await _one(connection, parts, run_id)
        _plan, document = await parts.registry.plan(await raw(connection), row.version_id)
        looker = Looker(connection, parts.workspace, row, at)
        found = await looker.look()
    lines = script(document, (await parts.world()).actions)
    told = await asyncio.to_thread(brief, found, looker.over)
    return exact.answer(
        ViewOut(
            run=run_out(row),
            script=[LineOut(**line.as_data()) for line in lines],
            spans=told,
            loops=[_loop_out(loop) for loop in found.loops],
        )
    )


def _loop_out(loop: _Loop) -> LoopOut:
    return LoopOut(
        path=loop.path,
        kind="each" if loop.kind == "each" else "repeat",
        all=loop.all,
        ended=len(loop.items.ended),
        failed=len(loop.items.failed),
        chosen=loop.chosen,
    )


def brief(found: Looked, over: bool) -> list[BriefOut]:
    """What was read, told in brief."""
    chosen = {loop.path: loop.chosen for loop in found.loops}

    def is_shown(span: Span) -> bool:
        """No turns and calls, and of lists no item but the chosen one."""
        if span.kind == "item":
            owner = span.path[: span.path.rindex("[")]
            return traces.number_in(span.path, owner) == chosen.get(owner)
        return span.kind == "step"

    told = spans(entries_of(found.entries), over, found.within)
    return [_brief_out(span) for span in told if is_shown(span)]


def _brief_out(span: Span) -> BriefOut:
    return BriefOut(
        path=span.path,
        line=span.line,
        kind=span.kind,
        state=span.state,
        started=span.started,
        ended=span.ended,
        attempts=[_attempt_out(one) for one in span.attempts[-_ATTEMPTS:]],
        tried=len(span.attempts),
        error=_error_out(span.error),
        way=span.way,
        until=span.until,
        note=span.note[:_BRIEF],
        tokens=span.tokens,
        money=span.money,
        unpriced=span.unpriced,
        given=_digest(span.input, span, "detail"),
        gave=_digest(span.output, span, "body"),
    )


def _digest(value: object, span: Span, of: str) -> str:
    """What two values are told apart by, those that are kept apart with them."""
    if value is None:
        return ""
    return values.digest(values.dumps(value), *(one["id"] for one in span.large if one["of"] == of))


def _attempt_out(attempt: Attempt) -> BriefAttemptOut:
    return BriefAttemptOut(
        number=attempt.number,
        state=attempt.state,
        started=attempt.started,
        ended=attempt.ended,
        error=_error_out(attempt.error),
        again_at=attempt.again_at,
        note=attempt.note[:_BRIEF],
    )


def _error_out(error: Mapping[str, Any] | None) -> BriefErrorOut | None:
    if not error:
        return None
    return BriefErrorOut(kind=str(error.get("kind", "")), message=str(error.get("message", ""))[:_BRIEF])


@router.get("/record", response_model=RecordOut)
async def show_record(run_id: UUID, parts: PartsDep, _: CallerDep, path: Path) -> Response:
    """All that is recorded of one step, item, turn or call: its attempts with what was asked and answered. Of an agent with its
    turns and calls, the last of them when there are very many; of a list or loop without its items."""
    async with parts.database.connect() as connection:
        row = await _one(connection, parts, run_id)
        home = await traces.home(connection, parts.workspace, run_id, path)
        there = [] if home is None else await traces.below(connection, parts.workspace, home, path, _PAGES, True)
        own, within = [e for e in there if is_below(e.path, path) and _of_one(e.path, path)], {}
        kind = next((_kind(e) for e in own if e.path == path and _kind(e)), "")
        if home is not None and (
            kind == "agent" or not own
        ):  # an item that never came to its end tells by what is in it
            inside = await traces.below(connection, parts.workspace, home, path, _INSIDE, False)
            seen = {entry.seq for entry in own}
            own = sorted(
                [*own, *(e for e in inside if is_below(e.path, path) and e.seq not in seen)], key=lambda e: e.seq
            )
        elif home is not None and kind in ("each", "repeat"):
            looker = Looker(connection, parts.workspace, row, path)
            [loop] = looker.loops(own, home)
            await looker.choose(loop)
            within[path] = looker.standing(loop)
    over = row.state in runs.OVER
    told = await asyncio.to_thread(lambda: spans_out(entries_of(own), over, within))
    span = next((one for one in told if one.path == path), None)
    if span is None:
        raise missing("step", path, "nothing happened there; see the view of the run")
    inner = [one for one in told if one.path != path]
    return exact.answer(RecordOut(span=span, inner=inner[-_INNER:], cut=max(0, len(inner) - _INNER)))


def _of_one(path: str, place: str) -> bool:
    """Whether an entry is none of an item of the list that a place may be."""
    return path[len(place) : len(place) + 1] != "["


@router.get("/items", response_model=Page[ItemOut])
async def list_items(
    run_id: UUID,
    parts: PartsDep,
    _: CallerDep,
    asked: Asks,
    of: Path,
    state: Annotated[Literal["failed", "open", "succeeded"] | None, Query()] = None,
    text: Annotated[str | None, Query(min_length=1, max_length=200, description="Words of the item.")] = None,
) -> Response:
    """The items of a list, or the rounds of a loop, in their order: what each was, and how it stands."""
    async with parts.database.connect() as connection:
        row = await _one(connection, parts, run_id)
        home = await traces.home(connection, parts.workspace, run_id, scope_of(of))
        there = [] if home is None else await traces.standing(connection, parts.workspace, home, [scope_of(of)], _PAGES)
        entry = next((e for e in there if e.path == of and _kind(e) in ("each", "repeat")), None)
        if home is None or entry is None:
            raise missing("list", of, "see the loops in the view of the run")
        looker = Looker(connection, parts.workspace, row, of)
        [loop] = [one for one in looker.loops(there, home) if one.path == of]
        await looker.choose(loop)
        given = await _given(connection, parts, entry) if loop.kind == "each" else None
        count = len(given) if given is not None else 1 + max(loop.items.ended | loop.items.failed, default=-1)
        going = await traces.begun(connection, parts.workspace, loop.runs[:_OPEN], of) if not loop.over else set()
        count = max(count, 1 + max(going, default=-1))
        numbers = await asyncio.to_thread(
            _found, parts, loop, given, count, state, text, asked.number(), asked.limit + 1
        )
        spent = await traces.each_of(connection, parts.workspace, loop.runs, of, numbers)
    going -= loop.items.ended

    def out(number: int) -> ItemOut:
        one = spent.get(number, Spent())
        return ItemOut(
            index=number,
            path=f"{of}[{number}]",
            state=_item_state(loop, number, going, looker.over),
            label="" if given is None else _label(given[number]),
            at=one.last,
            tokens=one.tokens,
            money=float(one.money),
            unpriced=one.unpriced,
        )

    return exact.answer(page(numbers, asked, lambda number: number, out))


async def _given(connection: AsyncConnection, parts: Parts, entry: Stored) -> list[Any]:
    whole = await traces.filled(connection, parts.workspace, entry)
    given = whole.body.get("items") if isinstance(whole.body, dict) else None
    return given if isinstance(given, list) else []


def _item_state(loop: _Loop, number: int, going: set[int], over: bool) -> str:
    if number in loop.items.failed:
        return "failed"
    if number in loop.items.ended:
        return "succeeded"
    if over:
        return "cancelled" if number in going else "not begun"
    return "running" if number in going else "queued"


def _found(
    parts: Parts,
    loop: _Loop,
    given: list[Any] | None,
    count: int,
    state: str | None,
    text: str | None,
    after: int,
    most: int,
) -> list[int]:
    """The numbers of the items that are looked for, behind one of them."""
    numbers: Iterable[int] = range(after + 1, count)
    if state == "failed":
        numbers = (n for n in sorted(loop.items.failed) if n > after)
    elif state == "succeeded":
        numbers = (n for n in sorted(loop.items.ended - loop.items.failed) if n > after)
    elif state == "open":
        numbers = (n for n in numbers if n not in loop.items.ended and n not in loop.items.failed)
    words, blanker, found = (text or "").lower(), parts.registry.now.blanker, []
    for number in numbers:
        if words:
            shown = values.text_of(given[number]) if given is not None else ""
            if words not in shown.lower() or words not in blanker.text(shown).lower():
                continue
        found.append(number)
        if len(found) == most:
            break
    return found


def _label(item: object) -> str:
    """An item in brief."""
    if isinstance(item, dict):
        text = ", ".join(f"{name}: {values.text_of(value)}" for name, value in item.items())
    else:
        text = values.text_of(item)
    text = " ".join(text.split())
    return text if len(text) <= _LABEL else f"{text[: _LABEL - 1]}…"
