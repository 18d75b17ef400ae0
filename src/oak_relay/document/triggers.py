"""What starts runs, as a document says it: which kind of trigger, and what is given to it."""

from typing import Any, ClassVar

from pydantic import ConfigDict, Field, model_validator
from pydantic_core import PydanticCustomError

from oak_relay.document.words import Model, Value, WorkflowName


class Trigger(Model):
    """What starts a run: a name, and exactly one kind of trigger with what that kind takes. Which kinds there are is
    told by who checks the document."""

    model_config = ConfigDict(extra="allow")

    EXAMPLE: ClassVar[str] = "{trigger: NAME, and below it webhook:, schedule: or another kind}"

    trigger: WorkflowName
    note: str = Field("", description="A remark.")
    input: Value = Field(
        None,
        description="How its event becomes the input of the run: values with expressions over `event` and `settings`. "
        "Without it the event's data is the input.",
    )

    @model_validator(mode="after")
    def _one(self) -> "Trigger":
        if len(self._said) != 1:
            raise PydanticCustomError("trigger", "a trigger has exactly one kind")
        return self

    @property
    def _said(self) -> dict[str, object]:
        return self.model_extra or {}

    @property
    def kind(self) -> str:
        """The kind of trigger it is."""
        return next(iter(self._said))

    @property
    def given(self) -> Any:
        """What stands under its kind."""
        return self._said[self.kind]
