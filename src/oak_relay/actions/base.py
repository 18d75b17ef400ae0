"""How an action is declared, so that catalogue, JSON Schema, checker, forms and traces come from one place."""

from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, ValidationError

from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Surroundings
from oak_relay.changes import Change
from oak_relay.document import model_faults
from oak_relay.document.check_base import ActionShape, FieldFault
from oak_relay.document.errors import StepFailed
from oak_relay.document.shapes import Schema, required
from oak_relay.triggers.base import TriggerKind
from oak_relay.triggers.channel import Channel
from oak_relay.vault.kinds import Credential

Reach = Literal["outside", "read", "local"]
Repeat = Literal["safe", "keyed", "checkable", "unsafe"]
Given = Mapping[str, object]


class Fields(BaseModel):
    """Base of inputs and outputs."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


@dataclass(frozen=True)
class Action:
    """One action. `perform` for what reaches outside or only reads; `change` for what alters our records. `timeout` in
    seconds. What each of them takes of its surroundings, it says by the type of its second argument."""

    name: str
    title: str
    input: type[Fields]
    output: type[BaseModel] | None
    reach: Reach = "outside"
    repeat: Repeat = "safe"
    timeout: float = 60.0
    perform: Callable[[Any, Surroundings], Awaitable[Result]] | None = None
    change: Callable[[Any, Surroundings], Change] | None = None
    repeat_of: Callable[[Given], Repeat] | None = None
    """What repeating it means when that follows from its input."""
    worst: Callable[[Any, Surroundings], Awaitable[float | None]] | None = None
    """The most money its first request may cost; None of actions that cost none."""
    happened: Callable[[Any, Surroundings], Awaitable["Result | None"]] | None = None
    """Of `checkable` ones: what it gave if it happened, else None."""
    streams: bool = False
    """Whether its answer is told while it is being written."""
    credentials: tuple[str, ...] = ()
    """Kinds of credentials that it takes; empty for every kind that is sent."""
    scopes: tuple[str, ...] = ()
    """Scopes (OAuth 2, RFC 6749) that its credential needs."""
    sentence: Callable[[str, Given], str] | None = None
    """What a step of this name with this `with` does, in a few words; without one its title is said."""
    gives: Callable[[Given, Schema], Schema] | None = None
    """JSON Schema of what it gives when that follows from its input; the second argument is that of `output`."""
    preview: Callable[[Any, Surroundings], Awaitable[Given]] | None = None
    """What is shown of an input beside it before anything is sent, such as messages."""
    tell: str = ""
    """JSONPath of what of its output a model is told; empty for all of it."""
    faults: Callable[[Given], Sequence[FieldFault]] = lambda _: ()
    """What is wrong with an input beyond its schema, as far as it can be said beforehand."""
    elsewhere: "Elsewhere | None" = None
    """How it is done where its table is a linked one."""
    example: Given = field(default_factory=dict)
    """A `with` to begin with."""
    example_gives: object = None
    """What the example gave; `…` stands for what is another each time."""
    first: tuple[str, ...] = ()
    """The fields that matter first, in their order; empty for those that are required."""
    hidden: bool = False
    """A part of another action, which documents do not name."""

    @property
    def connector(self) -> str:
        """The part of its name before the dot."""
        return self.name.split(".")[0]

    @cached_property
    def schema(self) -> Schema:
        """JSON Schema of its input; not to be changed."""
        return self.input.model_json_schema(by_alias=True)

    @cached_property
    def fields_first(self) -> tuple[str, ...]:
        """The fields that matter first."""
        return self.first or tuple(required(self.schema))

    def read(self, data: Given) -> object:
        """The input as its model. Raises `StepFailed` (`invalid`)."""
        try:
            return self.input.model_validate(data if type(data) is dict else dict(data))
        except ValidationError as error:
            where, message, fix = model_faults.first(error, self.input)
            raise StepFailed("invalid", f"{self.name}: {where or 'its input'}: {message}", fix=fix) from None

    @cached_property
    def shape(self) -> ActionShape:
        """What the checker and the script know of it, worked out once; not to be changed."""
        output = self.output.model_json_schema(mode="serialization") if self.output else {}
        gives, sentence = self.gives, self.sentence
        return ActionShape(
            input=self.schema,
            output=output,
            repeat=self.repeat_of or (lambda _: self.repeat),
            gives=(lambda given: gives(given, output)) if gives else (lambda _: output),
            sentence=sentence or (lambda *_: self.title),
            credentials=self.credentials,
            streams=self.streams,
            scopes=self.scopes,
            faults=self.faults,
        )


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """An action on a linked table: a call to the outside. `repeat` tells what repeating it means, by the columns that tell its
    rows apart and its input."""

    perform: Callable[[Any, Surroundings], Awaitable[Result]]
    repeat: Callable[[Sequence[str], Given], Repeat] = lambda *_: "safe"
    timeout: float = 60.0


@dataclass(frozen=True, slots=True)
class Tried:
    """How trying a credential went: a sentence, what to do, both sides of the exchange. `tried` whether anything was; `account`
    whose it is and `may` what it may do, where that was told."""

    ok: bool
    sentence: str
    fix: str = ""
    exchange: Mapping[str, Any] | None = None
    tried: bool = True
    account: str = ""
    may: tuple[str, ...] = ()


Trying = Callable[[str, Any, Surroundings], Awaitable[Tried]]
"""How a kind of credential is tried, harmlessly: given its name, itself and surroundings. Raises `StepFailed`."""


@dataclass(frozen=True)
class Connector:
    """What a package adds: actions, kinds of credentials, kinds of triggers and channels. It is found by the entry point group
    `oak_relay.connectors`."""

    title: str
    actions: Sequence[Action] = ()
    credentials: Sequence[type[Credential]] = ()
    triggers: Sequence[TriggerKind[Any]] = ()
    channels: Sequence[Channel[Any]] = ()
    trying: Mapping[str, Trying] = field(default_factory=dict)
    """How its kinds of credentials are tried that are not tried by an address of theirs."""
    lacking: Callable[[Surroundings], Awaitable[str]] | None = None
    """Why its actions cannot be carried out on this machine; empty where they can."""
