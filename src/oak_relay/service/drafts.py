"""What steps of a draft see when no run carries them out: rendered, tried, or talked with."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.document.models import Workflow
from oak_relay.document.shapes import defaults, filled
from oak_relay.engine.plan import Plan
from oak_relay.runtime.intake import conversation_of
from oak_relay.service.parts import Parts
from oak_relay.service.problems import Problem, missing
from oak_relay.store import samples, workflows
from oak_relay.store.database import raw


@dataclass(frozen=True, slots=True)
class Sampled:
    """The data of an input, and the event that it was made of where one was kept."""

    data: object
    event: Mapping[str, object] | None = None


async def sampled(parts: Parts, document: Workflow, name: str, data: object) -> Sampled:
    """The kept event of that name as a document's triggers make an input of it; without a name what is given. Raises `Problem`."""
    if not name:
        return Sampled(data)
    async with parts.database.connect() as connection:
        row = await samples.of_event(await raw(connection), parts.workspace, document.workflow, name)
    if row is None:
        raise missing("kept event", name, "keep one first: of a run, or the next one of a trigger")
    event = None if row["event"] is None else values.loads(row["event"])
    trigger = next((t for t in document.triggers if t.trigger == row["trigger"]), None)
    if event is None or trigger is None:
        return Sampled(values.loads(row["value"]), event)
    if trigger.input is None:
        return Sampled(event["data"], event)
    try:
        return Sampled(Template(trigger.input).render({"event": event, "settings": defaults(document.settings)}), event)
    except StepFailed as failed:
        raise Problem(
            422, "the input cannot be made of this event", failed.message, f"see input: of the trigger {row['trigger']}"
        ) from None


async def scope_of(
    parts: Parts, plan: Plan, name: str, sample: Sampled, steps: Mapping[str, object]
) -> dict[str, object]:
    """All names that a run of a plan knows, with a sample as its input and what earlier steps gave: `input`, `settings`
    (as they are adjusted), `event`, `run`, `conversation` where it has one, and the `steps`; `name` says what it is done for."""
    async with parts.database.connect() as connection:
        row = await workflows.by_name(connection, parts.workspace, plan.workflow)
    now = datetime.now(UTC)
    about: dict[str, object] = {
        "id": name,
        "subject": None,
        "started": now.isoformat(),
        "url": f"{parts.settings.own_url}/runs/{name}",
    }
    event = sample.event or {
        "id": name,
        "source": f"/{name}",
        "type": f"oak.{name}",
        "time": now.isoformat(),
        "data": sample.data,
        "headers": {},
        "query": {},
    }
    settings = {**plan.settings, **(values.loads(row.settings) if row is not None else {})}
    given = filled(plan.fills, sample.data)
    scope: dict[str, object] = {"input": given, "settings": settings, "run": about, "event": event, **steps}
    if plan.talks:
        scope["conversation"] = conversation_of({}, name)
    about["subject"] = _subject(plan, scope)
    return scope


def _subject(plan: Plan, scope: Mapping[str, object]) -> str | None:
    if plan.subject.raw is None:
        return None
    try:
        return values.text_of(plan.subject.render(scope)) or None
    except StepFailed:
        return None
