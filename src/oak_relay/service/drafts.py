"""What steps of a draft see when no run carries them out: rendered, tried, or talked with."""

from collections.abc import Mapping
from datetime import UTC, datetime

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.shapes import filled
from oak_relay.engine.plan import Plan
from oak_relay.service.parts import Parts
from oak_relay.store import workflows


async def scope_of(parts: Parts, plan: Plan, name: str, data: object, steps: Mapping[str, object]) -> dict[str, object]:
    """All names that a run of a plan knows, with sample data as its input and what earlier steps gave: `input`, `settings`
    (as they are adjusted), `event`, `run`, and the `steps`; `name` says what it is done for."""
    async with parts.database.connect() as connection:
        row = await workflows.by_name(connection, parts.workspace, plan.workflow)
    now = datetime.now(UTC)
    about: dict[str, object] = {
        "id": name,
        "subject": None,
        "started": now.isoformat(),
        "url": f"{parts.settings.own_url}/runs/{name}",
    }
    event = {
        "id": name,
        "source": f"/{name}",
        "type": f"oak.{name}",
        "time": now.isoformat(),
        "data": data,
        "headers": {},
        "query": {},
    }
    settings = {**plan.settings, **(values.loads(row.settings) if row is not None else {})}
    given = filled(plan.fills, data)
    scope: dict[str, object] = {"input": given, "settings": settings, "run": about, "event": event, **steps}
    about["subject"] = _subject(plan, scope)
    return scope


def _subject(plan: Plan, scope: Mapping[str, object]) -> str | None:
    if plan.subject.raw is None:
        return None
    try:
        return values.text_of(plan.subject.render(scope)) or None
    except StepFailed:
        return None
