"""What all parts of the checker share: what documents may name, and where findings go."""

from collections.abc import Callable, Collection, Mapping, Sequence
from collections.abc import Set as AbstractSet
from dataclasses import dataclass, field
from typing import Any, Protocol

from oak_relay.document.errors import Finding
from oak_relay.document.shapes import Schema
from oak_relay.document.text import Path, Source
from oak_relay.document.words import Model

Scope = Mapping[str, Schema]
COLUMNS: dict[str, Any] = {"columns": True}
"""In the schema of an action's field: it names columns of the table that its `table` names, as keys or items."""
WRITTEN: dict[str, Any] = {"written": True}
"""In the schema of an action's field: it stands in the document as it is, is never computed, and never left open to a model."""


@dataclass(frozen=True, slots=True)
class FieldFault:
    """Something wrong with a field of an action's input; `line` of its text, from 1, 0 for the field as a whole."""

    field: str
    message: str
    fix: str
    line: int = 0


@dataclass(frozen=True)
class ActionShape:
    """What the checker and the script know of an action: JSON Schemas of its input and output, what repeating it with
    some input means (safe, keyed, checkable, unsafe), what it gives with some input, what a step of a name does with it in
    a few words, the kinds of credentials it takes (none named: every one that is sent), and whether it tells its answer as it is written."""

    input: Schema
    output: Schema
    repeat: Callable[[Mapping[str, object]], str]
    gives: Callable[[Mapping[str, object]], Schema]
    sentence: Callable[[str, Mapping[str, object]], str]
    credentials: tuple[str, ...] = ()
    streams: bool = False
    scopes: tuple[str, ...] = ()
    """Scopes (OAuth 2) that its credential needs."""
    faults: Callable[[Mapping[str, object]], Sequence[FieldFault]] = lambda _: ()
    """What is wrong with an input beyond its schema."""


class Checking(Protocol):
    """The checker, as a kind of trigger is given it."""

    @property
    def world(self) -> "World": ...

    def add(self, path: Path, message: str, fix: str, severity: str = "error") -> None:
        """Something is wrong at a path of the document."""

    def texts(self, path: Path, value: object, scope: Scope, every: AbstractSet[str] = frozenset()) -> None:
        """Check the expressions in a value against the names in scope, each with its shape."""

    def named(self, path: Path, name: str, known: Collection[str] | None, word: str) -> None:
        """Check that a name is among those that are known."""

    def action(self, path: Path, name: str, given: Mapping[str, object]) -> Schema:
        """Check an action, named by `do` at a path, and its input under `with`; the shape of what it gives."""


class TriggerShape(Protocol):
    """What the checker and the script know of a kind of trigger."""

    @property
    def model(self) -> type[Model]: ...

    def check(self, given: object, path: Path, checker: Checking) -> None:
        """Look at what is given."""

    def sentence(self, given: object) -> str:
        """What starts the workflow."""

    def path(self, given: object) -> str | None:
        """Where requests are received."""


@dataclass(frozen=True)
class World:
    """What documents may name. `None` for a set means it is not known and not checked; credentials by name and kind."""

    actions: Mapping[str, ActionShape]
    triggers: Mapping[str, TriggerShape] = field(default_factory=dict)
    models: frozenset[str] | None = None
    credentials: Mapping[str, str] | None = None
    tables: Mapping[str, Collection[str]] | None = None
    """Tables kept here, and their columns."""
    workflows: frozenset[str] | None = None
    servers: frozenset[str] | None = None
    unpriced: frozenset[str] = frozenset()
    """Models whose own price, or that of a fallback, is not known."""
    unsent: frozenset[str] = frozenset()
    """Kinds of credentials that prove who sends to us, and are not sent."""
    consents: Mapping[str, Collection[str] | None] = field(default_factory=dict)
    """Credentials that somebody connects, each with the scopes it was given; None of one that is not connected yet."""
    limited: Mapping[str, Collection[str]] = field(default_factory=dict)
    """Credentials that only some workflows may use, with the names of these."""


class Base:
    """Collects findings about one document."""

    def __init__(self, source: Source, world: World) -> None:
        self.source = source
        self.world = world
        self.findings: list[Finding] = []
        self.used: set[str] = set()
        self.own_name = ""
        self.limited = False
        self.guards: list[tuple[str, ...]] = []
        """References that a condition around what is looked at asks for."""
        data = source.data
        self.agent_document = isinstance(data, dict) and "agent" in data and "workflow" not in data

    def add(self, path: Path, message: str, fix: str, severity: str = "error", line: int = 0) -> None:
        """Keep a finding at a path of the document."""
        if self.agent_document and path[:3] == ("steps", 0, "with"):
            path = path[3:]  # of an agent document, what a step would have under `with` stands at the top
        row, column = self.source.place(path)
        where = ".".join(str(p) for p in path)
        self.findings.append(Finding(row + line, column, message, fix, severity, where))  # type: ignore[arg-type]
