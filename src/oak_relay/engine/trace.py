"""A journal told as a trace: one span per step, item and part of a long list, each with its attempts."""

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from typing import Any, TypedDict, cast

from oak_relay.document.errors import ErrorData
from oak_relay.engine.effects import AGAIN, HAPPENED
from oak_relay.engine.entries import Detail, Entry
from oak_relay.engine.paths import EntryPath
from oak_relay.usage import Usage


class Large(TypedDict):
    """A payload of which only a preview is told: `of` what it is the whole (`body` or `detail`), its `id`, and its bytes."""

    of: str
    id: str
    bytes: int


class AskedOnce(TypedDict, total=False):
    """What a trace shows of a model that was asked once."""

    model: str
    alias: str
    finish: str
    first_token: float
    reply: str


@dataclass(slots=True)
class Attempt:
    """One try. `state`: running, succeeded, failed, lost. `again_at` is when the next one was to begin."""

    number: int
    state: str
    started: datetime | None = None
    ended: datetime | None = None
    error: ErrorData | None = None
    again_at: str | None = None
    note: str = ""
    usage: Usage | None = None
    detail: Detail | None = None

    @property
    def asked(self) -> AskedOnce | None:
        """What is shown of the model that it asked last, None when it asked none."""
        detail = self.detail or {}
        turns = detail.get("turns")
        turn = detail.get("turn") or (turns[-1] if isinstance(turns, list) and turns else None)
        return cast(AskedOnce, turn) if isinstance(turn, dict) else None


@dataclass(slots=True)
class Span:
    """What happened under one path. `line` is the path with `[]` for list items, as the script has it;
    `runs` the child runs it started; `large` where payloads are of which only a preview is told."""

    path: str
    line: str
    kind: str
    state: str = "succeeded"
    started: datetime | None = None
    ended: datetime | None = None
    attempts: list[Attempt] = field(default_factory=list)
    input: object = None
    output: object = None
    error: ErrorData | None = None
    way: int | None = None
    until: str | None = None
    runs: list[str] = field(default_factory=list)
    note: str = ""
    strands: list[str] = field(default_factory=list)
    empty: list[str] = field(default_factory=list)
    tokens: int = 0
    money: float = 0.0
    unpriced: int = 0
    large: list[Large] = field(default_factory=list)

    @property
    def parent(self) -> str:
        """The path of the span around it; empty at the top."""
        return EntryPath(self.path).parent

    @property
    def name(self) -> str:
        """The name of its step, or of the tool that was called."""
        return EntryPath(self.path).name


@dataclass(frozen=True, slots=True)
class Within:
    """What is known of all that lies in a span of which only a part is told: what it spent, when something happened in it last,
    and how it stands while it has not come to its end."""

    tokens: int = 0
    money: Decimal = Decimal(0)
    unpriced: int = 0
    last: datetime | None = None
    state: str = "running"
    error: ErrorData | None = None


def spans(entries: Iterable[Entry], ended: bool, within: Mapping[str, Within] | None = None) -> list[Span]:
    """Spans in order of first appearance. `ended`: the run is over, so nothing is still running. `within`: by their paths the
    spans of which only a part is told."""
    found: dict[str, Span] = {}
    for entry in entries:
        path = EntryPath.parse(entry.path)
        if not path.place:
            continue
        span = found.get(path.place)
        if span is None:
            for outer in path.around():
                if outer not in found:
                    found[outer] = _new(outer, "running")
            span = found[path.place] = _new(path.place)
        _take(span, entry, path.mark, path.attempt)
    for span in list(found.values()):
        if span.strands and span.ended and isinstance(span.output, dict):
            for name in span.strands:
                inner = found.setdefault(f"{span.path}.{name}", _new(f"{span.path}.{name}"))
                inner.state, inner.output = "succeeded", span.output.get(name)
    inside: dict[str, list[Span]] = defaultdict(list)
    for span in found.values():
        inside[span.parent].append(span)
    for span in reversed(list(found.values())):
        _roll_up(inside[span.path], span, ended, (within or {}).get(span.path))
    return list(found.values())


def _new(place: str, state: str = "succeeded") -> Span:
    path = EntryPath(place)
    return Span(place, path.line, path.kind, state)


def _take(span: Span, entry: Entry, mark: str, attempt: int) -> None:
    detail = entry.detail or {}
    span.empty = cast(list[str], detail.get("empty", span.empty))
    span.large += cast(list[Large], detail.get("large", []))
    if entry.at or entry.started:
        first = entry.started or entry.at
        span.started = min(x for x in (span.started, first) if x)
    if mark.startswith("unknown"):
        _take_unknown(span, entry, mark)
    elif mark.startswith("ready"):
        _take_ready(span, entry, mark)
    elif entry.kind == "skipped":
        span.state, span.ended, span.output = "skipped", entry.at, entry.body
    elif entry.kind in ("began", "ended", "lost"):
        _take_attempt(span, entry, detail)
    elif entry.kind == "opened":
        _take_opened(span, entry, attempt)
    elif mark == "woke":
        span.state, span.output, span.ended = "succeeded", entry.body, entry.at
    elif mark == "late":
        span.error = {"kind": "timeout", "message": "it took longer than its timeout", "reached": "maybe"}
    elif mark == "withdrawn":
        span.note = "what was still open in it was taken back"
    elif mark == "end":
        _take_end(span, entry)
    elif mark.startswith("approval"):
        _take_approval(span, entry, mark)
    elif not mark:
        _take_value(span, entry)


def _take_opened(span: Span, entry: Entry, attempt: int) -> None:
    """Another was asked: a run, a person, whoever publishes an event."""
    given, detail = (entry.body or {}).get("output") or {}, entry.detail or {}
    span.input = detail.get("input", span.input)
    span.state, span.until, span.ended = "waiting", (entry.body or {}).get("until"), None
    if "fault" in given:
        span.state, span.error, span.ended = "failed", given["fault"], entry.at
    if "run" in given:
        span.runs.append(given["run"])
        span.attempts.append(Attempt(attempt, "running", entry.at, detail={**detail, "run": given["run"]}))


def _take_end(span: Span, entry: Entry) -> None:
    span.ended, body = entry.at, entry.body
    if span.kind == "turn":
        return  # what its calls gave stands in their own spans
    if entry.kind == "closed" and span.kind in ("step", "call"):  # an agent's
        span.output, span.note = body["value"], body["value"].get("why", "")
        span.state = "succeeded"
        return
    if span.kind == "item":
        span.output, span.error = body.get("value"), body.get("error")
    elif span.runs and isinstance(body, dict) and "state" in body:
        attempt = span.attempts[-1]
        attempt.state, attempt.ended, attempt.error = body["state"], entry.at, body.get("error")
        attempt.usage = _usage(body)
        _spend(span, attempt.usage)
        span.output, span.error = body.get("result"), body.get("error")
        if body["state"] != "succeeded":
            span.state = "failed"
            return
    else:
        span.output = body
    span.state = "failed" if span.error else "succeeded"


def _take_approval(span: Span, entry: Entry, mark: str) -> None:
    """A person is asked whether a call may be made, or has said it, perhaps with other arguments."""
    if not mark.endswith("#end"):
        span.state, span.ended = "waiting", None
        return
    said = entry.body
    span.state, span.ended = "running", entry.at
    if said.get("choice") != "approve":
        span.state = "skipped"
        span.note = f"{said.get('by') or 'a person'} refused: {said.get('text') or 'no reason given'}"
    else:
        span.note = f"approved by {said.get('by') or 'a person'}"
        if isinstance(said.get("data"), dict):
            span.note += " with changed arguments"


def _take_ready(span: Span, entry: Entry, mark: str) -> None:
    """A credential or its credit is waited for, or is there."""
    ready = mark.endswith("#end")
    span.state, span.ended = "running" if ready else "waiting", None
    span.note = "" if ready else f"it waits for the credential {(entry.detail or {}).get('waits_for', '')}"


def _take_unknown(span: Span, entry: Entry, mark: str) -> None:
    """A person is asked what became of an attempt, or has said it."""
    if not mark.endswith("#end"):
        span.state, span.ended = "waiting", None
        return
    span.ended = entry.at
    note = f"{entry.body.get('by') or 'a look'} says: {entry.body['choice']}"
    if span.attempts:
        span.attempts[-1].note = "; ".join(filter(None, (span.attempts[-1].note, note)))
    if entry.body["choice"] == HAPPENED:
        span.state, span.output, span.error = "succeeded", entry.body.get("data"), None
    else:
        span.state = "running" if entry.body["choice"] == AGAIN else "failed"


def _take_value(span: Span, entry: Entry) -> None:
    """What was computed or chosen. Steps that go on behind their entry say in its detail what kind they are: a value of
    the document's own may look like any of them."""
    body, detail = entry.body, entry.detail or {}
    span.ended = entry.at
    kind = detail.get("kind")
    if kind == "branch":
        span.way = body["way"]
        if body["way"] >= 0 and detail.get("steps", 1):  # else there is nothing inside that is still to be done
            span.state, span.ended = "running", None
    elif kind == "wait":
        span.until, span.state, span.ended = body["until"], "waiting", None
    elif kind in ("together", "repeat"):
        span.strands = body.get("strands", [])
        span.state, span.ended = "running", None
    elif kind == "each":
        span.input, span.state, span.ended = body["items"], "running", None
    elif kind == "agent":
        span.input, span.state, span.ended = detail.get("input"), "running", None
    elif kind == "local":
        span.output = body.get("output", body["given"])
    else:
        span.output = body


def _take_attempt(span: Span, entry: Entry, detail: Detail) -> None:
    span.input = detail.get("input", span.input)
    current = next((a for a in span.attempts if a.number == entry.attempt), None)
    if current is None:
        current = Attempt(entry.attempt, "running", entry.started)
        span.attempts.append(current)
    current.detail = {k: v for k, v in detail.items() if k not in ("input", "empty", "large", "kind")} or current.detail
    span.state = "running"
    if entry.kind == "began":
        return
    current.ended = span.ended = entry.at
    if entry.kind == "lost":
        current.state, current.note, current.usage = "lost", entry.body["note"], _usage(entry.body)
        _spend(span, current.usage)
        return
    body = entry.body
    current.usage = _usage(body)
    _spend(span, current.usage)
    if "error" in body:
        current.state, current.error, current.again_at = "failed", body["error"], body.get("again_at")
        span.error = body["error"]
        span.state = "waiting" if current.again_at or body.get("waits") else "failed"
        span.until = current.again_at
    else:
        current.state = span.state = "succeeded"
        span.output, span.error, span.until = body["output"], None, None


def _usage(body: Mapping[str, Any]) -> Usage | None:
    return Usage.read(body["usage"]) if body.get("usage") else None


def _spend(span: Span, usage: Usage | None) -> None:
    if usage:
        span.tokens += usage.tokens
        span.money = float(Decimal(str(span.money)) + Decimal(str(usage.paid)))
        span.unpriced += usage.unknown


def _roll_up(inner: list[Span], span: Span, ended: bool, within: Within | None) -> None:
    """A span with others inside takes its times, money and, where open, its state from them."""
    if within is not None:
        span.tokens, span.unpriced, span.money = within.tokens, within.unpriced, float(within.money)
        if span.state in ("running", "waiting"):
            span.state, span.ended, span.error = within.state, span.ended or within.last, span.error or within.error
    elif inner:
        starts = [s.started for s in (span, *inner) if s.started]
        ends = [s.ended for s in (span, *inner) if s.ended]
        span.started, span.ended = min(starts, default=None), max(ends, default=None)
        span.tokens += sum(s.tokens for s in inner)
        span.unpriced += sum(s.unpriced for s in inner)
        span.money = float(sum((Decimal(str(s.money)) for s in inner), Decimal(str(span.money))))
        states = [s.state for s in inner]
        if span.kind == "turn" and span.state == "succeeded" and not ended:
            span.state = next((s for s in ("running", "waiting") if s in states), span.state)
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
