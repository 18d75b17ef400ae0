"""`POST /api/v1/workflows/price`: what a workflow will cost, before it is put on, as far as its runs and tries tell."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from math import prod
from statistics import fmean
from typing import Any

from fastapi import APIRouter, Response
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.capabilities.alias import Alias
from oak_relay.document.models import DoStep, walk_steps
from oak_relay.document.script import script
from oak_relay.engine.paths import EntryPath
from oak_relay.service import exact
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.run_views import Looker, brief
from oak_relay.service.shapes import AskedOut, BriefOut, DrainOut, OtherAliasOut, PriceOut, StartsOut
from oak_relay.service.workflows import TextIn, sound
from oak_relay.store import credit, runs, usage, workflows
from oak_relay.store.database import raw
from oak_relay.triggers.base import TimeTrigger, TriggerKind
from oak_relay.usage import Usage

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/workflows", tags=["workflows"])
_LOOKED_AT, _VIEWED = 50, 5
"""Runs of which the mean is made, and of which it is looked where their money went."""
_MONTH, _PACE = timedelta(days=30), timedelta(days=7)
_NEXT, _MOST_STARTS = 3, 5_000
_OTHERS = 3
_ENDED = ("succeeded", "failed")


@dataclass(frozen=True, slots=True)
class _Past:
    """What is known of a workflow: its last runs that ended, what they spent at which line, and what calls of an alias used."""

    ended: Sequence[Any] = ()
    at: dict[str, float] | None = None
    calls: dict[str, tuple[int, Usage]] | None = None
    by_trigger: dict[str, int] | None = None


@router.post("/price", response_model=PriceOut)
async def price(given: TextIn, parts: PartsDep, _: CallerDep) -> Response:
    """What a workflow will cost: a run, by its last runs or by what was tried of it; how often its starts come by themselves; the
    line that costs most, and what other models would take for it; how long credit lasts with it."""
    document = (await sound(parts, given.text)).document
    assert document is not None
    async with parts.database.connect() as connection:
        past = await _past(parts, connection, document.workflow)
        credits = await credit.listed(await raw(connection), parts.workspace)
    aliases = parts.registry.now.aliases
    lines = script(document, (await parts.world()).actions)
    numbers = {line.step: (line.number, line.sentence, line.trace) for line in lines}
    asks = [
        _asked(step, numbers.get(step.step, ("", step.step, step.step)), past, aliases)
        for step in walk_steps(document.steps)
        if isinstance(step, DoStep) and isinstance((step.with_ or {}).get("model"), str)
    ]
    kinds = parts.registry.catalogue.triggers
    starts = await parts.registry.documents.now(lambda: [_starts(t, kinds, past) for t in document.triggers])
    a_run, unpriced = _a_run(past, asks)
    known = [one.a_month for one in starts if one.a_month is not None]
    a_month = a_run * sum(known) if a_run is not None and known else None
    used = {a.credential for one in asks if (a := aliases.get(one.alias)) is not None and a.credential}
    return exact.answer(
        PriceOut(
            a_run=a_run,
            unpriced=unpriced,
            runs=len(past.ended),
            asks=sorted(asks, key=lambda one: -(one.money or 0)),
            starts=starts,
            a_month=a_month,
            drains=[_drain(row, a_month) for row in credits if row["credential"] in used],
        )
    )


async def _past(parts: Parts, connection: AsyncConnection, name: str) -> _Past:
    row = await workflows.by_name(connection, parts.workspace, name)
    if row is None:
        return _Past()
    last = await runs.find(connection, parts.workspace, workflow_id=row.id, limit=_LOOKED_AT * 2)
    ended = [one for one in last if one.state in _ENDED][:_LOOKED_AT]
    at: defaultdict[str, list[float]] = defaultdict(list)
    viewed = [one for one in ended if one.state == "succeeded"][:_VIEWED]
    for one in viewed:
        found = await Looker(connection, parts.workspace, one, "").look()
        rounds = {loop.path: len(loop.items.ended) for loop in found.loops}
        for line, money in _spent_at(brief(found, True), rounds).items():
            at[line].append(money)
    sums = await usage.sums(await raw(connection), parts.workspace, ["alias"], None, None, name)
    calls = {
        row["alias"]: (row["calls"], Usage(row["input"], row["cached"], row["output"], float(row["money"]), unpriced=row["unpriced"]))
        for row in sums
    }  # fmt: skip
    since = datetime.now(UTC) - _PACE
    week = await runs.find(connection, parts.workspace, workflow_id=row.id, since=since, limit=_MOST_STARTS)
    by_trigger: defaultdict[str, int] = defaultdict(int)
    for one in week:
        by_trigger[one.trigger_name or ""] += 1
    return _Past(ended, {line: sum(some) / len(viewed) for line, some in at.items()}, calls, dict(by_trigger))


def _spent_at(spans: Sequence[BriefOut], rounds: Mapping[str, int]) -> dict[str, float]:
    """What was spent at each line that asks by itself, of lists as if each item cost what the one cost that is told; what lies
    around others counts nothing of its own."""
    around = {outer for span in spans for outer in EntryPath(span.path).around()}
    found = {}
    for span in spans:
        if span.money and span.path not in around and span.kind == "step":
            inside = (n for loop, n in rounds.items() if span.path.startswith(f"{loop}["))
            found[span.line] = span.money * prod(max(1, n) for n in inside)
    return found


def _asked(step: DoStep, line: tuple[str, str, str], past: _Past, aliases: Any) -> AskedOut:
    alias = str((step.with_ or {}).get("model", ""))
    number, sentence, trace = line
    calls, used = (past.calls or {}).get(alias, (0, Usage()))
    money = (past.at or {}).get(trace)
    if money is None and calls and not past.ended:
        money = used.paid / calls
    found = AskedOut(step=step.step, number=number, sentence=sentence, alias=alias, money=money, others=[])
    mine = aliases.get(alias)
    if mine is not None and calls and money:
        cost = mine.cost(used)
        found.others = [] if not cost else _others(alias, mine, used, money, cost, aliases)
    return found


def _others(alias: str, mine: Alias, used: Usage, money: float, cost: float, aliases: Any) -> list[OtherAliasOut]:
    """Cheaper ones, by what they would take for as many tokens."""
    found = []
    for name, other in aliases.items():
        if name == alias or other is None or (other.url, other.model) == (mine.url, mine.model):
            continue
        theirs = other.cost(used)
        if theirs is not None and theirs < cost:
            found.append(OtherAliasOut(alias=name, money=money * theirs / cost))
    return sorted(found, key=lambda one: one.money)[:_OTHERS]


def _starts(trigger: Any, kinds: Any, past: _Past) -> StartsOut:
    kind: TriggerKind[Any] | None = kinds.get(trigger.kind)
    told = StartsOut(trigger=trigger.trigger, sentence="", a_month=None, next=[], measured=False)
    if kind is None:
        return told
    given = kind.read(trigger.given)
    told.sentence = kind.sentence(given)
    if isinstance(kind, TimeTrigger):
        now = datetime.now(UTC)
        coming = kind.coming(given, now, _MOST_STARTS)
        told.next = coming[:_NEXT]
        within = [moment for moment in coming if moment < now + _MONTH]
        full = len(within) == len(coming) == _MOST_STARTS
        apart = (coming[-1] - coming[0]) / (len(coming) - 1) if full else _MONTH
        told.a_month = _MONTH / apart if full else float(len(within))
    else:
        began = (past.by_trigger or {}).get(trigger.trigger, 0)
        told.a_month, told.measured = (began * (_MONTH / _PACE) if began else None), bool(began)
    return told


def _a_run(past: _Past, asks: Sequence[AskedOut]) -> tuple[float | None, int]:
    """The money of a run, and how many of its calls have no known price."""
    if past.ended:
        return fmean(float(one.money) for one in past.ended), sum(one.unpriced for one in past.ended)
    known = [one.money for one in asks if one.money is not None]
    if not asks:
        return 0.0, 0
    unknown = sum(used.unpriced for alias, (_, used) in (past.calls or {}).items() if alias in {a.alias for a in asks})
    return (sum(known) if known else None), unknown


def _drain(row: Any, a_month: float | None) -> DrainOut:
    left, a_day = float(row["left"]), float(row["a_day"]) + (a_month or 0) / 30
    lasts = datetime.now(UTC) + timedelta(days=min(left / a_day, 36_500)) if a_day > 0 and left > 0 else None
    return DrainOut(credential=row["credential"], left=left, lasts=lasts)
