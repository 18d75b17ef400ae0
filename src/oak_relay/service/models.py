"""`/api/v1/models`: aliases for models, and whether they answer."""

from contextlib import suppress
from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter, Response
from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert

from oak_relay.capabilities.alias import Alias
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.models.chat import Ask, Reply, complete, nearest, offered
from oak_relay.service.lists import Asks, Page, cut
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.preconditions import Preconditions, etag
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import AliasOut, TestOut
from oak_relay.store import people, tags
from oak_relay.store.tables import model_alias

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/models", tags=["models"])


@router.get("")
async def list_models(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[AliasOut]:
    """Model aliases by name."""
    async with parts.database.connect() as connection:
        rows = (await connection.execute(select(model_alias).order_by(model_alias.c.name.collate("C")))).all()
    return cut(rows, asked, lambda row: row.name, _out)


@router.put("/{name}")
async def put_model(
    name: str,
    given: Alias,
    parts: PartsDep,
    who: CallerDep,
    asked: Preconditions,
    response: Response,
    unseen: bool = False,
) -> AliasOut:
    """Store an alias, new or in place of the one of that name; every workflow follows. A model that its server does not
    offer is refused with the nearest names, unless `unseen`; a server that does not answer is let through."""
    if not name.replace("-", "").replace("_", "").isalnum() or len(name) > 60:
        raise Problem(422, f"{name!r} is no name for an alias", fix="use letters, digits, - and _")
    if given.credential and given.credential not in (await parts.registry.fresh()).credentials:
        parts.registry.forget()
        if given.credential not in (await parts.registry.fresh()).credentials:
            raise missing("credential", given.credential, "add the credential first")
    for other in given.fallbacks:
        if other != name and other not in (await parts.registry.fresh()).aliases:
            raise missing("model alias", other, "add it first, or leave it out of the fallbacks")
    if not unseen:
        names: list[str] = []
        with suppress(StepFailed):
            names = await offered(given, parts.at(10), name)
        if names and given.model not in names:
            raise Problem(422, nearest(given.model, names), fix="choose one that is offered")
    known = (await parts.registry.fresh()).aliases.get(name)
    if (
        known is not None
        and "can" not in given.model_fields_set
        and (known.url, known.model) == (given.url, given.model)
    ):
        given = given.model_copy(update={"can": known.can})
    config = {"config": values.dumps(given.model_dump(mode="json"))}
    async with parts.database.begin() as connection:
        asked.check(
            await tags.held(connection, parts.workspace, model_alias, name, "updated_at"), f"the model alias {name}"
        )
        statement = insert(model_alias).values(workspace_id=parts.workspace, name=name, **config)
        changed = {**config, "updated_at": func.clock_timestamp()}
        await connection.execute(statement.on_conflict_do_update(index_elements=["workspace_id", "name"], set_=changed))
        await people.note(connection, parts.workspace, who.name, "model", name)
        row = (await connection.execute(select(model_alias).where(model_alias.c.name == name))).one()
    parts.config_changed()
    response.headers.update(etag(tags.tag_of(row.updated_at)))
    return _out(row)


@router.delete("/{name}", status_code=204)
async def remove_model(name: str, parts: PartsDep, who: CallerDep, asked: Preconditions) -> None:
    """Forget an alias: steps that name it fail."""
    async with parts.database.begin() as connection:
        tag = await tags.held(connection, parts.workspace, model_alias, name, "updated_at")
        if tag is not None:
            asked.check(tag, f"the model alias {name}")
        done = await connection.execute(
            delete(model_alias).where(model_alias.c.workspace_id == parts.workspace, model_alias.c.name == name)
        )
        if not done.rowcount:
            raise missing("model alias", name)
        await people.note(connection, parts.workspace, who.name, "remove model", name)
    parts.config_changed()


@router.post("/{name}/test")
async def test_model(name: str, parts: PartsDep, _: CallerDep) -> TestOut:
    """Ask which models the server offers, then ask the chosen one something trivial."""
    parts.registry.forget()
    alias = (await parts.registry.fresh()).aliases.get(name)
    if alias is None:
        raise missing("model alias", name)
    now, at, names = datetime.now(UTC), parts.at(30), list[str]()
    try:
        names = await offered(alias, at, name)
        if names and alias.model not in names:
            return TestOut(
                ok=False, sentence=nearest(alias.model, names), fix="choose one that is offered", offered=names, at=now
            )
        reply = await complete(name, alias, Ask([{"role": "user", "content": "Say hello in one short sentence."}]), at)
    except StepFailed as failed:
        exchange = failed.detail.get("exchange")
        found = TestOut(ok=False, sentence=failed.message, fix=failed.fix, exchange=exchange, offered=names, at=now)
    else:
        found = answered(alias, reply, names, now)
    return found


def answered(alias: Alias, reply: Reply, names: list[str], now: datetime) -> TestOut:
    """What a test tells of a model that answered."""
    money = (
        "price unknown"
        if reply.usage.money is None
        else f"money {reply.usage.money:.6f}"
        if reply.usage.money
        else "free"
    )
    return TestOut(
        ok=True,
        sentence=f"{alias.model} answers ({reply.usage.tokens} tokens, {money}).",
        exchange=reply.detail.get("exchange"),
        messages=reply.detail.get("messages"),
        offered=names,
        reply=reply.text,
        at=now,
    )


def _out(row: Any) -> AliasOut:
    return AliasOut(
        name=row.name, config=values.loads(row.config), updated_at=row.updated_at, tag=tags.tag_of(row.updated_at)
    )
