"""Conversations in any interleaving of messages, questions, hand-overs, bursts, sendings and deaths keep their rules; against a real
PostgreSQL, with a channel that is told beside it what reached it."""

import asyncio
import secrets
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace
from typing import Any
from uuid import UUID

import asyncpg
import pytest
import uuid_utils.compat as uuids
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.changes import AskPerson, Say
from oak_relay.document.models import Workflow
from oak_relay.document.text import read
from oak_relay.document.values import dumps
from oak_relay.store import cancelling, ending, outbox, tray, utterances, workflows
from oak_relay.store.changes import About, prepared
from oak_relay.store.database import Database
from oak_relay.store.intake import NewRun
from oak_relay.store.locks import lock, of_conversation
from oak_relay.store.outbox import Leaving
from oak_relay.store.tables import MAIN_WORKSPACE as W
from oak_relay.store.utterances import Begun, Heard, Person, Talk
from tests.conftest import apart

TEXT = "oak: 1\nworkflow: talked\nsteps:\n  - {step: a, wait: 1s}\n"
NOW = datetime(2031, 7, 14, tzinfo=UTC)


@pytest.fixture(scope="module")
def place(new_database: Callable[[], str]) -> SimpleNamespace:
    """A database with a workflow whose runs are begun by what is said."""
    url, found = new_database(), SimpleNamespace()

    async def make() -> None:
        database = Database(url)
        async with database.begin() as connection:
            document = Workflow.model_validate(read(TEXT).data)
            await workflows.save(connection, W, document, 1, TEXT, "test", lambda number: not number)
            row = await workflows.by_name(connection, W, "talked")
            version = await workflows.one_version(connection, W, row.id, None)
            found.workflow, found.version = row.id, version.id
        await database.close()

    apart(make)
    found.url = url
    return found


@dataclass
class Told:
    """A message as the channel has it: how often each of its pieces reached it, and when by its clock."""

    pieces: Counter[tuple[UUID, int]] = field(default_factory=Counter)
    order: list[int] = field(default_factory=list)


class World:
    """One play: two chats, what was said there, runs at work, what is being sent."""

    def __init__(self, driver: asyncpg.Connection, other: asyncpg.Connection, place: SimpleNamespace) -> None:
        self.db, self.other, self.place = driver, other, place
        self.mark = secrets.token_hex(5)
        self.keys = [f"{self.mark} ada", f"{self.mark} bo"]
        self.clock = NOW
        self.said: dict[str, list[str]] = {key: [] for key in self.keys}
        self.working: dict[UUID, str] = {}
        self.leaving: list[Leaving] = []
        self.told: dict[str, Told] = {key: Told() for key in self.keys}
        self.again: set[tuple[UUID, int]] = set()

    def now(self) -> datetime:
        self.clock += timedelta(seconds=1)
        return self.clock

    def talk(self, key: str) -> Talk:
        return Talk(key, Person("p"), "messenger", key, "{}")

    def begin(self, begun: Begun, heard: Heard) -> NewRun:
        meta = dumps({"headers": {}, "query": {}, "conversation": begun.data()})
        return NewRun(uuids.uuid7(), uuids.uuid7(), None, self.place.workflow, self.place.version, 1, "test", "/test", "test", secrets.token_hex(8), False,
                      dumps(heard.data()), meta, begun.key, "queue")  # fmt: skip

    async def asked(self, key: str) -> Any:
        """The open question, and how what it asks stands."""
        return await self.db.fetchrow(
            "SELECT q.run_id, q.config::json->>'at' AS at, u.state, u.told_at FROM question q JOIN conversation c ON c.id = q.conversation_id "
            "LEFT JOIN utterance u ON u.conversation_id = c.id AND u.seq = q.said_seq WHERE c.key = $1 AND q.state = 'open'", key
        )  # fmt: skip

    async def say(self, key: str, early: bool, command: bool, twice: bool) -> None:
        id = secrets.token_hex(8)
        at = NOW - timedelta(days=1) if early else self.now()
        heard = Heard(id, "/help" if command else f"word {id}", at=at)
        open_ = await self.asked(key)
        ready = (
            open_ is not None
            and open_["state"] in (None, "sent")
            and (open_["told_at"] is None or at >= open_["told_at"])
        )
        taken = [await self._take(self.db, key, heard)] if not twice else list(await asyncio.gather(self._take(self.db, key, heard), self._take(self.other, key, heard)))  # fmt: skip
        counted = [one for one in taken if one.status != "duplicate"]
        assert len(counted) == 1 and len({one.seq for one in taken}) == 1
        [status] = [one.status for one in counted]
        if command:
            assert status == "accepted"
        elif open_ is not None and open_["at"] == utterances.HANDED:
            assert (status, counted[0].run_id) == ("told", open_["run_id"])
        elif ready:
            assert (status, counted[0].run_id) == ("answered", open_["run_id"])
        else:
            assert status in ("accepted", "joined")
            assert status == "accepted" or counted[0].run_id not in self.working
        self.said[key].append(id)
        assert (await self._take(self.db, key, heard)).status == "duplicate"

    async def _take(self, connection: asyncpg.Connection, key: str, heard: Heard) -> utterances.Taken:
        async with connection.transaction():
            return await utterances.take(connection, W, self.talk(key), heard, 2.0, self.begin)

    async def claim(self, key: str) -> None:
        """A worker takes a run of a conversation that is its turn."""
        run = await self.db.fetchval(
            "UPDATE queue SET worker_id = gen_random_uuid(), walks = walks + 1 WHERE run_id = (SELECT q.run_id FROM queue q JOIN utterance u "
            "ON u.run_id = q.run_id JOIN conversation c ON c.id = u.conversation_id WHERE c.key = $1 AND q.held IS NULL AND q.worker_id IS NULL LIMIT 1) RETURNING run_id", key
        )  # fmt: skip
        if run is not None:
            self.working[run] = key

    async def work(self, key: str, what: str) -> None:
        """A run says or asks something, hands the conversation over, or ends."""
        run = next((run for run, own in self.working.items() if own == key), None)
        if run is None:
            return
        if what == "end":
            async with self.db.transaction():
                await cancelling.take_back(self.db, W, [run])
                await self.db.execute("UPDATE queue SET worker_id = NULL WHERE run_id = $1", run)
                assert await ending.finish(
                    self.db, W, run, "cancelled", {"kind": "cancelled", "message": "", "fix": ""}
                )
            del self.working[run]
            return
        path = f"{what}-{secrets.token_hex(3)}"
        change: Any = Say(key, f"said {path}", ["yes"]) if what == "send" else AskPerson(path, path, at="hand_over" if what == "hand" else "conversation", conversation=key)  # fmt: skip
        busy = await self.asked(key)
        async with self.db.transaction():
            await lock(self.db, {of_conversation(key)})
            made = prepared(change, About("talked", self.place.workflow, self.place.version, 1))
            given: Any = await made.apply(self.db, W, SimpleNamespace(run_id=run))
        assert what == "send" or ("fault" in given) == (busy is not None)
        if what == "send":  # of others nothing is said while a person has taken over
            held = busy is not None and busy["at"] == utterances.HANDED and busy["run_id"] != run
            assert (await self.db.fetchval("SELECT seq FROM utterance WHERE id = $1", UUID(given["id"])) < 0) == held

    async def answer(self, key: str) -> None:
        """Somebody at the tray answers, or hands back."""
        question = await self.db.fetchval(
            "SELECT q.id FROM question q JOIN conversation c ON c.id = q.conversation_id WHERE c.key = $1 AND q.state = 'open'", key
        )  # fmt: skip
        if question is not None:
            async with self.db.transaction():
                assert await tray.answer(self.db, W, [question], {"text": "ok"}, "ada", datetime.now(UTC))

    async def take_to_send(self) -> None:
        async with self.db.transaction():
            await utterances.let_go(self.db, W)
            claimed = await outbox.claim(self.db, W, uuids.uuid7(), 60.0, 10)
        for key in self.keys:
            handed = await self.asked(key)
            held = await self.db.fetch("SELECT u.run_id FROM utterance u JOIN conversation c ON c.id = u.conversation_id WHERE c.key = $1 AND u.seq < 0", key)  # fmt: skip
            assert not held or (handed is not None and handed["at"] == utterances.HANDED and any(one["run_id"] != handed["run_id"] for one in held))  # fmt: skip
        for one in claimed:
            if one.key not in self.keys:  # of another play
                async with self.db.transaction():
                    await outbox.refused(self.db, W, one, "over")
                continue
            assert not any(other.conversation == one.conversation for other in self.leaving)
            self.leaving.append(one)

    async def send(self, how: str, harmless: bool) -> None:
        """What is being sent reaches the channel or does not, and who sends it learns of it or dies."""
        if not self.leaving:
            return
        one = self.leaving.pop(0)
        told = self.told[one.key]
        async with self.db.transaction():
            assert await outbox.begun(self.db, W, one, dumps([["a", []], ["b", []]]), harmless, 60.0)
        for part in range(one.part, 2):
            if how in ("sent", "lost", "died behind"):
                told.pieces[one.id, part] += 1
                if part == 1:
                    told.order.append(one.seq)
            if how == "sent":
                async with self.db.transaction():
                    assert await outbox.left(self.db, W, one, part, part == 1, 60.0, self.now())
                continue
            async with self.db.transaction():
                if how == "refused":
                    await outbox.refused(self.db, W, one, "no")
                elif how == "later":
                    await outbox.later(self.db, W, one, 0.0, "busy")
                elif how == "lost":
                    await outbox.unknown(self.db, W, one, "lost")
                else:  # nobody is there any more to tell
                    await self.db.execute("UPDATE outbox SET leased_until = clock_timestamp() - interval '1s' WHERE lease = $1", one.lease)  # fmt: skip
                    await outbox.bury(self.db, W)
                    if harmless:
                        self.again |= {(one.id, 0), (one.id, 1)}
            return

    async def settle(self, key: str, arrived: bool) -> None:
        row = await self.db.fetchrow(
            "SELECT o.seq, o.part, u.id FROM outbox o JOIN utterance u USING (workspace_id, conversation_id, seq) JOIN conversation c ON c.id = o.conversation_id "
            "WHERE c.key = $1 AND o.state = 'unknown'", key
        )  # fmt: skip
        if row is not None:
            async with self.db.transaction():
                assert await outbox.settle(self.db, W, key, row["seq"], arrived)
            if not arrived:
                self.again.add((row["id"], row["part"]))

    async def rules(self) -> None:
        """What holds at every moment."""
        for key in self.keys:
            rows = await self.db.fetch("SELECT u.* FROM utterance u JOIN conversation c ON c.id = u.conversation_id WHERE c.key = $1 AND u.seq >= 0 ORDER BY seq", key)  # fmt: skip
            assert [row["seq"] for row in rows] == list(range(len(rows)))
            assert [row["key"] for row in rows if row["side"] == "them"] == self.said[key]
            waiting = await self.db.fetch("SELECT o.* FROM outbox o JOIN conversation c ON c.id = o.conversation_id WHERE c.key = $1 ORDER BY seq", key)  # fmt: skip
            states = {row["seq"]: row["state"] for row in rows if row["side"] == "us"}
            assert {row["seq"] for row in waiting} == {
                seq for seq, state in states.items() if state in ("waiting", "unknown")
            }
            if waiting:
                assert all(state in ("sent", "refused") for seq, state in states.items() if seq < waiting[0]["seq"])
                assert all(row["state"] == "waiting" for row in waiting[1:])  # nothing passes what is before it
            assert sum(row["state"] == "open" for row in await self.db.fetch("SELECT q.state FROM question q JOIN conversation c ON c.id = q.conversation_id WHERE c.key = $1", key)) <= 1  # fmt: skip
            told = self.told[key]
            assert all(count == 1 or piece in self.again for piece, count in told.pieces.items())
            assert told.order == sorted(told.order)


OPS = st.one_of(
    st.tuples(st.just("say"), st.integers(0, 1), st.booleans(), st.booleans(), st.booleans()),
    st.tuples(st.just("claim"), st.integers(0, 1)),
    st.tuples(st.just("work"), st.integers(0, 1), st.sampled_from(["send", "send", "ask", "hand", "end"])),
    st.tuples(st.just("answer"), st.integers(0, 1)),
    st.tuples(st.just("take_to_send")),
    st.tuples(st.just("send"), st.sampled_from(["sent", "sent", "sent", "refused", "later", "lost", "died before", "died behind"]), st.booleans()),
    st.tuples(st.just("settle"), st.integers(0, 1), st.booleans()),
)  # fmt: skip


def play(place: SimpleNamespace, ops: list[Any]) -> None:
    async def go() -> None:
        first, second = await asyncpg.connect(place.url), await asyncpg.connect(place.url)
        try:
            world = World(first, second, place)
            for name, *given in ops:
                if name in ("say", "claim", "work", "answer", "settle"):
                    given[0] = world.keys[given[0]]
                await getattr(world, name)(*given)
                await world.rules()
        finally:
            await first.close()
            await second.close()

    apart(go)


@given(st.lists(OPS, max_size=40))
@settings(max_examples=60)
def test_the_rules_hold_in_any_interleaving(place: SimpleNamespace, ops: list[Any]):
    play(place, ops)


@pytest.mark.long
@given(st.lists(OPS, min_size=20, max_size=120))
@settings(max_examples=150)
@pytest.mark.timeout(1_800)
def test_the_rules_hold_in_long_interleavings(place: SimpleNamespace, ops: list[Any]):
    play(place, ops)


def test_a_talk_with_all_of_it(place: SimpleNamespace):
    """One way through, so that nothing above is only ever left out."""
    say, claim, take = ("say", 0, False, False, True), ("claim", 0), ("take_to_send",)
    play(place, [
        say, say, claim, ("work", 0, "send"), take, ("send", "sent", False), ("work", 0, "ask"), ("say", 0, False, False, False), take, ("send", "died behind", False),
        ("settle", 0, True), ("settle", 0, False), take, ("send", "sent", False), ("say", 0, True, False, False), ("say", 0, False, False, False), ("work", 0, "hand"), say,
        ("say", 0, False, True, False), ("work", 0, "send"), take, ("send", "lost", False), ("work", 0, "send"), take, ("settle", 0, True), ("settle", 0, True), take, ("send", "refused", False),
        ("answer", 0), ("work", 0, "end"), claim, ("work", 0, "send"), take, ("send", "died before", True), take, ("send", "sent", True), ("work", 0, "end"),
    ])  # fmt: skip
