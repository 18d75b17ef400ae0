"""A journal told as a trace: one span per step and item, each with its attempts."""

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from typing import Any

from oak_relay.engine.protocols import Entry

_ITEM = re.compile(r"\[(\d+)\]$")


@dataclass(slots=True)
class Attempt:
    """One try. `state`: running, succeeded, failed, lost. `again_at` is when the next one was to begin."""

    number: int
    state: str
    started: datetime | None = None
    ended: datetime | None = None
    error: dict[str, Any] | None = None
    again_at: str | None = None
    note: str = ""
    usage: dict[str, Any] | None = None
    detail: dict[str, Any] | None = None


@dataclass(slots=True)
class Span:
    """What happened under one path. `line` is the path with `[]` for list items, as the script has it."""

    path: str
    line: str
    kind: str
    state: str = "succeeded"
    started: datetime | None = None
    ended: datetime | None = None
    attempts: list[Attempt] = field(default_factory=list)
    input: Any = None
    output: Any = None
    error: dict[str, Any] | None = None
    way: int | None = None
    until: str | None = None
    empty: list[str] = field(default_factory=list)
    tokens: int = 0
    money: float = 0.0


def spans(entries: Iterable[Entry], ended: bool) -> list[Span]:
    """Spans in order of first appearance. `ended`: the run is over, so nothing is still running."""
    found: dict[str, Span] = {}
    for entry in entries:
        path, _, mark = entry.path.partition("#")
        span = found.get(path)
        if span is None:
            _parents(found, path)
            span = found[path] = Span(path, re.sub(r"\[\d+\]", "[]", path), "item" if _ITEM.search(path) else "step")
        _take(span, entry, mark)
    for span in reversed(list(found.values())):
        _roll_up(found, span, ended)
    return list(found.values())


def _parents(found: dict[str, Span], path: str) -> None:
    for match in re.finditer(r"(!?\.)|(\[)|(\])", path):
        parent = path[: match.start() + (1 if match.group() == "]" else 0)]
        if parent and parent not in found and parent != path:
            found[parent] = Span(
                parent, re.sub(r"\[\d+\]", "[]", parent), "item" if _ITEM.search(parent) else "step", "running"
            )


def _take(span: Span, entry: Entry, mark: str) -> None:
    detail = entry.detail or {}
    span.empty = detail.get("empty", span.empty)
    if entry.at or entry.started:
        first = entry.started or entry.at
        span.started = min(x for x in (span.started, first) if x)
    if entry.kind == "skipped":
        span.state, span.ended, span.output = "skipped", entry.at, entry.body
    elif entry.kind in ("began", "ended", "lost"):
        _take_attempt(span, entry, detail)
    elif mark == "woke":
        span.state, span.output, span.ended = "succeeded", entry.body, entry.at
    elif mark == "late":
        span.error = {"kind": "timeout", "message": "it took longer than its timeout", "reached": "maybe"}
    elif mark == "end":
        span.ended = entry.at
        if span.kind == "item":
            span.output, span.error = entry.body.get("value"), entry.body.get("error")
        else:
            span.output = entry.body
        span.state = "failed" if span.error else "succeeded"
    elif not mark:
        _take_value(span, entry)


def _take_value(span: Span, entry: Entry) -> None:
    body = entry.body
    span.ended = entry.at
    if isinstance(body, dict) and set(body) == {"way"}:
        span.way, span.state, span.ended = body["way"], "running" if body["way"] >= 0 else "succeeded", None
    elif isinstance(body, dict) and set(body) == {"until"}:
        span.until, span.state, span.ended = body["until"], "waiting", None
    elif isinstance(body, dict) and set(body) == {"items"} and isinstance(body["items"], list):
        span.input, span.state, span.ended = body["items"], "running", None
    elif isinstance(body, dict) and "given" in body:
        span.output = body["given"]
    else:
        span.output = body


def _take_attempt(span: Span, entry: Entry, detail: dict[str, Any]) -> None:
    span.input = detail.get("input", span.input)
    current = next((a for a in span.attempts if a.number == entry.attempt), None)
    if current is None:
        current = Attempt(entry.attempt, "running", entry.started)
        span.attempts.append(current)
    current.detail = {k: v for k, v in detail.items() if k not in ("input", "empty")} or current.detail
    span.state = "running"
    if entry.kind == "began":
        return
    current.ended = span.ended = entry.at
    if entry.kind == "lost":
        current.state, current.note = "lost", entry.body["note"]
        return
    body = entry.body
    current.usage = body.get("usage")
    if current.usage:
        span.tokens += int(current.usage.get("input") or 0) + int(current.usage.get("output") or 0)
        span.money = float(Decimal(str(span.money)) + Decimal(str(current.usage.get("money") or 0)))
    if "error" in body:
        current.state, current.error, current.again_at = "failed", body["error"], body.get("again_at")
        span.error = body["error"]
        span.state = "waiting" if current.again_at else "failed"
        span.until = current.again_at
    else:
        current.state = span.state = "succeeded"
        span.output, span.error, span.until = body["output"], None, None


def _roll_up(found: dict[str, Span], span: Span, ended: bool) -> None:
    """A span with others inside takes its times, money and, where open, its state from them."""
    inner = [s for p, s in found.items() if p != span.path and _parent(p) == span.path]
    if inner:
        starts = [s.started for s in (span, *inner) if s.started]
        ends = [s.ended for s in (span, *inner) if s.ended]
        span.started, span.ended = min(starts, default=None), max(ends, default=None)
        span.tokens += sum(s.tokens for s in inner)
        span.money = float(sum((Decimal(str(s.money)) for s in inner), Decimal(str(span.money))))
        states = [s.state for s in inner]
        if span.state in ("running", "waiting") and "succeeded" not in (span.state,):
            open_states = [s for s in ("running", "waiting") if s in states]
            if open_states:
                span.state = open_states[0]
            elif inner[-1].state == "failed" and ended:
                span.state, span.error = "failed", span.error or inner[-1].error
            elif ended or span.way is not None:
                span.state = "succeeded"
    if ended and span.state in ("running", "waiting"):
        span.state = "failed" if span.error else "cancelled"


def _parent(path: str) -> str:
    if path.endswith("]"):
        return path[: path.rindex("[")]
    return path.rpartition(".")[0].rstrip("!")
