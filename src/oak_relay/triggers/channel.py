"""What a channel is: where people talk, how what they say comes in, and how what is said to them leaves.

A further channel is a subclass of `Channel` in a connector (`Connector.channels`): it says who sends, reads what comes, and sends one
piece at a time. Everything else is done for it: once and in order, waiting, trying again, what is unknown.
"""

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import ClassVar, Generic, TypeVar

from oak_relay.capabilities.given import HeldFile
from oak_relay.capabilities.protocols import Credentials, Outbound
from oak_relay.document.check_base import Checking
from oak_relay.document.text import Path
from oak_relay.document.words import Model
from oak_relay.triggers.base import Proof, Reply, Request

S = TypeVar("S", bound=Model)


@dataclass(frozen=True, slots=True)
class Media:
    """A file that came with a message: the channel's name of it, what it is (`voice`, `picture`, `file`) and its media type."""

    id: str
    what: str
    type: str = ""
    name: str = ""


@dataclass(frozen=True, slots=True)
class Came:
    """A message that came in. `id` is the channel's own and counts once, `chat` is where an answer is sent to; `choice` the button
    that was pressed; `at` when it was said by the channel's clock, None where that is not told; `unread` what kind of message it is
    that cannot be read, empty for others."""

    id: str
    chat: str
    person: str
    text: str = ""
    name: str = ""
    language: str = ""
    choice: str | None = None
    media: Sequence[Media] = ()
    at: datetime | None = None
    unread: str = ""


@dataclass(frozen=True, slots=True)
class Piece:
    """What is sent at once: a text, and the answers that can be given to it by a press; or a file (`{file, name, type}`), and what it
    is (`voice`, `picture`, `file`)."""

    text: str
    buttons: tuple[str, ...] = ()
    file: Mapping[str, str] | None = None
    what: str = ""


@dataclass(frozen=True, slots=True)
class Took:
    """The channel took a piece: its own name of it, and when by its clock, as far as it tells."""

    id: str = ""
    at: datetime | None = None


@dataclass(frozen=True, slots=True)
class Shows:
    """What a channel can show: `letters` how long one message may be, `most` how many buttons stand beneath one, `label` how long
    one of these may be; `harmless` whether the same piece sent twice under one id is shown once; `files` whether files can be sent."""

    letters: int = 4_000
    most: int = 3
    label: int = 20
    harmless: bool = False
    files: bool = False


class Channel(ABC, Generic[S]):
    """A channel. `name` is what documents call it, `model` what they say `with` it."""

    name: ClassVar[str]
    model: ClassVar[type[Model]]

    def shows(self, given: S) -> Shows:
        """What it can show, as it is set up."""
        return Shows()

    def check(self, given: S, path: Path, checker: Checking) -> None:
        """Look at what a document says, and tell the checker what is wrong."""

    async def early(self, given: S, request: Request, at: Credentials) -> Reply | None:
        """The answer to a request that is no message, such as the echo that is asked for before any is sent; None when it is one.
        Its body is not read yet. Raises `Refused`."""
        return None

    @abstractmethod
    async def proving(self, given: S, request: Request, at: Credentials) -> Proof:
        """What proves who sends; what headers prove is checked at once. Raises `Refused`."""

    @abstractmethod
    def read(self, given: S, body: object) -> list[Came]:
        """The messages of a body (JSON). Raises `Refused` for one that is none of this channel's."""

    @abstractmethod
    async def fetch(self, given: S, media: Media, at: Outbound) -> HeldFile:
        """A file that came with a message. Raises `StepFailed`."""

    @abstractmethod
    async def send(self, given: S, chat: str, piece: Piece, id: str, at: Outbound) -> Took:
        """Send a piece, under an id that is the same should it be sent again. Raises `StepFailed`, whose `reached` says whether it
        was taken."""
