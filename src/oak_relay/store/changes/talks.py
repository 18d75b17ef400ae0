"""What is kept of conversations."""

import asyncpg

from oak_relay.changes import KeepFact, Remember
from oak_relay.document import values
from oak_relay.store import talks
from oak_relay.store.changes.base import About, Prepared, makes
from oak_relay.store.pages import EntryRow


@makes(Remember)
class Remembered(Prepared[Remember]):
    def __init__(self, wanted: Remember, about: About) -> None:
        self.key = values.storable_text(wanted.conversation)
        self.messages = [(str(message["role"]), values.dumps(message)) for message in wanted.messages]
        summary = wanted.summary
        self.summary = (values.storable_text(summary.text), summary.first) if summary else None

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        first = await talks.remember(connection, workspace, self.key, self.messages, row.run_id)
        if self.summary:
            await talks.sum_up(connection, workspace, self.key, *self.summary)
        return {"first": first, "count": len(self.messages)}


@makes(KeepFact)
class Kept(Prepared[KeepFact]):
    def __init__(self, wanted: KeepFact, about: About) -> None:
        self.key, name, value = (
            values.storable_text(text) for text in (wanted.conversation, wanted.name, wanted.value)
        )
        self.name, self.value = name[:100], value[:2000]

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        await talks.keep(connection, workspace, self.key, self.name, self.value)
        return {"kept": self.name} if self.value else {"forgotten": self.name}
