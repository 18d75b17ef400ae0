"""The values that capabilities give."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal
from uuid import UUID

from oak_relay.capabilities.links import Link
from oak_relay.document.schemas import BadSchema, validator
from oak_relay.messages import Message
from oak_relay.usage import NOTHING, Usage

ColumnKind = Literal["text", "number", "boolean", "any"]

_NAME, _TOLD = 200, 5_000
"""Letters of a tool's name and title, and of its description."""


@dataclass(frozen=True, slots=True)
class Result:
    """What an action gave; `detail` is for the trace."""

    output: object
    detail: dict[str, Any] = field(default_factory=dict)
    usage: Usage = NOTHING


def file_name(told: str) -> str:
    """A file's name as somebody else tells it, without folders and without what no name holds; at most 255 letters."""
    last = told.replace("\\", "/").rstrip("/").rsplit("/", 1)[-1]
    return "".join(sign for sign in last if sign.isprintable()).strip().strip(".")[:255] or "file"


def what_is(type: str) -> Literal["voice", "picture", "file"]:
    """What a file of a media type is to who talks."""
    return "picture" if type.startswith("image/") else "voice" if type.startswith("audio/") else "file"


@dataclass(frozen=True, slots=True)
class HeldFile:
    """A file that is kept here, called as whoever refers to it calls it."""

    id: UUID
    name: str
    type: str
    size: int

    @property
    def value(self) -> dict[str, object]:
        """As workflows pass it on."""
        return {"file": str(self.id), "name": self.name, "type": self.type, "size": self.size}


@dataclass(frozen=True, slots=True)
class Column:
    """A column of a table kept here."""

    name: str
    type: ColumnKind = "any"


How = Literal["not", "in", "above", "at_least", "below", "at_most", "contains", "begins_with", "empty"]
"""How a column's value may be asked for, besides being equal."""


@dataclass(frozen=True, slots=True)
class Filter:
    """A column whose value stands so to another one. Values compare as JSON does: numbers with numbers, texts with texts."""

    column: str
    how: How
    value: object


@dataclass(frozen=True, slots=True)
class Where:
    """Which rows are meant: those whose columns have the values of `match`, and that fit all filters."""

    match: Mapping[str, object] = field(default_factory=dict)
    filters: tuple[Filter, ...] = ()


@dataclass(frozen=True, slots=True)
class TableDef:
    """A table kept here; `searched` when it is large enough that rows are found by an index."""

    id: UUID
    columns: tuple[Column, ...]
    searched: bool = False
    link: Link | None = None
    """Where its rows live, when that is elsewhere."""


@dataclass(frozen=True, slots=True)
class WorkflowAbout:
    """What a workflow or agent document says of itself; `input` is its JSON Schema."""

    kind: str
    title: str
    note: str
    input: Mapping[str, object]

    @property
    def called(self) -> str:
        """Its title, or else its note."""
        return self.title or self.note


@dataclass(frozen=True, slots=True)
class Window:
    """What an agent is given of a conversation: the last messages; what came before them (`older`, up to the message
    `first`) and the `summary` of what is older still; the `facts` that were kept."""

    messages: Sequence[Message] = ()
    older: Sequence[Message] = ()
    first: int = 0
    summary: str = ""
    facts: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class ServerTool:
    """A tool as its server lists it: `schema` is the JSON Schema of its arguments, `safe` whether it says that repeating
    a call does no harm (its hints `readOnlyHint` and `idempotentHint`); `wrong` why it cannot be used, empty when it can."""

    name: str
    title: str = ""
    description: str = ""
    schema: Mapping[str, object] = field(default_factory=lambda: {"type": "object"})
    safe: bool = False
    wrong: str = ""

    @classmethod
    def listed(cls, listed_as: Mapping[str, object]) -> "ServerTool":
        """Of a reply to `tools/list` (Model Context Protocol)."""
        hints = listed_as.get("annotations")
        hints = hints if isinstance(hints, dict) else {}
        given, name = listed_as.get("inputSchema"), str(listed_as["name"])
        schema = given if isinstance(given, dict) and given else {"type": "object"}
        wrong = "" if len(name) <= _NAME else f"its name has more than {_NAME} letters"
        try:
            validator(schema)
        except BadSchema as error:
            wrong, schema = f"the schema of its arguments cannot be used: {error.message}", {"type": "object"}
        return cls(
            name[:_NAME],
            str(listed_as.get("title") or name)[:_NAME],
            str(listed_as.get("description") or name)[:_TOLD],
            schema,
            bool(hints.get("readOnlyHint") or hints.get("idempotentHint")),
            wrong,
        )
