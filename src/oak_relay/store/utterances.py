"""What is said in conversations of channels: taken in once, in order, and told."""

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Literal
from uuid import UUID

import asyncpg

from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.store import artifacts, files, intake, outbox, talks, tray
from oak_relay.store.ids import new_id
from oak_relay.store.intake import NewRun
from oak_relay.store.locks import lock, of_conversation

MOST_GATHERED, LONGEST_GATHERED = 20, 10.0
"""Messages that are taken as one, and the seconds within which they come."""
LONGEST_HEARD = 20_000
"""Letters of what a voice note says that are kept beside it."""
HANDED = "hand_over"
"""Where a question is answered that is a person's taking over of a conversation."""
_LARGEST_BODY = artifacts.LARGE
"""Bytes of the input of a run that stand with it."""


@dataclass(frozen=True, slots=True)
class Heard:
    """Something that somebody said; `key` is the channel's own id of it, `choice` the button that was pressed, `parts` the files
    that came with it, `at` when it was said by the channel's clock."""

    key: str
    text: str
    choice: str | None = None
    parts: Sequence[Mapping[str, object]] = ()
    at: datetime | None = None

    @property
    def command(self) -> str | None:
        """The word behind a slash that it begins with."""
        first = self.text.split(maxsplit=1)[0] if self.text.strip() else ""
        return first[1:].lower()[:60] or None if first.startswith("/") else None

    def data(self) -> dict[str, object]:
        """As a run is given it."""
        return {"text": self.text, "choice": self.choice, "command": self.command, "parts": list(self.parts)}


@dataclass(frozen=True, slots=True)
class Person:
    """Who talks, as far as it is known; `id` is the same wherever they talk on a channel, `language` a tag (BCP 47)."""

    id: str
    name: str = ""
    address: str = ""
    language: str = ""

    def data(self) -> dict[str, object]:
        """As a run is given it."""
        return {"id": self.id, "name": self.name, "address": self.address, "language": self.language}

    @classmethod
    def read(cls, data: Mapping[str, str]) -> "Person":
        """What `data` was made of."""
        return cls(data["id"], data.get("name", ""), data.get("address", ""), data.get("language", ""))


@dataclass(frozen=True, slots=True)
class Talk:
    """A conversation: its key, who talks there, and on which channel. `address` is where the channel finds it and `via` how the
    channel is set up (JSON); both are empty where it is read here and nothing is sent."""

    key: str
    person: Person
    channel: str
    address: str = ""
    via: str = ""


@dataclass(frozen=True, slots=True)
class Begun:
    """The conversation that something was said in, as a run of it knows it."""

    key: str
    first: bool
    person: Person
    facts: Mapping[str, str]

    def data(self) -> dict[str, object]:
        """The name `conversation` of a document."""
        return {"key": self.key, "first": self.first, "person": self.person.data(), "facts": dict(self.facts)}


@dataclass(frozen=True, slots=True)
class Taken:
    """`accepted` begins a run, `answered` answers the question that is open, `told` is heard by the person who has taken over,
    `joined` belongs to the run that is about to begin, `duplicate` came before, `stale`: the workflow is another by now; `seq` is
    its number."""

    status: Literal["accepted", "answered", "told", "joined", "duplicate", "stale"]
    seq: int
    run_id: UUID | None


@dataclass(frozen=True, slots=True)
class Said:
    """Something that was said by us: its id and its number, below zero where it waits until a person hands the conversation back;
    `leaves` where a channel is still to take it."""

    id: UUID
    seq: int
    leaves: bool


Begins = Callable[[Begun, Heard], NewRun]
"""The run that something begins which somebody said in a conversation."""


def key_of(path: str, chat: str) -> str:
    """The key of a conversation on a channel."""
    return f"{path} {kept_id(chat)}"


def kept_id(id: str) -> str:
    """An id of another's as it can be kept: itself, or where it is long or odd, its SHA-256."""
    if 0 < len(id) <= 100 and id.isprintable() and values.storable_text(id) == id:
        return id
    return f"sha256:{hashlib.sha256(id.encode('utf-8', 'surrogatepass')).hexdigest()}"


def mark(key: str) -> str:
    """A short name of a conversation for those who wait for it."""
    return hashlib.sha256(key.encode()).hexdigest()[:24]


async def take(
    connection: asyncpg.Connection, workspace: int, talk: Talk, heard: Heard, gather: float, begin: Begins
) -> Taken:
    """Take in what somebody said, within a transaction. A command begins a run; anything else answers the question that is open in
    the conversation, if that was heard before it was said; or is for the person who has taken over; or joins a run that is about
    to begin there; or begins one in `gather` seconds. The same `heard.key` counts once. The conversation is locked first, then the
    queue, then lanes."""
    await lock(connection, {of_conversation(talk.key)})
    known = await _known(connection, workspace, talk)
    before = await connection.fetchrow(
        "SELECT seq, run_id FROM utterance WHERE workspace_id = $1 AND conversation_id = $2 AND key = $3", workspace, known, heard.key
    )  # fmt: skip
    if before is not None:
        return Taken("duplicate", before["seq"], before["run_id"])
    seq = await _next(connection, workspace, known)
    run_id: UUID | None = None
    status: Literal["accepted", "answered", "told", "joined"] = "answered"
    question = None if heard.command else await _asked(connection, workspace, known)
    if question is not None and question["at"] == HANDED:
        run_id, status = UUID(str(question["run_id"])), "told"
    elif question is not None and _heard_before(question, heard):
        given: dict[str, object] = {"choice": heard.choice, "text": heard.text, "data": None}
        if heard.parts:
            given["parts"] = list(heard.parts)
        answered = await tray.answer(connection, workspace, [question["id"]], given, talk.person.id, datetime.now(UTC))
        run_id = question["run_id"] if answered else None
    if run_id is None and not heard.command:
        run_id, status = await _joined(connection, workspace, known, heard, begin), "joined"
    if run_id is None:
        facts = await talks.kept(connection, workspace, talk.key)
        new = begin(Begun(talk.key, seq == 0, talk.person, facts), heard)
        [receipt] = await intake.accept(connection, workspace, [new])
        if receipt.status == "stale":
            return Taken("stale", seq, None)
        run_id, status = receipt.run_id, "accepted"
        await connection.execute(
            "UPDATE queue SET ready_at = clock_timestamp() + make_interval(secs => $3) WHERE workspace_id = $1 AND run_id = $2 AND held IS NULL",
            workspace, run_id, 0.0 if heard.command else gather,
        )  # fmt: skip
    more = {name: value for name, value in heard.data().items() if name != "text" and value}
    await _add(connection, workspace, known, seq, "them", heard.text, more, run_id, key=heard.key, at=heard.at)
    return Taken(status, seq, run_id)


async def _known(connection: asyncpg.Connection, workspace: int, talk: Talk) -> UUID:
    """The id of a conversation, begun if it is not there; how it is reached is noted as it is now."""
    return UUID(
        str(
            await connection.fetchval(
                "INSERT INTO conversation (workspace_id, id, key, channel, address, via, person) VALUES ($1, $2, $3, $4, $5, $6, $7) "
                "ON CONFLICT (workspace_id, key) DO UPDATE SET updated_at = clock_timestamp(), channel = excluded.channel, "
                "address = excluded.address, via = excluded.via, person = excluded.person RETURNING id",
                workspace, new_id(), talk.key, talk.channel, talk.address or None, talk.via or None, values.dumps(talk.person.data()),
            )
        )
    )  # fmt: skip


def _heard_before(question: asyncpg.Record, heard: Heard) -> bool:
    """Whether a question had reached who answers before they said this: an earlier message is never its answer."""
    if question["state"] not in (None, "sent"):
        return False
    return heard.at is None or question["told_at"] is None or heard.at >= question["told_at"]


def gone() -> StepFailed:
    """Nothing is said in a conversation that is not there."""
    message = "nobody is there to hear it: the run was begun by hand, or the conversation was forgotten"
    return StepFailed("missing", message, fix="say something on its page, which begins a run")


async def open_to(connection: asyncpg.Connection, workspace: int, key: str) -> UUID | StepFailed:
    """The id of a conversation that the caller has locked and may ask something in; or why not."""
    talk = await connection.fetchval(
        "SELECT id FROM conversation WHERE workspace_id = $1 AND key = $2 AND channel IS NOT NULL", workspace, key
    )
    if talk is None:
        return gone()
    if (open_ := await _asked(connection, workspace, talk)) is not None:
        if open_["at"] == HANDED:
            return StepFailed("busy", "a person has taken over this conversation", fix="wait until it is handed back")
        fix = "ask one thing after the other"
        return StepFailed("busy", "another question is open in this conversation", fix=fix)
    return UUID(str(talk))


async def _asked(connection: asyncpg.Connection, workspace: int, talk: UUID) -> asyncpg.Record | None:
    """The question that is open in a conversation, and how far what it asks has come."""
    return await connection.fetchrow(
        "SELECT q.id, q.run_id, q.config::json->>'at' AS at, u.state, u.told_at FROM question q LEFT JOIN utterance u "
        "ON u.workspace_id = q.workspace_id AND u.conversation_id = q.conversation_id AND u.seq = q.said_seq "
        "WHERE q.workspace_id = $1 AND q.conversation_id = $2 AND q.state = 'open'", workspace, talk
    )  # fmt: skip


async def being_asked(connection: asyncpg.Connection, workspace: int, key: str) -> bool:
    """Whether the question that is open in a conversation is just being sent."""
    return bool(
        await connection.fetchval(
            "SELECT EXISTS (SELECT FROM conversation c JOIN question q ON q.workspace_id = $1 AND q.conversation_id = c.id AND q.state = 'open' "
            "JOIN outbox o ON o.workspace_id = $1 AND o.conversation_id = c.id AND o.seq = q.said_seq AND o.state = 'sending' "
            "WHERE c.workspace_id = $1 AND c.key = $2)", workspace, key
        )
    )  # fmt: skip


async def tell(
    connection: asyncpg.Connection,
    workspace: int,
    key: str,
    text: str,
    buttons: list[str],
    run_id: UUID | None,
    by: str = "",
    parts: Sequence[Mapping[str, object]] = (),
    unkept: Sequence[Mapping[str, str]] = (),
) -> "Said | None":
    """Say something in a conversation that the caller has locked; None when there is no such conversation. Where it is held on a
    channel that is sent to, it leaves by the outbox. While a person has taken over for another run, it is held (see `let_go`). `by`
    is the person who says it, `parts` the files that go with it, `unkept` what it claims and nobody did."""
    talk = await connection.fetchrow(
        "UPDATE conversation SET updated_at = clock_timestamp() WHERE workspace_id = $1 AND key = $2 AND channel IS NOT NULL "
        "RETURNING id, address", workspace, key,
    )  # fmt: skip
    if talk is None:
        return None
    held = not by and await connection.fetchval(f"SELECT {_HANDED}", workspace, talk["id"], run_id)
    leaves = talk["address"] is not None and not held
    seq = await _next(connection, workspace, talk["id"], held)
    more: dict[str, object] = {"buttons": buttons} if buttons else {}
    if by:
        more["by"] = by
    if parts:
        more["parts"] = list(parts)
    if unkept:
        more["unkept"] = list(unkept)
    state = "waiting" if leaves else None
    made = await _add(connection, workspace, talk["id"], seq, "us", text, more, run_id, state=state)
    if leaves:
        await outbox.put(connection, workspace, talk["id"], seq, run_id)
    return Said(made, seq, leaves)


_HANDED = (
    "EXISTS (SELECT FROM question q WHERE q.workspace_id = $1 AND q.conversation_id = $2 AND q.state = 'open' "
    f"AND q.config::json->>'at' = '{HANDED}' AND q.run_id IS DISTINCT FROM $3)"
)
_LET_GO = f"""
SELECT DISTINCT u.conversation_id FROM utterance u WHERE u.workspace_id = $1 AND u.seq < 0 AND NOT EXISTS (
  SELECT FROM question q WHERE q.workspace_id = $1 AND q.conversation_id = u.conversation_id AND q.state = 'open'
    AND q.config::json->>'at' = '{HANDED}' AND q.run_id IS DISTINCT FROM u.run_id) LIMIT 100
"""


async def let_go(connection: asyncpg.Connection, workspace: int) -> list[str]:
    """Say what was held while a person had taken over, now that they have handed back, within a transaction; the conversations."""
    found = []
    for row in await connection.fetch(_LET_GO, workspace):
        talk = await connection.fetchrow(
            "SELECT id, key, address FROM conversation WHERE workspace_id = $1 AND id = $2 FOR NO KEY UPDATE SKIP LOCKED",
            workspace, row["conversation_id"],
        )  # fmt: skip
        if talk is not None:
            found.append(talk["key"])
            await _let_go(connection, workspace, talk)
    return found


async def _let_go(connection: asyncpg.Connection, workspace: int, talk: asyncpg.Record) -> None:
    held = await connection.fetch(
        "SELECT seq, run_id FROM utterance WHERE workspace_id = $1 AND conversation_id = $2 AND seq < 0 ORDER BY seq DESC", workspace, talk["id"]
    )  # fmt: skip
    for one in held:
        if await connection.fetchval(f"SELECT {_HANDED}", workspace, talk["id"], one["run_id"]):
            return  # it was handed over anew
        seq = await _next(connection, workspace, talk["id"])
        state = None if talk["address"] is None else "waiting"
        await connection.execute(
            "UPDATE utterance SET seq = $4, state = $5, at = clock_timestamp() WHERE workspace_id = $1 AND conversation_id = $2 AND seq = $3",
            workspace, talk["id"], one["seq"], seq, state,
        )  # fmt: skip
        if state:
            await outbox.put(connection, workspace, talk["id"], seq, one["run_id"])


async def reach(connection: asyncpg.Connection, workspace: int, path: str, chat: str) -> StepFailed | None:
    """See that there is a conversation with somebody on the channel at a path, whether they wrote before or not. The caller has
    locked it. Why there can be none."""
    config = await connection.fetchval(
        "SELECT config FROM trigger WHERE workspace_id = $1 AND way = 'talk' AND path = $2", workspace, f"talk:{path}"
    )
    given = {} if config is None else values.loads(config)
    if given.get("channel", "page") == "page":
        what = "no channel listens at" if config is None else "nobody is written to on a page:"
        return StepFailed("missing", f"{what} {path}", fix="name the path of a channel whose workflow is on")
    person = Person(
        hashlib.sha256(f"{given['channel']} {path} {chat}".encode("utf-8", "replace")).hexdigest()[:32], "", chat
    )
    await connection.execute(
        "INSERT INTO conversation (workspace_id, id, key, channel, address, via, person) VALUES ($1, $2, $3, $4, $5, $6, $7) "
        "ON CONFLICT (workspace_id, key) DO UPDATE SET channel = excluded.channel, address = excluded.address, via = excluded.via",
        workspace, new_id(), key_of(path, chat), given["channel"], chat, values.dumps(given.get("with", {})), values.dumps(person.data()),
    )  # fmt: skip
    return None


async def said(
    connection: asyncpg.Connection, workspace: int, key: str, after: int, limit: int
) -> list[asyncpg.Record]:
    """The transcript of a conversation in order, behind a number."""
    return await connection.fetch(
        "SELECT u.seq, u.id, u.side, u.text, u.more, u.key, u.run_id, u.at, u.state, u.good FROM utterance u JOIN conversation c "
        "ON c.workspace_id = u.workspace_id AND c.id = u.conversation_id "
        "WHERE c.workspace_id = $1 AND c.key = $2 AND u.seq > $3 ORDER BY u.seq LIMIT $4",
        workspace, key, after, limit,
    )  # fmt: skip


async def heard(
    connection: asyncpg.Connection, workspace: int, key: str, run_id: UUID | None, texts: Mapping[str, str]
) -> None:
    """Note what voice notes say, by their files, beside those that came for a run, in a conversation that the caller has locked."""
    rows = await connection.fetch(
        "SELECT u.conversation_id, u.seq, u.text, u.more FROM utterance u JOIN conversation c ON c.workspace_id = u.workspace_id AND c.id = u.conversation_id "
        "WHERE c.workspace_id = $1 AND c.key = $2 AND u.run_id = $3 AND u.side = 'them'", workspace, key, run_id,
    )  # fmt: skip
    for row in rows:
        more = values.loads(row["more"])
        lines = [row["text"]]
        for part in more.get("parts", ()):
            text = texts.get(str((part.get("file") or {}).get("file")))
            if text is not None and "heard" not in part:
                part["heard"] = text
                lines.append(text)
        if len(lines) > 1:
            await connection.execute(
                "UPDATE utterance SET text = $4, more = $5 WHERE workspace_id = $1 AND conversation_id = $2 AND seq = $3",
                workspace, row["conversation_id"], row["seq"], "\n".join(line for line in lines if line), values.dumps(more),
            )  # fmt: skip


async def judge(connection: asyncpg.Connection, workspace: int, key: str, seq: int, good: bool | None) -> bool:
    """Note whether who talks found an answer good; None takes it back. False where there is no such answer of a run."""
    done = await connection.execute(
        "UPDATE utterance SET good = $4 WHERE workspace_id = $1 AND seq = $3 AND side = 'us' AND run_id IS NOT NULL AND conversation_id = ("
        "SELECT id FROM conversation WHERE workspace_id = $1 AND key = $2)", workspace, key, seq, good
    )  # fmt: skip
    return str(done) == "UPDATE 1"


async def verdicts(connection: asyncpg.Connection, workspace: int, workflow_id: UUID) -> dict[UUID, tuple[int, int]]:
    """How many answers of a workflow's versions were found good, and how many bad, by version."""
    rows = await connection.fetch(
        "SELECT r.version_id, count(*) FILTER (WHERE u.good) AS good, count(*) FILTER (WHERE NOT u.good) AS bad FROM utterance u "
        "JOIN run r ON r.workspace_id = u.workspace_id AND r.id = u.run_id WHERE u.workspace_id = $1 AND u.good IS NOT NULL AND r.workflow_id = $2 GROUP BY 1",
        workspace, workflow_id,
    )  # fmt: skip
    return {row["version_id"]: (row["good"], row["bad"]) for row in rows}


async def last(connection: asyncpg.Connection, workspace: int, key: str) -> int:
    """The number of what was said last in a conversation, -1 where nothing was."""
    found = await connection.fetchval(
        "SELECT max(u.seq) FROM utterance u WHERE u.workspace_id = $1 AND u.conversation_id = ("
        "SELECT id FROM conversation WHERE workspace_id = $1 AND key = $2)", workspace, key,
    )  # fmt: skip
    return -1 if found is None else int(found)


_ANSWERING = """
SELECT q.run_id, r.version_id FROM (
  SELECT u.run_id FROM utterance u WHERE u.workspace_id = $1 AND u.side = 'them' AND u.conversation_id = (
    SELECT id FROM conversation WHERE workspace_id = $1 AND key = $2) ORDER BY u.seq DESC LIMIT 50) AS said
JOIN queue q ON q.workspace_id = $1 AND q.run_id = said.run_id
CROSS JOIN LATERAL (SELECT version_id FROM run WHERE workspace_id = $1 AND id = q.run_id OFFSET 0) AS r
WHERE (q.worker_id IS NOT NULL OR q.ready_at < clock_timestamp() + interval '1 minute') AND NOT EXISTS (
  SELECT FROM question a WHERE a.workspace_id = $1 AND a.run_id = q.run_id AND a.state = 'open')
ORDER BY q.worker_id IS NULL, q.run_id LIMIT 1
"""
_EVENT_OF = """
SELECT e.id, e.meta FROM run r CROSS JOIN LATERAL (SELECT id, meta FROM event WHERE workspace_id = $1 AND id = r.event_id OFFSET 0) AS e
WHERE r.workspace_id = $1 AND r.id = $2
"""


@dataclass(frozen=True, slots=True)
class Answering:
    """A run of a conversation that is under way."""

    run_id: UUID
    version_id: UUID


async def answering(connection: asyncpg.Connection, workspace: int, key: str) -> Answering | None:
    """The run of a conversation that is under way, of the last that were begun; one that waits for a person or for longer is not."""
    found = await connection.fetchrow(_ANSWERING, workspace, key)
    return None if found is None else Answering(found["run_id"], found["version_id"])


async def _joined(
    connection: asyncpg.Connection, workspace: int, talk: UUID, heard: Heard, begin: Begins
) -> UUID | None:
    """The run that is about to begin with what was said a moment ago, which this now belongs to; None when there is none."""
    rows = await connection.fetch(
        "SELECT seq, run_id, at, text, more FROM utterance WHERE workspace_id = $1 AND conversation_id = $2 AND side = 'them' "
        "ORDER BY seq DESC LIMIT $3", workspace, talk, MOST_GATHERED,
    )  # fmt: skip
    burst = [row for row in reversed(rows) if row["run_id"] == rows[0]["run_id"]]
    if not burst or len(burst) >= MOST_GATHERED or any("command" in values.loads(row["more"]) for row in burst):
        return None
    if (datetime.now(UTC) - burst[0]["at"]).total_seconds() > LONGEST_GATHERED:
        return None
    run_id = UUID(str(burst[0]["run_id"]))
    waits = await connection.fetchval(
        "SELECT true FROM queue WHERE workspace_id = $1 AND run_id = $2 AND worker_id IS NULL AND walks = 0 FOR UPDATE SKIP LOCKED",
        workspace, run_id,
    )  # fmt: skip
    event = waits and await connection.fetchrow(_EVENT_OF, workspace, run_id)
    about = values.loads(event["meta"]).get("conversation") if event else None
    if about is None:
        return None
    before = [values.loads(row["more"]) for row in burst]
    pressed = [choice for more in before if (choice := more.get("choice"))]
    whole = Heard(
        heard.key,
        "\n".join([*(row["text"] for row in burst), heard.text]),
        heard.choice or next(reversed(pressed), None),
        [*(part for more in before for part in more.get("parts", ())), *heard.parts],
    )
    new = begin(Begun(about["key"], about["first"], Person.read(about["person"]), about["facts"]), whole)
    if len(new.body.encode()) > _LARGEST_BODY:
        return None
    await connection.execute(
        "UPDATE event SET body = $3, meta = $4 WHERE workspace_id = $1 AND id = $2", workspace, event["id"], new.body, new.meta
    )  # fmt: skip
    await files.refer(connection, workspace, [(run_id, file) for file in files.named(new.body)])
    return run_id


async def _next(connection: asyncpg.Connection, workspace: int, talk: UUID, held: bool = False) -> int:
    """The number of what is said next, or of what is held next."""
    number = "least(min(seq), 0) - 1" if held else "greatest(max(seq), -1) + 1"
    return int(
        await connection.fetchval(
            f"SELECT {number} FROM utterance WHERE workspace_id = $1 AND conversation_id = $2", workspace, talk
        )
    )


async def _add(
    connection: asyncpg.Connection, workspace: int, talk: UUID, seq: int, side: str, text: str, more: Mapping[str, object],
    run_id: UUID | None, key: str | None = None, at: datetime | None = None, state: str | None = None,
) -> UUID:  # fmt: skip
    made = new_id()
    await connection.execute(
        "INSERT INTO utterance (workspace_id, conversation_id, seq, id, side, text, more, key, run_id, told_at, state) "
        "VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)",
        workspace, talk, seq, made, side, text, values.dumps(more), key, run_id, at, state,
    )  # fmt: skip
    return made
