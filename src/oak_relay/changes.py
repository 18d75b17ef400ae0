"""Changes of our own records that a step makes, each committed together with the entry that tells of it.

What is wanted stands here, as plain values: the engine and actions say it. What a change means in the database stands with
the store, in `store.changes`, in one class for each of these.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from oak_relay.agents import Summary
from oak_relay.messages import Message


@dataclass(frozen=True, slots=True)
class Change:
    """Base of all changes."""


@dataclass(frozen=True, slots=True)
class AddRow(Change):
    """A row for a table; gives `{id, row}`."""

    table: UUID
    row: Mapping[str, object]


@dataclass(frozen=True, slots=True)
class UpsertRow(Change):
    """A row changed where the columns `match` have its values, else added; gives `{id, row, created}`."""

    table: UUID
    row: Mapping[str, object]
    match: Sequence[str]


@dataclass(frozen=True, slots=True)
class DeleteRows(Change):
    """The rows with these values removed; gives `{count, rows}`."""

    table: UUID
    match: Mapping[str, object]


@dataclass(frozen=True, slots=True)
class AnswerCaller(Change):
    """The waiting caller's reply: `status`, `headers` and `body` as a document gives them. The first one counts."""

    answer: Mapping[str, object]


@dataclass(frozen=True, slots=True)
class ClaimOnce(Change):
    """To be the run that does what a step does once ever for a key; gives `{first, run}`."""

    step: str
    key: str


@dataclass(frozen=True, slots=True)
class FinishOnce(Change):
    """What is done once ever was done well."""

    step: str
    key: str


@dataclass(frozen=True, slots=True)
class EmitEvent(Change):
    """An event that the step at `path` publishes; gives its `id`, or a `fault`."""

    path: str
    type: str
    data: object = None
    subject: object = None


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a list that a child run goes through: `items` of the `each` at `path` (`place` in the plan), the first of
    them number `first` of the whole list; `width` at a time; `settled` are model aliases by name."""

    place: str
    path: str
    items: list[object]
    first: int
    width: int
    settled: Mapping[str, object]


@dataclass(frozen=True, slots=True)
class StartRun(Change):
    """A run of a workflow, or of a part of a list, which a step at `path` waits for or not; `money` is what it may spend.
    Gives the id as `run`, or a `fault`."""

    path: str
    input: object
    workflow: str | None = None
    part: Part | None = None
    waited: bool = True
    money: float | None = None


@dataclass(frozen=True, slots=True)
class AskPerson(Change):
    """A question: where it is asked (`at`), its choices or form, and what happens (`then`) when nobody answers until a
    moment (RFC 3339); it is put in a `conversation` when one is named. Questions that are `alike` may be answered together. `input` is shown beside it."""

    path: str
    text: str
    at: str = "tray"
    choices: Sequence[str] | None = None
    form: Mapping[str, object] | None = None
    then: str = "go_on"
    until: str | None = None
    alike: str | None = None
    input: object = None
    conversation: str = ""


@dataclass(frozen=True, slots=True)
class ExpireQuestion(Change):
    """A question closed unanswered; an answer that was quicker is given as `answer`."""

    path: str


@dataclass(frozen=True, slots=True)
class AwaitEvent(Change):
    """An event of a type waited for, one for which `where` holds with the names in `scope`; gives those since the run's
    beginning, or since a later moment (RFC 3339), that fit as `events`, at most one."""

    path: str
    type: str
    where: str | None
    scope: Mapping[str, Any]
    since: str | None = None


@dataclass(frozen=True, slots=True)
class TakeBack(Change):
    """What is still open below a path is wanted no longer: child runs, questions, events waited for."""

    prefix: str


@dataclass(frozen=True, slots=True)
class Remember(Change):
    """What was said in a conversation, and a summary of what came before."""

    conversation: str
    messages: Sequence[Message]
    summary: Summary | None = None


@dataclass(frozen=True, slots=True)
class Contact:
    """Somebody on a channel: the path that it listens at, and what it calls the chat."""

    path: str
    chat: str


@dataclass(frozen=True, slots=True)
class Say(Change):
    """Something that is said in a conversation, with files and with buttons beneath; gives its `id`, or a `fault`. `unkept` is what an
    agent claims in it (`sentence`) and no call of a `tool` did."""

    conversation: "str | Contact"
    text: str
    buttons: Sequence[str] = ()
    files: Sequence[Mapping[str, object]] = ()
    unkept: Sequence[Mapping[str, str]] = ()


@dataclass(frozen=True, slots=True)
class Hear(Change):
    """What voice notes of a conversation say that this run was given: a text for each file."""

    conversation: str
    texts: Mapping[str, str]


@dataclass(frozen=True, slots=True)
class KeepFact(Change):
    """Something kept of a conversation under a name; an empty value forgets it."""

    conversation: str
    name: str
    value: str
