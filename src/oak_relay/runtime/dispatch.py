"""What was published finds those who wait for it: triggers that make runs of it, and runs at rest."""

from collections.abc import Mapping
from typing import Any
from uuid import UUID

import asyncpg
import structlog

from oak_relay.document import values
from oak_relay.runtime.intake import Incoming, RunTemplate, Target, new_run
from oak_relay.runtime.registry import Registry
from oak_relay.store import intake, published, signals
from oak_relay.store.intake import NewRun
from oak_relay.store.published import DEEPEST

log = structlog.get_logger()
_BATCH = 300
_TYPES = {"table": "oak.row", "run": "oak.ended"}


async def dispatch(connection: asyncpg.Connection, registry: Registry, most: int = _BATCH) -> tuple[int, list[UUID]]:
    """Hand on a batch of what was published, in one commit and in order; how many, and the runs it woke.
    One clock does so at a time; the others find nothing to do."""
    async with connection.transaction():
        rows = await published.take(connection, registry.workspace, most)
        if not rows:
            return 0, []
        triggers = await published.triggers(connection, registry.workspace, rows)
        listeners = await published.listeners(connection, registry.workspace, rows)
        runs: list[NewRun] = []
        brought: list[tuple[UUID, str, str]] = []
        met: set[tuple[UUID, str]] = set()
        for row in rows:
            told = published.arrived(row)
            for trigger in triggers[row["kind"], row["topic"]]:
                if not _fits(trigger, row, told):
                    continue
                if row["depth"] > DEEPEST:
                    log.warning("event refused: too many have caused one another", trigger=trigger["name"])
                    continue
                runs.append(new_run(*_occasion(trigger, row, told)))
            for listener in listeners[row["topic"]] if row["kind"] == "event" else ():
                place = listener["run_id"], listener["path"]
                if place not in met and _wanted(listener, told):
                    met.add(place)
                    brought.append((*place, values.dumps(told)))
        if runs:
            await intake.accept(connection, registry.workspace, runs)
        if brought:
            await signals.bring(connection, registry.workspace, brought)
            await published.heard(connection, registry.workspace, list(met))
        await published.handled(connection, registry.workspace, rows)
    return len(rows), [run_id for run_id, _ in met]


def _fits(trigger: asyncpg.Record, row: Mapping[str, Any], told: dict[str, Any]) -> bool:
    """Whether a trigger is meant."""
    config = values.loads(trigger["config"])
    if row["kind"] == "table":
        fits = told["change"] in config["on"]
    elif row["kind"] == "run":
        fits = told["state"] in config["ended"]
    else:
        fits = config["source"] in (None, told["source"])
    return fits and published.holds(config.get("where"), {"arrived": told}, trigger["name"])


def _wanted(listener: asyncpg.Record, told: dict[str, Any]) -> bool:
    scope = values.loads(listener["scope"])
    return published.holds(listener["clause"], {**scope, "arrived": told}, listener["path"])


def _occasion(trigger: asyncpg.Record, row: Mapping[str, Any], told: dict[str, Any]) -> tuple[Target, Incoming]:
    target = Target(
        trigger["workflow_id"],
        trigger["version_id"],
        RunTemplate.read(trigger["start"]),
        trigger["id"],
        trigger["name"],
    )
    event = row["kind"] == "event"
    kind, data = (told["type"], told.get("data")) if event else (_TYPES[row["kind"]], told)
    return target, Incoming(row["source"], kind, data, row["event_key"], depth=row["depth"])
