"""`/api/v1/credentials/<name>/consent`, `/api/v1/consents` and `/api/v1/providers`: somebody lets an OAuth app act for an account.

The provider sends the browser back to a page of the console, which hands on what it was given: so it counts that whoever began
is signed in there, and no address that a stranger makes up connects anything.
"""

import contextlib
from typing import Any

import structlog
from fastapi import APIRouter
from pydantic import Field

from oak_relay.actions.exchange import send
from oak_relay.document.errors import StepFailed
from oak_relay.document.values import in_brief
from oak_relay.engine.effects import READY
from oak_relay.runtime.tokens import ask, posted
from oak_relay.service import credential_views, used
from oak_relay.service.lists import Asks, Page, cut
from oak_relay.service.parts import CallerDep, ExactRoute, Parts, PartsDep
from oak_relay.service.problems import Problem, missing
from oak_relay.service.shapes import BrokenOut, ConsentBegunOut, ConsentedOut, In, ProviderOut
from oak_relay.store import consents, people, runs
from oak_relay.store.consents import Consent
from oak_relay.vault.oauth import (
    LARGEST,
    Begun,
    Denied,
    Nonsense,
    OAuth,
    Provider,
    Tokens,
    account_of,
    client_file,
    metadata_addresses,
    provider_of,
)

log = structlog.get_logger()
router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["credentials"])
BACK = "/connect/back"
"""The page of the console that providers send the browser back to."""
_FILE = 50_000


def redirect(parts: Parts) -> str:
    """The address that is registered with providers."""
    return f"{parts.settings.own_url}{BACK}"


async def _app(parts: Parts, name: str) -> OAuth:
    parts.registry.forget()
    stored = (await parts.registry.fresh()).credentials.get(name)
    if stored is None:
        raise missing("credential", name)
    if not isinstance(stored, OAuth):
        raise Problem(409, f"{name} is no OAuth app", fix="store one of kind oauth")
    return stored


@router.post("/credentials/{name}/consent", status_code=201)
async def begin_consent(name: str, parts: PartsDep, who: CallerDep) -> ConsentBegunOut:
    """Begin to connect an OAuth app: the address of its provider to open in a browser in which you are signed in here. It asks
    for the scopes of the app and of all actions that are used with it."""
    app = await _app(parts, name)
    if app.grant == "client":
        raise Problem(409, f"{name} acts for itself", fix="nobody needs to consent; test it")
    begun, back = Begun.new(), redirect(parts)
    async with parts.database.begin() as connection:
        scopes = await used.scopes_needed(connection, parts, name, app)
        until = await consents.begin(
            connection,
            parts.workspace,
            name,
            who.member,
            begun.state,
            begun.verifier,
            back,
            scopes,
            parts.registry.vault.keyring,
        )
    return ConsentBegunOut(url=app.consent_address(begun, back, scopes), redirect=back, scopes=scopes, until=until)


class ConsentIn(In):
    """What a provider sent back with the browser (RFC 6749, section 4.1.2; RFC 9207)."""

    state: str = Field(min_length=1, max_length=500)
    code: str | None = Field(None, max_length=8_000)
    iss: str | None = Field(None, max_length=500)
    error: str | None = Field(None, max_length=200)
    error_description: str | None = Field(None, max_length=2_000)


@router.post("/consents", status_code=201)
async def finish_consent(given: ConsentIn, parts: PartsDep, who: CallerDep) -> ConsentedOut:
    """Finish what was begun: the code becomes tokens, and runs that wait for the credential go on. A state counts once, and for
    whoever began alone."""
    keyring = parts.registry.vault.keyring
    async with parts.database.begin() as connection:
        pending = await consents.take(connection, parts.workspace, given.state, keyring)
    if pending is None:
        raise Problem(
            422,
            "nothing was begun with this",
            "it was used already, begun too long ago, or not begun here",
            "connect the credential again, from the page Credentials",
        )
    again = f"connect {pending.name} again"
    if pending.member != who.member:
        raise Problem(403, "somebody else began this", fix=f"{again}, as yourself")
    if given.error is not None or given.code is None:
        said = Denied(given.error or "no code", in_brief(given.error_description or ""))
        no = given.error == "access_denied"
        raise Problem(422, "there was no consent" if no else "the provider refused", str(said), again)
    app = await _app(parts, pending.name)
    if (app.named_issuer or given.iss is not None) and (given.iss or "").rstrip("/") != app.issuer.rstrip("/"):
        raise Problem(
            422,
            "this comes from another provider",
            f"it says that it is {given.iss or 'nobody'}, and the app's issuer is {app.issuer or 'not known'}",
            "is the issuer of the credential right?",
        )
    body = {"grant_type": "authorization_code", "code": given.code, "redirect_uri": pending.redirect}
    at = parts.at(20)
    await at.credential(pending.name)
    try:
        tokens = await ask(at, app, {**body, "code_verifier": pending.verifier})
    except StepFailed as failed:
        told = at.blanked(failed)
        raise Problem(
            422, "the provider gave no token", told.message, f"{told.fix}; then {again}", kind=told.kind
        ) from None
    return await _granted(parts, who.name, app, pending, tokens)


async def _granted(parts: Parts, member: str, app: OAuth, pending: consents.Pending, tokens: Tokens) -> ConsentedOut:
    name, keyring = pending.name, parts.registry.vault.keyring
    account = tokens.account or await _account(parts, app, tokens)
    scopes = pending.scopes if tokens.scopes is None else tokens.scopes
    async with parts.database.begin() as connection:
        waiting = await runs.waiting_for(connection, parts.workspace, f"{READY}.{name}")
        before = await consents.one(connection, parts.workspace, name, keyring)
        await consents.grant(connection, parts.workspace, name, tokens, scopes, account, member, keyring)
        await people.note(connection, parts.workspace, member, "connect credential", f"{name} {account}".strip())
        await credential_views.say_ready(connection, parts.workspace, name)
    parts.config_changed()
    parts.hints.send("published")
    whose = f" to {account}" if account else ""
    other = f" It was connected to {before.account} before." if before and before.account not in ("", account) else ""
    short = [scope for scope in pending.scopes if scope not in scopes]
    lacks = f" It was not given {', '.join(short)}." if short else ""
    lasts = (
        ""
        if tokens.refresh or tokens.seconds is None
        else " Its provider gave nothing to refresh it with: it holds until its token is over."
    )
    return ConsentedOut(
        credential=await credential_views.show_one(parts, name),
        waiting=waiting,
        sentence=f"{name} is connected{whose}.{other}{lacks}{lasts}",
    )


async def _account(parts: Parts, app: OAuth, tokens: Tokens) -> str:
    """Whose tokens are, where the provider tells that; a provider that does not is none the worse for it."""
    if not app.account_url:
        return ""
    at = parts.at(10)
    with contextlib.suppress(StepFailed):
        at.may_reach(app.account_url)
        headers = {"Authorization": f"Bearer {tokens.access}", "Accept": "application/json", "User-Agent": "oak-relay"}
        request = at.http.build_request("GET", app.account_url, headers=headers, timeout=at.timeout)
        exchange = await send(at, request, LARGEST, None)
        if exchange.status == 200:
            return account_of(exchange.read("json"))
    return ""


@router.delete("/credentials/{name}/consent", status_code=204)
async def forget_consent(name: str, parts: PartsDep, who: CallerDep) -> None:
    """Disconnect an OAuth app: its tokens are forgotten, and taken back where its provider can do that (RFC 7009)."""
    app = await _app(parts, name)
    async with parts.database.begin() as connection:
        gone = await consents.forget(connection, parts.workspace, name, parts.registry.vault.keyring)
        if gone is None:
            raise missing("consent of", name)
        await people.note(connection, parts.workspace, who.name, "disconnect credential", name)
    parts.config_changed()
    await taken_back(parts, app, gone)


async def taken_back(parts: Parts, app: OAuth, gone: Consent) -> None:
    """Tell a provider that tokens are of no use any more; what it answers changes nothing here."""
    if not app.revoke_url or not gone.secrets:
        return
    token, kind = (gone.refresh, "refresh_token") if gone.refresh else (gone.access, "access_token")
    try:
        await posted(parts.at(5), app, app.revoke_url, {"token": token, "token_type_hint": kind})
    except StepFailed as failed:
        log.warning("tokens not taken back", credential=gone.name, reason=failed.message)


class ProviderIn(In):
    """An issuer's address, or the client file that a provider hands out, as its text; neither for the redirect address alone."""

    issuer: str = Field("", max_length=500)
    file: str = Field("", max_length=_FILE)


@router.post("/providers/look")
async def look_at_provider(given: ProviderIn, parts: PartsDep, _: CallerDep) -> ProviderOut:
    """What is known of a provider, to store an OAuth app of it: by its client file, by its metadata (RFC 8414, OpenID Connect
    Discovery), or both. The client's secret is not told again."""
    own = redirect(parts)
    try:
        app = client_file(given.file) if given.file.strip() else Provider()
    except Nonsense as error:
        raise Problem(422, "this is no client file", str(error), "give the JSON that the provider hands out") from None
    issuer = (given.issuer or app.issuer).strip()
    if issuer:
        try:
            app = _together(app, await _discovered(parts, issuer))
        except Problem:
            if given.issuer or not (app.authorize_url and app.token_url):
                raise
    known = {field: getattr(app, field) for field in ProviderOut.model_fields if hasattr(app, field)}
    registered = own in app.redirects if app.redirects else None
    return ProviderOut(**{**known, "scopes": list(app.scopes), "redirect": own, "registered": registered})


def _together(file: Provider, found: Provider) -> Provider:
    """What a file says, and beside it what the metadata do."""
    own = {name: value for name in Provider.__slots__ if (value := getattr(file, name))}
    return Provider(**{**{name: getattr(found, name) for name in Provider.__slots__}, **own})


async def _discovered(parts: Parts, issuer: str) -> Provider:
    """A provider by its metadata. Raises `Problem`."""
    at, why = parts.at(10), "it does not answer"
    for address in metadata_addresses(issuer):
        try:
            at.may_reach(address)
            request = at.http.build_request("GET", address, headers={"Accept": "application/json"}, timeout=at.timeout)
            exchange = await send(at, request, LARGEST, None)
        except StepFailed as failed:
            why = failed.message
            if failed.kind in ("denied", "unavailable", "timeout", "invalid"):
                break
            continue
        if exchange.status != 200:
            why = f"{exchange.what} answered {exchange.status}"
            continue
        try:
            return provider_of(exchange.body, issuer)
        except Nonsense as error:
            why = f"{exchange.what}: {error}"
    raise Problem(
        422, "this issuer tells nothing of itself", why, "write the addresses by hand, as its documentation has them"
    )


@router.get("/tray/connections")
async def list_broken(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[BrokenOut]:
    """Credentials that need reconnecting, by name, with how many runs wait for each."""
    async with parts.database.connect() as connection:
        rows = await consents.broken(connection, parts.workspace)
        waiting = {row.name: await runs.waiting_for(connection, parts.workspace, f"{READY}.{row.name}") for row in rows}

    def told(row: Any) -> BrokenOut:
        return BrokenOut(
            credential=row.name,
            why=row.why,
            since=row.since,
            by=row.granted_by,
            account=row.account,
            waiting=waiting[row.name],
        )

    return cut(rows, asked, lambda row: row.name, told)
