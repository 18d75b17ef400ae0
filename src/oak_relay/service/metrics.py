"""`/metrics`: OpenMetrics text about the queue, the workers, the clocks, commits and the database."""

import asyncio
import time

from fastapi import APIRouter, HTTPException, Request, Response
from prometheus_client import CollectorRegistry, Gauge, generate_latest
from prometheus_client.exposition import CONTENT_TYPE_LATEST
from sqlalchemy import text

from oak_relay.service.parts import ExactRoute, Parts, parts_of

router = APIRouter(route_class=ExactRoute, tags=["operation"])

_GAUGES = {
    "oak_runs_ready": ("Runs that are ready for a worker.", "SELECT count(*) FROM queue WHERE worker_id IS NULL AND ready_at <= clock_timestamp()"),
    "oak_runs_walked": ("Runs that workers hold.", "SELECT count(*) FROM queue WHERE worker_id IS NOT NULL"),
    "oak_runs_resting": ("Runs at rest.", "SELECT count(*) FROM queue WHERE worker_id IS NULL AND ready_at > clock_timestamp() AND held IS NULL"),
    "oak_runs_in_lanes": ("Runs that wait behind another of their subject.", "SELECT count(*) FROM queue WHERE held = 'lane'"),
    "oak_runs_suspected": ("Runs under which workers died more than once.", "SELECT count(*) FROM queue WHERE deaths >= 2"),
    "oak_oldest_ready_seconds": (
        "Age of the oldest run that is ready for a worker.",
        "SELECT coalesce(extract(epoch FROM clock_timestamp() - min(ready_at)), 0) FROM queue WHERE worker_id IS NULL AND ready_at <= clock_timestamp()",
    ),
    "oak_blocked_lanes": ("Subjects of which runs wait behind another.", "SELECT count(*) FROM lane WHERE open > 1"),
    "oak_workers": ("Workers whose lease holds.", "SELECT count(*) FROM worker WHERE role = 'work' AND dead_at IS NULL AND lease_until > clock_timestamp()"),
    "oak_clocks": ("Clocks that are seen.", "SELECT count(*) FROM worker WHERE role = 'tick' AND dead_at IS NULL AND lease_until > clock_timestamp()"),
    "oak_questions_open": ("Questions in the tray.", "SELECT count(*) FROM question WHERE state = 'open'"),
    "oak_events_unhandled": ("Published events that are not handed on.", "SELECT count(*) FROM published WHERE handled_at IS NULL"),
    "oak_schedules_late_seconds": (
        "By how much the latest schedule is late.",
        "SELECT greatest(0, coalesce(extract(epoch FROM clock_timestamp() - min(next_at)), 0)) FROM schedule WHERE NOT paused",
    ),
    "oak_oldest_transaction_seconds": (
        "Age of the database's oldest transaction.",
        "SELECT coalesce(extract(epoch FROM clock_timestamp() - min(xact_start)), 0) FROM pg_stat_activity WHERE xact_start IS NOT NULL",
    ),
}  # fmt: skip


_KEPT = 10.0
"""Seconds that what was counted is told again: asking often costs nothing."""


class Counted:
    """What was counted last."""

    def __init__(self) -> None:
        self._turn = asyncio.Lock()
        self._text, self._until = b"", 0.0

    async def text(self, parts: Parts) -> bytes:
        """The state of things, at most so many seconds old."""
        async with self._turn:
            if time.monotonic() > self._until:
                self._text, self._until = await _counted(parts), time.monotonic() + _KEPT
        return self._text


@router.get("/metrics", response_class=Response, responses={200: {"content": {"text/plain": {}}}})
async def metrics(request: Request) -> Response:
    """The state of things as numbers, for whoever collects them; at most ten seconds old."""
    parts: Parts = parts_of(request)
    if not parts.settings.metrics:
        raise HTTPException(404)
    return Response(await request.app.state.counted.text(parts), media_type=CONTENT_TYPE_LATEST)


async def _counted(parts: Parts) -> bytes:
    registry = CollectorRegistry()
    async with parts.database.connect() as connection:
        for name, (what, statement) in _GAUGES.items():
            Gauge(name, what, registry=registry).set(float((await connection.execute(text(statement))).scalar_one()))
        states = Gauge("oak_runs_begun_last_hour", "Runs of the last hour.", ["state"], registry=registry)
        rows = await connection.execute(
            text("SELECT state, count(*) FROM run WHERE created_at > clock_timestamp() - interval '1 hour' GROUP BY 1")
        )
        for state, count in rows:
            states.labels(state).set(count)
    commits = parts.intake.commits
    Gauge("oak_intake_commit_seconds", "Mean time of the last commits of the intake.", registry=registry).set(commits)
    return generate_latest(registry)
