"""Lines of a journal."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any, Literal, NamedTuple

Detail = Mapping[str, object]
"""What only a trace shows."""
EntryKind = Literal["value", "began", "ended", "lost", "skipped", "opened", "closed"]


class Entry(NamedTuple):
    """One line of a journal.

    Of the kinds, `value` is what was computed or chosen, `began`/`ended`/`lost` an attempt at an action, `opened`
    something that another is asked for (a child run, an answer, an event), `closed` the result of a scope whose
    inner entries are no longer needed. `path` names the effect, `attempt` counts from 1, `hash` covers step and rendered input, `body` is
    what the engine goes on with, `detail` only what a trace shows, `started`/`at` when it began and ended.
    `text` and `shown` are body and detail as canonical JSON where they are at hand.
    """

    path: str
    kind: EntryKind
    attempt: int = 0
    hash: str = ""
    body: Any = None
    detail: Detail | None = None
    started: datetime | None = None
    at: datetime | None = None
    text: str | None = None
    shown: str | None = None
