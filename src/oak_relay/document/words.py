"""What the models of the language have in common: their base, and the kinds of words in documents."""

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field
from pydantic_core import PydanticCustomError

from oak_relay.document import durations, zones

WorkflowName = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,62}$")]
StepName = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,62}$")]
Expression = Annotated[str, Field(description="Text with ${ expressions }.")]
Value = Annotated[object, Field(description="object value; texts in it may hold ${ expressions }.")]
Duration = Annotated[str, Field(pattern=durations.PATTERN, examples=["30s", "5m", "PT5M"])]
EventType = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,120}$", examples=["booking.changed"])]
Zone = Annotated[str, Field(description="IANA zone.", examples=["Europe/Zurich"])]


OURS = "said"
"""The kind of pydantic's errors that say themselves what is wrong and what to do."""


class Model(BaseModel):
    """Unknown keys are refused; nothing changes once read."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


def said(message: str, fix: str) -> PydanticCustomError:
    """What is wrong with a value, in a sentence of our own, and what to do; to be raised in validators."""
    return PydanticCustomError(OURS, "{reason}", {"reason": message, "fix": fix})


def sound_duration(value: str) -> str:
    """A duration that can be read; for validators."""
    try:
        durations.seconds(value)
    except ValueError as error:
        raise said(str(error), "write 500ms, 30s, 5m, 2h, 3d or PT5M") from None
    return value


def sound_zone(value: str) -> str:
    """A zone that exists; for validators."""
    try:
        zones.zone(value)
    except ValueError as error:
        near = zones.near(value)
        fix = f"write {near}" if near else "write a name of the IANA database, as Europe/Zurich or UTC"
        raise said(str(error), fix) from None
    return value
