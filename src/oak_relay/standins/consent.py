"""The booking office as an OAuth 2 provider (RFC 6749, 7009, 7636, 8414, 9207): a consent page, tokens that end, refresh tokens that
are replaced by each use. `/office/oauth/behave` makes it impatient, and `/office/oauth/state.json` tells what it did.

One app is registered: `larkspur-relay`, its secret in `STANDIN_OFFICE_SECRET`. Tokens are signed, so that they outlive a
restart of the stand-in; what was taken back and what was used up is remembered while it runs.
"""

import base64
import hashlib
import hmac
import json
import os
import secrets
import time
from collections import Counter
from html import escape
from typing import Any
from urllib.parse import unquote_plus, urlencode

from fastapi import FastAPI, Request
from fastapi.responses import HTMLResponse, JSONResponse, RedirectResponse, Response
from pydantic import BaseModel, Field

from oak_relay.standins.ledger import Ledger

APP = "larkspur-relay"
ACCOUNT = "office@larkspur.example"
SCOPES = {
    "bookings.read": "see bookings",
    "replies.write": "reply to guests",
    "huts.read": "see the huts",
    "huts.write": "change what is said of the huts",
    "accounts.read": "see the accounts",
    "accounts.write": "keep the accounts",
}


class Behaviour(BaseModel):
    """How it behaves from now on; what is left out stays as it is. Times in seconds."""

    lifetime: float | None = Field(None, gt=0, description="Of access tokens.")
    rotates: bool | None = Field(None, description="Whether a refresh gives another refresh token.")
    gives: list[str] | None = Field(None, description="The only scopes that are given, whatever is asked for.")
    expire: bool = Field(False, description="All access tokens are over now.")
    withdraw: bool = Field(False, description="All consents are withdrawn now.")
    nonsense: int | None = Field(None, ge=0, description="So many token requests are answered with nonsense.")


class Provider:
    """What it gave and took back."""

    def __init__(self, ledger: Ledger) -> None:
        self.ledger = ledger
        self.lifetime, self.rotates, self.nonsense = 3600.0, True, 0
        self.gives: list[str] | None = None
        self.codes: dict[str, dict[str, Any]] = {}
        self.used: set[str] = set()
        self.gone: set[str] = set()
        self.ended = self.withdrawn = 0.0
        self.count: Counter[str] = Counter()

    @property
    def secret(self) -> str:
        return os.environ.get("STANDIN_OFFICE_SECRET", "")

    def token(self, kind: str, family: str, scopes: list[str], seconds: float) -> str:
        told = {
            "kind": kind,
            "id": secrets.token_hex(8),
            "family": family,
            "scopes": scopes,
            "made": time.time(),
            "ends": time.time() + seconds,
        }
        body = base64.urlsafe_b64encode(json.dumps(told).encode()).decode().rstrip("=")
        return f"{body}.{self._signature(body)}"

    def _signature(self, body: str) -> str:
        return hmac.new(f"tokens {self.secret}".encode(), body.encode(), hashlib.sha256).hexdigest()[:32]

    def read(self, token: str, kind: str) -> dict[str, Any] | None:
        """What a token says; None for one that holds no more."""
        body, _, signature = token.partition(".")
        if not hmac.compare_digest(signature, self._signature(body)):
            return None
        told = json.loads(base64.urlsafe_b64decode(body + "=" * (-len(body) % 4)))
        over = told["ends"] <= time.time() or (kind == "access" and told["made"] <= self.ended)
        over = over or told["made"] <= self.withdrawn
        return None if told["kind"] != kind or over or told["family"] in self.gone or told["id"] in self.gone else told

    def given(self, family: str, scopes: list[str], refresh: str | None) -> JSONResponse:
        """The answer of a token request."""
        self.count["given"] += 1
        access = self.token("access", family, scopes, self.lifetime)
        body: dict[str, object] = {
            "access_token": access, "token_type": "Bearer", "expires_in": self.lifetime, "scope": " ".join(scopes),
        }  # fmt: skip
        if refresh is not None:
            body["refresh_token"] = refresh
        return JSONResponse(body, headers={"Cache-Control": "no-store"})

    def allows(self, request: Request, scope: str = "") -> Response | None:
        """Why a bearer token is refused; None when it may do this."""
        found = self.read(request.headers.get("authorization", "").removeprefix("Bearer "), "access")
        if found is None:
            self.count["refused"] += 1
            return JSONResponse(
                {"message": "this token is over"}, 401, {"WWW-Authenticate": 'Bearer error="invalid_token"'}
            )
        if scope and scope not in found["scopes"]:
            challenge = f'Bearer error="insufficient_scope", scope="{scope}"'
            return JSONResponse(
                {"message": f"this token may not {SCOPES[scope]}"}, 403, {"WWW-Authenticate": challenge}
            )
        return None


def add(app: FastAPI, ledger: Ledger) -> Provider:
    """The provider's pages and addresses."""
    office = Provider(ledger)
    _described(app, office)
    _consents(app, office)
    _tokens(app, ledger, office)
    _behaving(app, office)
    return office


def _issuer(request: Request) -> str:
    return f"{str(request.base_url).rstrip('/')}/office"


def _described(app: FastAPI, office: Provider) -> None:
    @app.get("/.well-known/oauth-authorization-server/office")
    async def metadata(request: Request) -> dict[str, object]:
        base = f"{_issuer(request)}/oauth"
        return {
            "issuer": _issuer(request),
            "authorization_endpoint": f"{base}/consent",
            "token_endpoint": f"{base}/token",
            "revocation_endpoint": f"{base}/revoke",
            "userinfo_endpoint": f"{base}/account",
            "scopes_supported": list(SCOPES),
            "response_types_supported": ["code"],
            "code_challenge_methods_supported": ["S256"],
            "token_endpoint_auth_methods_supported": ["client_secret_basic", "client_secret_post"],
            "authorization_response_iss_parameter_supported": True,
        }

    @app.get("/office/oauth/client.json")
    async def client_file(request: Request) -> dict[str, object]:
        """What whoever registers an app is handed."""
        base = f"{_issuer(request)}/oauth"
        return {
            "web": {
                "client_id": APP, "client_secret": office.secret, "issuer": _issuer(request), "auth_uri": f"{base}/consent",
                "token_uri": f"{base}/token", "redirect_uris": _redirects(),
            }
        }  # fmt: skip


def _consents(app: FastAPI, office: Provider) -> None:
    @app.get("/office/oauth/consent", response_class=HTMLResponse)
    async def consent(request: Request) -> Response:
        """The page on which somebody of the office says yes or no."""
        given = dict(request.query_params)
        wrong = _wrong(given)
        if wrong:
            return HTMLResponse(_page("This cannot be shown", f"<p>{escape(wrong)}</p>"), 400)
        asked = given.get("scope", "").split()
        unknown = [scope for scope in asked if scope not in SCOPES]
        if unknown:
            return _back(request, given, {"error": "invalid_scope", "error_description": f"there is no {unknown[0]}"})
        hidden = "".join(f'<input type="hidden" name="{escape(k)}" value="{escape(v)}">' for k, v in given.items())
        items = "".join(f"<li>{escape(SCOPES[scope])}</li>" for scope in asked) or "<li>know who you are</li>"
        form = (
            f"<p><strong>{escape(APP)}</strong> wants to do this for <strong>{ACCOUNT}</strong>:</p><ul>{items}</ul>"
            f'<form method="post">{hidden}<button name="say" value="yes">Allow</button> '
            '<button name="say" value="no">Refuse</button></form>'
        )
        return HTMLResponse(_page("Larkspur Huts, booking office", form))

    @app.post("/office/oauth/consent")
    async def decided(request: Request) -> Response:
        form = {name: str(value) for name, value in (await request.form()).items()}
        if _wrong(form):
            return HTMLResponse(_page("This cannot be done", f"<p>{escape(_wrong(form))}</p>"), 400)
        if form.get("say") != "yes":
            return _back(request, form, {"error": "access_denied", "error_description": "the office said no"})
        code = secrets.token_urlsafe(24)
        asked = form.get("scope", "").split()
        scopes = [scope for scope in asked if office.gives is None or scope in office.gives]
        office.codes[code] = {
            "challenge": form["code_challenge"], "redirect": form["redirect_uri"], "scopes": scopes, "until": time.time() + 60,
        }  # fmt: skip
        office.count["consents"] += 1
        return _back(request, form, {"code": code})


def _back(request: Request, given: dict[str, str], told: dict[str, str]) -> Response:
    query = urlencode({**told, "state": given.get("state", ""), "iss": _issuer(request)})
    return RedirectResponse(f"{given['redirect_uri']}?{query}", 303)


def _tokens(app: FastAPI, ledger: Ledger, office: Provider) -> None:
    @app.post("/office/oauth/token")
    async def token(request: Request) -> Response:
        form = {name: str(value) for name, value in (await request.form()).items()}
        grant = form.get("grant_type", "")
        office.count[f"asked {grant}"] += 1
        answer = await ledger.fault("provider", request, {"grant_type": grant})
        if answer is not None:
            return answer
        if not _is_app(request, form, office):
            return JSONResponse({"error": "invalid_client"}, 401, {"WWW-Authenticate": "Basic"})
        if office.nonsense:
            office.nonsense -= 1
            return HTMLResponse("<h1>Welcome to our portal</h1>")
        made = _made(office, grant, form)
        ledger.note("provider", request, {"grant_type": grant}, made.status_code)
        await ledger.after("provider", request)
        return made

    @app.post("/office/oauth/revoke")
    async def revoke(request: Request) -> Response:
        form = {name: str(value) for name, value in (await request.form()).items()}
        if not _is_app(request, form, office):
            return JSONResponse({"error": "invalid_client"}, 401)
        told = office.read(form.get("token", ""), "refresh") or office.read(form.get("token", ""), "access")
        if told is not None:
            office.gone.add(told["family"])
            office.count["revoked"] += 1
        return Response(status_code=200)

    @app.get("/office/oauth/account")
    async def account(request: Request) -> Response:
        refused = office.allows(request)
        if refused is not None:
            return refused
        told = office.read(request.headers["authorization"].removeprefix("Bearer "), "access")
        return JSONResponse({"sub": "desk-1", "email": ACCOUNT, "scope": " ".join(told["scopes"] if told else [])})


def _behaving(app: FastAPI, office: Provider) -> None:
    @app.post("/office/oauth/behave")
    async def behave(how: Behaviour) -> dict[str, object]:
        """Make it behave otherwise."""
        office.lifetime = how.lifetime or office.lifetime
        office.rotates = office.rotates if how.rotates is None else how.rotates
        office.nonsense = office.nonsense if how.nonsense is None else how.nonsense
        office.gives = office.gives if how.gives is None else how.gives or None
        if how.expire:
            office.ended = time.time()
        if how.withdraw:
            office.withdrawn = time.time()
        return await state()

    @app.get("/office/oauth/state.json")
    async def state() -> dict[str, object]:
        return dict(office.count)


def _made(office: Provider, grant: str, form: dict[str, str]) -> JSONResponse:
    """The answer to a token request of the app."""
    if grant == "authorization_code":
        code = office.codes.pop(form.get("code", ""), None)
        if code is None or code["until"] < time.time() or code["redirect"] != form.get("redirect_uri"):
            return _no("this code was used, is too old, or is of another redirect address")
        digest = hashlib.sha256(form.get("code_verifier", "").encode()).digest()
        if base64.urlsafe_b64encode(digest).decode().rstrip("=") != code["challenge"]:
            return _no("the verifier is not that of the challenge")
        family = secrets.token_hex(8)
        return office.given(family, code["scopes"], _refresh(office, family, code["scopes"]))
    if grant == "refresh_token":
        told = office.read(form.get("refresh_token", ""), "refresh")
        if told is None:
            return _no("the consent was withdrawn, or the token is not ours")
        if told["id"] in office.used:  # somebody has it who should not: nobody goes on with it
            office.gone.add(told["family"])
            office.count["reused"] += 1
            return _no("this refresh token was used before")
        office.count["refreshed"] += 1
        if not office.rotates:
            return office.given(told["family"], told["scopes"], None)
        office.used.add(told["id"])
        return office.given(told["family"], told["scopes"], _refresh(office, told["family"], told["scopes"]))
    if grant == "client_credentials":
        return office.given("client", form.get("scope", "").split(), None)
    return JSONResponse({"error": "unsupported_grant_type"}, 400)


def _refresh(office: Provider, family: str, scopes: list[str]) -> str:
    return office.token("refresh", family, scopes, 90 * 86_400.0)


def _no(why: str) -> JSONResponse:
    return JSONResponse({"error": "invalid_grant", "error_description": why}, 400)


def _is_app(request: Request, form: dict[str, str], office: Provider) -> bool:
    """Whether a request is the app's, by a header or by the form (RFC 6749, section 2.3.1)."""
    given = request.headers.get("authorization", "")
    if given.startswith("Basic "):
        user, _, secret = base64.b64decode(given[6:]).decode().partition(":")
        return unquote_plus(user) == APP and hmac.compare_digest(unquote_plus(secret), office.secret)
    return form.get("client_id") == APP and hmac.compare_digest(form.get("client_secret", ""), office.secret)


def _redirects() -> list[str]:
    return [one for one in os.environ.get("STANDIN_REDIRECTS", "").split(",") if one]


def _wrong(given: dict[str, str]) -> str:
    """Why nobody is asked for consent, and nobody sent back (RFC 6749, section 4.1.2.1)."""
    if given.get("client_id") != APP:
        return "No such app is registered here."
    if given.get("redirect_uri") not in _redirects():
        return f"The address {given.get('redirect_uri')} is not registered for this app."
    if (
        given.get("response_type") != "code"
        or given.get("code_challenge_method") != "S256"
        or not given.get("code_challenge")
    ):
        return "Only codes with PKCE (S256) are given here."
    return ""


def _page(title: str, body: str) -> str:
    style = "body{font:17px sans-serif;max-width:34em;margin:4em auto;padding:0 1em}button{font:inherit;padding:.4em 1.2em;margin-right:.6em}"
    return f"<!doctype html><html lang='en'><meta name='viewport' content='width=device-width'><title>{title}</title><style>{style}</style><h1>{title}</h1>{body}</html>"
