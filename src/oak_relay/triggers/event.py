"""`event`: events that are published here (CloudEvents 1.0)."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from pydantic import Field

from oak_relay.document.words import EventType, Expression, Model
from oak_relay.triggers.base import Occasion, PublishedTrigger


class Event(Model):
    """Events of a type that are published here."""

    type: EventType
    source: str | None = None
    where: Expression | None = Field(None, description="Only when this holds of `arrived`, the event.")


class EventTrigger(PublishedTrigger[Event]):
    name, model, way = "event", Event, "event"

    def sentence(self, given: Event) -> str:
        return f"An event {given.type}"

    def topic(self, given: Event) -> str:
        return given.type

    def fits(self, given: Event, arrived: Mapping[str, object]) -> bool:
        return given.source in (None, arrived["source"])

    def occasion(self, given: Event, arrived: Mapping[str, Any]) -> Occasion:
        return Occasion(arrived["type"], arrived.get("data"))

    def sent(self, given: Event, body: object, now: datetime) -> Occasion:
        return Occasion(given.type, body)
