"""How a change is made: prepared outside of the commit, locked in an order, applied within it."""

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from itertools import groupby
from typing import Any, Generic, NamedTuple, TypeVar
from uuid import UUID

import asyncpg

from oak_relay.changes import Change
from oak_relay.document import values
from oak_relay.store.locks import lock, of_conversation
from oak_relay.store.pages import EntryRow

C = TypeVar("C", bound=Change)
P = TypeVar("P", bound="type[Prepared[Any]]")


class About(NamedTuple):
    """The run that a change is made for, and how many events caused it one by the other (`depth`)."""

    workflow: str
    workflow_id: UUID
    version_id: UUID
    depth: int


class Prepared(ABC, Generic[C]):
    """A change with all that the database needs of it. It may be applied more than once, should a commit have to be made
    again."""

    hints: tuple[str, ...] = ()
    """Who is to look when it is done."""

    @abstractmethod
    def __init__(self, wanted: C, about: About) -> None:
        """Work out ids and texts."""

    @staticmethod
    def pretended(wanted: object) -> object:
        """What a step is told in a try, which changes nothing."""
        return {}

    def conversation(self) -> str:
        """The key of the conversation that it changes; empty when it changes none."""
        return ""

    def lock(self) -> str:
        """What it must have for itself while it is made; empty when nothing."""
        return ""

    async def before(self, connection: asyncpg.Connection, workspace: int) -> None:
        """What must be so before any change of the commit is made."""

    @abstractmethod
    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        """Make the change; what the entry's body holds as `output`."""

    @classmethod
    async def apply_all(
        cls, connection: asyncpg.Connection, workspace: int, rows: Sequence[EntryRow]
    ) -> Sequence[object]:
        """Make changes of this kind that stand one behind the other; what the entries' bodies hold as `output`."""
        return [await row.change.apply(connection, workspace, row) for row in rows if row.change is not None]


_KINDS: dict[type[Change], type[Prepared[Any]]] = {}


def makes(wanted: type[Change]) -> Callable[[P], P]:
    """Register the class that makes a kind of change."""

    def register(kind: P) -> P:
        _KINDS[wanted] = kind
        return kind

    return register


def prepared(wanted: Change, about: About) -> Prepared[Any]:
    """A change, ready to be made."""
    return _KINDS[type(wanted)](wanted, about)


def pretended(wanted: Change) -> object:
    """What a change would give, were it made."""
    return _KINDS[type(wanted)].pretended(wanted)


def conversations(rows: list[EntryRow]) -> list[str]:
    """What is to be locked for the conversations that entries change, before anything else is: who takes in what is said has
    them first, too."""
    return sorted({of_conversation(key) for row in rows if row.change and (key := row.change.conversation())})


async def apply(connection: asyncpg.Connection, workspace: int, rows: list[EntryRow]) -> None:
    """Make the changes of entries, within their commit; locks are taken in the order of their keys, so that commits cannot
    block each other."""
    changes = [row.change for row in rows if row.change is not None]
    await lock(connection, {key for change in changes if (key := change.lock())})
    for change in changes:
        await change.before(connection, workspace)
    for kind, alike in groupby(rows, key=lambda row: type(row.change)):
        some = list(alike)
        for row, made in zip(some, await kind.apply_all(connection, workspace, some), strict=True):
            assert row.given is not None
            row.result = made
            row.body = values.dumps({**row.given, "output": made})
