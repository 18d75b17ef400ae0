"""What was published finds those who wait for it: triggers that make runs of it, and runs at rest."""

from collections.abc import Mapping
from typing import Any
from uuid import UUID

import asyncpg
import structlog

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.runtime.intake import Incoming, RunTemplate, Target, new_run
from oak_relay.runtime.registry import Registry
from oak_relay.store import intake, published, signals
from oak_relay.store.intake import NewRun
from oak_relay.store.published import DEEPEST
from oak_relay.triggers.base import Occasion, PublishedTrigger, TriggerKinds

log = structlog.get_logger()
_BATCH = 300


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
            arrived = published.arrived(row)
            for trigger in (*triggers[row["kind"], row["topic"]], *_to_any(row, arrived, triggers)):
                occasion = _occasion(trigger, arrived, registry.catalogue.triggers)
                if occasion is None:
                    continue
                if row["depth"] > DEEPEST:
                    log.warning("event refused: too many have caused one another", trigger=trigger["name"])
                    continue
                runs.append(new_run(_target(trigger), _incoming(row, occasion)))
            for listener in listeners[row["topic"]] if row["kind"] == "event" else ():
                place = listener["run_id"], listener["path"]
                if place not in met and _wanted(listener, arrived):
                    met.add(place)
                    brought.append((*place, values.dumps(arrived)))
        if runs:
            await intake.accept(connection, registry.workspace, runs)
        if brought:
            await signals.bring(connection, registry.workspace, brought)
            await published.heard(connection, registry.workspace, list(met))
        await published.handled(connection, registry.workspace, rows)
    return len(rows), [run_id for run_id, _ in met]


def _to_any(
    row: Mapping[str, Any], arrived: Mapping[str, object], triggers: Mapping[tuple[str, str], list[asyncpg.Record]]
) -> list[asyncpg.Record]:
    """Who is told of the end of any run: nobody of one that another waits for, nor of its own."""
    if row["kind"] != "run" or arrived.get("child"):
        return []
    return [one for one in triggers[row["kind"], published.ANY] if one["workflow"] != arrived["workflow"]]


def _occasion(trigger: asyncpg.Record, arrived: dict[str, object], kinds: TriggerKinds) -> Occasion | None:
    """What it is to a trigger; None when it is not meant, or cannot be arrived to it."""
    try:
        kind = kinds.known(trigger["kind"])
        assert isinstance(kind, PublishedTrigger)
        given = kind.parsed(trigger["config"])
        if not kind.fits(given, arrived) or not published.holds(
            kind.where(given), {"arrived": arrived}, trigger["name"]
        ):
            return None
        return kind.occasion(given, arrived)
    except (StepFailed, ValueError, KeyError) as failed:
        log.warning("trigger left out", trigger=trigger["name"], reason=str(failed))
        return None


def _wanted(listener: asyncpg.Record, arrived: dict[str, object]) -> bool:
    scope = values.loads(listener["scope"])
    return published.holds(listener["clause"], {**scope, "arrived": arrived}, listener["path"])


def _target(trigger: asyncpg.Record) -> Target:
    start = RunTemplate.read(trigger["start"])
    return Target(trigger["workflow_id"], trigger["version_id"], start, trigger["id"], trigger["name"])


def _incoming(row: Mapping[str, Any], occasion: Occasion) -> Incoming:
    key = occasion.key or row["event_key"]
    return Incoming(row["source"], occasion.type, occasion.data, key, depth=row["depth"])
