"""`/api/v1/servers`: tool servers and what they offer; `/api/v1/conversations`: what was said; messages of a turn."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any
from uuid import UUID

from fastapi import APIRouter, Response
from pydantic import Field, StrictBool
from sqlalchemy import select

from oak_relay.actions.tool_server import ToolServer
from oak_relay.capabilities.given import ServerTool
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine.paths import turn_at
from oak_relay.engine.transcript import sent
from oak_relay.models import files
from oak_relay.service import exact
from oak_relay.service.lists import Asks, Page, cursor, cut, page
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.preconditions import Preconditions, etag
from oak_relay.service.problems import Problem, missing
from oak_relay.service.said import message_out
from oak_relay.service.shapes import ConversationOut, In, MessageOut, ServerOut, ServerTestOut, ServerToolOut
from oak_relay.store import outbox, people, runs, tags, talks, utterances
from oak_relay.store.database import raw
from oak_relay.store.tables import tool_server

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["agents"])


@router.get("/servers")
async def list_servers(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[ServerOut]:
    """Tool servers by name."""
    async with parts.database.connect() as connection:
        rows = (await connection.execute(select(tool_server).order_by(tool_server.c.name.collate("C")))).all()
    return cut(rows, asked, lambda row: row.name, _server)


@router.put("/servers/{name}")
async def put_server(
    name: str, given: ToolServer, parts: PartsDep, who: CallerDep, asked: Preconditions, response: Response
) -> ServerOut:
    """Store a tool server (Model Context Protocol), new or in place of the one of that name."""
    if not name.replace("-", "").replace("_", "").isalnum() or len(name) > 60:
        raise Problem(422, f"{name!r} is no name for a tool server", fix="use letters, digits, - and _")
    if given.command is not None and not parts.settings.programs:
        raise Problem(
            403,
            "this service starts no programs",
            "a tool server with a command runs one",
            "set OAK_RELAY_PROGRAMS=true",
        )
    config = given.model_dump(mode="json", exclude={"environment"})
    async with parts.database.begin() as connection:
        asked.check(
            await tags.held(connection, parts.workspace, tool_server, name, "updated_at"), f"the tool server {name}"
        )
        await parts.registry.vault.put_server(connection, name, config, given.environment)
        await people.note(connection, parts.workspace, who.name, "tool server", name)
        row = (await connection.execute(select(tool_server).where(tool_server.c.name == name))).one()
    parts.config_changed()
    response.headers.update(etag(tags.tag_of(row.updated_at)))
    return _server(row)


def _server(row: Any) -> ServerOut:
    return ServerOut(
        name=row.name, config=values.loads(row.config), updated_at=row.updated_at, tag=tags.tag_of(row.updated_at)
    )


@router.delete("/servers/{name}", status_code=204)
async def remove_server(name: str, parts: PartsDep, who: CallerDep, asked: Preconditions) -> None:
    """Forget a tool server: agents that name it fail."""
    async with parts.database.begin() as connection:
        tag = await tags.held(connection, parts.workspace, tool_server, name, "updated_at")
        if tag is not None:
            asked.check(tag, f"the tool server {name}")
        if not await parts.registry.vault.remove_server(connection, name):
            raise missing("tool server", name)
        await people.note(connection, parts.workspace, who.name, "remove tool server", name)
    parts.config_changed()


@router.post("/servers/{name}/test")
async def test_server(name: str, parts: PartsDep, _: CallerDep) -> ServerTestOut:
    """Connect, and list what it offers."""
    parts.registry.forget()
    if name not in (await parts.registry.fresh()).servers:
        raise missing("tool server", name)
    try:
        found = await parts.at(20).server_tools(name)
    except StepFailed as failed:
        return ServerTestOut(ok=False, sentence=failed.message, fix=failed.fix, tools=[])
    count = f"{len(found)} tool{'s' if len(found) != 1 else ''}"
    return ServerTestOut(
        ok=True, sentence=f"{name} answers and offers {count}.", fix="", tools=[_tool(one) for one in found]
    )


def _tool(tool: ServerTool) -> ServerToolOut:
    return ServerToolOut(
        name=tool.name,
        title=tool.title,
        description=tool.description,
        input=dict(tool.schema),
        safe=tool.safe,
        wrong=tool.wrong,
    )


@router.get("/conversations", response_model=Page[ConversationOut])
async def list_conversations(parts: PartsDep, _: CallerDep, asked: Asks) -> Response:
    """Conversations, the latest first."""
    behind = asked.key(datetime, str)
    async with parts.database.connect() as connection:
        found = await talks.listed(await raw(connection), parts.workspace, asked.limit + 1, behind)
    return exact.answer(page(found, asked, lambda c: cursor(c["updated_at"], c["key"]), _conversation))


def _conversation(row: Mapping[str, Any]) -> ConversationOut:
    return ConversationOut(
        key=row["key"],
        messages=row["messages"],
        channel=row["channel"] or "",
        person=values.loads(row["person"])["name"] if row["person"] else "",
        summary=row["summary"] or "",
        facts=values.loads(row["facts"]),
        question=row["question"],
        handed_over=row["question_at"] == utterances.HANDED,
        created_at=row["created_at"],
        updated_at=row["updated_at"],
    )


@router.get("/conversations/{key:path}", response_model=Page[MessageOut])
async def show_conversation(key: str, parts: PartsDep, _: CallerDep, asked: Asks) -> Response:
    """What was said, in order: both sides and the use of tools."""
    async with parts.database.connect() as connection:
        found = await talks.said(await raw(connection), parts.workspace, key, asked.number(), asked.limit + 1)
    if not found and asked.after is None:
        raise missing("conversation", key)
    return exact.answer(page(found, asked, lambda m: m["seq"], message_out))


class SettleIn(In):
    key: str = Field(max_length=1_000, description="The conversation.")
    seq: int = Field(ge=0, le=2**31 - 1, description="The place of what is unknown.")
    arrived: StrictBool = Field(description="Whether it is there on the other side; what is not is sent again.")


@router.post("/conversations/settle", status_code=204)
async def settle_message(given: SettleIn, parts: PartsDep, who: CallerDep) -> None:
    """Say of a message whose sending was cut off whether it arrived; what waits behind it goes on."""
    async with parts.database.begin() as connection:
        driver = await raw(connection)
        if not await outbox.settle(driver, parts.workspace, values.storable_text(given.key), given.seq, given.arrived):
            raise Problem(409, "nothing is unknown there", fix="look at the conversation again")
        word = "arrived" if given.arrived else "send again"
        await people.note(connection, parts.workspace, who.name, f"message {word}", f"{given.key} {given.seq}")
    parts.hints.send("outbox")


class JudgeIn(In):
    key: str = Field(max_length=1_000, description="The conversation.")
    seq: int = Field(ge=0, le=2**31 - 1, description="The place of the answer.")
    good: StrictBool | None = Field(description="Whether it was good; null takes that back.")


@router.post("/conversations/verdicts", status_code=204)
async def judge_message(given: JudgeIn, parts: PartsDep, who: CallerDep) -> None:
    """Say of an answer whether it was good, in the place of who talks. It counts for the version that gave it."""
    key = values.storable_text(given.key)
    async with parts.database.begin() as connection:
        if not await utterances.judge(await raw(connection), parts.workspace, key, given.seq, given.good):
            raise Problem(409, "there is no such answer", fix="name the seq of something that a run said")
        word = "no verdict" if given.good is None else "good" if given.good else "bad"
        await people.note(connection, parts.workspace, who.name, f"answer found {word}", f"{given.key} {given.seq}")


@router.delete("/conversations/{key:path}", status_code=204)
async def forget_conversation(key: str, parts: PartsDep, who: CallerDep) -> None:
    """Forget a conversation: all that was said in it is removed."""
    async with parts.database.begin() as connection:
        if not await talks.forget(await raw(connection), parts.workspace, key):
            raise missing("conversation", key)
        await people.note(connection, parts.workspace, who.name, "forget conversation", key)


@router.get("/runs/{run_id:uuid}/messages", response_class=Response)
async def messages_sent(run_id: UUID, parts: PartsDep, _: CallerDep, turn: str) -> Response:
    """The messages of a turn of an agent (`findings/turn[2]`) as they were sent, and the tools offered with them."""
    place = turn_at(turn)
    owner = place[0] if place else turn
    async with parts.database.connect() as connection:
        if await runs.one(connection, parts.workspace, run_id) is None:
            raise missing("run", str(run_id))
        rows = await runs.whole_entries(connection, parts.workspace, run_id)
    bodies: dict[str, object] = {}
    for row in rows:
        if row.path.startswith(f"{owner}/") and row.kind in ("ended", "closed") and row.body is not None:
            bodies[row.path] = row.body
    found = sent(bodies, owner, turn)
    if found is None:
        raise missing("turn of an agent", turn, "name one such as findings/turn[2]")
    found["messages"] = files.shown(found["messages"])
    return Response(values.dumps(found), media_type="application/json")
