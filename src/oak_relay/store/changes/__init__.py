"""What changes of our own records mean in the database, a class for each; they commit together with their entries.

Never here: what is sent to the outside, and when a change is made. A new change is a dataclass in `oak_relay.changes` and a
class here that is registered for it.
"""

from oak_relay.store.changes import events, once, people, rows, runs, talks
from oak_relay.store.changes.base import About, Prepared, apply, conversations, prepared, pretended
from oak_relay.store.changes.rows import Added

__all__ = [
    "About",
    "Added",
    "Prepared",
    "apply",
    "conversations",
    "events",
    "once",
    "people",
    "prepared",
    "pretended",
    "rows",
    "runs",
    "talks",
]
