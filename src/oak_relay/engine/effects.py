"""Actions: attempts with retries, intentions before what is sent, and what to do when nobody knows."""

import asyncio
from datetime import datetime, timedelta
from typing import Any

from oak_relay.changes import AskPerson, AwaitEvent
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine.cuts import HERE
from oak_relay.engine.entries import Entry
from oak_relay.engine.outcomes import Attempts, Scope, read_attempts
from oak_relay.engine.plan import Node
from oak_relay.engine.protocols import Call, Manner, Outcome
from oak_relay.engine.purse import Draw, Purse
from oak_relay.engine.rest import end_task
from oak_relay.engine.walking import Walking
from oak_relay.usage import NOTHING, Usage

LARGEST_VALUE = 4_000_000
HAPPENED, AGAIN, GIVE_UP = "it happened", "try again", "give up"
READY = "oak.ready"
"""What is published when a credential is there, or has credit again; its name stands behind it."""
LOST = "the worker was lost while this call was under way; what it did is possibly spent"


async def do(walk: Walking, node: Node, path: str, scope: Scope) -> object:
    """Carry out an action; its output."""
    empty: list[str] = []
    text, given = values.copied(walk.render(node, path, scope, empty))
    detail: dict[str, object] = {"input": given}
    shown: str | None = f'{{"input":{text}}}'
    if empty:
        detail["empty"], shown = sorted(set(empty)), None
    return await act(walk, node, path, given, values.digest(node.digest, text), detail, shown=shown)


async def act(
    walk: Walking,
    node: Node,
    path: str,
    given: dict[str, object],
    hash_: str,
    detail: dict[str, Any],
    purse: Purse | None = None,
    shown: str | None = None,
) -> Any:
    """Carry out an action with an input; `detail` is what the record shows of that (`shown` its JSON text), `purse` what it draws on if that is not
    the run's own. Returns its output."""
    purse = purse or walk.purse
    recorded = walk.journal.entries(path)
    if recorded:
        purse.recall(sum(_used(entry).paid for entry in recorded))
    manner = walk.executor.manner(node.action, given)
    state = read_attempts(recorded, path, hash_)
    if state.over:
        if state.error:
            raise state.error
        return state.output
    if walk.replaying:
        walk.refused.add(path)
        await walk.halt(path)
    assert node.retry is not None
    timeout = node.timeout if node.timeout is not None else manner.timeout
    effect = _Effect(walk, node, path, manner, hash_, given, detail, timeout, purse)
    if state.open is not None:
        await effect.lost(state)
    if state.unsure is not None and effect.unsafe:
        settled = await effect.settle(state.unsure, state.error)
        if settled is not None:
            return settled.output
    if state.again_at is not None:
        await walk.pause(path, state.again_at)
    if state.wanting is not None:
        assert state.error is not None
        last = recorded[-1]
        await effect.ready(state.wanting, state.error, last.started or last.at or walk.journal.now())
    while True:
        walk.go_on()
        state.number += 1
        entry = Entry(path, "ended", state.number, hash_, None, detail, walk.journal.now(), shown=shown)
        call = effect.as_call(state.number)
        try:
            if manner.reach == "local":
                return (await walk.journal.commit(entry, await walk.executor.change(call)))["output"]
            return await effect.call(call, entry)
        except StepFailed as failed:
            state.failures += 1
            failed.step = failed.step or path
            settled = await effect.failed(entry, failed, state.failures)
            if settled is not None:
                return settled.output


def _used(entry: Entry) -> Usage:
    return Usage.read((entry.body or {}).get("usage")) if entry.kind in ("ended", "lost") else NOTHING


class _Effect:
    """One step's action, whatever attempt it is at."""

    def __init__(
        self,
        walk: Walking,
        node: Node,
        path: str,
        manner: Manner,
        hash_: str,
        given: dict[str, Any],
        detail: dict[str, object],
        timeout: float,
        purse: Purse,
    ) -> None:
        self.walk, self.node, self.path, self.manner = walk, node, path, manner
        self.hash, self.given, self.detail, self.timeout, self.purse = hash_, given, detail, timeout, purse
        self.unsafe = manner.repeat in ("unsafe", "checkable")
        """Whether it must not be repeated, nor cut, unseen."""

    async def call(self, call: Call, entry: Entry) -> object:
        """Reach outside: intention first, then the call, then its outcome."""
        walk = self.walk
        settled = await walk.settle(self.manner.model) if self.manner.model else {}
        call = call._replace(settled=settled)
        if self.manner.reach == "outside":
            while (wait := await walk.executor.admit(call)) > 0:
                await walk.pause(f"{self.path}#admitted", walk.journal.now() + timedelta(seconds=wait))
            entry = entry._replace(started=walk.journal.now())
        draw = Draw(self.purse, call.action, self._drew)
        call = call._replace(draw=draw)
        draw.grant(await walk.executor.worst(call))
        try:
            if self.manner.reach == "outside":
                intended = {"worst": draw.granted} if draw.granted else None
                began = entry._replace(kind="began", body=intended)
                await walk.journal.commit(began)
                if walk.cancelling:  # told while the intention was written: nothing was sent
                    raise StepFailed("cancelled", f"{call.action} was not begun: the run was told to end")
            outcome = await self._perform(call)
        except StepFailed as failed:
            if not failed.usage and failed.reached == "maybe":
                draw.settle(None, "maybe")
            failed.usage = draw.end(failed.usage)
            raise
        except BaseException:
            draw.end(NOTHING)
            raise
        usage = draw.end(outcome.usage)
        walk.spend(usage, self.purse)
        body = {"output": outcome.output}
        if usage:
            body["usage"] = usage.as_data()
        length = len(values.dumps(outcome.output))
        if length > LARGEST_VALUE:
            raise StepFailed(
                "too_long",
                f"{call.action} gave {length} characters",
                fix="ask for less",
                reached="yes",
                detail=outcome.detail,
            )
        detail = {**(entry.detail or {}), **outcome.detail}
        ended = Entry(entry.path, "ended", entry.attempt, entry.hash, body, detail, entry.started, walk.journal.now())
        if self.manner.repeat == "safe" and not usage.paid and not usage.unknown:
            # It may be had again: whatever acts on it waits until it is durable (a call's intention, a change, the end).
            await walk.breathe()
            return walk.journal.add(ended)["output"]
        return (await walk.journal.commit(ended))["output"]

    def as_call(self, attempt: int) -> Call:
        walk = self.walk
        key = f"{walk.start.run_id}:{self.path}"
        return Call(self.node.action, self.given, self.path, attempt, key, self.timeout)

    async def _drew(self, granted: float) -> None:
        """A call is about to cost more than it was granted at first."""
        await self.walk.journal.commit(Entry(f"{self.path}#drew", "value", body={"worst": granted}))

    async def failed(self, entry: Entry, failed: StepFailed, failures: int) -> Outcome | None:
        """Record a failed attempt. Returns None when it is to be tried again, or what a person says it gave;
        else raises it."""
        walk, now = self.walk, self.walk.journal.now()
        wait = self._again(failed, failures)
        unsure = self.unsafe and failed.reached == "maybe" and self.node.unknown != "fail"
        body: dict[str, object] = {"error": failed.as_data()}
        if failed.usage:
            walk.spend(failed.usage, self.purse)
            body["usage"] = failed.usage.as_data()
        if unsure:
            body["unknown"] = True
        elif (
            failed.kind == "cancelled" and walk.cancelling
        ):  # it is no outcome: a walk that is not told to end tries again
            body["again_at"] = now.isoformat()
        elif wait is not None:
            body["again_at"] = (now + timedelta(seconds=wait)).isoformat()
        waits = self._waits(failed) and wait is None and not unsure
        if waits:
            body["waits"] = True
        detail = {**self.detail, **failed.detail}
        await walk.journal.commit(Entry(self.path, "ended", entry.attempt, self.hash, body, detail, entry.started, now))
        if unsure:
            return await self.settle(entry.attempt, failed)
        if waits:
            await self.ready(entry.attempt, failed, entry.started or now)
            return None
        if wait is None or walk.cancelling:  # a walk that is not told to end, as this one was, tries again
            raise failed
        await walk.pause(self.path, now + timedelta(seconds=wait))
        return None

    def _waits(self, failed: StepFailed) -> bool:
        """Whether the run rests until what a call wants is there, a credential or its credit. Who handles errors gets
        this one too, and what is tried by hand does not wait."""
        patient = self.node.patient and self.node.on_error == "fail" and self.walk.start.patient
        return bool(failed.waits_for) and failed.reached == "no" and patient and not self.walk.cancelling

    async def ready(self, attempt: int, failed: StepFailed, since: datetime) -> None:
        """Rest until somebody says that what an attempt wanted is there, since that moment."""
        walk, path = self.walk, f"{self.path}#ready{attempt}"
        if walk.journal.entries(f"{path}#end"):
            return
        if not walk.journal.entries(path):
            awaited = AwaitEvent(path, f"{READY}.{failed.waits_for}", None, {}, since.isoformat())
            detail = {"waits_for": failed.waits_for}
            opened = Entry(path, "opened", attempt, body={}, detail=detail, at=walk.journal.now())
            await walk.journal.commit(opened, awaited)
        early = walk.journal.entries(path)[0].body["output"]["events"]
        came = early[0] if early else await walk.signal(path)
        walk.journal.add(Entry(f"{path}#end", "value", body=came, at=walk.journal.now()))

    async def lost(self, state: Attempts) -> None:
        """An attempt began and has no outcome: its worker was lost while the call was under way."""
        walk, open_ = self.walk, state.open
        assert open_ is not None and open_.started is not None
        if self.unsafe:
            over = open_.started + timedelta(seconds=self.timeout + walk.start.grace)
            await walk.pause(open_.path, over, through=True)
        body: dict[str, object] = {"note": LOST}
        now, drew = walk.journal.now(), walk.journal.entries(f"{self.path}#drew")
        worst = max((open_.body or {}).get("worst") or 0.0, *(entry.body["worst"] for entry in drew), 0.0)
        if worst:  # nobody knows what it has cost, so it counts at the most it may have
            usage = Usage(money=worst, unsure=worst)
            body["usage"] = usage.as_data()
            walk.spend(usage, self.purse)
        walk.journal.add(Entry(self.path, "lost", open_.attempt, self.hash, body, open_.detail, open_.started, now))
        state.open, state.unsure = None, open_.attempt

    async def settle(self, attempt: int, failed: StepFailed | None) -> Outcome | None:
        """Nobody knows what became of an attempt: what it gave, None when it is to be made again, else an error."""
        settled, again = await self._unknown(attempt, failed.message if failed else LOST)
        if settled is not None or again:
            return settled
        if failed is None:
            failed = StepFailed(
                "failed",
                f"{self.node.name}: {LOST}, and {self.node.action} must not be repeated unseen",
                fix="look whether it happened; mark it unknown: repeat if repeating does no harm",
                reached="maybe",
                step=self.path,
            )
        raise failed

    async def _unknown(self, attempt: int, note: str) -> tuple[Outcome | None, bool]:
        walk, node = self.walk, self.node
        path = f"{self.path}#unknown{attempt}"
        closed = walk.journal.entries(f"{path}#end")
        if closed:
            said = closed[0].body
        else:
            said = await self._looked(attempt)
            if said is None:
                if node.unknown != "ask":
                    return None, node.unknown == "repeat"
                said = await self._asked(path, attempt, note)
            said = walk.journal.add(Entry(f"{path}#end", "value", body=said, at=walk.journal.now()))
        if said["choice"] == HAPPENED:
            return Outcome(said.get("data")), False
        return None, said["choice"] == AGAIN

    async def _looked(self, attempt: int) -> dict[str, object] | None:
        """Of a checkable action: what a look says; None when that cannot be had."""
        if self.manner.repeat != "checkable":
            return None
        try:
            found = await self.walk.executor.happened(self.as_call(attempt))
        except StepFailed:
            return None
        return {"choice": HAPPENED, "data": found.output, "by": ""} if found else {"choice": AGAIN, "by": ""}

    async def _asked(self, path: str, attempt: int, note: str) -> object:
        """What a person says; all alike questions can be answered together."""
        walk, node = self.walk, self.node
        if not walk.journal.entries(path):
            question = AskPerson(
                path,
                f"Did {node.name} ({node.action}) happen? {note[0].upper()}{note[1:]}.",
                choices=[HAPPENED, AGAIN, GIVE_UP],
                input=self.given,
                alike=values.digest("unknown", walk.plan.workflow, node.place, node.action),
            )
            opened = Entry(path, "opened", attempt, body={}, at=walk.journal.now())
            await walk.journal.commit(opened, question)
        return await walk.signal(path, through=True)

    async def _perform(self, call: Call) -> Outcome:
        """The call, within its time."""
        walk = self.walk
        task = asyncio.ensure_future(walk.executor.perform(call))
        if not self.unsafe:
            HERE.get().calls(task)
        try:
            done, _ = await asyncio.wait({task}, timeout=call.timeout)
            if not done:
                await end_task(task)
                raise StepFailed(
                    "timeout",
                    f"{call.action} gave no answer within {call.timeout:g} s",
                    fix="raise the step's timeout",
                    reached="maybe",
                )
            if task.cancelled():
                raise StepFailed("cancelled", "the run was cancelled during this call", reached="maybe")
            return task.result()
        finally:
            await end_task(task)

    def _again(self, failed: StepFailed, failures: int) -> float | None:
        """Seconds until the next attempt, or None when there is none."""
        retry = self.node.retry
        assert retry is not None
        if failures >= retry.tries or failed.kind not in retry.kinds:
            return None
        if self.unsafe and failed.reached != "no":
            return None
        return retry.delay(failures, self.walk.journal.random(), failed.delay)
