"""The walk: an interpreter of plans over a journal and an executor.

Resuming is walking again: what the journal has is taken from it, and the walk goes on behind it.
How each kind of step is carried out stands in `effects`, `simple`, `loops`, `waiting` and `asking`.
"""

import asyncio
from collections.abc import Awaitable, Callable, Coroutine, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from time import monotonic
from typing import Any, Literal

from oak_relay.changes import ClaimOnce, FinishOnce, TakeBack
from oak_relay.document import shapes, values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.engine import agent, asking, effects, hearing, loops, simple, waiting
from oak_relay.engine.cuts import HERE, Cut
from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import GIVEN, Cancelled, Diverged, Finished, Rested, Scope, Spent, Start, Stopped
from oak_relay.engine.paths import is_below
from oak_relay.engine.plan import Node, Plan, find_node, names_in
from oak_relay.engine.protocols import Executor, Journal
from oak_relay.engine.purse import Purse
from oak_relay.engine.rest import Resting, Strands, end_task
from oak_relay.engine.walking import Walking
from oak_relay.usage import Usage

_REMARKS = 20
_SLICE = 0.005
"""Seconds that a walk may be at work before others have their turn."""
_TIME = "time"
SHORT_PAUSE = 5.0
"""Seconds up to which a pause is slept in the process; longer ones rest in the record."""
KINDS: dict[str, Callable[[Walking, Node, str, Scope], Awaitable[Any]]] = {
    "do": effects.do,
    "set": simple.set_values,
    "branch": simple.branch,
    "reply": simple.reply,
    "todo": simple.sketch,
    "send": simple.send,
    "emit": simple.emit,
    "stop": simple.stop,
    "fail": simple.fail,
    "each": loops.each,
    "together": loops.together,
    "repeat": loops.repeat,
    "run": waiting.run,
    "agent": agent.agent,
    "wait": waiting.wait,
    "ask": asking.ask,
    "hand_over": asking.ask,
}
_LONG = frozenset({"branch", "each", "together", "repeat", "run", "wait", "ask", "hand_over", "agent"})
"""Kinds whose time-out is one moment for all of what is inside."""


@dataclass(slots=True)
class Walk:
    """One walk of one run. `walk()` returns `Finished` or `Rested`; `cancel()` may be called meanwhile.

    With `replaying` nothing is done: each strand comes to rest where the record ends, or at the step `stop`."""

    plan: Plan
    journal: Journal
    executor: Executor
    start: Start
    spent: Spent = field(default_factory=Spent)
    replaying: bool = False
    stop: str = ""
    strands: Strands = field(default_factory=Strands)
    refused: set[str] = field(default_factory=set)
    whole: Cut = field(default_factory=Cut)
    breathed: float = 0.0
    starting: int = 0
    """Child runs whose beginning is just being written."""
    purse: Purse = field(init=False)
    settled: dict[str, object] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if self.plan.fills and self.start.part is None:
            scope = {**self.start.scope, "input": shapes.filled(self.plan.fills, self.start.scope.get("input"))}
            self.start = self.start._replace(scope=scope)
        limits = [limit for limit in (self.plan.money, self.start.money) if limit is not None]
        self.purse = Purse(min(limits) if limits else None, spent=float(self.spent.money))
        for amount in self.journal.open.allotted.values():
            self.purse.reserve(amount)
        self.settled.update(self.start.settled)

    @property
    def cancelling(self) -> bool:
        """Whether the part of the walk that is at work here was told to end."""
        return HERE.get().cancelled

    async def walk(self) -> Finished | Rested:
        """Go as far as can be gone now."""
        outcome = await self._walked()
        return replace(outcome, note=self._remarks()) if isinstance(outcome, Finished) else outcome

    async def _walked(self) -> Finished | Rested:
        scope = dict(self.start.scope)
        HERE.set(self.whole)
        self.breathed = monotonic()
        recorded = self.journal.entries("#outcome")
        try:
            if recorded:
                outcome, names = Finished(**recorded[0].body["outcome"]), recorded[0].body["names"]
            else:
                outcome = await self._main(scope)
                if not self.plan.always or self.start.part is not None:
                    return outcome
                wanted = names_in(self.plan.always)
                names = {
                    k: v
                    for k, v in scope.items()
                    if k in wanted and k != "now" and self.start.scope.get(k, self) is not v
                }
                body = {"outcome": outcome.as_data(), "names": names}
                self.journal.add(Entry("#outcome", "value", body=body, at=self.journal.now()))
            return await self._always(outcome, {**self.start.scope, **names})
        except Resting as resting:
            return Rested(resting.wakes)

    def cancel(self) -> None:
        """Start nothing new; end calls that may be ended; others run out. What `always` says still runs."""
        self.whole.cancel()

    async def _main(self, scope: Scope) -> Finished:
        """The steps themselves. Raises `Resting`."""
        time = self.plan.time
        alarm = None if time is None else self._alarm(time - self.start.worked)
        try:
            if self.start.part is not None:
                node = find_node(self.plan, self.start.part.place)
                if node is None:
                    raise Diverged(f"there is no step at {self.start.part.place}")
                return Finished("succeeded", await loops.chunk(self, node, scope, self.start.part))
            scope.update((await hearing.begun(self)).scope)
            await self.steps(self.plan.steps, "", scope)
            return Finished("succeeded", self.value(self.plan.result, scope))
        except Stopped as stopped:
            return Finished("succeeded", stopped.result)
        except Cancelled:
            if self.whole.why != _TIME:
                return Finished("cancelled", error=StepFailed("cancelled", "the run was cancelled").as_data())
            message = f"the run worked longer than its limit of {time:g} s"
            return Finished("failed", error=StepFailed("timeout", message, fix="raise limits: time").as_data())
        except StepFailed as failed:
            return Finished("failed", error=failed.as_data())
        except Diverged as diverged:
            fix = "the engine or the document changed under this run; run it again"
            return Finished("failed", error=StepFailed("diverged", str(diverged), fix=fix).as_data())
        finally:
            if alarm is not None:
                alarm.cancel()

    def _alarm(self, left: float) -> asyncio.TimerHandle | None:
        """Tells the run to end when its time is over; at once when it is already."""
        if left > 0:
            return asyncio.get_running_loop().call_later(left, self.whole.cancel, _TIME)
        self.whole.cancel(_TIME)
        return None

    async def _always(self, outcome: Finished, scope: Scope) -> Finished:
        """The steps that run whatever happened; when they fail, so does a run that went well until then."""
        HERE.set(Cut())  # a cancellation does not reach it
        try:
            await self.steps(self.plan.always, "always.", {**scope, "outcome": outcome.as_data()})
        except (Stopped, Cancelled):
            return outcome
        except (StepFailed, Diverged) as error:
            failed = error if isinstance(error, StepFailed) else StepFailed("diverged", str(error))
            return Finished("failed", error=failed.as_data()) if outcome.state == "succeeded" else outcome
        return outcome

    # Steps

    async def steps(self, nodes: Sequence[Node], base: str, scope: Scope) -> None:
        """Steps one after the other; what they give goes into the scope."""
        for node in nodes:
            await self.breathe()
            await self._step(node, base + node.name, scope)

    async def breathe(self) -> None:
        """Leave others their turn when it was ours for a while, and wait when too much waits to be written."""
        if monotonic() - self.breathed > _SLICE:
            await asyncio.sleep(0)
            self.breathed = monotonic()
        if self.journal.full:
            await self.journal.room()

    def go_on(self) -> None:
        """Before anything new is begun: raises `Cancelled` where the walk was told to end."""
        if self.cancelling:
            raise Cancelled

    async def _step(self, node: Node, path: str, scope: Scope) -> None:
        if self.cancelling and not self.journal.entries(path):
            raise Cancelled  # what is recorded is gone through: a call may stand there whose outcome must be known
        if self.replaying:
            await self._replayed(path)
        inner = {**scope, "now": self.moment(path)} if node.uses_now else scope
        try:
            if node.when is not None and not self.asked(path, node.when, inner):
                self.note(path, "skipped", node, None)
                scope[node.name] = None
                return
            if node.once is not None and not await self._first(node, path, inner):
                scope[node.name] = None
                return
            if node.timeout is not None and node.kind in _LONG:
                value = await self._within(node, path, inner)
            else:
                value = await KINDS[node.kind](self, node, path, inner)
            if node.once is not None:
                await self._done(node, path)
            if inner is not scope:
                scope.update((k, v) for k, v in inner.items() if k != "now")
            scope[node.name] = value
        except StepFailed as failed:
            failed.step = failed.step or path
            if node.on_error == "fail" or node.kind == "fail":
                self.go_on()
                raise
            if not self.cancelling:
                await self.withdraw(path)
            outcome = {"error": failed.as_data()}
            if not isinstance(node.on_error, str):
                await self.steps(node.on_error, f"{path}!.", {**scope, **outcome})
            scope[node.name] = outcome
        except Diverged:
            if not self.replaying:
                raise
            self.refused.add(path)
            await self.halt(path)

    def moment(self, path: str) -> datetime:
        """The time as `now` tells it at a path: recorded when it is first read there."""
        recorded = self.journal.entries(f"{path}#now")
        text = (
            recorded[0].body
            if recorded
            else self.journal.add(Entry(f"{path}#now", "value", body=self.journal.now().isoformat()))
        )
        return datetime.fromisoformat(text)

    async def _first(self, node: Node, path: str, scope: Scope) -> bool:
        """Whether this is the run that does what is done once ever for a key."""
        assert node.once is not None
        key = values.text_of(self.asked(path, node.once, scope))
        hash_ = values.digest(node.digest, key)
        recorded = self.recorded(f"{path}#once", hash_)
        if recorded is None:
            entry = Entry(f"{path}#once", "value", hash=hash_, body={"key": key})
            recorded = await self.journal.commit(entry, ClaimOnce(node.name, key))
        if not recorded["output"]["first"]:
            self.note(path, "skipped", node, recorded["output"])
        return bool(recorded["output"]["first"])

    async def _done(self, node: Node, path: str) -> None:
        """What is done once ever was done well."""
        if not self.replaying and not self.journal.entries(f"{path}#done"):
            key = self.journal.entries(f"{path}#once")[0].body["key"]
            entry = Entry(f"{path}#done", "value", body={}, at=self.journal.now())
            await self.journal.commit(entry, FinishOnce(node.name, key))

    async def _within(self, node: Node, path: str, scope: Scope) -> object:
        """A step with others inside, bounded in time; the deadline and its passing are recorded."""
        assert node.timeout is not None
        recorded = self.journal.entries(f"{path}#deadline")
        if recorded:
            deadline = datetime.fromisoformat(recorded[0].body)
        else:
            deadline = self.journal.now() + timedelta(seconds=node.timeout)
            self.journal.add(Entry(f"{path}#deadline", "value", body=deadline.isoformat()))
        late = StepFailed("timeout", f"{node.name} took longer than {node.timeout:g} s", fix="raise its timeout")
        if self.journal.entries(f"{path}#late"):
            raise late
        outer = HERE.get()
        part = outer.inner()
        if self.journal.now() >= deadline and not self.replaying:
            part.cancel()

        async def inside() -> object:
            HERE.set(part)
            return await KINDS[node.kind](self, node, path, scope)

        async def ring() -> None:
            await self.journal.sleep_until(deadline)
            if not self.replaying:
                part.cancel()

        work, alarm = asyncio.ensure_future(inside()), asyncio.ensure_future(ring())
        try:
            await asyncio.wait({work})
            return work.result()
        except Cancelled:
            self.go_on()
            await self.withdraw(path)
            self.journal.add(Entry(f"{path}#late", "value", body=True))
            raise late from None
        except Resting as resting:
            raise Resting(resting.wakes if part.cancelled else (*resting.wakes, (path, deadline))) from None
        finally:
            outer.leave(part)
            await end_task(alarm)
            await end_task(work)

    # What the kinds of steps share

    def value(self, template: Template, scope: Scope) -> object:
        """A text's value."""
        return template.render(scope)

    def asked(self, path: str, template: Template, scope: Scope) -> object:
        """What a step asks; a failure to work it out is recorded as the step's outcome."""
        try:
            return template.render(scope)
        except StepFailed as failed:
            self._unrendered(path, failed, [])
            raise

    def render(self, node: Node, path: str, scope: Scope, empty: list[str]) -> object:
        """The step's rendered input; a failure to render is recorded as the step's outcome."""
        try:
            return node.body.render(scope, empty)
        except StepFailed as failed:
            self._unrendered(path, failed, empty)
            raise

    def _unrendered(self, path: str, failed: StepFailed, empty: list[str]) -> None:
        if not self.journal.entries(path):
            failed.step = path
            body = {"error": failed.as_data()}
            detail = {"empty": sorted(set(empty))} if empty else None
            self.journal.add(Entry(path, "ended", 1, "", body, detail, at=self.journal.now()))

    def note(
        self, path: str, kind: Literal["value", "skipped"], node: Node, value: object, empty: Sequence[str] = ()
    ) -> object:
        """Record what follows from earlier values, or find it recorded alike."""
        text, value = values.copied(value)
        hash_ = values.digest(node.digest, text)
        for entry in self.journal.entries(path):
            if entry.hash not in (hash_, GIVEN):
                raise Diverged(f"{path} was recorded with another value")
            return entry.body
        detail = {"empty": sorted(set(empty))} if empty else None
        return self.journal.add(Entry(path, kind, 0, hash_, value, detail, None, self.journal.now(), text))

    def recorded(self, path: str, hash_: str) -> Any:
        """The recorded body under a path, None when there is none. Raises `Diverged` for another input."""
        for entry in self.journal.entries(path):
            if entry.hash not in (hash_, GIVEN):
                raise Diverged(f"{path} was recorded with another input")
            return entry.body
        return None

    def remark(self, path: str, text: str) -> None:
        """Something about a place that is worth knowing though the run may end well; it is told with the run."""
        known = self.journal.entries("#remarks")
        if len(known) < _REMARKS and not any(entry.body["path"] == path for entry in known):
            entry = Entry("#remarks", "value", body={"path": path, "text": text}, at=self.journal.now())
            self.journal.add(entry)

    def _remarks(self) -> str:
        return "; ".join(str(entry.body["text"]) for entry in self.journal.entries("#remarks"))

    def spend(self, usage: Usage, purse: Purse | None = None) -> None:
        """Count what was used."""
        if usage:
            self.spent.add(usage)
            (purse or self.purse).pay(usage.paid)

    async def settle(self, model: str) -> Mapping[str, object]:
        """A model alias and its fallbacks, as they were when the run first used it."""
        path = f"#model/{model}"
        for _ in range(2):
            known = self.journal.entries(path)
            if known:
                self.settled.update(known[0].body)
            if model in self.settled:
                return self.settled
            found = dict(await self.executor.settle(model))
            if not found:
                break  # the call itself says what is missing
            if not self.journal.entries(path):
                self.journal.add(Entry(path, "value", body=found, at=self.journal.now()))
        return self.settled

    async def pause(self, path: str, until: datetime, through: bool = False) -> None:
        """Wait until a moment: a short while here, longer at rest. Who is told to end does not wait, unless it waits
        `through`."""
        left = (until - self.journal.now()).total_seconds()
        if left <= 0:
            return
        if self.replaying:
            await self.halt(path)
        if left <= SHORT_PAUSE:
            await self.strands.sleep(self.journal.sleep_until(until), through)
        else:
            await self.strands.rest(path, until, [self.journal.sleep_until(until)], through)
        if not through:
            self.go_on()

    async def signal(self, path: str, until: datetime | None = None, through: bool = False) -> Any:
        """What another brings for a path that was opened; None when the moment `until` comes first. Who is told to end does
        not wait, unless it waits `through`."""
        while True:
            found = self.journal.signal(path)
            if found is not None:
                return found
            if until is not None and self.journal.now() >= until:
                return None
            if not through:
                self.go_on()
            alarms: list[Coroutine[object, object, None]] = [self.journal.arrival(path)]
            if until is not None:
                alarms.append(self.journal.sleep_until(until))
            await self.strands.rest(path, until, alarms, through)

    async def withdraw(self, path: str) -> None:
        """Take back what is still open below a path: child runs, questions, events waited for. Where money is limited,
        the children end before the walk goes on, so that it is known what they spent."""
        if not self.replaying and self.journal.open.under(path) and not self.journal.entries(f"{path}#withdrawn"):
            entry = Entry(f"{path}#withdrawn", "value", body={}, at=self.journal.now())
            await self.journal.commit(entry, TakeBack(path))
        for child, amount in list(self.journal.open.allotted.items()):
            if is_below(child, path) and not self.replaying:
                ended = await self.signal(child, through=True)
                body = {"usage": ended.get("usage")}
                self.journal.add(Entry(f"{child}#spent", "value", body=body, at=self.journal.now()))
                self.purse.reserve(-amount)
                self.spend(Usage.read(ended.get("usage")))

    async def halt(self, path: str) -> None:
        """The end of a strand that is only replayed."""
        await self.strands.rest(path, None, [])

    async def _replayed(self, path: str) -> None:
        if path == self.stop or not self.journal.entries(path):
            await self.halt(path)
