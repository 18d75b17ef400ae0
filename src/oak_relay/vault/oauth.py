"""OAuth 2 (RFC 6749): an app that is registered with a provider, and what is sent to the provider on its behalf.

Requests are made and replies are read here without sending anything: authorization code with PKCE (RFC 7636), client
credentials, refreshing, revocation (RFC 7009), metadata (RFC 8414), the issuer in the reply (RFC 9207).
"""

import base64
import json
import re
import secrets
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal
from urllib.parse import parse_qsl, urlsplit

from authlib.common.urls import add_params_to_uri
from authlib.oauth2.rfc6749.parameters import prepare_grant_uri
from authlib.oauth2.rfc7636 import create_s256_code_challenge
from authlib.oauth2.rfc8414 import get_well_known_url
from pydantic import AfterValidator, Field, model_validator

from oak_relay.document.wire import WebAddress
from oak_relay.vault.kinds import Authorization, Refused, Secret, Sent

LARGEST = 200_000
"""Bytes of a provider's reply that are read."""
_MANY_SCOPES, _LONG = 200, 500
_SCOPE = re.compile(r"[\x21\x23-\x5b\x5d-\x7e]{1,300}")
_OURS = frozenset(
    ["response_type", "client_id", "redirect_uri", "scope", "state", "code_challenge", "code_challenge_method", "nonce"]
)


def _scope(text: str) -> str:
    if not _SCOPE.fullmatch(text):
        raise ValueError(f"{text[:80]!r} is no scope (RFC 6749, section 3.3)")
    return text


Scope = Annotated[str, AfterValidator(_scope)]
Address = Literal[""] | WebAddress


class OAuth(Sent):
    """OAuth app.

    An app that is registered with a provider; somebody lets it act for an account, or it acts for itself."""

    kind: Literal["oauth"] = "oauth"
    issuer: str = Field(
        "", max_length=_LONG, title="Issuer", description="Who the provider is, by its metadata (RFC 8414)."
    )
    grant: Literal["code", "client"] = Field(
        "code",
        title="Acts for",
        description="code: for the account of whoever consents, in a browser; client: for itself, without one.",
    )
    authorize_url: Address = Field("", title="Address of the consent page")
    token_url: WebAddress = Field(title="Address that gives tokens")
    revoke_url: Address = Field("", title="Address that takes tokens back", description="RFC 7009, if there is one.")
    account_url: Address = Field(
        "", title="Address that tells whose account it is", description="Answers JSON, such as the OpenID Connect one."
    )
    client_id: str = Field(title="Client ID", min_length=1, max_length=_LONG, pattern=r"^[\x20-\x7e]+$")
    secret: Secret | None = Field(None, title="Client secret", description="None for an app without one.")
    way: Literal["basic", "post"] = Field(
        "basic", title="How it says who it is", description="Its id and secret in a header, or in the body."
    )
    scopes: list[Scope] = Field(
        default_factory=list,
        max_length=_MANY_SCOPES,
        title="Scopes",
        description="What is asked for, beside what the actions need that use it.",
    )
    extra: dict[Annotated[str, Field(max_length=100)], Annotated[str, Field(max_length=_LONG)]] = Field(
        default_factory=dict, max_length=20, title="Asked too", description="More parameters of the consent page."
    )
    named_issuer: bool = Field(
        False, title="Names itself", description="Whether its replies name the issuer (RFC 9207); they must, then."
    )

    @model_validator(mode="after")
    def _whole(self) -> "OAuth":
        if self.grant == "code" and not self.authorize_url:
            raise ValueError("say where people consent: authorize_url")
        if self.grant == "client" and self.secret is None:
            raise ValueError("an app that acts for itself has a secret")
        ours = next((name for name in self.extra if name in _OURS), None)
        if ours:
            raise ValueError(f"{ours} is set here by itself")
        return self

    @property
    def told_to(self) -> list[str]:
        own = {origin for url in (self.token_url, self.revoke_url, self.account_url) if (origin := _origin(url))}
        return [*self.hosts, *sorted(own)]

    @property
    def app(self) -> tuple[str, ...]:
        """Which app it is, of which provider: what was consented to for one is not another's."""
        return self.client_id, self.grant, self.token_url, self.revoke_url, self.account_url

    def authorization(self) -> Authorization:
        raise Refused("it is sent with a token, not as it is")

    def forms(self) -> list[str]:
        """Its secret, and the same as a header has it."""
        if self.secret is None:
            return []
        return [self.secret.get_secret_value(), self._pair()]

    def _pair(self) -> str:
        secret = self.secret.get_secret_value() if self.secret is not None else ""
        return base64.b64encode(f"{_form(self.client_id)}:{_form(secret)}".encode()).decode()

    def asked(self, body: Mapping[str, str]) -> tuple[dict[str, str], dict[str, str]]:
        """Headers and form of a request to the provider, with who asks (RFC 6749, section 2.3.1)."""
        headers = {"Accept": "application/json", "User-Agent": "oak-relay"}
        if self.secret is None:
            return headers, {**body, "client_id": self.client_id}
        if self.way == "post":
            return headers, {**body, "client_id": self.client_id, "client_secret": self.secret.get_secret_value()}
        return {**headers, "Authorization": f"Basic {self._pair()}"}, dict(body)

    def consent_address(self, begun: "Begun", redirect: str, scopes: Iterable[str]) -> str:
        """Where somebody is sent to consent."""
        more = {"redirect_uri": redirect, "scope": " ".join(scopes), "state": begun.state}
        challenge = create_s256_code_challenge(begun.verifier)
        address = prepare_grant_uri(
            self.authorize_url, self.client_id, "code", **more, code_challenge=challenge, code_challenge_method="S256"
        )
        return str(add_params_to_uri(address, list(self.extra.items())))


def _form(text: str) -> str:
    """A text as a form has it, as ids and secrets are written before they are joined (RFC 6749, appendix B)."""
    from urllib.parse import quote_plus

    return quote_plus(text)


@dataclass(frozen=True, slots=True)
class Begun:
    """What one consent is begun with: a state nobody can guess, and the verifier of its challenge."""

    state: str
    verifier: str

    @classmethod
    def new(cls) -> "Begun":
        """Both of 256 bits."""
        return cls(secrets.token_urlsafe(32), secrets.token_urlsafe(48))


@dataclass(frozen=True, slots=True)
class Tokens:
    """What a provider gave: `seconds` until the access token is over, None where it does not say; `scopes` None where it
    gave what was asked for; `account` whose they are, empty where it does not tell."""

    access: str
    refresh: str = ""
    seconds: float | None = None
    scopes: tuple[str, ...] | None = None
    account: str = ""


class Nonsense(ValueError):
    """A provider answered what is no reply (RFC 6749, section 5.1)."""


@dataclass(frozen=True, slots=True)
class Denied:
    """An error of a provider (RFC 6749, section 5.2): its `code`, and what it says, in its own words."""

    code: str
    said: str = ""

    def __str__(self) -> str:
        return f"{self.code}: {self.said}" if self.said else self.code


def tokens_of(body: bytes, media: str = "") -> Tokens:
    """The tokens of a reply. Raises `Nonsense`."""
    given = _read(body, media)
    access, refresh = given.get("access_token"), given.get("refresh_token") or ""
    kind = str(given.get("token_type") or "bearer").lower()
    if not isinstance(access, str) or not isinstance(refresh, str) or not access:
        raise Nonsense("its reply has no access_token")
    if kind != "bearer":
        raise Nonsense(f"its token is of the type {kind[:40]!r}, which nothing here can use")
    for token in (access, refresh):
        if len(token) > 20_000 or not re.fullmatch(r"[\x20-\x7e]*", token) or 0 < len(token) < 8:
            raise Nonsense("its token is too short, too long, or holds characters no token has (RFC 6750)")
    return Tokens(
        access, refresh, _seconds(given.get("expires_in")), _scopes(given.get("scope")), _account(given.get("id_token"))
    )


def denied_of(body: bytes, media: str = "") -> Denied | None:
    """The error that a reply tells; None when it tells none."""
    try:
        given = _read(body, media)
    except Nonsense:
        return None
    code = given.get("error")
    if isinstance(code, dict):  # not as the standard says, but said
        code = code.get("code") or code.get("status") or code.get("message")
    if not isinstance(code, str) or not code:
        return None
    return Denied(code[:100], str(given.get("error_description") or "")[:300])


def _read(body: bytes, media: str) -> dict[str, Any]:
    try:
        given = dict(parse_qsl(body.decode())) if "x-www-form-urlencoded" in media else json.loads(body)
    except (ValueError, RecursionError):
        raise Nonsense("its reply is not JSON") from None
    if not isinstance(given, dict):
        raise Nonsense("its reply is no JSON object")
    return given


def _seconds(given: object) -> float | None:
    try:
        seconds = float(given) if isinstance(given, str | int | float) and not isinstance(given, bool) else None
    except (ValueError, OverflowError):
        return None
    return min(max(seconds, 0.0), 10 * 365 * 86_400.0) if seconds is not None and seconds == seconds else None


def _scopes(given: object) -> tuple[str, ...] | None:
    if isinstance(given, list):
        given = " ".join(str(one) for one in given)
    if not isinstance(given, str) or not given.strip():
        return None
    return tuple(dict.fromkeys(one for one in re.split(r"[\s,]+", given) if _SCOPE.fullmatch(one)))[:_MANY_SCOPES]


def _account(id_token: object) -> str:
    """Whose an ID token is (OpenID Connect). It came from the provider itself, over the connection that gave the tokens,
    and nothing is decided by it: it is shown."""
    if not isinstance(id_token, str) or len(id_token) > 20_000:
        return ""
    parts = id_token.split(".")
    try:
        claims = json.loads(base64.urlsafe_b64decode(parts[1] + "=" * (-len(parts[1]) % 4)))
    except (ValueError, IndexError, RecursionError):
        return ""
    return account_of(claims)


def account_of(told: object) -> str:
    """What an account is called, by what a provider tells of it; empty when nothing of that is a name."""
    if not isinstance(told, dict):
        return ""
    for name in ("email", "preferred_username", "login", "username", "account", "name", "sub", "id"):
        found = told.get(name)
        if isinstance(found, str | int) and not isinstance(found, bool) and str(found).strip():
            return "".join(c for c in str(found) if c.isprintable())[:200]
    return next((name for one in told.values() if isinstance(one, dict) and (name := account_of(one))), "")


@dataclass(frozen=True, slots=True)
class Provider:
    """What is known of an app's provider: addresses, and what it can do. What is not known is empty."""

    issuer: str = ""
    authorize_url: str = ""
    token_url: str = ""
    revoke_url: str = ""
    account_url: str = ""
    client_id: str = ""
    client_secret: str = ""
    way: Literal["basic", "post"] = "basic"
    named_issuer: bool = False
    scopes: tuple[str, ...] = ()
    redirects: tuple[str, ...] = field(default=())


def metadata_addresses(issuer: str) -> list[str]:
    """Where an issuer's metadata may stand: as OAuth 2 says (RFC 8414), and as OpenID Connect Discovery does."""
    base = issuer.rstrip("/")
    return [
        f"{_origin(base)}{get_well_known_url(base)}",
        f"{base}/.well-known/openid-configuration",
        f"{base}/.well-known/oauth-authorization-server",
    ]


def _origin(address: str) -> str:
    parts = urlsplit(address)
    return f"{parts.scheme}://{parts.netloc.lower()}" if address else ""


def provider_of(metadata: bytes, issuer: str) -> Provider:
    """A provider by its metadata. Raises `Nonsense`, also when it is another issuer's (RFC 8414, section 3.3)."""
    given = _read(metadata, "")
    if str(given.get("issuer", "")).rstrip("/") != issuer.rstrip("/"):
        raise Nonsense(f"its metadata is that of {str(given.get('issuer'))[:200]!r}")
    ways = given.get("token_endpoint_auth_methods_supported")
    post = isinstance(ways, list) and "client_secret_post" in ways and "client_secret_basic" not in ways
    methods = given.get("code_challenge_methods_supported")
    if isinstance(methods, list) and "S256" not in methods:
        raise Nonsense("it does not take PKCE with S256")
    scopes = given.get("scopes_supported")
    return Provider(
        issuer=issuer,
        authorize_url=_web(given.get("authorization_endpoint")),
        token_url=_web(given.get("token_endpoint")),
        revoke_url=_web(given.get("revocation_endpoint")),
        account_url=_web(given.get("userinfo_endpoint")),
        way="post" if post else "basic",
        named_issuer=given.get("authorization_response_iss_parameter_supported") is True,
        scopes=tuple(str(one)[:300] for one in scopes[:_MANY_SCOPES]) if isinstance(scopes, list) else (),
    )


_CALLED = {
    "authorize_url": ("authorization_endpoint", "auth_uri", "authorization_uri", "authorize_url", "authorization_url"),
    "token_url": ("token_endpoint", "token_uri", "token_url", "access_token_url"),
    "revoke_url": ("revocation_endpoint", "revoke_uri", "revoke_url"),
    "account_url": ("userinfo_endpoint", "userinfo_uri", "account_url"),
    "issuer": ("issuer",),
    "client_id": ("client_id",),
    "client_secret": ("client_secret",),
}


def client_file(text: str) -> Provider:
    """An app by the file that its provider hands out: JSON with the words of the standards (RFC 7591, RFC 8414) or the
    usual ones, at its top or one mapping deeper. Raises `Nonsense`."""
    given = _read(text.encode(), "")
    inner = next((one for one in given.values() if isinstance(one, dict) and "client_id" in one), {})
    both = {**given, **inner}
    found: dict[str, Any] = {}
    for name, words in _CALLED.items():
        value = next((both[word] for word in words if isinstance(both.get(word), str)), "")
        found[name] = value[:_LONG] if name in ("client_id", "client_secret", "issuer") else _web(value)
    if not found["client_id"]:
        raise Nonsense("it names no client_id")
    way = "post" if both.get("token_endpoint_auth_method") == "client_secret_post" else "basic"
    redirects = both.get("redirect_uris")
    listed = tuple(str(one)[:_LONG] for one in redirects[:50]) if isinstance(redirects, list) else ()
    return Provider(**found, way=way, scopes=_scopes(both.get("scope")) or (), redirects=listed)  # type: ignore[arg-type]


def _web(given: object) -> str:
    try:
        parts = urlsplit(given) if isinstance(given, str) and len(given) <= _LONG else None
    except ValueError:
        return ""
    return str(given) if parts is not None and parts.scheme in ("http", "https") and parts.hostname else ""
