"""`/api/v1/session`, `/api/v1/password` and `/api/v1/tokens`: sign-in for the console, tokens for clients."""

from datetime import UTC, datetime, timedelta
from typing import Annotated, Any
from uuid import UUID

from fastapi import APIRouter, Request, Response
from pydantic import Field

from oak_relay import __version__
from oak_relay.document.numbers import Whole
from oak_relay.document.values import storable_text
from oak_relay.service.borders import SIGN_IN_BYTES
from oak_relay.service.lists import Asks, Page, cut
from oak_relay.service.parts import (
    COOKIE,
    COOKIES,
    SECURE_COOKIE,
    CallerDep,
    ExactRoute,
    Parts,
    PartsDep,
    is_secure,
    same_site,
    session_end,
)
from oak_relay.service.passwords import SHORTEST
from oak_relay.service.problems import Problem, missing
from oak_relay.service.rights import RIGHTS, Right
from oak_relay.service.shapes import In, OpenSessionOut, SessionOut, TokenOut
from oak_relay.store import people

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["access"])


class _SignInRoute(ExactRoute):
    """Of who has not signed in, little is read."""

    most = SIGN_IN_BYTES


opening = APIRouter(route_class=_SignInRoute, prefix="/api/v1", tags=["access"])


_SESSIONS, _TOKENS = 100, 1_000
"""Sessions of one member, of which the oldest are ended, and tokens of a workspace."""


class SignIn(In):
    name: str = Field("owner", max_length=100)
    password: str = Field(max_length=500)


class PasswordIn(In):
    old: str = Field(max_length=500)
    new: str = Field(min_length=SHORTEST, max_length=500)


class TokenIn(In):
    name: str = Field(min_length=1, max_length=100)
    days: Whole | None = Field(None, ge=1, le=3650, description="After how many days it is over; never when left out.")
    rights: list[Right] | None = Field(None, min_length=1, description="What it may; all its member may when left out.")
    workflows: list[Annotated[str, Field(max_length=200)]] | None = Field(
        None, min_length=1, max_length=100, description="The only workflows it is for."
    )


@opening.post("/session", status_code=201)
async def sign_in(given: SignIn, request: Request, response: Response, parts: PartsDep) -> SessionOut:
    """Sign in; the session is a cookie that only this site's own pages can use."""
    same_site(request)
    async with parts.database.connect() as connection:
        row = await people.named(connection, parts.workspace, given.name)
    address = _address(request)
    await parts.passwords.check(given.name, address, row and row.password_hash, given.password)
    assert row is not None
    ends = session_end(parts.settings)
    begun = people.Limits(address=address, agent=storable_text(request.headers.get("user-agent", ""))[:200])
    async with parts.database.begin() as connection:
        _, secret = await people.issue(connection, parts.workspace, "session", row.name, row.id, ends, begun)
        await people.trim(connection, parts.workspace, row.id, _SESSIONS)
        await people.note(connection, parts.workspace, row.name, "sign in", "console")
    secure = is_secure(request, parts.settings)
    response.set_cookie(
        SECURE_COOKIE if secure else COOKIE,
        secret,
        httponly=True,
        samesite="strict",
        secure=secure,
        expires=ends,
        path="/",
    )
    return _session(parts, row.name, "session")


def _address(request: Request) -> str:
    """Where a request comes from: of a proxy that the settings name, whom it speaks for."""
    return request.client.host if request.client else ""


@router.post("/password", status_code=204)
async def change_password(given: PasswordIn, request: Request, parts: PartsDep, who: CallerDep) -> None:
    """Another password for who asks; its other sessions are ended."""
    if who.member_id is None or who.session_id is None:
        raise Problem(403, "a password is changed by who has signed in with it", fix="sign in at /")
    async with parts.database.connect() as connection:
        row = await people.by_id(connection, parts.workspace, who.member_id)
    assert row is not None
    await parts.passwords.check(row.name, _address(request), row.password_hash, given.old)
    made = await parts.passwords.hashed(given.new)
    async with parts.database.begin() as connection:
        await people.set_password(connection, parts.workspace, row.id, made)
        await people.end_sessions(connection, parts.workspace, row.id, but=who.session_id)
        await people.note(connection, parts.workspace, who.name, "change password", row.name)


@router.get("/sessions")
async def list_sessions(parts: PartsDep, who: CallerDep, asked: Asks) -> Page[OpenSessionOut]:
    """The sessions of who asks, the oldest first."""
    if who.member_id is None:
        return Page(items=[])
    async with parts.database.connect() as connection:
        found = await people.tokens(connection, parts.workspace, "session", who.member_id)

    def shown(row: Any) -> OpenSessionOut:
        return OpenSessionOut(
            id=row.id, created_at=row.created_at, expires_at=row.expires_at, last_used_at=row.last_used_at, address=row.address or "",
            agent=row.agent or "", this=row.id == who.session_id,
        )  # fmt: skip

    return cut(found, asked, lambda row: str(row.id), shown)


@router.delete("/sessions/{session_id:uuid}", status_code=204)
async def end_session(session_id: UUID, parts: PartsDep, who: CallerDep) -> None:
    """End one of the sessions of who asks."""
    async with parts.database.begin() as connection:
        own = [row.id for row in await people.tokens(connection, parts.workspace, "session", who.member_id)]
        if who.member_id is None or session_id not in own:
            raise missing("session", str(session_id))
        await people.revoke(connection, parts.workspace, session_id, "session")
        await people.note(connection, parts.workspace, who.name, "end session", str(session_id))


@router.get("/session")
async def who_am_i(who: CallerDep, parts: PartsDep) -> SessionOut:
    """The member or token that asks."""
    return _session(parts, who.name, who.by)


def _session(parts: Parts, name: str, by: str) -> SessionOut:
    return SessionOut(name=name, by=by, currency=parts.settings.currency, release=__version__)


@router.delete("/session", status_code=204)
async def sign_out(response: Response, parts: PartsDep, who: CallerDep) -> None:
    """End this session."""
    if who.session_id:
        async with parts.database.begin() as connection:
            await people.revoke(connection, parts.workspace, who.session_id, "session")
    for name in COOKIES:
        response.delete_cookie(name, path="/", secure=name == SECURE_COOKIE)


@router.get("/tokens")
async def list_tokens(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[TokenOut]:
    """Tokens without their secrets, the oldest first."""
    async with parts.database.connect() as connection:
        found = await people.tokens(connection, parts.workspace)
    return cut(found, asked, lambda row: str(row.id), _token_out)


def _token_out(row: Any, secret: str | None = None) -> TokenOut:
    return TokenOut(
        id=row.id, name=row.name, created_at=row.created_at, expires_at=row.expires_at, last_used_at=row.last_used_at, rights=row.rights,
        workflows=row.workflows, secret=secret,
    )  # fmt: skip


@router.post("/tokens", status_code=201)
async def add_token(given: TokenIn, parts: PartsDep, who: CallerDep) -> TokenOut:
    """A new token; it is shown this once. It may never do more than who makes it."""
    ends = datetime.now(UTC) + timedelta(days=given.days) if given.days else None
    whole = who.rights == frozenset(RIGHTS)
    wanted: list[str] | None = (
        sorted(given.rights) if given.rights is not None else None if whole else sorted(who.rights)
    )
    if not who.rights.issuperset(wanted or ()) or (
        who.workflows is not None and not who.workflows.issuperset(given.workflows or ["*"])
    ):
        raise Problem(403, "a token may not do more than who makes it", fix="limit it to what you may yourself")
    limits = people.Limits(wanted, given.workflows)
    async with parts.database.begin() as connection:
        if len(await people.tokens(connection, parts.workspace)) >= _TOKENS:
            raise Problem(409, f"there are {_TOKENS:,} tokens", fix="revoke those that nobody uses")
        token_id, secret = await people.issue(
            connection, parts.workspace, "api", given.name, who.member_id, ends, limits
        )
        await people.note(connection, parts.workspace, who.name, "token", given.name)
        made = next(row for row in await people.tokens(connection, parts.workspace) if row.id == token_id)
    return _token_out(made, secret)


@router.delete("/tokens/{token_id:uuid}", status_code=204)
async def remove_token(token_id: UUID, parts: PartsDep, who: CallerDep) -> None:
    """Revoke a token: it is refused from now on."""
    async with parts.database.begin() as connection:
        if not await people.revoke(connection, parts.workspace, token_id, "api"):
            raise missing("token", str(token_id))
        await people.note(connection, parts.workspace, who.name, "remove token", str(token_id))
