"""Steps that others bring to an end: child runs, moments, events. The run rests meanwhile."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from oak_relay.changes import AwaitEvent, Change, Part, StartRun
from oak_relay.document import durations, values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.engine.bodies import ChildEnd
from oak_relay.engine.entries import Detail, Entry, EntryKind
from oak_relay.engine.outcomes import Scope
from oak_relay.engine.plan import Node
from oak_relay.engine.purse import Purse
from oak_relay.engine.walking import Walking


@dataclass(frozen=True, slots=True)
class Wanted:
    """A child run that is wanted: of a workflow, or of a part of a list."""

    input: object
    workflow: str | None = None
    part: Part | None = None


async def run(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """Another workflow as a child run; tried again as `retry` says, each time as a new run."""
    given = walk.render(node, path, scope, [])
    hash_ = values.digest(node.digest, values.dumps(given))
    if not node.waited:
        started = await put(walk, path, hash_, StartRun(path, given["input"], given["workflow"], waited=False), "value")
        return started["output"]
    retry, failures = node.retry, 0
    assert retry is not None
    while True:
        here = path if not failures else f"{path}~{failures + 1}"
        try:
            return await child(walk, here, hash_, Wanted(given["input"], given["workflow"]), node.name)
        except StepFailed as failed:
            failures += 1
            if failures >= retry.tries or failed.kind not in retry.kinds or walk.cancelling:
                raise
            closed = walk.journal.entries(f"{here}#end")  # none when the child could not even be started
            ended = (closed[-1].at if closed else None) or walk.journal.now()
            await walk.pause(f"{here}#again", ended + timedelta(seconds=retry.delay(failures, 0.5, failed.delay)))


async def child(
    walk: Walking,
    path: str,
    hash_: str,
    wanted: Wanted,
    name: str,
    purse: Purse | None = None,
    detail: Detail | None = None,
) -> Any:
    """The result of a child run, started if it is not yet; what it may spend is set aside in `purse`, the run's own if none
    is given. Raises `StepFailed` with the child's own error."""
    purse = purse or walk.purse
    closed = walk.journal.entries(f"{path}#end")
    recorded = walk.recorded(path, hash_)
    if not closed:
        if recorded is None:
            await _start(walk, path, hash_, wanted, purse, detail)
        elif purse is not walk.purse:
            purse.reserve_here(walk.journal.open.allotted.get(path, 0.0))
        if "fault" in (fault := walk.journal.entries(path)[0].body["output"]):
            raise StepFailed.from_data(fault["fault"])
        signal = await walk.signal(path)
        purse.reserve(-walk.journal.open.allotted.get(path, 0.0))
        walk.spend(ChildEnd.read(signal).usage, purse)
        ended = ChildEnd.read(walk.journal.add(Entry(f"{path}#end", "value", body=signal, at=walk.journal.now())))
    else:
        ended = ChildEnd.read(closed[0].body)
        purse.recall(ended.usage.paid)
    if ended.state == "succeeded":
        return ended.result
    raise ended.failure(name, path)


async def _start(walk: Walking, path: str, hash_: str, wanted: Wanted, purse: Purse, detail: Detail | None) -> None:
    """Start a child run with its share of the money that is left: as much as each other strand that has none yet."""
    left, others = purse.left(), len(walk.journal.open.allotted) + walk.starting
    money = None if left is None else left / max(1, walk.strands.open - others)
    if money is not None:
        purse.reserve(money)
        walk.starting += 1
    asked = StartRun(path, wanted.input, wanted.workflow, wanted.part, money=money)
    try:
        body = {} if money is None else {"money": money}
        await put(walk, path, hash_, asked, body=body, detail=detail or {"input": wanted.input})
    finally:
        if money is not None:
            walk.starting -= 1
            if path not in walk.journal.open.allotted:
                purse.reserve(-money)  # it could not be started


async def wait(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """Rest for a duration, until a moment, or until an event comes."""
    done = walk.journal.entries(f"{path}#woke")
    if node.event:
        return done[0].body if done else await _event(walk, node, path, scope)
    recorded = walk.recorded(path, node.digest)
    if recorded is None:
        until = _until(walk, walk.render(node, path, scope, []))
        body = {"until": until.isoformat()}
        entry = Entry(path, "value", 0, node.digest, body, {"kind": "wait"}, at=walk.journal.now())
        recorded = walk.journal.add(entry)
    if done:
        return done[0].body
    await walk.pause(path, datetime.fromisoformat(recorded["until"]))
    now = walk.journal.now()
    return walk.journal.add(Entry(f"{path}#woke", "value", body={"at": now.isoformat()}, at=now))


async def put(
    walk: Walking, path: str, hash_: str, change: Change, kind: EntryKind = "opened", body: object = None,
    detail: Detail | None = None,
) -> Any:  # fmt: skip
    """Record that something is asked of another, in the commit that asks. What was asked by another run is not
    replayed."""
    recorded = walk.recorded(path, hash_)
    if recorded is None:
        walk.go_on()
        entry = Entry(path, kind, 1, hash_, body or {}, detail, at=walk.journal.now())
        recorded = await walk.journal.commit(entry, change)
    if "fault" in recorded["output"]:
        raise StepFailed.from_data(recorded["output"]["fault"])
    return recorded


async def _event(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """The first event of a type for which `where` holds; those since the run's beginning count."""
    where = Template(node.where) if node.where else None
    seen = {name: scope[name] for name in (where.names if where else ()) if name in scope and name != "now"}
    recorded = walk.recorded(path, node.digest)
    if recorded is None:
        until = None if node.within is None else walk.journal.now() + timedelta(seconds=node.within)
        moment = until.isoformat() if until else None
        awaited = AwaitEvent(path, node.event, node.where, seen)
        recorded = await put(walk, path, node.digest, awaited, body={"until": moment})
    for early in recorded["output"]["events"]:
        if where is None or walk.value(where, {**seen, "arrived": early}):
            return walk.journal.add(Entry(f"{path}#woke", "value", body=early, at=walk.journal.now()))
    until = datetime.fromisoformat(recorded["until"]) if recorded["until"] else None
    came = await walk.signal(path, until)
    if came is None and walk.replaying:
        await walk.halt(path)
    body = {"expired": True} if came is None else came
    return walk.journal.add(Entry(f"{path}#woke", "value", body=body, at=walk.journal.now()))


def _until(walk: Walking, given: object) -> datetime:
    text = values.text_of(given)
    try:
        return walk.journal.now() + timedelta(seconds=durations.seconds(text))
    except ValueError:
        try:
            return durations.moment(text)
        except ValueError:
            raise StepFailed(
                "invalid", f"{text!r} is neither a duration nor a moment", fix="write 5m or a moment in RFC 3339"
            ) from None
