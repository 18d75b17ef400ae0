"""`/api/v1/credentials`: stored secrets; they go in and never come out."""

from datetime import UTC, datetime
from typing import Any

import uuid_utils.compat as uuids
from fastapi import APIRouter, Response
from pydantic import ValidationError
from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncConnection

from oak_relay.actions.http import send
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine.effects import READY
from oak_relay.service.lists import Asks, Page, cut
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.preconditions import Preconditions, etag
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import CredentialOut, ReadyOut, TestOut
from oak_relay.store import people, published, runs, tags
from oak_relay.store.database import raw
from oak_relay.store.tables import credential
from oak_relay.vault import kinds
from oak_relay.vault.kinds import CredentialKinds

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/credentials", tags=["credentials"])


@router.get("")
async def list_credentials(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[CredentialOut]:
    """Stored credentials without their secrets, by name."""
    async with parts.database.connect() as connection:
        rows = (await connection.execute(select(credential).order_by(credential.c.name.collate("C")))).all()
    return cut(rows, asked, lambda row: row.name, lambda row: _out(row, parts.registry.catalogue.credentials))


@router.put("/{name}")
async def put_credential(
    name: str, given: dict[str, object], parts: PartsDep, who: CallerDep, asked: Preconditions, response: Response
) -> CredentialOut:
    """Store a credential: `kind` (bearer, header, basic, signing), `secret`, and what the kind needs. Of one that is there
    already the secret may be left out, and stays; but who would send it to further places must give it again."""
    _named(name)
    kept = None if given.get("secret") else await _kept(parts, name, given)
    try:
        stored = parts.registry.catalogue.credentials.read(
            given if kept is None else {**given, "secret": kept.reveal()}
        )
    except kinds.UnknownKind as unknown:
        raise Problem(422, "the credential does not fit", str(unknown), "correct the kind") from None
    except ValidationError as error:
        first = error.errors(include_input=False, include_context=False, include_url=False)[0]
        words = parts.registry.catalogue.credentials
        where = (
            ".".join((words.word(given.get("kind"), str(first["loc"][0])), *map(str, first["loc"][1:])))
            if first["loc"]
            else ""
        )
        raise Problem(
            422,
            "the credential does not fit",
            (f"{where}: " if where else "") + first["msg"].removeprefix("Value error, "),
            "correct the value",
        ) from None
    if kept is not None and not set(stored.hosts) <= set(kept.hosts):
        further = ", ".join(sorted(set(stored.hosts) - set(kept.hosts)))
        raise Problem(
            422,
            "the secret must be given again",
            f"it would be sent to {further} too",
            "give the secret, or leave its hosts",
        )
    async with parts.database.begin() as connection:
        asked.check(
            await tags.held(connection, parts.workspace, credential, name, "updated_at"), f"the credential {name}"
        )
        await parts.registry.vault.put(connection, name, stored)
        await people.note(connection, parts.workspace, who.name, "credential", name)
        await _say_ready(connection, parts.workspace, name)
        row = (await connection.execute(select(credential).where(credential.c.name == name))).one()
    parts.config_changed()
    parts.hints.send("published")
    response.headers.update(etag(tags.tag_of(row.updated_at)))
    return _out(row, parts.registry.catalogue.credentials)


async def _kept(parts: Parts, name: str, given: dict[str, object]) -> kinds.Credential | None:
    """The credential of that name and kind whose secret stays as it is; None where there is none."""
    parts.registry.forget()
    stored = (await parts.registry.fresh()).credentials.get(name)
    return stored if stored is not None and stored.kind == given.get("kind") else None


async def _say_ready(connection: AsyncConnection, workspace: int, name: str) -> None:
    """Tell the runs that wait for a credential, or for credit of its account, that it is there."""
    event_id, kind = uuids.uuid7(), f"{READY}.{name}"
    event = published.envelope(str(event_id), kind, "/credentials", {"credential": name}, name)
    text = values.dumps(event)
    await published.publish(await raw(connection), workspace, event_id, kind, "/credentials", text, 0, None)


@router.post("/{name}/ready", status_code=202)
async def say_ready(name: str, parts: PartsDep, who: CallerDep) -> ReadyOut:
    """Its account has credit again: runs that wait for that go on. Gives how many wait."""
    _named(name)
    async with parts.database.begin() as connection:
        waiting = await runs.waiting_for(connection, parts.workspace, f"{READY}.{name}")
        await _say_ready(connection, parts.workspace, name)
        await people.note(connection, parts.workspace, who.name, "credential ready", name)
    parts.hints.send("published")
    return ReadyOut(waiting=waiting)


@router.delete("/{name}", status_code=204)
async def remove_credential(name: str, parts: PartsDep, who: CallerDep, asked: Preconditions) -> None:
    """Forget a credential: steps that name it fail."""
    async with parts.database.begin() as connection:
        tag = await tags.held(connection, parts.workspace, credential, name, "updated_at")
        if tag is not None:
            asked.check(tag, f"the credential {name}")
        if not await parts.registry.vault.remove(connection, name):
            raise missing("credential", name)
        await people.note(connection, parts.workspace, who.name, "remove credential", name)
    parts.config_changed()


@router.post("/{name}/test")
async def test_credential(name: str, parts: PartsDep, _: CallerDep) -> TestOut:
    """Use it once, harmlessly, and show the request and the reply."""
    parts.registry.forget()
    stored = (await parts.registry.fresh()).credentials.get(name)
    if stored is None:
        raise missing("credential", name)
    outcome = await _try(parts, name, stored)
    if outcome.tried and not outcome.ok:
        async with parts.database.connect() as connection:
            worked = (
                await connection.execute(select(credential.c.last_worked_at).where(credential.c.name == name))
            ).scalar()
        if worked is not None:
            outcome.sentence = f"{outcome.sentence.rstrip('.')}. But a call with it went well at {worked.astimezone(UTC):%H:%M on %d %B} (UTC)."
            outcome.fix = "it may be the address to test it on that is wrong: change test_url"
    text = parts.registry.now.blanker.json(outcome.model_dump_json())
    async with parts.database.begin() as connection:
        await connection.execute(update(credential).where(credential.c.name == name).values(last_test=text))
        if outcome.ok:
            await _say_ready(connection, parts.workspace, name)
    parts.hints.send("published")
    return TestOut.model_validate_json(text)


async def _try(parts: Parts, name: str, stored: kinds.Credential) -> TestOut:
    now = datetime.now(UTC)
    try:
        tried = stored.tried()
    except kinds.Refused as refused:
        return TestOut(ok=False, sentence=str(refused), fix="store another secret", at=now)
    if tried is not None:
        return TestOut(ok=True, sentence=tried, at=now)
    if not stored.test_url:
        return TestOut(
            ok=False,
            tried=False,
            sentence="It has no address to test it on, so it was not tried.",
            fix="give it a test_url; its secret need not be given again",
            at=now,
        )
    if not stored.may_reach(stored.test_url):
        return TestOut(
            ok=False,
            sentence="Its test_url is on a host it may not be sent to.",
            fix="add the host to its hosts",
            at=now,
        )
    at = parts.at(15)
    try:
        at.may_reach(stored.test_url)
        request = at.http.build_request(
            "GET", stored.test_url, headers={"User-Agent": "oak-relay", **stored.headers()}, timeout=15
        )
        exchange = await send(at, request, 100_000, name)
    except StepFailed as failed:
        return TestOut(
            ok=False, sentence=failed.message, fix=failed.fix, exchange=failed.detail.get("exchange"), at=now
        )
    if 200 <= exchange.status < 300:
        return TestOut(
            ok=True,
            sentence=f"It works: {exchange.what} answered {exchange.status}.",
            exchange=exchange.detail["exchange"],
            at=now,
        )
    unwanted = exchange.failure()
    return TestOut(ok=False, sentence=unwanted.message, fix=unwanted.fix, exchange=exchange.detail["exchange"], at=now)


def _out(row: Any, kinds: CredentialKinds) -> CredentialOut:
    return CredentialOut(
        name=row.name,
        kind=row.kind,
        sent=kinds.sent(row.kind),
        config=values.loads(row.config),
        last_used_at=row.last_used_at,
        last_worked_at=row.last_worked_at,
        created_at=row.created_at,
        last_test=values.loads(row.last_test) if row.last_test else None,
        updated_at=row.updated_at,
        tag=tags.tag_of(row.updated_at),
    )


def _named(name: str) -> None:
    if not name.replace("-", "").replace("_", "").isalnum() or len(name) > 60:
        raise Problem(422, f"{name!r} is no name for a credential", fix="use letters, digits, - and _")
