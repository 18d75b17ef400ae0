"""`poll`: an action carried out again and again."""

from collections.abc import Iterable, Mapping

from pydantic import Field, field_validator

from oak_relay.document import durations, shapes, values
from oak_relay.document.check_base import Checking
from oak_relay.document.errors import StepFailed
from oak_relay.document.expressions import Template
from oak_relay.document.text import Path
from oak_relay.document.words import Duration, Expression, Model, Value, sound_duration
from oak_relay.triggers.base import Looking, Occasion, WatchTrigger


class Poll(Model):
    """An action carried out again and again; each item not seen before is one event."""

    do: str
    with_: dict[str, Value] = Field(default_factory=dict, alias="with")
    every: Duration = "5m"
    items: Expression = Field("${ arrived }", description="The list of items in `arrived`, the action's output.")
    key: Expression = Field(description="What tells one `arrived` item from another.")

    _check = field_validator("every")(sound_duration)


class PollTrigger(WatchTrigger[Poll]):
    name, model, occurs = "poll", Poll, "oak.item"
    timeout = 600.0

    def sentence(self, given: Poll) -> str:
        return f"A new item of {given.do}, looked for every {given.every}"

    def check(self, given: Poll, path: Path, checker: Checking) -> None:
        shape = checker.action(path, given.do, given.with_)
        checker.texts((*path, "items"), given.items, {"arrived": shape})
        checker.texts((*path, "key"), given.key, {"arrived": shapes.ANY})

    def every(self, given: Poll) -> float:
        return durations.seconds(given.every)

    async def look(self, given: Poll, settings: Mapping[str, object], at: Looking) -> Iterable[Occasion]:
        output = await at.perform(given.do, Template(given.with_).render({"settings": settings}))
        items = Template(given.items).render({"arrived": output})
        if not isinstance(items, list):
            raise StepFailed("invalid", f"items: gives {type(items).__name__}, no list", fix="correct items:")
        key = Template(given.key)
        return [Occasion(self.occurs, item, values.text_of(key.render({"arrived": item}))) for item in items]
