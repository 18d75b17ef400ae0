"""Questions to people."""

from datetime import datetime

import asyncpg

from oak_relay.changes import AskPerson, ExpireQuestion
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.store import utterances
from oak_relay.store.changes.base import About, Prepared, makes
from oak_relay.store.ids import new_id
from oak_relay.store.pages import EntryRow


@makes(AskPerson)
class Asked(Prepared[AskPerson]):
    hints: tuple[str, ...] = ("tray",)

    def __init__(self, wanted: AskPerson, about: About) -> None:
        self.wanted, self.id = wanted, new_id()
        self.config = values.dumps({name: getattr(wanted, name) for name in ("at", "choices", "form", "then", "input")})
        self.until = datetime.fromisoformat(wanted.until) if wanted.until else None
        self.talk = values.storable_text(wanted.conversation)
        if self.talk:
            self.hints = ("tray", "outbox", f"talk:{utterances.mark(self.talk)}")

    def conversation(self) -> str:
        return self.talk

    @staticmethod
    def pretended(wanted: object) -> object:
        return {"question": "tried"}

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        talk, said = None, None
        if self.talk:
            talk = await utterances.open_to(connection, workspace, self.talk)
            if isinstance(talk, StepFailed):
                return {"fault": talk.as_data()}
            if self.wanted.at != utterances.HANDED:
                text, buttons = values.storable_text(self.wanted.text), list(self.wanted.choices or ())
                said = await utterances.tell(connection, workspace, self.talk, text, buttons, row.run_id)
        await connection.execute(
            "INSERT INTO question (workspace_id, id, run_id, path, text, config, alike, expires_at, conversation_id, said_seq) "
            "VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
            workspace,
            self.id,
            row.run_id,
            self.wanted.path,
            values.storable_text(self.wanted.text),
            self.config,
            self.wanted.alike,
            self.until,
            talk,
            None if said is None else said.seq,
        )
        return {"question": str(self.id)}


@makes(ExpireQuestion)
class Expired(Prepared[ExpireQuestion]):
    def __init__(self, wanted: ExpireQuestion, about: About) -> None:
        self.path = wanted.path

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        """An answer that was quicker counts."""
        given = workspace, row.run_id, self.path
        of = "WHERE workspace_id = $1 AND run_id = $2 AND path = $3"
        await connection.execute(f"UPDATE question SET state = 'expired' {of} AND state = 'open'", *given)
        answer = await connection.fetchval(f"SELECT answer FROM question {of} AND state = 'answered'", *given)
        return {"answer": None if answer is None else values.loads(answer)}
