"""The walk: an interpreter of plans over a journal and an executor.

Resuming is walking again: what the journal has is taken from it, and the walk goes on behind it.
"""

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any, Literal

from oak_relay.document import durations, values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.engine.outcomes import Attempts, Diverged, Finished, Rested, Scope, Spent, Start, read_attempts
from oak_relay.engine.plan import Node, Plan
from oak_relay.engine.protocols import Call, Entry, Executor, Journal, LocalEffect, Manner
from oak_relay.engine.rest import Resting, Strands

SHORT_PAUSE = 5.0
"""Seconds up to which a pause is slept in the process; longer ones rest in the record."""
LARGEST_VALUE = 4_000_000


class _Stopped(Exception):
    def __init__(self, result: Any) -> None:
        self.result = result


class _Cancelled(Exception):
    pass


@dataclass(slots=True)
class Walk:
    """One walk of one run. `walk()` returns `Finished` or `Rested`; `cancel()` may be called meanwhile."""

    plan: Plan
    journal: Journal
    executor: Executor
    start: Start
    spent: Spent = field(default_factory=Spent)
    _strands: Strands = field(default_factory=Strands)
    _cancelling: bool = False
    _calls: dict[asyncio.Task[Any], Manner] = field(default_factory=dict)
    _kinds: dict[str, Callable[..., Awaitable[Any]]] = field(default_factory=dict)

    async def walk(self) -> Finished | Rested:
        self._kinds = {
            k: getattr(self, f"_{k}") for k in ("do", "set", "branch", "each", "wait", "answer", "stop", "fail")
        }
        scope = dict(self.start.scope)
        try:
            async with asyncio.timeout(
                None if self.plan.time is None else max(0.0, self.plan.time - self.start.worked)
            ):
                await self._steps(self.plan.steps, "", scope)
                return Finished("succeeded", self._value(self.plan.result, scope))
        except _Stopped as stopped:
            return Finished("succeeded", stopped.result)
        except _Cancelled:
            return Finished("cancelled", error=StepFailed("cancelled", "the run was cancelled").as_data())
        except Resting as resting:
            return Rested(resting.wakes)
        except StepFailed as failed:
            return Finished("failed", error=failed.as_data())
        except Diverged as diverged:
            return Finished(
                "failed",
                error=StepFailed(
                    "diverged", str(diverged), fix="the engine or the document changed under this run; run it again"
                ).as_data(),
            )
        except TimeoutError:
            return Finished(
                "failed",
                error=StepFailed(
                    "timeout", f"the run worked longer than its limit of {self.plan.time:g} s", fix="raise limits: time"
                ).as_data(),
            )

    def cancel(self) -> None:
        """Start nothing new; end calls that may be ended; unsafe ones run out."""
        self._cancelling = True
        for task, manner in self._calls.items():
            if manner.repeat != "unsafe":
                task.cancel()
        self._strands.wake_all()

    # Steps

    async def _steps(self, nodes: Sequence[Node], base: str, scope: Scope) -> None:
        for node in nodes:
            await self._step(node, base + node.name, scope)

    async def _step(self, node: Node, path: str, scope: Scope) -> None:
        if self._cancelling:
            raise _Cancelled
        inner = scope
        if node.uses_now:
            inner = {**scope, "now": self._now(path)}
        try:
            if node.when is not None and not self._value(node.when, inner):
                self._note(path, "skipped", node, None)
                scope[node.name] = None
                return
            if node.once is not None and not await self._first(node, path, inner):
                scope[node.name] = None
                return
            if node.timeout is not None and node.kind in ("branch", "each"):
                value = await self._within(node, path, inner)
            else:
                value = await self._kinds[node.kind](node, path, inner)
            if inner is not scope:
                scope.update((k, v) for k, v in inner.items() if k != "now")
            scope[node.name] = value
        except StepFailed as failed:
            if self._cancelling:
                raise _Cancelled from None
            if node.on_error == "fail" or node.kind == "fail":
                raise
            held = {"error": failed.as_data()}
            if not isinstance(node.on_error, str):
                await self._steps(node.on_error, f"{path}!.", {**scope, **held})
            scope[node.name] = held

    def _now(self, path: str) -> datetime:
        recorded = self.journal.entries(f"{path}#now")
        text = (
            recorded[0].body
            if recorded
            else self.journal.add(Entry(f"{path}#now", "value", body=self.journal.now().isoformat()))
        )
        return datetime.fromisoformat(text)

    async def _first(self, node: Node, path: str, scope: Scope) -> bool:
        assert node.once is not None
        key = values.text_of(self._value(node.once, scope))
        recorded = self._recorded(f"{path}#once", values.digest(node.digest, key))
        if recorded is None:
            entry = Entry(f"{path}#once", "value", hash=values.digest(node.digest, key), body={"key": key})
            recorded = await self.journal.commit(entry, LocalEffect("once", {"step": node.name, "key": key}))
        if not recorded["output"]["first"]:
            self._note(path, "skipped", node, recorded["output"])
        return bool(recorded["output"]["first"])

    async def _within(self, node: Node, path: str, scope: Scope) -> Any:
        """A step with steps inside, bounded in time; the deadline and its passing are recorded."""
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
        work = asyncio.ensure_future(self._kinds[node.kind](node, path, scope))
        alarm = asyncio.ensure_future(self.journal.sleep_until(deadline))
        try:
            await asyncio.wait({work, alarm}, return_when=asyncio.FIRST_COMPLETED)
            if work.done():
                return work.result()
            await _end(work)
            self.journal.add(Entry(f"{path}#late", "value", body=True))
            raise late
        except Resting as resting:
            raise Resting((*resting.wakes, (path, deadline))) from None
        finally:
            await _end(alarm)
            await _end(work)

    async def _set(self, node: Node, path: str, scope: Scope) -> Any:
        empty: list[str] = []
        value = self._render(node, path, scope, empty)
        return self._note(path, "value", node, value, empty)

    async def _answer(self, node: Node, path: str, scope: Scope) -> None:
        value = self._render(node, path, scope, [])
        hash_ = values.digest(node.digest, values.dumps(value))
        if self._recorded(path, hash_) is None:
            await self.journal.commit(
                Entry(path, "value", hash=hash_, body={"given": value}), LocalEffect("answer", value)
            )

    async def _stop(self, node: Node, path: str, scope: Scope) -> None:
        raise _Stopped(self._note(path, "value", node, self._render(node, path, scope, [])))

    async def _fail(self, node: Node, path: str, scope: Scope) -> None:
        message = values.text_of(self._render(node, path, scope, []))
        self._note(path, "value", node, message)
        raise StepFailed("failed", message, fix="the document ends the run here")

    async def _branch(self, node: Node, path: str, scope: Scope) -> Any:
        recorded = self._recorded(path, node.digest)
        if recorded is None:
            taken = -1
            for index, way in enumerate(node.ways):
                if way.condition is None or self._value(way.condition, scope):
                    taken = index
                    break
            recorded = self.journal.add(
                Entry(path, "value", hash=node.digest, body={"way": taken}, at=self.journal.now())
            )
        taken = recorded["way"]
        if taken < 0:
            return None
        way = node.ways[taken]
        await self._steps(way.steps, f"{path}.", scope)
        return self._value(way.gives, scope)

    async def _wait(self, node: Node, path: str, scope: Scope) -> Any:
        recorded = self._recorded(path, node.digest)
        if recorded is None:
            text = self._render(node, path, scope, [])
            until = self._until(text)
            recorded = self.journal.add(
                Entry(path, "value", hash=node.digest, body={"until": until.isoformat()}, at=self.journal.now())
            )
        done = self.journal.entries(f"{path}#woke")
        if done:
            return done[0].body
        await self._pause(path, datetime.fromisoformat(recorded["until"]))
        now = self.journal.now()
        return self.journal.add(Entry(f"{path}#woke", "value", body={"at": now.isoformat()}, at=now))

    def _until(self, given: Any) -> datetime:
        text = values.text_of(given)
        try:
            return self.journal.now() + timedelta(seconds=durations.seconds(text))
        except ValueError:
            try:
                return durations.moment(text)
            except ValueError:
                raise StepFailed(
                    "invalid", f"{text!r} is neither a duration nor a moment", fix="write 5m or a moment in RFC 3339"
                ) from None

    async def _each(self, node: Node, path: str, scope: Scope) -> Any:
        closed = self.journal.entries(f"{path}#end")
        if closed:
            return closed[0].body
        items = self._render(node, path, scope, [])
        if not isinstance(items, list):
            raise StepFailed(
                "invalid", f"{node.name} needs a list, not {type(items).__name__}", fix="give each: a list"
            )
        hash_ = values.digest(node.digest, values.dumps(items))
        recorded = self._recorded(path, hash_)
        if recorded is None:
            recorded = self.journal.add(Entry(path, "value", hash=hash_, body={"items": items}, at=self.journal.now()))
        items = recorded["items"]
        results: list[Any] = [None] * len(items)
        positions = iter(range(len(items)))
        broken: list[BaseException] = []

        async def strand() -> None:
            for index in positions:
                if broken:
                    return
                try:
                    results[index] = await self._item(node, f"{path}[{index}]", scope, items[index])
                except Resting:
                    raise
                except BaseException as error:
                    broken.append(error)
                    raise

        width = min(node.width, len(items))
        await self._strands.together([strand() for _ in range(width)])
        if node.failed == "drop":
            results = [r for r in results if not (isinstance(r, dict) and r.get("error") and "value" not in r)]
        given = [r.get("value", r) for r in results]
        return self.journal.add(Entry(f"{path}#end", "value", body=given, at=self.journal.now()))

    async def _item(self, node: Node, path: str, scope: Scope, item: Any) -> dict[str, Any]:
        """`{value}` or, where failures are kept, `{error}` of one item."""
        closed = self.journal.entries(f"{path}#end")
        if closed:
            return closed[0].body
        inner = {**scope, node.item: item}
        try:
            await self._steps(node.steps, f"{path}.", inner)
            outcome = {"value": self._value(node.gives, inner)}
        except StepFailed as failed:
            if node.failed == "stop":
                raise
            outcome = {"error": failed.as_data()}
        return self.journal.add(Entry(f"{path}#end", "value", body=outcome, at=self.journal.now()))

    # Effects

    async def _do(self, node: Node, path: str, scope: Scope) -> Any:
        empty: list[str] = []
        given = self._render(node, path, scope, empty)
        manner = self.executor.manner(node.action, given)
        shown = values.dumps(given)
        hash_ = values.digest(node.digest, shown)
        state = read_attempts(self.journal.entries(path), path, hash_)
        if state.done:
            if state.error:
                raise state.error
            return state.output
        timeout = node.timeout if node.timeout is not None else manner.timeout
        if state.open is not None:
            await self._lost(node, manner, state, timeout)
        if state.again_at is not None:
            await self._pause(path, state.again_at)
        assert node.retry is not None
        detail: dict[str, Any] = {"input": given}
        if empty:
            detail["empty"] = sorted(set(empty))
        while True:
            if self._cancelling:
                raise _Cancelled
            state.number += 1
            started = self.journal.now()
            call = Call(node.action, given, path, state.number, f"{self.start.run_id}:{path}", timeout, self._left())
            entry = Entry(path, "ended", state.number, hash_, None, detail, started)
            try:
                if manner.reach == "local":
                    return (await self.journal.commit(entry, self.executor.effect(call)))["output"]
                return await self._call(call, manner, entry)
            except StepFailed as failed:
                state.failures += 1
                wait = self._again(node, manner, failed, state.failures)
                body: dict[str, Any] = {"error": failed.as_data()}
                if failed.usage:
                    self.spent.add(failed.usage)
                    body["usage"] = failed.usage
                now = self.journal.now()
                if wait is not None:
                    body["again_at"] = (now + timedelta(seconds=wait)).isoformat()
                await self.journal.commit(
                    Entry(path, "ended", state.number, hash_, body, {**detail, **failed.detail}, started, now)
                )
                if wait is None:
                    raise
                await self._pause(path, now + timedelta(seconds=wait))

    async def _call(self, call: Call, manner: Manner, entry: Entry) -> Any:
        """Reach outside: intention first, then the call, then its outcome."""
        if manner.reach == "outside":
            await self.journal.commit(
                Entry(
                    entry.path, "began", entry.attempt, entry.hash, {"action": call.action}, entry.detail, entry.started
                )
            )
        task = asyncio.ensure_future(self.executor.perform(call))
        self._calls[task] = manner
        try:
            done, _ = await asyncio.wait({task}, timeout=call.timeout)
            if not done:
                await _end(task)
                raise StepFailed(
                    "timeout",
                    f"{call.action} gave no answer within {call.timeout:g} s",
                    fix="raise the step's timeout",
                    reached="maybe",
                )
            if task.cancelled():
                raise StepFailed("cancelled", "the run was cancelled during this call", reached="maybe")
            outcome = task.result()
        finally:
            self._calls.pop(task, None)
            await _end(task)
        self.spent.add(outcome.usage)
        body = {"output": outcome.output}
        if outcome.usage:
            body["usage"] = outcome.usage
        text = values.dumps(outcome.output)
        if len(text) > LARGEST_VALUE:
            raise StepFailed(
                "too_long",
                f"{call.action} gave {len(text)} characters",
                fix="ask for less",
                reached="yes",
                detail=outcome.detail,
            )
        detail = {**(entry.detail or {}), **outcome.detail}
        recorded = await self.journal.commit(
            Entry(entry.path, "ended", entry.attempt, entry.hash, body, detail, entry.started, self.journal.now())
        )
        return recorded["output"]

    def _again(self, node: Node, manner: Manner, failed: StepFailed, failures: int) -> float | None:
        """Seconds until the next attempt, or None when there is none."""
        assert node.retry is not None
        if failures >= node.retry.tries or failed.kind not in node.retry.kinds or self._cancelling:
            return None
        if manner.repeat == "unsafe" and failed.reached != "no":
            return None
        return node.retry.delay(failures, self.journal.random(), failed.delay)

    async def _lost(self, node: Node, manner: Manner, state: Attempts, timeout: float) -> None:
        """An attempt began and has no outcome: its worker was lost while the call was under way."""
        open_ = state.open
        assert open_ is not None and open_.started is not None
        if manner.repeat == "unsafe":
            await self._pause(open_.path, open_.started + timedelta(seconds=timeout + self.start.grace))
        now = self.journal.now()
        note = "the worker was lost while this call was under way; what it did is possibly spent"
        if manner.repeat == "unsafe" and node.unknown == "fail":
            failed = StepFailed(
                "failed",
                f"{node.name}: {note}, and {node.action} must not be repeated unseen",
                fix="look whether it happened; mark it unknown: repeat if repeating does no harm",
                reached="maybe",
            )
            body = {"error": failed.as_data()}
            await self.journal.commit(
                Entry(open_.path, "ended", open_.attempt, open_.hash, body, open_.detail, open_.started, now)
            )
            raise failed
        self.journal.add(
            Entry(open_.path, "lost", open_.attempt, open_.hash, {"note": note}, open_.detail, open_.started, now)
        )

    # Small parts

    def _value(self, template: Template, scope: Scope) -> Any:
        return template.render(scope)

    def _render(self, node: Node, path: str, scope: Scope, empty: list[str]) -> Any:
        """The step's rendered input; a failure to render is recorded as the step's outcome."""
        try:
            return node.body.render(scope, empty)
        except StepFailed as failed:
            if not self.journal.entries(path):
                body = {"error": failed.as_data()}
                detail = {"empty": sorted(set(empty))} if empty else None
                self.journal.add(Entry(path, "ended", 1, "", body, detail, at=self.journal.now()))
            raise

    def _note(
        self, path: str, kind: Literal["value", "skipped"], node: Node, value: Any, empty: Sequence[str] = ()
    ) -> Any:
        """Record what follows from earlier values, or find it recorded alike."""
        text = values.dumps(value)
        hash_ = values.digest(node.digest, text)
        for entry in self.journal.entries(path):
            if entry.hash != hash_:
                raise Diverged(f"{path} was recorded with another value")
            return entry.body
        detail = {"empty": sorted(set(empty))} if empty else None
        return self.journal.add(Entry(path, kind, 0, hash_, value, detail, None, self.journal.now(), text))

    def _recorded(self, path: str, hash_: str) -> Any:
        for entry in self.journal.entries(path):
            if entry.hash != hash_:
                raise Diverged(f"{path} was recorded with another input")
            return entry.body
        return None

    def _left(self) -> float | None:
        return None if self.plan.money is None else max(0.0, self.plan.money - float(self.spent.money))

    async def _pause(self, path: str, until: datetime) -> None:
        left = (until - self.journal.now()).total_seconds()
        if left <= 0:
            return
        if left <= SHORT_PAUSE:
            await self._strands.sleep(self.journal.sleep_until(until))
        else:
            await self._strands.rest(path, until, self.journal.sleep_until(until))
        if self._cancelling:
            raise _Cancelled


async def _end(task: "asyncio.Future[Any]") -> None:
    """End a task and see it end."""
    if not task.done():
        task.cancel()
        await asyncio.wait({task})
    if not task.cancelled():
        task.exception()
