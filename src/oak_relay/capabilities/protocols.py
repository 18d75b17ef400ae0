"""One protocol for each capability; `Surroundings` is all of them, as an action of ours may be given."""

import socket
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from datetime import datetime
from typing import Any, Protocol

import httpx

from oak_relay.capabilities.alias import Alias, Can
from oak_relay.capabilities.given import HeldFile, ServerTool, TableDef, Where, Window, WorkflowAbout
from oak_relay.sandbox.doing import Sandbox
from oak_relay.vault.kinds import Authorization, Credential


class Sends(Protocol):
    """A way out: `http` to send with, `key` that is stable across attempts, `timeout` in seconds."""

    @property
    def http(self) -> httpx.AsyncClient:
        """The one client of this process."""

    @property
    def key(self) -> str:
        """To send as `Idempotency-Key`."""

    @property
    def timeout(self) -> float:
        """Seconds that this call may take."""

    @property
    def trace_parent(self) -> str:
        """The W3C trace context of this call."""

    def may_reach(self, url: str) -> None:
        """Raises `StepFailed` (`denied`) when actions may not call this host."""

    def shown(self, text: str, most: int) -> str:
        """The first letters of a text as a trace shows them: blanked of everything that is secret here."""

    def said(self, text: str, most: int) -> str:
        """The first letters of a text as the engine is told them: blanked of what this call was lent."""

    async def dial(self, host: str, port: int) -> socket.socket:
        """A connected socket, for libraries that speak another protocol; it does not block. Raises `StepFailed`."""

    def send_check(self) -> None:
        """Raises `StepFailed` when this worker may no longer send anything that cannot be repeated."""


class Credentials(Protocol):
    """Stored credentials."""

    async def credential(self, name: str) -> Credential:
        """A stored credential. Raises `StepFailed`: `missing`, or `denied` where it is for other workflows."""


class Authorizes(Credentials, Protocol):
    """What requests are sent with."""

    async def authorization(self, name: str) -> Authorization:
        """What a request with a stored credential is sent with; the token of an OAuth app is refreshed before it is over.
        Raises `StepFailed`: `denied` also for one that needs reconnecting or has not the scopes that are needed."""

    async def renewed(self, name: str) -> Authorization | None:
        """The same after what was given last was refused (401); None when there is nothing else."""

    async def refused(self, name: str, scopes: Sequence[str]) -> None:
        """Note scopes without which a call was refused, so that they are asked for when it is connected again."""


class Files(Protocol):
    """Files that are kept here, read and written piece by piece."""

    async def file(self, value: object) -> HeldFile:
        """The file that a value stands for. Raises `StepFailed`: `invalid` for what is no file, `missing` for one that is gone."""

    def pieces(self, file: HeldFile) -> AsyncIterator[bytes]:
        """Its bytes. Raises `StepFailed` (`missing`)."""

    async def keep(self, name: str, type: str, pieces: AsyncIterator[bytes]) -> HeldFile:
        """Keep bytes as a file. Raises `StepFailed` (`too_long`), and what `pieces` raises; then nothing of it is kept."""


class Draw(Protocol):
    """What the requests of one call draw on."""

    async def reserve(self, worst: float | None) -> None:
        """A request is about to be sent that costs at most so much; None when nobody knows. Raises `StepFailed`."""

    def settle(self, cost: float | None, reached: str = "yes") -> None:
        """What it has cost; None when it told nothing, then by whether it was reached."""


class Spends(Protocol):
    """Money: `draw` is what requests that cost some draw on, None where nothing is counted."""

    @property
    def draw(self) -> Draw | None: ...


class Models(Protocol):
    """Model aliases; `piece` takes an answer while it is being written, None when nobody watches."""

    @property
    def piece(self) -> Callable[[str], None] | None: ...

    async def model(self, name: str) -> Alias:
        """A model alias. Raises `StepFailed` (`missing`)."""


class Tables(Protocol):
    """Tables kept here."""

    def table(self, name: str) -> TableDef:
        """Raises `StepFailed` (`missing`)."""

    async def rows(
        self, table: str, where: Where, order: Sequence[tuple[str, bool]], limit: int
    ) -> list[dict[str, object]]:
        """Rows that are meant, in the order of some columns (True: from the greatest down), else as they came. Raises `StepFailed`
        (`missing`)."""

    async def totals(
        self, table: str, where: Where, by: Sequence[str], measures: Mapping[str, Sequence[str]], limit: int
    ) -> list[dict[str, object]]:
        """For each group of rows with equal values in the columns `by`: these, their `count`, and each measure (sum, average,
        least, most) of columns of numbers. Raises `StepFailed`."""


class Workflows(Protocol):
    """Other documents of the workspace."""

    async def workflow(self, name: str) -> WorkflowAbout:
        """A workflow or agent document. Raises `StepFailed` (`missing`)."""


class Conversations(Protocol):
    """What was said."""

    async def conversation(self, key: str, turns: int, summed: bool, facts: bool) -> Window:
        """What an agent is given of a conversation: the last messages, so many of them a person's."""


class Servers(Protocol):
    """Tool servers (Model Context Protocol)."""

    async def server_tools(self, name: str) -> Sequence[ServerTool]:
        """The tools of a tool server. Raises `StepFailed`."""

    async def server_call(
        self, name: str, tool: str, arguments: Mapping[str, object]
    ) -> tuple[object, dict[str, object]]:
        """What a tool of a tool server gives, and what a trace shows of it. Raises `StepFailed`."""


class Offered(Protocol):
    """What is known of an action without carrying it out."""

    @property
    def name(self) -> str: ...

    @property
    def title(self) -> str: ...

    @property
    def schema(self) -> Mapping[str, object]:
        """JSON Schema of its input."""

    @property
    def tell(self) -> str:
        """JSONPath of what of its output a model is told; empty for all of it."""


class Actions(Protocol):
    """The catalogue of the workspace."""

    def action(self, name: str) -> Offered:
        """Raises `StepFailed` (`missing`)."""

    async def perform(self, name: str, given: Mapping[str, object]) -> Any:
        """Carry out an action that reaches outside or only reads; its output. Raises `StepFailed`."""


class Confined(Files, Protocol):
    """A place where foreign work can reach nothing; `timeout` in seconds."""

    @property
    def timeout(self) -> float:
        """Seconds that this call may take."""

    @property
    def sandbox(self) -> Sandbox:
        """The sandbox of this process."""


class Time(Protocol):
    def now(self) -> datetime:
        """The time, zoned."""


class Outbound(Sends, Authorizes, Files, Protocol):
    """What a call to another service needs."""


class Abilities(Protocol):
    """What model servers can do, as far as it is known."""

    def can(self, alias: Alias) -> Can:
        """What is known of an alias's server."""

    async def learn(self, alias: Alias, can: Can) -> None:
        """Keep what was found out of it."""


class Asking(Outbound, Models, Abilities, Spends, Protocol):
    """What a request to a model needs."""


class Surroundings(Asking, Tables, Workflows, Conversations, Servers, Actions, Confined, Time, Protocol):
    """All of them: an action takes what it needs, and says so by the type of its second argument."""
