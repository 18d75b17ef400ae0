"""`conversation.keep`: something that is known of who talks, for later runs of their conversation."""

from pydantic import BaseModel, Field

from oak_relay.actions.base import Action, Connector, Fields
from oak_relay.changes import KeepFact
from oak_relay.document import values
from oak_relay.document.values import in_brief


class KeepInput(Fields):
    name: str = Field(min_length=1, max_length=100, description="What is kept, as stage, language, consent.")
    value: object = Field(description="What it is now, as text; nothing forgets it.")
    conversation: str = Field(
        min_length=1, max_length=1_000, description="The conversation's key; under a conversation it is the run's own when left out."
    )  # fmt: skip


class KeptOutput(BaseModel):
    kept: str | None = Field(None, description="The name of what is kept now.")
    forgotten: str | None = Field(None, description="The name of what is kept no longer.")


def _keep(given: KeepInput, at: object) -> KeepFact:
    value = "" if given.value is None else values.text_of(given.value)
    return KeepFact(given.conversation, given.name, value)


CONNECTOR = Connector(
    "Conversations",
    [
        Action(
            "conversation.keep",
            "Keep something of who talks",
            KeepInput,
            KeptOutput,
            reach="local",
            change=_keep,
            sentence=lambda step, given: f"Keep {in_brief(given.get('name'))}: {in_brief(given.get('value'))}",
            example={"name": "stage", "value": "has a card", "conversation": "guest Ada Fenn"},
            example_gives={"kept": "stage"},
            first=("name", "value"),
        )
    ],
)
