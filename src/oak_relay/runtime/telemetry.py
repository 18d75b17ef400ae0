"""Traces of ended runs for a collector: OTLP over HTTP in its JSON encoding (OpenTelemetry protocol 1.x), models, agents
and tools named by the GenAI semantic conventions. Best effort: what cannot be delivered is dropped, and counted.

Only what may be shown is sent; prompts and answers are not, unless `OAK_RELAY_OTLP_CONTENT` says so.
"""

import asyncio
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import httpx
import structlog

from oak_relay.actions.exchange import authorised
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document import values
from oak_relay.document.errors import ErrorData
from oak_relay.engine.trace import Attempt, Span, spans
from oak_relay.runtime.registry import Registry
from oak_relay.runtime.settings import Settings
from oak_relay.store import runs
from oak_relay.store.database import Database
from oak_relay.usage import Usage

log = structlog.get_logger()
_BATCH, _WAITING = 32, 10_000
_INTERNAL, _CLIENT = 1, 3
_OK, _ERROR = 1, 2


def span_id(run_id: UUID, path: str, attempt: int | str = "") -> str:
    """The id of a span (16 hexadecimal digits): of a step, or of one attempt of it; the same that is sent to others."""
    return values.digest(str(run_id), path, str(attempt))


def trace_id(run_id: UUID, trace_parent: str | None) -> str:
    """The id of the trace that a run belongs to (W3C trace context), its own when it came with none."""
    return trace_parent.split("-")[1] if trace_parent else str(run_id).replace("-", "")


@dataclass
class Exporter:
    """Takes runs that have ended and tells the collector of them."""

    settings: Settings
    database: Database
    registry: Registry
    calls: Callable[[float], Outbound]
    """Surroundings of a call that may take so many seconds."""
    dropped: int = 0

    def __post_init__(self) -> None:
        self._waiting: asyncio.Queue[UUID] = asyncio.Queue(_WAITING)

    def put(self, run_id: UUID) -> None:
        """A run has ended."""
        try:
            self._waiting.put_nowait(run_id)
        except asyncio.QueueFull:
            self.dropped += 1

    async def run(self) -> None:
        """Send until cancelled."""
        while True:
            some = [await self._waiting.get()]
            await asyncio.sleep(0.2)
            while len(some) < _BATCH and not self._waiting.empty():
                some.append(self._waiting.get_nowait())
            try:
                await self._deliver(await self._told(some))
            except Exception as error:
                self.dropped += len(some)
                log.warning("traces not delivered", runs=len(some), reason=str(error) or type(error).__name__)
            for _ in some:
                self._waiting.task_done()

    async def drain(self, seconds: float = 5.0) -> None:
        """Give what is waiting a little time."""
        with suppress(TimeoutError):
            async with asyncio.timeout(seconds):
                await self._waiting.join()

    async def _told(self, run_ids: list[UUID]) -> list[dict[str, object]]:
        found: list[dict[str, object]] = []
        async with self.database.connect() as connection:
            for row in await runs.some(connection, self.registry.workspace, run_ids):
                stored = await runs.entries(connection, self.registry.workspace, row.id)
                entries = [e.as_entry(e.detail) for e in stored]
                found += otlp_spans(row, spans(entries, True), self.settings.otlp_content)
        return found

    async def _deliver(self, found: list[dict[str, object]]) -> None:
        headers, at = {"Content-Type": "application/json"}, self.calls(20)
        body = self.registry.now.blanker.json(values.dumps(request_of(found))).encode()
        for pause in (0.5, 2.0, None):
            with suppress(httpx.TransportError):
                url = str(self.settings.otlp_endpoint)
                plain = at.http.build_request("POST", url, content=body, headers=headers, timeout=20)
                request = await authorised(at, plain, self.settings.otlp_credential or None)
                answer = await at.http.send(request)
                if answer.is_success:
                    return
                if answer.status_code not in (429, 502, 503, 504):
                    raise RuntimeError(f"the collector answered {answer.status_code}")
            if pause is None:
                raise RuntimeError("the collector cannot be reached")
            await asyncio.sleep(pause)


def request_of(found: list[dict[str, object]]) -> dict[str, object]:
    """An `ExportTraceServiceRequest`."""
    resource = {"attributes": [_attribute("service.name", "oak-relay")]}
    scope = {"scope": {"name": "oak_relay"}, "spans": found}
    return {"resourceSpans": [{"resource": resource, "scopeSpans": [scope]}]}


def otlp_spans(row: Any, found: list[Span], content: bool) -> Iterator[dict[str, object]]:
    """A run and everything in it as OTLP spans."""
    trace = trace_id(row.id, row.trace_parent)
    root = span_id(row.id, "")
    above = row.trace_parent.split("-")[2] if row.trace_parent and row.parent_id is None else ""
    if row.parent_id is not None and row.parent_path:
        above = span_id(row.parent_id, row.parent_path.partition("[")[0] if row.kind == "part" else row.parent_path)
    error = values.loads(row.error) if row.error else None
    yield _span(
        trace, root, above, f"run {row.workflow}", _INTERNAL, row.started_at or row.created_at, row.ended_at, error,
        {"oak.run": str(row.id), "oak.workflow": row.workflow, "oak.version": row.version, "oak.state": row.state,
         "oak.subject": row.subject, "oak.money": float(row.money)},
    )  # fmt: skip
    names = {span.path: span for span in found}
    for span in found:
        if span.started is None or span.ended is None:
            continue
        mine, outer = span_id(row.id, span.path), span.parent
        over = span_id(row.id, outer) if outer in names else root
        name, kind, attributes = _named(span, content)
        yield _span(trace, mine, over, name, kind, span.started, span.ended, span.error, attributes)
        if span.kind == "step" or len(span.attempts) > 1:
            for attempt in span.attempts:
                if attempt.started and attempt.ended:
                    more = {"oak.attempt": attempt.number, "oak.state": attempt.state, **_usage(attempt.usage)}
                    yield _span(trace, span_id(row.id, span.path, attempt.number), mine, f"attempt {attempt.number}", _CLIENT,
                                attempt.started, attempt.ended, attempt.error, more)  # fmt: skip


def _named(span: Span, content: bool) -> tuple[str, int, dict[str, object]]:
    """Name, kind and attributes of a span, by the GenAI conventions where it is a model's, an agent's or a tool's."""
    common: dict[str, object] = {"oak.path": span.path, "oak.state": span.state}
    last: Attempt | None = span.attempts[-1] if span.attempts else None
    detail = (last.detail or {}) if last else {}
    turn = last.asked if last else None
    if span.kind == "turn" or turn:
        turn = turn or {}
        model = turn.get("model", "")
        common |= {"gen_ai.operation.name": "chat", "gen_ai.request.model": model, "oak.alias": turn.get("alias"),
                   **_usage(last.usage if last else None)}  # fmt: skip
        if turn.get("finish"):
            common["gen_ai.response.finish_reasons"] = [turn["finish"]]
        if "first_token" in turn:
            common["oak.first_token_seconds"] = turn["first_token"]
        if content and turn.get("reply"):
            common["gen_ai.output.messages"] = values.dumps([{"role": "assistant", "content": turn["reply"]}])
        return f"chat {model}", _CLIENT, common
    if span.kind == "call":
        tool = span.name
        common |= {"gen_ai.operation.name": "execute_tool", "gen_ai.tool.name": tool}
        if content:
            common["gen_ai.tool.call.arguments"] = values.dumps(detail.get("arguments", span.input))
        return f"execute_tool {tool}", _INTERNAL, common
    if isinstance(span.output, dict) and "ended" in span.output and "turns" in span.output:
        agent = span.name
        given = span.input if isinstance(span.input, dict) else {}
        common |= {
            "gen_ai.operation.name": "invoke_agent",
            "gen_ai.agent.name": agent,
            "oak.ended": span.output["ended"],
        }
        if isinstance(given.get("memory"), dict):
            common["gen_ai.conversation.id"] = given["memory"].get("conversation")
        return f"invoke_agent {agent}", _INTERNAL, common
    return span.name, _INTERNAL, common


def _usage(usage: Usage | None) -> dict[str, object]:
    if not usage:
        return {}
    return {
        "gen_ai.usage.input_tokens": usage.input,
        "gen_ai.usage.output_tokens": usage.output,
        "oak.money": usage.paid,
    }


def _span(
    trace: str, mine: str, above: str, name: str, kind: int, started: datetime, ended: datetime | None,
    error: ErrorData | None, attributes: dict[str, object],
) -> dict[str, object]:  # fmt: skip
    if error:
        attributes = {**attributes, "error.type": error["kind"]}
    found: dict[str, object] = {
        "traceId": trace,
        "spanId": mine,
        "name": name,
        "kind": kind,
        "startTimeUnixNano": str(_nanoseconds(started)),
        "endTimeUnixNano": str(_nanoseconds(ended or started)),
        "attributes": [_attribute(key, value) for key, value in attributes.items() if value is not None],
        "status": {"code": _ERROR, "message": error["message"]} if error else {"code": _OK},
    }
    if above:
        found["parentSpanId"] = above
    return found


def _nanoseconds(moment: datetime) -> int:
    return int(moment.timestamp() * 1_000_000) * 1000


def _attribute(key: str, value: object) -> dict[str, object]:
    if isinstance(value, bool):
        return {"key": key, "value": {"boolValue": value}}
    if isinstance(value, int):
        return {"key": key, "value": {"intValue": str(value)}}
    if isinstance(value, float):
        return {"key": key, "value": {"doubleValue": value}}
    if isinstance(value, list):
        return {"key": key, "value": {"arrayValue": {"values": [{"stringValue": str(one)} for one in value]}}}
    return {"key": key, "value": {"stringValue": str(value)}}
