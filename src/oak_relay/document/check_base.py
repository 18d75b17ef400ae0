"""What all parts of the checker share: what documents may name, and where findings go."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from oak_relay.document.errors import Finding
from oak_relay.document.text import Path, Source


@dataclass(frozen=True)
class ActionShape:
    """What the checker knows of an action: JSON Schemas of its input and output, and what repeating it with some
    input means (safe, keyed, checkable, unsafe)."""

    input: Mapping[str, Any]
    output: Mapping[str, Any]
    repeat: Callable[[Mapping[str, Any]], str] = lambda _: "safe"


@dataclass(frozen=True)
class World:
    """What documents may name. `None` for a set means it is not known and not checked."""

    actions: Mapping[str, ActionShape]
    models: frozenset[str] | None = None
    credentials: frozenset[str] | None = None
    tables: frozenset[str] | None = None
    workflows: frozenset[str] | None = None
    servers: frozenset[str] | None = None
    unpriced: frozenset[str] = frozenset()
    """Models whose own price, or that of a fallback, is not known."""


class Base:
    """Collects findings about one document."""

    def __init__(self, source: Source, world: World) -> None:
        self.source = source
        self.world = world
        self.findings: list[Finding] = []
        self.used: set[str] = set()
        self.own_name = ""
        self.limited = False
        data = source.data
        self.agent_document = isinstance(data, dict) and "agent" in data and "workflow" not in data

    def add(self, path: Path, message: str, fix: str, severity: str = "error", line: int = 0) -> None:
        if self.agent_document and path[:3] == ("steps", 0, "with"):
            path = path[3:]  # of an agent document, what a step would have under `with` stands at the top
        row, column = self.source.place(path)
        where = ".".join(str(p) for p in path)
        self.findings.append(Finding(row + line, column, message, fix, severity, where))  # type: ignore[arg-type]
