"""`/api/v1/credentials`: stored secrets; they go in and never come out."""

import asyncio
from datetime import UTC, datetime
from typing import Annotated, Any

from fastapi import APIRouter, Query, Response
from pydantic import ValidationError
from sqlalchemy import select, update

from oak_relay.document.errors import StepFailed
from oak_relay.engine.effects import READY
from oak_relay.service import consenting, credential_views, used
from oak_relay.service.credential_views import stored_as
from oak_relay.service.lists import Asks, Page, cut
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.preconditions import Preconditions, etag
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import CredentialOut, CredentialUseOut, ReadyOut, TestOut
from oak_relay.store import consents, people, runs, tags
from oak_relay.store.tables import credential
from oak_relay.vault import kinds
from oak_relay.vault.oauth import OAuth

_LONGEST = 40.0
"""Seconds that trying a credential may take."""
router = APIRouter(route_class=ExactRoute, prefix="/api/v1/credentials", tags=["credentials"])


@router.get("")
async def list_credentials(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[CredentialOut]:
    """Stored credentials without their secrets, by name."""
    async with parts.database.connect() as connection:
        mine = select(credential).where(credential.c.workspace_id == parts.workspace)
        rows = (await connection.execute(mine.order_by(credential.c.name.collate("C")))).all()
    known, kinds = await parts.registry.fresh(), parts.registry.catalogue.credentials
    return cut(rows, asked, lambda row: row.name, lambda row: credential_views.out(row, kinds, known))


@router.put("/{name}")
async def put_credential(
    name: str, given: dict[str, object], parts: PartsDep, who: CallerDep, asked: Preconditions, response: Response
) -> CredentialOut:
    """Store a credential: its `kind`, its secrets, and what else the kind has (`GET /credential-kinds`). Of one that is there
    already secrets may be left out, and stay; but who would send them to further places must give them again."""
    _named(name)
    kept = await _kept(parts, name, given)
    stored = _read(parts, {**given, **_filled(given, kept)} if kept is not None else given)
    further = sorted(set(stored.told_to) - set(kept.told_to)) if kept is not None else []
    if kept is not None and further and not _given_again(given, kept):
        raise Problem(
            422,
            "the secret must be given again",
            f"it would be sent to {', '.join(further)} too",
            "give the secret, or leave where it is sent",
        )
    async with parts.database.begin() as connection:
        asked.check(
            await tags.held(connection, parts.workspace, credential, name, "updated_at"), f"the credential {name}"
        )
        await parts.registry.vault.put(connection, name, stored, _same_app(kept, stored) and not further)
        await people.note(connection, parts.workspace, who.name, "credential", name)
        await credential_views.say_ready(connection, parts.workspace, name)
        row = (await connection.execute(stored_as(parts, name))).one()
    parts.config_changed()
    parts.hints.send("published")
    response.headers.update(etag(tags.tag_of(row.updated_at)))
    return await credential_views.show_one(parts, name)


def _read(parts: Parts, given: dict[str, object]) -> kinds.Credential:
    """A credential as it is given. Raises `Problem`."""
    known = parts.registry.catalogue.credentials
    try:
        return known.read(given)
    except kinds.UnknownKind as unknown:
        raise Problem(422, "the credential does not fit", str(unknown), "correct the kind") from None
    except ValidationError as error:
        first = error.errors(include_input=False, include_context=False, include_url=False)[0]
        where = (
            ".".join((known.word(given.get("kind"), str(first["loc"][0])), *map(str, first["loc"][1:])))
            if first["loc"]
            else ""
        )
        raise Problem(
            422,
            "the credential does not fit",
            (f"{where}: " if where else "") + first["msg"].removeprefix("Value error, "),
            "correct the value",
        ) from None


async def _kept(parts: Parts, name: str, given: dict[str, object]) -> kinds.Credential | None:
    """The credential of that name and kind, whose secrets stay as they are where none are given; None where there is none."""
    parts.registry.forget()
    stored = (await parts.registry.fresh()).credentials.get(name)
    return stored if stored is not None and stored.kind == given.get("kind") else None


def _filled(given: dict[str, object], kept: kinds.Credential) -> dict[str, object]:
    """Secrets that stay as they are: what is left out, is empty, or is a name in a mapping without its secret; null is none."""
    filled: dict[str, object] = {}
    for name, secret in kept.clear().items():
        new = given.get(name)
        if isinstance(secret, dict) and isinstance(new, dict):
            filled[name] = {key: one or secret.get(key, "") for key, one in new.items()}
        elif not new and (name not in given or new == "") and name not in kept.optional(given):
            filled[name] = secret
    return filled


def _given_again(given: dict[str, object], kept: kinds.Credential) -> bool:
    """Whether all secrets were given, none kept; there is nothing to give where a kind has none."""
    return not any(
        not given.get(name) or (isinstance(secret, dict) and not all(_mapping(given[name]).values()))
        for name, secret in kept.clear().items()
    )


def _mapping(given: object) -> dict[str, object]:
    return given if isinstance(given, dict) else {}


def _same_app(kept: kinds.Credential | None, stored: kinds.Credential) -> bool:
    """Whether what was consented to is the same app's still, and its tokens go where they went."""
    return isinstance(kept, OAuth) and isinstance(stored, OAuth) and kept.app == stored.app


@router.post("/{name}/ready", status_code=202)
async def say_ready(name: str, parts: PartsDep, who: CallerDep) -> ReadyOut:
    """Its account has credit again: runs that wait for that go on. Gives how many wait."""
    _named(name)
    async with parts.database.begin() as connection:
        waiting = await runs.waiting_for(connection, parts.workspace, f"{READY}.{name}")
        await credential_views.say_ready(connection, parts.workspace, name)
        await people.note(connection, parts.workspace, who.name, "credential ready", name)
    parts.hints.send("published")
    return ReadyOut(waiting=waiting)


@router.get("/{name}/use")
async def show_use(name: str, parts: PartsDep, _: CallerDep) -> CredentialUseOut:
    """What uses a credential: workflows and agents, models, tool servers, mailboxes, and the runs that wait for it."""
    if name not in (await parts.registry.fresh()).credentials and not await _there(parts, name):
        raise missing("credential", name)
    async with parts.database.connect() as connection:
        return await used.of(connection, parts, name)


async def free_name(parts: Parts, wished: str) -> str:
    """A name for a credential that none has yet."""
    parts.registry.forget()
    known = (await parts.registry.fresh()).credentials
    return next(name for name in (wished, *(f"{wished}-{n}" for n in range(2, 10_000))) if name not in known)


async def _there(parts: Parts, name: str) -> bool:
    async with parts.database.connect() as connection:
        return (await connection.execute(stored_as(parts, name))).first() is not None


@router.delete("/{name}", status_code=204)
async def remove_credential(
    name: str,
    parts: PartsDep,
    who: CallerDep,
    asked: Preconditions,
    anyway: Annotated[bool, Query(description="Although something uses it.")] = False,
) -> None:
    """Forget a credential: what names it waits for another of that name. Refused while something uses it, unless that is meant."""
    async with parts.database.begin() as connection:
        tag = await tags.held(connection, parts.workspace, credential, name, "updated_at")
        if tag is not None:
            asked.check(tag, f"the credential {name}")
            uses = await used.of(connection, parts, name)
            if uses.would_stop and not anyway:
                raise Problem(
                    409, "it is in use", uses.sentence, "say that it is meant (anyway), or let go of it first"
                )
        app = (await parts.registry.fresh()).credentials.get(name)
        gone = await consents.one(connection, parts.workspace, name, parts.registry.vault.keyring)
        if not await parts.registry.vault.remove(connection, name):
            raise missing("credential", name)
        await people.note(connection, parts.workspace, who.name, "remove credential", name)
    parts.config_changed()
    if gone is not None and isinstance(app, OAuth):
        await consenting.taken_back(parts, app, gone)


@router.post("/{name}/test")
async def test_credential(name: str, parts: PartsDep, _: CallerDep) -> TestOut:
    """Use it once, harmlessly, and show the request and the reply; whose it is, where that is told."""
    parts.registry.forget()
    stored = (await parts.registry.fresh()).credentials.get(name)
    if stored is None:
        raise missing("credential", name)
    outcome = await _try(parts, name, stored)
    consent = (await parts.registry.fresh()).consents.get(name)
    if outcome.tried and not outcome.ok and (consent is None or consent.state == "ready"):
        async with parts.database.connect() as connection:
            worked = (
                await connection.execute(stored_as(parts, name).with_only_columns(credential.c.last_worked_at))
            ).scalar()
        if worked is not None:
            outcome.sentence = f"{outcome.sentence.rstrip('.')}. But a call with it went well at {worked.astimezone(UTC):%H:%M on %d %B} (UTC)."
            outcome.fix = "it may be the address to test it on that is wrong: change test_url"
    await parts.registry.fresh()
    text = parts.registry.now.blanker.json(outcome.model_dump_json())
    async with parts.database.begin() as connection:
        mine = (credential.c.workspace_id == parts.workspace) & (credential.c.name == name)
        await connection.execute(update(credential).where(mine).values(last_test=text))
        if outcome.ok:
            await credential_views.say_ready(connection, parts.workspace, name)
    parts.hints.send("published")
    return TestOut.model_validate_json(text)


async def _try(parts: Parts, name: str, stored: kinds.Credential) -> TestOut:
    now, at = datetime.now(UTC), parts.at(15)
    try:
        async with asyncio.timeout(_LONGEST):
            tried = await parts.registry.catalogue.trying(stored.kind)(name, stored, at)
    except StepFailed as failed:
        told = at.blanked(failed)
        exchange: Any = told.detail.get("exchange")
        return TestOut(ok=False, sentence=told.message, fix=told.fix, exchange=exchange, at=now)
    except TimeoutError:
        return TestOut(
            ok=False, sentence=f"Nothing came of it within {_LONGEST:g} s.", fix="is the other side slow?", at=now
        )
    return TestOut(
        ok=tried.ok,
        tried=tried.tried,
        sentence=tried.sentence,
        fix=tried.fix,
        exchange=dict(tried.exchange) if tried.exchange else None,
        account=tried.account,
        may=list(tried.may),
        at=now,
    )


def _named(name: str) -> None:
    if not name.replace("-", "").replace("_", "").isalnum() or len(name) > 60:
        raise Problem(422, f"{name!r} is no name for a credential", fix="use letters, digits, - and _")
