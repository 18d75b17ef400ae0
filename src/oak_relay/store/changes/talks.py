"""What is kept of conversations."""

from collections.abc import Sequence

import asyncpg

from oak_relay.capabilities.given import what_is
from oak_relay.changes import Contact, Hear, KeepFact, Remember, Say
from oak_relay.document import values
from oak_relay.store import talks, utterances
from oak_relay.store.changes.base import About, Prepared, makes
from oak_relay.store.pages import EntryRow


@makes(Remember)
class Remembered(Prepared[Remember]):
    def __init__(self, wanted: Remember, about: About) -> None:
        self.key = values.storable_text(wanted.conversation)
        self.messages = [(str(message["role"]), values.dumps(message)) for message in wanted.messages]
        summary = wanted.summary
        self.summary = (values.storable_text(summary.text), summary.first) if summary else None

    def conversation(self) -> str:
        return self.key

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        [made] = await self.apply_all(connection, workspace, [row])
        return made

    @classmethod
    async def apply_all(
        cls, connection: asyncpg.Connection, workspace: int, rows: Sequence[EntryRow]
    ) -> Sequence[object]:
        wanted = [(row.change, row.run_id) for row in rows if isinstance(row.change, cls)]
        said = [talks.Exchange(one.key, one.messages, run_id) for one, run_id in wanted]
        firsts = await talks.remember(connection, workspace, said)
        for one, _ in wanted:
            if one.summary:
                await talks.sum_up(connection, workspace, one.key, *one.summary)
        return [{"first": first, "count": len(one.messages)} for one, first in zip(said, firsts, strict=True)]


@makes(Say)
class Told(Prepared[Say]):
    def __init__(self, wanted: Say, about: About) -> None:
        to = wanted.conversation
        self.to = None if isinstance(to, str) else Contact(to.path, values.storable_text(to.chat))
        self.key = (
            values.storable_text(to)
            if isinstance(to, str)
            else utterances.key_of(to.path, values.storable_text(to.chat))
        )
        self.text = values.storable_text(wanted.text)
        self.buttons = [values.storable_text(one) for one in wanted.buttons]
        self.parts = [
            {"what": what_is(str(type)), "type": type, "name": name, "file": {"file": one["file"], "name": name, "type": type}}
            for one in wanted.files
            for name, type in [tuple(values.storable_text(str(one[key]))[:255] for key in ("name", "type"))]
        ]  # fmt: skip
        self.unkept = [{key: values.storable_text(text) for key, text in one.items()} for one in wanted.unkept]
        self.hints = ("outbox", f"talk:{utterances.mark(self.key)}")

    @staticmethod
    def pretended(wanted: object) -> object:
        return {"id": "tried"}

    def conversation(self) -> str:
        return self.key

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        if self.to is not None and (fault := await utterances.reach(connection, workspace, self.to.path, self.to.chat)):
            return {"fault": fault.as_data()}
        told = await utterances.tell(
            connection, workspace, self.key, self.text, self.buttons, row.run_id, parts=self.parts, unkept=self.unkept
        )
        return {"id": str(told.id)} if told else {"fault": utterances.gone().as_data()}


@makes(Hear)
class Heard(Prepared[Hear]):
    def __init__(self, wanted: Hear, about: About) -> None:
        self.key = values.storable_text(wanted.conversation)
        self.texts = {
            file: values.storable_text(text)[: utterances.LONGEST_HEARD] for file, text in wanted.texts.items()
        }

    def conversation(self) -> str:
        return self.key

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        await utterances.heard(connection, workspace, self.key, row.run_id, self.texts)
        return {}


@makes(KeepFact)
class Kept(Prepared[KeepFact]):
    def __init__(self, wanted: KeepFact, about: About) -> None:
        self.key, name, value = (
            values.storable_text(text) for text in (wanted.conversation, wanted.name, wanted.value)
        )
        self.name, self.value = name[:100], value[:2000]

    def conversation(self) -> str:
        return self.key

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        await talks.keep(connection, workspace, self.key, self.name, self.value)
        return {"kept": self.name} if self.value else {"forgotten": self.name}
