"""What a kind of trigger is, and the four ways in which occasions come."""

import shlex
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any, ClassVar, Generic, Literal, Protocol, TypeVar
from uuid import UUID

from oak_relay.capabilities.protocols import Actions, Credentials, Outbound, Tables, Time
from oak_relay.document import values
from oak_relay.document.check_base import Checking
from oak_relay.document.errors import ErrorKind, Fault, StepFailed
from oak_relay.document.text import Path
from oak_relay.document.words import Model

G = TypeVar("G", bound=Model)
Way = Literal["request", "time", "watch", "event", "table", "run", "talk"]
"""How occasions come: a request from outside, a moment, something that is looked at again and again; or what is published
here: an event, a change of a table's rows, the end of a run; or what somebody says in a conversation."""


@dataclass(frozen=True, slots=True)
class Occasion:
    """Something that happened and begins a run. `key` tells it from others of its kind: the same key counts once; without
    one each occasion is another."""

    type: str
    data: object
    key: str | None = None


class TriggerKind(ABC, Generic[G]):
    """A kind of trigger. `name` is its key in a document, `model` what stands under it. Subclasses are one of
    `RequestTrigger`, `TimeTrigger`, `WatchTrigger` and `PublishedTrigger`."""

    name: ClassVar[str]
    model: ClassVar[type[Model]]
    way: ClassVar[Way]
    occurs: ClassVar[str] = "oak.event"
    hidden: ClassVar[bool] = False
    """Whether documents call it otherwise."""
    """The type of its occasions' events."""

    @abstractmethod
    def sentence(self, given: G) -> str:
        """What starts the workflow, in a few words of one sentence."""

    def check(self, given: G, path: Path, checker: Checking) -> None:
        """Look at what a document says at `path`, and tell the checker what is wrong. Without more, a `where` is checked."""
        checker.texts((*path, "where"), getattr(given, "where", None), {"arrived": {}})

    def path(self, given: G) -> str | None:
        """The path below `/hooks/` at which requests are received, unique in the workspace; None without one."""
        return None

    def topic(self, given: G) -> str | None:
        """What is listened to: an event's type, a table's name, a workflow's name; None of other ways."""
        return None

    def sent(self, given: G, body: object, now: datetime) -> Occasion:
        """The occasion that a value is which somebody sends to try the workflow, in the place of a real one; None was no
        value."""
        return Occasion(self.occurs, body)

    def read(self, config: Mapping[str, object]) -> G:
        """What is under it in a document, or stands in the records. Raises pydantic's `ValidationError`."""
        return self.model.model_validate(config)  # type: ignore[return-value]

    def parsed(self, config: str) -> G:
        """The same from the text that stands in the records; of one text it is made once."""
        return _parsed(self, config)


@dataclass(slots=True)
class Request:
    """A request from outside. Names of headers are in lower case; the body comes last. Of one that brought files, `data` is
    what it says, and who sent it is `proved` already."""

    method: str
    path: str
    headers: Mapping[str, str]
    query: Mapping[str, str]
    body: bytes = b""
    data: object = None
    proved: bool = False


class Proof(Protocol):
    """What proves who sent a body, that comes in pieces."""

    def take(self, piece: bytes) -> None:
        """What follows of the body."""

    def proved(self) -> None:
        """Raises `Refused` when it is not proved by all that was taken."""


@dataclass(frozen=True, slots=True)
class Reply:
    """An answer that begins no run, such as an echo that a sender asks for before it sends."""

    text: str
    status: int = 200


class Refused(Fault):
    """A request that is not taken: `status` of HTTP, what is wrong and what to do."""

    def __init__(
        self,
        status: int,
        title: str,
        detail: str = "",
        fix: str = "",
        headers: Mapping[str, str] | None = None,
        kind: ErrorKind = "denied",
    ) -> None:
        super().__init__(title)
        self.status, self.title, self.detail, self.fix = status, title, detail, fix
        self.headers = dict(headers or {})
        self.kind = kind


@dataclass(frozen=True, slots=True)
class Proofs:
    """Where a request proves who sends it: names of headers in small letters, and of fields of its query."""

    headers: frozenset[str] = frozenset()
    query: frozenset[str] = frozenset()


class RequestTrigger(TriggerKind[G]):
    """Requests from outside at a path of `/hooks/`."""

    way = "request"

    def methods(self, given: G) -> Sequence[str]:
        """The methods of HTTP that are taken."""
        return ("POST",)

    def early(self, given: G, request: Request) -> bool:
        """Whether a request is answered by `received` whatever its method; its body is not read."""
        return False

    def files(self, given: G) -> bool:
        """Whether bodies that are files, or forms with files, are taken as they come: `proving` looks at them then."""
        return False

    async def proving(self, given: G, request: Request, at: Credentials) -> Proof:
        """What proves who sends a body; what its headers prove is checked at once. Raises `Refused`."""
        raise NotImplementedError

    def waits(self, given: G) -> bool:
        """Whether the caller waits for a reply or the result; otherwise it is told that its request was taken."""
        return False

    def request(self, given: G, url: str, body: str) -> str:
        """A request to the webhook at an address, as a command for a shell; secrets are variables of it."""
        return f"curl -X {self.methods(given)[0]} {shlex.quote(url)}"

    def proofs(self, given: G) -> Proofs:
        """Headers and fields of the query that prove who sends; what they hold is kept by nobody."""
        return Proofs()

    @abstractmethod
    async def received(self, given: G, request: Request, at: Credentials) -> Occasion | Reply:
        """The occasion that a request is. Raises `Refused` for one that does not prove who sent it, and `NotJson`."""


@dataclass(frozen=True, slots=True)
class Due:
    """The moments of a trigger that begin now, the `last` that was looked at, and when the `next` begins."""

    now: Sequence[datetime]
    last: datetime
    next: datetime | None


class TimeTrigger(TriggerKind[G]):
    """Moments in time."""

    way, occurs = "time", "oak.time"

    @abstractmethod
    def due(self, given: G, trigger: UUID, last: datetime, now: datetime) -> Due:
        """What begins now, of what came later than `last`."""

    @abstractmethod
    def coming(self, given: G, after: datetime, count: int) -> list[datetime]:
        """The next so many moments."""

    @abstractmethod
    def data(self, given: G, moment: datetime) -> object:
        """The data of a moment's event."""

    def sent(self, given: G, body: object, now: datetime) -> Occasion:
        return Occasion(self.occurs, self.data(given, now) if body is None else body)

    @abstractmethod
    def rule(self, given: G) -> str:
        """When it comes, in the words of its document."""

    def zone(self, given: G) -> str:
        """The zone (IANA) by whose clock it comes."""
        return "UTC"


@lru_cache(maxsize=2048)
def _parsed(kind: TriggerKind[G], config: str) -> G:
    return kind.read(values.loads(config))


class Looking(Outbound, Actions, Tables, Time, Protocol):
    """What a watching trigger may use."""


class WatchTrigger(TriggerKind[G]):
    """Something that is looked at again and again; each item not seen before is one occasion."""

    way = "watch"
    timeout: ClassVar[float] = 60.0
    """Seconds that one look may take."""
    first: ClassVar[bool] = True
    """Whether what is there at the first look is new."""

    @abstractmethod
    def every(self, given: G) -> float:
        """Seconds from one look to the next."""

    @abstractmethod
    async def look(self, given: G, settings: Mapping[str, object], at: Looking) -> Iterable[Occasion]:
        """What is there now; each occasion has a key. Raises `StepFailed`."""


class PublishedTrigger(TriggerKind[G]):
    """What is published here; `way` says which of it."""

    @abstractmethod
    def fits(self, given: G, arrived: Mapping[str, object]) -> bool:
        """Whether what arrived is meant; a `where` is asked besides."""

    def where(self, given: G) -> str | None:
        """An expression over `arrived` that must hold too."""
        return getattr(given, "where", None)

    @abstractmethod
    def occasion(self, given: G, arrived: Mapping[str, object]) -> Occasion:
        """The occasion that it is."""


class TriggerKinds(Mapping[str, TriggerKind[Any]]):
    """The kinds of triggers that a workspace knows, by name."""

    def __init__(self, kinds: Iterable[TriggerKind[Any]]) -> None:
        self._by_name = {kind.name: kind for kind in kinds}

    def __getitem__(self, name: str) -> TriggerKind[Any]:
        return self._by_name[name]

    def __iter__(self) -> Iterator[str]:
        return (name for name, kind in self._by_name.items() if not kind.hidden)

    def __len__(self) -> int:
        return sum(1 for _ in self)

    __hash__ = object.__hash__

    def known(self, name: str) -> TriggerKind[Any]:
        """Raises `StepFailed` (`missing`) when no connector here has it."""
        kind = self._by_name.get(name)
        if kind is None:
            raise StepFailed(
                "missing",
                f"there is no kind of trigger {name}; there is {', '.join(self)}",
                fix="is its connector installed?",
            )
        return kind
