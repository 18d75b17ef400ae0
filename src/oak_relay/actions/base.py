"""How an action is declared, so that catalogue, JSON Schema, checker and forms come from one place."""

from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from functools import cache
from typing import Any, Literal, Protocol

import httpx
from pydantic import BaseModel, ConfigDict, ValidationError

from oak_relay.changes import Change
from oak_relay.document.check_base import ActionShape
from oak_relay.document.errors import StepFailed
from oak_relay.vault.kinds import Basic, Bearer, HeaderKey, Signing

StoredCredential = Bearer | HeaderKey | Basic | Signing
Reach = Literal["outside", "read", "local"]


class Fields(BaseModel):
    """Base of inputs and outputs."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


@dataclass(frozen=True, slots=True)
class Window:
    """What an agent is given of a conversation: the last messages; what came before them (`older`, up to the message
    `first`) and the `summary` of what is older still; the `facts` that were kept."""

    messages: list[dict[str, Any]] = field(default_factory=list)
    older: list[dict[str, Any]] = field(default_factory=list)
    first: int = 0
    summary: str = ""
    facts: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Result:
    """What an action gave; `usage` has tokens (`input`, `cached`, `output`) and `money`."""

    output: Any
    detail: dict[str, Any] = field(default_factory=dict)
    usage: dict[str, Any] | None = None


class Draw(Protocol):
    """What the requests of one call draw on."""

    async def reserve(self, worst: float | None) -> None:
        """A request is about to be sent that costs at most so much; None when nobody knows. Raises `StepFailed`."""

    def settle(self, cost: float | None, reached: str = "yes") -> None:
        """What it has cost; None when it told nothing, then by whether it was reached."""


class Surroundings(Protocol):
    """What is handed to an action. `key` is stable across attempts, `timeout` in seconds, `draw` what requests that cost
    money draw on, None where nothing is counted; `piece` takes an answer while it is being written, None when nobody watches."""

    http: httpx.AsyncClient
    piece: Callable[[str], None] | None
    key: str
    timeout: float
    draw: "Draw | None"

    @property
    def trace_parent(self) -> str:
        """The W3C trace context of this call."""

    async def credential(self, name: str) -> StoredCredential:
        """A stored credential. Raises `StepFailed` (`missing`)."""

    async def model(self, name: str) -> Any:
        """A model alias. Raises `StepFailed` (`missing`)."""

    async def rows(self, table: str, match: dict[str, Any], limit: int) -> list[dict[str, Any]]:
        """Rows of a table. Raises `StepFailed` (`missing`)."""

    def table(self, name: str) -> dict[str, Any]:
        """`{id, columns}` of a table. Raises `StepFailed` (`missing`)."""

    def now(self) -> datetime:
        """The time, zoned."""

    async def workflow(self, name: str) -> dict[str, Any]:
        """`{kind, title, note, input}` of a workflow or agent document. Raises `StepFailed` (`missing`)."""

    async def conversation(self, key: str, turns: int, summed: bool, facts: bool) -> "Window":
        """What an agent is given of a conversation: the last messages, so many of them a person's."""

    async def server_tools(self, name: str) -> list[dict[str, Any]]:
        """The tools of a tool server, as it lists them. Raises `StepFailed`."""

    async def server_call(self, name: str, tool: str, arguments: dict[str, Any]) -> tuple[Any, dict[str, Any]]:
        """What a tool of a tool server gives, and what a trace shows of it. Raises `StepFailed`."""

    def may_reach(self, url: str) -> None:
        """Raises `StepFailed` (`denied`) when actions may not call this host."""

    def send_check(self) -> None:
        """Raises `StepFailed` when this worker may no longer send anything that cannot be repeated."""


@dataclass(frozen=True)
class Action:
    """One action. `perform` for what reaches outside or only reads; `change` for what alters our records."""

    name: str
    title: str
    input: type[Fields]
    output: type[BaseModel] | None
    reach: Reach = "outside"
    repeat: Literal["safe", "keyed", "unsafe"] = "safe"
    timeout: float = 60.0
    perform: Callable[[Any, Surroundings], Awaitable[Result]] | None = None
    change: Callable[[Any, Surroundings], Change] | None = None
    repeat_of: Callable[[Mapping[str, Any]], str] | None = None
    worst: Callable[[Any, Surroundings], Awaitable[float | None]] | None = None
    happened: Callable[[Any, Surroundings], Awaitable["Result | None"]] | None = None
    hidden: bool = False
    """A part of another action, which documents do not name."""

    @property
    def connector(self) -> str:
        return self.name.split(".")[0]

    def read(self, data: Mapping[str, Any]) -> Any:
        """The input as its model. Raises `StepFailed` (`invalid`)."""
        try:
            return self.input.model_validate(dict(data))
        except ValidationError as error:
            problem = error.errors(include_url=False, include_input=False)[0]
            where = ".".join(str(p) for p in problem["loc"]) or "the input"
            raise StepFailed(
                "invalid", f"{self.name}: {where}: {problem['msg']}", fix="correct the step's with:"
            ) from None

    def shape(self) -> ActionShape:
        """Its JSON Schemas, worked out once; they are not to be changed."""
        return _shape(self)


@cache
def _shape(action: Action) -> ActionShape:
    output = action.output.model_json_schema(mode="serialization") if action.output else {}
    return ActionShape(
        action.input.model_json_schema(by_alias=True), output, action.repeat_of or (lambda _: action.repeat)
    )


class Catalogue:
    """All actions by name."""

    def __init__(self, actions: list[Action]) -> None:
        self._by_name = {action.name: action for action in actions}

    def __iter__(self) -> Any:
        return iter(action for action in self._by_name.values() if not action.hidden)

    def add(self, action: Action) -> None:
        """Take in one more."""
        self._by_name[action.name] = action

    def get(self, name: str) -> Action:
        """Raises `StepFailed` (`missing`)."""
        action = self._by_name.get(name)
        if action is None:
            raise StepFailed("missing", f"there is no action {name}", fix="see the catalogue of actions")
        return action

    def shapes(self) -> dict[str, ActionShape]:
        return {action.name: action.shape() for action in self}
