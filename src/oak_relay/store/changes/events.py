"""Events: published, waited for, and the answer to the one that a run came of."""

from datetime import datetime
from typing import Any

import asyncpg

from oak_relay.changes import AnswerCaller, AwaitEvent, EmitEvent
from oak_relay.document import values
from oak_relay.store import published
from oak_relay.store.changes.base import About, Prepared, makes
from oak_relay.store.ids import new_id
from oak_relay.store.pages import EntryRow


@makes(AnswerCaller)
class Answered(Prepared[AnswerCaller]):
    def __init__(self, wanted: AnswerCaller, about: About) -> None:
        self.text = values.dumps(wanted.answer)

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> Any:
        await connection.execute(
            "UPDATE run SET answer = coalesce(answer, $3) WHERE workspace_id = $1 AND id = $2",
            workspace,
            row.run_id,
            self.text,
        )


@makes(EmitEvent)
class Emitted(Prepared[EmitEvent]):
    hints = ("published",)

    def __init__(self, wanted: EmitEvent, about: About) -> None:
        self.id, self.type, self.source = new_id(), wanted.type, f"/workflows/{about.workflow}"
        subject = None if wanted.subject is None else values.text_of(wanted.subject)
        self.text = values.dumps(published.envelope(str(self.id), self.type, self.source, wanted.data, subject))

    @staticmethod
    def pretended(wanted: object) -> object:
        return {"id": "tried"}

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        if row.depth > published.DEEPEST:
            return {"fault": published.too_deep()}
        await published.publish(
            connection, workspace, self.id, self.type, self.source, self.text, row.depth, row.run_id
        )
        return {"id": str(self.id)}


@makes(AwaitEvent)
class Awaited(Prepared[AwaitEvent]):
    def __init__(self, wanted: AwaitEvent, about: About) -> None:
        self.wanted, self.text = wanted, values.dumps(wanted.scope)

    @staticmethod
    def pretended(wanted: object) -> object:
        return {"events": []}

    def lock(self) -> str:
        return f"event|{self.wanted.type}"

    async def apply(self, connection: asyncpg.Connection, workspace: int, row: EntryRow) -> object:
        """The first that fits of those handled since the run began is given along."""
        wanted = self.wanted
        await connection.execute(
            "INSERT INTO listener (workspace_id, run_id, path, type, clause, scope) VALUES ($1, $2, $3, $4, $5, $6)",
            workspace,
            row.run_id,
            wanted.path,
            wanted.type,
            wanted.where,
            self.text,
        )
        early = connection.cursor(
            "SELECT p.id, p.topic, p.source, p.event_key, p.body, p.at FROM published p, run r "
            "WHERE p.workspace_id = $1 AND p.kind = 'event' AND p.topic = $2 AND p.handled_at IS NOT NULL AND r.workspace_id = $1 "
            "AND r.id = $3 AND p.at >= greatest(r.created_at, $4) ORDER BY p.at",
            workspace,
            wanted.type,
            row.run_id,
            datetime.fromisoformat(wanted.since) if wanted.since else None,
            prefetch=500,
        )
        async for event in early:
            arrived = published.arrived(event)
            if published.holds(wanted.where, {**wanted.scope, "arrived": arrived}, wanted.path):
                return {"events": [arrived]}
        return {"events": []}
