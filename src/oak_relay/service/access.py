"""`/api/v1/session` and `/api/v1/tokens`: sign-in for the console, tokens for clients."""

from datetime import UTC, datetime
from uuid import UUID

from fastapi import APIRouter, Request, Response
from pydantic import Field

from oak_relay.service.borders import SIGN_IN_BYTES
from oak_relay.service.parts import COOKIE, CallerDep, ExactRoute, PartsDep, same_site, session_end
from oak_relay.service.problems import missing
from oak_relay.service.shapes import In, SessionOut, TokenOut
from oak_relay.store import people

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["access"])


class _SignInRoute(ExactRoute):
    """Of who has not signed in, little is read."""

    most = SIGN_IN_BYTES


opening = APIRouter(route_class=_SignInRoute, prefix="/api/v1", tags=["access"])


class SignIn(In):
    name: str = Field("owner", max_length=100)
    password: str = Field(max_length=500)


class TokenIn(In):
    name: str = Field(min_length=1, max_length=100)


@opening.post("/session", status_code=201)
async def sign_in(given: SignIn, request: Request, response: Response, parts: PartsDep) -> SessionOut:
    """Sign in; the session is a cookie that only this site's own pages can use."""
    same_site(request)
    async with parts.database.connect() as connection:
        row = next((m for m in await people.members(connection, parts.workspace) if m.name == given.name), None)
    await parts.passwords.check(given.name, row and row.password_hash, given.password)
    assert row is not None
    ends = session_end(parts.settings)
    async with parts.database.begin() as connection:
        _, secret = await people.issue(connection, parts.workspace, "session", row.name, row.id, ends)
        await people.note(connection, parts.workspace, row.name, "sign in", "console")
    response.set_cookie(
        COOKIE, secret, httponly=True, samesite="strict", secure=request.url.scheme == "https", expires=ends, path="/"
    )
    return SessionOut(name=row.name, by="session")


@router.get("/session")
async def who_am_i(who: CallerDep) -> SessionOut:
    """The member or token that asks."""
    return SessionOut(name=who.name, by=who.by)


@router.delete("/session", status_code=204)
async def sign_out(response: Response, parts: PartsDep, who: CallerDep) -> None:
    """End this session."""
    if who.session_id:
        async with parts.database.begin() as connection:
            await people.revoke(connection, parts.workspace, who.session_id)
    response.delete_cookie(COOKIE, path="/")


@router.get("/tokens")
async def list_tokens(parts: PartsDep, _: CallerDep) -> list[TokenOut]:
    """Tokens without their secrets."""
    async with parts.database.connect() as connection:
        return [
            TokenOut(id=t.id, name=t.name, created_at=t.created_at)
            for t in await people.tokens(connection, parts.workspace)
        ]


@router.post("/tokens", status_code=201)
async def add_token(given: TokenIn, parts: PartsDep, who: CallerDep) -> TokenOut:
    """A new token; it is shown this once."""
    async with parts.database.begin() as connection:
        token_id, secret = await people.issue(connection, parts.workspace, "api", given.name, who.member_id, None)
        await people.note(connection, parts.workspace, who.name, "token", given.name)
    return TokenOut(id=token_id, name=given.name, created_at=datetime.now(UTC), secret=secret)


@router.delete("/tokens/{token_id:uuid}", status_code=204)
async def remove_token(token_id: UUID, parts: PartsDep, who: CallerDep) -> None:
    """Revoke a token: it is refused from now on."""
    async with parts.database.begin() as connection:
        if not await people.revoke(connection, parts.workspace, token_id):
            raise missing("token", str(token_id))
        await people.note(connection, parts.workspace, who.name, "remove token", str(token_id))
