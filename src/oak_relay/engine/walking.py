"""What the kinds of steps know of the walk that carries them out."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, Literal, Protocol

from oak_relay.document.expressions import Template
from oak_relay.engine.outcomes import Scope, Start
from oak_relay.engine.plan import Node, Plan
from oak_relay.engine.protocols import Executor, Journal
from oak_relay.engine.purse import Purse
from oak_relay.engine.rest import Strands
from oak_relay.usage import Usage


class Walking(Protocol):
    """A walk under way. With `replaying` nothing new is done, and `refused` are places whose record does not fit; `starting`
    counts child runs whose beginning is just being written; `settled` are model aliases by name."""

    plan: Plan
    journal: Journal
    executor: Executor
    start: Start
    strands: Strands
    purse: Purse
    replaying: bool
    refused: set[str]
    starting: int
    settled: dict[str, object]

    @property
    def cancelling(self) -> bool:
        """Whether the part of the walk that is at work here was told to end."""

    async def steps(self, nodes: Sequence[Node], base: str, scope: Scope) -> None:
        """Steps one after the other; what they give goes into the scope."""

    async def breathe(self) -> None:
        """Leave others their turn when it was ours for a while, and wait when too much waits to be written."""

    def go_on(self) -> None:
        """Before anything new is begun: raises `Cancelled` where the walk was told to end."""

    def moment(self, path: str) -> datetime:
        """The time as `now` tells it at a path: recorded when it is first read there."""

    def value(self, template: Template, scope: Scope) -> object:
        """A text's value."""

    def asked(self, path: str, template: Template, scope: Scope) -> object:
        """What a step asks; a failure to work it out is recorded as the step's outcome."""

    def render(self, node: Node, path: str, scope: Scope, empty: list[str]) -> Any:
        """The step's rendered input; a failure to render is recorded as the step's outcome."""

    def note(
        self, path: str, kind: Literal["value", "skipped"], node: Node, value: object, empty: Sequence[str] = ()
    ) -> object:
        """Record what follows from earlier values, or find it recorded alike."""

    def recorded(self, path: str, hash_: str) -> Any:
        """The recorded body under a path, None when there is none. Raises `Diverged` for another input."""

    def remark(self, path: str, text: str) -> None:
        """Something about a place that is worth knowing though the run may end well; it is told with the run."""

    def spend(self, usage: Usage, purse: Purse | None = None) -> None:
        """Count what was used."""

    async def settle(self, model: str) -> Mapping[str, object]:
        """A model alias and its fallbacks, as they were when the run first used it."""

    async def pause(self, path: str, until: datetime, through: bool = False) -> None:
        """Wait until a moment: a short while here, longer at rest. Who is told to end does not wait, unless `through`."""

    async def signal(self, path: str, until: datetime | None = None, through: bool = False) -> Any:
        """What another brings for a path that was opened; None when the moment `until` comes first."""

    async def withdraw(self, path: str) -> None:
        """Take back what is still open below a path."""

    async def halt(self, path: str) -> None:
        """The end of a strand that is only replayed."""
