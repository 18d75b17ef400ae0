"""Kinds of credentials: what each holds and how it is applied to a request."""

import base64
import hashlib
import hmac
import re
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import UTC, datetime
from typing import Annotated, ClassVar, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, SecretStr, field_validator, model_validator
from standardwebhooks import Webhook

from oak_relay.document import durations
from oak_relay.document.errors import Fault
from oak_relay.document.numbers import whole
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


class Credential(BaseModel):
    """Base of all kinds. A kind has a `kind` (a literal, its name), further fields, and the headers it is sent with."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    must_be_sent: ClassVar[bool] = False
    """Whether it is of no use where it may not be sent to anybody."""
    kind: str
    rate: Rate | None = Field(None, description="How often it may be used.")
    secret: SecretStr = Field(title="Secret")
    hosts: list[Place] = Field(
        title="Only sent to",
        default_factory=list,
        max_length=100,
        description="Where it may be sent: a host, by https alone unless the host is this machine; a port and `http://` where they are meant. Where none is named, the one of test_url.",
    )
    test_url: str = Field(
        "", title="Address to test it on", description="A harmless address that answers 2xx to whoever may use it."
    )

    @field_validator("secret")
    @classmethod
    def _long_enough(cls, value: SecretStr) -> SecretStr:
        text = value.get_secret_value()
        if len(text) < SHORTEST:
            raise ValueError(f"a secret has at least {SHORTEST} characters")
        if len(text) > LONGEST:
            raise ValueError(f"a secret has at most {LONGEST:,} characters")
        if any(ord(c) < 32 or ord(c) == 127 for c in text):
            raise ValueError("a secret has no line breaks or control characters")
        return value

    @model_validator(mode="after")
    def _somewhere(self) -> "Credential":
        if not self.hosts and self.test_url:
            parts = urlsplit(self.test_url)
            # The model is frozen; this is a part of making it.
            object.__setattr__(self, "hosts", [f"{parts.scheme}://{parts.netloc.rpartition('@')[2].lower()}"])
        if not self.hosts and self.must_be_sent:
            raise ValueError("say where it may be sent: hosts, such as office.example")
        return self

    def reveal(self) -> str:
        """The secret in clear."""
        return self.secret.get_secret_value()

    def headers(self) -> dict[str, str]:
        """Headers that a request is sent with."""
        raise Refused("this kind of credential signs what comes in; it is not sent")

    def tried(self) -> str | None:
        """Of kinds that are tried without sending anything: try it, and say in a sentence how it went; None of others.
        Raises `Refused`."""
        return None

    def forms(self) -> list[str]:
        """Every way the secret may appear in a request."""
        return [self.reveal()]

    def may_reach(self, url: str) -> bool:
        """Whether it may be sent to an address."""
        return any(_is_at(place, url) for place in self.hosts)


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


class Bearer(Credential):
    """Bearer token (RFC 6750)."""

    must_be_sent = True
    kind: Literal["bearer"] = "bearer"

    def headers(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self.reveal()}"}


class HeaderKey(Credential):
    """Key in a header of its own."""

    must_be_sent = True
    kind: Literal["header"] = "header"
    header: Annotated[str, Field(pattern=r"^[A-Za-z0-9-]{1,60}$")] = "X-API-Key"

    def headers(self) -> dict[str, str]:
        return {self.header: self.reveal()}


class Basic(Credential):
    """User and password (RFC 7617)."""

    kind: Literal["basic"] = "basic"
    user: str = Field(min_length=1, pattern=r"^[^:\x00-\x1f]+$")

    def headers(self) -> dict[str, str]:
        return {"Authorization": f"Basic {self._pair()}"}

    def forms(self) -> list[str]:
        return [self.reveal(), self._pair()]

    def _pair(self) -> str:
        return base64.b64encode(f"{self.user}:{self.reveal()}".encode()).decode()


_TOLERANCE = 300
"""Seconds that a webhook's time stamp may be off."""


class Signing(Credential):
    """Signing secret, for webhooks in (Standard Webhooks).

    It is `whsec_` and base64, or any text."""

    kind: Literal["signing"] = "signing"

    def proof(self, headers: Mapping[str, str]) -> "Proof":
        """What checks signature and time stamp (Standard Webhooks) of a body, piece by piece. Raises `Refused`."""
        given = {name.lower(): value for name, value in headers.items()}
        id, stamp, signatures = (given.get(f"webhook-{part}", "") for part in ("id", "timestamp", "signature"))
        if not id or not stamp or not signatures:
            raise Refused("webhook-id, webhook-timestamp or webhook-signature is missing")
        seconds = whole(stamp)
        if seconds is None:
            raise Refused("webhook-timestamp is no number of seconds")
        age = time.time() - seconds
        if abs(age) > _TOLERANCE:
            raise Refused(
                f"webhook-timestamp {'is more than' if age > 0 else 'lies more than'} five minutes {'old' if age > 0 else 'ahead'}"
            )
        made = hmac.new(self._key(), f"{id}.{stamp}.".encode("utf-8", "replace"), "sha256")

        def fits(digest: bytes) -> bool:
            expected = b"v1," + base64.b64encode(digest)
            ones = (one.encode("utf-8", "replace") for one in signatures.split(" ")[:20])
            return any([hmac.compare_digest(one, expected) for one in ones])

        return Proof(made, b"", fits, "the signature does not match")

    def plain_proof(self, before: bytes, after: bytes, given: str, prefix: str, encoding: str, digest: str) -> "Proof":
        """What checks a plain HMAC of a body with something before and after it, piece by piece."""

        def fits(made: bytes) -> bool:
            expected = prefix + (made.hex() if encoding == "hex" else base64.b64encode(made).decode())
            return hmac.compare_digest(given.strip().encode("utf-8", "replace"), expected.encode())

        made = hmac.new(self.reveal().encode(), before, digest)
        return Proof(made, after, fits, "the signature does not match the body")

    def tried(self) -> str:
        """Sign a message and check it, as sender and receiver would."""
        now, body = datetime.now(UTC), '{"test": true}'
        signature = Webhook(base64.b64encode(self._key()).decode()).sign("test", now, body)
        stamp = str(int(now.timestamp()))
        proof = self.proof({"webhook-id": "test", "webhook-timestamp": stamp, "webhook-signature": signature})
        proof.take(body.encode())
        proof.proved()
        return "A message signed with it here is accepted; whether the sender has the same shows its first webhook."

    def _key(self) -> bytes:
        """The bytes that are signed with: what stands in base64 behind `whsec_`, or the text itself."""
        text = self.reveal().removeprefix("whsec_")
        try:
            decoded = base64.b64decode(text, validate=True) if text != self.reveal() else b""
        except ValueError:
            decoded = b""
        return decoded or self.reveal().encode()


class Proof:
    """A signature of a body that comes in pieces: `take` each of them, then see whether it is `proved`."""

    def __init__(self, made: "hmac.HMAC", after: bytes, fits: Callable[[bytes], bool], fault: str) -> None:
        self._made, self._after, self._fits, self._fault = made, after, fits, fault

    def take(self, piece: bytes) -> None:
        """What follows of the body."""
        self._made.update(piece)

    def proved(self) -> None:
        """Raises `Refused` when the signature is not of all that was taken."""
        self._made.update(self._after)
        if not self._fits(self._made.digest()):
            raise Refused(self._fault)


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
        kind = self._by_name.get(str(data.get("kind")))
        if kind is None:
            raise UnknownKind(f"{data.get('kind')!r} is no kind of credential; kinds are {', '.join(self)}")
        return kind.model_validate(dict(data))

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
        """Whether credentials of a kind are sent with requests; others prove who sends to us."""
        kind = self._by_name.get(name)
        return kind is None or kind.headers is not Credential.headers
