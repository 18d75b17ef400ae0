"""Credentials: what every kind has, and how it is applied to a request. The kinds themselves stand beside this module."""

import hashlib
import hmac
import json
import re
import ssl
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Annotated, Any, ClassVar, get_args, get_origin
from urllib.parse import urlencode, urlsplit

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, SecretStr, model_validator

from oak_relay.document import durations
from oak_relay.document.errors import Fault
from oak_relay.document.words import sound_duration
from oak_relay.places import is_this_machine

SHORTEST = 8
"""Shorter secrets are refused: they could not be blanked without blanking ordinary words."""


LONGEST = 20_000
"""Longer ones than any key is: each is looked for in dozens of forms."""


class Refused(Fault, ValueError):
    """A request does not prove who sent it, or a credential may not be used so."""


class Rate(BaseModel):
    """At most so many calls in so much time, over all workers."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    calls: int = Field(ge=1, le=1_000_000)
    per: Annotated[str, AfterValidator(sound_duration)] = Field("1m", pattern=durations.PATTERN)

    @property
    def seconds(self) -> float:
        """The window in seconds."""
        return durations.seconds(self.per)


def _place(text: str) -> str:
    """A place as it is kept: in small letters, without what stands behind the host. Raises `ValueError`."""
    found = _PLACE.fullmatch(text.strip().lower())
    if found is None or len(text) > 300 or int(found[1] or 1) > 65_535:
        raise ValueError(
            f"{text[:100]!r} is no host; write office.example, office.example:8443 or http://ledger.internal"
        )
    return text.strip().lower().rstrip("/")


_PLACE = re.compile(r"(?:https?://)?(?:[^\s/:@?#\[\]]+|\[[0-9a-f:.]+\])(?::(\d{1,5}))?/?")
Place = Annotated[str, AfterValidator(_place)]
_PORTS = {"http": 80, "https": 443}


def _long_enough(value: SecretStr) -> SecretStr:
    text = value.get_secret_value()
    if len(text) < SHORTEST:
        raise ValueError(f"a secret has at least {SHORTEST} characters")
    if len(text) > LONGEST:
        raise ValueError(f"a secret has at most {LONGEST:,} characters")
    return value


def _one_line(value: SecretStr) -> SecretStr:
    if any(ord(c) < 32 or ord(c) == 127 for c in value.get_secret_value()):
        raise ValueError("a secret has no line breaks or control characters")
    return value


Secret = Annotated[SecretStr, AfterValidator(_long_enough), AfterValidator(_one_line)]
"""A secret of one line."""
SecretText = Annotated[SecretStr, AfterValidator(_long_enough)]
"""A secret of several lines, such as a key in PEM (RFC 7468)."""


@dataclass(frozen=True, slots=True)
class Authorization:
    """What a request is sent with: headers, and what is added to its query and to its body of fields; `sign` makes further
    headers of the whole body and an id; `tls` is what the connection is made with."""

    headers: Mapping[str, str] = field(default_factory=dict)
    query: Mapping[str, str] = field(default_factory=dict)
    body: Mapping[str, str] = field(default_factory=dict)
    sign: "Callable[[str], Signature] | None" = None
    tls: ssl.SSLContext | None = None

    def address(self, url: str) -> str:
        """An address with what is added to its query; the rest of it stays as it is."""
        if not self.query:
            return url
        head, hash, tail = url.partition("#")
        return f"{head}{'&' if '?' in head else '?'}{urlencode(self.query)}{hash}{tail}"


class Signature:
    """Headers that are made of a body that comes in pieces."""

    def __init__(self, made: "hmac.HMAC", headers: Callable[[bytes], Mapping[str, str]]) -> None:
        self._made, self._headers = made, headers

    def take(self, piece: bytes) -> None:
        """What follows of the body."""
        self._made.update(piece)

    def headers(self) -> Mapping[str, str]:
        """The headers, once all is taken."""
        return self._headers(self._made.digest())


class Credential(BaseModel):
    """Base of all kinds. A kind has a `kind` (a literal, its name) and fields; those of them that are `Secret`, or a
    mapping of them, are sealed and never told."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    kind: str
    rate: Rate | None = Field(None, description="How often it may be used.")
    workflows: list[Annotated[str, Field(min_length=1, max_length=200)]] = Field(
        title="Only for workflows",
        default_factory=list,
        max_length=200,
        description="The only workflows whose steps may use it; empty for all of them.",
    )

    @property
    def places(self) -> list[str]:
        """Where it may be sent; nowhere for kinds that are not sent."""
        return []

    @property
    def about(self) -> str:
        """What may be told of it beside its fields."""
        return ""

    @property
    def told_to(self) -> list[str]:
        """Everybody who is told its secrets: `places`, and of some kinds who gives tokens for them."""
        return self.places

    def optional(self, given: Mapping[str, Any]) -> Collection[str]:
        """Secrets that something else takes the place of in what is given."""
        return ()

    def authorization(self) -> Authorization:
        """What a request is sent with. Raises `Refused` for kinds that are not sent with requests."""
        raise Refused("this kind of credential is not sent with requests")

    def forms(self) -> list[str]:
        """Every way its secrets may appear in a request."""
        return list(_texts(self.clear()))

    def clear(self) -> dict[str, Any]:
        """Its secrets in clear, by field; a mapping of them is one field."""
        return {
            name: _clear(value)
            for name in secret_fields(type(self))
            if (value := getattr(self, name)) not in (None, {})
        }

    @property
    def holding(self) -> list[str]:
        """Names of its secrets, those of a mapping as `field.name`."""
        held = self.clear()
        return [
            one
            for name, secret in held.items()
            for one in ([f"{name}.{key}" for key in secret] if isinstance(secret, dict) else [name])
        ]

    def config(self) -> dict[str, Any]:
        """What is told of it: all but its secrets, of a mapping of which the names are."""
        secret = secret_fields(type(self))
        told = self.model_dump(mode="json", exclude={*secret, "kind"})
        named = {name: dict.fromkeys(value, "") for name in secret if isinstance(value := getattr(self, name), dict)}
        return {**told, **named}

    def may_reach(self, url: str) -> bool:
        """Whether it may be sent to an address."""
        return any(_is_at(place, url) for place in self.places)


class Sent(Credential):
    """A kind that is sent with requests, to some hosts."""

    must_be_sent: ClassVar[bool] = True
    """Whether it is of no use where it may not be sent to anybody."""
    hosts: list[Place] = Field(
        title="Only sent to",
        default_factory=list,
        max_length=100,
        description="Where it may be sent: a host, by https alone unless the host is this machine; a port, or http:// before it, where that is meant. When left out: the host of the address to test it on.",
    )
    test_url: str = Field(
        "", title="Address to test it on", description="A harmless address that answers 2xx to whoever may use it."
    )

    @model_validator(mode="after")
    def _somewhere(self) -> "Sent":
        if not self.hosts and self.test_url:
            parts = urlsplit(self.test_url)
            # The model is frozen; this is a part of making it.
            object.__setattr__(self, "hosts", [f"{parts.scheme}://{parts.netloc.rpartition('@')[2].lower()}"])
        if not self.hosts and self.must_be_sent:
            raise ValueError("say where it may be sent: hosts, such as office.example")
        return self

    @property
    def places(self) -> list[str]:
        return self.hosts


class SecretSent(Sent):
    """A kind with one secret, that is sent with requests."""

    secret: Secret = Field(title="Secret")

    def reveal(self) -> str:
        """The secret in clear."""
        return self.secret.get_secret_value()


def secret_fields(kind: type[BaseModel]) -> tuple[str, ...]:
    """The fields of a kind that are secret."""
    return tuple(name for name, one in kind.model_fields.items() if _holds_secret(one.annotation))


def _holds_secret(annotation: object) -> bool:
    if get_origin(annotation) is None:
        return annotation is SecretStr
    return any(_holds_secret(one) for one in get_args(annotation))


def _clear(value: object) -> Any:
    if isinstance(value, SecretStr):
        return value.get_secret_value()
    return {name: _clear(one) for name, one in value.items()} if isinstance(value, dict) else value


def _texts(value: object) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for one in value.values():
            yield from _texts(one)


def sealed_text(kind: type[Credential], secrets: Mapping[str, Any]) -> str:
    """Secrets as they are sealed: one alone is its text, as it has always been; several are JSON, marked by a character that
    no secret of one line holds."""
    if secret_fields(kind) == ("secret",):
        return str(secrets.get("secret", ""))
    return _SEVERAL + json.dumps(secrets)


def unsealed(text: str) -> dict[str, Any]:
    """The secrets of a sealed text, by field."""
    return json.loads(text[1:]) if text.startswith(_SEVERAL) else {"secret": text}


def every_text(secrets: Mapping[str, Any]) -> list[str]:
    """Every secret of a kind that is not known here, long enough to be told from words."""
    return [text for text in _texts(dict(secrets)) if len(text) >= SHORTEST]


_SEVERAL = "\0"


def _is_at(place: str, url: str) -> bool:
    """Whether an address is at a place."""
    asked = urlsplit(url)
    named = urlsplit(place if "://" in place else f"//{place}")
    host = (asked.hostname or "").rstrip(".")
    if not host or host != (named.hostname or "").rstrip("."):
        return False
    if named.port is not None and named.port != (asked.port or _PORTS.get(asked.scheme)):
        return False
    if named.scheme:
        at = named.port or _PORTS[named.scheme]
        return asked.scheme == named.scheme and (asked.port or _PORTS.get(asked.scheme)) == at
    return asked.scheme == "https" or is_this_machine(host)


def same_token(given: str, expected: str) -> bool:
    """Compare in constant time."""
    return hmac.compare_digest(
        hashlib.sha256(given.encode("utf-8", "replace")).digest(), hashlib.sha256(expected.encode()).digest()
    )


class UnknownKind(Fault, ValueError):
    """No connector here has this kind of credential."""


class CredentialKinds:
    """The kinds of credentials that a workspace knows, by name."""

    def __init__(self, kinds: Iterable[type[Credential]]) -> None:
        self._by_name = {str(kind.model_fields["kind"].default): kind for kind in kinds}

    def __iter__(self) -> Iterator[str]:
        return iter(self._by_name)

    def read(self, data: Mapping[str, object]) -> Credential:
        """A credential from its stored form. Raises `UnknownKind`, and pydantic's `ValidationError`."""
        return self.model(data.get("kind")).model_validate(dict(data))

    def model(self, name: object) -> type[Credential]:
        """A kind. Raises `UnknownKind`."""
        kind = self._by_name.get(str(name))
        if kind is None:
            raise UnknownKind(f"{name!r} is no kind of credential; kinds are {', '.join(self)}")
        return kind

    def word(self, kind: object, field: str) -> str:
        """A field of a kind as forms call it, and as it is written."""
        model = self._by_name.get(str(kind))
        known = model.model_fields.get(field) if model is not None else None
        return f"{known.title} ({field})" if known is not None and known.title else field

    def schemas(self) -> dict[str, dict[str, object]]:
        """JSON Schema of each kind."""
        return {name: kind.model_json_schema() for name, kind in self._by_name.items()}

    def title(self, name: str) -> str:
        """What a kind is called: the first line of what is said of it."""
        said = (self._by_name[name].__doc__ or name).strip().split("\n")[0]
        return re.sub(r" \(.*?\)", "", said).rstrip(".")

    def sent(self, name: str) -> bool:
        """Whether credentials of a kind are sent with requests."""
        kind = self._by_name.get(name)
        return kind is None or kind.authorization is not Credential.authorization
