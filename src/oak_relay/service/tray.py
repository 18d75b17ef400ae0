"""`/api/v1/tray`: what waits for a person; `/api/v1/answers/<signed link>`: the same for who has the link."""

from datetime import UTC, datetime
from typing import Any, Literal
from uuid import UUID

from fastapi import APIRouter, Response
from pydantic import BaseModel, Field, StrictBool

from oak_relay.document import values
from oak_relay.document.schemas import validator
from oak_relay.runtime import links
from oak_relay.service import exact
from oak_relay.service.lists import Asks, Page, page
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.problems import Problem, missing
from oak_relay.service.receipts import Answered
from oak_relay.service.said import message_out
from oak_relay.service.shapes import In, MessageOut, QuestionOut
from oak_relay.store import people, talks, tray, utterances
from oak_relay.store.database import raw
from oak_relay.store.locks import lock, of_conversation

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["tray"])


_BEFORE = 100
"""Lines of a long conversation that are shown of it."""


class SayIn(In):
    text: str = Field(min_length=1, max_length=4_000, pattern=r"\S", description="What is said.")


class SaidBack(BaseModel):
    seq: int = Field(description="Its place in the conversation.")


class AnswerIn(In):
    choice: str | None = Field(None, description="One of the question's choices.")
    data: object = Field(None, description="What the question's form asks for.")
    text: str | None = Field(None, max_length=20_000, description="A remark.")
    alike: StrictBool = Field(False, description="Answer all open questions of this kind together.")


@router.get("/tray", response_model=Page[QuestionOut])
async def list_questions(
    parts: PartsDep,
    who: CallerDep,
    asked: Asks,
    state: Literal["open", "answered", "expired", "withdrawn"] | None = "open",
    run: UUID | None = None,
) -> Response:
    """Questions, the oldest first."""
    async with parts.database.connect() as connection:
        rows = await tray.listed(await raw(connection), parts.workspace, state, run, asked.id(), asked.limit + 1)
    return exact.answer(page(rows, asked, lambda row: row["id"], lambda row: _out(parts, row, who.may("answer"))))


@router.post("/tray/{question_id:uuid}/answer")
async def answer_question(question_id: UUID, given: AnswerIn, parts: PartsDep, who: CallerDep) -> Answered:
    """Answer a question; its run goes on. `answered` says how many were."""
    return Answered(answered=await _answer(parts, question_id, given, who.name))


@router.get("/tray/{question_id:uuid}/said", response_model=Page[MessageOut])
async def show_handed_over(question_id: UUID, parts: PartsDep, _: CallerDep, asked: Asks) -> Response:
    """What was said in a conversation that was handed over, in order: of a long one its last 100 lines, and what comes behind them."""
    async with parts.database.connect() as connection:
        driver = await raw(connection)
        row = await tray.one(driver, parts.workspace, question_id)
        if row is None or row["talk"] is None or values.loads(row["config"])["at"] != utterances.HANDED:
            raise missing("conversation that was handed over", str(question_id))
        after = asked.number() if asked.after else await utterances.last(driver, parts.workspace, row["talk"]) - _BEFORE
        found = await talks.said(driver, parts.workspace, row["talk"], after, asked.limit + 1)
    return exact.answer(page(found, asked, lambda m: m["seq"], message_out))


@router.post("/tray/{question_id:uuid}/say", status_code=201)
async def say_as_a_person(question_id: UUID, given: SayIn, parts: PartsDep, who: CallerDep) -> SaidBack:
    """Say something in a conversation that was handed over, to who talks there."""
    text = values.storable_text(given.text)
    async with parts.database.begin() as connection:
        direct = await raw(connection)
        row = await tray.one(direct, parts.workspace, question_id)
        if row is None:
            raise missing("question", str(question_id))
        if values.loads(row["config"])["at"] != utterances.HANDED or row["talk"] is None:
            raise Problem(409, "this is no conversation that was handed over", fix="answer the question")
        await lock(direct, {of_conversation(row["talk"])})
        now = await tray.one(direct, parts.workspace, question_id)
        if now is None or now["state"] != "open":
            raise Problem(409, "it was handed back already", fix="look at the tray again")
        said = await utterances.tell(direct, parts.workspace, row["talk"], text, [], row["run_id"], by=who.name)
        if said is None:
            raise Problem(409, "this conversation was forgotten", fix="hand it back")
    parts.hints.send("outbox")
    parts.hints.send(f"talk:{utterances.mark(row['talk'])}")
    return SaidBack(seq=said.seq)


@router.get("/answers/{link}", response_model=QuestionOut)
async def show_by_link(link: str, parts: PartsDep) -> Response:
    """The question of a signed link; no sign-in is needed."""
    question_id = _of_link(parts, link)
    async with parts.database.connect() as connection:
        row = await tray.one(await raw(connection), parts.workspace, question_id)
    if row is None or row["state"] != "open":
        raise _closed()
    shown = _out(parts, row, True)
    return exact.answer(shown.model_copy(update={"run_id": None, "input": None, "subject": None, "conversation": None}))


@router.post("/answers/{link}")
async def answer_by_link(link: str, given: AnswerIn, parts: PartsDep) -> Answered:
    """Answer by a signed link."""
    if given.alike:
        raise Problem(403, "a link answers its own question", fix="leave out alike")
    question_id = _of_link(parts, link)
    async with parts.database.connect() as connection:
        row = await tray.one(await raw(connection), parts.workspace, question_id)
    if row is None or row["state"] != "open":
        raise _closed()
    return Answered(answered=await _answer(parts, question_id, given, "who has the link"))


def _of_link(parts: Parts, link: str) -> UUID:
    """The question of a link. Raises `Problem` for one that is not ours, or over."""
    try:
        return links.question_of(parts.registry.vault, link)
    except LookupError:
        raise missing("question", link) from None
    except links.NoLink as no:
        if no.over:
            raise Problem(410, str(no), fix="ask for a new one") from None
        raise Problem(403, str(no), fix="ask for the link again") from None


def _closed() -> Problem:
    return Problem(410, "this question is closed", "it was answered, or is not asked any more", "close this page")


async def _answer(parts: Parts, question_id: UUID, given: AnswerIn, by: str) -> int:
    async with parts.database.begin() as connection:
        direct = await raw(connection)
        await people.members(connection, parts.workspace)  # opens the transaction that the driver's own statements join
        row = await tray.one(direct, parts.workspace, question_id)
        if row is None:
            raise missing("question", str(question_id))
        config = values.loads(row["config"])
        _check(config, given)
        if row["state"] != "open":
            raise Problem(409, f"this question is {row['state']} already", row["answered_by"] or "", "nothing to do")
        ids = await tray.alike(direct, parts.workspace, row["alike"]) if given.alike and row["alike"] else [question_id]
        said = given.model_dump(exclude={"alike"})
        runs = await tray.answer(direct, parts.workspace, ids, said, by, datetime.now(UTC))
        if not runs:
            raise Problem(409, "somebody else was quicker", fix="look at the tray again")
        await people.note(connection, parts.workspace, by, "answer", f"{row['workflow']} {row['path']}")
    parts.hints.send("queue")
    parts.hints.send("tray")
    for run_id in runs:
        parts.hints.send(f"wake:{run_id}")
    return len(runs)


def _check(config: dict[str, Any], given: AnswerIn) -> None:
    choices, form = config["choices"], config["form"]
    if choices is not None and given.choice not in choices:
        raise Problem(422, "this is none of the choices", f"{given.choice!r}", f"choose one of {', '.join(choices)}")
    if choices is None and given.choice is not None:
        raise Problem(422, "this question has no choices", fix="give data")
    if form is not None and not (choices and given.data is None):
        wrong = validator(form).fault(given.data)
        if wrong:
            raise Problem(422, "the data does not fit the form", wrong, "correct it")


def _out(parts: Parts, row: Any, linked: bool) -> QuestionOut:
    """A question; with `linked` also the link by which others may answer it."""
    config = values.loads(row["config"])
    link = None
    if config["at"] == "link" and linked and row["state"] == "open":
        link = links.link(parts.registry.vault, parts.settings, row["id"])
    return QuestionOut(
        id=row["id"],
        run_id=row["run_id"],
        workflow=row["workflow"],
        path=row["path"],
        subject=row["subject"],
        text=row["text"],
        choices=config["choices"],
        form=config["form"],
        input=config.get("input"),
        state=row["state"],
        alike=row["alike_open"] if row["alike"] else 1,
        link=link,
        conversation=row["talk"],
        handed_over=config["at"] == utterances.HANDED,
        created_at=row["created_at"],
        expires_at=row["expires_at"],
        answered_at=row["answered_at"],
        answered_by=row["answered_by"],
        answer=values.loads(row["answer"]) if row["answer"] else None,
    )
