"""`after`: a run of another workflow, or of any, has ended."""

from collections.abc import Mapping
from typing import Literal

from pydantic import Field

from oak_relay.document.check_base import Checking
from oak_relay.document.text import Path
from oak_relay.document.words import Model, WorkflowName
from oak_relay.triggers.base import Occasion, PublishedTrigger

Ended = Literal["succeeded", "failed", "cancelled", "set aside"]


class After(Model):
    """Another workflow's run has ended."""

    workflow: WorkflowName | None = Field(
        None, description="Any workflow's when left out, but for its own, and for runs that others wait for."
    )
    ended: list[Ended] = Field(default=["succeeded", "failed", "cancelled", "set aside"], min_length=1)


class AfterTrigger(PublishedTrigger[After]):
    name, model, way, occurs = "after", After, "run", "oak.ended"

    def sentence(self, given: After) -> str:
        ended = "ended" if len(given.ended) == 4 else " or ".join(given.ended)
        return f"A run of {given.workflow} that {ended}" if given.workflow else f"Any run that {ended}"

    def check(self, given: After, path: Path, checker: Checking) -> None:
        if given.workflow:
            checker.named((*path, "workflow"), given.workflow, checker.world.workflows, "workflow")

    def topic(self, given: After) -> str:
        return given.workflow or "*"

    def fits(self, given: After, arrived: Mapping[str, object]) -> bool:
        return arrived["state"] in given.ended

    def occasion(self, given: After, arrived: Mapping[str, object]) -> Occasion:
        return Occasion(self.occurs, arrived)
