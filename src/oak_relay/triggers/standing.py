"""How a trigger of a workflow that is on stands in the records."""

from dataclasses import dataclass
from datetime import datetime

from oak_relay.document import values
from oak_relay.document.models import Workflow
from oak_relay.triggers.base import TimeTrigger, TriggerKinds, WatchTrigger, Way


@dataclass(frozen=True, slots=True)
class Standing:
    """`config` is what its kind reads again, as JSON; `path` is unique in the workspace; `topic` is what is listened to;
    `next_at` the next moment of what comes by time; `input` how an event becomes the input of its run."""

    name: str
    kind: str
    way: Way
    config: str
    path: str | None = None
    topic: str | None = None
    timed: bool = False
    next_at: datetime | None = None
    input: object = None


def standings(document: Workflow, kinds: TriggerKinds, now: datetime) -> list[Standing]:
    """The triggers of a checked document. Raises `StepFailed` (`missing`) for a kind that is not installed."""
    found = []
    for trigger in document.triggers:
        kind = kinds.known(trigger.kind)
        given = kind.read(trigger.given)
        timed, moment = isinstance(kind, TimeTrigger | WatchTrigger), None
        if isinstance(kind, TimeTrigger):
            moment = next(iter(kind.coming(given, now, 1)), None)
        elif timed:
            moment = now
        config = values.dumps(given.model_dump(mode="json", by_alias=True))
        path, topic = kind.path(given), kind.topic(given)
        found.append(
            Standing(trigger.trigger, trigger.kind, kind.way, config, path, topic, timed, moment, trigger.input)
        )
    return found
